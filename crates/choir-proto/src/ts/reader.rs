//! Reads a transport stream as it passes: what is in it, how clean it is, how fast; and, on request,
//! its access units.

use super::{
    PCR_WRAP, PTS_WRAP, TS_PACKET, TsPacket,
    packet::{NULL_PID, SYNC},
    pes::PesHeader,
    psi::{Pmt, SectionReader, StreamKind, first_program},
    wrapped_distance,
};
use crate::{
    adts,
    audio::ST302_RATE,
    h26x::{self, HevcNal, NalKind, Stamp, VideoFormat},
};
use bytes::Bytes;
use std::collections::VecDeque;

const PIDS: usize = 8192;
const NONE: u8 = 0xFF;
/// Bytes of each access unit that are looked at for parameter sets and stamps.
const HEAD: usize = 2048;
/// Largest access unit kept: a 150 Mbit/s intra frame is a tenth of it.
const UNIT_MAX: usize = 8 << 20;
/// Units waiting to be taken; the oldest is dropped beyond.
const UNITS_MAX: usize = 256;
/// Frames that the median delay is taken over: some keyframe intervals.
const DELAYS: usize = 64;
const PCR_WINDOW_US: i64 = 1_000_000;

/// How much of the media is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Only what the start of each access unit says.
    Heads,
    /// Whole access units, for [`TsReader::poll_unit`].
    Units,
}

/// Totals since the start.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct TsCounters {
    /// Packets in sync.
    pub packets: u64,
    /// Of those, null packets.
    pub nulls: u64,
    /// Times the sync byte was lost.
    pub sync_losses: u64,
    /// Packets missing or out of order by their counter.
    pub continuity_errors: u64,
    /// Packets marked as damaged.
    pub transport_errors: u64,
    /// Tables with a wrong checksum.
    pub crc_errors: u64,
}

/// The programme clock.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct PcrInfo {
    /// Longest distance between two references, µs.
    pub interval_max_us: u64,
    /// Spread of arrival against the clock, µs.
    pub jitter_us: u64,
}

/// One stream of the programme.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StreamInfo {
    /// Its packets.
    pub pid: u16,
    /// What it is.
    pub kind: StreamKind,
    /// Bytes so far, packet headers included.
    pub bytes: u64,
}

/// The picture.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct VideoInfo {
    /// From the parameter set.
    pub format: Option<VideoFormat>,
    /// Parameter sets have come with a keyframe.
    pub has_sets: bool,
    /// Frames so far.
    pub frames: u64,
    /// Keyframes so far.
    pub keyframes: u64,
    /// Frames per second by their time stamps.
    pub measured_rate: Option<f64>,
    /// Frames from one keyframe to the next.
    pub keyframe_frames: Option<u32>,
    /// Milliseconds from one keyframe to the next.
    pub keyframe_ms: Option<u32>,
    /// Last stamp found in the picture, and when its frame was complete here, both UTC.
    pub stamp: Option<(Stamp, i64)>,
    /// Median of the last frames' time from stamp to completion, µs: large frames take longer than small ones.
    pub delay_us: Option<i64>,
}

/// All that is known of the media.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct MediaInfo {
    /// Streams in table order.
    pub streams: Vec<StreamInfo>,
    /// The first video stream.
    pub video: Option<VideoInfo>,
    /// Sample rate and channels of the first AAC stream.
    pub audio: Option<(u32, u8)>,
    /// Counters.
    pub counters: TsCounters,
    /// Clock, over the last second.
    pub pcr: PcrInfo,
    /// Clock, the worst since the start.
    pub pcr_worst: PcrInfo,
}

/// One whole frame or audio packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessUnit {
    /// Its stream.
    pub pid: u16,
    /// What it is.
    pub kind: StreamKind,
    /// Presentation time, 90 kHz.
    pub pts: Option<u64>,
    /// Decoding time.
    pub dts: Option<u64>,
    /// Decoding can start here.
    pub keyframe: bool,
    /// When its last packet was handed in.
    pub arrived: i64,
    /// Byte stream or ADTS frames.
    pub data: Bytes,
}

#[derive(Debug)]
struct OpenPes {
    header: PesHeader,
    random_access: bool,
    data: Vec<u8>,
    total: usize,
    last: i64,
    broken: bool,
}

#[derive(Debug)]
struct Stream {
    info: StreamInfo,
    pes: Option<OpenPes>,
    /// Stuffing in this stream has not always ended a unit, so it says nothing.
    stuffs_anywhere: bool,
}

#[derive(Debug, Default)]
struct PcrState {
    last: Option<u64>,
    offsets: Option<(i64, i64)>,
    interval_max: u64,
    window_start: i64,
    shown: PcrInfo,
    worst: PcrInfo,
}

