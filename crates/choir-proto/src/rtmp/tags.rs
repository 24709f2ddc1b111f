//! What is in audio and video messages: the published tag format with H.264 and AAC, its open
//! extension by four-letter codes for H.265 and others, and the code 12 that came before it.

use super::chunk::kind;
use crate::{
    adts,
    audio::AacConfig,
    h26x::{DecoderRecord, HevcNal, NalKind, with_lengths, with_start_codes},
    ts::{AccessUnit, PTS_WRAP, StreamKind, wrapped_distance},
};
use bytes::Bytes;

/// Code of H.264 in a video tag; of H.265 before there were four letters.
const AVC: u8 = 7;
const HEVC_OLD: u8 = 12;
/// A tag whose codec is named by four letters.
const EXTENDED: u8 = 0x80;
/// Sound: MP3, AAC, four letters.
const MP3: u8 = 2;
const AAC: u8 = 10;
const SOUND_EXTENDED: u8 = 9;

/// A whole picture or piece of sound.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TagUnit {
    /// A picture, else sound.
    pub video: bool,
    /// Decoding time, ms of 32 bits.
    pub dts: u32,
    /// Presentation after it, ms.
    pub shown: i32,
    /// Decoding can start here.
    pub keyframe: bool,
    /// Byte stream with start codes, without delimiter, or a frame of AAC in ADTS.
    pub data: Bytes,
}

/// What a tag brought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tag {
    /// Another codec, or other settings of it: what follows is of these.
    Settings,
    /// A unit.
    Unit(TagUnit),
    /// Nothing to be handed on.
    Nothing,
    /// Something that is not carried, by name.
    Strange(String),
}

/// What is told of tags before them.
#[derive(Debug, Clone, Default)]
pub struct TagReader {
    video: Option<DecoderRecord>,
    audio: Option<AacConfig>,
}

fn signed24(b: &[u8]) -> i32 {
    (i32::from_be_bytes([b[0], b[1], b[2], 0])) >> 8
}

impl TagReader {
    /// The codec of its pictures.
    #[must_use]
    pub fn video(&self) -> Option<StreamKind> {
        self.video.as_ref().map(|v| if v.hevc { StreamKind::H265 } else { StreamKind::H264 })
    }

    /// The size of its pictures, where its settings say it.
    #[must_use]
    pub fn size(&self) -> Option<(u32, u32)> {
        let v = self.video.as_ref()?;
        DecoderRecord::of(v.hevc, v.sets.clone()).map(|(_, format)| (format.width, format.height))
    }

    /// Its sound.
    #[must_use]
    pub fn audio(&self) -> Option<AacConfig> {
        self.audio
    }

    /// Takes an audio or video message.
    pub fn push(&mut self, message_kind: u8, time: u32, body: &[u8]) -> Tag {
        let read = match message_kind {
            kind::VIDEO => self.video_tag(time, body),
            kind::AUDIO => self.sound_tag(time, body),
            _ => None,
        };
        // What is cut off or damaged brings nothing.
        read.unwrap_or(Tag::Nothing)
    }

    fn video_tag(&mut self, time: u32, body: &[u8]) -> Option<Tag> {
        let (head, rest) = body.split_first()?;
        if head & EXTENDED != 0 {
            let (code, rest) = rest.split_first_chunk::<4>()?;
            let hevc = match code {
                b"hvc1" => true,
                b"avc1" => false,
                other => return Some(Tag::Strange(String::from_utf8_lossy(other).into_owned())),
            };
            let keyframe = head >> 4 & 7 == 1;
            return match head & 15 {
                0 => self.settings(hevc, rest),
                1 => self.picture(hevc, time, signed24(rest.get(..3)?), keyframe, &rest[3..]),
                3 => self.picture(hevc, time, 0, keyframe, rest),
                _ => Some(Tag::Nothing),
            };
        }
        let hevc = match head & 15 {
            AVC => false,
            HEVC_OLD => true,
            other => return Some(Tag::Strange(format!("video code {other}"))),
        };
        let (head, keyframe) = (rest.get(..4)?, head >> 4 == 1);
        match head[0] {
            0 => self.settings(hevc, &rest[4..]),
            1 => self.picture(hevc, time, signed24(&head[1..]), keyframe, &rest[4..]),
            _ => Some(Tag::Nothing),
        }
    }

    fn settings(&mut self, hevc: bool, data: &[u8]) -> Option<Tag> {
        let record = DecoderRecord::parse(hevc, data)?;
        let same = self.video.as_ref() == Some(&record);
        self.video = Some(record);
        Some(if same { Tag::Nothing } else { Tag::Settings })
    }

