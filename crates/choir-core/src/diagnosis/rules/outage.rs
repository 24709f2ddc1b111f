//! The path was gone for a moment: many packets in a row are missing, and hardly any others.

use crate::{diagnosis::course::Course, facts::Cause};
use std::time::Duration;

/// Shorter is no outage, s; and what is made good is one only from the second on.
const LEAST: f64 = 0.04;
const LONG: f64 = 0.12;
/// Fewer in a row are no outage.
const LEAST_PACKETS: u32 = 8;
const TICKS: usize = 3;

pub(super) fn outage(c: &mut Course) -> Option<Cause> {
    c.up()?;
    let (lasted, packets) = within(c, TICKS)?;
    let harmful = lasted.as_secs_f64() >= LONG || c.sum(TICKS, |t| t.missing) > 0;
    harmful.then_some(Cause::Outage { lasted, packets })
}

/// The longest outage of the last ticks, if outages are most of what was lost in them: how long,
/// and packets in a row.
pub(super) fn within(c: &Course, ticks: usize) -> Option<(Duration, u32)> {
    let packets = c.pieces(ticks).filter_map(|p| p.hole).map(|h| h.0).max().filter(|packets| *packets >= LEAST_PACKETS)?;
    let time: f64 = c.last(10).map(|t| t.length.as_secs_f64()).sum();
    let lasted = f64::from(packets) * time / c.sum(10, |t| t.packets + t.lost).max(1) as f64;
    // The longest of each part of a second are there, so that several outages add up.
    (lasted >= LEAST && c.mostly_in_runs(ticks, packets.div_ceil(3))).then(|| (Duration::from_secs_f64(lasted), packets))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, lossy, tick, with_pieces};
    use crate::facts::{Direction, WayTick};

    #[test]
    fn a_moment_without_a_path_is_told_with_its_length() {
        let gone = with_pieces(WayTick { lost: 152, holes: 1, missing: 150, ..tick() }, |n, p| p.hole = (n == 2).then_some((152, p.ago)));
        let named = |t: WayTick| outage(&mut course(Direction::In, vec![tick(), tick(), t]));
        let Some(Cause::Outage { lasted, packets: 152 }) = named(gone) else { panic!("not told") };
        assert!((0.15..0.25).contains(&lasted.as_secs_f64()), "{lasted:?}");
        assert_eq!((named(WayTick { missing: 3, ..lossy(40, 1) }), named(tick())), (None, None));
    }
}