impl PcrState {
    fn note(&mut self, pcr: u64, at: i64, discontinuity: bool) {
        if let Some(last) = self.last
            && !discontinuity
        {
            let step = wrapped_distance(pcr, last, PCR_WRAP);
            if (0..27_000_000).contains(&step) {
                self.interval_max = self.interval_max.max(step as u64 / 27);
            } else {
                self.offsets = None;
            }
        }
        self.last = Some(pcr);
        let offset = at - (pcr / 27) as i64;
        let (low, high) = self.offsets.map_or((offset, offset), |(l, h)| (l.min(offset), h.max(offset)));
        self.offsets = Some((low, high));
        self.worst.interval_max_us = self.worst.interval_max_us.max(self.interval_max);
        self.worst.jitter_us = self.worst.jitter_us.max((high - low) as u64);
        if at - self.window_start >= PCR_WINDOW_US {
            self.shown = PcrInfo { interval_max_us: self.interval_max, jitter_us: (high - low) as u64 };
            (self.window_start, self.interval_max, self.offsets) = (at, 0, None);
        }
    }
}

/// A transport stream reader. Takes any cut of bytes, finds sync again after damage.
#[derive(Debug)]
pub struct TsReader {
    depth: Depth,
    /// Added to times of arrival to compare them with stamps, µs.
    utc_offset: i64,
    carry: Vec<u8>,
    in_sync: bool,
    counters: TsCounters,
    pat: SectionReader,
    pmt: SectionReader,
    pmt_pid: Option<u16>,
    table: Option<Pmt>,
    streams: Vec<Stream>,
    /// PID to place in `streams`.
    index: Box<[u8; PIDS]>,
    /// Last counter of each PID, with bit 4 set after a permitted repeat.
    continuity: Box<[u8; PIDS]>,
    pcr: PcrState,
    video: VideoInfo,
    audio: Option<(u32, u8)>,
    last_keyframe: Option<(u64, u64)>,
    delays: VecDeque<i64>,
    units: VecDeque<AccessUnit>,
}

impl TsReader {
    /// A reader at the start of a stream.
    #[must_use]
    pub fn new(depth: Depth) -> Self {
        Self {
            depth,
            utc_offset: 0,
            carry: Vec::new(),
            in_sync: false,
            counters: TsCounters::default(),
            pat: SectionReader::default(),
            pmt: SectionReader::default(),
            pmt_pid: None,
            table: None,
            streams: Vec::new(),
            index: Box::new([NONE; PIDS]),
            continuity: Box::new([NONE; PIDS]),
            pcr: PcrState::default(),
            video: VideoInfo::default(),
            audio: None,
            last_keyframe: None,
            delays: VecDeque::new(),
            units: VecDeque::new(),
        }
    }

    /// Sets what is added to times of arrival (µs) to get UTC, which stamps are in.
    pub fn set_utc_offset(&mut self, offset_us: i64) {
        self.utc_offset = offset_us;
    }

    /// The source begins anew: what is known of its media stays until the new start says otherwise, what is half read does not.
    pub fn restart(&mut self) {
        (self.in_sync, self.pcr, self.last_keyframe) =
            (false, PcrState { shown: self.pcr.shown, worst: self.pcr.worst, ..PcrState::default() }, None);
        self.carry.clear();
        self.continuity.fill(NONE);
        for s in &mut self.streams {
            s.pes = None;
        }
    }

    /// What is known so far.
    #[must_use]
    pub fn info(&self) -> MediaInfo {
        let has_video = self.streams.iter().any(|s| s.info.kind.is_video());
        MediaInfo {
            streams: self.streams.iter().map(|s| s.info).collect(),
            video: has_video.then(|| VideoInfo { delay_us: self.median_delay(), ..self.video.clone() }),
            audio: self.audio,
            counters: TsCounters { crc_errors: self.pat.crc_errors + self.pmt.crc_errors, ..self.counters },
            pcr: self.pcr.shown,
            pcr_worst: self.pcr.worst,
        }
    }

    fn median_delay(&self) -> Option<i64> {
        let mut sorted: Vec<i64> = self.delays.iter().copied().collect();
        sorted.sort_unstable();
        sorted.get(sorted.len() / 2).copied()
    }

    /// The next whole access unit, with [`Depth::Units`].
    pub fn poll_unit(&mut self) -> Option<AccessUnit> {
        self.units.pop_front()
    }