    fn picture(&self, hevc: bool, dts: u32, shown: i32, keyframe: bool, data: &[u8]) -> Option<Tag> {
        let record = self.video.as_ref().filter(|v| v.hevc == hevc)?;
        let (mut out, mut own_sets) = (Vec::with_capacity(data.len() + 128), false);
        let keep = |nal: &[u8]| {
            let (set, delimiter) = if hevc {
                let kind = HevcNal::of(nal[0]);
                (kind == HevcNal::Sps, kind == HevcNal::Delimiter)
            } else {
                let kind = NalKind::of(nal[0]);
                (kind == NalKind::Sps, kind == NalKind::Delimiter)
            };
            own_sets |= set;
            !delimiter
        };
        with_start_codes(record.length, data, &mut out, keep)?;
        if out.is_empty() {
            return None;
        }
        if keyframe && !own_sets {
            out.splice(0..0, record.start_coded());
        }
        Some(Tag::Unit(TagUnit { video: true, dts, shown, keyframe, data: out.into() }))
    }

    fn sound_tag(&mut self, time: u32, body: &[u8]) -> Option<Tag> {
        let (head, rest) = body.split_first()?;
        let (packet, data) = match head >> 4 {
            AAC => rest.split_first()?,
            SOUND_EXTENDED => {
                let (code, rest) = rest.split_first_chunk::<4>()?;
                if code != b"mp4a" {
                    return Some(Tag::Strange(String::from_utf8_lossy(code).into_owned()));
                }
                (&(head & 15), rest)
            }
            MP3 | 14 => return Some(Tag::Strange("MP3".into())),
            other => return Some(Tag::Strange(format!("sound code {other}"))),
        };
        match packet {
            0 => {
                let config = AacConfig::parse(data)?;
                let same = self.audio == Some(config);
                self.audio = Some(config);
                Some(if same { Tag::Nothing } else { Tag::Settings })
            }
            1 if !data.is_empty() => {
                let header = self.audio?.adts_header(data.len())?;
                let data = [&header[..], data].concat().into();
                Some(Tag::Unit(TagUnit { video: false, dts: time, shown: 0, keyframe: true, data }))
            }
            _ => Some(Tag::Nothing),
        }
    }
}

/// A message of a stream that is sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutTag {
    /// Audio or video.
    pub kind: u8,
    /// ms.
    pub time: u32,
    /// It can be left out only with all that refers to it: settings never.
    pub settings: bool,
    /// A picture at which decoding can start.
    pub keyframe: bool,
    /// What is in it.
    pub body: Bytes,
}

/// Makes tags of units.
#[derive(Debug, Default)]
pub struct TagWriter {
    video: Option<DecoderRecord>,
    audio: Option<AacConfig>,
    /// The last time, 90 kHz as it came and counted on from the first.
    clock: Option<(u64, i64)>,
}

/// Times before the first: sound that belongs before the first picture.
const LEAD: i64 = 90_000;

impl TagWriter {
    /// Size of its pictures, H.265 or not, and its sound, once they are known: for the metadata.
    #[must_use]
    pub fn about(&self) -> Option<(u32, u32, bool, Option<AacConfig>)> {
        let v = self.video.as_ref()?;
        let (_, format) = DecoderRecord::of(v.hevc, v.sets.clone())?;
        Some((format.width, format.height, v.hevc, self.audio))
    }

    /// Milliseconds of a time.
    fn ms(&mut self, time: u64) -> u32 {
        let long = self.clock.map_or(LEAD, |(last, long)| long + wrapped_distance(time, last, PTS_WRAP));
        self.clock = Some((time, long));
        (long.max(0) / 90) as u32
    }

    /// Takes a unit; appends its messages. Nothing before the first keyframe, and nothing of codecs
    /// that cannot go.
    pub fn push(&mut self, unit: &AccessUnit, out: &mut Vec<OutTag>) {
        let Some(pts) = unit.pts else { return };
        match unit.kind {
            StreamKind::H264 | StreamKind::H265 => self.picture(unit, pts, out),
            StreamKind::AacAdts if self.video.is_some() || unit.format.video().is_none() => self.sound(unit, pts, out),
            _ => {}
        }
    }

