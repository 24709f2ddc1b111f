use super::by_words;
use crate::{
    facts::{Alarm, AlarmStep, Trouble},
    units::say_duration,
};
use std::fmt;

impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Reason(reason) => reason.fmt(f),
            Self::Limit { measure, value, limit } => {
                let past = if measure.is_least() { "below" } else { "above" };
                write!(f, "{measure} {} is {past} the limit of {}", measure.say(*value), measure.say(*limit))
            }
            Self::Together { troubled, of, most } => {
                write!(f, "{troubled} of {of} lines and ways out in trouble at once: look here first. Most of them: {most}")
            }
        }
    }
}

/// What has become of an alarm, as a sentence.
pub(super) fn step_words(alarm: &Alarm, step: AlarmStep) -> String {
    let Alarm { number, trouble, .. } = alarm;
    match step {
        AlarmStep::Raised => format!("alarm {number}: {trouble}"),
        AlarmStep::Again => format!("alarm {number} again: {trouble}"),
        AlarmStep::Worse => format!("alarm {number} is worse: {trouble}"),
        AlarmStep::Acknowledged(by) => format!("alarm {number} acknowledged {}", by_words(by)),
        AlarmStep::Over(lasted) => format!("alarm {number} is over after {}", say_duration(lasted)),
        AlarmStep::Joined(other) => format!("alarm {number} is part of alarm {other}"),
    }
}

/// Which alarms have been seen, as a sentence.
pub(super) fn acknowledged_words(numbers: &[u64]) -> String {
    let all: Vec<String> = numbers.iter().map(ToString::to_string).collect();
    match all.as_slice() {
        [] => "nothing to acknowledge: no alarm is unseen".into(),
        [one] => format!("alarm {one} acknowledged"),
        many => format!("alarms {} acknowledged", many.join(", ")),
    }
}
