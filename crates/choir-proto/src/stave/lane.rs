//! What one receiver of a source is given (section 5): the grade that it asks for, a lower one
//! while it cannot keep up, nothing that is too late.

use super::{
    Ask, Grade, Play, StreamOffer,
    unit::{Timecode, Track, UnitHead},
};
use std::{
    collections::{BTreeMap, VecDeque},
    time::{Duration, Instant},
};

/// Late pictures within [`STRIKE_WINDOW`] that move a receiver to a lower grade.
const STRIKES: usize = 3;
const STRIKE_WINDOW: Duration = Duration::from_secs(5);
/// Without a late picture for so long, a better grade is tried; doubled each time that fails.
const CLIMB_FIRST: Duration = Duration::from_secs(10);
const CLIMB_MOST: Duration = Duration::from_secs(160);
/// Units under way to one receiver, and their bytes: beyond, it does not keep up.
const UNDER_WAY: usize = 128;
const UNDER_WAY_BYTES: u64 = 32 << 20;
/// Shortest and longest patience.
const PATIENCE: (Duration, Duration) = (Duration::from_millis(5), Duration::from_secs(2));

/// A unit that a source has.
#[derive(Debug, Clone, Copy)]
pub struct Offered {
    /// What it is part of.
    pub track: Track,
    /// Decoding can start here.
    pub keyframe: bool,
    /// Presentation time.
    pub pts: i64,
    /// When it was whole, µs since 1970.
    pub made_us: u64,
    /// Bytes.
    pub size: u32,
    /// Time code.
    pub timecode: Option<Timecode>,
}

/// What is to be done with a unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It goes out, and is cancelled when it has not arrived by then.
    Send {
        /// For [`Lane::done`] and [`Lane::late`].
        key: u64,
        /// What stands before it.
        head: UnitHead,
        /// Of no use later.
        until: Instant,
    },
    /// It does not concern this receiver, or not now.
    Skip,
}

fn patience_of(ask: &Ask) -> Duration {
    Duration::from_millis(ask.patience_ms.into()).clamp(PATIENCE.0, PATIENCE.1)
}

/// The way to one receiver.
#[derive(Debug)]
pub struct Lane {
    ask: Ask,
    patience: Duration,
    offered: Vec<StreamOffer>,
    current: Option<u8>,
    turn: u32,
    /// Pictures up to the next keyframe are left out.
    waits: bool,
    fresh: [bool; 3],
    numbers: [u32; 3],
    under_way: BTreeMap<u64, (Track, u32)>,
    bytes_under_way: u64,
    key: u64,
    strikes: VecDeque<Instant>,
    /// Steps below what was asked for.
    down: usize,
    climb_wait: Duration,
    climb_at: Option<Instant>,
    climbed: Option<Instant>,
    plays: VecDeque<Play>,
    late: u64,
}

impl Lane {
    /// For this wish. Nothing is given before a stream is offered that the receiver can use.
    #[must_use]
    pub fn new(ask: Ask, offered: &[StreamOffer]) -> Self {
        let mut lane = Self {
            patience: patience_of(&ask),
            ask,
            offered: offered.to_vec(),
            current: None,
            turn: 0,
            waits: true,
            fresh: [true; 3],
            numbers: [0; 3],
            under_way: BTreeMap::new(),
            bytes_under_way: 0,
            key: 0,
            strikes: VecDeque::new(),
            down: 0,
            climb_wait: CLIMB_FIRST,
            climb_at: None,
            climbed: None,
            plays: VecDeque::new(),
            late: 0,
        };
        lane.choose("asked");
        lane
    }

    /// Another wish for the same source.
    pub fn ask(&mut self, ask: Ask) {
        self.patience = patience_of(&ask);
        self.ask = ask;
        (self.down, self.climb_at, self.climb_wait) = (0, None, CLIMB_FIRST);
        self.choose("asked");
    }

    /// The wish.
    #[must_use]
    pub fn wish(&self) -> &Ask {
        &self.ask
    }

    /// True when there are streams, and the receiver can use none.
    #[must_use]
    pub fn unusable(&self) -> bool {
        !self.offered.is_empty() && self.usable().is_empty()
    }

    /// Takes what the source offers now. Streams that have only changed their bitrate are the same.
    pub fn set_offered(&mut self, offered: &[StreamOffer]) {
        let kind = |s: &StreamOffer| (s.id, s.grade, s.codec.clone(), s.size, s.sound.clone());
        let same = |id: u8| {
            let find = |l: &[StreamOffer]| l.iter().find(|s| s.id == id).map(kind);
            find(&self.offered) == find(offered)
        };
        let kept = self.current.is_some_and(same);
        self.offered = offered.to_vec();
        if !kept {
            self.current = None;
        }
        self.choose("changed");
    }

