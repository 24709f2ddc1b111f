//! Packets are lost at random, and more than repeats make good, or so many that nothing is left in
//! reserve.

use super::path_full;
use crate::{diagnosis::course::Course, facts::Cause, limits};

const TICKS: usize = 5;

pub(super) fn random(c: &mut Course) -> Option<Cause> {
    c.up()?;
    let (lost, missing) = (c.lost_share(TICKS), c.sum(TICKS, |t| t.missing));
    let again = c.last(TICKS).filter(|t| t.lost > 0).count() >= 2;
    let (several, many) = (again && c.sum(TICKS, |t| t.lost) >= 5, lost >= limits::HEAVY_LOSS);
    (several && (many || missing > 0) && !path_full::begins(c)).then(|| Cause::RandomLoss { lost, burst: c.burst(TICKS) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, lossy, tick};
    use crate::facts::{Direction, WayTick};

    #[test]
    fn loss_that_repeats_do_not_make_good_is_told_with_its_share() {
        let named = |t: WayTick| random(&mut course(Direction::In, vec![t; 5]));
        let Some(Cause::RandomLoss { lost, burst }) = named(WayTick { missing: 4, ..lossy(30, 2) }) else { panic!("not told") };
        assert!((lost - 30.0 / 764.0).abs() < 1e-6 && (burst - 2.0).abs() < 1e-6, "{lost} {burst}");
        assert!(named(lossy(100, 1)).is_some(), "so much leaves no reserve");
        assert_eq!((named(lossy(30, 2)), named(tick())), (None, None));
    }
}
