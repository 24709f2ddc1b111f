//! Keys: packets that cannot be decrypted, and a new key that the peer does not confirm.

use crate::{diagnosis::course::Course, facts::Cause, units::of_ms};

/// A confirmation takes a round trip; this long it is asked for again and again, ms.
const UNCONFIRMED: f64 = 2500.0;

pub(super) fn missing(c: &mut Course) -> Option<Cause> {
    let undecrypted = c.sum(2, |t| t.undecrypted);
    let share = undecrypted as f64 / (undecrypted + c.sum(2, |t| t.packets)).max(1) as f64;
    (undecrypted >= 20 && share > 0.01).then_some(Cause::KeyMissing { share })
}

pub(super) fn unconfirmed(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    let ms = r.tick.key_unconfirmed_ms.filter(|ms| *ms > UNCONFIRMED + 3.0 * r.tick.rtt_ms.unwrap_or(0.0))?;
    Some(Cause::KeyUnconfirmed { waiting: of_ms(ms) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, tick};
    use crate::facts::{Direction, WayTick};

    #[test]
    fn what_cannot_be_decrypted_and_what_is_not_confirmed_is_told() {
        let here = |undecrypted| missing(&mut course(Direction::In, vec![WayTick { undecrypted, ..tick() }; 2])).map(|c| c.name());
        assert_eq!((here(0), here(4), here(60)), (None, None, Some("key-missing")));
        let there = |ms| unconfirmed(&mut course(Direction::Out, [WayTick { key_unconfirmed_ms: Some(ms), ..tick() }])).map(|c| c.name());
        assert_eq!((there(400.0), there(2700.0)), (None, Some("key-unconfirmed")));
    }
}
