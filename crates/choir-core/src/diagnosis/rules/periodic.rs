//! Packets stay away at regular intervals: radio that looks for other networks, or anything else
//! with a clock.

use crate::{
    diagnosis::course::{BEAT_PACKETS, Course},
    facts::Cause,
};
use std::time::Duration;

/// Fewer have no rhythm.
const LEAST: usize = 4;
/// Of the mean interval, each may be off by so much, and 60 ms.
const OFF: f64 = 0.08;
/// Shorter ones are no scan but the path's usual way.
const SHORTEST: f64 = 0.45;

pub(super) fn bursts(c: &mut Course) -> Option<Cause> {
    let last = c.beats().len().checked_sub(LEAST)?;
    let beats: Vec<f64> = c.beats().map(|at| at.as_secs_f64()).collect();
    // As many of the latest as keep the rhythm.
    let (mut seen, mut period) = (0, 0.0);
    for first in (0..=last).rev() {
        let part = &beats[first..];
        let mean = (part[part.len() - 1] - part[0]) / (part.len() - 1) as f64;
        if mean < SHORTEST || part.windows(2).any(|w| (w[1] - w[0] - mean).abs() > OFF * mean + 0.06) {
            break;
        }
        (seen, period) = (part.len(), mean);
    }
    // Where much else is lost as well, chance has a rhythm now and then.
    let most = c.mostly_in_runs(20, BEAT_PACKETS);
    // It still goes on.
    let goes_on = c.now().as_secs_f64() - beats[beats.len() - 1] < 1.5 * period;
    (seen >= LEAST && goes_on && most).then(|| Cause::PeriodicBursts { period: Duration::from_secs_f64(period), seen })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, tick, with_pieces};
    use crate::facts::{Direction, WayTick};

    fn named(every: impl Fn(usize) -> bool) -> Option<Cause> {
        let burst = || with_pieces(WayTick { lost: 9, holes: 1, ..tick() }, |n, p| p.hole = (n == 1).then_some((9, p.ago)));
        bursts(&mut course(Direction::In, (0..21).map(|n| if every(n) { burst() } else { tick() })))
    }

    #[test]
    fn what_comes_every_so_often_has_its_period_and_chance_has_none() {
        let found = named(|n| n % 4 == 0);
        assert_eq!(found, Some(Cause::PeriodicBursts { period: Duration::from_secs(4), seen: 6 }));
        assert_eq!(named(|n| [1, 3, 8, 9, 15, 20].contains(&n)), None);
        assert_eq!(named(|n| n < 12 && n % 4 == 0), None, "it is over");
    }
}
