//! The two clocks run apart further than quartz does.

use crate::{diagnosis::course::Course, facts::Cause};

/// Parts per million; a quartz is within 100.
const PPM: f64 = 150.0;
/// Time over which it is measured, ticks.
const TICKS: usize = 20;

pub(super) fn clocks(c: &mut Course) -> Option<Cause> {
    let points: Vec<f64> = c.last(TICKS).filter_map(|t| t.drift_us).map(|us| us as f64).collect();
    if points.len() < TICKS {
        return None;
    }
    // Both halves say so, so that a single jump is none.
    let half = TICKS / 2;
    let slope = |part: &[f64]| (part[part.len() - 1] - part[0]) / (part.len() - 1) as f64;
    let (a, b) = (slope(&points[..half]), slope(&points[half..]));
    let ppm = slope(&points);
    (ppm.abs() > PPM && a * b > 0.0 && a.abs().min(b.abs()) > PPM * 0.6).then_some(Cause::ClockDrift { ppm })
}
