//! Tags of one publisher, as units in time.

use super::super::{
    Arrival, Intake,
    status::{Counters, LinkStatus},
};
use choir_core::facts::Notice;
use choir_proto::{
    media::{Codec, MediaUnit},
    rtmp::{Tag, TagReader, TagUnit},
    sequence::{SequencedTrack, Sequencer},
    ts::{PTS_WRAP, StreamKind, Timed},
};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

/// What the clock of the units runs behind: what TCP over a wireless network may hold one of them
/// up.
const LEAD: Duration = Duration::from_millis(200);
/// How long the settings of sound are waited for, once there is a picture, and the other way round.
const OTHER_WAITS: Duration = Duration::from_millis(500);
const VIDEO: usize = 0;
const SOUND: usize = 1;
/// Bytes that are kept meanwhile.
const EARLY_MAX: usize = 4 << 20;
/// Things that are not carried, and are told.
const STRANGE_MAX: usize = 8;

/// Milliseconds of 32 bits, counted on.
#[derive(Debug, Default)]
struct LongTime(Option<(u32, i64)>);

impl LongTime {
    fn long(&mut self, time: u32) -> i64 {
        let long = self.0.map_or(i64::from(time), |(last, long)| long + i64::from(time.wrapping_sub(last) as i32));
        self.0 = Some((time, long));
        long
    }
}

pub(super) struct TagsIn {
    reader: TagReader,
    units: Option<Sequencer>,
    /// When the first settings came.
    since: Option<Instant>,
    /// What came before both settings did.
    early: Vec<TagUnit>,
    time: LongTime,
    /// A keyframe has come.
    begun: bool,
    session: Option<u32>,
    timed: Vec<Timed>,
    arrivals: Vec<Arrival>,
    strange: Vec<String>,
    stamps_told: (u64, u64),
    counters: Counters,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
}

impl TagsIn {
    pub fn new(intake: Arc<dyn Intake>, status: Arc<LinkStatus>) -> Self {
        let counters = status.look().counters;
        Self {
            reader: TagReader::default(),
            units: None,
            since: None,
            early: Vec::new(),
            time: LongTime::default(),
            begun: false,
            session: None,
            timed: Vec::new(),
            arrivals: Vec::new(),
            strange: Vec::new(),
            stamps_told: (0, 0),
            counters,
            intake,
            status,
        }
    }

    /// Takes an audio or video message.
    pub fn push(&mut self, now: Instant, kind: u8, time: u32, body: &[u8]) {
        self.counters.packets += 1;
        self.counters.bytes += body.len() as u64;
        match self.reader.push(kind, time, body) {
            Tag::Settings => {
                self.since.get_or_insert(now);
                // Another codec is another start; other settings of the same come with the
                // keyframe.
                if self.units.as_ref().is_some_and(|u| u.format().streams != self.streams()) {
                    (self.units, self.begun, self.session) = (None, false, None);
                }
            }
            Tag::Unit(unit) => self.unit(now, unit),
            Tag::Strange(what) => {
                if !self.strange.contains(&what) && self.strange.len() < STRANGE_MAX {
                    self.status.note(Notice::NotCarried(what.clone()));
                    self.strange.push(what);
                }
            }
            Tag::Nothing => {}
        }
    }

    fn streams(&self) -> Vec<StreamKind> {
        self.reader.video().into_iter().chain(self.reader.audio().map(|_| StreamKind::AacAdts)).collect()
    }

    fn tracks(&self) -> Vec<SequencedTrack> {
        let video = self.reader.video().map(|kind| if kind == StreamKind::H265 { Codec::H265 } else { Codec::H264 });
        let video = video.map(|codec| SequencedTrack { track: VIDEO, codec });
        let sound = self.reader.audio().map(|config| SequencedTrack { track: SOUND, codec: Codec::Aac(config) });
        video.into_iter().chain(sound).collect()
    }

    fn unit(&mut self, now: Instant, unit: TagUnit) {
        if self.units.is_some() {
            return self.in_time(now, &unit);
        }
        self.early.push(unit);
        let both = self.reader.video().is_some() && self.reader.audio().is_some();
        let waits = self.since.is_some_and(|since| now.saturating_duration_since(since) < OTHER_WAITS);
        if both || !waits || self.early.iter().map(|u| u.data.len()).sum::<usize>() > EARLY_MAX {
            self.units = Some(Sequencer::new(&self.tracks(), LEAD));
            self.stamps_told = (0, 0);
            std::mem::take(&mut self.early).iter().for_each(|unit| self.in_time(now, unit));
        }
    }

    fn in_time(&mut self, now: Instant, unit: &TagUnit) {
        let dts = self.time.long(unit.dts);
        let has_video = self.reader.video().is_some();
        self.begun |= unit.video && unit.keyframe || !has_video;
        if !self.begun {
            return;
        }
        let ticks = |ms: i64| (ms * 90).rem_euclid(PTS_WRAP as i64) as u64;
        let (pts, dts) = (ticks(dts + i64::from(unit.shown)), ticks(dts));
        let track = if unit.video { VIDEO } else { SOUND };
        let unit = MediaUnit {
            track,
            pts,
            dts: Some(dts),
            keyframe: unit.keyframe,
            damaged: false,
            arrived: now,
            pieces: vec![unit.data.clone()],
        };
        if let Some(units) = &mut self.units {
            units.push(now, &unit, &mut self.timed);
        }
    }

