//! Presentation times of one track held against their arrival: a single wrong one is corrected, a
//! clock that has moved is followed.

use std::time::Instant;

/// A time this far beyond what has passed since the last unit (500 ms, 90 kHz) is not believed at
/// once: units come late, not early.
const AHEAD_MAX: i64 = 45_000;
/// Least distance back that is not believed at once: 100 ms.
const BACK_MIN: i64 = 9000;
/// Pictures that may be shown in another order, where the stream does not say.
const REORDER: i64 = 8;
/// Units in a row that agree on another time before it is believed.
const AGREE: u32 = 3;

/// What is to be done with a unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Checked {
    /// Its time is plausible.
    Good(i64),
    /// It is not; this is what it should be.
    Mended(i64),
    /// The clock has moved: what comes has nothing to do with what was.
    Moved(i64),
}

/// Checks one track.
#[derive(Debug, Default)]
pub(crate) struct StampGuard {
    last: Option<(i64, Instant)>,
    /// Between two units, 90 kHz.
    step: i64,
    /// The last time that was not believed, and how many in a row agreed.
    doubted: Option<(i64, u32)>,
}

impl StampGuard {
    /// Checks the time of the unit that came `now`. `reorder` is how many pictures may be shown
    /// later than they come.
    pub fn check(&mut self, now: Instant, pts: i64, reorder: Option<u8>) -> Checked {
        let Some((last, then)) = self.last else {
            self.last = Some((pts, now));
            return Checked::Good(pts);
        };
        let passed = (now.saturating_duration_since(then).as_nanos() * 9 / 100_000) as i64;
        let back = ((reorder.map_or(REORDER, i64::from) + 1) * 2 * self.step).max(BACK_MIN);
        let fits = |from: i64| (-back..=passed + AHEAD_MAX).contains(&(pts - from));
        if fits(last) {
            if pts > last {
                self.step = (pts - last).min(AHEAD_MAX);
            }
            (self.last, self.doubted) = (Some((pts, now)), None);
            return Checked::Good(pts);
        }
        let agree = self.doubted.filter(|(doubted, _)| fits(*doubted)).map_or(1, |(_, n)| n + 1);
        if agree >= AGREE {
            (self.last, self.doubted) = (Some((pts, now)), None);
            return Checked::Moved(pts);
        }
        self.doubted = Some((pts, agree));
        let mended = last + self.step.max(1);
        self.last = Some((mended, now));
        Checked::Mended(mended)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]

    use super::*;
    use std::time::Duration;

    fn run(times: &[i64]) -> Vec<Checked> {
        let (start, mut guard) = (Instant::now(), StampGuard::default());
        times.iter().enumerate().map(|(n, t)| guard.check(start + Duration::from_millis(40 * n as u64), *t, Some(0))).collect()
    }

    #[test]
    fn one_wrong_time_is_mended_and_a_moved_clock_is_followed() {
        let steady = |n: i64| n * 3600;
        for wrong in [-90_000, 90_000, 900_000, -20_000] {
            let mut times: Vec<i64> = (0..50).map(steady).collect();
            times[20] += wrong;
            let checked = run(&times);
            assert_eq!(checked[20], Checked::Mended(steady(20)), "{wrong}");
            assert!(checked.iter().enumerate().all(|(n, c)| n == 20 || *c == Checked::Good(steady(n as i64))), "{wrong}: {checked:?}");
        }
        let mut times: Vec<i64> = (0..50).map(steady).collect();
        times[20..].iter_mut().for_each(|t| *t -= 90_000);
        let checked = run(&times);
        assert_eq!(checked[22], Checked::Moved(steady(22) - 90_000), "after two that were not believed: {checked:?}");
        assert!(checked[23..].iter().enumerate().all(|(n, c)| *c == Checked::Good(steady(23 + n as i64) - 90_000)));
    }

    #[test]
    fn late_units_pauses_and_other_orders_are_plausible() {
        let (start, mut guard) = (Instant::now(), StampGuard::default());
        // A second of silence, then all at once.
        for n in 0..25i64 {
            assert_eq!(guard.check(start + Duration::from_secs(1), n * 3600, Some(0)), Checked::Good(n * 3600));
        }
        assert_eq!(guard.check(start + Duration::from_secs(31), 30 * 90_000, Some(0)), Checked::Good(30 * 90_000));
        let mut guard = StampGuard::default();
        for (n, shown) in [0i64, 3, 1, 2, 6, 4, 5, 9, 7, 8].into_iter().enumerate() {
            let at = start + Duration::from_millis(40 * n as u64);
            assert_eq!(guard.check(at, shown * 3600, None), Checked::Good(shown * 3600));
        }
    }
}
