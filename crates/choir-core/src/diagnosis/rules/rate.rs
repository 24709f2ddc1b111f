//! Far less media comes than usual, though nothing is lost.

use crate::{
    diagnosis::course::{Course, median},
    facts::{Cause, WayTick},
    units::Bitrate,
};

/// Of the usual bitrate.
const FELL: f64 = 0.2;
/// Ticks that it lasts, and ticks before that tell the usual.
const LASTS: usize = 3;
const USUAL: usize = 8;
/// Below this a bitrate says nothing.
const LEAST: f64 = 300_000.0;

pub(super) fn fell(c: &mut Course) -> Option<Cause> {
    if !c.is_in() || c.ticks() < LASTS + USUAL {
        return None;
    }
    let rate = |t: &WayTick| t.rate_bps() as f64;
    let now = c.last(LASTS).map(rate).fold(0.0, f64::max);
    let before = c.ticks() - LASTS;
    let usual = median(c.last(c.ticks()).take(before).map(rate))?;
    let quiet = c.last(1).any(|t| t.bytes == 0);
    (usual > LEAST && !quiet && now < FELL * usual).then_some(Cause::RateFell { now: Bitrate(now as u64), usual: Bitrate(usual as u64) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, tick};
    use crate::facts::Direction;

    #[test]
    fn a_rate_far_below_the_usual_is_told_with_both() {
        let named = |bytes| {
            let low = WayTick { bytes, ..tick() };
            fell(&mut course(Direction::In, std::iter::repeat_n(tick(), 12).chain(std::iter::repeat_n(low, 3))))
        };
        assert_eq!(named(80_000), Some(Cause::RateFell { now: Bitrate(640_000), usual: Bitrate(8_000_000) }));
        assert_eq!((named(600_000), named(0)), (None, None), "a silence is told otherwise");
    }
}
