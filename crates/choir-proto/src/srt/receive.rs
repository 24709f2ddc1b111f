//! The receive buffer: puts packets back into order, knows what is missing and when to say so, and
//! releases each packet when it is due.

use super::{
    Seq,
    timebase::TimeBase,
    wire::{LossList, MAX_LOSS_RANGES},
};
use bytes::Bytes;
use std::collections::VecDeque;

/// Reports are never repeated faster than this (draft, periodic NAK).
const REPORT_MIN_US: i64 = 20_000;
/// More slots than this are gone through only so many for each µs since the last time: a whole
/// window once a millisecond, however many holes a peer makes.
const SLOTS_AT_ONCE: usize = 1024;
const SLOTS_PER_US: usize = 8;
/// Bytes of a range in a report.
const RANGE: usize = 8;
/// Ranges of skipped packets that are remembered, to tell a late packet from a duplicate.
const REMEMBERED: usize = 64;

#[derive(Debug)]
pub(super) struct Held {
    pub ts: i64,
    /// When it came.
    pub came: i64,
    pub payload: Bytes,
}

#[derive(Debug)]
enum Slot {
    Missing {
        noticed: i64,
        next_report: i64,
    },
    /// The sender said that it will not come.
    Gone,
    Have(Held),
}

/// What became of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Arrival {
    /// In order or ahead, `gap` packets missing before it.
    New {
        gap: u32,
    },
    /// Filled a hole by retransmission.
    Recovered,
    /// Filled a hole by itself.
    Reordered,
    Duplicate,
    /// Its place had been skipped.
    Late,
    /// Further ahead than the window.
    Beyond,
}

/// A packet due for delivery.
#[derive(Debug)]
pub(super) struct Released {
    pub seq: Seq,
    pub held: Held,
    /// When it could be released: its time, or when it came, if that was later.
    pub due: i64,
    /// Packets skipped just before it.
    pub skipped: u32,
}

#[derive(Debug)]
pub(super) struct ReceiveBuffer {
    next: Seq,
    slots: VecDeque<Slot>,
    window: usize,
    /// Slots from the front without a hole.
    contiguous: usize,
    /// Slots before the first packet held: all of them when none is.
    holes_ahead: usize,
    /// No packet is held behind the first one and before this slot, so that a hole is looked at
    /// once, however it is filled.
    second_from: usize,
    missing: u32,
    /// Slots from here on were never reported.
    unreported: usize,
    next_report: i64,
    /// When one that was reported may be due again.
    repeat_at: i64,
    reorder: i64,
    reorder_limit: i64,
    reorder_seen: i64,
    skipped: VecDeque<(Seq, Seq)>,
    pub skipped_total: u64,
    drop_late: bool,
}

impl ReceiveBuffer {
    pub fn new(first: Seq, window: u32, reorder_limit: i64, drop_late: bool) -> Self {
        Self {
            next: first,
            slots: VecDeque::new(),
            window: window as usize,
            contiguous: 0,
            holes_ahead: 0,
            second_from: 0,
            missing: 0,
            unreported: 0,
            next_report: i64::MAX,
            repeat_at: i64::MAX,
            reorder: 0,
            reorder_limit,
            reorder_seen: 0,
            skipped: VecDeque::new(),
            skipped_total: 0,
            drop_late,
        }
    }

    /// First sequence number not received: what an acknowledgement says.
    pub fn ack(&self) -> Seq {
        self.next.add(self.contiguous as u32)
    }
    /// Packets that there is room for from that one on.
    pub fn free(&self) -> u32 {
        self.window.saturating_sub(self.contiguous) as u32
    }
    pub fn held(&self) -> u32 {
        self.slots.len() as u32
    }
    pub fn is_empty(&self) -> bool {
        self.holes_ahead == self.slots.len()
    }

    /// True when a packet of this number would be taken, so that junk is not decrypted.
    pub fn wants(&self, seq: Seq) -> bool {
        let d = seq.distance_from(self.next);
        d >= 0 && (d as usize) < self.window && !matches!(self.slots.get(d as usize), Some(Slot::Have(_)))
    }

