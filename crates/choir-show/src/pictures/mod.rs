//! Looks at the pictures and hears the sound of every line, on one thread with a budget: media
//! never waits for it. The line whose picture is oldest comes next, with its newest keyframe.

mod follower;
mod live;
mod reader;
mod sound;

pub(crate) use live::watch;

use crate::{aside, inner::Inner, line::LineRun, media::KeptFor, still::Still};
use choir_core::id::LineId;
use choir_host::{
    Stop,
    clock::{steady_us, thread_cpu, unix_ms},
    lock,
};
use choir_proto::ts::AccessUnit;
use follower::{Follower, SMALL, newest_pictures};
use std::{
    collections::HashMap,
    io,
    panic::{AssertUnwindSafe, catch_unwind},
    sync::Weak,
    thread,
    time::{Duration, Instant},
};

/// Each line is looked at so often, where the budget allows.
const VISIT: Duration = Duration::from_millis(400);
/// Between two decoded pictures of a line.
const DECODE: Duration = Duration::from_millis(900);
/// Between two looks at what is due.
const STEP: Duration = Duration::from_millis(50);
/// Time that may be saved up, so that one large picture does not wait long.
const SAVED: Duration = Duration::from_millis(200);
/// Steps of priority below media.
const NICE: i32 = 10;

/// CPU time that may be spent: a share of one core, with a little saved up.
struct Budget {
    share: f64,
    left: f64,
    at: Instant,
}

impl Budget {
    fn new(share: f64, now: Instant) -> Self {
        Self { share, left: SAVED.as_secs_f64(), at: now }
    }

    fn spend(&mut self, now: Instant, cpu: Duration) {
        self.left = self.left_at(now) - cpu.as_secs_f64();
        self.at = now;
    }

    fn left_at(&self, now: Instant) -> f64 {
        (self.left + (now - self.at).as_secs_f64() * self.share).min(SAVED.as_secs_f64())
    }

    /// Until something may be spent again.
    fn wait(&self, now: Instant) -> Duration {
        Duration::from_secs_f64((-self.left_at(now) / self.share.max(0.001)).max(0.0))
    }
}

/// A picture of a line.
#[derive(Debug, Clone)]
pub struct LinePicture {
    /// As large as was asked for, or as it is.
    pub still: Still,
    /// When it came, ms since 1970.
    pub at_ms: u64,
}

/// For a keyframe to come, where none is kept.
const KEYFRAME: Duration = Duration::from_secs(4);

/// The newest picture of a line that fits into `fit`, which must be there already if `kept`.
pub(crate) async fn newest(line: &LineRun, fit: (usize, usize), kept: bool) -> Option<LinePicture> {
    let at_ms = |at: i64| unix_ms().saturating_sub(((steady_us() - at) / 1000).max(0) as u64);
    if kept || fit.0 <= SMALL.0 && fit.1 <= SMALL.1 {
        let small = line.seen.taken().map(|t| LinePicture { still: t.still.fit(fit.0, fit.1), at_ms: at_ms(t.at) });
        if kept || small.is_some() {
            return small;
        }
    }
    let recent = line.media.since(None);
    let decode = move |units: Vec<AccessUnit>| {
        let at = units.first()?.arrived;
        Some(LinePicture { still: Still::decode(&units, Some(fit))?, at_ms: at_ms(at) })
    };
    if let Some(picture) = aside::result("still", move || decode(newest_pictures(recent))).await? {
        return Some(picture);
    }
    let next = tokio::time::timeout(KEYFRAME, line.media.pictures()).await.ok()?.ok()?;
    aside::result("still", move || decode(next)).await?
}

/// What this takes. A decoder that gives up on hostile bytes must not end the pictures of all.
fn cost(work: impl FnOnce()) -> Duration {
    let before = thread_cpu();
    if catch_unwind(AssertUnwindSafe(work)).is_err() {
        tracing::warn!("a picture or sound was given up");
    }
    thread_cpu().saturating_sub(before)
}

