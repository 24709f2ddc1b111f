//! When a datagram came, by the steady clock: the system stamps it with the time of day, which may
//! be set at any moment.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// If the two clocks have gone further apart than this since the last look, the time of day was
/// set.
const APART_MOST: Duration = Duration::from_millis(1);

/// The time of day and the steady clock at one moment.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Clocks {
    day: Duration,
    steady: Instant,
}

impl Clocks {
    pub fn read() -> Self {
        // In this order a pause in between makes nothing seem to have come before it was sent.
        Self { day: SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default(), steady: Instant::now() }
    }

    /// When a datagram came that the system stamped so, after `before`. If the time of day was set
    /// since, its stamp says nothing: then it has come now.
    pub fn came(&self, before: &Self, stamp: Option<Duration>) -> Instant {
        let passed = self.steady.saturating_duration_since(before.steady);
        let is_steady = self.day.checked_sub(before.day).is_some_and(|day| day.abs_diff(passed) <= APART_MOST);
        let age = stamp.filter(|_| is_steady).and_then(|stamp| self.day.checked_sub(stamp)).unwrap_or_default();
        self.steady.checked_sub(age).unwrap_or(self.steady)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By a steady clock and a time of day that have gone for so many µs.
    fn at(steady: u64, day: u64) -> Clocks {
        static START: std::sync::LazyLock<Instant> = std::sync::LazyLock::new(Instant::now);
        Clocks { day: Duration::from_secs(1_000_000) + Duration::from_micros(day), steady: *START + Duration::from_micros(steady) }
    }

    /// How many µs ago it came, by a stamp of so many µs.
    fn ago(before: Clocks, now: Clocks, stamp: Option<u64>) -> u128 {
        let stamp = stamp.map(|us| Duration::from_secs(1_000_000) + Duration::from_micros(us));
        (now.steady - now.came(&before, stamp)).as_micros()
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
