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
