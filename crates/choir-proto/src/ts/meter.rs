//! Meters what an index has found: what is in a stream, how clean it is, how fast; and, on request,
//! cuts it into access units.

use super::{
    PCR_WRAP, PTS_WRAP, Piece, TS_PACKET,
    index::{Indexed, Raw, TsCounters},
    look::first_slice,
    packet::HEADER,
    pes::PesHeader,
    programme::Programme,
    psi::{Pmt, StreamKind},
    unit::{AUDIO_PID, AccessUnit, TimedUnit, UnitFormat, VIDEO_PID},
    wrapped_distance,
};
use crate::{
    adts,
    audio::ST302_RATE,
    h26x::{self, HevcNal, NalKind, Stamp, VideoFormat},
};
use bytes::Bytes;
use std::{collections::VecDeque, sync::Arc};

/// Bytes of each access unit that are looked at for parameter sets and stamps.
const HEAD: usize = 2048;
/// Largest access unit kept: a 150 Mbit/s intra frame is a tenth of it.
const UNIT_MAX: usize = 8 << 20;
/// Units waiting to be taken; the oldest is dropped beyond.
const UNITS_MAX: usize = 256;
/// Frames that the median delay is taken over: some keyframe intervals.
const DELAYS: usize = 64;
const PCR_WINDOW_US: i64 = 1_000_000;
/// Longest distance between clock references, ticks of 27 MHz (2.7.2).
const PCR_INTERVAL_MAX: i64 = 2_700_000;
/// Longest distance between pictures, ticks of 90 kHz (2.7.4).
const FRAME_STEP_MAX: i64 = 63_000;

/// How much of the media is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Only what the start of each access unit says.
    Heads,
    /// Whole access units, for [`TsMeter::poll_unit`].
    Units,
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
    /// Median of the last frames' time from stamp to completion, µs: large frames take longer than
    /// small ones.
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
    /// What was wrong with the times in it.
    pub faults: TimeFaults,
}

/// Times that break the rules of ISO 13818-1, since the start.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct TimeFaults {
    /// Clock references more than 100 ms apart (2.7.2), or that jump without notice.
    pub pcr: u64,
    /// Pictures whose decoding time does not come after the one before, or more than 0.7 s after it
    /// (2.7.4).
    pub pts: u64,
}

#[derive(Debug)]
struct OpenPes {
    header: PesHeader,
    keyframe: bool,
    with_sets: bool,
    data: Vec<u8>,
    total: usize,
    last: i64,
    broken: bool,
}

impl OpenPes {
    fn add(&mut self, payload: &[u8], limit: usize, at: i64) {
        self.last = at;
        self.total += payload.len();
        let room = limit.saturating_sub(self.data.len());
        if room > 0 {
            self.data.extend_from_slice(&payload[..payload.len().min(room)]);
        }
    }
}

#[derive(Debug)]
struct Stream {
    info: StreamInfo,
    pes: Option<OpenPes>,
    /// Stuffing in this stream has not always ended a unit, so it says nothing.
    stuffs_anywhere: bool,
}

impl Stream {
    const fn new(info: StreamInfo) -> Self {
        Self { info, pes: None, stuffs_anywhere: false }
    }
}

