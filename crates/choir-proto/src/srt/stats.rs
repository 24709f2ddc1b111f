//! Counters of one connection. Totals only grow; [`Glance`] starts anew each time it is taken.

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
    /// Bytes of data packets that left, repeats and all headers from IP on included.
    pub left_bytes: u64,
    /// Packets the peer reported missing, each counted once.
    pub reported_lost: u64,
    /// Runs of packets that it reported so.
    pub reported_holes: u64,
    /// Packets dropped here for being too late to send, or for a full window.
    pub send_dropped: u64,
    /// Of those, the ones that never left since the peer's flow window had no room for them.
    pub window_dropped: u64,
    /// Packets reported missing and never repeated, since they would have come too late: what the
    /// receiver misses for certain.
    pub given_up: u64,
    /// The peer's flow window, packets.
    pub peer_window: u32,
    /// Room that the peer still had at its last acknowledgement, packets; `None` before it.
    pub peer_free: Option<u32>,
    /// What reached the peer in its last full second, as it says: packets.
    pub peer_packets_per_s: Option<u32>,
    /// Packets sent and not yet acknowledged.
    pub in_flight: u32,
    /// First copies received, in order or not, lost ones that came by retransmission included.
    pub received: u64,
    /// Their payload bytes.
    pub received_bytes: u64,
    /// Bytes of data packets that came, repeats, late ones and all headers from IP on included.
    pub arrived_bytes: u64,
    /// Packets that were seen to be missing when a later one came.
    pub lost: u64,
    /// Runs of packets that were missing so.
    pub holes: u64,
    /// Of those, the ones that came by retransmission in time.
    pub recovered: u64,
    /// Of those, the ones that came late by themselves: reordered, not lost.
    pub reordered: u64,
    /// Packets skipped since their time had come: what the picture misses.
    pub skipped: u64,
    /// Packets that came after they had been skipped.
    pub came_late: u64,
    /// Packets that came as repeats, whatever became of them.
    pub repeats: u64,
    /// Packets that came more than once.
    pub duplicates: u64,
    /// Packets that could not be decrypted.
    pub undecrypted: u64,
    /// Packets dropped since their time lay more than 10 s ahead.
    pub mistimed: u64,
    /// Packets dropped since they lay beyond the window.
    pub beyond_window: u64,
    /// Packets delivered to the application.
    pub delivered: u64,
    /// Full acknowledgements sent.
    pub acks_sent: u64,
    /// Of those, the ones that the peer answered.
    pub acks_answered: u64,
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
    /// Version that the peer says it has, as in HSREQ and HSRSP: 0x00MMmmpp.
    pub peer_version: u32,
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

/// Least and greatest of something, µs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Extent {
    /// Least.
    pub least_us: i64,
    /// Greatest.
    pub greatest_us: i64,
}

impl Extent {
    /// One value.
    #[must_use]
    pub fn of(us: i64) -> Self {
        Self { least_us: us, greatest_us: us }
    }

    /// Both together.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self { least_us: self.least_us.min(other.least_us), greatest_us: self.greatest_us.max(other.greatest_us) }
    }

    pub(super) fn note(to: &mut Option<Self>, us: i64) {
        *to = Some(to.map_or(Self::of(us), |e| e.with(Self::of(us))));
    }
}

/// Packets missing in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hole {
    /// How many.
    pub packets: u32,
    /// When it was noticed, µs before now.
    pub ago_us: i64,
}

/// What happened on a connection since it was looked at last, and how long some things have lasted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Glance {
    /// Time between the arrival of packets and their release: the latency that was left. Negative
    /// when a packet came after its time.
    pub headroom: Option<Extent>,
    /// How much longer packets that were not repeated were on the way than the handshake was.
    pub transit: Option<Extent>,
    /// Variation of that from packet to packet, smoothed over 16 of them (RFC 3550, 6.4.1).
    pub jitter_us: i64,
    /// Round trips measured here.
    pub rtt: Option<Extent>,
    /// The longest hole.
    pub hole: Option<Hole>,
    /// Payload of the largest data packet that came, bytes.
    pub largest: u32,
    /// What the path has room for, bits per second with all headers, as bursts that queued on it
    /// have shown; `None` where none has.
    pub capacity_bps: Option<u64>,
    /// Longest time that a packet waited for its first sending, µs.
    pub waited_us: i64,
    /// Time since anything came from the peer, µs.
    pub silent_us: i64,
    /// Time since a data packet came, µs; `None` before the first.
    pub data_silent_us: Option<i64>,
    /// Age of the oldest packet sent and not acknowledged, µs.
    pub unacknowledged_us: i64,
    /// Time since the first of our acknowledgements that the peer has not answered, µs.
    pub unanswered_us: i64,
    /// Time since a new key was announced that the peer has not confirmed, µs.
    pub key_unconfirmed_us: i64,
}
