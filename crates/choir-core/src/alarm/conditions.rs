//! What is wrong with one way right now, as far as it may become an alarm.

use crate::{
    facts::{AlarmGrade, AlarmKind, Cause, Reason, State, Trouble, Waiting, WayTick},
    health::Verdict,
    id::Subject,
    model::{AlarmRules, MEASURES, Measure},
};
use std::time::Duration;

/// Something that is wrong, and how long it may be so.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Condition {
    pub subject: Subject,
    pub kind: AlarmKind,
    pub grade: AlarmGrade,
    pub trouble: Trouble,
    pub hold: Duration,
    /// It is a matter of the link, not of what it carries.
    pub of_link: bool,
}

const fn kind_of_cause(cause: &Cause) -> AlarmKind {
    match cause {
        Cause::PeerGone { .. } | Cause::NothingHeard { .. } | Cause::EncoderStopped { .. } | Cause::Pause { .. } => AlarmKind::Silent,
        other => AlarmKind::Cause(other.name()),
    }
}

const fn kind_of_reason(reason: &Reason) -> AlarmKind {
    match reason {
        Reason::Cause(cause) => kind_of_cause(cause),
        Reason::Content(fault, _) => AlarmKind::Cause(fault.name()),
        Reason::Waiting(_) | Reason::Joining(_) | Reason::NoMediaYet => AlarmKind::Waiting,
        Reason::Lost(_) | Reason::NoMedia(_) | Reason::MediaStopped(_) => AlarmKind::Silent,
        Reason::Differs(_) => AlarmKind::Cause("differs"),
        _ => AlarmKind::State,
    }
}

/// How long a way may stay in a state; `None`: as long as it likes.
const fn hold(rules: &AlarmRules, state: State) -> Option<Duration> {
    match state {
        State::Waiting | State::Joining => rules.waiting,
        State::Strained => rules.strained,
        State::Broken => rules.broken,
        State::Steady | State::Held => None,
    }
}

fn measured(measure: Measure, tick: &WayTick) -> Option<f64> {
    Some(match measure {
        Measure::Loss => tick.lost_share(),
        Measure::Missing => tick.missing_share(),
        Measure::Headroom => tick.headroom_ms?.least,
        Measure::Rtt => tick.rtt_ms?,
        Measure::Jitter => tick.jitter_ms?,
        Measure::Rate => tick.rate_bps() as f64,
    })
}

/// All that is wrong with a way. `already` says what was found before.
pub(super) fn conditions(
    subject: Subject,
    rules: &AlarmRules,
    verdict: &Verdict,
    tick: &WayTick,
    already: impl Fn(AlarmKind) -> bool,
) -> Vec<Condition> {
    let mut found: Vec<Condition> = Vec::new();
    let mut add = |c: Condition| match found.iter_mut().find(|f| f.subject == c.subject && f.kind == c.kind) {
        Some(same) => same.grade = same.grade.max(c.grade),
        None => found.push(c),
    };
    // What rests until it is wanted lacks nothing.
    let rests = matches!(verdict.reason, Reason::Waiting(Waiting::Take));
    if let Some(hold) = hold(rules, verdict.state).filter(|_| !rests) {
        let grade = if verdict.state == State::Broken { AlarmGrade::Trouble } else { AlarmGrade::Warning };
        let of_link = !matches!(verdict.reason, Reason::Content(..) | Reason::Differs(_));
        let reason = verdict.reason.clone();
        if !matches!(&reason, Reason::Cause(Cause::OwnMachine(_))) {
            add(Condition { subject, kind: kind_of_reason(&reason), grade, trouble: Trouble::Reason(reason), hold, of_link });
        }
        for cause in verdict.causes.iter().map(|d| &d.cause).filter(|c| !c.is_news()) {
            // One machine, however many ways suffer from it.
            let subject = if matches!(cause, Cause::OwnMachine(_)) { Subject::Machine } else { subject };
            let carried = matches!(cause, Cause::Content(_) | Cause::Differs(_));
            let of_link = !carried && subject != Subject::Machine;
            let grade = if carried { AlarmGrade::Warning } else { grade };
            let trouble = Trouble::Reason(Reason::Cause(cause.clone()));
            add(Condition { subject, kind: kind_of_cause(cause), grade, trouble, hold, of_link });
        }
    }
    let up = matches!(verdict.state, State::Steady | State::Strained | State::Broken);
    if let Some(hold) = rules.limits.filter(|_| up && tick.length >= Duration::from_millis(500)) {
        for measure in MEASURES {
            let kind = AlarmKind::Limit(measure);
            let passed = measured(measure, tick).and_then(|value| Some((value, rules.passed(measure, value, already(kind))?)));
            if let Some((value, limit)) = passed {
                let trouble = Trouble::Limit { measure, value, limit };
                add(Condition { subject, kind, grade: AlarmGrade::Warning, trouble, hold, of_link: true });
            }
        }
    }
    found
}
