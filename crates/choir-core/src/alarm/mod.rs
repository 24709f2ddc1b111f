//! Alarms: which of all that is wrong needs somebody. Pure over ticks: each is raised once for its
//! cause, stays until the trouble has been over for a while, and what befalls many ways of one
//! network at once is one alarm, on that network.

mod conditions;
mod kept;
mod storm;

pub use kept::Watched;

use crate::{
    command::{By, Which},
    facts::{Alarm, AlarmKind, AlarmStep, State},
    id::Subject,
};
use conditions::conditions;
use kept::{AllPending, Kept, Pending};
use std::time::Duration;
use storm::Group;

/// Alarms kept; then the oldest that is over gives way, seen or not.
const KEPT: usize = 500;

/// The alarms of a show.
#[derive(Debug, Default)]
pub struct Alarms {
    pending: AllPending,
    list: Vec<Kept>,
    last: u64,
}

/// What has changed, with the alarm as it is now.
pub type Steps = Vec<(Alarm, AlarmStep)>;

impl Alarms {
    /// Takes the tick that ended at `now` (any clock that only grows), `at_ms` since 1970. From
    /// `together` ways of one network on, they are one alarm.
    pub fn tick(&mut self, now: Duration, at_ms: u64, ways: &[Watched<'_>], together: Option<usize>) -> Steps {
        let mut steps = Steps::new();
        self.note(now, at_ms, ways);
        self.end(now, at_ms, together, &mut steps);
        if let Some(together) = together {
            storm::join(&mut self.list, &self.pending, now, ways);
            if let Some(group) = storm::find(&self.list, &self.pending, now, ways, together) {
                self.gather(now, at_ms, &group, &mut steps);
            }
        }
        self.raise(now, at_ms, &mut steps);
        self.follow(now, &mut steps);
        while self.list.len() > KEPT {
            let oldest = self.list.iter().position(|k| !k.is_open()).unwrap_or(0);
            self.list.remove(oldest);
        }
        steps
    }

    /// All that are open, and those over that nobody has seen; oldest first.
    #[must_use]
    pub fn list(&self) -> Vec<Alarm> {
        self.list.iter().map(|k| k.alarm.clone()).collect()
    }

    /// Somebody has seen these: those that are over are gone then.
    pub fn acknowledge(&mut self, by: By, which: &Which) -> Steps {
        let meant = |a: &Alarm| match which {
            Which::All => true,
            Which::Numbers(numbers) => numbers.contains(&a.number),
        };
        let mut steps = Steps::new();
        for kept in self.list.iter_mut().filter(|k| meant(&k.alarm) && k.alarm.acknowledged.is_none()) {
            kept.alarm.acknowledged = Some(by);
            steps.push((kept.alarm.clone(), AlarmStep::Acknowledged(by)));
        }
        self.list.retain(|k| k.is_open() || k.alarm.acknowledged.is_none());
        steps
    }

    /// Brings what is wrong up to date. What has been well for its time to clear is forgotten; what
    /// is held or removed, at once.
    fn note(&mut self, now: Duration, at_ms: u64, ways: &[Watched<'_>]) {
        for way in ways.iter().filter(|w| w.verdict.state != State::Held) {
            let already = |kind| self.pending.contains_key(&(way.subject, kind));
            for condition in conditions(way.subject, way.rules, way.verdict, way.tick, already) {
                let key = (condition.subject, condition.kind);
                match self.pending.get_mut(&key) {
                    Some(p) => (p.last, p.clear, p.condition) = (now, way.rules.clear, condition),
                    None => {
                        let p = Pending { first: now, first_ms: at_ms, last: now, clear: way.rules.clear, condition };
                        self.pending.insert(key, p);
                    }
                }
            }
        }
        let stays =
            |subject: Subject| subject == Subject::Machine || ways.iter().any(|w| w.subject == subject && w.verdict.state != State::Held);
        self.pending.retain(|(subject, _), p| p.last == now || now.saturating_sub(p.last) < p.clear && stays(*subject));
    }

    /// Alarms whose trouble is over.
    fn end(&mut self, now: Duration, at_ms: u64, together: Option<usize>, steps: &mut Steps) {
        let pending = &self.pending;
        for kept in self.list.iter_mut().filter(|k| k.is_open()) {
            let a = &mut kept.alarm;
            let over = if a.kind == AlarmKind::Together {
                storm::is_over(a, pending, together)
            } else {
                !pending.contains_key(&(a.subject, a.kind))
            };
            if over {
                a.over_ms = Some(at_ms);
                steps.push((a.clone(), AlarmStep::Over(now.saturating_sub(kept.began))));
            }
        }
        self.list.retain(|k| k.is_open() || k.alarm.acknowledged.is_none());
    }

    /// Makes one alarm of what befalls many.
    fn gather(&mut self, now: Duration, at_ms: u64, group: &Group, steps: &mut Steps) {
        let Some((grade, trouble)) = storm::trouble(&group.troubled, group.of, &self.pending) else { return };
        self.last += 1;
        let number = self.last;
        self.list.retain_mut(|kept| {
            let a = &mut kept.alarm;
            if a.kind == AlarmKind::Together {
                // One on the same network that is over has been answered by this one.
                return a.over_ms.is_none() || a.subject != group.subject;
            }
            let link = self.pending.get(&(a.subject, a.kind)).is_some_and(|p| p.condition.of_link);
            let joins = a.over_ms.is_none() && link && storm::is_fresh(now, kept.began) && group.troubled.contains(&a.subject);
            if joins {
                a.over_ms = Some(at_ms);
                steps.push((a.clone(), AlarmStep::Joined(number)));
            }
            !joins
        });
        let firsts = || group.troubled.iter().flat_map(|s| kept::of_link(&self.pending, *s));
        let alarm = Alarm {
            number,
            subject: group.subject,
            kind: AlarmKind::Together,
            grade,
            trouble,
            since_ms: firsts().map(|p| p.first_ms).min().unwrap_or(at_ms),
            raised_ms: at_ms,
            again: 0,
            acknowledged: None,
            over_ms: None,
            members: group.troubled.clone(),
        };
        let began = firsts().map(|p| p.first).min().unwrap_or(now);
        steps.push((alarm.clone(), AlarmStep::Raised));
        self.list.push(Kept { alarm, began, grew: now, of: group.of });
    }

    /// What has lasted for long enough becomes an alarm, or the one that it was before.
    fn raise(&mut self, now: Duration, at_ms: u64, steps: &mut Steps) {
        for ((subject, kind), p) in self.pending.iter().filter(|(_, p)| p.is_due(now)) {
            let condition = &p.condition;
            let covered = condition.of_link && self.list.iter().any(|k| k.is_storm() && k.alarm.members.contains(subject));
            match self.list.iter_mut().find(|k| k.alarm.subject == *subject && k.alarm.kind == *kind) {
                Some(kept) if kept.is_open() => {}
                Some(kept) => {
                    let a = &mut kept.alarm;
                    (a.over_ms, a.grade, a.trouble) = (None, condition.grade, condition.trouble.clone());
                    a.again += 1;
                    kept.began = p.first;
                    steps.push((a.clone(), AlarmStep::Again));
                }
                None if covered => {}
                None => {
                    self.last += 1;
                    let alarm = Alarm {
                        number: self.last,
                        subject: *subject,
                        kind: *kind,
                        grade: condition.grade,
                        trouble: condition.trouble.clone(),
                        since_ms: p.first_ms,
                        raised_ms: at_ms,
                        again: 0,
                        acknowledged: None,
                        over_ms: None,
                        members: Vec::new(),
                    };
                    steps.push((alarm.clone(), AlarmStep::Raised));
                    self.list.push(Kept { alarm, began: p.first, grew: now, of: 1 });
                }
            }
        }
    }

    /// Open alarms say what is wrong now, and call again when it is worse.
    fn follow(&mut self, now: Duration, steps: &mut Steps) {
        let pending = &self.pending;
        for kept in self.list.iter_mut().filter(|k| k.is_open()) {
            let a = &mut kept.alarm;
            let latest = if a.kind == AlarmKind::Together {
                storm::trouble(&a.members, kept.of, pending)
            } else {
                pending.get(&(a.subject, a.kind)).filter(|p| p.last == now).map(|p| (p.condition.grade, p.condition.trouble.clone()))
            };
            let Some((grade, trouble)) = latest else { continue };
            a.trouble = trouble;
            if grade > a.grade {
                a.grade = grade;
                a.acknowledged = None;
                if !steps.iter().any(|(s, step)| s.number == a.number && step.calls()) {
                    steps.push((a.clone(), AlarmStep::Worse));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests;
