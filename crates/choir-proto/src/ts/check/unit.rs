//! One stream's PES packets: lengths, times, and what the access units inside lack.

use super::{Findings, Origin, Place, TsFault, sound::Sound, tables::is_media, ticks};
use crate::{
    h26x::{HevcNal, NalKind, nal_units},
    ts::{PTS_WRAP, StreamKind, TsPacket, pes::PesHeader},
};

/// Bytes of each unit that are looked at.
const HEAD: usize = 4096;
const SOUND_MAX: usize = 64 << 10;
/// Longest time that a decoder keeps data, 90 kHz: 10 s of H.264 and H.265, 1 s of anything else
/// (2.4.2.7, 2.14.3.1).
const KEEP_VIDEO: i64 = 900_000;
const KEEP_OTHER: i64 = 90_000;
const SECOND: i64 = 90_000;
/// Time without a second keyframe after which none is expected soon, ms.
const KEYFRAME_WAIT_MS: u64 = 10_000;
/// As above in a recording that has ended.
const KEYFRAME_WAIT_ENDED_MS: u64 = 2000;

#[derive(Debug)]
struct Open {
    header: PesHeader,
    at: Place,
    flagged: bool,
    data: Vec<u8>,
    total: usize,
    damaged: bool,
    /// Clock reference before its last packet.
    clock: Option<u64>,
}

#[derive(Debug)]
pub(super) struct Stream {
    pub pid: u16,
    pub kind: StreamKind,
    origin: Origin,
    open: Option<Open>,
    last_dts: Option<u64>,
    sound: Sound,
    units: u64,
    keyframes: u64,
    last_keyframe: Place,
    first: Option<Place>,
    kind_known: bool,
}

impl Stream {
    pub fn new(pid: u16, kind: StreamKind, origin: Origin) -> Self {
        Self {
            pid,
            kind,
            origin,
            open: None,
            last_dts: None,
            sound: Sound::default(),
            units: 0,
            keyframes: 0,
            last_keyframe: Place::default(),
            first: None,
            kind_known: false,
        }
    }

    pub fn packet(&mut self, p: &TsPacket<'_>, gap: bool, jump: bool, clock: Option<u64>, at: Place, found: &mut Findings) {
        let Some(payload) = p.payload.filter(|_| p.scrambling == 0) else { return };
        if jump {
            self.last_dts = None;
            self.sound.restart();
        }
        if let Some(open) = &mut self.open {
            open.damaged |= gap;
        }
        if p.unit_start {
            self.end_unit(true, found);
            match PesHeader::parse(payload) {
                Some(header) => {
                    let data = payload.get(header.header_bytes..).unwrap_or_default();
                    let flagged = p.adaptation.is_some_and(|a| a.random_access);
                    self.open = Some(Open { header, at, flagged, data: data.to_vec(), total: data.len(), damaged: false, clock });
                }
                None if is_media(self.kind) => found.note(TsFault::PesHeader, self.pid, at),
                None => {}
            }
        } else if let Some(open) = &mut self.open {
            let most = if self.kind.is_audio() { SOUND_MAX } else { HEAD };
            let room = most.saturating_sub(open.data.len());
            open.data.extend_from_slice(&payload[..payload.len().min(room)]);
            open.total += payload.len();
            open.clock = clock;
        }
    }

    /// The look ends here; `ended` when the stream does.
    pub fn finish(&mut self, ended: bool, at: Place, found: &mut Findings) {
        // What the look or the end of a recording cuts off says nothing of its length.
        self.end_unit(false, found);
        if !self.kind.is_video() || self.units == 0 {
            return;
        }
        let wait = if ended { KEYFRAME_WAIT_ENDED_MS } else { KEYFRAME_WAIT_MS };
        let (since, fault) = match self.keyframes {
            0 => (self.first.unwrap_or_default(), TsFault::NoKeyframe),
            1 => (self.last_keyframe, TsFault::OneKeyframe),
            _ => return,
        };
        let ms = at.ms.saturating_sub(since.ms);
        if ms >= wait {
            found.add(fault, Some(self.pid), since, 1, ms, false);
        }
    }

    fn end_unit(&mut self, whole: bool, found: &mut Findings) {
        let Some(open) = self.open.take() else { return };
        if let Some(length) = open.header.payload_bytes
            && !open.damaged
            && length != open.total
            && (whole || open.total > length)
        {
            found.note(TsFault::PesLength, self.pid, open.at);
        }
        self.times(&open, found);
        if open.damaged || (!whole && open.header.payload_bytes.is_none_or(|n| open.total < n)) {
            self.sound.restart();
            if self.kind.is_video() && (open.flagged || Head::of(self.kind, &open.data).keyframe) {
                self.keyframe(open.at);
            }
            return;
        }
        self.check_kind(&open, found);
        if self.kind.is_audio() {
            self.sound.unit(self.pid, self.kind, open.header.pts, &open.data, open.at, found);
        } else if self.kind.is_video() {
            self.picture(&open, found);
        }
        self.units += 1;
    }

