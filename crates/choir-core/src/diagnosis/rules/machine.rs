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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{after, course, reading, tick};
    use crate::facts::{Direction, WayTick};

    #[test]
    fn drops_count_at_once_and_lateness_when_it_lasts() {
        assert_eq!(slow(&mut course(Direction::In, [WayTick { kernel_drops: 9, ..tick() }])), Some(Cause::OwnMachine(Slow::Drops(9))));
        let late = |all: &[f64]| {
            slow(&mut after(all.iter().map(|late| {
                let mut r = reading(Direction::In, tick());
                r.around.late_ms = Some(*late);
                r
            })))
        };
        assert_eq!(late(&[60.0, 70.0, 80.0]), Some(Cause::OwnMachine(Slow::Late(80.0))));
        assert_eq!((late(&[60.0, 2.0, 80.0]), late(&[80.0])), (None, None));
        let busy = |share| {
            let mut r = reading(Direction::In, tick());
            r.around.busy = Some(share);
            slow(&mut after(vec![r; 3]))
        };
        assert_eq!((busy(0.97), busy(0.7)), (Some(Cause::OwnMachine(Slow::Busy(0.97))), None));
    }
}
