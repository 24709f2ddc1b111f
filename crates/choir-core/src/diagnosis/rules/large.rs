//! Large packets vanish: a part of the path takes only smaller ones (MTU), and nobody says so.

use crate::{diagnosis::course::Course, facts::Cause, limits};
use std::time::Duration;

/// Media is sent in packets of about 1316 bytes; a path that takes these is wide enough.
const LARGE: u32 = 1200;
/// Greetings pass: nothing else has come for so long.
const NOTHING_YET: Duration = Duration::from_millis(1900);
/// Share of packets lost from which it may be that.
const SHARE: f64 = 0.15;

pub(super) fn lost(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    let t = &r.tick;
    let (silent, rtt) = (t.silent_ms?, t.rtt_ms.unwrap_or(0.0));
    if !c.is_in() {
        // It is heard, and says that nothing of what is sent has ever arrived.
        let never = t.peer_packets.unwrap_or(0) == 0 && t.missing > 0 && silent < limits::SIGN_OF_LIFE_MS + rtt;
        return (never && r.up_for > NOTHING_YET).then_some(Cause::LargePacketsLost { passes: None });
    }
    if t.data_silent_ms.is_none() {
        // A sender with nothing to send would give signs of life, and drop nothing.
        let sends = t.missing > 0 || silent > limits::SIGN_OF_LIFE_MS + rtt;
        return (sends && r.up_for > NOTHING_YET).then_some(Cause::LargePacketsLost { passes: None });
    }
    let largest = c.last(3).filter_map(|t| t.largest).max()?;
    let small = c.last(2).count() == 2 && c.largest() > largest.saturating_add(100) || c.largest() < LARGE;
    (small && largest < LARGE && c.lost_share(2) > SHARE).then_some(Cause::LargePacketsLost { passes: Some(largest) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, lossy, tick};
    use crate::facts::{Direction, WayTick};

    #[test]
    fn packets_of_one_size_that_vanish_are_told_from_loss() {
        let small = WayTick { largest: Some(700), missing: 200, ..lossy(200, 2) };
        let named = |ticks: Vec<WayTick>| lost(&mut course(Direction::In, ticks));
        assert_eq!(named(vec![tick(), small.clone(), small.clone(), small.clone()]), Some(Cause::LargePacketsLost { passes: Some(700) }));
        assert_eq!(named(vec![lossy(200, 2); 4]), None, "large ones come as well");
        assert_eq!(named(vec![WayTick { largest: Some(700), ..tick() }; 4]), None, "nothing is lost");
        let never = WayTick { peer_packets: Some(0), missing: 300, ..tick() };
        assert_eq!(lost(&mut course(Direction::Out, [never])), Some(Cause::LargePacketsLost { passes: None }));
        assert_eq!(lost(&mut course(Direction::Out, [tick()])), None);
    }
}
