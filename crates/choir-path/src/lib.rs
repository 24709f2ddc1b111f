//! A seeded model of a bad network path: delay, jitter, loss in bursts, reordering, duplication, a
//! rate limit with a real queue, outages. No socket and no clock: the caller says when a packet
//! enters and is told when it leaves.
//!
//! The same model bends packets between sockets in the path stand-in and between two engines in
//! tests.

mod faults;

pub use faults::{Faults, Outage};

use rand_chacha::ChaCha8Rng;
use rand_core::{RngCore, SeedableRng};
use std::time::Duration;

/// IP and UDP headers, which the rate limit counts too.
const OVERHEAD: usize = 28;

/// What became of one packet: up to two copies with their arrival times.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Passage {
    /// When the packet arrives; `None` when lost.
    pub first: Option<Duration>,
    /// When its duplicate arrives.
    pub second: Option<Duration>,
}

/// What a path did so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct PathStats {
    /// Packets that entered.
    pub entered: u64,
    /// Lost at random or in a burst.
    pub lost: u64,
    /// Lost to a full queue.
    pub overflowed: u64,
    /// Lost in an outage.
    pub blacked_out: u64,
    /// Doubled.
    pub duplicated: u64,
    /// Held back so that later ones overtake.
    pub reordered: u64,
}

/// One direction of a path.
#[derive(Debug, Clone)]
pub struct Path {
    faults: Faults,
    rng: ChaCha8Rng,
    in_burst: bool,
    busy_until: Duration,
    last_arrival: Duration,
    stats: PathStats,
}

impl Path {
    /// A path with these faults; the same seed does the same to the same packets.
    #[must_use]
    pub fn new(faults: Faults, seed: u64) -> Self {
        Self {
            faults,
            rng: ChaCha8Rng::seed_from_u64(seed),
            in_burst: false,
            busy_until: Duration::ZERO,
            last_arrival: Duration::ZERO,
            stats: PathStats::default(),
        }
    }

    /// Changes the faults from now on.
    pub fn set_faults(&mut self, faults: Faults) {
        self.faults = faults;
    }

    /// What happened so far.
    #[must_use]
    pub fn stats(&self) -> PathStats {
        self.stats
    }

    fn chance(&mut self) -> f64 {
        f64::from(self.rng.next_u32()) / (f64::from(u32::MAX) + 1.0)
    }

    /// Gilbert-Elliott: everything is lost in the bad state, nothing in the good one. The chances
    /// of changing over follow from the loss share and the mean burst.
    fn loses(&mut self) -> bool {
        let (loss, burst) = (self.faults.loss, self.faults.burst);
        let roll = self.chance();
        if loss <= 0.0 {
            return false;
        }
        if burst <= 1.0 {
            return roll < loss;
        }
        let leave = 1.0 / burst;
        let enter = (leave * loss / (1.0 - loss).max(1e-9)).min(1.0);
        self.in_burst = if self.in_burst { roll >= leave } else { roll < enter };
        self.in_burst
    }

    /// A packet of `bytes` enters at `now`, counted from the path's start. Times never go
    /// backwards.
    pub fn pass(&mut self, now: Duration, bytes: usize) -> Passage {
        self.stats.entered += 1;
        if self.faults.outage.is_some_and(|o| o.covers(now)) {
            self.stats.blacked_out += 1;
            return Passage::default();
        }
        let lost = self.loses();
        let (jitter, reorder, duplicate) = (self.chance(), self.chance(), self.chance());
        let mut leaves = now;
        if let Some(rate) = self.faults.rate {
            let wait = self.busy_until.saturating_sub(now);
            if wait > self.faults.queue {
                self.stats.overflowed += 1;
                return Passage::default();
            }
            let serial = Duration::from_secs_f64((bytes + OVERHEAD) as f64 * 8.0 / rate.max(1) as f64);
            self.busy_until = now + wait + serial;
            leaves = self.busy_until;
        }
        if lost {
            self.stats.lost += 1;
            return Passage::default();
        }
        // Jitter is a queue that grows and shrinks: it keeps the order.
        let mut arrives = (leaves + self.faults.delay + self.faults.jitter.mul_f64(jitter)).max(self.last_arrival);
        if reorder < self.faults.reorder {
            self.stats.reordered += 1;
            arrives += self.faults.jitter.max(Duration::from_millis(5));
        } else {
            self.last_arrival = arrives;
        }
        let second = (duplicate < self.faults.duplicate).then(|| {
            self.stats.duplicated += 1;
            arrives + Duration::from_micros(300)
        });
        Passage { first: Some(arrives), second }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn losses(faults: Faults, n: u32) -> (f64, f64) {
        let mut path = Path::new(faults, 7);
        let fates: Vec<bool> = (0..n).map(|i| path.pass(Duration::from_millis(i.into()), 1000).first.is_none()).collect();
        let lost = fates.iter().filter(|l| **l).count();
        let bursts = fates.windows(2).filter(|w| !w[0] && w[1]).count();
        (lost as f64 / f64::from(n), lost as f64 / bursts.max(1) as f64)
    }

    #[test]
    fn loss_share_and_mean_burst_are_as_asked() {
        for (loss, burst) in [(0.01, 1.0), (0.05, 3.0), (0.2, 10.0)] {
            let (share, mean) = losses(Faults { loss, burst, ..Faults::default() }, 400_000);
            assert!((share / loss - 1.0).abs() < 0.06, "share {share} for {loss}");
            let expected = if burst <= 1.0 { 1.0 / (1.0 - loss) } else { burst };
            assert!((mean / expected - 1.0).abs() < 0.06, "burst {mean} for {burst}");
        }
    }

    #[test]
    fn a_rate_limit_queues_and_then_drops() {
        let faults = Faults { rate: Some(1_000_000), queue: Duration::from_millis(50), ..Faults::default() };
        let mut path = Path::new(faults, 1);
        let fates: Vec<_> = (0..100).map(|_| path.pass(Duration::ZERO, 972).first).collect();
        assert_eq!(fates[0], Some(Duration::from_millis(8)));
        assert_eq!(fates[1], Some(Duration::from_millis(16)));
        assert_eq!(fates.iter().flatten().count(), 7, "50 ms of queue hold 6 more packets of 8 ms each");
        assert_eq!(path.stats().overflowed, 93);
    }

    #[test]
    fn jitter_keeps_the_order_and_reordering_breaks_it() {
        let ms = Duration::from_millis;
        let mut faults = Faults { delay: ms(40), jitter: ms(5), ..Faults::default() };
        let run = |faults: &Faults| {
            let mut path = Path::new(faults.clone(), 3);
            let arrivals: Vec<_> = (0..2000u64).filter_map(|i| path.pass(Duration::from_micros(i * 500), 1000).first).collect();
            arrivals.windows(2).filter(|w| w[0] > w[1]).count()
        };
        assert_eq!(run(&faults), 0);
        faults.reorder = 0.01;
        assert!(run(&faults) > 5);
    }

    #[test]
    fn an_outage_repeats() {
        let outage = Outage { lasts: Duration::from_secs(2), every: Duration::from_secs(30) };
        let mut path = Path::new(Faults { outage: Some(outage), ..Faults::default() }, 1);
        for (s, dark) in [(0, false), (29, false), (30, true), (31, true), (33, false), (60, true), (62, false)] {
            assert_eq!(path.pass(Duration::from_secs(s), 10).first.is_none(), dark, "at {s} s");
        }
    }
}
