//! How late packets leave: from the moment at which one is due to the end of the turn that sent it.

use std::time::Duration;

/// Width of a class, µs.
const STEP_US: u32 = 50;
/// Classes up to 10 ms; the last takes what is later still.
const CLASSES: usize = 200;

/// Counts packets by their lateness.
#[derive(Debug, Clone)]
pub struct LatenessCount {
    classes: [u32; CLASSES],
    total: u32,
    most_us: u32,
}

impl Default for LatenessCount {
    fn default() -> Self {
        Self { classes: [0; CLASSES], total: 0, most_us: 0 }
    }
}

impl LatenessCount {
    pub(super) fn note(&mut self, us: u32) {
        let class = ((us / STEP_US) as usize).min(CLASSES - 1);
        self.classes[class] += 1;
        self.total += 1;
        self.most_us = self.most_us.max(us);
    }

    /// Adds what another counted.
    pub fn add(&mut self, other: &Self) {
        self.classes.iter_mut().zip(&other.classes).for_each(|(n, more)| *n += more);
        self.total += other.total;
        self.most_us = self.most_us.max(other.most_us);
    }

    /// What was counted. Each share is told as the end of its class.
    #[must_use]
    pub fn lateness(&self) -> Lateness {
        let at = |share: f64| {
            let (wanted, mut sum) = ((f64::from(self.total) * share).ceil() as u32, 0);
            let class = self.classes.iter().position(|n| {
                sum += n;
                sum >= wanted
            });
            let end = class.filter(|n| n + 1 < CLASSES).map_or(self.most_us, |n| (n as u32 + 1) * STEP_US);
            Duration::from_micros(end.min(self.most_us).into())
        };
        Lateness { half: at(0.5), most_of_all: at(0.99), most: Duration::from_micros(self.most_us.into()) }
    }
}

/// How late packets left: all zero when there were none.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Lateness {
    /// Half of them no later than this.
    pub half: Duration,
    /// 99 of 100 no later than this.
    pub most_of_all: Duration,
    /// None later than this.
    pub most: Duration,
}

/// What a thread tells others.
#[derive(Debug, Default)]
pub(super) struct LatenessTold {
    /// Of the last second.
    pub second: Lateness,
    /// Since somebody took it.
    pub since: LatenessCount,
}

impl LatenessTold {
    pub fn add(&mut self, second: &LatenessCount) {
        self.second = second.lateness();
        self.since.add(second);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_are_those_of_one_second_and_of_all() {
        let (mut count, mut told) = (LatenessCount::default(), LatenessTold::default());
        assert_eq!(count.lateness(), Lateness::default());
        (0..98).for_each(|_| count.note(20));
        count.note(730);
        count.note(90_000);
        let us = Duration::from_micros;
        told.add(&count);
        assert_eq!(told.second, Lateness { half: us(50), most_of_all: us(750), most: us(90_000) });
        let mut next = LatenessCount::default();
        (0..2).for_each(|_| next.note(95_000));
        told.add(&next);
        assert_eq!(told.second, Lateness { half: us(95_000), most_of_all: us(95_000), most: us(95_000) });
        assert_eq!(told.since.lateness(), Lateness { half: us(50), most_of_all: us(95_000), most: us(95_000) });
    }
}
