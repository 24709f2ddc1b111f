//! The two clocks run apart further than quartz does.

use crate::{
    diagnosis::course::{Course, DRIFTS},
    facts::Cause,
};

/// Parts per million; a quartz is within 100.
const PPM: f64 = 150.0;

pub(super) fn clocks(c: &mut Course) -> Option<Cause> {
    let points = c.drift()?;
    // Both halves say so, so that a single jump is none.
    let half = DRIFTS / 2;
    let slope = |part: &[f64]| (part[part.len() - 1] - part[0]) / (part.len() - 1) as f64;
    let (a, b) = (slope(&points[..half]), slope(&points[half..]));
    let ppm = slope(points);
    (ppm.abs() > PPM && a * b > 0.0 && a.abs().min(b.abs()) > PPM * 0.6).then_some(Cause::ClockDrift { ppm })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, tick};
    use crate::facts::{Direction, WayTick};

    #[test]
    fn only_a_steady_drift_is_of_the_clocks() {
        let drift = |of: fn(i64) -> i64| {
            let ticks = (0..20).map(|n| WayTick { drift_us: Some(of(n)), ..tick() });
            clocks(&mut course(Direction::In, ticks))
        };
        assert!(matches!(drift(|n| n * 300), Some(Cause::ClockDrift { ppm }) if (ppm - 300.0).abs() < 1.0));
        assert!(matches!(drift(|n| n * -200), Some(Cause::ClockDrift { ppm }) if ppm < 0.0));
        assert_eq!((drift(|n| n * 80), drift(|n| if n < 10 { 0 } else { 5000 })), (None, None));
    }
}
