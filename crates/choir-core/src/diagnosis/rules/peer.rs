//! The peer does not take what is sent: its program is slow, or its window is small.

use crate::{
    diagnosis::course::Course,
    facts::{Cause, WayTick},
};

/// Room left, as a part of the window.
const LITTLE: f64 = 0.08;
/// Latency and round trip hold so much of what is sent; the rest is for what varies.
const SPARE: f64 = 1.2;

pub(super) fn slow(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    let t = &r.tick;
    let window = t.peer_window?;
    let per_second = c.sum(3, |t| t.packets) as f64 / c.last(3).map(|t| t.length.as_secs_f64()).sum::<f64>().max(0.1);
    let takes = per_second * (t.latency_ms? + t.rtt_ms.unwrap_or(0.0)) / 1000.0 * SPARE;
    let small = f64::from(window) < takes;
    if c.sum(2, |t| t.window_dropped) > 0 && small {
        return Some(Cause::WindowTooSmall { window, takes: takes.ceil() as u32 });
    }
    let free = t.peer_free?;
    let full = |t: &WayTick| t.peer_free.is_some_and(|free| f64::from(free) < LITTLE * f64::from(window));
    (!small && c.last(2).count() == 2 && c.last(2).all(full)).then_some(Cause::PeerSlow { free })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, tick};
    use crate::facts::Direction;

    #[test]
    fn a_slow_peer_is_told_from_one_with_a_small_window() {
        let named = |t: WayTick| slow(&mut course(Direction::Out, vec![t; 3])).map(|c| c.name());
        assert_eq!(named(WayTick { peer_free: Some(200), ..tick() }), Some("peer-slow"));
        assert_eq!(named(WayTick { peer_window: Some(64), peer_free: Some(0), window_dropped: 9, ..tick() }), Some("window-too-small"));
        assert_eq!(named(tick()), None);
    }
}
