//! The path was gone for a moment: many packets in a row are missing, and hardly any others.

use crate::{diagnosis::course::Course, facts::Cause};
use std::time::Duration;

/// Shorter is no outage, s; and what is made good is one only from the second on.
const LEAST: f64 = 0.04;
const LONG: f64 = 0.12;
const TICKS: usize = 3;

pub(super) fn outage(c: &mut Course) -> Option<Cause> {
    c.up()?;
    let packets = c.pieces(TICKS).filter_map(|p| p.hole).map(|h| h.0).max()?;
    let time: f64 = c.last(10).map(|t| t.length.as_secs_f64()).sum();
    let lasted = f64::from(packets) * time / c.sum(10, |t| t.packets + t.lost).max(1) as f64;
    // The longest of each part of a second are there, so that several outages add up.
    let most = c.mostly_in_runs(TICKS, packets.div_ceil(3));
    let harmful = lasted >= LONG || c.sum(TICKS, |t| t.missing) > 0;
    (packets >= 8 && lasted >= LEAST && most && harmful).then(|| Cause::Outage { lasted: Duration::from_secs_f64(lasted), packets })
}