    /// Takes bytes that arrived at `at` (µs on any clock that never steps; see [`TsReader::set_utc_offset`]).
    pub fn push(&mut self, at: i64, data: &[u8]) {
        if self.carry.is_empty()
            && self.in_sync
            && data.len().is_multiple_of(TS_PACKET)
            && data.chunks_exact(TS_PACKET).all(|p| p[0] == SYNC)
        {
            data.chunks_exact(TS_PACKET).for_each(|p| self.packet(at, p));
            return;
        }
        self.carry.extend_from_slice(data);
        let carried = std::mem::take(&mut self.carry);
        let mut rest = &carried[..];
        while rest.len() >= TS_PACKET {
            // One sync byte may be chance: the next place must agree, as far as it is here.
            let sync = rest[0] == SYNC && rest.get(TS_PACKET).is_none_or(|b| *b == SYNC);
            if sync {
                self.in_sync = true;
                self.packet(at, &rest[..TS_PACKET]);
                rest = &rest[TS_PACKET..];
            } else {
                if std::mem::take(&mut self.in_sync) {
                    self.counters.sync_losses += 1;
                }
                let skip = rest[1..].iter().position(|b| *b == SYNC).map_or(rest.len(), |i| i + 1);
                rest = &rest[skip..];
            }
        }
        self.carry = rest.to_vec();
    }

