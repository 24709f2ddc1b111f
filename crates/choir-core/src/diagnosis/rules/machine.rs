//! This machine is too slow: the system drops what is not taken in time, packets leave late, or a
//! thread takes a whole core.

use crate::{
    diagnosis::course::{Course, Own},
    facts::{Cause, Slow},
};

/// Packets that leave so late in each of the last ticks, ms.
const LATE_MS: f64 = 40.0;
/// Share of a core from which a thread has no time left.
const BUSY: f64 = 0.92;
const TICKS: usize = 3;

pub(super) fn slow(c: &mut Course) -> Option<Cause> {
    let drops = c.sum(2, |t| t.kernel_drops);
    if drops > 0 {
        return Some(Cause::OwnMachine(Slow::Drops(drops)));
    }
    let r = c.up()?;
    let (late, busy) = (r.around.late_ms, r.around.busy);
    let always = |slow: fn(&Own) -> bool| c.own(TICKS).is_some_and(|mut all| all.all(slow));
    let late = late.filter(|_| always(|o| o.late_ms > LATE_MS)).map(Slow::Late);
    late.or_else(|| busy.filter(|_| always(|o| o.busy > BUSY)).map(Slow::Busy)).map(Cause::OwnMachine)
}
