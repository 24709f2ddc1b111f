//! What waits for a way out, bounded by bytes and by age.

use bytes::Bytes;
use choir_host::{clock::steady_us, lock};
use choir_proto::ts::AccessUnit;
use std::{
    collections::VecDeque,
    fmt,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
};
use tokio::sync::Notify;

/// Media that waits for a way out: so many bytes (2.5 s of 100 Mbit/s), and so long. Pieces are
/// packets on one way, whole pictures on another, so that their number says nothing.
const WAITING_BYTES: usize = 32 << 20;
const WAITING_US: i64 = 5_000_000;

/// Media on its way out: pieces of a transport stream, or units.
#[derive(Debug)]
pub struct Outlet<T = Bytes> {
    queue: Mutex<Queue<T>>,
    wake: Notify,
    dropped: AtomicU64,
    ended: AtomicBool,
}

/// Units on their way out.
pub type UnitOutlet = Outlet<AccessUnit>;

/// What an outlet can hold: media of a known size.
pub trait MediaSize: Send {
    /// Bytes of media.
    fn size(&self) -> usize;
}

impl MediaSize for Bytes {
    fn size(&self) -> usize {
        self.len()
    }
}

impl MediaSize for AccessUnit {
    fn size(&self) -> usize {
        self.data.len()
    }
}

/// What waits, and since when.
#[derive(Debug)]
struct Queue<T> {
    pieces: VecDeque<T>,
    times: VecDeque<i64>,
    bytes: usize,
    /// Called in place of the notification.
    on_fill: Option<OnFill>,
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        Self { pieces: VecDeque::new(), times: VecDeque::new(), bytes: 0, on_fill: None }
    }
}

/// Called when an outlet that was empty has something, or ends; by the thread that fills it and
/// with the outlet locked: must be quick, and must not touch the outlet.
#[derive(Clone)]
pub(crate) struct OnFill(Arc<dyn Fn() + Send + Sync>);

impl OnFill {
    pub fn new(call: impl Fn() + Send + Sync + 'static) -> Self {
        Self(Arc::new(call))
    }

    pub fn call(&self) {
        (self.0)();
    }
}

impl fmt::Debug for OnFill {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("OnFill")
    }
}

impl<T: MediaSize> Queue<T> {
    /// Adds a piece; gives how many had to give way.
    fn push(&mut self, now: i64, payload: T) -> u64 {
        self.bytes += payload.size();
        self.pieces.push_back(payload);
        self.times.push_back(now);
        let mut dropped = 0;
        // The newest stays, however large.
        while self.pieces.len() > 1 && (self.bytes > WAITING_BYTES || self.times.front().is_some_and(|t| now - t > WAITING_US)) {
            self.times.pop_front();
            self.bytes -= self.pieces.pop_front().map_or(0, |p| p.size());
            dropped += 1;
        }
        dropped
    }

    /// Takes the pieces; gives their times, to be taken or cleared.
    fn take(&mut self, into: &mut VecDeque<T>) -> &mut VecDeque<i64> {
        into.clear();
        std::mem::swap(&mut self.pieces, into);
        self.bytes = 0;
        &mut self.times
    }
}

impl<T: MediaSize> Outlet<T> {
    /// An empty one.
    #[must_use]
    pub fn new() -> Arc<Self> {
        Arc::new(Self { queue: Mutex::default(), wake: Notify::new(), dropped: AtomicU64::new(0), ended: AtomicBool::new(false) })
    }

    /// Queues one piece now.
    pub fn push(&self, payload: T) {
        self.push_at(steady_us(), payload);
    }

    /// Queues one piece at `now` (µs on the clock of [`steady_us`]); when the way out does not keep
    /// up, the oldest piece gives way and is counted.
    pub fn push_at(&self, now: i64, payload: T) {
        let mut queue = lock(&self.queue);
        let was_empty = queue.pieces.is_empty();
        let dropped = queue.push(now, payload);
        if dropped > 0 {
            self.dropped.fetch_add(dropped, Ordering::Relaxed);
        }
        match &queue.on_fill {
            Some(on_fill) if was_empty => on_fill.call(),
            Some(_) => {}
            None => self.wake.notify_one(),
        }
    }

