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
    let beats: Vec<f64> = c.beats().map(|at| at.as_secs_f64()).collect();
    let last = beats.len().checked_sub(LEAST)?;
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
