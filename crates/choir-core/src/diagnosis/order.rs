//! What follows from what, what is to be fixed first, and how long a cause stays named.

use crate::{
    facts::{Cause, Slow},
    units::in_ms,
};
use std::time::Duration;

/// A queue so many times as long as packets leave late here is none of this machine's.
const QUEUE_OVER_LATE: f64 = 4.0;

impl Cause {
    /// It can be told of a moment, without looking back.
    pub(super) const fn is_of_moment(&self) -> bool {
        matches!(
            self,
            Self::Pause { .. }
                | Self::EncoderStopped { .. }
                | Self::NothingHeard { .. }
                | Self::PeerGone { .. }
                | Self::NothingArrives { .. }
                | Self::PlaceTaken { .. }
                | Self::PassphraseChanged
        )
    }

    /// How long it stays named after it was seen last, so that it does not flicker.
    pub(super) const fn hold(&self) -> Duration {
        match self {
            _ if self.is_instant() => Duration::ZERO,
            // It shows only when something is lost.
            Self::LatencyTooSmall { .. } => Duration::from_secs(20),
            // It looks back far enough by itself.
            Self::RandomLoss { .. } => Duration::from_millis(1500),
            _ => Duration::from_secs(6),
        }
    }

    /// It lasts for as long as it is seen, and not a moment longer.
    const fn is_instant(&self) -> bool {
        self.is_of_moment() || matches!(self, Self::Content(_) | Self::Differs(_))
    }

    /// While this holds, the other says nothing of its own: it follows from this.
    pub(super) fn explains(&self, other: &Self) -> bool {
        use Cause as C;
        match self {
            C::OwnMachine(slow) => match (slow, other) {
                // What queues on the path for far longer does not wait for this machine.
                (Slow::Late(ms), C::PathFull { queue, .. }) => in_ms(*queue) < QUEUE_OVER_LATE * ms,
                (_, C::PathFull { .. }) => true,
                _ => matches!(other, C::Outage { .. } | C::RandomLoss { .. } | C::LatencyTooSmall { .. } | C::PeriodicBursts { .. }),
            },
            C::PeerGone { .. } => {
                matches!(other, C::NothingHeard { .. } | C::EncoderStopped { .. } | C::Pause { .. } | C::AnswersLost { .. })
            }
            C::NothingHeard { .. } => {
                matches!(
                    other,
                    C::Pause { .. }
                        | C::EncoderStopped { .. }
                        | C::AnswersLost { .. }
                        | C::NothingArrives { .. }
                        | C::RateFell { .. }
                        | C::RandomLoss { .. }
                )
            }
            C::EncoderStopped { .. } => matches!(other, C::Pause { .. } | C::RateFell { .. }),
            C::AnswersLost { .. } => matches!(other, C::RandomLoss { .. } | C::LatencyTooSmall { .. } | C::KeyMissing { .. }),
            C::LargePacketsLost { .. } => {
                matches!(
                    other,
                    C::Outage { .. }
                        | C::NothingArrives { .. }
                        | C::RandomLoss { .. }
                        | C::NothingHeard { .. }
                        | C::Pause { .. }
                        | C::RateFell { .. }
                )
            }
            C::PathFull { .. } => matches!(
                other,
                C::AnswersLost { .. }
                    | C::ClockDrift { .. }
                    | C::Outage { .. }
                    | C::RandomLoss { .. }
                    | C::LatencyTooSmall { .. }
                    | C::PeriodicBursts { .. }
                    | C::CeilingReached { .. }
            ),
            C::CeilingReached { .. } => matches!(other, C::RandomLoss { .. } | C::LatencyTooSmall { .. }),
            C::PeerSlow { .. } | C::WindowTooSmall { .. } => {
                matches!(
                    other,
                    C::NothingArrives { .. }
                        | C::LargePacketsLost { .. }
                        | C::LatencyTooSmall { .. }
                        | C::RandomLoss { .. }
                        | C::CeilingReached { .. }
                )
            }
            C::Outage { .. } => matches!(other, C::RandomLoss { .. } | C::LatencyTooSmall { .. }),
            C::PeriodicBursts { .. } => matches!(other, C::Outage { .. } | C::RandomLoss { .. } | C::LatencyTooSmall { .. }),
            C::LatencyTooSmall { .. } => matches!(other, C::RandomLoss { lost, .. } if *lost < 0.1),
            C::KeyMissing { .. } => matches!(other, C::RateFell { .. } | C::RandomLoss { .. }),
            C::TwoSenders { .. } => {
                matches!(other, C::Restarted { .. } | C::PlaceTaken { .. } | C::PeerGone { .. } | C::NothingHeard { .. } | C::Pause { .. })
            }
            C::Content(_) | C::Differs(_) => matches!(other, C::SamePicture { .. } | C::RateFell { .. }),
            _ => false,
        }
    }

    /// Which is to be fixed first: the least.
    pub(super) const fn rank(&self) -> u8 {
        match self {
            Self::OwnMachine(Slow::Drops(_) | Slow::Busy(_)) => 0,
            Self::PassphraseChanged | Self::PlaceTaken { .. } | Self::TwoSenders { .. } => 1,
            Self::PeerGone { .. } | Self::NothingHeard { .. } => 2,
            Self::LargePacketsLost { .. } => 3,
            Self::EncoderStopped { .. } | Self::NothingArrives { .. } => 4,
            Self::AnswersLost { .. } => 5,
            Self::Pause { .. } => 6,
            Self::KeyMissing { .. } => 7,
            Self::PathFull { .. } => 8,
            Self::OwnMachine(Slow::Late(_)) | Self::PeerSlow { .. } | Self::WindowTooSmall { .. } | Self::CeilingReached { .. } => 9,
            Self::PeriodicBursts { .. } | Self::Outage { .. } => 10,
            Self::LatencyTooSmall { .. } => 11,
            Self::RandomLoss { .. } => 12,
            Self::KeyUnconfirmed { .. } => 13,
            Self::Differs(_) | Self::Content(_) | Self::RateFell { .. } => 14,
            Self::SamePicture { .. } => 15,
            Self::ClockDrift { .. } => 16,
            Self::Restarted { .. } => 17,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_queue_is_none_of_this_machine_s() {
        let full = |ms| Cause::PathFull { carries: None, set: None, queue: Duration::from_millis(ms) };
        let late = Cause::OwnMachine(Slow::Late(50.0));
        assert!(late.explains(&full(100)) && !late.explains(&full(900)));
        assert!(Cause::OwnMachine(Slow::Drops(9)).explains(&full(900)), "drops look like a full path");
        assert!(full(900).rank() < late.rank());
    }
}
