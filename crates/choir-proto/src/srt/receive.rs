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
/// Ranges of skipped packets that are remembered, to tell a late packet from a duplicate.
const REMEMBERED: usize = 64;

#[derive(Debug)]
pub(super) struct Held {
    pub ts: i64,
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
    missing: u32,
    next_report: i64,
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
            missing: 0,
            next_report: i64::MAX,
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
    pub fn free(&self) -> u32 {
        (self.window - self.slots.len().min(self.window)) as u32
    }
    pub fn held(&self) -> u32 {
        self.slots.len() as u32
    }
    pub fn is_empty(&self) -> bool {
        self.slots.iter().all(|s| !matches!(s, Slot::Have(_)))
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
            for _ in 0..gap {
                self.slots.push_back(Slot::Missing { noticed: now, next_report: first_report });
            }
            if gap > 0 {
                self.missing += gap;
                self.next_report = self.next_report.min(first_report);
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
                self.contiguous = 0;
                self.next = last.add(1);
                return;
            }
            while self.slots.len() <= to && self.slots.len() < self.window {
                self.slots.push_back(Slot::Gone);
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

    /// Index and timestamp of the first packet held.
    fn first_held(&self) -> Option<(usize, i64)> {
        self.slots.iter().enumerate().find_map(|(i, s)| match s {
            Slot::Have(h) => Some((i, h.ts)),
            _ => None,
        })
    }

    /// When the next packet is to be released.
    pub fn next_due(&self, base: &TimeBase) -> Option<i64> {
        let (index, ts) = self.first_held()?;
        let passable = index == 0 || self.drop_late || index <= self.contiguous;
        passable.then(|| base.due(ts))
    }

    /// Takes the next packet that is due; skips a hole when the packet after it is due.
    pub fn release(&mut self, now: i64, base: &TimeBase) -> Option<Released> {
        let (index, ts) = self.first_held()?;
        let due = base.due(ts);
        if due > now || !(index == 0 || self.drop_late || index <= self.contiguous) {
            return None;
        }
        if index > 0 {
            let missing = self.slots.iter().take(index).filter(|s| matches!(s, Slot::Missing { .. })).count();
            self.missing -= missing as u32;
            self.note_skipped(index as u32);
            self.slots.drain(..index);
            self.next = self.next.add(index as u32);
            self.contiguous = self.contiguous.saturating_sub(index);
            self.advance();
        }
        let seq = self.next;
        match self.slots.pop_front() {
            Some(Slot::Have(held)) => {
                self.next = self.next.add(1);
                self.contiguous = self.contiguous.saturating_sub(1);
                Some(Released { seq, held, due, skipped: index as u32 })
            }
            _ => None,
        }
    }

    /// When the next loss report is due.
    pub fn report_at(&self) -> Option<i64> {
        (self.missing > 0).then_some(self.next_report)
    }

    /// Packets to report now; those reported are due again after half a round trip and its variation,
    /// so that a lost report costs half a round trip, not a whole one.
    pub fn poll_report(&mut self, now: i64, patience: i64) -> Option<LossList> {
        // Without fresh reordering the tolerance melts within a few seconds.
        if self.reorder > 0 && now - self.reorder_seen > 1_000_000 {
            self.reorder = self.reorder * 7 / 8;
            self.reorder_seen = now;
        }
        if self.missing == 0 || now < self.next_report {
            return None;
        }
        let again = if patience >= 2 * REPORT_MIN_US { patience / 2 } else { patience.max(REPORT_MIN_US) };
        let mut list = LossList::default();
        let mut earliest = i64::MAX;
        for (i, slot) in self.slots.iter_mut().enumerate().skip(self.contiguous) {
            let Slot::Missing { next_report, .. } = slot else { continue };
            if *next_report <= now {
                let seq = self.next.add(i as u32);
                let extends = list.0.last().is_some_and(|&(_, last)| last.add(1) == seq);
                if extends || list.0.len() < MAX_LOSS_RANGES {
                    list.push(seq);
                    *next_report = now + again;
                }
            }
            earliest = earliest.min(*next_report);
        }
        self.next_report = earliest;
        (!list.0.is_empty()).then_some(list)
    }
}
