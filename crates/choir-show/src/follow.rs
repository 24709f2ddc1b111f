//! What goes against the stream: tally to sources and lamps, keyframe requests to devices. Follows
//! the sheet as it changes.

use crate::{
    cameras::Lamp,
    inner::Inner,
    keyframes::AskedByOnvif,
    side::{DeviceKey, LampKey, keep},
};
use choir_core::{device::Control, id::LineId, view::TallyView};
use choir_host::{Stop, lock};
use std::sync::Arc;
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
        tasks.tally.get_or_insert_with(|| tokio::spawn(follow_tally(self.clone(), self.stopped.clone())));
        drop(tasks);
        self.tally_changed.notify_one();
    }
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
