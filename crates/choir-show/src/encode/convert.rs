//! Units of a feed in, units of another size, rate and bitrate out: decoded, fitted, laid over and
//! encoded. Times stay as they are; sound goes through.

use super::{
    canvas::Canvas,
    overlay::Drawn,
    pace::Pace,
    pictures::{Pictures, Spend},
};
use crate::{planes::Planes, still::Decoder};
use bytes::Bytes;
use choir_core::model::Encode;
use choir_proto::ts::{AccessUnit, PTS_WRAP, StreamKind, TimedUnit, UnitFormat, wrapped_distance};
use std::{
    collections::VecDeque,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

/// Times further apart than this (2 s, 90 kHz) are of another beginning.
const JUMP: i64 = 180_000;
/// Pictures that a decoder may hold back.
const HELD_MOST: usize = 32;
/// Pictures a second, until it is known how many come.
const RATE_GUESS: f64 = 25.0;
/// Intervals that the rate is taken from, and how far it may be off before the encoder is told.
const INTERVALS: usize = 25;
const RATE_OFF: f64 = 0.1;
/// What comes later than this waits for the next keyframe, which is cheap.
const FAR_BEHIND: Duration = Duration::from_secs(1);

/// Encodes one feed's pictures anew.
pub(crate) struct Converter {
    plan: Encode,
    base: PathBuf,
    decoder: Option<(StreamKind, Decoder)>,
    /// Pictures come in another order than they are shown in.
    reorders: bool,
    /// What comes before the next keyframe cannot be decoded.
    waits: bool,
    /// Times of pictures that the decoder has, earliest first.
    times: VecDeque<u64>,
    last: Option<u64>,
    rate: Rate,
    /// The time from which on the next picture is taken.
    due: Option<u64>,
    output: Option<Output>,
    pace: Pace,
    format: (Arc<UnitFormat>, Arc<UnitFormat>),
    /// Pictures made, and pictures that there was no time for.
    pub made: u64,
    pub left_out: u64,
    /// An overlay that cannot be drawn.
    pub problem: Option<String>,
}

/// What pictures are made with.
struct Output {
    size: (usize, usize),
    rate: f64,
    pictures: Pictures,
    canvas: Canvas,
    overlays: Vec<Drawn>,
    /// Keyframe interval of the last picture, counted on the clock of the stream: all encodings of
    /// a feed have theirs at the same places.
    interval: Option<u64>,
}

/// Pictures a second, by their times.
#[derive(Default)]
struct Rate {
    last: Option<u64>,
    intervals: VecDeque<u64>,
}

impl Rate {
    fn note(&mut self, time: u64) {
        let apart = self.last.replace(time).map(|last| wrapped_distance(time, last, PTS_WRAP));
        if let Some(apart) = apart.filter(|apart| (1..JUMP).contains(apart)) {
            if self.intervals.len() == INTERVALS {
                self.intervals.pop_front();
            }
            self.intervals.push_back(apart as u64);
        }
    }

    fn get(&self) -> Option<f64> {
        // Without the longest and shortest: a pause says nothing.
        let mut sorted: Vec<u64> = self.intervals.iter().copied().collect();
        sorted.sort_unstable();
        let usual = sorted.get(INTERVALS / 4..INTERVALS - INTERVALS / 4).filter(|_| sorted.len() == INTERVALS)?;
        Some(90_000.0 * usual.len() as f64 / usual.iter().sum::<u64>() as f64)
    }

    /// Of those that come at most so many.
    fn wanted(&self, most: Option<f64>) -> f64 {
        match (self.get(), most) {
            (Some(comes), Some(most)) => comes.min(most),
            (comes, most) => comes.or(most).unwrap_or(RATE_GUESS),
        }
    }
}

impl Converter {
    /// Images of overlays are found from `base`.
    pub fn new(plan: Encode, base: &Path) -> Self {
        Self {
            plan,
            base: base.to_owned(),
            decoder: None,
            reorders: false,
            waits: true,
            times: VecDeque::new(),
            last: None,
            rate: Rate::default(),
            due: None,
            output: None,
            pace: Pace::default(),
            format: Default::default(),
            made: 0,
            left_out: 0,
            problem: None,
        }
    }

    /// What its units are.
    pub fn format(&self) -> &Arc<UnitFormat> {
        &self.format.1
    }

    /// Size of its pictures.
    pub fn size(&self) -> Option<(usize, usize)> {
        self.output.as_ref().map(|o| o.size)
    }

    /// Takes a unit that comes so much later than it should, and gives what comes of it; the first
    /// picture of that becomes a keyframe if it has to be.
    ///
    /// # Errors
    /// Pictures cannot be encoded.
    pub fn push(&mut self, unit: &AccessUnit, late: Duration, keyframe: &mut bool) -> Result<Vec<TimedUnit>, String> {
        self.note_format(&unit.format);
        let Some(pts) = unit.pts else { return Ok(Vec::new()) };
        if !unit.kind.is_video() {
            let pieces = vec![unit.data.clone()];
            return Ok(vec![TimedUnit { kind: unit.kind, pts, dts: unit.dts, keyframe: unit.keyframe, pieces }]);
        }
        let begun = Instant::now();
        let pictures = self.decode(unit, pts, late);
        self.pace.note_each(begun.elapsed());
        let mut out = Vec::new();
        for (pts, picture) in pictures {
            self.rate.note(pts);
            if !self.is_due(pts) {
                continue;
            }
            let begun = Instant::now();
            if !self.pace.takes(begun, late, Duration::from_secs_f64(1.0 / self.rate.wanted(self.plan.rate))) {
                self.left_out += 1;
                continue;
            }
            out.extend(self.encode(pts, picture, keyframe)?);
            self.pace.note_encoded(begun.elapsed());
        }
        Ok(out)
    }

    fn note_format(&mut self, format: &Arc<UnitFormat>) {
        if Arc::ptr_eq(&self.format.0, format) {
            return;
        }
        self.format.0 = format.clone();
        let sound = format.streams.iter().copied().filter(|kind| !kind.is_video());
        let streams: Vec<StreamKind> = std::iter::once(StreamKind::H264).chain(sound).collect();
        if self.format.1.streams != streams {
            self.format.1 = Arc::new(UnitFormat { streams });
        }
    }

    /// Pictures to be shown by now, with their times.
    fn decode(&mut self, unit: &AccessUnit, pts: u64, late: Duration) -> Vec<(u64, Planes)> {
        let same = self.decoder.as_ref().is_some_and(|(kind, _)| *kind == unit.kind);
        let reorders = unit.dts.is_some_and(|dts| dts != pts) || same && self.reorders;
        if !same || reorders != self.reorders {
            (self.decoder, self.reorders) = (Some((unit.kind, Decoder::of_stream(unit.kind, reorders))), reorders);
            self.waits = true;
            self.times.clear();
        }
        if late > FAR_BEHIND && !unit.keyframe {
            self.waits = true;
        }
        if self.waits && !unit.keyframe {
            self.left_out += u64::from(self.made > 0);
            return Vec::new();
        }
        self.waits = false;
        let at = unit.dts.unwrap_or(pts);
        if self.last.replace(at).is_some_and(|last| wrapped_distance(at, last, PTS_WRAP).abs() > JUMP) {
            // What is still held back is of the time before.
            self.times.clear();
            self.due = None;
        }
        let place = self.times.iter().rposition(|t| wrapped_distance(pts, *t, PTS_WRAP) >= 0).map_or(0, |n| n + 1);
        self.times.insert(place, pts);
        let mut shown = Vec::new();
        let Some((_, decoder)) = &mut self.decoder else { return shown };
        let times = &mut self.times;
        let decoded = decoder.stream(unit, reorders, |picture| shown.extend(times.pop_front().map(|time| (time, picture))));
        if decoded.is_err() || self.times.len() > HELD_MOST {
            // It is damaged, and so may be all up to the next keyframe.
            self.decoder = None;
            self.left_out += 1;
        }
        shown
    }

    /// Of more pictures than are wanted those come that are nearest to when one is due.
    fn is_due(&mut self, pts: u64) -> bool {
        let Some(most) = self.plan.rate else { return true };
        let interval = 90_000.0 / most;
        let due = self.due.unwrap_or(pts);
        let early = -wrapped_distance(pts, due, PTS_WRAP) as f64;
        // Half an interval of what comes, so that times that are not exact do not matter.
        if early > 22_500.0 / self.rate.get().unwrap_or(RATE_GUESS) {
            return false;
        }
        let next = (due + interval as u64) % PTS_WRAP;
        // After a pause it begins anew.
        let late = wrapped_distance(pts, next, PTS_WRAP) > interval as i64;
        self.due = Some(if late { (pts + interval as u64) % PTS_WRAP } else { next });
        true
    }

    fn encode(&mut self, pts: u64, picture: Planes, keyframe: &mut bool) -> Result<Option<TimedUnit>, String> {
        let rate = self.rate.wanted(self.plan.rate);
        let settled = self.rate.get().is_none() || self.output.as_ref().is_some_and(|o| (o.rate - rate).abs() <= RATE_OFF * rate);
        let output = match self.output.take() {
            Some(output) if settled => output,
            before => self.begin(before.map_or(picture.size, |o| o.size), rate)?,
        };
        let output = self.output.insert(output);
        let Some(mut picture) = output.canvas.fit(picture) else { return Ok(None) };
        output.overlays.iter_mut().for_each(|o| o.lay(&mut picture));
        let interval = pts / (self.plan.keyframe.as_millis() as u64 * 90).max(1);
        let begins = output.interval.replace(interval) != Some(interval);
        let (data, is_keyframe) = output.pictures.encode(&picture, begins || std::mem::take(keyframe))?;
        self.made += 1;
        Ok(Some(TimedUnit { kind: StreamKind::H264, pts, dts: None, keyframe: is_keyframe, pieces: vec![Bytes::from(data)] }))
    }

    /// What pictures are made with from now on, of the first one's size where none is set.
    fn begin(&mut self, first: (usize, usize), rate: f64) -> Result<Output, String> {
        let size = self.plan.size.map_or(first, |(w, h)| (w as usize, h as usize));
        let bitrate = self.plan.bitrate.unwrap_or_else(|| Encode::usual_bitrate((size.0 as u32, size.1 as u32), rate));
        // Keyframes come by the clock of the stream; the encoder's own count only stands behind it.
        let own = (self.plan.keyframe.as_secs_f64() * rate * 2.0).ceil() as u32 + 1;
        let pictures = Pictures::new(size, rate, own, Spend::Rate(bitrate.0.min(u64::from(u32::MAX)) as u32))?;
        self.problem = None;
        let mut overlays = Vec::new();
        for overlay in &self.plan.overlays {
            match Drawn::new(overlay, size, &self.base) {
                Ok(drawn) => overlays.push(drawn),
                Err(why) => self.problem = Some(why),
            }
        }
        Ok(Output { size, rate, pictures, canvas: Canvas::new(size, self.plan.stretch), overlays, interval: None })
    }
}
