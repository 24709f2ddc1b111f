//! Ways in and out. Each is one task that serves all links of one socket (or one file); media goes in
//! through [`Intake`], out through [`Outlet`], and [`LinkStatus`] tells how it stands.

mod cause;
mod control;
pub mod defects;
mod file;
mod media_in;
mod open;
mod recording;
mod retry;
mod rtp;
mod rtsp;
mod srt;
mod status;
pub mod stave;
pub mod survey;
mod udp_ts;
mod units;

pub use cause::WayCause;
pub use control::WayControl;
pub use file::{FileError, spawn_file_in};
pub use open::{OpenWay, Ports, ReadyWay, StaveWay, Way, WayError, open_ways};
pub use recording::spawn_file_out;
pub use rtp::{spawn_rtp_in, spawn_rtp_out};
pub use rtsp::{PullPlan, RtspServer, ServePlan, Served, ServerOptions, UdpManner, spawn_pull, spawn_server};
pub use srt::{CallPlan, ListenPlan, Listener, Listening, spawn_caller, spawn_listener};
pub use status::{Counters, Gauges, HeadroomReading, LinkStatus, Live, PeerLive};
pub use udp_ts::{spawn_udp_in, spawn_udp_out};
pub use units::units_of;

use bytes::Bytes;
use choir_core::link::Link;
use choir_host::lock;
use choir_proto::ts::AccessUnit;
pub use choir_proto::{legs::Arrival, media::Media};
use std::{
    collections::VecDeque,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::Notify;

/// Takes media from a way in. Called on the port's own task: must be quick and must not block.
pub trait Intake: Send + Sync + 'static {
    /// What has arrived since the last call, in order. Empties the list, whose room is used again.
    fn arrive(&self, arrivals: &mut Vec<Arrival>);
}

/// Which way media goes, and between whom.
#[derive(Clone)]
pub enum Flow {
    /// In: what comes is pushed there.
    In(Arc<dyn Intake>),
    /// Out: the transport stream that goes is taken from there.
    Out(Arc<Outlet>),
    /// Out: the access units that go are taken from there. For links that [`takes_units`].
    Units(Arc<UnitOutlet>),
}

/// Which way a transport stream goes, and between whom: for links that know no units.
#[derive(Clone)]
pub enum TsFlow {
    /// In: what comes is pushed there.
    In(Arc<dyn Intake>),
    /// Out: what goes is taken from there.
    Out(Arc<Outlet>),
}

impl Flow {
    /// As one of transport streams.
    ///
    /// # Errors
    /// It gives units.
    pub fn into_ts(self) -> Result<TsFlow, WayCause> {
        match self {
            Self::In(intake) => Ok(TsFlow::In(intake)),
            Self::Out(outlet) => Ok(TsFlow::Out(outlet)),
            Self::Units(_) => Err(WayCause::Shape),
        }
    }
}

/// Whether what goes out by a link are units: they need no transport stream to be made of them.
#[must_use]
pub const fn takes_units(link: &Link) -> bool {
    matches!(link, Link::Rtsp(_) | Link::Stave(_))
}

/// Media that waits for a way out: so many bytes (2.5 s of 100 Mbit/s), and so long. Pieces are packets on one way, whole pictures
/// on another, so that their number says nothing.
const WAITING_BYTES: usize = 32 << 20;
const WAITING_TIME: Duration = Duration::from_secs(5);

/// Media on its way out: pieces of a transport stream, or units.
#[derive(Debug)]
pub struct Outlet<T = Bytes> {
    queue: Mutex<Queue<T>>,
    wake: Arc<Notify>,
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
    times: VecDeque<Instant>,
    bytes: usize,
}

impl<T> Default for Queue<T> {
    fn default() -> Self {
        Self { pieces: VecDeque::new(), times: VecDeque::new(), bytes: 0 }
    }
}

impl<T: MediaSize> Queue<T> {
    /// Adds a piece; gives how many had to give way.
    fn push(&mut self, now: Instant, payload: T) -> u64 {
        self.bytes += payload.size();
        self.pieces.push_back(payload);
        self.times.push_back(now);
        let mut dropped = 0;
        // The newest stays, however large.
        while self.pieces.len() > 1
            && (self.bytes > WAITING_BYTES || self.times.front().is_some_and(|t| now.saturating_duration_since(*t) > WAITING_TIME))
        {
            self.times.pop_front();
            self.bytes -= self.pieces.pop_front().map_or(0, |p| p.size());
            dropped += 1;
        }
        dropped
    }
}

impl<T: MediaSize> Outlet<T> {
    /// An empty one.
    #[must_use]
    pub fn new() -> Arc<Self> {
        Arc::new(Self { queue: Mutex::default(), wake: Arc::default(), dropped: AtomicU64::new(0), ended: AtomicBool::new(false) })
    }

    /// Queues one piece; when the way out does not keep up, the oldest piece gives way and is counted.
    pub fn push(&self, payload: T) {
        let dropped = lock(&self.queue).push(Instant::now(), payload);
        self.dropped.fetch_add(dropped, Ordering::Relaxed);
        self.wake.notify_one();
    }

    /// Says that nothing more will come: the way out finishes and ends.
    pub fn end(&self) {
        self.ended.store(true, Ordering::Release);
        self.wake.notify_one();
    }

    /// Pieces dropped for a full queue.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped.load(Ordering::Relaxed)
    }

    /// Waits until there is something in it. Safe to cancel.
    pub(crate) async fn filled(&self) {
        self.wake.notified().await;
    }

    pub(crate) fn has_ended(&self) -> bool {
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
        let mut queue = lock(&self.queue);
        into.clear();
        std::mem::swap(&mut queue.pieces, into);
        queue.times.clear();
        queue.bytes = 0;
    }
}

/// Cuts a piece of transport stream into datagrams of at most seven packets.
pub(crate) fn datagrams(payload: &Bytes) -> impl Iterator<Item = Bytes> + '_ {
    const SEVEN: usize = 7 * 188;
    (0..payload.len()).step_by(SEVEN).map(move |at| payload.slice(at..payload.len().min(at + SEVEN)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_waits_is_bounded_in_bytes_and_in_time() {
        let now = Instant::now();
        let picture = Bytes::from(vec![0; 1 << 20]);
        let mut queue = Queue::<Bytes>::default();
        let dropped: u64 = (0..100).map(|_| queue.push(now, picture.clone())).sum();
        assert_eq!((queue.bytes, queue.pieces.len(), dropped), (WAITING_BYTES, 32, 68));
        // Small pieces by the thousand are no reason to drop any; their age is.
        let mut queue = Queue::<Bytes>::default();
        let packet = Bytes::from(vec![0; 1316]);
        let dropped: u64 = (0..20_000).map(|_| queue.push(now, packet.clone())).sum();
        assert_eq!((queue.pieces.len(), dropped), (20_000, 0));
        assert_eq!(queue.push(now + WAITING_TIME + Duration::from_millis(1), packet.clone()), 20_000);
        assert_eq!((queue.pieces.len(), queue.times.len(), queue.bytes), (1, 1, packet.len()));
        // One that alone is more than the bound goes all the same.
        assert_eq!(queue.push(now, Bytes::from(vec![0; WAITING_BYTES + 1])), 1);
        assert_eq!(queue.pieces.len(), 1);
    }
}
