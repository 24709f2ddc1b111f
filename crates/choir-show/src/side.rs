//! What goes against the stream: tally to sources and lamps, keyframe requests to devices. Follows the sheet as it changes.

use crate::{cameras::Lamp, keyframes::AskedByOnvif, show::Inner};
use choir_core::{
    device::{Control, Device},
    id::LineId,
    view::TallyView,
};
use choir_host::{End, Stop, lock};
use std::sync::{Arc, Mutex};
use tokio::{sync::watch, task::JoinHandle};

/// Tasks beside the media.
#[derive(Default)]
pub(crate) struct Side(Mutex<Tasks>);

#[derive(Default)]
struct Tasks {
    tally: Option<JoinHandle<()>>,
    lamps: Vec<Kept<LampKey, watch::Sender<bool>>>,
    keyframes: Vec<Kept<DeviceKey, ()>>,
}

/// A task that stays as long as what it is for is wanted.
struct Kept<K, V> {
    key: K,
    value: V,
    end: End,
    task: JoinHandle<()>,
}

/// A lamp, and the lines that its camera feeds.
#[derive(PartialEq, Clone)]
struct LampKey {
    device: Device,
    by: Control,
    lines: Vec<LineId>,
}

/// A device that can be asked for keyframes of a line.
#[derive(PartialEq, Clone)]
struct DeviceKey {
    device: Device,
    stream: String,
    line: LineId,
}

/// Keeps the tasks that are still wanted, ends the others and starts new ones.
fn keep<K: PartialEq + Clone, V>(kept: &mut Vec<Kept<K, V>>, wanted: Vec<K>, stop: &Stop, start: impl Fn(K, Stop) -> (V, JoinHandle<()>)) {
    kept.retain(|k| {
        let stays = wanted.contains(&k.key) && !k.task.is_finished();
        if !stays {
            k.end.now();
        }
        stays
    });
    for key in wanted {
        if kept.iter().all(|k| k.key != key) {
            let (end, own) = stop.child();
            let (value, task) = start(key.clone(), own);
            kept.push(Kept { key, value, end, task });
        }
    }
}

impl Side {
    /// Brings the tasks to what the sheet of the show has.
    pub fn follow(&self, show: &Arc<Inner>) {
        let sheet = lock(&show.sheet).clone();
        let mut tasks = lock(&self.0);
        let lamps = sheet.devices.iter().filter_map(|device| {
            let lines: Vec<_> = device.lines().filter_map(|l| show.names.find_line(l).ok()).collect();
            let by = device.tally.filter(|_| !lines.is_empty())?;
            Some(LampKey { device: device.clone(), by, lines })
        });
        keep(&mut tasks.lamps, lamps.collect(), &show.stopped, |key, stop| {
            let (wanted, lit) = watch::channel(false);
            let status = key.lines.first().and_then(|l| show.line(*l).ok()).map(|l| l.status.clone());
            let lamp = Lamp { device: key.device, by: key.by, status };
            (wanted, tokio::spawn(lamp.follow(lit, stop)))
        });
        let asked = show.lines().into_iter().filter_map(|line| {
            let name = lock(&line.entry).name.clone();
            let (device, stream, _) = sheet.source_of(&name).filter(|(d, ..)| d.control == Control::Onvif)?;
            Some(DeviceKey { device: device.clone(), stream: stream.to_owned(), line: line.id })
        });
        keep(&mut tasks.keyframes, asked.collect(), &show.stopped, |key, stop| {
            let (status, base) = (show.line(key.line).ok().map(|l| l.status.clone()), show.base.clone());
            let task = tokio::spawn(async move {
                if let Some(status) = status {
                    AskedByOnvif { device: key.device, stream: key.stream, base, status }.follow(stop).await;
                }
            });
            ((), task)
        });
        tasks.tally.get_or_insert_with(|| tokio::spawn(follow_tally(show.clone(), show.stopped.clone())));
        drop(tasks);
        show.tally_changed.notify_one();
    }

    /// All tasks, to be waited for.
    pub fn tasks(&self) -> Vec<JoinHandle<()>> {
        let tasks = std::mem::take(&mut *lock(&self.0));
        let lamps = tasks.lamps.into_iter().map(|k| k.task);
        lamps.chain(tasks.keyframes.into_iter().map(|k| k.task)).chain(tasks.tally).collect()
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

/// What the receivers of a feed show is what the source of its line is told: the strongest, where it is on several.
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
