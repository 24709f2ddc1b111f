//! The alarms of a running show: judged each second, and acknowledged.

use crate::{bus::Bus, meter::Judged};
use choir_core::{
    alarm::{Alarms, Watched},
    command::{By, Refusal, Which},
    facts::{Alarm, EventKind},
    id::{NetworkId, Subject},
    model::AlarmRules,
    view::{AlarmView, TellView},
    words::Names,
};
use choir_host::{clock::unix_ms, lock};
use std::{collections::HashMap, sync::Mutex, time::Duration};

/// The alarms, and by which rules they are judged.
#[derive(Default)]
pub(crate) struct Desk {
    alarms: Mutex<Alarms>,
    rules: Mutex<Rules>,
}

#[derive(Default)]
pub(crate) struct Rules {
    /// Of each line and way out, with the networks that it crosses.
    pub ways: HashMap<Subject, (AlarmRules, Vec<NetworkId>)>,
    /// From so many ways on they are one alarm.
    pub together: Option<usize>,
    /// How the live view tells.
    pub tell: TellView,
}

impl Desk {
    /// Judges by other rules from now on.
    pub fn set_rules(&self, rules: Rules) {
        *lock(&self.rules) = rules;
    }

    /// Judges a tick. What is new of any alarm becomes an event.
    pub fn tick(&self, now: Duration, judged: &[Judged], bus: &Bus) {
        let rules = lock(&self.rules);
        let watched: Vec<Watched<'_>> = judged
            .iter()
            .filter_map(|j| {
                let (rules, networks) = rules.ways.get(&j.subject)?;
                Some(Watched { subject: j.subject, rules, networks, verdict: &j.verdict, tick: &j.tick })
            })
            .collect();
        let mut alarms = lock(&self.alarms);
        let steps = alarms.tick(now, unix_ms(), &watched, rules.together);
        steps.into_iter().for_each(|(alarm, step)| bus.event(alarm.subject, EventKind::Alarm(Box::new(alarm), step)));
    }

    /// Somebody has seen these: gives the numbers of those that nobody had.
    pub fn acknowledge(&self, by: By, which: &Which, bus: &Bus) -> Vec<u64> {
        let mut alarms = lock(&self.alarms);
        let steps = alarms.acknowledge(by, which);
        let numbers = steps.iter().map(|(alarm, _)| alarm.number).collect();
        steps.into_iter().for_each(|(alarm, step)| bus.event(alarm.subject, EventKind::Alarm(Box::new(alarm), step)));
        numbers
    }

    /// The alarm of this number, or those of a line, feed or network of this name, and those that
    /// it is part of.
    pub fn of(&self, what: &str, names: &dyn Names) -> Result<Vec<u64>, Refusal> {
        let alarms = lock(&self.alarms).list();
        let is = |s: &Subject| names.name(*s) == what;
        let named = |a: &Alarm| is(&a.subject) || a.members.iter().any(is);
        let meant = |a: &&Alarm| what.parse() == Ok(a.number) || named(a);
        let found: Vec<u64> = alarms.iter().filter(meant).map(|a| a.number).collect();
        if found.is_empty() {
            let all: Vec<String> = alarms.iter().map(|a| format!("{} ({})", a.number, names.subject(a.subject))).collect();
            let hint = if all.is_empty() { "There is none at all.".into() } else { format!("There are: {}.", all.join(", ")) };
            let what = if what.parse::<u64>().is_ok() { what.to_owned() } else { format!("of \"{what}\"") };
            return Err(Refusal::NoAlarm { what, hint });
        }
        Ok(found)
    }

    pub fn view(&self, names: &dyn Names) -> Vec<AlarmView> {
        lock(&self.alarms).list().iter().map(|a| alarm_view(a, names)).collect()
    }

    /// How the live view tells of them.
    pub fn tell(&self) -> TellView {
        lock(&self.rules).tell
    }
}

/// An alarm as it is shown.
pub(crate) fn alarm_view(a: &Alarm, names: &dyn Names) -> AlarmView {
    AlarmView {
        number: a.number,
        subject: names.subject(a.subject),
        kind: a.kind.word(),
        grade: a.grade,
        text: a.trouble.to_string(),
        since_ms: a.since_ms,
        raised_ms: a.raised_ms,
        again: a.again,
        acknowledged: a.acknowledged,
        over_ms: a.over_ms,
        members: a.members.iter().map(|m| names.subject(*m)).collect(),
    }
}
