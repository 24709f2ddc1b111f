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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, tick};
    use crate::facts::Direction;

    #[test]
    fn a_ceiling_is_reached_when_packets_wait_for_it_and_some_are_lost() {
        let at = |waited, lost| WayTick { ceiling_bps: Some(8_400_000), waited_ms: Some(waited), lost, ..tick() };
        let named = |t: WayTick| reached(&mut course(Direction::Out, vec![t; 3]));
        assert_eq!(named(at(40.0, 3)), Some(Cause::CeilingReached { ceiling: Bitrate(8_400_000) }));
        assert_eq!((named(at(2.0, 3)), named(at(40.0, 0)), named(tick())), (None, None, None));
    }
}
