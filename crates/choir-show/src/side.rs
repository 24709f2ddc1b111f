//! Tasks beside the media, kept by what they are for.

use crate::alarms::messenger::Messenger;
use choir_core::{
    device::{Control, Device},
    id::{FeedId, LineId},
    model::Confirm,
};
use choir_host::{End, Stop, lock};
use std::sync::Mutex;
use tokio::{sync::watch, task::JoinHandle};

/// Tasks beside the media.
#[derive(Default)]
pub(crate) struct Side(pub Mutex<Tasks>);

#[derive(Default)]
pub(crate) struct Tasks {
    pub tally: Option<JoinHandle<()>>,
    pub lamps: Vec<Kept<LampKey, watch::Sender<bool>>>,
    pub keyframes: Vec<Kept<DeviceKey, ()>>,
    pub messengers: Vec<Kept<Messenger, ()>>,
    pub confirms: Vec<Kept<(FeedId, Confirm), ()>>,
}

/// A task that stays as long as what it is for is wanted.
pub(crate) struct Kept<K, V> {
    pub key: K,
    pub value: V,
    end: End,
    task: JoinHandle<()>,
}

/// A lamp, and the lines that its camera feeds.
#[derive(PartialEq, Clone)]
pub(crate) struct LampKey {
    pub device: Device,
    pub by: Control,
    pub lines: Vec<LineId>,
}

/// A device that can be asked for keyframes of a line.
#[derive(PartialEq, Clone)]
pub(crate) struct DeviceKey {
    pub device: Device,
    pub stream: String,
    pub line: LineId,
}

/// Keeps the tasks that are still wanted, ends the others and starts new ones.
pub(crate) fn keep<K: PartialEq + Clone, V>(
    kept: &mut Vec<Kept<K, V>>,
    wanted: Vec<K>,
    stop: &Stop,
    start: impl Fn(K, Stop) -> (V, JoinHandle<()>),
) {
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
    /// All tasks, to be waited for.
    pub fn tasks(&self) -> Vec<JoinHandle<()>> {
        let tasks = std::mem::take(&mut *lock(&self.0));
        let lamps = tasks.lamps.into_iter().map(|k| k.task);
        let messengers = tasks.messengers.into_iter().map(|k| k.task);
        let confirms = tasks.confirms.into_iter().map(|k| k.task);
        lamps.chain(confirms).chain(tasks.keyframes.into_iter().map(|k| k.task)).chain(messengers).chain(tasks.tally).collect()
    }
}
