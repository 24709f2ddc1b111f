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
