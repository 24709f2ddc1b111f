//! The latency leaves too little time for repeats: by the model of the advice, with the path as it
//! was measured.

use super::{outage, path_full};
use crate::{
    diagnosis::course::Course,
    facts::{Cause, WayTick},
    limits,
    units::of_ms,
};

/// Ticks over which the path is measured.
const TICKS: usize = 10;

pub(super) fn too_small(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    let latency_ms = r.tick.latency_ms?;
    let latency = of_ms(latency_ms);
    let missing = c.sum(3, |t| t.missing);
    let short = |t: &WayTick| t.headroom_ms.is_some_and(|h| h.least < limits::headroom_ms(latency_ms));
    let again = c.last(5).filter(|t| t.lost > 0).count() >= 2;
    let little = c.is_in() && c.last(5).filter(|t| short(t)).count() >= 2;
    // Most ways have no trouble: nothing is measured of them.
    if !again && !little {
        return None;
    }
    // Whatever outages cost, and the repeats behind them, is not the latency's fault.
    if path_full::begins(c) || outage::within(c, TICKS).is_some() {
        return None;
    }
    let path = c.path(TICKS)?;
    let (rtt, below) = (path.rtt, path.rtt >= latency);
    if !(again && (below || missing > 0) || little) {
        return None;
    }
    let set = c.advised(&path);
    // Enough by the model: something else is wrong.
    if !below && set.is_some_and(|set| set <= latency.mul_f64(1.1)) {
        return None;
    }
    Some(Cause::LatencyTooSmall { latency, rtt, set })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, lossy, span, tick, with_pieces};
    use crate::facts::Direction;

    #[test]
    fn a_moment_without_a_path_is_no_reason_for_more_latency() {
        let gone = |packets| {
            with_pieces(WayTick { lost: packets, holes: 1, missing: packets, ..tick() }, |n, p| {
                p.hole = (n == 4).then_some((packets as u32, p.ago))
            })
        };
        // Across the end of a second, with repeats that came late after it.
        let after = |t: WayTick| WayTick { headroom_ms: span(1.0, 110.0), ..t };
        let mut c = course(Direction::In, vec![tick(), tick(), after(gone(150)), after(gone(230)), after(tick()), tick(), tick()]);
        assert_eq!(too_small(&mut c), None);
    }

    #[test]
    fn a_latency_below_the_round_trip_is_too_small_and_an_ample_one_is_not() {
        let far = |latency| {
            let t = WayTick { rtt_ms: Some(240.0), rtt_span_ms: span(238.0, 243.0), latency_ms: Some(latency), missing: 8, ..lossy(8, 1) };
            too_small(&mut course(Direction::Out, vec![t; 4]))
        };
        let Some(Cause::LatencyTooSmall { rtt, set: Some(set), .. }) = far(200.0) else { panic!("not told") };
        assert!(rtt.as_millis() == 240 && set.as_millis() > 400, "{rtt:?} {set:?}");
        assert_eq!(far(2000.0), None);
        assert_eq!(too_small(&mut course(Direction::In, vec![tick(); 4])), None);
    }
}
