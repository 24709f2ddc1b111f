//! Who is on a feed: the engineer's choice, and what stands in for it while it fails. Pure: time
//! and the state of lines are handed in, and what is to be put on is given back.
//!
//! ```text
//!              the choice fails                 another fit one, when that fails too
//!   chosen ──────────────────────► standing in ─┐
//!     ▲                               │   ▲     │
//!     │ fit long enough, or by hand   │   └─────┘
//!     └───────────────────────────────┘
//! ```
//!
//! What the engineer takes comes first: it ends the standing in. A line that has failed again and
//! again is not returned to until it has been fit for a long time.

use crate::{content::ContentFault, id::LineId, model::Standby};
use std::{collections::VecDeque, time::Duration};

/// Failures within this time make a line that flaps.
const FLAP_TIME: Duration = Duration::from_secs(600);
/// So many of them.
const FLAPS: usize = 3;

/// Why a line is not fit to be on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unfit {
    /// No media has come.
    NoMedia,
    /// It is broken.
    Broken,
    /// What it shows or sounds like: black, frozen or silent.
    Content(ContentFault),
}

/// How a line is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Fitness {
    /// Since when no media has come; `None` before the first.
    pub quiet: Option<Duration>,
    /// It is broken.
    pub broken: bool,
    /// What is wrong with picture and sound, and for how long.
    pub content: Vec<(ContentFault, Duration)>,
}

impl Fitness {
    /// Why it is not fit, by these limits; `broken` is how long it is.
    fn unfit(&self, limits: &Standby, quiet: Duration, broken: Duration) -> Option<Unfit> {
        if quiet >= limits.no_media {
            return Some(Unfit::NoMedia);
        }
        if self.broken && limits.broken.is_some_and(|most| broken >= most) {
            return Some(Unfit::Broken);
        }
        let limit = |fault: &ContentFault| match fault {
            ContentFault::Black => limits.black,
            ContentFault::Frozen => limits.frozen,
            ContentFault::Silent => limits.silent,
            _ => None,
        };
        let fault = self.content.iter().find(|(fault, lasts)| limit(fault).is_some_and(|most| *lasts >= most));
        fault.map(|(fault, _)| Unfit::Content(*fault))
    }

    /// It could be put on now.
    fn could_come_on(&self, limits: &Standby) -> bool {
        self.quiet.is_some_and(|quiet| self.unfit(limits, quiet, Duration::MAX).is_none())
    }
}

/// A change of who is to be on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Move {
    /// This line stands in for the chosen one.
    StandIn {
        /// The line.
        line: LineId,
        /// The line that has failed: the chosen one, or what stood in for it.
        failed: LineId,
        /// Why.
        why: Unfit,
    },
    /// The chosen line comes on again.
    Return {
        /// The line.
        line: LineId,
        /// How long something stood in for it.
        away: Duration,
    },
}

/// What stands in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StandIn {
    /// The line.
    pub line: LineId,
    /// Why the chosen one failed.
    pub why: Unfit,
    /// Since when, on the clock of the caller.
    pub since: Duration,
    /// The chosen line has failed too often: it comes on again by hand, or after minutes.
    pub flaps: bool,
    /// Since when the chosen line is fit again.
    fit_since: Option<Duration>,
}

/// Decides who is on one feed.
#[derive(Debug, Clone)]
pub struct Director {
    chosen: LineId,
    /// Since when.
    since: Duration,
    stand_in: Option<StandIn>,
    /// Since when the line that is to be on is broken.
    broken: Option<(LineId, Duration)>,
    /// When the chosen line failed.
    failures: VecDeque<Duration>,
}

impl Director {
    /// One for what the engineer chooses at `now`: that holds before anything else.
    #[must_use]
    pub fn new(chosen: LineId, now: Duration) -> Self {
        Self { chosen, since: now, stand_in: None, broken: None, failures: VecDeque::new() }
    }