    /// Streams that the receiver can use, the one that it asks for first, then those below; those
    /// above only when there is nothing else.
    fn usable(&self) -> Vec<&StreamOffer> {
        let mut all: Vec<_> = self.offered.iter().filter(|s| self.ask.codecs.contains(&s.codec)).collect();
        all.sort_by_key(|s| (s.grade, s.id));
        let most = self.ask.grade.unwrap_or(Grade::Intra);
        if all.iter().any(|s| s.grade >= most) {
            all.retain(|s| s.grade >= most);
        } else {
            // The nearest above.
            all.reverse();
        }
        all
    }

    fn choose(&mut self, why: &str) {
        let usable = self.usable();
        let Some(chosen) = usable.get(self.down.min(usable.len().saturating_sub(1))).map(|s| (*s).clone()) else {
            self.current = None;
            return;
        };
        if self.current == Some(chosen.id) {
            return;
        }
        self.current = Some(chosen.id);
        self.turn = self.turn.wrapping_add(1);
        (self.waits, self.fresh, self.numbers) = (true, [true; 3], [0; 3]);
        self.plays.push_back(Play { turn: self.turn, source: self.ask.source.clone(), stream: chosen, why: why.into(), group: None });
        while self.plays.len() > 4 {
            self.plays.pop_front();
        }
    }

    /// What the receiver is to be told.
    pub fn poll_play(&mut self) -> Option<Play> {
        self.plays.pop_front()
    }

    /// Stream that is given.
    #[must_use]
    pub fn stream(&self) -> Option<u8> {
        self.current
    }

    /// Units cancelled for being late so far.
    #[must_use]
    pub fn late_units(&self) -> u64 {
        self.late
    }

    /// Judges a unit of a stream.
    pub fn offer(&mut self, now: Instant, stream: u8, unit: &Offered) -> Verdict {
        self.climb(now);
        if self.current != Some(stream) {
            return Verdict::Skip;
        }
        if unit.track == Track::Picture {
            if self.waits && !unit.keyframe {
                return Verdict::Skip;
            }
            if self.under_way.len() >= UNDER_WAY || self.bytes_under_way + u64::from(unit.size) > UNDER_WAY_BYTES {
                self.struck(now);
                return Verdict::Skip;
            }
            self.waits = false;
        } else if self.under_way.len() >= 2 * UNDER_WAY {
            return Verdict::Skip;
        }
        let t = unit.track as usize;
        let number = self.numbers[t];
        self.numbers[t] = number.wrapping_add(1);
        self.key += 1;
        self.under_way.insert(self.key, (unit.track, unit.size));
        self.bytes_under_way += u64::from(unit.size);
        let head = UnitHead {
            track: unit.track,
            keyframe: unit.keyframe,
            fresh: std::mem::take(&mut self.fresh[t]),
            turn: self.turn as u16,
            number,
            pts: unit.pts,
            made_us: unit.made_us,
            size: unit.size,
            timecode: unit.timecode,
        };
        Verdict::Send { key: self.key, head, until: now + self.patience }
    }

    fn forget(&mut self, key: u64) -> Option<Track> {
        let (track, size) = self.under_way.remove(&key)?;
        self.bytes_under_way -= u64::from(size);
        Some(track)
    }

    /// A unit has arrived.
    pub fn done(&mut self, key: u64) {
        self.forget(key);
    }

    /// A unit was cancelled, being too late.
    pub fn late(&mut self, now: Instant, key: u64) {
        if self.forget(key) == Some(Track::Picture) {
            self.late += 1;
            self.struck(now);
        }
    }

    fn grade(&self) -> Option<Grade> {
        self.offered.iter().find(|s| Some(s.id) == self.current).map(|s| s.grade)
    }

    fn struck(&mut self, now: Instant) {
        // The next picture of an intra stream needs none before it.
        self.waits |= self.grade() != Some(Grade::Intra);
        self.strikes.push_back(now);
        while self.strikes.front().is_some_and(|s| now.saturating_duration_since(*s) > STRIKE_WINDOW) {
            self.strikes.pop_front();
        }
        if self.climb_at.is_some() {
            self.climb_at = Some(now + self.climb_wait);
        }
        if self.strikes.len() >= STRIKES && self.down + 1 < self.usable().len() {
            if self.climbed.take().is_some_and(|c| now.saturating_duration_since(c) < CLIMB_FIRST) {
                self.climb_wait = (self.climb_wait * 2).min(CLIMB_MOST);
            }
            self.strikes.clear();
            self.down += 1;
            self.climb_at = Some(now + self.climb_wait);
            self.choose("slow");
        }
    }

    fn climb(&mut self, now: Instant) {
        if self.climb_at.is_some_and(|at| at <= now) {
            self.down = self.down.saturating_sub(1);
            self.climbed = Some(now);
            self.climb_at = (self.down > 0).then(|| now + self.climb_wait);
            self.choose("better");
        }
    }
}
