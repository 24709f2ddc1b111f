//! Alarms as a list, and how a terminal is told of them.

use super::sentences::hanging;
use choir_core::{
    command::By,
    facts::AlarmGrade,
    view::{AlarmView, TellView},
};
use choir_host::clock::time_of_day;
use choir_proto::foreign::plain;
use std::fmt::Write;

/// Whether it is over, and whether anybody has seen it.
pub fn standing(a: &AlarmView) -> String {
    let seen = match a.acknowledged {
        None => "not acknowledged",
        Some(By::CommandLine) => "acknowledged",
        Some(By::LiveView) => "acknowledged in the live view",
        Some(By::Rota) => "acknowledged by a rota",
        Some(By::Sheet) => "acknowledged by the sheet",
    };
    let again = if a.again > 0 { format!(", came back {}", times(a.again)) } else { String::new() };
    let over = a.over_ms.map_or_else(String::new, |ms| format!("over at {}, ", time_of_day(ms)));
    format!("{over}{seen}{again}")
}

fn times(n: u32) -> String {
    if n == 1 { "once".into() } else { format!("{n} times") }
}

/// Each with what is wrong below it.
pub fn list(alarms: &[AlarmView], width: usize) -> String {
    let mut out = String::new();
    for a in alarms {
        let _ = writeln!(out, "{:>3}  {}, {}, since {}, {}", a.number, a.subject, a.grade.word(), time_of_day(a.since_ms), standing(a));
        hanging(&mut out, &a.text, ("     ", "     "), width);
        if !a.members.is_empty() {
            hanging(&mut out, &format!("part of it: {}", a.members.join(", ")), ("     ", "     "), width);
        }
    }
    out
}

/// Which alarms call: each once, and once more when it comes back or is worse.
#[derive(Debug, Default)]
pub struct Calls {
    called: Vec<(u64, u32, AlarmGrade)>,
    begun: bool,
}

impl Calls {
    /// Those that call and have not before. What there was at the first look is seen at a glance.
    pub fn new_of<'a>(&mut self, alarms: &'a [AlarmView]) -> Vec<&'a AlarmView> {
        let key = |a: &AlarmView| (a.number, a.again, a.grade);
        let new = alarms.iter().filter(|a| a.calls()).filter(|a| self.begun && !self.called.contains(&key(a))).collect();
        self.called = alarms.iter().map(key).collect();
        self.begun = true;
        new
    }
}

/// What a terminal is sent when an alarm calls.
pub fn call(alarm: &AlarmView, tell: TellView) -> String {
    let bell = if tell.bell { BELL } else { "" };
    let text = if tell.desktop { desktop(&format!("{}: {}", alarm.subject, alarm.text)) } else { String::new() };
    format!("{bell}{text}")
}

/// What a terminal shows as a notification of the desktop (operating system command 9), as many do:
/// without anything in it that a terminal would take for a command.
fn desktop(text: &str) -> String {
    let text = plain(text, 200);
    format!("\x1b]9;{text}\x1b\\")
}

/// The terminal's bell.
const BELL: &str = "\x07";

#[cfg(test)]
mod tests {
    use super::*;

    fn alarm(number: u64) -> AlarmView {
        AlarmView {
            number,
            subject: "network mobile".into(),
            kind: "together".into(),
            text: "3 of 4 lines and ways out in trouble at once".into(),
            since_ms: 52_000,
            raised_ms: 54_000,
            members: vec!["line umpire-launch".into(), "line towpath-bicycle".into()],
            ..AlarmView::default()
        }
    }

    #[test]
    fn a_list_says_what_since_when_and_whether_it_is_seen() {
        let over = AlarmView { over_ms: Some(60_000), again: 2, members: Vec::new(), ..alarm(12) };
        let text = list(&[alarm(3), over], 60);
        assert_eq!(
            text,
            "  3  network mobile, warning, since 00:00:52, not acknowledged
     3 of 4 lines and ways out in trouble at once
     part of it: line umpire-launch, line towpath-bicycle
 12  network mobile, warning, since 00:00:52, over at 00:01:00, not acknowledged, came back 2 times
     3 of 4 lines and ways out in trouble at once
"
        );
    }

    #[test]
    fn an_alarm_calls_once_and_again_when_it_is_worse() {
        let mut calls = Calls::default();
        assert!(calls.new_of(&[alarm(1)]).is_empty(), "it was there before anybody looked");
        assert_eq!(calls.new_of(&[alarm(1), alarm(2)]).len(), 1);
        assert!(calls.new_of(&[alarm(1), alarm(2)]).is_empty());
        let worse = AlarmView { grade: AlarmGrade::Trouble, ..alarm(2) };
        assert_eq!(calls.new_of(&[alarm(1), worse.clone()]).len(), 1);
        let seen = AlarmView { acknowledged: Some(By::CommandLine), again: 1, ..worse };
        assert!(calls.new_of(&[seen]).is_empty());
    }

    #[test]
    fn a_notification_cannot_command_the_terminal() {
        assert_eq!(desktop("line a:\x1b]0;x\x07 gone\n"), "\x1b]9;line a:]0;x gone\x1b\\");
    }
}
