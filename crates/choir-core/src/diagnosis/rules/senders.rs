//! Two senders take the place from each other.

use crate::{diagnosis::course::Course, facts::Cause};

pub(super) fn two(c: &mut Course) -> Option<Cause> {
    let changes = c.reading()?.around.sender_changes;
    (changes >= 3).then_some(Cause::TwoSenders { changes })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{after, reading, tick};
    use crate::facts::Direction;

    #[test]
    fn senders_that_take_turns_are_two() {
        let named = |changes| {
            let mut r = reading(Direction::In, tick());
            r.around.sender_changes = changes;
            two(&mut after([r]))
        };
        assert_eq!((named(2), named(3)), (None, Some(Cause::TwoSenders { changes: 3 })));
    }
}
