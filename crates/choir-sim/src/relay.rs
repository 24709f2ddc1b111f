//! The path stand-in: a two-way UDP relay that treats packets as a bad network would.

use bytes::Bytes;
use choir_host::{
    Stop,
    clock::Alarm,
    udp::{UdpPort, any_address},
};
use choir_path::{Faults, Path, PathStats};
use std::{
    cmp::Reverse,
    collections::BinaryHeap,
    io,
    net::SocketAddr,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};
use tokio::{sync::watch, task::JoinHandle};

/// Packets on the way per direction; more is a queue that no network has.
const IN_FLIGHT_MAX: usize = 100_000;

/// Where a relay stands and what it does.
#[derive(Debug, Clone)]
pub struct RelaySettings {
    /// Address that clients send to.
    pub listen: SocketAddr,
    /// Where their packets go.
    pub to: SocketAddr,
    /// Own address towards `to`; any when not given.
    pub from: Option<SocketAddr>,
    /// The client, when it is known before it sends, as a rendezvous needs it. Else the latest to
    /// send.
    pub client: Option<SocketAddr>,
    /// Faults towards `to`.
    pub there: Faults,
    /// Faults on the way back.
    pub back: Faults,
    /// The same seed does the same.
    pub seed: u64,
    /// Other faults from now on, of both directions.
    pub changes: Option<watch::Receiver<Faults>>,
}

/// What both directions did: there, back.
pub type RelayStats = (PathStats, PathStats);

/// A running relay.
#[derive(Debug)]
pub struct Relay {
    /// The address it got.
    pub listen: SocketAddr,
    stats: Arc<Mutex<RelayStats>>,
    task: JoinHandle<()>,
}

impl Relay {
    /// What it did so far.
    #[must_use]
    pub fn stats(&self) -> RelayStats {
        *self.stats.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits until it has stopped.
    pub async fn wait(self) -> RelayStats {
        let stats = self.stats.clone();
        let _ = self.task.await;
        *stats.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Waiting {
    at: Duration,
    order: u64,
    data: Bytes,
}

/// One direction: packets that are on the way.
struct Lane {
    path: Path,
    waiting: BinaryHeap<Reverse<Waiting>>,
    order: u64,
}

impl Lane {
    fn new(faults: Faults, seed: u64) -> Self {
        Self { path: Path::new(faults, seed), waiting: BinaryHeap::new(), order: 0 }
    }

    fn enter(&mut self, now: Duration, data: &[u8]) {
        let fate = self.path.pass(now, data.len());
        for at in [fate.first, fate.second].into_iter().flatten() {
            if self.waiting.len() < IN_FLIGHT_MAX {
                self.order += 1;
                self.waiting.push(Reverse(Waiting { at, order: self.order, data: Bytes::copy_from_slice(data) }));
            }
        }
    }

    fn next_at(&self) -> Option<Duration> {
        self.waiting.peek().map(|Reverse(w)| w.at)
    }

    fn leave(&mut self, now: Duration, socket: &UdpPort, to: Option<SocketAddr>) {
        while self.waiting.peek().is_some_and(|Reverse(w)| w.at <= now) {
            let Some(Reverse(w)) = self.waiting.pop() else { return };
            if let Some(to) = to {
                // Nobody there, or a full buffer: lost, as on a network.
                let _ = socket.send(to, None, &w.data);
            }
        }
    }
}

/// The next faults, if there ever are others.
async fn changed(changes: &mut Option<watch::Receiver<Faults>>) -> Faults {
    if let Some(changes) = changes
        && changes.changed().await.is_ok()
    {
        return changes.borrow_and_update().clone();
    }
    std::future::pending().await
}

/// Opens both sockets and starts.
///
/// # Errors
/// An address cannot be had.
pub fn start(mut settings: RelaySettings, mut stop: Stop) -> io::Result<Relay> {
    let front = UdpPort::open(settings.listen, None)?;
    let any = SocketAddr::new(any_address(settings.to.ip()), 0);
    let behind = UdpPort::open(settings.from.unwrap_or(any), None)?;
    let listen = front.local_addr()?;
    let stats = Arc::new(Mutex::new(RelayStats::default()));
    let shown = stats.clone();
    let mut alarm = Alarm::new()?;
    let task = tokio::spawn(async move {
        let start = Instant::now();
        let mut there = Lane::new(settings.there, settings.seed.wrapping_mul(2));
        let mut back = Lane::new(settings.back, settings.seed.wrapping_mul(2).wrapping_add(1));
        let mut client = settings.client;
        loop {
            let next = there.next_at().into_iter().chain(back.next_at()).min();
            if alarm.set(next.map(|at| start + at)).is_err() {
                return;
            }
            tokio::select! {
                () = stop.wait() => return,
                () = alarm.ring() => {}
                faults = changed(&mut settings.changes) => {
                    there.path.set_faults(faults.clone());
                    back.path.set_faults(faults);
                }
                _ = front.readable() => {}
                _ = behind.readable() => {}
            }
            let now = start.elapsed();
            // Errors here are answers to what we sent before; a relay has nobody to tell.
            let _ = front.receive(|from, data| {
                if settings.client.is_none() {
                    client = Some(from);
                }
                there.enter(now, data);
            });
            let _ = behind.receive(|from, data| {
                // Strangers do not get through.
                if from == settings.to {
                    back.enter(now, data);
                }
            });
            let now = start.elapsed();
            there.leave(now, &behind, Some(settings.to));
            back.leave(now, &front, client);
            *shown.lock().unwrap_or_else(PoisonError::into_inner) = (there.path.stats(), back.path.stats());
        }
    });
    Ok(Relay { listen, stats, task })
}
