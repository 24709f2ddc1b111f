//! Counters of one connection. Totals only grow; [`Headroom`] starts anew each time it is taken.

use super::{KeyLength, KeyState};
use std::time::Duration;

/// Totals and present values of one connection.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct LinkStats {
    /// Payload packets handed in for sending.
    pub sent: u64,
    /// Their bytes.
    pub sent_bytes: u64,
    /// Packets sent again.
    pub resent: u64,
    /// Packets the peer reported missing, each counted once.
    pub reported_lost: u64,
    /// Packets dropped here for being too late to send, or for a full window.
    pub send_dropped: u64,
    /// Of those, the ones that never left since the peer's flow window had no room for them.
    pub window_dropped: u64,
    /// Packets reported missing and never repeated, since they would have come too late: what the receiver misses for certain.
    pub given_up: u64,
    /// The peer's flow window, packets.
    pub peer_window: u32,
    /// Packets sent and not yet acknowledged.
    pub in_flight: u32,
    /// First copies received, in order or not, lost ones that came by retransmission included.
    pub received: u64,
    /// Their payload bytes.
    pub received_bytes: u64,
    /// Packets that were seen to be missing when a later one came.
    pub lost: u64,
    /// Of those, the ones that came by retransmission in time.
    pub recovered: u64,
    /// Of those, the ones that came late by themselves: reordered, not lost.
    pub reordered: u64,
    /// Packets skipped since their time had come: what the picture misses.
    pub skipped: u64,
    /// Packets that came after they had been skipped.
    pub came_late: u64,
    /// Packets that came more than once.
    pub duplicates: u64,
    /// Packets that could not be decrypted.
    pub undecrypted: u64,
    /// Packets dropped since they lay beyond the window.
    pub beyond_window: u64,
    /// Packets delivered to the application.
    pub delivered: u64,
    /// Loss reports sent.
    pub naks_sent: u64,
    /// Smoothed round-trip time; zero until measured.
    pub rtt: Duration,
    /// Its variation.
    pub rtt_var: Duration,
    /// Latency of what we receive, as negotiated.
    pub receive_latency: Duration,
    /// Latency of what we send, as negotiated.
    pub send_latency: Duration,
    /// What this end asked for, both directions: receive, send.
    pub latency_here: (Duration, Duration),
    /// What the peer asked for in the same directions: for what we receive, for what we send.
    pub latency_there: (Duration, Duration),
    /// Encryption.
    pub key_state: KeyState,
    /// Key length, when encrypted.
    pub key_length: Option<KeyLength>,
    /// Times the sending key was changed.
    pub key_refreshes: u64,
    /// Correction applied for the peer's clock, in µs since the start.
    pub drift_us: i64,
    /// Packets held for release.
    pub receive_buffer: u32,
    /// Ceiling in force, bits per second; 0 for none.
    pub ceiling_bps: u64,
}

/// Time between the arrival of packets and their release, since the last call of `take_headroom`: the latency that was left.
/// Negative when a packet came after its time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Headroom {
    /// Least, µs.
    pub least_us: i64,
    /// Greatest, µs.
    pub greatest_us: i64,
}

impl Headroom {
    /// Both together.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self { least_us: self.least_us.min(other.least_us), greatest_us: self.greatest_us.max(other.greatest_us) }
    }
}
