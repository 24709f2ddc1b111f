//! Puts packets in order within a set time, tells what is missing, and notices a sender that starts
//! anew.

use super::RtpPacket;
use std::{
    collections::{BTreeMap, VecDeque},
    ops::Range,
    time::{Duration, Instant},
};

/// Jumps ahead up to this are loss (RFC 3550, A.1).
const AHEAD_MAX: i32 = 3000;
/// Steps back up to this are late or doubled packets.
const BACK_MAX: i32 = 1000;
/// Packets held at most while one is awaited: some ten times what 100 Mbit/s bring in 40 ms.
const HELD_MAX: usize = 4096;

/// Gaps remembered, to tell a late packet from a doubled one.
const GAPS_KEPT: usize = 64;

/// What comes out, in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// The next packet, and when it came.
    Packet(RtpPacket, Instant),
    /// So many are missing here.
    Gap(u32),
    /// The sender has started anew: nothing after this belongs to what was before.
    Restart,
}

/// Totals.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct ReorderCounters {
    /// Packets taken.
    pub received: u64,
    /// Bytes of payload in them.
    pub bytes: u64,
    /// Missing when a later one came.
    pub lost: u64,
    /// Of those, came in time after all.
    pub reordered: u64,
    /// Given up.
    pub missing: u64,
    /// Came after they had been given up.
    pub came_late: u64,
    /// Came twice.
    pub duplicates: u64,
    /// New starts.
    pub restarts: u64,
}

/// The buffer of one RTP stream.
#[derive(Debug)]
pub struct Reorder {
    depth: Duration,
    ssrc: Option<u32>,
    /// Sequence number awaited, extended to count on.
    next: u64,
    /// Greatest number seen, extended.
    highest: u64,
    first: u64,
    held: BTreeMap<u64, (RtpPacket, Instant)>,
    ready: VecDeque<Step>,
    given_up: VecDeque<Range<u64>>,
    /// A packet that does not fit; the next one after it makes it a new start.
    stranger: Option<(RtpPacket, Instant)>,
    counters: ReorderCounters,
}

impl Reorder {
    /// A buffer that waits up to `depth` for a missing packet.
    #[must_use]
    pub fn new(depth: Duration) -> Self {
        Self {
            depth,
            ssrc: None,
            next: 0,
            highest: 0,
            first: 0,
            held: BTreeMap::new(),
            ready: VecDeque::new(),
            given_up: VecDeque::new(),
            stranger: None,
            counters: ReorderCounters::default(),
        }
    }

    /// Totals.
    #[must_use]
    pub fn counters(&self) -> ReorderCounters {
        self.counters
    }

    /// The stream taken.
    #[must_use]
    pub fn ssrc(&self) -> Option<u32> {
        self.ssrc
    }

    /// For reports: the first and the greatest number seen, extended.
    #[must_use]
    pub fn span(&self) -> (u64, u64) {
        (self.first, self.highest)
    }

    /// Takes a packet.
    pub fn push(&mut self, now: Instant, packet: RtpPacket) {
        let Some(ssrc) = self.ssrc else {
            self.start(&packet);
            self.take(now, self.next, packet);
            return;
        };
        let step = i32::from(packet.sequence.wrapping_sub(self.next as u16) as i16);
        if packet.ssrc != ssrc || !(-BACK_MAX..=AHEAD_MAX).contains(&step) {
            self.strange(now, packet);
            return;
        }
        self.stranger = None;
        if step < 0 {
            self.counters.received += 1;
            let number = self.next.saturating_sub(u64::from(step.unsigned_abs()));
            if self.given_up.iter().any(|gap| gap.contains(&number)) {
                self.counters.came_late += 1;
            } else {
                self.counters.duplicates += 1;
            }
            return;
        }
        self.take(now, self.next + step as u64, packet);
    }

    fn start(&mut self, packet: &RtpPacket) {
        self.ssrc = Some(packet.ssrc);
        // Far enough from 0 that a late packet stays positive.
        self.next = (1 << 32) | u64::from(packet.sequence);
        (self.first, self.highest) = (self.next, self.next - 1);
    }

    /// Two in a row from a sender that is not the present one, or far from where it was, are a new
    /// start; a single one is a stray.
    fn strange(&mut self, now: Instant, packet: RtpPacket) {
        let follows = self.stranger.take().filter(|(s, _)| s.ssrc == packet.ssrc && s.sequence.wrapping_add(1) == packet.sequence);
        let Some((first, came)) = follows else {
            self.stranger = Some((packet, now));
            return;
        };
        self.release(u64::MAX);
        self.counters.restarts += 1;
        self.ready.push_back(Step::Restart);
        self.start(&first);
        self.take(came, self.next, first);
        self.take(now, self.next, packet);
    }

    fn take(&mut self, now: Instant, number: u64, packet: RtpPacket) {
        self.counters.received += 1;
        self.counters.bytes += packet.payload.len() as u64;
        if number > self.highest + 1 {
            self.counters.lost += number - self.highest - 1;
        } else if number <= self.highest && !self.held.contains_key(&number) {
            self.counters.reordered += 1;
        }
        self.highest = self.highest.max(number);
        if number == self.next && self.held.is_empty() {
            self.next += 1;
            self.ready.push_back(Step::Packet(packet, now));
            return;
        }
        if self.held.insert(number, (packet, now)).is_some() {
            self.counters.duplicates += 1;
        }
        self.release(self.next);
        if self.held.len() > HELD_MAX
            && let Some((&oldest, _)) = self.held.first_key_value()
        {
            self.release(oldest);
        }
    }

