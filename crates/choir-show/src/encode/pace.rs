//! A machine that is too slow for an encoding leaves pictures out evenly, and is never late.

use std::time::{Duration, Instant};

/// A picture that comes this much later than it should has waited for others.
const LATE: Duration = Duration::from_millis(150);
/// After a change, until the next: to fewer pictures, and to more.
const SETTLES: Duration = Duration::from_millis(500);
const ROOM_FOR: Duration = Duration::from_secs(2);
/// Share of the time that the work may take: to go on as it is, and to do more.
const BUSY: f64 = 0.92;
const ROOM: f64 = 0.8;
/// Of so many pictures one is always encoded.
const MOST: u32 = 25;
/// Weight of the newest in means.
const NEWEST: f64 = 0.1;

/// Which pictures are encoded.
#[derive(Debug)]
pub(crate) struct Pace {
    /// One of so many.
    every: u32,
    count: u32,
    changed: Option<Instant>,
    /// Seconds for each picture that comes, and on top for each that is encoded.
    each: Option<f64>,
    encoded: Option<f64>,
}

impl Default for Pace {
    fn default() -> Self {
        Self { every: 1, count: 0, changed: None, each: None, encoded: None }
    }
}

impl Pace {
    /// Whether the next picture is encoded, which comes so late; they are so far apart.
    pub fn takes(&mut self, now: Instant, late: Duration, apart: Duration) -> bool {
        let for_long = |time: Duration| self.changed.is_none_or(|at| now.saturating_duration_since(at) >= time);
        if late > LATE {
            if for_long(SETTLES) {
                self.set(now, self.needed(apart, BUSY).max(self.every).max(2));
            }
            // What waits is worked off first.
            if late > LATE * 2 {
                return false;
            }
        } else if self.every > 1 && for_long(ROOM_FOR) && self.needed(apart, ROOM) < self.every {
            self.set(now, self.every - 1);
        }
        self.count = (self.count + 1) % self.every;
        self.count == 0
    }

    /// So much time went into a picture that came.
    pub fn note_each(&mut self, time: Duration) {
        mean(&mut self.each, time);
    }

    /// So much went into encoding one.
    pub fn note_encoded(&mut self, time: Duration) {
        mean(&mut self.encoded, time);
    }

    /// One of so many can be encoded within this share of the time.
    fn needed(&self, apart: Duration, share: f64) -> u32 {
        let apart = apart.as_secs_f64();
        let left = (share * apart - self.each.unwrap_or_default()).max(0.05 * apart);
        ((self.encoded.unwrap_or_default() / left).ceil() as u32).clamp(1, MOST)
    }

    fn set(&mut self, now: Instant, every: u32) {
        (self.every, self.count, self.changed) = (every, 0, Some(now));
    }
}

fn mean(of: &mut Option<f64>, time: Duration) {
    let new = time.as_secs_f64();
    *of = Some(of.map_or(new, |old| old + NEWEST * (new - old)));
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A machine that takes 5 ms for each picture of 25 a second and so long to encode one, for so
    /// many pictures: those encoded, and how late the last one came.
    fn run(parts: &[(u64, u64)]) -> Vec<(u32, Duration)> {
        let (mut pace, start, mut n, mut free) = (Pace::default(), Instant::now(), 0, Duration::ZERO);
        let mut results = Vec::new();
        for (needs_ms, pictures) in parts {
            let (mut encoded, mut late) = (0, Duration::ZERO);
            for _ in 0..*pictures {
                let comes = Duration::from_millis(40 * n);
                n += 1;
                let begins = comes.max(free);
                late = begins - comes;
                free = begins;
                pace.note_each(Duration::from_millis(5));
                free += Duration::from_millis(5);
                if pace.takes(start + begins, late, Duration::from_millis(40)) {
                    free += Duration::from_millis(*needs_ms);
                    pace.note_encoded(Duration::from_millis(*needs_ms));
                    encoded += 1;
                }
            }
            results.push((encoded, late));
        }
        results
    }

    #[test]
    fn a_machine_with_room_leaves_nothing_out() {
        assert_eq!(run(&[(30, 250)]), [(250, Duration::ZERO)]);
    }

    #[test]
    fn too_slow_a_machine_leaves_out_evenly_and_does_not_fall_behind_and_takes_all_again_later() {
        // 60 ms for what comes each 40: half of them go.
        let all = run(&[(60, 500), (60, 500), (10, 250), (10, 250)]);
        assert!((230..320).contains(&all[0].0), "{all:?}");
        assert!((240..=260).contains(&all[1].0) && all[1].1 < LATE, "{all:?}");
        assert_eq!(all[3].0, 250, "{all:?}");
        // Ten times too slow, too.
        let all = run(&[(390, 500), (390, 500)]);
        assert!((30..=50).contains(&all[1].0) && all[1].1 < Duration::from_millis(400), "{all:?}");
    }

    #[test]
    fn it_does_not_swing_where_more_would_not_fit() {
        let all = run(&[(60, 500), (60, 2500)]);
        assert!((1240..=1260).contains(&all[1].0), "{all:?}");
    }
}