    fn times(&mut self, open: &Open, found: &mut Findings) {
        let Some(pts) = open.header.pts else { return };
        let dts = open.header.dts.unwrap_or(pts);
        if ticks(pts, dts) < 0 {
            found.far(TsFault::PtsBeforeDts, self.pid, open.at, ticks(pts, dts));
        }
        if let Some(last) = self.last_dts.replace(dts) {
            let step = ticks(dts, last);
            if step <= 0 {
                found.far(TsFault::DtsBack, self.pid, open.at, step);
            } else if step > SECOND {
                found.far(TsFault::DtsJump, self.pid, open.at, step);
            }
        }
        if let Some(clock) = open.clock {
            let ahead = ticks(dts, clock / 300 % PTS_WRAP);
            if ahead < 0 {
                found.far(TsFault::DtsLate, self.pid, open.at, ahead);
            } else if ahead > if self.kind.is_video() { KEEP_VIDEO } else { KEEP_OTHER } {
                found.far(TsFault::DtsEarly, self.pid, open.at, ahead);
            }
        }
    }

    /// Whether the bytes are what the table says; told once.
    fn check_kind(&mut self, open: &Open, found: &mut Findings) {
        if self.kind_known {
            return;
        }
        let Some(is) = sniff(&open.data) else { return };
        self.kind_known = true;
        if is != self.kind && (is_media(self.kind) || is.is_video()) {
            found.note(TsFault::StreamType, self.pid, open.at);
        }
    }

    fn keyframe(&mut self, at: Place) {
        self.keyframes += 1;
        self.last_keyframe = at;
    }

    fn picture(&mut self, open: &Open, found: &mut Findings) {
        self.first.get_or_insert(open.at);
        let head = Head::of(self.kind, &open.data);
        if !head.begins {
            found.note(TsFault::SplitPicture, self.pid, open.at);
            return;
        }
        if !head.delimiter {
            found.note(TsFault::NoDelimiter, self.pid, open.at);
        }
        if head.keyframe {
            if !head.sets {
                found.note(TsFault::NoParameterSets, self.pid, open.at);
            }
            if !open.flagged {
                found.note(TsFault::NoRandomAccess, self.pid, open.at);
            }
        }
        if head.keyframe || open.flagged {
            self.keyframe(open.at);
        } else if self.keyframes == 0 {
            found.add(TsFault::MidGop, Some(self.pid), open.at, 1, 0, self.origin == Origin::Joined);
        }
    }
}

/// What the start of an access unit shows.
#[derive(Debug, Default)]
struct Head {
    /// It starts with a start code, and its first slice is a picture's first.
    begins: bool,
    delimiter: bool,
    sets: bool,
    keyframe: bool,
}

impl Head {
    fn of(kind: StreamKind, data: &[u8]) -> Self {
        let code = data.iter().take(6).position(|b| *b != 0);
        let mut head = Self { begins: code.is_some_and(|n| n >= 2 && data[n] == 1), ..Self::default() };
        let mut sets = 0u8;
        for (n, nal) in nal_units(data).enumerate() {
            let (delimiter, set, picture, keyframe, first) = match kind {
                StreamKind::H265 => {
                    let set = [HevcNal::Vps, HevcNal::Sps, HevcNal::Pps].iter().position(|k| *k == HevcNal::of(nal[0]));
                    let of = HevcNal::of(nal[0]);
                    // first_slice_segment_in_pic_flag
                    (of == HevcNal::Delimiter, set, of.is_picture(), of == HevcNal::Irap, nal.get(2).is_none_or(|b| b & 0x80 != 0))
                }
                _ => {
                    let set = [NalKind::Sps, NalKind::Pps].iter().position(|k| *k == NalKind::of(nal[0]));
                    let of = NalKind::of(nal[0]);
                    // first_mb_in_slice is 0: one bit that is set.
                    (of == NalKind::Delimiter, set, of.is_picture(), of == NalKind::Idr, nal.get(1).is_none_or(|b| b & 0x80 != 0))
                }
            };
            head.delimiter |= n == 0 && delimiter;
            sets |= set.map_or(0, |s| 1 << s);
            if picture {
                head.begins &= first;
                head.keyframe = keyframe;
                break;
            }
        }
        head.sets = sets == if kind == StreamKind::H265 { 7 } else { 3 };
        head
    }
}

/// What a PES payload is, when it shows it beyond doubt.
fn sniff(data: &[u8]) -> Option<StreamKind> {
    match data {
        // ADTS has layer 0, MPEG audio another; LATM has a sync word of its own.
        [0xFF, b, ..] if b & 0xF6 == 0xF0 => return Some(StreamKind::AacAdts),
        [0xFF, b, ..] if b & 0xE0 == 0xE0 && b & 6 != 0 => return Some(StreamKind::MpegAudio),
        [0x56, b, ..] if b & 0xE0 == 0xE0 => return Some(StreamKind::AacLatm),
        _ => {}
    }
    if data.iter().take(5).position(|b| *b != 0).is_none_or(|n| n < 2) {
        return None;
    }
    // Parameter sets differ in both bytes of their headers.
    nal_units(data).find_map(|nal| match nal {
        [0x40 | 0x42 | 0x44, 0x01, ..] => Some(StreamKind::H265),
        [0x67 | 0x47 | 0x27, profile, ..] if [66, 77, 88, 100, 110, 122, 244].contains(profile) => Some(StreamKind::H264),
        _ => None,
    })
}