    /// Hands out all that is in order, and what is held up to `until` with the gaps before it.
    fn release(&mut self, until: u64) {
        while let Some(entry) = self.held.first_entry() {
            let number = *entry.key();
            if number > self.next && number > until {
                return;
            }
            let (packet, came) = entry.remove();
            if number > self.next {
                let gap = number - self.next;
                self.counters.missing += gap;
                if self.given_up.len() == GAPS_KEPT {
                    self.given_up.pop_front();
                }
                self.given_up.push_back(self.next..number);
                self.ready.push_back(Step::Gap(u32::try_from(gap).unwrap_or(u32::MAX)));
            }
            self.next = number + 1;
            self.ready.push_back(Step::Packet(packet, came));
        }
    }

    /// Gives up what has been awaited for too long.
    pub fn handle_timeout(&mut self, now: Instant) {
        while let Some(at) = self.poll_timeout() {
            if at > now {
                return;
            }
            // The oldest packet held has waited long enough; all that waited as long goes with it.
            let due = self.held.iter().find(|(_, (_, came))| *came + self.depth <= now).map(|(n, _)| *n);
            match due {
                Some(number) => self.release(number),
                None => return,
            }
        }
    }

    /// When to call `handle_timeout`.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.held.values().map(|(_, came)| *came + self.depth).min()
    }

    /// The next step.
    pub fn poll(&mut self) -> Option<Step> {
        self.ready.pop_front()
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]

    use super::*;
    use bytes::Bytes;
    use proptest::prelude::*;

    const DEPTH: Duration = Duration::from_millis(50);

    fn packet(ssrc: u32, sequence: u16) -> RtpPacket {
        RtpPacket { marker: false, payload_type: 96, sequence, timestamp: 0, ssrc, payload: Bytes::from_static(b"x") }
    }

    fn drain(r: &mut Reorder) -> Vec<String> {
        std::iter::from_fn(|| r.poll())
            .map(|s| match s {
                Step::Packet(p, _) => p.sequence.to_string(),
                Step::Gap(n) => format!("gap {n}"),
                Step::Restart => "restart".into(),
            })
            .collect()
    }

    #[test]
    fn order_is_mended_in_time_and_gaps_are_told_after_it() {
        let now = Instant::now();
        let mut r = Reorder::new(DEPTH);
        for s in [65_534, 65_535, 1, 0, 3, 3] {
            r.push(now, packet(1, s));
        }
        assert_eq!(drain(&mut r), ["65534", "65535", "0", "1"]);
        assert_eq!(r.poll_timeout(), Some(now + DEPTH));
        r.handle_timeout(now + DEPTH / 2);
        assert!(drain(&mut r).is_empty());
        r.handle_timeout(now + DEPTH);
        assert_eq!(drain(&mut r), ["gap 1", "3"]);
        r.push(now, packet(1, 2));
        let c = r.counters();
        assert_eq!((c.lost, c.reordered, c.missing, c.came_late, c.duplicates), (2, 1, 1, 1, 1));
        assert_eq!(r.poll_timeout(), None);
    }

    #[test]
    fn a_new_start_needs_two_packets_and_a_stray_changes_nothing() {
        let now = Instant::now();
        let mut r = Reorder::new(DEPTH);
        r.push(now, packet(1, 10));
        r.push(now, packet(2, 500));
        r.push(now, packet(1, 11));
        r.push(now, packet(2, 501));
        assert_eq!(drain(&mut r), ["10", "11"]);
        r.push(now, packet(2, 502));
        assert_eq!(drain(&mut r), ["restart", "501", "502"]);
        // The same sender, far away: its numbers were drawn anew.
        r.push(now, packet(2, 40_000));
        r.push(now, packet(2, 40_001));
        assert_eq!(drain(&mut r), ["restart", "40000", "40001"]);
        assert_eq!((r.ssrc(), r.counters().restarts), (Some(2), 2));
    }

    proptest! {
        #[test]
        fn whatever_comes_goes_out_in_order_and_adds_up(start: u16, order in proptest::collection::vec(0u16..64, 1..200)) {
            let now = Instant::now();
            let mut r = Reorder::new(DEPTH);
            r.push(now, packet(1, start));
            for (n, step) in order.iter().enumerate() {
                r.push(now + Duration::from_millis(n as u64), packet(1, start.wrapping_add(*step)));
                r.handle_timeout(now + Duration::from_millis(n as u64));
            }
            r.handle_timeout(now + Duration::from_secs(9));
            let mut at = 0u64;
            let (mut packets, mut gaps) = (0, 0);
            while let Some(step) = r.poll() {
                match step {
                    Step::Packet(p, _) => {
                        prop_assert_eq!(u64::from(p.sequence.wrapping_sub(start)), at);
                        at += 1;
                        packets += 1;
                    }
                    Step::Gap(n) => { at += u64::from(n); gaps += u64::from(n); }
                    Step::Restart => prop_assert!(false, "no restart"),
                }
            }
            let c = r.counters();
            prop_assert_eq!(c.received, packets + c.duplicates + c.came_late);
            prop_assert_eq!(c.missing, gaps);
            prop_assert_eq!(c.lost, c.reordered + c.missing);
            prop_assert_eq!(r.poll_timeout(), None);
        }
    }
}