    pub fn insert(&mut self, now: i64, seq: Seq, held: Held, resent: bool) -> Arrival {
        let d = seq.distance_from(self.next);
        if d < 0 {
            let was_skipped = self.skipped.iter().any(|&(a, b)| seq.distance_from(a) >= 0 && b.distance_from(seq) >= 0);
            return if was_skipped { Arrival::Late } else { Arrival::Duplicate };
        }
        let index = d as usize;
        if index >= self.window {
            return Arrival::Beyond;
        }
        if index >= self.slots.len() {
            let gap = (index - self.slots.len()) as u32;
            let first_report = now + self.reorder;
            let was_empty = self.is_empty();
            for _ in 0..gap {
                self.slots.push_back(Slot::Missing { noticed: now, next_report: first_report });
            }
            if gap > 0 {
                self.missing += gap;
                self.next_report = self.next_report.min(first_report);
            }
            if was_empty {
                (self.holes_ahead, self.second_from) = (index, index + 1);
            }
            self.slots.push_back(Slot::Have(held));
            self.advance();
            return Arrival::New { gap };
        }
        let slot = &mut self.slots[index];
        let arrival = match slot {
            Slot::Have(_) => return Arrival::Duplicate,
            Slot::Gone => Arrival::Recovered,
            Slot::Missing { noticed, .. } => {
                self.missing -= 1;
                if self.missing == 0 {
                    self.next_report = i64::MAX;
                }
                if resent {
                    Arrival::Recovered
                } else {
                    // It came by itself: wait about that long before reporting the next gap.
                    let lateness = (now - *noticed) * 5 / 4;
                    self.reorder = self.reorder.max(lateness.min(self.reorder_limit));
                    self.reorder_seen = now;
                    Arrival::Reordered
                }
            }
        };
        *slot = Slot::Have(held);
        if index < self.holes_ahead {
            (self.second_from, self.holes_ahead) = (self.holes_ahead, index);
        } else {
            self.second_from = self.second_from.min(index);
        }
        self.advance();
        arrival
    }

    fn advance(&mut self) {
        while matches!(self.slots.get(self.contiguous), Some(Slot::Have(_) | Slot::Gone)) {
            self.contiguous += 1;
        }
    }

    /// The sender no longer has these.
    pub fn handle_drop(&mut self, first: Seq, last: Seq) {
        if last.distance_from(first) < 0 || last.distance_from(self.next) < 0 {
            return;
        }
        let from = first.distance_from(self.next).max(0) as usize;
        let to = last.distance_from(self.next) as usize;
        for slot in self.slots.iter_mut().take(to.saturating_add(1)).skip(from) {
            if matches!(slot, Slot::Missing { .. }) {
                *slot = Slot::Gone;
                self.missing -= 1;
            }
        }
        if to >= self.slots.len() && from <= self.slots.len() {
            if self.is_empty() && self.missing == 0 {
                let count = to as u32 + 1;
                self.note_skipped(count);
                self.slots.clear();
                self.front_gone(usize::MAX);
                self.next = last.add(1);
                return;
            }
            let was_empty = self.is_empty();
            while self.slots.len() <= to && self.slots.len() < self.window {
                self.slots.push_back(Slot::Gone);
            }
            if was_empty {
                (self.holes_ahead, self.second_from) = (self.slots.len(), self.slots.len());
            }
        }
        self.advance();
    }

    fn note_skipped(&mut self, count: u32) {
        self.skipped_total += u64::from(count);
        if self.skipped.len() == REMEMBERED {
            self.skipped.pop_front();
        }
        self.skipped.push_back((self.next, self.next.add(count - 1)));
    }

    /// So many slots are gone from the front.
    fn front_gone(&mut self, count: usize) {
        for index in [&mut self.contiguous, &mut self.holes_ahead, &mut self.second_from, &mut self.unreported] {
            *index = index.saturating_sub(count);
        }
    }

    /// Index and timestamp of the first packet held.
    fn first_held(&self) -> Option<(usize, i64)> {
        match self.slots.get(self.holes_ahead)? {
            Slot::Have(h) => Some((self.holes_ahead, h.ts)),
            _ => None,
        }
    }

    /// When the next packet is to be released.
    pub fn next_due(&self, base: &TimeBase) -> Option<i64> {
        let (index, ts) = self.first_held()?;
        let passable = index == 0 || self.drop_late || index <= self.contiguous;
        passable.then(|| base.due(ts))
    }

