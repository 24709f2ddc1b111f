//! Lines that somebody elsewhere looks at now and then, by asking: each is decoded as it comes for
//! a while after it was asked for last.

use crate::still::Still;
use choir_core::id::LineId;
use choir_host::lock;
use std::{
    io,
    sync::Mutex,
    time::{Duration, Instant},
};
use tokio::sync::watch::Receiver;

/// Nobody looks any more after this time.
const LASTS: Duration = Duration::from_secs(2);
/// Pictures that are decoded at once for those who look from elsewhere.
const MOST: usize = 8;

struct Look {
    line: LineId,
    fit: (usize, usize),
    pictures: Receiver<Option<Still>>,
    asked: Instant,
}

/// What is being looked at.
#[derive(Default)]
pub(crate) struct Looks(Mutex<Vec<Look>>);

impl Looks {
    /// Somebody looks at this line.
    pub fn has(&self, line: LineId) -> bool {
        lock(&self.0).iter().any(|look| look.line == line && look.asked.elapsed() < LASTS)
    }

    /// The newest picture of a line, no larger than `fit`; `watch` begins to decode it.
    pub fn newest(&self, line: LineId, fit: (usize, usize), watch: impl FnOnce() -> io::Result<Receiver<Option<Still>>>) -> Option<Still> {
        let mut all = lock(&self.0);
        all.retain(|look| look.asked.elapsed() < LASTS);
        if let Some(look) = all.iter_mut().find(|look| look.line == line && look.fit == fit) {
            look.asked = Instant::now();
            return look.pictures.borrow().clone();
        }
        if all.len() == MOST {
            // Whoever has waited longest asks again.
            let oldest = all.iter().enumerate().min_by_key(|(_, look)| look.asked).map(|(n, _)| n);
            oldest.map(|n| all.swap_remove(n));
        }
        let pictures = watch().ok()?;
        all.push(Look { line, fit, pictures, asked: Instant::now() });
        None
    }
}