    /// Hands on what has come since, and keeps the clock running.
    pub fn flush(&mut self, now: Instant) {
        let Some(units) = &mut self.units else { return };
        units.handle_timeout(now, &mut self.timed);
        if !self.timed.is_empty() {
            let format = units.format().clone();
            let session = *self.session.get_or_insert_with(|| self.status.begin_session());
            self.arrivals.extend(Arrival::units(session, now, &format, &mut self.timed));
            self.intake.arrive(&mut self.arrivals);
        }
        let counters = self.counters;
        self.status.update(|l| (l.counters, l.read_at) = (counters, Some(now)));
        let stamps = (units.mended_stamps(), units.clock_moves());
        let told = std::mem::replace(&mut self.stamps_told, stamps);
        if stamps.1 > told.1 {
            self.status.note(Notice::ClockJumped);
        } else if stamps.0 > told.0 {
            self.status.note(Notice::StampsCorrected { new: stamps.0 - told.0, total: stamps.0 });
        }
    }

    /// When to call [`Self::flush`].
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.units.as_ref().and_then(Sequencer::poll_timeout)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Media;
    use choir_proto::{
        audio::aac_silence,
        rtmp::{OutTag, TagWriter},
        ts::{AccessUnit, UnitFormat, wrapped_distance},
    };
    use std::sync::Mutex;

    const SETS: &[u8] = &[
        0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
        0x80, 0x00, 0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
    ];

    /// Kind, presentation and decoding time of all that comes.
    #[derive(Default)]
    struct Times(Mutex<Vec<(StreamKind, u64, u64)>>);

    impl Intake for Times {
        fn arrive(&self, arrivals: &mut Vec<Arrival>) {
            let units = arrivals.drain(..).filter_map(|a| if let Media::Units(_, timed) = a.media { timed.unit } else { None });
            self.0.lock().expect("lock").extend(units.map(|u| (u.kind, u.pts, u.dts.unwrap_or(u.pts))));
        }
    }

    /// Picture `n`, of which one of three is a reference that is shown behind the other two; and
    /// the sound beside it.
    fn tags(writer: &mut TagWriter, n: u64, out: &mut Vec<OutTag>) {
        let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264, StreamKind::AacAdts] });
        let unit = |kind, pts, dts, keyframe, data: Vec<u8>| AccessUnit {
            pid: 256,
            kind,
            pts: Some(pts),
            dts: Some(dts),
            keyframe,
            arrived: 0,
            data: data.into(),
            format: format.clone(),
        };
        // Ten such threes behind each keyframe.
        let keyframe = n.is_multiple_of(31);
        let shown = match n % 31 % 3 {
            _ if keyframe => n,
            1 => n + 2,
            _ => n - 1,
        };
        let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88, 0x80];
        let picture = [if keyframe { SETS } else { &[] }, &head, &[0xA5; 40]].concat();
        let dts = n * 3600;
        writer.push(&unit(StreamKind::H264, (shown + 1) * 3600 % PTS_WRAP, dts % PTS_WRAP, keyframe, picture), out);
        // Sound of the same time, 1920 ticks each.
        for frame in (dts.div_ceil(1920))..(dts + 3600).div_ceil(1920) {
            let pts = frame * 1920 % PTS_WRAP;
            writer.push(&unit(StreamKind::AacAdts, pts, pts, true, aac_silence(48_000, 2)), out);
        }
    }

    #[test]
    fn an_hour_over_the_end_of_the_32_bits_keeps_order_and_step() {
        let times = Arc::new(Times::default());
        let mut input = TagsIn::new(times.clone(), LinkStatus::new());
        let (mut writer, mut made, start) = (TagWriter::default(), Vec::new(), Instant::now());
        // Half an hour before the 32 bits of a millisecond's number end.
        let moved = u32::MAX - 1_800_000;
        const PICTURES: u64 = 90_000;
        for n in 0..PICTURES {
            tags(&mut writer, n, &mut made);
            let now = start + Duration::from_millis(n * 40);
            for tag in made.drain(..) {
                input.push(now, tag.kind, tag.time.wrapping_add(moved), &tag.body);
            }
            input.flush(now);
        }
        let all = times.0.lock().expect("lock");
        let of = |kind| all.iter().filter(move |t| t.0 == kind).copied().collect::<Vec<_>>();
        let (pictures, sounds) = (of(StreamKind::H264), of(StreamKind::AacAdts));
        assert_eq!(pictures.len() as u64, PICTURES);
        for w in pictures.windows(2) {
            // Milliseconds are all that RTMP has: 90 ticks.
            let step = wrapped_distance(w[1].2, w[0].2, PTS_WRAP);
            assert!((1..=2 * 3600).contains(&step), "{w:?}");
            assert!(wrapped_distance(w[1].1, w[1].2, PTS_WRAP) >= 0, "shown before it is decoded: {w:?}");
        }
        let mut shown: Vec<i64> = pictures.iter().map(|p| wrapped_distance(p.1, pictures[0].1, PTS_WRAP)).collect();
        shown.sort_unstable();
        assert!(shown.windows(2).all(|w| (w[1] - w[0] - 3600).abs() <= 90), "each picture has its place");
        assert!(sounds.windows(2).all(|w| (wrapped_distance(w[1].1, w[0].1, PTS_WRAP) - 1920).abs() <= 90), "no sound is missing");
        // From the first to the last they have stayed together.
        let apart = |p: &(StreamKind, u64, u64), s: &(StreamKind, u64, u64)| wrapped_distance(p.1, s.1, PTS_WRAP);
        let (first, last) = (apart(&pictures[0], &sounds[0]), apart(&pictures[pictures.len() - 1], &sounds[sounds.len() - 1]));
        assert!((first - last).abs() < 3600 + 1920 + 900, "{first} {last}");
    }
}
