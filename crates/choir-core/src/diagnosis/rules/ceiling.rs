//! The sender's own ceiling is reached: packets wait for it, and repeats come too late.

use crate::{
    diagnosis::course::Course,
    facts::{Cause, WayTick},
    units::Bitrate,
};

/// Of the ceiling.
const NEARLY: f64 = 0.93;
/// Packets wait so long for their first sending, ms.
const WAITED_MS: f64 = 15.0;

pub(super) fn reached(c: &mut Course) -> Option<Cause> {
    if c.is_in() {
        return None;
    }
    let full = |t: &WayTick| {
        let ceiling = t.ceiling_bps?;
        (t.wire_bps() as f64 > NEARLY * ceiling as f64 && t.waited_ms? > WAITED_MS).then_some(ceiling)
    };
    let last: Vec<u64> = c.last(3).filter_map(full).collect();
    let trouble = c.sum(3, |t| t.lost + t.missing) > 0;
    (last.len() >= 2 && trouble).then(|| Cause::CeilingReached { ceiling: Bitrate(last[last.len() - 1]) })
}
