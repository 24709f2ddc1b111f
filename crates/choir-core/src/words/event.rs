use super::{alarm, by_words};
use crate::{
    command::Done,
    director::Unfit,
    facts::{Event, EventKind, MachineChange, RecordingStep, RotaChange},
    id::{DeviceId, FeedId, LineId, NetworkId, OutId, Subject},
    model::RotaOrder,
    units::{say_bytes, say_duration, say_size},
};

use std::time::Duration;

/// Looks up names, also of what has been removed.
pub trait Names {
    /// Name of a line.
    fn line(&self, id: LineId) -> String;
    /// Name of a feed.
    fn feed(&self, id: FeedId) -> String;
    /// Name of the feed that a way out belongs to.
    fn out(&self, id: OutId) -> String;
    /// Name of a device.
    fn device(&self, id: DeviceId) -> String;
    /// Name of a network.
    fn network(&self, id: NetworkId) -> String;

    /// `finish-tower`.
    fn name(&self, subject: Subject) -> String {
        match subject {
            Subject::Show => "show".into(),
            Subject::Machine => "machine".into(),
            Subject::Line(id) => self.line(id),
            Subject::Feed(id) => self.feed(id),
            Subject::Out(id) => self.out(id),
            Subject::Device(id) => self.device(id),
            Subject::Network(id) => self.network(id),
        }
    }

    /// `line finish-tower`.
    fn subject(&self, subject: Subject) -> String {
        let kind = match subject {
            Subject::Show => return self.name(subject),
            Subject::Machine => "this",
            Subject::Line(_) => "line",
            Subject::Feed(_) | Subject::Out(_) => "feed",
            Subject::Device(_) => "device",
            Subject::Network(_) => "network",
        };
        format!("{kind} {}", self.name(subject))
    }
}

/// A shorter pause before a take is a picture or two.
const GAP: Duration = Duration::from_millis(200);

/// Why a line is not fit to be on.
#[must_use]
pub fn unfit_words(why: Unfit) -> String {
    match why {
        Unfit::NoMedia => "no media comes".into(),
        Unfit::Broken => "it is broken".into(),
        Unfit::Content(fault) => super::content::parts(fault).0,
    }
}

/// An event as a sentence, without its subject.
#[must_use]
pub fn event_words(event: &Event, names: &dyn Names) -> String {
    match &event.kind {
        EventKind::State { state, reason } => format!("{state}: {reason}"),
        EventKind::Notice(notice) => notice.to_string(),
        EventKind::TakeRequested { line, behind: Some(behind), .. } => {
            format!(
                "take requested: {}, at once from its last keyframe: the feed is {} behind it",
                names.line(*line),
                say_duration(*behind)
            )
        }
        EventKind::TakeRequested { line, keyframe_asked, .. } => {
            let asked = if *keyframe_asked { ", requested from its source" } else { "" };
            format!("take requested: {}; waiting for its next keyframe{asked}", names.line(*line))
        }
        EventKind::TakeWaiting { line, on, waited } => {
            let stays = on.map_or_else(String::new, |on| format!("; {} stays on", names.line(on)));
            format!("take of {}: no keyframe for {}{stays}", names.line(*line), say_duration(*waited))
        }
        EventKind::Taken { line, gap } => {
            let after = if *gap < GAP { String::new() } else { format!(", after {} without a picture", say_duration(*gap)) };
            format!("{} is on, cut at a keyframe{after}", names.line(*line))
        }
        EventKind::StandIn { line, failed, why, flaps } => {
            let flaps =
                if *flaps { "; it has failed three times in ten minutes: take it by hand, or it comes back once fit for ten" } else { "" };
            format!("{} stands in for {}: {}{flaps}", names.line(*line), names.line(*failed), unfit_words(*why))
        }
        EventKind::Returned { line, away } => format!("{} is fit again and comes back after {}", names.line(*line), say_duration(*away)),
        EventKind::Previewed { line, .. } => format!("{} comes next", names.line(*line)),
        EventKind::Held { held, by } => format!("{} {}", if *held { "held" } else { "released" }, by_words(*by)),
        EventKind::Rota { name, change: RotaChange::Told(order, by) } => format!("rota {name} {} {}", rota_words(*order), by_words(*by)),
        EventKind::Rota { name, change: RotaChange::Interrupted } => {
            format!("rota {name} waits, as something else was taken: go on with \"choir rota start {name}\"")
        }
        EventKind::Rota { name, change: RotaChange::Ended } => format!("rota {name} is at its end; what is on stays on"),
        EventKind::Wall { full: Some(line), by } => format!("shows {} alone {}", names.line(*line), by_words(*by)),
        EventKind::Wall { full: None, by } => format!("shows all its lines {}", by_words(*by)),
        EventKind::Preset { device, preset, by } => format!("{device} goes to preset {preset} {}", by_words(*by)),
        EventKind::Recording(step) => recording_words(step),
        EventKind::Alarm(alarm, step) => alarm::step_words(alarm, *step),
        EventKind::Confirmed { size } => format!("a picture of {} comes back from the viewers' side", say_size(*size)),
        EventKind::NotConfirmed(why) => format!("no picture comes back from the viewers' side: {why}"),
        EventKind::Messenger { to, failed: Some(why) } => format!("alarms do not reach {to}: {why}"),
        EventKind::Messenger { to, failed: None } => format!("alarms reach {to} again"),
        EventKind::ReceiveBuffer { granted, wanted } => {
            format!("receive buffer is {} KiB instead of {} KiB: raise net.core.rmem_max for many links", granted / 1024, wanted / 1024)
        }
        EventKind::Machine(change) => machine_words(change),
        EventKind::Reloaded(change) => format!("sheet reloaded: {change}"),
        EventKind::ReloadFailed(why) => format!("sheet not reloaded, nothing changed: {why}"),
    }
}

