//! A rota: a timed list of what is on a feed. Pure: time and the state of its feed are handed in,
//! and what is to be put on is given back.
//!
//! ```text
//!              start                    last step over, no repeat, or stop
//!   stopped ──────────► running ─────────────────────────────────────────► stopped
//!                         │  ▲
//!     a take, or pause    ▼  │ start
//!                        paused
//! ```
//!
//! The time of a step begins when its line is on: a take waits for a keyframe. What the engineer
//! takes comes first; the rota then waits until it is started again.

use crate::{
    id::LineId,
    model::{Lasts, Rota},
};
use std::time::Duration;

/// A line that has not come on after this time has its time all the same: something stands in for
/// it, or nothing comes.
const LATE: Duration = Duration::from_secs(3);

/// How a rota stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum RotaState {
    /// Not started, or at its end.
    #[default]
    Stopped,
    /// It says who is on.
    Running,
    /// It waits.
    Paused,
}

/// A rota under way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RotaRun {
    state: RotaState,
    step: usize,
    /// When the present step was asked for.
    asked: Duration,
    /// When it came on.
    began: Option<Duration>,
    /// It had lasted so long when it was paused.
    lasted: Duration,
}

/// A rota of a show, and how it stands.
#[derive(Debug, Clone)]
pub struct Rotating {
    /// As the sheet has it.
    pub rota: Rota,
    /// How it stands.
    pub run: RotaRun,
}

/// What is to be done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RotaMove {
    /// The line of this step goes on.
    Step(usize),
    /// It is at its end: what is on stays on.
    Ended,
}

/// Its feed, as far as a rota looks at it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OnFeed {
    /// The line that is on.
    pub on: Option<LineId>,
    /// The line of the present step.
    pub line: Option<LineId>,
    /// That line plays, if it is a clip.
    pub plays: bool,
}

impl RotaRun {
    /// How it stands.
    #[must_use]
    pub fn state(&self) -> RotaState {
        self.state
    }

    /// The present step, from 0.
    #[must_use]
    pub fn step(&self) -> usize {
        self.step
    }

    /// Starts it, or goes on where it was paused; none where it runs already.
    pub fn start(&mut self, now: Duration) -> Option<RotaMove> {
        let lasted = match self.state {
            RotaState::Running => return None,
            RotaState::Paused => self.lasted,
            RotaState::Stopped => {
                self.step = 0;
                Duration::ZERO
            }
        };
        (self.state, self.asked, self.began, self.lasted) = (RotaState::Running, now, None, lasted);
        Some(RotaMove::Step(self.step))
    }

    /// Waits from now on; false where it does not run.
    pub fn pause(&mut self, now: Duration) -> bool {
        let runs = self.state == RotaState::Running;
        if runs {
            self.lasted = self.lasted(now);
            (self.state, self.began) = (RotaState::Paused, None);
        }
        runs
    }

    /// Ends it; false where it has ended.
    pub fn stop(&mut self) -> bool {
        std::mem::take(self).state != RotaState::Stopped
    }

    /// Goes to the next step, running; none where it is stopped.
    pub fn skip(&mut self, rota: &Rota, now: Duration) -> Option<RotaMove> {
        (self.state != RotaState::Stopped).then(|| self.next(rota, now))
    }

    /// Keeps its place when the sheet has changed it.
    pub fn fit(&mut self, rota: &Rota) {
        self.step = self.step.min(rota.steps.len().saturating_sub(1));
    }

    fn next(&mut self, rota: &Rota, now: Duration) -> RotaMove {
        let next = self.step + 1;
        if next >= rota.steps.len() && !rota.repeat {
            *self = Self::default();
            return RotaMove::Ended;
        }
        *self = Self { state: RotaState::Running, step: next % rota.steps.len().max(1), asked: now, ..Self::default() };
        RotaMove::Step(self.step)
    }

    fn lasted(&self, now: Duration) -> Duration {
        self.lasted + self.began.map_or(Duration::ZERO, |began| now.saturating_sub(began))
    }

    /// How long the present step still lasts; none where the clip says so.
    #[must_use]
    pub fn left(&self, rota: &Rota, now: Duration) -> Option<Duration> {
        match rota.steps.get(self.step)?.lasts {
            Lasts::For(time) => Some(time.saturating_sub(self.lasted(now))),
            Lasts::Once => None,
        }
    }

