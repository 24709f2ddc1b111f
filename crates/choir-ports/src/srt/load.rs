//! What a thread has to do: whether it wakes for packets or polls, and what it takes of a core.

use std::{
    collections::VecDeque,
    time::{Duration, Instant},
};

/// From this many datagrams a second on, in and out, polling costs less than waking for each.
const BUSY_PER_SECOND: u64 = 2500;

/// Datagrams per second, to choose between waking for each and polling, and what that takes of a
/// core.
#[derive(Debug)]
pub(super) struct Load {
    since: Instant,
    count: u64,
    busy: bool,
    cpu: VecDeque<(Instant, Duration)>,
}

impl Load {
    pub fn new(now: Instant) -> Self {
        Self { since: now, count: 0, busy: false, cpu: VecDeque::new() }
    }

    /// There are so many that it polls.
    pub fn is_busy(&self) -> bool {
        self.busy
    }

    pub fn note(&mut self, now: Instant, datagrams: usize) {
        self.count += datagrams as u64;
        let passed = now.duration_since(self.since);
        if passed >= Duration::from_millis(50) {
            self.busy = self.count as u128 * 1000 > u128::from(BUSY_PER_SECOND) * passed.as_millis();
            (self.since, self.count) = (now, 0);
        }
    }

    /// Share of a core in the last second, in thousandths.
    pub fn share(&mut self, now: Instant, cpu: Duration) -> u64 {
        while self.cpu.len() > 1 && self.cpu.get(1).is_some_and(|(at, _)| now - *at >= Duration::from_secs(1)) {
            self.cpu.pop_front();
        }
        self.cpu.push_back((now, cpu));
        let Some((since, before)) = self.cpu.front() else { return 0 };
        let passed = (now - *since).as_micros().max(1);
        ((cpu - *before).as_micros() * 1000 / passed) as u64
    }
}
