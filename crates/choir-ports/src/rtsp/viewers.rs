//! What a viewer within a connection still has to get. One that does not keep up loses pictures up
//! to the next keyframe; one that takes nothing at all is let go. The others never wait for it.

use bytes::Bytes;
use choir_host::lock;
use choir_proto::rtp::PackedUnit;
use std::{
    collections::VecDeque,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::sync::Notify;

/// Bytes waiting at most: more than a second of a large stream, and two of its keyframes.
const WAITING_MAX: usize = 4 << 20;
/// Answers waiting at most: then nothing more is read until some have gone.
const ANSWERS_MAX: usize = 32;
/// Time without a byte taken after which a viewer is let go.
const PATIENCE: Duration = Duration::from_secs(10);

/// Packets of one connection, by channel, in order.
#[derive(Debug, Default)]
pub(super) struct Lanes {
    state: Mutex<State>,
    pub wake: Notify,
    close: Notify,
    /// Answers have gone.
    room: Notify,
}

#[derive(Debug, Default)]
struct State {
    queue: VecDeque<Entry>,
    bytes: usize,
    /// Messages in the queue.
    answers: usize,
    used: bool,
    /// Since when something waits that is not taken.
    stuck: Option<Instant>,
}

/// A packet on a channel, or a message of its own.
pub(super) type Entry = (Option<u8>, Bytes);

/// What became of packets that were handed in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum QueueResult {
    Queued,
    /// No room: the viewer has to wait for a keyframe.
    Full,
    /// It has taken nothing for too long.
    Dead,
}

impl State {
    fn is_dead(&self, now: Instant) -> bool {
        self.stuck.is_some_and(|t| now.saturating_duration_since(t) > PATIENCE)
    }
}

impl Lanes {
    pub fn new() -> Arc<Self> {
        Arc::default()
    }

    /// Queues the packets of one access unit, all or none.
    pub fn push(&self, channel: u8, unit: &PackedUnit, now: Instant) -> QueueResult {
        let mut s = lock(&self.state);
        let packets = unit.packets();
        let size = unit.size() + 4 * packets.len();
        if s.is_dead(now) {
            return QueueResult::Dead;
        }
        if s.bytes + size > WAITING_MAX {
            return QueueResult::Full;
        }
        s.bytes += size;
        s.used = true;
        s.queue.extend(packets.map(|p| (Some(channel), p)));
        s.stuck.get_or_insert(now);
        drop(s);
        self.wake.notify_one();
        QueueResult::Queued
    }

    /// Queues a message. Whoever reads what is answered waits for [`Self::has_room`] before.
    pub fn message(&self, message: Bytes) {
        let mut s = lock(&self.state);
        s.bytes += message.len();
        s.answers += 1;
        s.queue.push_back((None, message));
        drop(s);
        self.wake.notify_one();
    }

    /// Waits until so many answers have gone that another one may come; false when none go for too
    /// long.
    pub async fn has_room(&self) -> bool {
        let room = async {
            while lock(&self.state).answers >= ANSWERS_MAX {
                self.room.notified().await;
            }
        };
        tokio::time::timeout(PATIENCE, room).await.is_ok()
    }

    /// Closes the connection.
    pub fn close(&self) {
        self.close.notify_one();
    }

    /// Waits until it is to be closed.
    pub async fn closed(&self) {
        self.close.notified().await;
    }

    /// True once packets have gone this way.
    pub fn in_use(&self) -> bool {
        lock(&self.state).used
    }

    /// True when what waits has not been taken for too long.
    pub fn is_dead(&self, now: Instant) -> bool {
        lock(&self.state).is_dead(now)
    }

    /// True when there is room for a fresh start.
    pub fn roomy(&self) -> bool {
        lock(&self.state).bytes < WAITING_MAX / 4
    }

    /// Takes up to `most` packets.
    pub fn take(&self, most: usize, out: &mut Vec<Entry>) {
        let mut s = lock(&self.state);
        let n = s.queue.len().min(most);
        let from = out.len();
        out.extend(s.queue.drain(..n));
        s.answers -= out[from..].iter().filter(|(channel, _)| channel.is_none()).count();
        drop(s);
        self.room.notify_one();
    }

    /// So many bytes have been written.
    pub fn written(&self, bytes: usize, now: Instant) {
        let mut s = lock(&self.state);
        s.bytes = s.bytes.saturating_sub(bytes);
        s.stuck = (s.bytes > 0).then_some(now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_does_not_keep_up_loses_pictures_and_who_takes_nothing_is_let_go() {
        let lanes = Lanes::new();
        let now = Instant::now();
        let unit = PackedUnit::of([&[0; 60_000][..]; 10].into_iter(), true);
        let queued = (0..20).filter(|_| lanes.push(0, &unit, now) == QueueResult::Queued).count();
        assert_eq!(queued, WAITING_MAX / 600_040);
        assert!(!lanes.roomy());
        assert_eq!(lanes.push(0, &unit, now + PATIENCE), QueueResult::Full);
        assert!(!lanes.is_dead(now + PATIENCE) && lanes.is_dead(now + PATIENCE * 2), "also while it waits for a keyframe");
        assert_eq!(lanes.push(0, &unit, now + PATIENCE * 2), QueueResult::Dead);
        let mut out = Vec::new();
        lanes.take(1000, &mut out);
        assert_eq!(out.len(), queued * 10);
        lanes.written(queued * 600_040, now + PATIENCE * 2);
        assert!(lanes.roomy());
        assert_eq!(lanes.push(0, &unit, now + PATIENCE * 2), QueueResult::Queued);
    }
}
