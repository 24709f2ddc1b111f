//! States of lines and ways out, and their reasons.

use super::{Cause, Direction, Joining, Loss, Waiting};
use crate::{content::ContentFault, model::Mismatch, units::Bitrate};
use serde::{Deserialize, Serialize};
use std::{fmt, time::Duration};

/// State of a line, or of one way out of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Nobody there yet.
    Waiting,
    /// Joining, or connected without media.
    Joining,
    /// On air.
    Steady,
    /// Works, but the numbers say it will not for long.
    Strained,
    /// Does not work.
    Broken,
    /// Stopped by the engineer.
    Held,
}

impl State {
    /// One word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Joining => "joining",
            Self::Steady => "steady",
            Self::Strained => "strained",
            Self::Broken => "broken",
            Self::Held => "held",
        }
    }
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// Why a line or way out is in its state. [`crate::words`] has the sentences.
#[derive(Debug, Clone, PartialEq)]
pub enum Reason {
    /// Held by the engineer.
    Held,
    /// The link waits.
    Waiting(Waiting),
    /// The link is being joined.
    Joining(Joining),
    /// The link is lost.
    Lost(Loss),
    /// A way out is ready, and its line sends nothing.
    LineSilent,
    /// Connected, and no media yet.
    NoMediaYet,
    /// Connected for so long without any media.
    NoMedia(Duration),
    /// Connected, and no media for so long.
    MediaStopped(Duration),
    /// Packets are missing after repair: share of 1.
    Missing(f64),
    /// So many packets are missing after repair.
    MissingPackets(u64),
    /// So many packets were lost that cannot be repaired in time.
    Unrepaired(u64),
    /// No transport stream with a programme.
    NotTransportStream,
    /// No keyframe yet.
    NoKeyframe,
    /// Keyframes come without parameter sets.
    NoParameterSets,
    /// Little headroom.
    HeadroomLow {
        /// Headroom, ms.
        ms: f64,
        /// Latency, ms.
        latency_ms: f64,
    },
    /// The media is not what the sheet expects.
    Differs(Mismatch),
    /// The picture or the sound is not what a line is for, since so long.
    Content(ContentFault, Duration),
    /// This machine is too slow to encode all pictures: so many were left out, of so many.
    PicturesLeftOut(u64, u64),
    /// Something of an encoding cannot be done.
    Encoding(String),
    /// What the diagnosis names first.
    Cause(Cause),
    /// All is well.
    Steady {
        /// Media rate.
        rate: Bitrate,
        /// Headroom and latency, ms.
        headroom_ms: Option<(f64, f64)>,
        /// Which way.
        direction: Direction,
    },
}

impl Reason {
    /// The same reason, maybe with other numbers.
    #[must_use]
    pub fn is_like(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Lost(a), Self::Lost(b)) => a == b,
            (Self::Content(a, _), Self::Content(b, _)) => a.is_like(*b),
            (Self::Cause(a), Self::Cause(b)) => a.is_like(b),
            _ => std::mem::discriminant(self) == std::mem::discriminant(other),
        }
    }
}
