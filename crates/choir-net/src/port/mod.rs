//! Ways in and out. Each is one task that serves all links of one socket (or one file); media goes in
//! through [`Intake`], out through [`Outlet`], and [`LinkStatus`] tells how it stands.

mod file;
mod kernel;
mod media_in;
mod open;
mod recording;
mod rtp;
mod rtsp;
mod srt;
mod status;
mod udp;
mod udp_ts;

pub use file::{FileError, spawn_file_in};
pub use kernel::kernel_drops;
pub use open::{StaveWay, Way, WayCause, WayError, open_ways};
pub use recording::spawn_file_out;
pub use rtp::{spawn_rtp_in, spawn_rtp_out};
pub use rtsp::{Hooks, PullPlan, ServePlan, Serving, UdpManner, spawn_pull, spawn_server};
pub use srt::{CallPlan, ListenPlan, Listening, spawn_caller, spawn_listener};
pub use status::{LinkStatus, Live, PeerLive};
pub(crate) use status::{STARTING, add_up};
pub use udp::{UdpPort, granted_receive_buffer};
pub use udp_ts::{spawn_udp_in, spawn_udp_out};

use crate::lock;
use bytes::Bytes;
use std::{
    collections::VecDeque,
    io,
    net::SocketAddr,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
};
use tokio::{
    net::{TcpListener, TcpSocket},
    sync::{Notify, watch},
};

/// Takes media from a way in. Called on the port's own task: must be quick and must not block.
pub trait Intake: Send + Sync + 'static {
    /// One piece of media. `session` counts the source's connections: a new number is a new start.
    fn push(&self, session: u32, payload: Bytes);
}

/// Chunks waiting for a way out: two seconds at 20 Mbit/s.
const QUEUE_MAX: usize = 4096;

/// Media on its way out.
#[derive(Debug, Default)]
pub struct Outlet {
    queue: Mutex<VecDeque<Bytes>>,
    wake: Arc<Notify>,
    dropped: AtomicU64,
    ended: AtomicBool,
}

impl Outlet {
    /// An empty one.
    #[must_use]
    pub fn new() -> Arc<Self> {
        Arc::default()
    }

    /// Queues one piece; when the way out does not keep up, the oldest piece gives way and is counted.
    pub fn push(&self, payload: Bytes) {
        let mut queue = lock(&self.queue);
        if queue.len() >= QUEUE_MAX {
            queue.pop_front();
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
        queue.push_back(payload);
        drop(queue);
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

    pub(crate) fn swap(&self, with: &mut VecDeque<Bytes>) {
        std::mem::swap(&mut *lock(&self.queue), with);
    }
}

/// Cuts a piece of transport stream into datagrams of at most seven packets.
pub(crate) fn datagrams(payload: &Bytes) -> impl Iterator<Item = Bytes> + '_ {
    const SEVEN: usize = 7 * 188;
    (0..payload.len()).step_by(SEVEN).map(move |at| payload.slice(at..payload.len().min(at + SEVEN)))
}

/// Opens a TCP port to be connected to; after a restart the old connections do not keep it.
///
/// # Errors
/// The address is taken, not of this machine, or not allowed.
pub fn listen(addr: SocketAddr) -> io::Result<TcpListener> {
    let socket = if addr.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    socket.set_reuseaddr(true)?;
    socket.bind(addr)?;
    socket.listen(128)
}

/// A signal given once, to stop or to begin.
#[derive(Debug, Clone)]
pub struct Stop(watch::Receiver<bool>);

impl Stop {
    /// The signal and the one who gives it.
    #[must_use]
    pub fn new() -> (watch::Sender<bool>, Self) {
        let (tx, rx) = watch::channel(false);
        (tx, Self(rx))
    }

    /// A signal that has been given already.
    #[must_use]
    pub fn given() -> Self {
        Self(watch::channel(true).1)
    }

    /// True once stopped.
    #[must_use]
    pub fn is_set(&self) -> bool {
        *self.0.borrow()
    }

    /// Waits for it. Safe to cancel. A dropped sender counts as stop.
    pub async fn wait(&mut self) {
        let _ = self.0.wait_for(|stopped| *stopped).await;
    }
}