    fn picture(&mut self, unit: &AccessUnit, pts: u64, out: &mut Vec<OutTag>) {
        let hevc = unit.kind == StreamKind::H265;
        let (data, sets) = with_lengths(hevc, &unit.data);
        let new = DecoderRecord::of(hevc, sets).filter(|(record, _)| unit.keyframe && self.video.as_ref() != Some(record));
        if self.video.is_none() && new.is_none() {
            return;
        }
        let dts = unit.dts.unwrap_or(pts);
        let time = self.ms(dts);
        if let Some((record, format)) = new {
            let head: &[u8] = if hevc { b"\x90hvc1" } else { &[0x17, 0, 0, 0, 0] };
            let body = [head, &record.write(format.bit_depth)].concat().into();
            out.push(OutTag { kind: kind::VIDEO, time, settings: true, keyframe: false, body });
            self.video = Some(record);
        }
        if data.is_empty() {
            return;
        }
        let shown = (wrapped_distance(pts, dts, PTS_WRAP) + 45).max(0) / 90;
        let frame = if unit.keyframe { 0x10 } else { 0x20 };
        let time_of = &(shown.min(0x7F_FFFF) as u32).to_be_bytes()[1..];
        let head = if hevc { [&[EXTENDED | frame | 1], &b"hvc1"[..], time_of].concat() } else { [&[frame | AVC, 1], time_of].concat() };
        let body = [head, data].concat().into();
        out.push(OutTag { kind: kind::VIDEO, time, settings: false, keyframe: unit.keyframe, body });
    }

    fn sound(&mut self, unit: &AccessUnit, pts: u64, out: &mut Vec<OutTag>) {
        let mut ticks = 0.0;
        for (header, frame) in adts::frames(&unit.data) {
            let time = self.ms((pts + ticks as u64) % PTS_WRAP);
            ticks += f64::from(header.samples) * 90_000.0 / f64::from(header.sample_rate);
            let Some(config) = AacConfig::of_adts(frame) else { continue };
            if self.audio != Some(config) {
                self.audio = Some(config);
                let body = [&[0xAF, 0][..], &config.to_bytes()].concat().into();
                out.push(OutTag { kind: kind::AUDIO, time, settings: true, keyframe: false, body });
            }
            let head = if frame[1] & 1 == 1 { 7 } else { 9 };
            let body = [&[0xAF, 1], frame.get(head..).unwrap_or_default()].concat().into();
            out.push(OutTag { kind: kind::AUDIO, time, settings: false, keyframe: false, body });
        }
    }

