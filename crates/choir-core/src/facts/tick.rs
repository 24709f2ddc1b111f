//! What is measured of a way in or out each second.

use std::{sync::Arc, time::Duration};

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

impl Span {
    /// Both together.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self { least: self.least.min(other.least), greatest: self.greatest.max(other.greatest) }
    }
}

/// A fifth of a second or so of a link, within a tick.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Piece {
    /// Its end: so long before the end of the tick.
    pub ago: Duration,
    /// Packets.
    pub packets: u64,
    /// Packets lost on the path.
    pub lost: u64,
    /// Headroom, ms.
    pub headroom_ms: Option<Span>,
    /// How much longer packets were on the way than the handshake was, ms; without repeats.
    pub transit_ms: Option<Span>,
    /// Round trips, ms.
    pub rtt_ms: Option<Span>,
    /// The longest run of packets missing, and how long before the end of the tick it was seen.
    pub hole: Option<(u32, Duration)>,
}

/// One second of a way in or out: differences of counters, and the latest gauges. A machine that
/// stood still yields one longer tick.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct WayTick {
    /// Length; since the way came up, where that was within it.
    pub length: Duration,
    /// Payload bytes.
    pub bytes: u64,
    /// Packets.
    pub packets: u64,
    /// Packets lost on the path: seen to be missing here, or reported missing by the receiver; each
    /// once.
    pub lost: u64,
    /// Runs of packets lost.
    pub holes: u64,
    /// Of those lost, repaired (way in only).
    pub recovered: u64,
    /// Packets that the picture misses: not repaired in time; of a way out, as far as the sender
    /// knows.
    pub missing: u64,
    /// Of those, dropped since the peer's flow window had no room.
    pub window_dropped: u64,
    /// Acknowledgements sent, and how many of them the peer answered (way in only).
    pub acks: u64,
    /// See `acks`.
    pub answered: u64,
    /// Packets sent again (way out), or that came as repeats (way in).
    pub resent: u64,
    /// Packets that came after their time (way in only).
    pub late: u64,
    /// Packets that could not be decrypted (way in only).
    pub undecrypted: u64,
    /// Bytes of media on the wire, repeats and headers included: what came, or what left.
    pub wire_bytes: u64,
    /// Datagrams that the system dropped since this program was too slow to take them.
    pub kernel_drops: u64,
    /// Round-trip time, ms.
    pub rtt_ms: Option<f64>,
    /// Round trips of the tick, ms.
    pub rtt_span_ms: Option<Span>,
    /// Headroom, ms (way in only).
    pub headroom_ms: Option<Span>,
    /// How much longer packets were on the way than the handshake was, ms; without repeats (way in
    /// only).
    pub transit_ms: Option<Span>,
    /// Variation of that from packet to packet, ms (RFC 3550, 6.4.1).
    pub jitter_ms: Option<f64>,
    /// Latency in force, ms.
    pub latency_ms: Option<f64>,
    /// Largest payload of a packet that came, bytes (way in only).
    pub largest: Option<u32>,
    /// Time since anything came from the peer, ms.
    pub silent_ms: Option<f64>,
    /// Time since a packet of media came, ms (way in only); `None` before the first.
    pub data_silent_ms: Option<f64>,
    /// Time since the first of our acknowledgements that the peer has not answered, ms (way in
    /// only).
    pub unanswered_ms: Option<f64>,
    /// Correction for the peer's clock since the link came up, µs (way in only).
    pub drift_us: Option<i64>,
    /// The peer's flow window, packets.
    pub peer_window: Option<u32>,
    /// Room that the peer has left, packets (way out only).
    pub peer_free: Option<u32>,
    /// Packets that reached the peer in its last second, as it says (way out only).
    pub peer_packets: Option<u32>,
    /// Age of the oldest packet without acknowledgement, ms (way out only).
    pub unacknowledged_ms: Option<f64>,
    /// Ceiling in force, bits per second on the wire (way out only).
    pub ceiling_bps: Option<u64>,
    /// Longest time that a packet waited here for its first sending, ms (way out only).
    pub waited_ms: Option<f64>,
    /// Time since a new key was announced that the peer has not confirmed, ms (way out only).
    pub key_unconfirmed_ms: Option<f64>,
    /// Its parts, oldest first; shared by all who look back on it.
    pub pieces: Arc<[Piece]>,
}

impl WayTick {
    /// Bits per second.
    #[must_use]
    pub fn rate_bps(&self) -> u64 {
        per_second(self.bytes * 8, self.length)
    }

    /// Bits of media per second on the wire, repeats and headers included.
    #[must_use]
    pub fn wire_bps(&self) -> u64 {
        per_second(self.wire_bytes * 8, self.length)
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