    fn packet(&mut self, at: i64, data: &[u8]) {
        self.counters.packets += 1;
        let Some(p) = TsPacket::parse(data) else {
            self.counters.transport_errors += 1;
            return;
        };
        if p.pid == NULL_PID {
            self.counters.nulls += 1;
            return;
        }
        if p.error {
            self.counters.transport_errors += 1;
            return;
        }
        let discontinuity = p.adaptation.is_some_and(|a| a.discontinuity);
        let (repeat, gap) = self.check_continuity(&p, discontinuity);
        if repeat {
            return;
        }
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr)
            && self.table.as_ref().is_none_or(|t| t.pcr_pid == p.pid)
        {
            self.pcr.note(pcr, at, discontinuity);
        }
        if p.pid == 0 {
            if let Some(section) = p.payload.and_then(|d| self.pat.push(p.unit_start, d))
                && let Some((_, pid)) = first_program(&section)
            {
                self.pmt_pid = Some(pid);
            }
        } else if Some(p.pid) == self.pmt_pid {
            if let Some(table) = p.payload.and_then(|d| self.pmt.push(p.unit_start, d)).and_then(|s| Pmt::parse(&s)) {
                self.take_table(table);
            }
        } else if let Some(i) = self.stream_at(p.pid) {
            self.streams[i].info.bytes += TS_PACKET as u64;
            self.elementary(i, &p, at, gap);
        }
    }

    fn stream_at(&self, pid: u16) -> Option<usize> {
        let i = self.index[usize::from(pid) % PIDS];
        (i != NONE).then_some(usize::from(i))
    }

    /// Whether this packet is a permitted repeat, and whether some are missing before it.
    fn check_continuity(&mut self, p: &TsPacket<'_>, discontinuity: bool) -> (bool, bool) {
        let slot = &mut self.continuity[usize::from(p.pid) % PIDS];
        let last = *slot;
        if p.payload.is_none() {
            return (false, false);
        }
        if last == NONE || discontinuity {
            *slot = p.continuity;
            return (false, false);
        }
        let expected = (last & 15).wrapping_add(1) & 15;
        if p.continuity == last & 15 && last & 16 == 0 {
            *slot = last | 16;
            return (true, false);
        }
        *slot = p.continuity;
        let gap = p.continuity != expected;
        self.counters.continuity_errors += u64::from(gap);
        (false, gap)
    }

    fn take_table(&mut self, table: Pmt) {
        if self.table.as_ref() == Some(&table) {
            return;
        }
        self.index.fill(NONE);
        let old = std::mem::take(&mut self.streams);
        for (i, s) in table.streams.iter().enumerate() {
            let bytes = old.iter().find(|o| o.info.pid == s.pid).map_or(0, |o| o.info.bytes);
            self.index[usize::from(s.pid) % PIDS] = i as u8;
            self.streams.push(Stream { info: StreamInfo { pid: s.pid, kind: s.kind, bytes }, pes: None, stuffs_anywhere: false });
        }
        self.video.format = None;
        self.last_keyframe = None;
        self.table = Some(table);
    }

    fn elementary(&mut self, i: usize, p: &TsPacket<'_>, at: i64, gap: bool) {
        let Some(payload) = p.payload else { return };
        if p.scrambling != 0 {
            return;
        }
        let limit = if self.depth == Depth::Units { UNIT_MAX } else { HEAD };
        if p.unit_start {
            if let Some(pes) = self.streams[i].pes.take() {
                self.finish_unit(i, pes);
            }
            let Some(header) = PesHeader::parse(payload) else { return };
            let data = payload.get(header.header_bytes..).unwrap_or_default();
            let random_access = p.adaptation.is_some_and(|a| a.random_access);
            let kept = &data[..data.len().min(limit)];
            self.streams[i].pes = Some(OpenPes { header, random_access, data: kept.to_vec(), total: data.len(), last: at, broken: false });
        } else if let Some(pes) = &mut self.streams[i].pes {
            pes.broken |= gap;
            pes.last = at;
            pes.total += payload.len();
            let room = limit.saturating_sub(pes.data.len());
            pes.data.extend_from_slice(&payload[..payload.len().min(room)]);
        } else if !payload.is_empty() {
            // More of a unit that was taken as ended.
            self.streams[i].stuffs_anywhere = true;
        }
        // A unit without a length ends where the next begins, a frame later; but its last packet is the only
        // one that writers have to stuff.
        let stuffed = p.stuffed() && !self.streams[i].stuffs_anywhere;
        let ended = |pes: &OpenPes| pes.header.payload_bytes.map_or(stuffed, |n| pes.total >= n);
        let complete = self.streams[i].pes.as_ref().is_some_and(ended);
        if complete && let Some(pes) = self.streams[i].pes.take() {
            self.finish_unit(i, pes);
        }
    }

    fn finish_unit(&mut self, i: usize, pes: OpenPes) {
        let StreamInfo { pid, kind, .. } = self.streams[i].info;
        let first_video = self.streams.iter().position(|s| s.info.kind.is_video()) == Some(i);
        let mut keyframe = pes.random_access;
        // Some encoders never set the flag.
        keyframe |= kind.is_keyframe(&pes.data);
        if first_video {
            self.note_frame(&pes, keyframe, kind);
        } else if self.audio.is_none() {
            self.audio = match kind {
                StreamKind::AacAdts => adts::parse(&pes.data).map(|h| (h.sample_rate, h.channels)),
                // Two channels for each of its steps; the rate is fixed.
                StreamKind::St302 => pes.data.get(2).map(|b| (ST302_RATE, (b >> 6) * 2 + 2)),
                _ => None,
            };
        }
        // A unit with a hole in it is of no use to a decoder.
        if self.depth == Depth::Units && !pes.broken && pes.total <= UNIT_MAX {
            if self.units.len() == UNITS_MAX {
                self.units.pop_front();
            }
            let PesHeader { pts, dts, .. } = pes.header;
            self.units.push_back(AccessUnit { pid, kind, pts, dts, keyframe, arrived: pes.last, data: pes.data.into() });
        }
    }

    fn note_frame(&mut self, pes: &OpenPes, keyframe: bool, kind: StreamKind) {
        self.video.frames += 1;
        let time = pes.header.dts.or(pes.header.pts);
        if keyframe {
            self.video.keyframes += 1;
            if let (Some(now), Some((then, frames))) = (time, self.last_keyframe) {
                let ticks = wrapped_distance(now, then, PTS_WRAP);
                let count = self.video.frames - frames;
                // Longer than a minute is a jump of the clock, not a keyframe interval.
                if ticks > 0 && ticks < 90_000 * 60 {
                    self.video.measured_rate = Some(count as f64 * 90_000.0 / ticks as f64);
                    self.video.keyframe_frames = Some(count as u32);
                    self.video.keyframe_ms = Some((ticks / 90) as u32);
                }
            }
            self.last_keyframe = time.map(|t| (t, self.video.frames));
        }
        let head = &pes.data[..pes.data.len().min(HEAD)];
        if keyframe {
            self.video.has_sets |= has_sets(kind, head);
        }
        if keyframe && let Some(format) = format_in(kind, head) {
            self.video.format = Some(format);
        }
        if let Some(stamp) = kind.find_stamp(head) {
            let came = pes.last + self.utc_offset;
            self.video.stamp = Some((stamp, came));
            if self.delays.len() == DELAYS {
                self.delays.pop_front();
            }
            self.delays.push_back(came - stamp.unix_us as i64);
        }
    }
}

/// Whether a sequence parameter set is among the first NAL units.
fn has_sets(kind: StreamKind, head: &[u8]) -> bool {
    h26x::nal_units(head).any(|nal| match kind {
        StreamKind::H265 => HevcNal::of(nal[0]) == HevcNal::Sps,
        _ => NalKind::of(nal[0]) == NalKind::Sps,
    })
}

/// The picture's format, from the parameter set at the head of an access unit.
fn format_in(kind: StreamKind, head: &[u8]) -> Option<VideoFormat> {
    for nal in h26x::nal_units(head) {
        let (set, picture) = match kind {
            StreamKind::H265 => (HevcNal::of(nal[0]) == HevcNal::Sps, HevcNal::of(nal[0]).is_picture()),
            _ => (NalKind::of(nal[0]) == NalKind::Sps, NalKind::of(nal[0]).is_picture()),
        };
        if set {
            return if kind == StreamKind::H265 { h26x::parse_hevc_sps(nal) } else { h26x::parse_sps(nal) };
        }
        if picture {
            return None;
        }
    }
    None
}