    /// Takes the next packet that is due; skips a hole when the packet after it is due. One without
    /// a hole before it may go `ahead` of its time.
    pub fn release(&mut self, now: i64, ahead: i64, base: &TimeBase) -> Option<Released> {
        let (index, ts) = self.first_held()?;
        let (due, by) = (base.due(ts), now + if index == 0 { ahead } else { 0 });
        if due > by || !(index == 0 || self.drop_late || index <= self.contiguous) {
            return None;
        }
        if index > 0 {
            let missing = self.slots.iter().take(index).filter(|s| matches!(s, Slot::Missing { .. })).count();
            self.missing -= missing as u32;
            self.note_skipped(index as u32);
            self.slots.drain(..index);
            self.next = self.next.add(index as u32);
            self.front_gone(index);
            self.advance();
        }
        let seq = self.next;
        match self.slots.pop_front() {
            Some(Slot::Have(held)) => {
                self.next = self.next.add(1);
                self.front_gone(1);
                let hole = self.slots.range(self.second_from..).take_while(|s| !matches!(s, Slot::Have(_))).count();
                self.holes_ahead = self.second_from + hole;
                self.second_from = (self.holes_ahead + 1).min(self.slots.len());
                let due = due.max(held.came);
                Some(Released { seq, held, due, skipped: index as u32 })
            }
            _ => None,
        }
    }

    /// When the next loss report is due.
    pub fn report_at(&self) -> Option<i64> {
        (self.missing > 0).then_some(self.next_report)
    }

    /// Packets to report now, as many as a packet of `most` bytes has room for; those reported are
    /// due again after half a round trip and its variation, so that a lost report costs half a
    /// round trip, not a whole one.
    pub fn poll_report(&mut self, now: i64, patience: i64, most: usize) -> Option<LossList> {
        // Without fresh reordering the tolerance melts within a few seconds.
        if self.reorder > 0 && now - self.reorder_seen > 1_000_000 {
            self.reorder = self.reorder * 7 / 8;
            self.reorder_seen = now;
        }
        if self.missing == 0 || now < self.next_report {
            return None;
        }
        let again = now + if patience >= 2 * REPORT_MIN_US { patience / 2 } else { patience.max(REPORT_MIN_US) };
        let mut report = Report { list: LossList::default(), ranges: MAX_LOSS_RANGES.min(most / RANGE), next: self.next, now, again };
        let fresh = self.unreported.max(self.contiguous);
        if now >= self.repeat_at {
            let waiting = self.slots.range_mut(self.contiguous..fresh).enumerate();
            let earliest = waiting.filter_map(|(n, slot)| report.take(self.contiguous + n, slot)).min().unwrap_or(i64::MAX);
            let many = (fresh - self.contiguous).saturating_sub(SLOTS_AT_ONCE);
            self.repeat_at = earliest.max(now + (many / SLOTS_PER_US) as i64);
        }
        // Of the others the first that is not due yet comes first.
        let mut rest = self.slots.range_mut(fresh..).enumerate();
        let left = rest.find_map(|(n, slot)| report.take(fresh + n, slot).filter(|at| *at < again).map(|at| (n, at)));
        self.unreported = left.map_or(self.slots.len(), |(n, _)| fresh + n);
        if self.unreported > fresh {
            self.repeat_at = self.repeat_at.min(again);
        }
        self.next_report = self.repeat_at.min(left.map_or(i64::MAX, |(_, at)| at));
        (!report.list.0.is_empty()).then_some(report.list)
    }
}

/// A loss report in the making.
struct Report {
    list: LossList,
    /// Most ranges in it.
    ranges: usize,
    next: Seq,
    now: i64,
    /// When what is reported now is due again.
    again: i64,
}