    /// Who joins now gets the settings first.
    #[must_use]
    pub fn settings(&self, time: u32) -> Vec<OutTag> {
        let tag = |kind, body: Vec<u8>| OutTag { kind, time, settings: true, keyframe: false, body: body.into() };
        let video = self.video.as_ref().map(|v| {
            let head: &[u8] = if v.hevc { b"\x90hvc1" } else { &[0x17, 0, 0, 0, 0] };
            tag(kind::VIDEO, [head, &v.write(8)].concat())
        });
        video.into_iter().chain(self.audio.map(|a| tag(kind::AUDIO, [&[0xAF, 0][..], &a.to_bytes()].concat()))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{audio::aac_silence, ts::UnitFormat};
    use proptest::prelude::*;
    use std::sync::Arc;

    const SETS: &[u8] = &[
        0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
        0x80, 0x00, 0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
    ];

    fn unit(kind: StreamKind, pts: u64, dts: Option<u64>, keyframe: bool, data: &[u8]) -> AccessUnit {
        let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264, StreamKind::AacAdts] });
        AccessUnit { pid: 256, kind, pts: Some(pts), dts, keyframe, arrived: 0, data: Bytes::copy_from_slice(data), format }
    }

    #[test]
    fn units_go_through_tags_and_come_out_as_they_were() {
        let (mut writer, mut tags) = (TagWriter::default(), Vec::new());
        let sound = aac_silence(48_000, 2);
        writer.push(&unit(StreamKind::AacAdts, 0, None, true, &sound), &mut tags);
        writer.push(&unit(StreamKind::H264, 7200, Some(3600), false, &[0, 0, 0, 1, 0x41, 1]), &mut tags);
        assert_eq!(tags, [], "nothing before a keyframe");
        // Over the wrap of the stream's times, shown in another order than decoded.
        let first = PTS_WRAP - 3600;
        let key = [&[0, 0, 0, 1, 9, 0xF0][..], SETS, &[0, 0, 0, 1, 0x65, 0x88, 1, 2, 3]].concat();
        writer.push(&unit(StreamKind::H264, (first + 7200) % PTS_WRAP, Some(first), true, &key), &mut tags);
        writer.push(&unit(StreamKind::AacAdts, first, None, true, &[&sound[..], &sound].concat()), &mut tags);
        writer.push(&unit(StreamKind::H264, 3600, Some(0), false, &[0, 0, 0, 1, 0x41, 0x9A, 7]), &mut tags);
        let mut reader = TagReader::default();
        let read: Vec<Tag> = tags.iter().map(|t| reader.push(t.kind, t.time, &t.body)).collect();
        let key = [SETS, &[0, 0, 0, 1, 0x65, 0x88, 1, 2, 3]].concat();
        let of = |video, dts, shown, keyframe, data: &[u8]| {
            Tag::Unit(TagUnit { video, dts, shown, keyframe, data: Bytes::copy_from_slice(data) })
        };
        assert_eq!(
            read,
            [
                Tag::Settings,
                of(true, 1000, 80, true, &key),
                Tag::Settings,
                of(false, 1000, 0, true, &sound),
                of(false, 1021, 0, true, &sound),
                of(true, 1040, 40, false, &[0, 0, 0, 1, 0x41, 0x9A, 7]),
            ]
        );
        assert_eq!((reader.video(), reader.audio().map(|a| a.sample_rate)), (Some(StreamKind::H264), Some(48_000)));
        assert_eq!(writer.about().map(|(w, h, hevc, _)| (w, h, hevc)), Some((1280, 720, false)));
        let mut late = TagReader::default();
        assert!(writer.settings(5).iter().all(|t| late.push(t.kind, t.time, &t.body) == Tag::Settings));
    }

    #[test]
    fn other_codecs_and_forms_are_read_or_named() {
        let record = DecoderRecord { hevc: true, length: 4, sets: vec![vec![0x40, 1, 2], vec![0x42, 1, 1, 9, 9], vec![0x44, 1, 7]] };
        let picture = [0, 0, 0, 3, 0x26, 1, 5];
        for (head, sequence, coded) in [
            ("four letters", [&b"\x90hvc1"[..], &record.write(8)].concat(), [&b"\x91hvc1\xFF\xFF\xF6"[..], &picture].concat()),
            ("without a time", [&b"\x90hvc1"[..], &record.write(8)].concat(), [&b"\x93hvc1"[..], &picture].concat()),
            ("code 12", [&[0x1C, 0, 0, 0, 0][..], &record.write(8)].concat(), [&[0x1C, 1, 0, 0, 0][..], &picture].concat()),
        ] {
            let mut reader = TagReader::default();
            assert_eq!(reader.push(kind::VIDEO, 7, &coded), Tag::Nothing, "{head}: not known yet");
            assert_eq!(reader.push(kind::VIDEO, 7, &sequence), Tag::Settings, "{head}");
            assert_eq!(reader.push(kind::VIDEO, 7, &sequence), Tag::Nothing, "{head}: the same again");
            let Tag::Unit(unit) = reader.push(kind::VIDEO, 7, &coded) else { panic!("{head}: no picture") };
            assert!(
                unit.keyframe && unit.data.starts_with(&[0, 0, 0, 1, 0x40, 1, 2]) && unit.data.ends_with(&[0, 0, 0, 1, 0x26, 1, 5]),
                "{head}"
            );
            assert_eq!(unit.shown, if head == "four letters" { -10 } else { 0 });
            assert_eq!(reader.video(), Some(StreamKind::H265));
        }
        let mut reader = TagReader::default();
        for (kind, body, name) in [
            (kind::VIDEO, &b"\x90av01...."[..], "av01"),
            (kind::VIDEO, &[0x12, 0, 0, 0, 0], "video code 2"),
            (kind::AUDIO, &[0x2F, 1, 2], "MP3"),
            (kind::AUDIO, &b"\x90Opus"[..], "Opus"),
            (kind::AUDIO, &[0x70, 1], "sound code 7"),
        ] {
            assert_eq!(reader.push(kind, 0, body), Tag::Strange(name.into()));
        }
        assert_eq!(reader.push(kind::AUDIO, 0, b"\x90mp4a\x11\x90"), Tag::Settings);
        assert!(matches!(reader.push(kind::AUDIO, 0, b"\x91mp4a\x01\x02"), Tag::Unit(_)));
    }

    proptest! {
        #[test]
        fn anything_is_read_or_nothing(head in any::<u8>(), body in prop::collection::vec(any::<u8>(), 0..200), video in any::<bool>()) {
            let mut reader = TagReader { video: Some(DecoderRecord { hevc: false, length: 2, sets: vec![] }), audio: None };
            reader.push(if video { kind::VIDEO } else { kind::AUDIO }, 0, &[&[head], &body[..]].concat());
        }
    }
}
