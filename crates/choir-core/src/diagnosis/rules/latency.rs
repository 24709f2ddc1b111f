//! The latency leaves too little time for repeats: by the model of the advice, with the path as it
//! was measured.

use super::path_full;
use crate::{
    diagnosis::course::Course,
    facts::{Cause, WayTick},
    limits,
    units::of_ms,
};

/// Ticks over which the path is measured.
const TICKS: usize = 10;

pub(super) fn too_small(c: &mut Course) -> Option<Cause> {
    if path_full::begins(c) {
        return None;
    }
    let r = c.up()?;
    let latency_ms = r.tick.latency_ms?;
    let latency = of_ms(latency_ms);
    let path = c.path(TICKS)?;
    let below = path.rtt >= latency;
    let missing = c.sum(3, |t| t.missing);
    let short = |t: &WayTick| t.headroom_ms.is_some_and(|h| h.least < limits::headroom_ms(latency_ms));
    let again = c.last(5).filter(|t| t.lost > 0).count() >= 2;
    let little = c.is_in() && c.last(5).filter(|t| short(t)).count() >= 2;
    if !(again && (below || missing > 0) || little) {
        return None;
    }
    let rtt = path.rtt;
    let set = c.advised(&path);
    // Enough by the model: something else is wrong.
    if !below && set.is_some_and(|set| set <= latency.mul_f64(1.1)) {
        return None;
    }
    Some(Cause::LatencyTooSmall { latency, rtt, set })
}
