//! What a path does to packets, as numbers.

use std::time::Duration;

/// A blackout that comes back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Outage {
    /// Length of each.
    pub lasts: Duration,
    /// First start, and distance from one start to the next.
    pub every: Duration,
}

impl Outage {
    pub(crate) fn covers(&self, now: Duration) -> bool {
        let every = self.every.as_nanos().max(1);
        now >= self.every && now.as_nanos() % every < self.lasts.as_nanos()
    }
}

/// Faults of one direction. The default is a perfect path.
#[derive(Debug, Clone, PartialEq)]
pub struct Faults {
    /// One-way delay.
    pub delay: Duration,
    /// Up to this much more, at random; keeps the order.
    pub jitter: Duration,
    /// Share of packets lost, 0 to 1.
    pub loss: f64,
    /// Mean number of packets lost in a row; 1 for independent losses.
    pub burst: f64,
    /// Share of packets held back so that later ones overtake.
    pub reorder: f64,
    /// Share of packets that arrive twice.
    pub duplicate: f64,
    /// Bits per second, headers included.
    pub rate: Option<u64>,
    /// Longest wait in the queue before the rate limit; a packet that would wait longer is dropped.
    pub queue: Duration,
    /// Blackouts.
    pub outage: Option<Outage>,
}

impl Default for Faults {
    fn default() -> Self {
        Self {
            delay: Duration::ZERO,
            jitter: Duration::ZERO,
            loss: 0.0,
            burst: 1.0,
            reorder: 0.0,
            duplicate: 0.0,
            rate: None,
            queue: Duration::from_millis(100),
            outage: None,
        }
    }
}