    /// The engineer's choice.
    #[must_use]
    pub fn chosen(&self) -> LineId {
        self.chosen
    }

    /// What stands in for it.
    #[must_use]
    pub fn stand_in(&self) -> Option<StandIn> {
        self.stand_in
    }

    /// The line that is to be on.
    #[must_use]
    pub fn wanted(&self) -> LineId {
        self.stand_in.map_or(self.chosen, |s| s.line)
    }

    /// Looks at the lines at `now`; gives what is to be changed, which is changed with this call.
    /// `lines` are those of the plan, in its order; `on` is the line that goes out.
    pub fn judge(
        &mut self,
        now: Duration,
        plan: &Standby,
        lines: &[LineId],
        on: Option<LineId>,
        of: impl Fn(LineId) -> Fitness,
    ) -> Option<Move> {
        let wanted = self.wanted();
        let fitness = of(wanted);
        self.broken = fitness.broken.then(|| self.broken.filter(|(line, _)| *line == wanted).unwrap_or((wanted, now)));
        let broken = self.broken.map_or(Duration::ZERO, |(_, since)| now.saturating_sub(since));
        // One that has never sent anything has its time too.
        let began = self.stand_in.map_or(self.since, |s| s.since);
        let quiet = fitness.quiet.unwrap_or_else(|| now.saturating_sub(began));
        let unfit = fitness.unfit(plan, quiet, broken);
        let chosen_fit = of(self.chosen).could_come_on(plan);
        if let Some(s) = &mut self.stand_in {
            s.fit_since = chosen_fit.then(|| s.fit_since.unwrap_or(now));
            let long = if s.flaps { plan.back.map(|back| back.max(FLAP_TIME)) } else { plan.back };
            let fit_for = s.fit_since.map(|since| now.saturating_sub(since));
            let returns = fit_for.is_some_and(|fit| long.is_some_and(|long| fit >= long));
            // Better a line that has just come back than one that has failed; and where it is back
            // before the cut away from it, there need be none, unless that happens again and again.
            let in_time = on == Some(self.chosen) && !s.flaps;
            let at_once = chosen_fit && plan.back.is_some() && (unfit.is_some() || in_time);
            if returns || at_once {
                let away = now.saturating_sub(s.since);
                self.stand_in = None;
                return Some(Move::Return { line: self.chosen, away });
            }
        }
        let why = unfit?;
        let line = *lines.iter().find(|line| **line != wanted && **line != self.chosen && of(**line).could_come_on(plan))?;
        let failed = wanted;
        self.stand_in = Some(match self.stand_in {
            Some(s) => StandIn { line, ..s },
            None => {
                self.failures.push_back(now);
                while self.failures.len() > FLAPS || self.failures.front().is_some_and(|at| now.saturating_sub(*at) > FLAP_TIME) {
                    self.failures.pop_front();
                }
                StandIn { line, why, since: now, flaps: self.failures.len() >= FLAPS, fit_since: None }
            }
        });
        Some(Move::StandIn { line, failed, why })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::HashMap;

    const MAIN: LineId = LineId(0);
    const SECOND: LineId = LineId(1);
    const CLIP: LineId = LineId(2);

    fn ms(n: u64) -> Duration {
        Duration::from_millis(n)
    }

    /// A feed whose lines are fit unless said otherwise.
    struct Scene {
        director: Director,
        plan: Standby,
        now: u64,
        lines: HashMap<LineId, Fitness>,
        /// Cuts are not made: no keyframe comes.
        no_keyframes: bool,
    }

    impl Scene {
        fn new() -> Self {
            let fit = || Fitness { quiet: Some(Duration::ZERO), ..Fitness::default() };
            let lines = [MAIN, SECOND, CLIP].into_iter().map(|l| (l, fit())).collect();
            Self { director: Director::new(MAIN, Duration::ZERO), plan: Standby::default(), now: 0, lines, no_keyframes: false }
        }

        fn sends(&mut self, line: LineId, sends: bool) {
            let f = self.lines.get_mut(&line).expect("a line");
            f.quiet = Some(if sends { Duration::ZERO } else { ms(1) });
        }

        /// Looks each 100 ms, for so long; gives the moves with their times.
        fn runs(&mut self, time: u64) -> Vec<(u64, Move)> {
            let mut moves = Vec::new();
            for _ in 0..time / 100 {
                self.now += 100;
                for f in self.lines.values_mut() {
                    f.quiet = f.quiet.map(|q| if q.is_zero() { q } else { q + ms(100) });
                }
                let lines = self.lines.clone();
                let on = if self.no_keyframes { self.director.chosen() } else { self.director.wanted() };
                let judged = self.director.judge(ms(self.now), &self.plan, &[SECOND, CLIP], Some(on), |l| lines[&l].clone());
                moves.extend(judged.map(|m| (self.now, m)));
            }
            moves
        }
    }

    #[test]
    fn the_first_fit_line_stands_in_and_the_chosen_one_returns_once_it_is_steady() {
        let mut s = Scene::new();
        assert_eq!(s.runs(2000), []);
        s.sends(MAIN, false);
        s.sends(SECOND, false);
        s.runs(400);
        let moves = s.runs(600);
        assert_eq!(moves, [(2500, Move::StandIn { line: CLIP, failed: MAIN, why: Unfit::NoMedia })]);
        // It comes back, goes again, and comes back: only then it has been fit long enough.
        s.sends(MAIN, true);
        assert_eq!(s.runs(4000), []);
        s.sends(MAIN, false);
        assert_eq!(s.runs(2000), []);
        s.sends(MAIN, true);
        let moves = s.runs(6000);
        assert!(matches!(moves[..], [(at, Move::Return { line: MAIN, .. })] if (14_000..14_300).contains(&at)), "{moves:?}");
    }

    #[test]
    fn what_stands_in_is_replaced_when_it_fails_and_the_chosen_one_is_better_than_nothing() {
        let mut s = Scene::new();
        s.sends(MAIN, false);
        assert_eq!(s.runs(1000).len(), 1);
        s.sends(SECOND, false);
        assert!(matches!(s.runs(1000)[..], [(_, Move::StandIn { line: CLIP, failed: SECOND, .. })]));
        assert_eq!(s.director.stand_in().expect("stands in").why, Unfit::NoMedia);
        s.sends(MAIN, true);
        s.sends(CLIP, false);
        assert!(matches!(s.runs(1000)[..], [(at, Move::Return { .. })] if at < 2600), "at once");
        // All have failed: it stays as it is.
        s.sends(MAIN, false);
        assert_eq!(s.runs(5000), []);
    }

    #[test]
    fn by_hand_means_by_hand_and_a_take_comes_before_everything() {
        let mut s = Scene::new();
        s.plan.back = None;
        s.sends(MAIN, false);
        assert_eq!(s.runs(1000).len(), 1);
        s.sends(MAIN, true);
        assert_eq!(s.runs(3_600_000), []);
        s.director = Director::new(MAIN, ms(s.now));
        assert_eq!((s.director.wanted(), s.runs(10_000)), (MAIN, vec![]));
        s.director = Director::new(CLIP, ms(s.now));
        s.sends(CLIP, false);
        assert!(matches!(s.runs(1000)[..], [(_, Move::StandIn { line: SECOND, failed: CLIP, .. })]));
    }

    #[test]
    fn a_line_that_is_back_before_the_cut_stays_on() {
        let mut s = Scene::new();
        s.no_keyframes = true;
        s.sends(MAIN, false);
        assert!(matches!(s.runs(700)[..], [(500, Move::StandIn { .. })]));
        s.sends(MAIN, true);
        assert!(matches!(s.runs(1000)[..], [(800, Move::Return { .. })]));
        // The third time it is not waited for.
        let mut moves = Vec::new();
        for _ in 0..3 {
            s.sends(MAIN, false);
            moves.extend(s.runs(700));
            s.sends(MAIN, true);
            moves.extend(s.runs(1000));
        }
        assert_eq!(moves.iter().filter(|(_, m)| matches!(m, Move::Return { .. })).count(), 1);
        assert!(s.director.stand_in().is_some_and(|s| s.flaps));
    }

    #[test]
    fn a_line_that_flaps_is_not_returned_to_until_it_has_been_steady_for_long() {
        let mut s = Scene::new();
        let mut returns = 0;
        for _ in 0..6 {
            s.sends(MAIN, false);
            s.runs(2000);
            s.sends(MAIN, true);
            returns += s.runs(8000).iter().filter(|(_, m)| matches!(m, Move::Return { .. })).count();
        }
        assert_eq!(returns, 2);
        assert!(s.director.stand_in().is_some_and(|s| s.flaps));
        assert_eq!(s.runs(500_000), []);
        assert!(matches!(s.runs(110_000)[..], [(_, Move::Return { line: MAIN, .. })]));
    }

    #[test]
    fn black_frozen_silent_and_broken_have_their_own_times() {
        let mut s = Scene::new();
        s.plan = Standby { black: Some(ms(2000)), silent: None, broken: Some(ms(3000)), ..Standby::default() };
        let content = |s: &mut Scene, faults: Vec<(ContentFault, Duration)>| s.lines.get_mut(&MAIN).expect("a line").content = faults;
        content(&mut s, vec![(ContentFault::Silent, ms(60_000)), (ContentFault::Black, ms(1900))]);
        assert_eq!(s.runs(1000), []);
        content(&mut s, vec![(ContentFault::Silent, ms(60_000)), (ContentFault::Black, ms(2000))]);
        assert!(matches!(s.runs(100)[..], [(_, Move::StandIn { why: Unfit::Content(ContentFault::Black), .. })]));
        content(&mut s, vec![]);
        assert!(matches!(s.runs(5200)[..], [(_, Move::Return { .. })]));
        s.lines.get_mut(&MAIN).expect("a line").broken = true;
        let moves = s.runs(4000);
        assert!(matches!(moves[..], [(at, Move::StandIn { why: Unfit::Broken, .. })] if at >= 9300), "{moves:?}");
    }

    #[test]
    fn a_line_that_never_sends_anything_is_stood_in_for_too() {
        let mut s = Scene::new();
        s.lines.get_mut(&MAIN).expect("a line").quiet = None;
        let moves = s.runs(1000);
        assert!(matches!(moves[..], [(500, Move::StandIn { line: SECOND, .. })]), "{moves:?}");
    }

    proptest! {
        /// Whatever happens: what is to be on is the choice or in the plan; nothing unfit is put on
        /// while something fit is there; and no two moves come to the same.
        #[test]
        fn nothing_unfit_stands_in(steps in prop::collection::vec((0u32..3, any::<bool>(), 1u64..40, prop::option::of(0u32..3)), 1..60)) {
            let mut s = Scene::new();
            for (line, sends, time, take) in steps {
                s.sends(LineId(line), sends);
                if let Some(take) = take {
                    s.director = Director::new(LineId(take), ms(s.now));
                }
                let mut on = s.director.wanted();
                for (_, m) in s.runs(time * 100) {
                    let to = match m {
                        Move::StandIn { line, .. } | Move::Return { line, .. } => line,
                    };
                    prop_assert!(to != on);
                    // When it was put on; at the end of the run it may have been silent for that
                    // much longer.
                    prop_assert!(s.lines[&to].quiet.is_some_and(|q| q < ms(500 + time * 100)), "{m:?}");
                    on = to;
                }
                prop_assert_eq!(on, s.director.wanted());
                prop_assert!(on == s.director.chosen() || [SECOND, CLIP].contains(&on));
            }
        }
    }
}
