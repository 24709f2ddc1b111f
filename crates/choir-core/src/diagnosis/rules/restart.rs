//! The connection was made anew just now.

use crate::{diagnosis::course::Course, facts::Cause};
use std::time::Duration;

/// It is told for so long.
const FRESH: Duration = Duration::from_secs(10);

pub(super) fn restarted(c: &mut Course) -> Option<Cause> {
    // A feed may have several receivers that come and go.
    let r = c.up().filter(|_| c.is_in())?;
    let ago = r.up_for;
    (c.is_anew() && ago < FRESH).then_some(Cause::Restarted { ago })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{after, reading, tick};
    use crate::facts::Direction;

    #[test]
    fn a_second_connection_is_a_restart_for_a_while() {
        let at = |sessions, up: u64| {
            let mut r = reading(Direction::In, tick());
            (r.around.sessions, r.up_for) = (sessions, Duration::from_secs(up));
            r
        };
        assert_eq!(restarted(&mut after([at(1, 2)])), None, "the first is none");
        assert_eq!(restarted(&mut after([at(1, 60), at(2, 3)])), Some(Cause::Restarted { ago: Duration::from_secs(3) }));
        assert_eq!(restarted(&mut after([at(1, 60), at(2, 3), at(2, 11)])), None);
    }
}
