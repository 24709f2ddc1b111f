//! What a thread has to do: whether it wakes for packets or polls, and what it takes of a core.

use std::{
    collections::VecDeque,
    time::{Duration, Instant},
};

/// From this many datagrams a second on, in and out, polling costs less than waking for each.
const BUSY_PER_SECOND: u64 = 2500;
/// Half of it is how early or late media leaves.
const POLL_EVERY: Duration = Duration::from_millis(2);

/// Datagrams per second, to choose between waking for each and polling, and what that takes of a
/// core.
#[derive(Debug)]
pub(super) struct Load {
    since: Instant,
    count: u64,
    poll_every: Option<Duration>,
    cpu: VecDeque<(Instant, Duration)>,
}

impl Load {
    pub fn new(now: Instant) -> Self {
        Self { since: now, count: 0, poll_every: None, cpu: VecDeque::new() }
    }

    /// How often it polls, where there are so many.
    pub fn poll_every(&self) -> Option<Duration> {
        self.poll_every
    }

    /// Media that is due so soon behind a poll is released by it, rather than late by the next one:
    /// half of the time between them, and what a turn takes.
    pub fn ahead(&self) -> Duration {
        self.poll_every.map_or(Duration::ZERO, |every| every * 5 / 8)
    }

    pub fn note(&mut self, now: Instant, datagrams: usize) {
        self.count += datagrams as u64;
        let passed = now.duration_since(self.since);
        if passed >= Duration::from_millis(50) {
            let busy = u128::from(self.count) * 1000 > u128::from(BUSY_PER_SECOND) * passed.as_millis();
            self.poll_every = busy.then_some(POLL_EVERY);
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_polls_where_there_are_many() {
        let start = Instant::now();
        let mut load = Load::new(start);
        let mut now = start;
        for (per_second, every_us) in [(2400, 0), (2600, 2000), (100_000, 2000), (2400, 0), (0, 0)] {
            for _ in 0..10 {
                now += Duration::from_millis(10);
                load.note(now, per_second / 100);
            }
            let every = Duration::from_micros(every_us);
            assert_eq!((load.poll_every().unwrap_or_default(), load.ahead()), (every, every * 5 / 8), "{per_second} a second");
        }
    }
}
