//! What an endpoint tells and gives: events, deliveries, datagrams to send, counters.

use super::{CloseReason, KeyState, LinkStats, RejectReason, RuleId, Seq};
use bytes::Bytes;
use std::{net::SocketAddr, time::Instant};

/// A connection or greeting of one endpoint: its own socket id.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ConnId(pub u32);

/// What a new connection agreed on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Joined {
    /// The connection.
    pub conn: ConnId,
    /// The rule that let it in, at a listener.
    pub rule: Option<RuleId>,
    /// The peer.
    pub peer: SocketAddr,
    /// Stream ID that a caller sent.
    pub stream_id: Option<String>,
}

/// What the endpoint has to tell.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A connection is up.
    Joined(Joined),
    /// A connection or greeting is over.
    Closed {
        /// Which.
        conn: ConnId,
        /// The rule that had let it in.
        rule: Option<RuleId>,
        /// Why.
        reason: CloseReason,
        /// Encryption as it stood, when that was the trouble.
        key_state: Option<KeyState>,
        /// Counters at the end, if it had been up.
        stats: Option<Box<LinkStats>>,
    },
    /// The host that a greeting goes to says that nothing listens there; the greeting goes on.
    Unreachable {
        /// Which.
        conn: ConnId,
    },
    /// The peer's clock has jumped: for a second nothing but packets of impossible times has come.
    /// Its packets are timed anew, from the one that came now.
    ClockJumped {
        /// Which.
        conn: ConnId,
        /// By how much, µs; positive when its clock is ahead now.
        us: i64,
    },
    /// The listener refused a caller.
    Refused {
        /// From where.
        from: SocketAddr,
        /// The rule that judged it, if its stream ID named one.
        rule: Option<RuleId>,
        /// What it asked for.
        stream_id: Option<String>,
        /// Why.
        reason: RejectReason,
        /// Encryption as it stood, when that was the trouble.
        key_state: Option<KeyState>,
    },
}

/// A payload whose time has come.
#[derive(Debug, Clone)]
pub struct Delivery {
    /// Connection it came by.
    pub conn: ConnId,
    /// Sequence number.
    pub seq: Seq,
    /// The bytes as they were sent.
    pub payload: Bytes,
    /// When it could be delivered: its time, or when it came, if that was later.
    pub due: Instant,
    /// Packets skipped just before it.
    pub skipped: u32,
}

/// Datagrams to send, all to one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[must_use]
pub struct Transmit {
    /// Destination.
    pub to: SocketAddr,
    /// Bytes appended to the buffer.
    pub size: usize,
    /// Size of each datagram when there are several; the last may be shorter.
    pub segment: Option<usize>,
}

/// Counters of the socket as a whole.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct EndpointStats {
    /// Datagrams handed in.
    pub datagrams: u64,
    /// Of those, not SRT, or for nobody here.
    pub junk: u64,
    /// Callers refused.
    pub refused: u64,
}
