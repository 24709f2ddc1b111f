//! Alarms: what needs somebody, told once for each cause.

use super::Reason;
use crate::{command::By, id::Subject, model::Measure};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// What an alarm is about. The same kind on the same subject is the same alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum AlarmKind {
    /// Nobody is there yet.
    Waiting,
    /// Nothing comes, or nothing arrives: whatever is found out of it later.
    Silent,
    /// The state, for a reason that has no cause with a name.
    State,
    /// A named cause.
    Cause(&'static str),
    /// A limit of the sheet is passed.
    Limit(Measure),
    /// Many ways at once.
    Together,
}

impl AlarmKind {
    /// A fixed word, for scripts.
    #[must_use]
    pub fn word(self) -> String {
        match self {
            Self::Waiting => "waiting".into(),
            Self::Silent => "silent-link".into(),
            Self::State => "state".into(),
            Self::Cause(name) => name.into(),
            Self::Limit(measure) => format!("limit-{}", measure.key()),
            Self::Together => "together".into(),
        }
    }
}

/// What is wrong, with its numbers.
#[derive(Debug, Clone, PartialEq)]
pub enum Trouble {
    /// As the state has it.
    Reason(Reason),
    /// A limit of the sheet is passed.
    Limit {
        /// Of what.
        measure: Measure,
        /// What is measured.
        value: f64,
        /// What the sheet allows.
        limit: f64,
    },
    /// Many ways of a network, or of the show, at once.
    Together {
        /// So many are in trouble.
        troubled: usize,
        /// Of so many.
        of: usize,
        /// What most of them have.
        most: Box<Trouble>,
    },
}

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AlarmGrade {
    /// It works, and may not for long.
    #[default]
    Warning,
    /// It does not work.
    Trouble,
}

impl AlarmGrade {
    /// A fixed word, as in JSON.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Warning => "warning",
            Self::Trouble => "trouble",
        }
    }
}

/// One alarm.
#[derive(Debug, Clone, PartialEq)]
pub struct Alarm {
    /// Counts from 1.
    pub number: u64,
    /// What it is about.
    pub subject: Subject,
    /// Of what kind.
    pub kind: AlarmKind,
    /// How bad.
    pub grade: AlarmGrade,
    /// What is wrong, as of the last second in which it was.
    pub trouble: Trouble,
    /// When the trouble began, ms since 1970.
    pub since_ms: u64,
    /// When it became an alarm, ms since 1970.
    pub raised_ms: u64,
    /// How often it came back before anybody acknowledged it.
    pub again: u32,
    /// Who has seen it.
    pub acknowledged: Option<By>,
    /// When it was over, ms since 1970.
    pub over_ms: Option<u64>,
    /// Lines and ways out that are part of it, where there are several.
    pub members: Vec<Subject>,
}

/// What has changed of an alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AlarmStep {
    /// It is new.
    Raised,
    /// It was over, and is back.
    Again,
    /// It is worse than it was.
    Worse,
    /// Somebody has seen it.
    Acknowledged(By),
    /// The trouble is over, after so long.
    Over(Duration),
    /// It is part of this one from now on.
    Joined(u64),
}

impl AlarmStep {
    /// A fixed word, for scripts.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Raised => "raised",
            Self::Again => "again",
            Self::Worse => "worse",
            Self::Acknowledged(_) => "acknowledged",
            Self::Over(_) => "over",
            Self::Joined(_) => "joined",
        }
    }

    /// Somebody must be called.
    #[must_use]
    pub const fn calls(self) -> bool {
        matches!(self, Self::Raised | Self::Again | Self::Worse)
    }
}
