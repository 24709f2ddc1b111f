//! Units into one file in fragments, each of which begins with a keyframe.

use super::boxes::{make, make_full};
use crate::{
    adts,
    audio::AacConfig,
    h26x::{DecoderRecord, VideoFormat, with_lengths},
    ts::{AccessUnit, PTS_WRAP, StreamKind, wrapped_distance},
};

/// Ticks a second of all times.
const SCALE: u32 = 90_000;
/// A step of times beyond this is a hole in what was recorded, or another start: what follows goes
/// on where it ended (10 s).
const STEP_MOST: i64 = 900_000;
/// Without sound for so long from the first keyframe on there is none (2 s).
const SOUND_WAITS: u64 = 180_000;
const SYNC: u32 = 0x0200_0000;
const NO_SYNC: u32 = 0x0101_0000;

/// Why something cannot be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotWritten {
    /// Size, profile or another parameter of the picture changes.
    #[error("the picture is another one from here on: its size, profile or coding changes")]
    Changes,
    /// The pictures are neither H.264 nor H.265.
    #[error("its pictures are neither H.264 nor H.265")]
    Codec,
}

#[derive(Debug)]
struct Sample {
    data: Vec<u8>,
    dts: u64,
    /// Presentation after decoding.
    shown: u32,
    sync: bool,
}

/// Times of 33 bits, counted on from the first.
#[derive(Debug, Default)]
struct Clock {
    last: Option<(u64, u64)>,
    /// From one to the next of late.
    step: u64,
}

#[derive(Debug)]
struct Video {
    /// Parameter sets as they came first.
    record: DecoderRecord,
    format: VideoFormat,
}

/// Writes one file.
#[derive(Debug, Default)]
pub struct Mp4Writer {
    video: Option<Video>,
    audio: Option<AacConfig>,
    pictures: Vec<Sample>,
    sounds: Vec<Sample>,
    clock: Clock,
    /// Source time and time of the file of the last picture: sound is placed by it.
    anchor: Option<(u64, u64)>,
    /// Where the sound that was taken ends.
    heard: u64,
    begun: bool,
    fragments: u32,
}

impl Mp4Writer {
    /// Takes a unit; appends what can be written.
    ///
    /// # Errors
    /// It cannot be part of this file; what came before it is whole after [`Self::finish`].
    pub fn push(&mut self, unit: &AccessUnit, out: &mut Vec<u8>) -> Result<(), NotWritten> {
        let Some(pts) = unit.pts else { return Ok(()) };
        match unit.kind {
            StreamKind::H264 | StreamKind::H265 => self.picture(unit, pts, out),
            StreamKind::AacAdts => {
                self.sound(unit, pts);
                Ok(())
            }
            kind if kind.is_video() => Err(NotWritten::Codec),
            _ => Ok(()),
        }
    }

    fn picture(&mut self, unit: &AccessUnit, pts: u64, out: &mut Vec<u8>) -> Result<(), NotWritten> {
        let hevc = unit.kind == StreamKind::H265;
        let (data, sets) = with_lengths(hevc, &unit.data);
        if self.video.is_none() {
            let Some((record, format)) = DecoderRecord::of(hevc, sets.clone()).filter(|_| unit.keyframe) else { return Ok(()) };
            self.video = Some(Video { record, format });
        }
        let Some(video) = &self.video else { return Ok(()) };
        if hevc != video.record.hevc || sets.iter().any(|s| !video.record.sets.contains(s)) {
            return Err(NotWritten::Changes);
        }
        let dts = unit.dts.unwrap_or(pts);
        let step = self.clock.last.map(|(last, _)| wrapped_distance(dts, last, PTS_WRAP));
        let time = match (self.clock.last, step) {
            (Some((_, time)), Some(step)) if (1..=STEP_MOST).contains(&step) => {
                self.clock.step = step as u64;
                time + step as u64
            }
            (Some((_, time)), _) => time + self.clock.step.max(1),
            (None, _) => 0,
        };
        if unit.keyframe && !self.pictures.is_empty() && (self.audio.is_some() || time >= SOUND_WAITS || unit.format.audio().is_none()) {
            self.fragment(Some(time), out);
        }
        self.clock.last = Some((dts, time));
        self.anchor = Some((dts, time));
        let shown = wrapped_distance(pts, dts, PTS_WRAP).clamp(0, STEP_MOST) as u32;
        self.pictures.push(Sample { data, dts: time, shown, sync: unit.keyframe });
        Ok(())
    }