/// What is looked at of a picture.
struct Frame<'a> {
    kind: StreamKind,
    time: Option<u64>,
    keyframe: bool,
    with_sets: bool,
    head: &'a [u8],
    /// When it was complete.
    came: i64,
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
    /// True when it comes too late after the one before, or jumps.
    fn note(&mut self, pcr: u64, at: i64, discontinuity: bool) -> bool {
        let mut fault = false;
        if let Some(last) = self.last
            && !discontinuity
        {
            let step = wrapped_distance(pcr, last, PCR_WRAP);
            if (0..27_000_000).contains(&step) {
                self.interval_max = self.interval_max.max(step as u64 / 27);
                fault = step > PCR_INTERVAL_MAX;
            } else {
                self.offsets = None;
                fault = true;
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
        fault
    }
}

/// Meters one source, over its starts.
#[derive(Debug)]
pub struct TsMeter {
    depth: Depth,
    /// Added to times of arrival to compare them with stamps, µs.
    utc_offset: i64,
    table: Option<Arc<Pmt>>,
    format: Arc<UnitFormat>,
    streams: Vec<Stream>,
    pcr: PcrState,
    video: VideoInfo,
    audio: Option<(u32, u8)>,
    last_keyframe: Option<(u64, u64)>,
    last_time: Option<u64>,
    faults: TimeFaults,
    delays: VecDeque<i64>,
    units: VecDeque<AccessUnit>,
}

impl TsMeter {
    /// At the start of a source.
    #[must_use]
    pub fn new(depth: Depth) -> Self {
        Self {
            depth,
            utc_offset: 0,
            table: None,
            format: Arc::default(),
            streams: Vec::new(),
            pcr: PcrState::default(),
            video: VideoInfo::default(),
            audio: None,
            last_keyframe: None,
            last_time: None,
            faults: TimeFaults::default(),
            delays: VecDeque::new(),
            units: VecDeque::new(),
        }
    }

    /// Keeps whole units from now on, or only their heads.
    pub fn set_depth(&mut self, depth: Depth) {
        if self.depth != depth {
            self.depth = depth;
            self.units.clear();
            // What is half read was kept to the other depth.
            self.streams.iter_mut().filter_map(|s| s.pes.as_mut()).for_each(|pes| pes.broken = true);
        }
    }

    /// It has pictures.
    #[must_use]
    pub fn has_video(&self) -> bool {
        self.streams.iter().any(|s| s.info.kind.is_video())
    }

    /// Sets what is added to times of arrival (µs) to get UTC, which stamps are in.
    pub fn set_utc_offset(&mut self, offset_us: i64) {
        self.utc_offset = offset_us;
    }

    /// The source begins anew: what is known of its media stays until the new start says otherwise,
    /// what is half read does not.
    pub fn restart(&mut self) {
        (self.pcr, self.last_keyframe) = (PcrState { shown: self.pcr.shown, worst: self.pcr.worst, ..PcrState::default() }, None);
        self.last_time = None;
        for s in &mut self.streams {
            s.pes = None;
        }
    }

    /// What is known so far, with the counters of its index.
    #[must_use]
    pub fn info(&self, counters: TsCounters) -> MediaInfo {
        MediaInfo {
            streams: self.streams.iter().map(|s| s.info).collect(),
            video: self.has_video().then(|| VideoInfo { delay_us: self.median_delay(), ..self.video.clone() }),
            audio: self.audio,
            counters,
            pcr: self.pcr.shown,
            pcr_worst: self.pcr.worst,
            faults: self.faults,
        }
    }

    fn median_delay(&self) -> Option<i64> {
        let mut sorted: Vec<i64> = self.delays.iter().copied().collect();
        sorted.sort_unstable();
        sorted.get(sorted.len() / 2).copied()
    }

    /// Nothing more comes: what is open has ended.
    pub fn finish(&mut self) {
        for i in 0..self.streams.len() {
            // One that says how long it is and is not has been cut off.
            let open = self.streams[i].pes.take();
            if let Some(pes) = open.filter(|p| p.header.payload_bytes.is_none_or(|n| p.total >= n)) {
                self.finish_unit(i, pes);
            }
        }
    }

    /// The next whole access unit, with [`Depth::Units`].
    pub fn poll_unit(&mut self) -> Option<AccessUnit> {
        self.units.pop_front()
    }

    /// Takes what arrived at `at` (µs on any clock that never steps; see
    /// [`TsMeter::set_utc_offset`]).
    pub fn push(&mut self, at: i64, piece: &Piece<'_>) {
        for i in piece.runs().iter().filter(|i| !i.repeat) {
            if let Some(pcr) = i.clock {
                self.faults.pcr += u64::from(self.pcr.note(pcr, at, i.packet.adaptation.is_some_and(|a| a.discontinuity)));
            }
            if let Some(Programme { pmt: Some(table), .. }) = &i.programme {
                self.take_table(table);
            }
            // One that joins knows the places from the next table on.
            if let Some((place, _)) = i.stream
                && let Some(stream) = self.streams.get_mut(place)
            {
                stream.info.bytes += ((1 + i.more.len()) * TS_PACKET) as u64;
                self.elementary(place, i, at);
                self.plain(place, i.more, at);
            }
        }
    }

    fn take_table(&mut self, table: &Arc<Pmt>) {
        if self.table.as_ref() == Some(table) {
            return;
        }
        let old = std::mem::take(&mut self.streams);
        for s in &table.streams {
            let bytes = old.iter().find(|o| o.info.pid == s.pid).map_or(0, |o| o.info.bytes);
            self.streams.push(Stream::new(StreamInfo { pid: s.pid, kind: s.kind, bytes }));
        }
        self.video.format = None;
        self.last_keyframe = None;
        self.format = Arc::new(UnitFormat { streams: table.streams.iter().map(|s| s.kind).collect() });
        self.table = Some(table.clone());
    }

    /// Bytes of a unit that are kept.
    fn limit(&self) -> usize {
        if self.depth == Depth::Units { UNIT_MAX } else { HEAD }
    }

    fn elementary(&mut self, i: usize, indexed: &Indexed<'_>, at: i64) {
        let p = &indexed.packet;
        let Some(payload) = p.payload else { return };
        if p.scrambling != 0 {
            return;
        }
        let limit = self.limit();
        if p.unit_start {
            if let Some(pes) = self.streams[i].pes.take() {
                self.finish_unit(i, pes);
            }
            let Some(header) = indexed.header else { return };
            let data = payload.get(header.header_bytes..).unwrap_or_default();
            let keyframe = p.adaptation.is_some_and(|a| a.random_access);
            let kept = &data[..data.len().min(limit)];
            self.streams[i].pes =
                Some(OpenPes { header, keyframe, with_sets: false, data: kept.to_vec(), total: data.len(), last: at, broken: false });
        } else if let Some(pes) = &mut self.streams[i].pes {
            pes.broken |= indexed.gap;
            pes.add(payload, limit, at);
        } else if !payload.is_empty() {
            // More of a unit that was taken as ended.
            self.streams[i].stuffs_anywhere = true;
        }
        if let (Some(pes), Some(picture)) = (&mut self.streams[i].pes, indexed.picture) {
            // Some encoders never set the flag.
            pes.keyframe |= picture.keyframe;
            pes.with_sets = picture.with_sets == Some(true);
        }
        // A unit without a length ends where the next begins, a frame later; but its last packet is
        // the only one that writers have to stuff.
        let stuffed = p.stuffed() && !self.streams[i].stuffs_anywhere;
        let ended = |pes: &OpenPes| pes.header.payload_bytes.map_or(stuffed, |n| pes.total >= n);
        let complete = self.streams[i].pes.as_ref().is_some_and(ended);
        if complete && let Some(pes) = self.streams[i].pes.take() {
            self.finish_unit(i, pes);
        }
    }

    /// Takes the payloads of plain packets.
    fn plain(&mut self, i: usize, packets: &[Raw], at: i64) {
        let limit = self.limit();
        for (n, raw) in packets.iter().enumerate() {
            let stream = &mut self.streams[i];
            let Some(pes) = &mut stream.pes else {
                stream.stuffs_anywhere = true;
                return;
            };
            if pes.header.payload_bytes.is_none() && pes.data.len() >= limit {
                // Nothing more of it is kept, and it does not say where it ends.
                pes.total += (packets.len() - n) * (TS_PACKET - HEADER);
                pes.last = at;
                return;
            }
            pes.add(&raw[HEADER..], limit, at);
            if pes.header.payload_bytes.is_some_and(|n| pes.total >= n)
                && let Some(pes) = stream.pes.take()
            {
                self.finish_unit(i, pes);
            }
        }
    }

    fn finish_unit(&mut self, i: usize, pes: OpenPes) {
        let StreamInfo { pid, kind, .. } = self.streams[i].info;
        let first_video = self.streams.iter().position(|s| s.info.kind.is_video()) == Some(i);
        let head = &pes.data[..pes.data.len().min(HEAD)];
        if first_video {
            let time = pes.header.dts.or(pes.header.pts);
            self.note_frame(&Frame { kind, time, keyframe: pes.keyframe, with_sets: pes.with_sets, head, came: pes.last });
        } else {
            self.note_sound(kind, head);
        }
        // A unit with a hole in it is of no use to a decoder.
        if self.depth == Depth::Units && !pes.broken && pes.total <= UNIT_MAX {
            if self.units.len() == UNITS_MAX {
                self.units.pop_front();
            }
            let PesHeader { pts, dts, .. } = pes.header;
            self.units.push_back(AccessUnit {
                pid,
                kind,
                pts,
                dts,
                keyframe: pes.keyframe,
                arrived: pes.last,
                data: pes.data.into(),
                format: self.format.clone(),
            });
        }
    }

    /// Takes a unit of a source that comes in units, at `at`.
    pub fn unit(&mut self, at: i64, format: &UnitFormat, unit: &TimedUnit) {
        let mut head = Vec::new();
        for piece in &unit.pieces {
            head.extend_from_slice(&piece[..piece.len().min(HEAD - head.len())]);
        }
        let time = unit.dts.or(Some(unit.pts));
        let size = unit.pieces.iter().map(Bytes::len).sum();
        self.of_format(format, size, &Frame { kind: unit.kind, time, keyframe: unit.keyframe, with_sets: false, head: &head, came: at });
    }

    /// Takes a unit that is in one.
    pub fn joined(&mut self, unit: &AccessUnit) {
        let head = &unit.data[..unit.data.len().min(HEAD)];
        let time = unit.dts.or(unit.pts);
        let frame = Frame { kind: unit.kind, time, keyframe: unit.keyframe, with_sets: false, head, came: unit.arrived };
        self.of_format(&unit.format, unit.data.len(), &frame);
    }

    fn of_format(&mut self, format: &UnitFormat, size: usize, frame: &Frame<'_>) {
        let pid = |kind: StreamKind| if kind.is_video() { VIDEO_PID } else { AUDIO_PID };
        let wanted = format.video().into_iter().chain(format.audio()).map(|kind| (pid(kind), kind));
        if !wanted.clone().eq(self.streams.iter().map(|s| (s.info.pid, s.info.kind))) {
            self.streams = wanted.map(|(pid, kind)| Stream::new(StreamInfo { pid, kind, bytes: 0 })).collect();
            self.video.format = None;
        }
        let Some(stream) = self.streams.iter_mut().find(|s| s.info.kind == frame.kind) else { return };
        stream.info.bytes += size as u64;
        if frame.kind.is_video() {
            self.note_frame(&Frame { with_sets: first_slice(frame.kind, frame.head).1, ..*frame });
        } else {
            self.note_sound(frame.kind, frame.head);
        }
    }

    fn note_sound(&mut self, kind: StreamKind, head: &[u8]) {
        if self.audio.is_none() {
            self.audio = match kind {
                StreamKind::AacAdts => adts::parse(head).map(|h| (h.sample_rate, h.channels)),
                // Two channels for each of its steps; the rate is fixed.
                StreamKind::St302 => head.get(2).map(|b| (ST302_RATE, (b >> 6) * 2 + 2)),
                _ => None,
            };
        }
    }

    fn note_frame(&mut self, f: &Frame<'_>) {
        self.video.frames += 1;
        if let (Some(now), Some(last)) = (f.time, self.last_time) {
            self.faults.pts += u64::from(!(1..=FRAME_STEP_MAX).contains(&wrapped_distance(now, last, PTS_WRAP)));
        }
        self.last_time = f.time;
        if f.keyframe {
            self.video.keyframes += 1;
            if let (Some(now), Some((then, frames))) = (f.time, self.last_keyframe) {
                let ticks = wrapped_distance(now, then, PTS_WRAP);
                let count = self.video.frames - frames;
                // Longer than a minute is a jump of the clock, not a keyframe interval.
                if ticks > 0 && ticks < 90_000 * 60 {
                    self.video.measured_rate = Some(count as f64 * 90_000.0 / ticks as f64);
                    self.video.keyframe_frames = Some(count as u32);
                    self.video.keyframe_ms = Some((ticks / 90) as u32);
                }
            }
            self.last_keyframe = f.time.map(|t| (t, self.video.frames));
        }
        if f.keyframe {
            self.video.has_sets |= f.with_sets;
            self.video.format = format_in(f.kind, f.head).or(self.video.format.take());
        }
        if let Some(stamp) = f.kind.find_stamp(f.head) {
            let came = f.came + self.utc_offset;
            self.video.stamp = Some((stamp, came));
            if self.delays.len() == DELAYS {
                self.delays.pop_front();
            }
            self.delays.push_back(came - stamp.unix_us as i64);
        }
    }
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