    /// Says that nothing more will come: the way out finishes and ends.
    pub fn end(&self) {
        self.ended.store(true, Ordering::Release);
        self.wake.notify_one();
        lock(&self.queue).on_fill.iter().for_each(OnFill::call);
    }

    /// Has this called in place of the notification, at once if something waits already.
    pub(crate) fn on_fill(&self, call: Option<OnFill>) {
        let mut queue = lock(&self.queue);
        queue.on_fill = call;
        if !queue.pieces.is_empty() || self.has_ended() {
            queue.on_fill.iter().for_each(OnFill::call);
        }
    }

    /// Counts what was taken and could not go out in time.
    pub(crate) fn note_dropped(&self, pieces: u64) {
        self.dropped.fetch_add(pieces, Ordering::Relaxed);
    }

    /// Pieces dropped for a full queue.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped.load(Ordering::Relaxed)
    }

    /// Waits until there is something in it, or it ends. Safe to cancel.
    pub async fn filled(&self) {
        self.wake.notified().await;
    }

    /// Nothing more will come.
    #[must_use]
    pub fn has_ended(&self) -> bool {
        self.ended.load(Ordering::Acquire)
    }

    /// Takes all that waits.
    #[must_use]
    pub fn take(&self) -> VecDeque<T> {
        let mut taken = VecDeque::new();
        self.take_into(&mut taken);
        taken
    }

    /// Takes all that waits, in place of what `into` held.
    pub(crate) fn take_into(&self, into: &mut VecDeque<T>) {
        lock(&self.queue).take(into).clear();
    }

    /// The same, with the time of each (µs on the clock of [`steady_us`]).
    pub(crate) fn take_timed(&self, into: &mut VecDeque<T>, times: &mut VecDeque<i64>) {
        times.clear();
        std::mem::swap(lock(&self.queue).take(into), times);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reader_is_called_once_for_all_that_waits() {
        let (outlet, calls) = (Outlet::<Bytes>::new(), Arc::new(AtomicU64::new(0)));
        let counted = calls.clone();
        let call = OnFill::new(move || {
            counted.fetch_add(1, Ordering::Relaxed);
        });
        let called = || calls.swap(0, Ordering::Relaxed);
        outlet.push(Bytes::from_static(b"before"));
        outlet.on_fill(Some(call.clone()));
        assert_eq!(called(), 1, "something waited already");
        (0..3).for_each(|_| outlet.push(Bytes::from_static(b"more")));
        assert_eq!((called(), outlet.take().len()), (0, 4));
        (0..3).for_each(|_| outlet.push(Bytes::from_static(b"again")));
        assert_eq!((called(), outlet.take().len()), (1, 3));
        outlet.end();
        assert_eq!(called(), 1, "the end is told");
        outlet.on_fill(None);
        outlet.push(Bytes::from_static(b"for nobody"));
        assert_eq!(called(), 0);
    }

    #[test]
    fn what_waits_is_bounded_in_bytes_and_in_time() {
        let now = 0;
        let picture = Bytes::from(vec![0; 1 << 20]);
        let mut queue = Queue::<Bytes>::default();
        let dropped: u64 = (0..100).map(|_| queue.push(now, picture.clone())).sum();
        assert_eq!((queue.bytes, queue.pieces.len(), dropped), (WAITING_BYTES, 32, 68));
        // Small pieces by the thousand are no reason to drop any; their age is.
        let mut queue = Queue::<Bytes>::default();
        let packet = Bytes::from(vec![0; 1316]);
        let dropped: u64 = (0..20_000).map(|_| queue.push(now, packet.clone())).sum();
        assert_eq!((queue.pieces.len(), dropped), (20_000, 0));
        assert_eq!(queue.push(now + WAITING_US + 1, packet.clone()), 20_000);
        assert_eq!((queue.pieces.len(), queue.times.len(), queue.bytes), (1, 1, packet.len()));
        // One that alone is more than the bound goes all the same.
        assert_eq!(queue.push(now, Bytes::from(vec![0; WAITING_BYTES + 1])), 1);
        assert_eq!(queue.pieces.len(), 1);
    }
}
