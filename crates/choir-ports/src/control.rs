//! What the show asks of a way in or out: held or released, keyframes, tally.

use choir_core::view::TallyView;
use choir_host::lock;
use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Notify, watch};

/// Shortest time between two keyframe requests: encoders that are asked more often only get worse.
const KEYFRAME_REST: Duration = Duration::from_millis(500);

/// Requests to a port, which waits for them.
#[derive(Debug)]
pub struct WayControl {
    held: AtomicBool,
    /// Counts keyframe requests: by receivers of a way out, by a feed that is to take a way in.
    keyframes: watch::Sender<u64>,
    last_request: Mutex<Option<Instant>>,
    /// Counts the starts of a clip that plays from its start at each take; none while it is to
    /// rest.
    starts: watch::Sender<Option<(u64, Instant)>>,
    /// The port of a way in can pass keyframe requests on.
    by_link: AtomicBool,
    /// The device behind it can be asked instead, as far as is known.
    by_device: AtomicBool,
    /// Of a way out, what its receivers show; of a way in, what its source is told.
    tally: watch::Sender<Option<TallyView>>,
    /// Notified when it is held or released.
    wake: Notify,
    /// Notified when the tally changes.
    tally_changed: Arc<Notify>,
}

impl WayControl {
    pub(crate) fn new(tally_changed: Arc<Notify>) -> Self {
        Self {
            tally_changed,
            held: AtomicBool::new(false),
            keyframes: watch::channel(0).0,
            last_request: Mutex::default(),
            starts: watch::channel(None).0,
            by_link: AtomicBool::new(false),
            by_device: AtomicBool::new(false),
            tally: watch::channel(None).0,
            wake: Notify::new(),
        }
    }

    /// Sets the tally.
    pub fn set_tally(&self, tally: Option<TallyView>) {
        if self.tally.send_if_modified(|t| std::mem::replace(t, tally) != tally) {
            self.tally_changed.notify_one();
        }
    }

    /// The tally, as it changes.
    #[must_use]
    pub fn tally(&self) -> watch::Receiver<Option<TallyView>> {
        self.tally.subscribe()
    }

    /// Asks for a keyframe, at most twice a second; false when nobody can be asked.
    pub fn request_keyframe(&self) -> bool {
        let mut last = lock(&self.last_request);
        let now = Instant::now();
        if last.is_none_or(|at| now.saturating_duration_since(at) >= KEYFRAME_REST) {
            *last = Some(now);
            self.keyframes.send_modify(|n| *n += 1);
        }
        self.link_takes_requests() || self.by_device.load(Ordering::Acquire)
    }

    /// Changes whenever a keyframe is asked for.
    #[must_use]
    pub fn keyframe_requests(&self) -> watch::Receiver<u64> {
        self.keyframes.subscribe()
    }

    /// Lets a clip play from its start.
    pub fn start(&self) {
        self.starts.send_modify(|s| *s = Some((s.map_or(0, |(n, _)| n) + 1, Instant::now())));
    }

    /// Lets it play no longer.
    pub fn rest(&self) {
        self.starts.send_if_modified(|s| s.take().is_some());
    }

    /// When it was started last, while it has not been put to rest.
    #[must_use]
    pub fn started(&self) -> Option<Instant> {
        self.starts.borrow().map(|(_, at)| at)
    }

    /// Changes whenever it is to start, or to rest.
    #[must_use]
    pub fn starts(&self) -> watch::Receiver<Option<(u64, Instant)>> {
        self.starts.subscribe()
    }

    pub(crate) fn set_link_takes_requests(&self, can: bool) {
        self.by_link.store(can, Ordering::Release);
    }

    /// Says whether the device behind a way in can be asked for keyframes instead.
    pub fn set_device_takes_requests(&self, can: bool) {
        self.by_device.store(can, Ordering::Release);
    }

    /// True while the source can be asked for a keyframe on the link itself.
    #[must_use]
    pub fn link_takes_requests(&self) -> bool {
        self.by_link.load(Ordering::Acquire)
    }

    /// Waits until it is held or released. Safe to cancel.
    pub(crate) async fn woken(&self) {
        self.wake.notified().await;
    }

    /// Holds or releases it.
    pub fn set_held(&self, held: bool) {
        self.held.store(held, Ordering::Release);
        self.wake.notify_one();
    }

    /// True while held.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.held.load(Ordering::Acquire)
    }
}
