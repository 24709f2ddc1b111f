//! What goes against the stream, and what stands beside it: tally to sources and lamps, keyframe
//! requests to devices, alarms to those who are to be told. Follows the sheet as it changes.

use crate::{
    alarms::{
        Rules, alarm_view,
        messenger::{Message, Messenger},
    },
    cameras::Lamp,
    confirm,
    inner::Inner,
    keyframes::AskedByOnvif,
    side::{DeviceKey, LampKey, keep},
};
use choir_core::{
    device::Control,
    facts::{Event, EventKind},
    id::{LineId, Subject},
    network::Network,
    view::{TallyView, TellView},
    words::{self, event_words},
};
use choir_host::{Stop, lock};
use std::{collections::HashMap, sync::Arc};
use tokio::sync::watch;

impl Inner {
    /// Brings the tasks to what the sheet of the show has.
    pub fn follow_sheet(self: &Arc<Self>) {
        let sheet = lock(&self.sheet).clone();
        let mut tasks = lock(&self.side.0);
        let lamps = sheet.devices.iter().filter_map(|device| {
            let lines: Vec<_> = device.lines().filter_map(|l| self.names.find_line(l).ok()).collect();
            let by = device.tally.filter(|_| !lines.is_empty())?;
            Some(LampKey { device: device.clone(), by, lines })
        });
        keep(&mut tasks.lamps, lamps.collect(), &self.stopped, |key, stop| {
            let (wanted, lit) = watch::channel(false);
            let status = key.lines.first().and_then(|l| self.line(*l).ok()).map(|l| l.status.clone());
            let lamp = Lamp { device: key.device, by: key.by, status };
            (wanted, tokio::spawn(lamp.follow(lit, stop)))
        });
        let asked = self.lines().into_iter().filter_map(|line| {
            let name = lock(&line.entry).name.clone();
            let (device, stream, _) = sheet.source_of(&name).filter(|(d, ..)| d.control == Control::Onvif)?;
            Some(DeviceKey { device: device.clone(), stream: stream.to_owned(), line: line.id })
        });
        keep(&mut tasks.keyframes, asked.collect(), &self.stopped, |key, stop| {
            let (status, base) = (self.line(key.line).ok().map(|l| l.status.clone()), self.base.clone());
            let task = tokio::spawn(async move {
                if let Some(status) = status {
                    AskedByOnvif { device: key.device, stream: key.stream, base, status }.follow(stop).await;
                }
            });
            ((), task)
        });
        let alarm = &sheet.alarm;
        let command = (!alarm.command.is_empty()).then(|| Messenger::Command(alarm.command.clone()));
        let messengers = alarm.webhook.clone().map(Messenger::Webhook).into_iter().chain(command);
        keep(&mut tasks.messengers, messengers.collect(), &self.stopped, |key, stop| ((), tokio::spawn(hand_on(self.clone(), key, stop))));
        let confirms = self.feeds().into_iter().filter_map(|f| Some((f.id, lock(&f.entry).confirm.clone()?)));
        keep(&mut tasks.confirms, confirms.collect(), &self.stopped, |(feed, from), stop| {
            ((), tokio::spawn(confirm::follow(Arc::downgrade(self), feed, from, stop)))
        });
        tasks.tally.get_or_insert_with(|| tokio::spawn(follow_tally(self.clone(), self.stopped.clone())));
        drop(tasks);
        self.tally_changed.notify_one();
    }

    /// Takes from the sheet when trouble becomes an alarm, and what each way crosses.
    pub fn set_alarm_rules(&self) {
        let sheet = lock(&self.sheet).clone();
        let number = |all: Vec<&Network>| all.iter().map(|n| self.names.network(&n.name)).collect();
        let mut ways = HashMap::new();
        for line in self.lines() {
            let entry = lock(&line.entry).clone();
            let crosses = sheet.line_crosses(&entry);
            *lock(&line.networks) = crosses.iter().map(|n| n.name.clone()).collect();
            ways.insert(Subject::Line(line.id), (sheet.alarm_rules(&entry.alarm), number(crosses)));
        }
        for feed in self.feeds() {
            let entry = lock(&feed.entry).clone();
            for out in feed.outs() {
                let networks = number(sheet.feed_crosses(&entry, &out.link));
                ways.insert(Subject::Out(out.id), (sheet.alarm_rules(&entry.alarm), networks));
            }
        }
        let tell = TellView { bell: sheet.alarm.bell, desktop: sheet.alarm.desktop };
        self.desk.set_rules(Rules { ways, together: sheet.alarm.together, tell });
    }
}

/// Hands on every alarm from now on.
async fn hand_on(show: Arc<Inner>, to: Messenger, stop: Stop) {
    let facts = show.bus.listen();
    let name = lock(&show.sheet).show.name.clone();
    let message = |event: &Event| match &event.kind {
        EventKind::Alarm(alarm, step) => {
            let subject = words::Names::subject(&show.names, event.subject);
            Some(Message::new(&name, *step, alarm_view(alarm, &show.names), format!("{subject}: {}", event_words(event, &show.names))))
        }
        _ => None,
    };
    let report = |to: &str, failed| show.bus.event(Subject::Show, EventKind::Messenger { to: to.to_owned(), failed });
    to.run(&show.base, facts, message, report, stop).await;
}

/// Keeps the tally of every line as its feeds have it, at once.
async fn follow_tally(show: Arc<Inner>, mut stop: Stop) {
    loop {
        settle(&show);
        tokio::select! {
            () = show.tally_changed.notified() => {}
            () = stop.wait() => return,
        }
    }
}

/// What the receivers of a feed show is what the source of its line is told: the strongest, where
/// it is on several.
fn settle(show: &Inner) {
    let feeds = show.feeds();
    if feeds.iter().filter(|f| f.tell_takes(&show.bus)).count() > 0 {
        show.changed.notify_one();
    }
    let lines = show.lines();
    for line in &lines {
        let outs = feeds.iter().filter(|f| f.media.reading().line() == Some(line.id)).flat_map(|f| f.outs());
        line.status.control.set_tally(outs.filter_map(|out| *out.status.control.tally().borrow()).max());
    }
    let on_air = |id: &LineId| lines.iter().any(|l| l.id == *id && *l.status.control.tally().borrow() == Some(TallyView::OnAir));
    for lamp in &lock(&show.side.0).lamps {
        let lit = lamp.key.lines.iter().any(on_air);
        lamp.value.send_if_modified(|l| std::mem::replace(l, lit) != lit);
    }
}
