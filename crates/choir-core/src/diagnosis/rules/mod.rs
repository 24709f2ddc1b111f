//! One rule a file.

mod answers;
mod ceiling;
mod content;
mod drift;
mod key;
mod large;
mod latency;
mod loss;
mod machine;
mod outage;
mod path_full;
mod peer;
mod periodic;
mod place;
mod rate;
mod restart;
mod senders;
mod silence;

use super::course::Course;
use crate::facts::{Cause, Reading};

/// Rules that need the present moment only.
pub(super) const AT_ONCE: [fn(&Reading) -> Option<Cause>; 4] = [silence::silence, answers::lost, place::place, place::passphrase];

/// Rules that look back.
pub(super) const OVER_TIME: &[fn(&mut Course) -> Option<Cause>] = &[
    machine::slow,
    answers::few,
    large::lost,
    key::missing,
    key::unconfirmed,
    path_full::path_full,
    ceiling::reached,
    peer::slow,
    outage::outage,
    periodic::bursts,
    latency::too_small,
    loss::random,
    senders::two,
    restart::restarted,
    drift::clocks,
    content::differs,
    content::shows,
    content::same,
    rate::fell,
];
