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
        let pts = ((dts + i64::from(unit.shown)) * 90).rem_euclid(PTS_WRAP as i64) as u64;
        let track = if unit.video { VIDEO } else { SOUND };
        let unit = MediaUnit { track, pts, keyframe: unit.keyframe, damaged: false, arrived: now, pieces: vec![unit.data.clone()] };
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