    fn sound(&mut self, unit: &AccessUnit, pts: u64) {
        let Some((source, time)) = self.anchor else { return };
        let mut at = time as i64 + wrapped_distance(pts, source, PTS_WRAP);
        for (header, frame) in adts::frames(&unit.data) {
            let ticks = i64::from(header.samples) * i64::from(SCALE) / i64::from(header.sample_rate);
            // None before the first picture, and none twice.
            if at + 2 >= self.heard as i64 && at >= 0 {
                if self.audio.is_none() && !self.begun {
                    self.audio = AacConfig::of_adts(frame);
                }
                let head = if frame[1] & 1 == 1 { 7 } else { 9 };
                let data = frame.get(head..).unwrap_or_default().to_vec();
                self.sounds.push(Sample { data, dts: at as u64, shown: 0, sync: true });
                self.heard = (at + ticks) as u64;
            }
            at += ticks;
        }
    }

    /// How long the pictures that were taken last.
    #[must_use]
    pub fn lasts(&self) -> std::time::Duration {
        let ticks = self.clock.last.map_or(0, |(_, time)| time + self.clock.step);
        std::time::Duration::from_micros(ticks * 100 / 9)
    }

    /// Appends what is left.
    pub fn finish(&mut self, out: &mut Vec<u8>) {
        self.fragment(None, out);
    }

    /// Pictures up to here, and sound up to `end`.
    fn fragment(&mut self, end: Option<u64>, out: &mut Vec<u8>) {
        let Some(video) = self.video.as_ref().filter(|_| !self.pictures.is_empty()) else { return };
        if !self.begun {
            out.extend_from_slice(&make(b"ftyp", &[b"iso6", &0u32.to_be_bytes(), b"iso6", b"mp41"]));
            out.extend_from_slice(&movie(video, self.audio));
            self.begun = true;
        }
        let pictures = std::mem::take(&mut self.pictures);
        let count = end.map_or(self.sounds.len(), |end| self.sounds.partition_point(|s| s.dts < end));
        let sounds: Vec<Sample> = self.sounds.drain(..count).filter(|_| self.audio.is_some()).collect();
        self.fragments += 1;
        let last = |samples: &[Sample], usual: u64| samples.windows(2).next_back().map_or(usual, |w| w[1].dts - w[0].dts);
        let ends = [end.unwrap_or_else(|| pictures[pictures.len() - 1].dts + last(&pictures, self.clock.step.max(1))), self.heard];
        let build = |offset: u32| {
            let sizes: u32 = pictures.iter().map(|s| s.data.len() as u32).sum();
            let mut tracks = vec![track_run(1, &pictures, ends[0], offset)];
            if !sounds.is_empty() {
                let end = self.sounds.first().map_or(ends[1], |s| s.dts);
                tracks.push(track_run(2, &sounds, end, offset + sizes));
            }
            let head = make_full(b"mfhd", 0, 0, &[&self.fragments.to_be_bytes()]);
            let parts: Vec<&[u8]> = std::iter::once(&head[..]).chain(tracks.iter().map(|t| &t[..])).collect();
            make(b"moof", &parts)
        };
        // Offsets count from the start of the fragment, so its size is needed first.
        let size = build(0).len() as u32 + 8;
        out.extend_from_slice(&build(size));
        let data: Vec<&[u8]> = pictures.iter().chain(&sounds).map(|s| &s.data[..]).collect();
        out.extend_from_slice(&make(b"mdat", &data));
    }
}

const MATRIX: [u32; 9] = [0x1_0000, 0, 0, 0, 0x1_0000, 0, 0, 0, 0x4000_0000];

fn words(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|w| w.to_be_bytes()).collect()
}

fn movie(video: &Video, audio: Option<AacConfig>) -> Vec<u8> {
    let tracks = 1 + u32::from(audio.is_some());
    let head = [words(&[0, 0, SCALE, 0, 0x1_0000, 0x0100_0000, 0, 0]), words(&MATRIX), words(&[0; 6]), words(&[tracks + 1])].concat();
    let mut parts = vec![make_full(b"mvhd", 0, 0, &[&head]), track(1, Some(video), audio)];
    if audio.is_some() {
        parts.push(track(2, None, audio));
    }
    let extends: Vec<u8> = (1..=tracks).flat_map(|n| make_full(b"trex", 0, 0, &[&words(&[n, 1, 0, 0, 0])])).collect();
    parts.push(make(b"mvex", &[&extends]));
    make(b"moov", &parts.iter().map(|p| &p[..]).collect::<Vec<_>>())
}

