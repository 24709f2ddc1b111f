//! Packets are lost at random, and more than repeats make good, or so many that nothing is left in
//! reserve.

use super::path_full;
use crate::{diagnosis::course::Course, facts::Cause, limits};

const TICKS: usize = 5;

pub(super) fn random(c: &mut Course) -> Option<Cause> {
    c.up()?;
    if path_full::begins(c) {
        return None;
    }
    let (lost, missing) = (c.lost_share(TICKS), c.sum(TICKS, |t| t.missing));
    let again = c.last(TICKS).filter(|t| t.lost > 0).count() >= 2;
    let (several, many) = (again && c.sum(TICKS, |t| t.lost) >= 5, lost >= limits::HEAVY_LOSS);
    (several && (many || missing > 0)).then(|| Cause::RandomLoss { lost, burst: c.burst(TICKS) })
}