    /// Looks at its feed at `now`; gives what is to be changed, which is changed with this call.
    pub fn judge(&mut self, rota: &Rota, now: Duration, feed: OnFeed) -> Option<RotaMove> {
        if self.state != RotaState::Running {
            return None;
        }
        let late = now.saturating_sub(self.asked) >= LATE;
        if self.began.is_none() && (feed.line.is_none() || feed.on == feed.line || late) {
            self.began = Some(now);
        }
        let Some(step) = rota.steps.get(self.step) else { return Some(self.next(rota, now)) };
        let over = match step.lasts {
            Lasts::For(time) => self.lasted(now) >= time,
            Lasts::Once => self.began.is_some() && !feed.plays,
        };
        // A line that was removed from the sheet has no time.
        (over || feed.line.is_none()).then(|| self.next(rota, now))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::RotaStep;
    use proptest::prelude::*;

    fn s(n: u64) -> Duration {
        Duration::from_secs(n)
    }

    fn rota(repeat: bool) -> Rota {
        let step = |line: &str, lasts| RotaStep { line: line.into(), lasts };
        Rota {
            name: "intervals".into(),
            feed: "desk".into(),
            steps: vec![step("dock", Lasts::For(s(20))), step("trailer", Lasts::Once), step("finish-tower", Lasts::For(s(45)))],
            repeat,
            starts: false,
        }
    }

    /// The feed has what the rota wants on.
    fn on(run: &RotaRun, plays: bool) -> OnFeed {
        let line = Some(LineId(run.step() as u32));
        OnFeed { on: line, line, plays }
    }

    #[test]
    fn each_step_has_its_time_and_a_clip_plays_once() {
        let (rota, mut run) = (rota(true), RotaRun::default());
        assert_eq!(run.judge(&rota, s(0), on(&run, true)), None, "not started");
        assert_eq!(run.start(s(1)), Some(RotaMove::Step(0)));
        assert_eq!(run.start(s(1)), None, "it runs");
        // Until the keyframe the time has not begun.
        let waits = OnFeed { on: Some(LineId(9)), ..on(&run, true) };
        assert_eq!((run.judge(&rota, s(2), waits), run.left(&rota, s(2))), (None, Some(s(20))));
        assert_eq!(run.judge(&rota, s(3), on(&run, true)), None);
        assert_eq!((run.judge(&rota, s(22), on(&run, true)), run.left(&rota, s(22))), (None, Some(s(1))));
        assert_eq!(run.judge(&rota, s(23), on(&run, true)), Some(RotaMove::Step(1)));
        assert_eq!((run.judge(&rota, s(24), on(&run, true)), run.left(&rota, s(24))), (None, None));
        assert_eq!(run.judge(&rota, s(300), on(&run, true)), None, "as long as it plays");
        assert_eq!(run.judge(&rota, s(301), on(&run, false)), Some(RotaMove::Step(2)));
        run.judge(&rota, s(301), on(&run, true));
        assert_eq!(run.judge(&rota, s(346), on(&run, true)), Some(RotaMove::Step(0)), "and again");
    }

    #[test]
    fn it_goes_on_where_it_was_paused_skips_and_ends() {
        let (rota, mut run) = (rota(false), RotaRun::default());
        assert!(!run.pause(s(0)) && !run.stop() && run.skip(&rota, s(0)).is_none());
        run.start(s(0));
        run.judge(&rota, s(0), on(&run, true));
        assert!(run.pause(s(15)) && run.state() == RotaState::Paused);
        assert_eq!((run.judge(&rota, s(100), on(&run, true)), run.left(&rota, s(100))), (None, Some(s(5))));
        assert_eq!(run.start(s(100)), Some(RotaMove::Step(0)));
        run.judge(&rota, s(100), on(&run, true));
        assert_eq!(run.judge(&rota, s(105), on(&run, true)), Some(RotaMove::Step(1)));
        assert_eq!(run.skip(&rota, s(106)), Some(RotaMove::Step(2)));
        // Something stands in for it.
        let other = OnFeed { on: Some(LineId(7)), ..on(&run, true) };
        assert_eq!(run.judge(&rota, s(108), other), None);
        assert_eq!(run.judge(&rota, s(109), other), None);
        assert_eq!(run.judge(&rota, s(154), other), Some(RotaMove::Ended), "45 s, 3 s late");
        assert_eq!((run.state(), run.step()), (RotaState::Stopped, 0));
        // A line that is no longer there.
        run.start(s(200));
        assert_eq!(run.judge(&rota, s(200), OnFeed { line: None, ..on(&run, true) }), Some(RotaMove::Step(1)));
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Whatever is asked of it and whatever its feed does: a running rota never stays with a
        /// step longer than that lasts and what the line is late by, and shows no step that it
        /// has not.
        #[test]
        fn no_step_is_held_for_ever(
            acts in prop::collection::vec((0u8..8, any::<bool>(), any::<bool>()), 1..300),
            repeat in any::<bool>(),
        ) {
            let (rota, mut run, mut now, mut since) = (rota(repeat), RotaRun::default(), s(0), (s(0), 0));
            for (act, is_on, plays) in acts {
                now += Duration::from_millis(500);
                let before = (run.state(), run.step());
                let moved = match act {
                    0 => run.start(now),
                    1 => { run.pause(now); None }
                    2 => run.skip(&rota, now),
                    3 => { run.stop(); None }
                    _ => run.judge(&rota, now, OnFeed { on: is_on.then_some(LineId(run.step() as u32)), line: Some(LineId(run.step() as u32)), plays }),
                };
                if (run.state(), run.step()) != before || moved.is_some() {
                    since = (now, run.step());
                }
                prop_assert!(run.step() < rota.steps.len());
                if let Some(RotaMove::Step(step)) = moved {
                    prop_assert!(step == run.step() && run.state() == RotaState::Running);
                }
                if moved == Some(RotaMove::Ended) {
                    prop_assert!(!repeat && run.state() == RotaState::Stopped);
                }
                if let (RotaState::Running, Lasts::For(time)) = (run.state(), rota.steps[run.step()].lasts) {
                    // Commands of half a second each may come between two looks.
                    prop_assert!(act < 4 || now - since.0 <= time + LATE + s(1), "{:?}", run);
                }
            }
        }
    }
}