fn track(number: u32, video: Option<&Video>, audio: Option<AacConfig>) -> Vec<u8> {
    let (w, h) = video.map_or((0, 0), |v| (v.format.width, v.format.height));
    let volume = if video.is_some() { 0 } else { 0x0100_0000 };
    let head = [words(&[0, 0, number, 0, 0, 0, 0, 0, volume]), words(&MATRIX), words(&[w << 16, h << 16])].concat();
    let (handler, name): (&[u8; 4], &[u8]) = if video.is_some() { (b"vide", b"picture\0") } else { (b"soun", b"sound\0") };
    let about = match video {
        Some(_) => make_full(b"vmhd", 0, 1, &[&[0; 8]]),
        None => make_full(b"smhd", 0, 0, &[&[0; 4]]),
    };
    let entry = match (video, audio) {
        (Some(v), _) => picture_entry(v),
        (None, Some(a)) => sound_entry(a),
        (None, None) => Vec::new(),
    };
    let none = words(&[0]);
    let table = make(
        b"stbl",
        &[
            &make_full(b"stsd", 0, 0, &[&words(&[1]), &entry]),
            &make_full(b"stts", 0, 0, &[&none]),
            &make_full(b"stsc", 0, 0, &[&none]),
            &make_full(b"stsz", 0, 0, &[&words(&[0, 0])]),
            &make_full(b"stco", 0, 0, &[&none]),
        ],
    );
    let here = make_full(b"dref", 0, 0, &[&words(&[1]), &make_full(b"url ", 0, 1, &[])]);
    let media = make(
        b"mdia",
        &[
            // Undetermined language.
            &make_full(b"mdhd", 0, 0, &[&words(&[0, 0, SCALE, 0, 0x55C4_0000])]),
            &make_full(b"hdlr", 0, 0, &[&words(&[0]), handler, &words(&[0; 3]), name]),
            &make(b"minf", &[&about, &make(b"dinf", &[&here]), &table]),
        ],
    );
    make(b"trak", &[&make_full(b"tkhd", 0, 3, &[&head]), &media])
}

fn picture_entry(v: &Video) -> Vec<u8> {
    let kind: &[u8; 4] = if v.record.hevc { b"hvc1" } else { b"avc1" };
    let mut out = vec![0, 0, 0, 0, 0, 0, 0, 1];
    out.extend_from_slice(&[0; 16]);
    out.extend_from_slice(&(v.format.width as u16).to_be_bytes());
    out.extend_from_slice(&(v.format.height as u16).to_be_bytes());
    // 72 dots an inch, one frame in a sample, no name, 24 bits.
    out.extend_from_slice(&words(&[0x48_0000, 0x48_0000, 0]));
    out.extend_from_slice(&[0, 1]);
    out.extend_from_slice(&[0; 32]);
    out.extend_from_slice(&[0, 0x18, 0xFF, 0xFF]);
    make(kind, &[&out, &make(if v.record.hevc { b"hvcC" } else { b"avcC" }, &[&v.record.write(v.format.bit_depth)])])
}

fn sound_entry(a: AacConfig) -> Vec<u8> {
    let mut out = vec![0, 0, 0, 0, 0, 0, 0, 1];
    out.extend_from_slice(&[0; 8]);
    out.extend_from_slice(&[0, a.channels, 0, 16, 0, 0, 0, 0]);
    out.extend_from_slice(&(a.sample_rate.min(0xFFFF) << 16).to_be_bytes());
    // Descriptors (ISO 14496-1, 7.2.6): elementary stream, decoder, its configuration, and how it
    // is packed.
    let specific = [&[5, 2][..], &a.to_bytes()].concat();
    let decoder = [&[4, 13 + specific.len() as u8, 0x40, 0x15, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0][..], &specific].concat();
    let whole = [&[3, 3 + decoder.len() as u8 + 3, 0, 2, 0][..], &decoder, &[6, 1, 2]].concat();
    make(b"mp4a", &[&out, &make_full(b"esds", 0, 0, &[&whole])])
}

/// The samples of one track in a fragment.
fn track_run(number: u32, samples: &[Sample], end: u64, offset: u32) -> Vec<u8> {
    let next = samples.iter().skip(1).map(|s| s.dts).chain([end]);
    let rows: Vec<u8> = samples
        .iter()
        .zip(next)
        .flat_map(|(s, next)| {
            let lasts = next.saturating_sub(s.dts) as u32;
            words(&[lasts, s.data.len() as u32, if s.sync { SYNC } else { NO_SYNC }, s.shown])
        })
        .collect();
    let first = samples.first().map_or(0, |s| s.dts);
    make(
        b"traf",
        &[
            // Offsets count from the fragment.
            &make_full(b"tfhd", 0, 0x02_0000, &[&words(&[number])]),
            &make_full(b"tfdt", 1, 0, &[&first.to_be_bytes()]),
            &make_full(b"trun", 1, 0x0F01, &[&words(&[samples.len() as u32, offset]), &rows]),
        ],
    )
}
