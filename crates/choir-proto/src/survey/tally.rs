//! What one way of a path did to the packets that were sent over it.

use super::{IP_UDP, TRAIN};
use std::collections::BTreeMap;

/// Packets that are told apart: ten minutes at 16 Mbit/s.
const PACKETS_MAX: u32 = 1 << 20;

/// Above the least, µs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Percentiles {
    /// Half of all are below.
    pub p50: u32,
    /// 95 %.
    pub p95: u32,
    /// 99 %.
    pub p99: u32,
    /// 99.9 %.
    pub p999: u32,
    /// Greatest.
    pub max: u32,
}

impl Percentiles {
    /// Of these, above their least.
    #[must_use]
    pub fn of(values: &[i64]) -> Self {
        let mut sorted = values.to_vec();
        sorted.sort_unstable();
        let Some(least) = sorted.first().copied() else { return Self::default() };
        let at = |share: f64| {
            let n = ((sorted.len() - 1) as f64 * share).round() as usize;
            (sorted[n] - least).clamp(0, i64::from(u32::MAX)) as u32
        };
        Self { p50: at(0.5), p95: at(0.95), p99: at(0.99), p999: at(0.999), max: at(1.0) }
    }
}

/// What was seen of one way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct WayReport {
    /// Packets sent.
    pub sent: u32,
    /// Packets that came, each counted once.
    pub received: u32,
    /// Times that packets were missing in a row.
    pub bursts: u32,
    /// Most packets missing in a row.
    pub longest: u32,
    /// Packets that came after a later one.
    pub reordered: u32,
    /// Packets that came again.
    pub doubled: u32,
    /// One-way delay above its least.
    pub delay: Percentiles,
    /// Bits per second that a train came with, IP headers included; `None` when none came through
    /// whole.
    pub train_bps: Option<u64>,
}

impl WayReport {
    /// Share of packets lost, 0 to 1.
    #[must_use]
    pub fn loss(&self) -> f64 {
        f64::from(self.sent.saturating_sub(self.received)) / f64::from(self.sent.max(1))
    }

    /// Mean number of packets lost in a row, at least 1.
    #[must_use]
    pub fn burst(&self) -> f64 {
        (f64::from(self.sent.saturating_sub(self.received)) / f64::from(self.bursts.max(1))).max(1.0)
    }

    pub(super) fn to_values(self) -> Box<[u64; 12]> {
        let d = self.delay;
        let all = [self.sent, self.received, self.bursts, self.longest, self.reordered, self.doubled, d.p50, d.p95, d.p99, d.p999, d.max];
        let mut values = [0; 12];
        for (to, from) in values.iter_mut().zip(all) {
            *to = u64::from(from);
        }
        values[11] = self.train_bps.unwrap_or(0);
        Box::new(values)
    }

    pub(super) fn from_values(v: &[u64; 12]) -> Self {
        let n = |i: usize| u32::try_from(v[i]).unwrap_or(u32::MAX);
        // The other end may say anything: no more can have come than were sent.
        Self {
            sent: n(0),
            received: n(1).min(n(0)),
            bursts: n(2),
            longest: n(3).min(n(0)),
            reordered: n(4),
            doubled: n(5),
            delay: Percentiles { p50: n(6), p95: n(7), p99: n(8), p999: n(9), max: n(10) },
            train_bps: Some(v[11]).filter(|b| *b > 0),
        }
    }
}

/// Gathers one way at its receiver.
#[derive(Debug, Default)]
pub(super) struct Tally {
    came: Vec<u64>,
    delays: Vec<i64>,
    received: u32,
    highest: Option<u32>,
    reordered: u32,
    doubled: u32,
    /// By number: when its first packet came, and the rate up to the furthest one since.
    trains: BTreeMap<u32, (i64, u32, u64)>,
}

/// Trains that are remembered.
const TRAINS_MAX: usize = 16;

