//! What is measured of a way in or out each second.

use std::time::Duration;

/// Which way media goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Direction {
    /// Into the show.
    In,
    /// Out of it.
    Out,
}

/// Least and greatest of a second.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Span {
    /// Least.
    pub least: f64,
    /// Greatest.
    pub greatest: f64,
}

/// One second of a way in or out: differences of counters, and the latest gauges. A machine that stood still yields one longer
/// tick.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct WayTick {
    /// Length; since the way came up, where that was within it.
    pub length: Duration,
    /// Payload bytes.
    pub bytes: u64,
    /// Packets.
    pub packets: u64,
    /// Packets lost on the path: seen to be missing here, or reported missing by the receiver; each once.
    pub lost: u64,
    /// Of those, repaired (way in only).
    pub recovered: u64,
    /// Packets that the picture misses: not repaired in time; of a way out, as far as the sender knows.
    pub missing: u64,
    /// Of those, dropped since the peer's flow window had no room.
    pub window_dropped: u64,
    /// Round-trip time, ms.
    pub rtt_ms: Option<f64>,
    /// Headroom, ms (way in only).
    pub headroom_ms: Option<Span>,
    /// Latency in force, ms.
    pub latency_ms: Option<f64>,
    /// The peer's flow window, packets.
    pub peer_window: Option<u32>,
    /// Age of the oldest packet without acknowledgement, ms (way out only).
    pub unacknowledged_ms: Option<f64>,
}

impl WayTick {
    /// Bits per second.
    #[must_use]
    pub fn rate_bps(&self) -> u64 {
        per_second(self.bytes * 8, self.length)
    }

    fn expected(&self) -> u64 {
        (self.packets + self.missing).max(1)
    }

    /// Share lost on the path, 0 to 1.
    #[must_use]
    pub fn lost_share(&self) -> f64 {
        self.lost as f64 / self.expected() as f64
    }

    /// Share missing after repair, 0 to 1.
    #[must_use]
    pub fn missing_share(&self) -> f64 {
        self.missing as f64 / self.expected() as f64
    }
}

/// What an amount over a time comes to in a second; 0 for no time.
#[must_use]
pub fn per_second(amount: u64, time: Duration) -> u64 {
    if time.is_zero() { 0 } else { (amount as f64 / time.as_secs_f64()).round() as u64 }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_and_rates_take_the_time_that_was_there() {
        let t = WayTick { length: Duration::from_millis(250), bytes: 125_000, packets: 90, lost: 20, missing: 10, ..WayTick::default() };
        assert_eq!(t.rate_bps(), 4_000_000);
        assert_eq!((t.lost_share(), t.missing_share()), (0.2, 0.1));
        assert_eq!(WayTick::default().rate_bps(), 0);
        assert_eq!(WayTick::default().missing_share(), 0.0);
    }
}