fn machine_words(change: &MachineChange) -> String {
    match change {
        MachineChange::Network { came, gone, rejoined } => {
            let part = |what: &str, all: &[String]| (!all.is_empty()).then(|| format!("{what} {}", all.join(", ")));
            let groups = (*rejoined > 0).then(|| format!("{} joined again", super::count(*rejoined as u64, "multicast group")));
            let parts: Vec<String> = [part("gone:", gone), part("new:", came), groups].into_iter().flatten().collect();
            format!("network changed: {}", parts.join("; "))
        }
        MachineChange::Slept(time) => {
            format!("was asleep for {}: links whose other end has given up come back by themselves", say_duration(*time))
        }
        MachineChange::ClockSet { ms } => {
            let (by, way) = (say_duration(Duration::from_millis(ms.unsigned_abs())), if *ms > 0 { "forward" } else { "back" });
            format!("clock was set {way} by {by}: media does not follow it, times of day in this list do")
        }
        MachineChange::FilesShort { limit } => {
            format!(
                "nearly all of {limit} file descriptors are in use: new connections from outside are closed; raise it with \"ulimit -n\""
            )
        }
        MachineChange::FilesEnough => "enough file descriptors again: new connections are taken".into(),
    }
}

const fn rota_words(order: RotaOrder) -> &'static str {
    match order {
        RotaOrder::Start => "started",
        RotaOrder::Pause => "paused",
        RotaOrder::Skip => "told to skip",
        RotaOrder::Stop => "stopped",
    }
}

fn recording_words(step: &RecordingStep) -> String {
    match step {
        RecordingStep::Begun { folder, .. } => format!("recording into {}", folder.display()),
        RecordingStep::Ended { files, bytes } => {
            format!("recorded: {}, {}", super::count(*files, "file"), say_bytes(*bytes))
        }
        RecordingStep::Failed { folder, cause } => {
            format!("cannot be recorded into {}: {cause}; tried again each 2 s", folder.display())
        }
        RecordingStep::DiskLow { folder, left } => {
            format!("the disk of {} is full in {} at this rate: make room, or end recordings", folder.display(), say_duration(*left))
        }
        RecordingStep::DiskFull { folder, free } => {
            format!("recording ended: the disk of {} has {} left; make room and start it again", folder.display(), say_bytes(*free))
        }
    }
}

/// What was done, as a sentence.
#[must_use]
pub fn done_words(done: &Done, names: &dyn Names) -> String {
    match done {
        Done::TakeRequested { feed, line, behind: Some(behind) } => {
            format!("{} goes on {} at once, {} behind", names.line(*line), names.feed(*feed), say_duration(*behind))
        }
        Done::TakesRequested(takes) => {
            let takes: Vec<String> = takes.iter().map(|(feed, line)| format!("{} on {}", names.line(*line), names.feed(*feed))).collect();
            format!("{}: together, once each has sent a keyframe", takes.join(", "))
        }
        Done::TakeRequested { feed, line, .. } => format!("{} goes on {} at its next keyframe", names.line(*line), names.feed(*feed)),
        Done::Previewed { feed, line } => format!("{} comes next on {}", names.line(*line), names.feed(*feed)),
        Done::Held { line, held, already } => {
            let already = if *already { " already" } else { "" };
            format!("{} is {}{already}", names.line(*line), if *held { "held" } else { "released" })
        }
        Done::HeldOuts { feed, changed, held } => {
            let (feed, word) = (names.feed(*feed), if *held { "held" } else { "released" });
            match changed {
                0 => format!("{feed} is {word} already"),
                1 => format!("1 way out of {feed} {word}"),
                n => format!("{n} ways out of {feed} {word}"),
            }
        }
        Done::Examined { line, on } => format!("{} is {}examined", names.line(*line), if *on { "" } else { "no longer " }),
        Done::Recording { subject, folder } => format!("{} is recorded into {}", names.name(*subject), folder.display()),
        Done::Rota { name, order: RotaOrder::Skip } => format!("{name} goes to its next step"),
        Done::Rota { name, order } => format!("{name} {}", rota_words(*order)),
        Done::Wall { wall, full: Some(line) } => format!("{} shows {} alone", names.line(*wall), names.line(*line)),
        Done::Wall { wall, full: None } => format!("{} shows all its lines", names.line(*wall)),
        Done::Preset { device, preset } => format!("{device} goes to preset {preset}"),
        Done::RecordingsEnded(0) => "nothing was being recorded".into(),
        Done::RecordingsEnded(n) => format!("{} ended", super::count(*n as u64, "recording")),
        Done::Acknowledged(numbers) => alarm::acknowledged_words(numbers),
        Done::Reloaded(change) => change.to_string(),
        Done::Stopping => "the show is stopping".into(),
    }
}
