//! What peers cause, done at most once in a while, however often they ask.

use choir_host::lock;
use std::{
    sync::{
        Mutex,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

/// The first is done at once, what comes soon after it together.
pub(super) struct Pace {
    every: Duration,
    asked: AtomicBool,
    last: Mutex<Option<Instant>>,
}

impl Pace {
    pub const fn new(every: Duration) -> Self {
        Self { every, asked: AtomicBool::new(false), last: Mutex::new(None) }
    }

    /// How long to wait before it is done; `None` where it is going to be done anyway.
    pub fn ask(&self, now: Instant) -> Option<Duration> {
        if self.asked.swap(true, Ordering::AcqRel) {
            return None;
        }
        Some(lock(&self.last).map_or(Duration::ZERO, |last| (last + self.every).saturating_duration_since(now)))
    }

    /// It is done now; what is asked from here on is another time.
    pub fn begin(&self, now: Instant) {
        *lock(&self.last) = Some(now);
        self.asked.store(false, Ordering::Release);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_asked_a_thousand_times_is_done_twice() {
        let (pace, start) = (Pace::new(Duration::from_millis(50)), Instant::now());
        assert_eq!(pace.ask(start), Some(Duration::ZERO));
        pace.begin(start);
        let waits: Vec<Duration> = (0..1000).filter_map(|n| pace.ask(start + Duration::from_micros(n * 10))).collect();
        assert_eq!(waits, [Duration::from_millis(50)]);
        pace.begin(start + Duration::from_millis(50));
        assert_eq!(pace.ask(start + Duration::from_millis(200)), Some(Duration::ZERO), "after a while at once again");
    }
}
