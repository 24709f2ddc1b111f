//! What can be wrong with a line or a way out.

use crate::{content::ContentFault, model::Mismatch, units::Bitrate};
use std::{net::SocketAddr, time::Duration};

/// What is wrong, with what was measured and what to set. [`crate::words`] has the sentences.
#[derive(Debug, Clone, PartialEq)]
pub enum Cause {
    /// This machine is too slow.
    OwnMachine(Slow),
    /// Nobody listens any more where the peer was.
    PeerGone {
        /// Silent for so long.
        silent: Duration,
    },
    /// Nothing at all comes from the peer, not even signs of life.
    NothingHeard {
        /// For so long.
        silent: Duration,
    },
    /// The peer is alive and sends no media.
    EncoderStopped {
        /// For so long.
        silent: Duration,
    },
    /// No media for a moment; not yet known why.
    Pause {
        /// For so long.
        silent: Duration,
    },
    /// Media comes, and nothing that is sent back arrives.
    AnswersLost {
        /// For so long.
        unanswered: Duration,
    },
    /// The peer is heard, and nothing of the media arrives there.
    NothingArrives {
        /// For so long.
        unacknowledged: Duration,
    },
    /// Only small packets pass.
    LargePacketsLost {
        /// Largest payload that came, bytes; `None` when no media came at all.
        passes: Option<u32>,
    },
    /// Another caller has the place that this end calls for, or wants the place of this line's.
    PlaceTaken {
        /// The one that was turned away here; `None` where this end was.
        from: Option<SocketAddr>,
    },
    /// Two senders with the same stream ID or address take the place from each other.
    TwoSenders {
        /// Changes in the last half minute.
        changes: u32,
    },
    /// The passphrase fitted before, and does not any more.
    PassphraseChanged,
    /// Packets come that cannot be decrypted.
    KeyMissing {
        /// Share of them, 0 to 1.
        share: f64,
    },
    /// A new key was announced, and the peer does not confirm it.
    KeyUnconfirmed {
        /// For so long.
        waiting: Duration,
    },
    /// The path does not carry the bitrate: packets queue before it, and are dropped.
    PathFull {
        /// What it carries on the wire; `None` when that cannot be told yet.
        carries: Option<Bitrate>,
        /// The bitrate to set.
        set: Option<Bitrate>,
        /// How long packets wait in its queue.
        queue: Duration,
    },
    /// The sender's own ceiling leaves no room for repeats.
    CeilingReached {
        /// On the wire.
        ceiling: Bitrate,
    },
    /// The peer does not take what is sent.
    PeerSlow {
        /// Room that it has left, packets.
        free: u32,
    },
    /// The peer's flow window is too small for this bitrate and round trip.
    WindowTooSmall {
        /// The window, packets.
        window: u32,
        /// What it takes, packets.
        takes: u32,
    },
    /// The path was gone for a moment, and what was sent meanwhile is lost or came in a heap.
    Outage {
        /// For so long, by what was sent meanwhile.
        lasted: Duration,
        /// Packets lost in it.
        packets: u32,
    },
    /// Packets stay away at regular intervals.
    PeriodicBursts {
        /// From one to the next.
        period: Duration,
        /// How many were seen.
        seen: usize,
    },
    /// The latency leaves too little time for repeats on this path.
    LatencyTooSmall {
        /// In force.
        latency: Duration,
        /// Round trip.
        rtt: Duration,
        /// What to set; `None` where no latency is enough.
        set: Option<Duration>,
    },
    /// Packets are lost at random.
    RandomLoss {
        /// Share, 0 to 1.
        lost: f64,
        /// Mean run.
        burst: f64,
    },
    /// The connection was made anew just now.
    Restarted {
        /// Time since.
        ago: Duration,
    },
    /// The two clocks run apart.
    ClockDrift {
        /// Parts per million, positive when the peer's is slow.
        ppm: f64,
    },
    /// The media is not what the sheet expects.
    Differs(Mismatch),
    /// Far less media comes than usual.
    RateFell {
        /// What comes.
        now: Bitrate,
        /// What came before.
        usual: Bitrate,
    },
    /// What picture or sound shows.
    Content(ContentFault),
    /// Another line carries the same picture.
    SamePicture {
        /// Its name.
        line: String,
    },
}

/// How this machine is too slow.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Slow {
    /// The system dropped datagrams in the last second that were not taken in time.
    Drops(u64),
    /// Packets leave so late, ms.
    Late(f64),
    /// A thread that serves links takes this share of a core.
    Busy(f64),
}

impl Cause {
    /// A fixed word, for scripts.
    #[must_use]
    pub const fn name(&self) -> &'static str {
        match self {
            Self::OwnMachine(_) => "own-machine-slow",
            Self::PeerGone { .. } => "peer-gone",
            Self::NothingHeard { .. } => "nothing-heard",
            Self::EncoderStopped { .. } => "encoder-stopped",
            Self::Pause { .. } => "pause",
            Self::AnswersLost { .. } => "answers-lost",
            Self::NothingArrives { .. } => "nothing-arrives",
            Self::LargePacketsLost { .. } => "large-packets-lost",
            Self::PlaceTaken { .. } => "place-taken",
            Self::TwoSenders { .. } => "two-senders",
            Self::PassphraseChanged => "passphrase-changed",
            Self::KeyMissing { .. } => "key-missing",
            Self::KeyUnconfirmed { .. } => "key-unconfirmed",
            Self::PathFull { .. } => "path-full",
            Self::CeilingReached { .. } => "ceiling-reached",
            Self::PeerSlow { .. } => "peer-slow",
            Self::WindowTooSmall { .. } => "window-too-small",
            Self::Outage { .. } => "outage",
            Self::PeriodicBursts { .. } => "periodic-bursts",
            Self::LatencyTooSmall { .. } => "latency-too-small",
            Self::RandomLoss { .. } => "random-loss",
            Self::Restarted { .. } => "restarted",
            Self::ClockDrift { .. } => "clock-drift",
            Self::Differs(_) => "differs",
            Self::RateFell { .. } => "rate-fell",
            Self::Content(fault) => fault.name(),
            Self::SamePicture { .. } => "same-picture",
        }
    }

    /// The same cause, maybe with other numbers.
    #[must_use]
    pub fn is_like(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Content(a), Self::Content(b)) => a.is_like(*b),
            (Self::Differs(a), Self::Differs(b)) => std::mem::discriminant(a) == std::mem::discriminant(b),
            _ => std::mem::discriminant(self) == std::mem::discriminant(other),
        }
    }

    /// Worth knowing, and no trouble by itself.
    #[must_use]
    pub const fn is_news(&self) -> bool {
        matches!(self, Self::Restarted { .. } | Self::ClockDrift { .. } | Self::SamePicture { .. } | Self::PlaceTaken { from: Some(_) })
    }
}
