//! Two senders take the place from each other.

use crate::{diagnosis::course::Course, facts::Cause};

pub(super) fn two(c: &mut Course) -> Option<Cause> {
    let changes = c.reading()?.around.sender_changes;
    (changes >= 3).then_some(Cause::TwoSenders { changes })
}