/// One line as the thread knows it.
#[derive(Default)]
struct Watched {
    follower: Follower,
    visited: Option<Instant>,
    decoded: Option<Instant>,
}

/// Starts the thread; it ends with the show.
pub(crate) fn start(show: Weak<Inner>, stop: Stop) -> io::Result<()> {
    let run = move || {
        // Where the system refuses, the budget alone must do.
        let _ = rustix::process::nice(NICE);
        let mut lines: HashMap<LineId, Watched> = HashMap::new();
        // Of all, and of what may be spent on sound and sizes: half of it.
        let mut budgets = [0.0; 2].map(|share| Budget::new(share, Instant::now()));
        while !stop.is_set() {
            let Some(show) = show.upgrade() else { return };
            let share = lock(&show.sheet).show.pictures.share();
            (budgets[0].share, budgets[1].share) = (share, share / 2.0);
            let wait = pass(&show, &mut lines, &mut budgets);
            drop(show);
            thread::sleep(wait);
        }
    };
    thread::Builder::new().name("pictures".into()).spawn(run).map(drop)
}

/// Looks at the lines that are due; gives until when nothing is.
fn pass(show: &Inner, lines: &mut HashMap<LineId, Watched>, [all, listening]: &mut [Budget; 2]) -> Duration {
    let runs = show.lines();
    if all.share == 0.0 {
        for run in runs.iter().filter(|r| lines.remove(&r.id).is_some()) {
            run.media.keep_recent(KeptFor::Looking, false);
            run.seen.clear();
        }
        return VISIT;
    }
    for run in &runs {
        lines.entry(run.id).or_insert_with(|| {
            run.media.keep_recent(KeptFor::Looking, true);
            Watched::default()
        });
    }
    if lines.len() > runs.len() {
        // Some have been removed from the show.
        lines.retain(|id, _| runs.iter().any(|r| r.id == *id));
    }
    let by_age = |lines: &HashMap<LineId, Watched>, of: fn(&Watched) -> Option<Instant>| {
        let mut order: Vec<_> = runs.iter().filter_map(|r| Some((of(lines.get(&r.id)?), r))).collect();
        order.sort_by_key(|(at, _)| *at);
        order
    };
    // Sound and sizes of pictures are not to be missed for a picture's sake, nor the other way
    // round.
    for (at, run) in by_age(lines, |w| w.visited) {
        let now = Instant::now();
        if at.is_some_and(|at| now - at < VISIT) || !listening.wait(now).is_zero() {
            break;
        }
        if let Some(watched) = lines.get_mut(&run.id) {
            watched.visited = Some(now);
            let cost = cost(|| watched.follower.visit(run.media.since(watched.follower.place()), &run.seen));
            listening.spend(Instant::now(), cost);
            all.spend(Instant::now(), cost);
        }
    }
    for (at, run) in by_age(lines, |w| w.decoded) {
        let now = Instant::now();
        if at.is_some_and(|at| now - at < DECODE) || !all.wait(now).is_zero() {
            break;
        }
        if let Some(watched) = lines.get_mut(&run.id).filter(|w| w.follower.has_picture()) {
            watched.decoded = Some(now);
            let cost = cost(|| watched.follower.decode(&run.seen));
            all.spend(Instant::now(), cost);
        }
    }
    STEP
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_budget_is_a_share_of_time_with_a_little_saved() {
        let begun = Instant::now();
        let mut b = Budget::new(0.1, begun);
        b.spend(begun, Duration::from_millis(150));
        assert!(b.wait(begun).is_zero());
        b.spend(begun, Duration::from_millis(60));
        assert!((b.wait(begun).as_millis() as i64 - 100).abs() <= 1, "10 ms over, at a tenth: {:?}", b.wait(begun));
        let mut spent = 0;
        for n in 1..=1000u64 {
            let now = begun + Duration::from_millis(n * 10);
            if b.wait(now).is_zero() {
                b.spend(now, Duration::from_millis(20));
                spent += 20;
            }
        }
        assert!((950..=1050).contains(&spent), "{spent} ms of 10 s");
    }
}