impl Report {
    /// Reports a slot if it is due and there is room for it. Gives when it is due then, if it is
    /// missing.
    fn take(&mut self, index: usize, slot: &mut Slot) -> Option<i64> {
        let Slot::Missing { next_report, .. } = slot else { return None };
        if *next_report <= self.now {
            let seq = self.next.add(index as u32);
            let extends = self.list.0.last().is_some_and(|&(_, last)| last.add(1) == seq);
            if extends || self.list.0.len() < self.ranges {
                self.list.push(seq);
                *next_report = self.again;
            }
        }
        Some(*next_report)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LATENCY: i64 = 100_000;

    fn buffer(window: u32) -> (ReceiveBuffer, TimeBase) {
        (ReceiveBuffer::new(Seq::new(10), window, 20_000, true), TimeBase::new(0, 0, LATENCY))
    }

    fn held(ts: i64) -> Held {
        Held { ts, came: 0, payload: Bytes::from_static(b"x") }
    }

    fn put(b: &mut ReceiveBuffer, now: i64, seq: u32, resent: bool) -> Arrival {
        b.insert(now, Seq::new(seq), held(i64::from(seq) * 1000), resent)
    }

    fn seqs(list: &LossList) -> Vec<(u32, u32)> {
        list.0.iter().map(|(a, b)| (a.raw(), b.raw())).collect()
    }

    #[test]
    fn packets_in_order_are_acknowledged_and_released_when_due() {
        let (mut b, base) = buffer(64);
        assert_eq!(put(&mut b, 0, 10, false), Arrival::New { gap: 0 });
        assert_eq!(put(&mut b, 0, 11, false), Arrival::New { gap: 0 });
        assert_eq!((b.ack(), b.held()), (Seq::new(12), 2));
        assert_eq!(b.next_due(&base), Some(10_000 + LATENCY));
        assert!(b.release(10_000 + LATENCY - 1, 0, &base).is_none());
        let r = b.release(10_000 + LATENCY, 0, &base).expect("due");
        assert_eq!((r.seq, r.skipped, r.due), (Seq::new(10), 0, 10_000 + LATENCY));
        assert!(b.release(10_000 + LATENCY, 0, &base).is_none(), "the next is due a millisecond later");
    }

    #[test]
    fn a_gap_is_reported_at_once_and_again_after_half_the_patience() {
        let (mut b, _) = buffer(64);
        put(&mut b, 0, 10, false);
        assert_eq!(put(&mut b, 1000, 14, false), Arrival::New { gap: 3 });
        assert_eq!(b.report_at(), Some(1000));
        let list = b.poll_report(1000, 60_000, 1456).expect("a report");
        assert_eq!(seqs(&list), [(11, 13)]);
        assert!(b.poll_report(1000, 60_000, 1456).is_none(), "once");
        assert_eq!(put(&mut b, 20_000, 12, true), Arrival::Recovered);
        assert_eq!(b.report_at(), Some(31_000));
        assert_eq!(seqs(&b.poll_report(31_000, 60_000, 1456).expect("again")), [(11, 11), (13, 13)]);
        assert_eq!(b.ack(), Seq::new(11));
        put(&mut b, 40_000, 11, true);
        put(&mut b, 40_000, 13, true);
        assert_eq!((b.ack(), b.report_at()), (Seq::new(15), None));
    }

    #[test]
    fn a_short_round_trip_is_never_reported_faster_than_the_draft_allows() {
        let (mut b, _) = buffer(64);
        put(&mut b, 0, 10, false);
        put(&mut b, 0, 12, false);
        b.poll_report(0, 3_000, 1456);
        assert_eq!(b.report_at(), Some(REPORT_MIN_US));
    }

    #[test]
    fn reordering_raises_a_tolerance_that_melts_again() {
        let (mut b, _) = buffer(4096);
        put(&mut b, 0, 10, false);
        put(&mut b, 1000, 12, false);
        assert_eq!(put(&mut b, 5000, 11, false), Arrival::Reordered);
        put(&mut b, 6000, 14, false);
        assert_eq!(b.report_at(), Some(6000 + 5000), "it came 4 ms late: the next gap is given 5 ms");
        let mut now = 6000;
        for _ in 0..60 {
            now += 1_100_000;
            b.poll_report(now, 60_000, 1456);
        }
        put(&mut b, now, 16, false);
        assert!(b.report_at().is_some_and(|t| t <= now + 100), "after a minute without it, gaps are reported at once");
        // One that was away for a second does not hold back every report from then on.
        let (mut b, _) = buffer(64);
        put(&mut b, 0, 10, false);
        put(&mut b, 0, 12, false);
        put(&mut b, 1_000_000, 11, false);
        put(&mut b, 1_000_000, 14, false);
        assert_eq!(b.report_at(), Some(1_000_000 + 20_000), "the limit");
    }

    #[test]
    fn a_hole_is_skipped_when_the_packet_after_it_is_due_and_late_comers_are_told_from_doubles() {
        let (mut b, base) = buffer(64);
        put(&mut b, 0, 10, false);
        put(&mut b, 0, 13, false);
        b.release(110_000, 0, &base).expect("the first");
        assert_eq!(b.next_due(&base), Some(113_000));
        let r = b.release(113_000, 0, &base).expect("past the hole");
        assert_eq!((r.seq, r.skipped, b.skipped_total), (Seq::new(13), 2, 2));
        assert_eq!(put(&mut b, 114_000, 11, true), Arrival::Late);
        assert_eq!(put(&mut b, 114_000, 13, false), Arrival::Duplicate);
        assert_eq!((b.ack(), b.report_at()), (Seq::new(14), None));
    }

    #[test]
    fn what_has_no_hole_before_it_may_go_ahead_of_its_time() {
        let (mut b, base) = buffer(64);
        for seq in [10, 11, 13] {
            put(&mut b, 0, seq, false);
        }
        let mut ahead = |now: i64, by| b.release(now + LATENCY, by, &base).map(|r| (r.seq.raw(), r.due - LATENCY));
        assert_eq!(ahead(9_000, 999), None);
        assert_eq!(ahead(9_000, 1_000), Some((10, 10_000)), "its own time is told");
        assert_eq!(ahead(10_500, 1_000), Some((11, 11_000)));
        assert_eq!(ahead(12_999, 1_000), None, "what is missing before it may still come");
        assert_eq!(ahead(13_000, 1_000), Some((13, 13_000)));
    }

    #[test]
    fn without_late_drop_a_hole_is_waited_for_until_the_sender_gives_it_up() {
        let mut b = ReceiveBuffer::new(Seq::new(10), 64, 0, false);
        let base = TimeBase::new(0, 0, LATENCY);
        put(&mut b, 0, 12, false);
        assert_eq!(b.next_due(&base), None);
        assert!(b.release(10_000_000, 0, &base).is_none());
        b.handle_drop(Seq::new(10), Seq::new(11));
        assert_eq!(b.report_at(), None, "what the sender has given up is not asked for");
        assert_eq!(b.release(10_000_000, 0, &base).map(|r| (r.seq, r.skipped)), Some((Seq::new(12), 2)));
    }

    #[test]
    fn a_jump_beyond_the_window_is_ignored_and_a_drop_request_moves_an_empty_buffer() {
        let (mut b, _) = buffer(64);
        assert_eq!(put(&mut b, 0, 10 + 64, false), Arrival::Beyond);
        assert!(!b.wants(Seq::new(10 + 64)) && b.wants(Seq::new(10 + 63)));
        b.handle_drop(Seq::new(10), Seq::new(5000));
        assert_eq!((b.ack(), b.skipped_total), (Seq::new(5001), 4991));
        // Backwards and past ranges are junk.
        b.handle_drop(Seq::new(6000), Seq::new(5500));
        b.handle_drop(Seq::new(1), Seq::new(20));
        assert_eq!((b.ack(), b.held()), (Seq::new(5001), 0));
    }

    #[test]
    fn a_report_holds_what_one_datagram_carries() {
        let (mut b, _) = buffer(4096);
        for n in 0..1000 {
            put(&mut b, 0, 10 + n * 2, false);
        }
        let first = b.poll_report(0, 60_000, 1456).expect("a report");
        assert_eq!(first.0.len(), MAX_LOSS_RANGES);
        let second = b.poll_report(0, 60_000, 1456).expect("the rest follows at once");
        assert_eq!(second.0[0].0, first.0[MAX_LOSS_RANGES - 1].1.add(2));
        assert_eq!(b.poll_report(0, 60_000, 188).expect("more").0.len(), 23, "what the peer's MSS leaves room for");
    }

    #[test]
    fn a_hole_is_looked_at_once_however_it_is_filled() {
        let (mut b, base) = buffer(8192);
        let due = |n: u32| i64::from(n) * 1000 + LATENCY;
        put(&mut b, 0, 10 + 8000, false);
        let mut released = Vec::new();
        for n in 10..4000 {
            put(&mut b, due(n), n, true);
            // The hole behind it, and the packet at its end, are known already.
            assert_eq!((b.holes_ahead, b.second_from), (0, 8010 - n as usize));
            released.extend(b.release(due(n), 0, &base).map(|r| r.seq.raw()));
            assert_eq!(b.holes_ahead, 8010 - n as usize - 1);
        }
        assert!(released.iter().copied().eq(10..4000));
    }

    #[test]
    fn the_first_packet_held_is_known_in_whatever_order_packets_come() {
        let mut x = 1_u32;
        let mut draw = |below: u32| {
            x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (x >> 8) % below
        };
        for _ in 0..200 {
            let (mut b, base) = buffer(64);
            for step in 0..400 {
                let now = i64::from(step) * 700;
                match draw(12) {
                    0 => b.handle_drop(b.next.add(draw(8)), b.next.add(draw(70))),
                    1..=3 => drop(b.release(now + LATENCY, 0, &base)),
                    4 => drop(b.poll_report(now, 10_000, 1456)),
                    _ => {
                        let seq = b.next.raw() + draw(66);
                        put(&mut b, now, seq, draw(2) == 0);
                    }
                }
                let held = |s: &Slot| matches!(s, Slot::Have(_));
                let first = b.slots.iter().position(held).unwrap_or(b.slots.len());
                let second = b.slots.iter().skip(first + 1).position(held).map_or(b.slots.len(), |n| first + 1 + n);
                assert_eq!(b.holes_ahead, first);
                assert!(b.second_from <= second && b.second_from <= b.slots.len());
                let missing = b.slots.iter().filter(|s| matches!(s, Slot::Missing { .. })).count();
                assert_eq!(b.missing as usize, missing);
            }
        }
    }
}
