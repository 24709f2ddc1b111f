//! When a datagram came, by the steady clock: the system stamps it with the time of day, which may
//! be set at any moment.

use crate::clock::unix_us;
use std::time::{Duration, Instant};

/// If the two clocks have gone further apart than this since the last look, the time of day was
/// set.
const APART_MOST_US: i64 = 1000;

/// The time of day, µs since 1970, and the steady clock at one moment.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Clocks {
    day: i64,
    steady: Instant,
}

impl Clocks {
    pub fn read() -> Self {
        // In this order a pause in between makes nothing seem to have come before it was sent.
        Self { day: unix_us(), steady: Instant::now() }
    }

    /// When a datagram came that the system stamped so (µs since 1970), after `before`. If the time
    /// of day was set since, its stamp says nothing: then it has come now.
    pub fn came(&self, before: &Self, stamp: Option<i64>) -> Instant {
        let passed = self.steady.saturating_duration_since(before.steady).as_micros() as i64;
        let is_steady = (self.day - before.day - passed).abs() <= APART_MOST_US;
        let age = stamp.filter(|_| is_steady).map_or(0, |stamp| self.day.saturating_sub(stamp).max(0));
        self.steady.checked_sub(Duration::from_micros(age as u64)).unwrap_or(self.steady)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = 1_000_000_000_000;

    /// By a steady clock and a time of day that have gone for so many µs.
    fn at(steady: u64, day: i64) -> Clocks {
        static START: std::sync::LazyLock<Instant> = std::sync::LazyLock::new(Instant::now);
        Clocks { day: DAY + day, steady: *START + Duration::from_micros(steady) }
    }

    /// How many µs ago it came, by a stamp of so many µs.
    fn ago(before: Clocks, now: Clocks, stamp: Option<i64>) -> u128 {
        (now.steady - now.came(&before, stamp.map(|us| DAY + us))).as_micros()
    }

    #[test]
    fn what_waited_has_come_when_it_was_stamped() {
        assert_eq!(ago(at(0, 0), at(2000, 2000), Some(1300)), 700);
        assert_eq!(ago(at(0, 0), at(2000, 2000), None), 0);
        // A time of day that is led back slowly; what came while the clocks were read.
        assert_eq!(ago(at(0, 0), at(2_000_000, 1_999_000), Some(1_990_000)), 9000);
        assert_eq!(ago(at(0, 0), at(2000, 2000), Some(2010)), 0);
    }

    #[test]
    fn what_waited_while_the_time_of_day_was_set_has_come_now() {
        let hour = 3_600_000_000;
        assert_eq!(ago(at(0, 0), at(2000, 2000 + hour), Some(1300)), 0);
        assert_eq!(ago(at(0, hour), at(2000, 2000), Some(1300)), 0);
        assert_eq!(ago(at(0, 0), at(2000, 5000), Some(1300)), 0);
        // And at the next look its stamp counts again.
        assert_eq!(ago(at(2000, 2000 + hour), at(4000, 4000 + hour), Some(3300 + hour)), 700);
    }
}