impl Tally {
    pub fn stream(&mut self, number: u32, sent_at: i64, now: i64) {
        if number >= PACKETS_MAX {
            return;
        }
        let (word, bit) = (number as usize / 64, 1_u64 << (number % 64));
        if self.came.len() <= word {
            self.came.resize(word + 1, 0);
        }
        if self.came[word] & bit != 0 {
            self.doubled += 1;
            return;
        }
        self.came[word] |= bit;
        self.received += 1;
        self.delays.push(now.wrapping_sub(sent_at));
        match self.highest {
            Some(h) if number < h => self.reordered += 1,
            _ => self.highest = Some(number),
        }
    }

    /// One packet of a train: the rate is that from its first packet to the furthest one.
    pub fn train(&mut self, number: u32, index: u32, size: usize, now: i64) {
        if index == 0 && self.trains.len() < TRAINS_MAX {
            self.trains.entry(number).or_insert((now, 0, 0));
        }
        if let Some((first, furthest, bps)) = self.trains.get_mut(&number)
            && index > *furthest
            && index < TRAIN
        {
            *furthest = index;
            *bps = u64::from(index) * (size + IP_UDP) as u64 * 8 * 1_000_000 / (now - *first).max(1) as u64;
        }
    }

    /// The best of those that came nearly whole.
    fn train_bps(&self) -> Option<u64> {
        self.trains.values().filter(|(_, furthest, _)| *furthest >= TRAIN * 3 / 4).map(|t| t.2).max()
    }

    pub fn received(&self) -> u32 {
        self.received
    }

    /// Share missing so far, among those that should have come.
    pub fn missing(&self) -> f64 {
        let expected = self.highest.map_or(0, |h| h + 1);
        f64::from(expected - self.received.min(expected)) / f64::from(expected.max(1))
    }

    pub fn report(&self, sent: u32) -> WayReport {
        let (mut bursts, mut longest, mut run) = (0, 0, 0);
        for n in 0..sent.min(PACKETS_MAX) {
            let came = self.came.get(n as usize / 64).is_some_and(|w| w & 1 << (n % 64) != 0);
            if came {
                run = 0;
            } else {
                run += 1;
                bursts += u32::from(run == 1);
                longest = longest.max(run);
            }
        }
        WayReport {
            sent,
            received: self.received.min(sent),
            bursts,
            longest,
            reordered: self.reordered,
            doubled: self.doubled,
            delay: Percentiles::of(&self.delays),
            train_bps: self.train_bps(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loss_bursts_order_and_doubles_are_counted() {
        let mut t = Tally::default();
        for n in [0, 1, 4, 3, 6, 6, 9] {
            t.stream(n, i64::from(n) * 1000, i64::from(n) * 1000 + 500 + i64::from(n));
        }
        t.stream(u32::MAX, 0, 0);
        let r = t.report(12);
        assert_eq!((r.sent, r.received, r.bursts, r.longest, r.reordered, r.doubled), (12, 6, 4, 2, 1, 1));
        assert!((r.loss() - 0.5).abs() < 1e-9 && (r.burst() - 1.5).abs() < 1e-9);
        assert_eq!((r.delay.max, r.delay.p50), (9, 4), "above the least");
        assert!((t.missing() - 0.4).abs() < 1e-9, "the last two may still be on their way");
        assert_eq!(WayReport::from_values(&r.to_values()), r);
        assert_eq!(Tally::default().report(0).loss(), 0.0);
    }

    #[test]
    fn a_train_counts_when_it_came_nearly_whole() {
        let mut t = Tally::default();
        for n in (0..TRAIN).filter(|n| *n != 7) {
            t.train(1, n, 1332, i64::from(n) * 100);
        }
        // 1360 bytes every 100 µs.
        assert_eq!(t.report(0).train_bps, Some(108_800_000));
        for n in 0..TRAIN / 2 {
            t.train(2, n, 1332, i64::from(n));
        }
        assert_eq!(t.report(0).train_bps, Some(108_800_000), "half of one says nothing");
        (0..100).for_each(|n| t.train(n, 0, 1332, 0));
        assert!(t.trains.len() <= TRAINS_MAX);
    }
}
