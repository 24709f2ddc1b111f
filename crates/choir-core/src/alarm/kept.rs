//! What the alarms remember of each trouble and of each other.

use super::conditions::Condition;
use crate::{
    facts::{Alarm, AlarmKind, WayTick},
    health::Verdict,
    id::{NetworkId, Subject},
    model::AlarmRules,
};
use std::{collections::BTreeMap, time::Duration};

/// A way in or out, as of the end of a tick.
#[derive(Debug, Clone, Copy)]
pub struct Watched<'a> {
    /// The line or way out.
    pub subject: Subject,
    /// When its trouble becomes an alarm.
    pub rules: &'a AlarmRules,
    /// What it crosses.
    pub networks: &'a [NetworkId],
    /// How it stands.
    pub verdict: &'a Verdict,
    /// Its last second.
    pub tick: &'a WayTick,
}

/// Something wrong, whether it is an alarm or not.
#[derive(Debug)]
pub(super) struct Pending {
    pub first: Duration,
    pub first_ms: u64,
    pub last: Duration,
    pub clear: Duration,
    pub condition: Condition,
}

impl Pending {
    /// It has lasted for long enough.
    pub fn is_due(&self, now: Duration) -> bool {
        self.last == now && now.saturating_sub(self.first) >= self.condition.hold
    }
}

#[derive(Debug)]
pub(super) struct Kept {
    pub alarm: Alarm,
    /// When the trouble began and, of many at once, when another way joined, on the clock of the
    /// ticks.
    pub began: Duration,
    pub grew: Duration,
    /// Of many at once: so many ways could be part of it.
    pub of: usize,
}

impl Kept {
    pub fn is_open(&self) -> bool {
        self.alarm.over_ms.is_none()
    }

    pub fn is_storm(&self) -> bool {
        self.is_open() && self.alarm.kind == AlarmKind::Together
    }
}

/// All that is wrong, in the order of what it is about.
pub(super) type AllPending = BTreeMap<(Subject, AlarmKind), Pending>;

/// What is wrong with the link of a way.
pub(super) fn of_link(pending: &AllPending, subject: Subject) -> impl Iterator<Item = &Pending> {
    let all = pending.range((subject, AlarmKind::Waiting)..=(subject, AlarmKind::Together));
    all.map(|(_, p)| p).filter(|p| p.condition.of_link)
}
