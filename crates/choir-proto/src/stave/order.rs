//! Units as they were made (section 6): streams overtake each other, what is late is not waited for
//! long.

use super::{
    Grade,
    unit::{Track, UnitHead},
};
use std::{
    collections::{BTreeMap, VecDeque},
    time::{Duration, Instant},
};

/// Units and bytes held of one track while an earlier one is awaited.
const HELD: usize = 256;
const HELD_BYTES: u64 = 32 << 20;
/// Units kept of a turn that has not been told.
const EARLY: usize = 16;

/// A unit in its order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ordered<T> {
    /// What stands before it.
    pub head: UnitHead,
    /// Its payload.
    pub data: T,
    /// Units before it are missing.
    pub gap: bool,
}

#[derive(Debug)]
struct Lot<T> {
    next: Option<u32>,
    held: BTreeMap<u32, (Instant, UnitHead, T)>,
    bytes: u64,
    gap: bool,
}

impl<T> Lot<T> {
    const fn new(next: Option<u32>) -> Self {
        Self { next, held: BTreeMap::new(), bytes: 0, gap: false }
    }
}

/// Brings the units of one receiver in order.
#[derive(Debug)]
pub struct UnitOrder<T> {
    hold: Duration,
    turn: Option<u16>,
    joins_midway: bool,
    intra: bool,
    /// Pictures up to the next keyframe are of no use.
    broken: bool,
    lots: [Lot<T>; 3],
    out: VecDeque<Ordered<T>>,
    /// Of a turn that has not been told yet: streams overtake the control stream.
    early: Vec<(Instant, UnitHead, T)>,
    missing: u64,
    passed: u64,
    useless: u64,
}

impl<T> UnitOrder<T> {
    /// Waits at most `hold` for a unit that was overtaken.
    #[must_use]
    pub fn new(hold: Duration) -> Self {
        Self {
            hold,
            turn: None,
            joins_midway: false,
            intra: false,
            broken: false,
            lots: [Lot::new(None), Lot::new(None), Lot::new(None)],
            out: VecDeque::new(),
            early: Vec::new(),
            missing: 0,
            passed: 0,
            useless: 0,
        }
    }

    /// From now on units of this turn count. One that joins a group in the middle knows no first
    /// number.
    pub fn turn(&mut self, now: Instant, turn: u32, grade: Grade, joins_midway: bool) {
        // What is held of the ended turn stands behind a hole: pictures there lean on what did not
        // come.
        self.missing += self.lots.iter().map(|l| l.held.len() as u64).sum::<u64>();
        self.turn = Some(turn as u16);
        self.joins_midway = joins_midway;
        self.intra = grade == Grade::Intra;
        // A source that skips starts at a keyframe by itself; in a group everything goes by.
        self.broken = joins_midway;
        let next = (!joins_midway).then_some(0);
        self.lots = [Lot::new(next), Lot::new(next), Lot::new(next)];
        for (at, head, data) in std::mem::take(&mut self.early) {
            self.push(at.max(now), head, data);
        }
    }

    /// Takes a whole unit. One of an ended turn, a double, or one that was given up is left out.
    pub fn push(&mut self, now: Instant, head: UnitHead, data: T) {
        if Some(head.turn) != self.turn {
            let comes = self.turn.is_none_or(|t| (head.turn.wrapping_sub(t) as i16) > 0);
            if comes && self.early.len() < EARLY {
                self.early.push((now, head, data));
            } else {
                self.useless += 1;
            }
            return;
        }
        let lot = &mut self.lots[head.track as usize];
        let next = *lot.next.get_or_insert(head.number);
        if (head.number.wrapping_sub(next) as i32) < 0 || lot.held.contains_key(&head.number) {
            self.useless += 1;
            return;
        }
        // Much farther ahead than anything can be under way: the numbers mean nothing.
        if head.number.wrapping_sub(next) > 1 << 20 {
            self.useless += 1;
            return;
        }
        lot.bytes += u64::from(head.size);
        lot.held.insert(head.number, (now, head, data));
        self.release(head.track, now);
    }

    /// Gives up what is awaited for too long.
    pub fn handle_timeout(&mut self, now: Instant) {
        Track::ALL.into_iter().for_each(|t| self.release(t, now));
    }

    /// When to call `handle_timeout`.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.lots.iter().flat_map(|l| l.held.values().map(|(at, ..)| *at + self.hold)).min()
    }

    /// The next unit.
    pub fn poll(&mut self) -> Option<Ordered<T>> {
        self.out.pop_front()
    }

    /// Units given, missing, and of no use.
    #[must_use]
    pub const fn counts(&self) -> (u64, u64, u64) {
        (self.passed, self.missing, self.useless)
    }

    fn release(&mut self, track: Track, now: Instant) {
        loop {
            let hold = self.hold;
            let lot = &mut self.lots[track as usize];
            let Some(next) = lot.next else { return };
            // The nearest by distance: numbers wrap.
            let Some(first) = lot.held.keys().copied().min_by_key(|n| n.wrapping_sub(next)) else { return };
            if first != next {
                let waited = lot.held.values().any(|(at, ..)| now.saturating_duration_since(*at) >= hold);
                if !waited && lot.held.len() < HELD && lot.bytes < HELD_BYTES {
                    return;
                }
                self.missing += u64::from(first.wrapping_sub(next));
                lot.gap = true;
            }
            let Some((_, head, data)) = lot.held.remove(&first) else { return };
            lot.bytes -= u64::from(head.size);
            lot.next = Some(first.wrapping_add(1));
            let gap = std::mem::take(&mut lot.gap);
            if track == Track::Picture {
                self.broken |= gap && !self.intra;
                if self.broken && !head.keyframe {
                    self.missing += 1;
                    continue;
                }
                self.broken = false;
            }
            self.passed += 1;
            self.out.push_back(Ordered { head, data, gap });
        }
    }
}
