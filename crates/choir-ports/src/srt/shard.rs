//! A thread that serves many sockets: one wake-up for all that waits on any of them.
//!
//! With many packets it polls every 2 ms, so that one wake-up serves many packets of many
//! links. With fewer it wakes when a packet is due to be released, and what has come meanwhile is
//! taken with it; only where nothing is due soon does it wake for what comes. A line and the ways
//! out that carry it are best served by one shard: then no packet crosses threads.

use super::{
    lateness::{Lateness, LatenessCount, LatenessTold},
    load::Load,
    port::{Call, Outcome, Port, User, UserId},
};
use crate::outlet::OnFill;
use choir_host::{
    clock::{Timer, slept, thread_cpu},
    lock, secret_random,
    udp::BatchSocket,
};
use choir_proto::srt::{Endpoint, KeyCheck, KeyChecked};
use mio::{Events, Interest, Poll, Token, Waker, unix::SourceFd};
use rustc_hash::FxHashMap;
use std::{
    io,
    net::SocketAddr,
    os::fd::AsRawFd,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering},
        mpsc,
    },
    thread,
    time::{Duration, Instant},
};
use tokio::sync::oneshot;

/// What comes waits for the next thing to do, where that is due within this time: media waits far
/// longer for its release, and an answer as long does no harm.
const SOON: Duration = Duration::from_millis(2);
/// How often counters are copied for the show.
const STATS_EVERY: Duration = Duration::from_millis(200);
/// Over how long lateness is told.
const LATE_EVERY: Duration = Duration::from_secs(1);
/// Shorter sleep is the two clocks being read one after the other.
const SLEEP_LEAST: Duration = Duration::from_millis(50);
/// Sockets that one call to the system can report.
const EVENTS: usize = 1024;

const WAKE: Token = Token(usize::MAX);
const TIMER: Token = Token(usize::MAX - 1);
const URGENT: Token = Token(usize::MAX - 2);

/// A port on a shard.
pub(super) type PortId = usize;

/// A thread that serves SRT ports. Copies are the same thread.
#[derive(Clone)]
pub struct Shard {
    shared: Arc<Shared>,
    /// Held by those who were given the shard by [`super::Shards::pick`].
    _seat: Option<Arc<Seat>>,
}

/// One more that a shard serves, for as long as this is kept.
struct Seat(Arc<Shared>);

impl Drop for Seat {
    fn drop(&mut self) {
        self.0.seats.fetch_sub(1, Ordering::Relaxed);
    }
}

struct Shared {
    commands: Mutex<Vec<Command>>,
    /// Links that have something to send, or may have been held or released.
    queued: Mutex<Vec<UserId>>,
    /// It sleeps until it is woken. While it polls nobody has to wake it.
    asleep: AtomicBool,
    waker: Waker,
    number: usize,
    seats: AtomicUsize,
    links: AtomicUsize,
    cpu_us: AtomicU64,
    /// Of a core, in the last second.
    share_permille: AtomicU64,
    lateness: Mutex<LatenessTold>,
}

/// What is asked of a shard.
pub(super) enum Command {
    /// Listens with this socket, until it is closed.
    Listen(PortId, BatchSocket, Box<Endpoint>),
    /// Lets callers of a link in.
    Add(PortId, UserId, Box<User>),
    /// Calls a peer.
    Call(UserId, Box<Call>, Box<User>),
    /// Says goodbye on a link, and confirms it.
    Remove(UserId, oneshot::Sender<()>),
    /// Says goodbye on all links of a port, and confirms it.
    Close(PortId, oneshot::Sender<()>),
    /// The system says that nobody listens where a link calls.
    Unreachable(UserId),
    /// A passphrase check is done.
    Checked(PortId, KeyChecked),
    /// The thread ends.
    End,
}

impl Shard {
    /// Starts one.
    ///
    /// # Errors
    /// The system is out of descriptors or threads.
    pub fn start() -> io::Result<Self> {
        static NEXT: AtomicUsize = AtomicUsize::new(1);
        let (poll, urgent) = (Poll::new()?, Poll::new()?);
        let waker = Waker::new(urgent.registry(), WAKE)?;
        let timer = Timer::new()?;
        urgent.registry().register(&mut SourceFd(&timer.as_raw_fd()), TIMER, Interest::READABLE)?;
        poll.registry().register(&mut SourceFd(&urgent.as_raw_fd()), URGENT, Interest::READABLE)?;
        let shared = Arc::new(Shared {
            commands: Mutex::default(),
            queued: Mutex::default(),
            asleep: AtomicBool::new(false),
            waker,
            number: NEXT.fetch_add(1, Ordering::Relaxed),
            seats: AtomicUsize::new(0),
            links: AtomicUsize::new(0),
            cpu_us: AtomicU64::new(0),
            share_permille: AtomicU64::new(0),
            lateness: Mutex::default(),
        });
        let of_thread = shared.clone();
        thread::Builder::new().name(shared.name()).spawn(move || Thread::new(of_thread, poll, urgent, timer).run())?;
        Ok(Self { shared, _seat: None })
    }

    /// They are the same thread.
    #[must_use]
    pub fn is(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.shared, &other.shared)
    }

    /// As its thread is called.
    #[must_use]
    pub fn name(&self) -> String {
        self.shared.name()
    }

    /// Links that it serves.
    #[must_use]
    pub fn links(&self) -> usize {
        self.shared.links.load(Ordering::Relaxed)
    }

    /// Lines, and links beside them, that were given this one.
    pub(super) fn seats(&self) -> usize {
        self.shared.seats.load(Ordering::Relaxed)
    }

    /// This one, for one line or link more.
    pub(super) fn with_seat(&self) -> Self {
        self.shared.seats.fetch_add(1, Ordering::Relaxed);
        Self { shared: self.shared.clone(), _seat: Some(Arc::new(Seat(self.shared.clone()))) }
    }

    /// CPU time that it has taken so far, as of the last 200 ms.
    #[must_use]
    pub fn cpu(&self) -> Duration {
        Duration::from_micros(self.shared.cpu_us.load(Ordering::Relaxed))
    }

    /// Share of a core that it took in the last second.
    #[must_use]
    pub fn share(&self) -> f64 {
        self.shared.share_permille.load(Ordering::Relaxed) as f64 / 1000.0
    }

    /// How late packets left in the last second.
    #[must_use]
    pub fn lateness(&self) -> Lateness {
        lock(&self.shared.lateness).second
    }

    /// How late packets left since this was asked last, up to the last second.
    #[must_use]
    pub fn take_lateness(&self) -> LatenessCount {
        std::mem::take(&mut lock(&self.shared.lateness).since)
    }

    /// Ends its thread: its links end without a goodbye.
    pub fn end(&self) {
        self.command(Command::End);
    }

    pub(super) fn command(&self, command: Command) {
        if matches!(command, Command::Add(..) | Command::Call(..)) {
            self.shared.links.fetch_add(1, Ordering::Relaxed);
        }
        lock(&self.shared.commands).push(command);
        self.shared.wake();
    }

    /// A link may have been held or released.
    pub(super) fn queue_link(&self, user: UserId) {
        self.shared.queue_link(user);
    }
}

impl Shared {
    fn name(&self) -> String {
        format!("choir-srt {}", self.number)
    }

    fn queue_link(&self, user: UserId) {
        lock(&self.queued).push(user);
        self.wake();
    }

    /// Wakes the thread if it sleeps. It says so before it looks for work a last time, so that
    /// nothing that was given to it before this call is missed.
    fn wake(&self) {
        if self.asleep.swap(false, Ordering::SeqCst)
            && let Err(e) = self.waker.wake()
        {
            tracing::error!(error = %e, "cannot wake a thread");
        }
    }

    fn has_work(&self) -> bool {
        !lock(&self.commands).is_empty() || !lock(&self.queued).is_empty()
    }
}

struct Thread {
    shared: Arc<Shared>,
    /// All sockets, and what is urgent.
    poll: Poll,
    /// The timer, and what other threads hand in.
    urgent: Poll,
    timer: Timer,
    ports: FxHashMap<PortId, Port>,
    /// On which port a link is.
    users: FxHashMap<UserId, PortId>,
    /// Ports of callers, by the address that was asked for.
    callers: FxHashMap<SocketAddr, Vec<PortId>>,
    next_stats: Instant,
    /// Of this turn's packets, until it ends.
    released: Vec<Duration>,
    late: LatenessCount,
    next_late: Instant,
    /// For how long this machine had slept at the last look.
    slept: Duration,
    load: Load,
    queued: Vec<UserId>,
    /// Ports that have something to do.
    due: Vec<PortId>,
    /// Passphrase checks run on a thread of their own, which is there from the first on.
    checks: Option<mpsc::Sender<(PortId, KeyCheck)>>,
}

/// Numbers of ports and links, never used twice.
pub(super) fn next_id() -> usize {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    NEXT.fetch_add(1, Ordering::Relaxed)
}

impl Thread {
    fn new(shared: Arc<Shared>, poll: Poll, urgent: Poll, timer: Timer) -> Self {
        let now = Instant::now();
        Self {
            shared,
            poll,
            urgent,
            timer,
            ports: FxHashMap::default(),
            users: FxHashMap::default(),
            callers: FxHashMap::default(),
            next_stats: now,
            released: Vec::new(),
            late: LatenessCount::default(),
            next_late: now + LATE_EVERY,
            slept: slept(),
            load: Load::new(now),
            queued: Vec::new(),
            due: Vec::new(),
            checks: None,
        }
    }

    fn run(mut self) {
        let mut events = Events::with_capacity(EVENTS);
        let mut began = Instant::now();
        loop {
            if let Err(e) = self.wait(began, &mut events)
                && e.kind() != io::ErrorKind::Interrupted
            {
                tracing::error!(error = %e, "cannot wait for sockets");
                return;
            }
            for event in &events {
                if let Token(id) = event.token()
                    && let Some(port) = self.ports.get_mut(&id)
                {
                    port.readable = true;
                }
            }
            began = Instant::now();
            if self.turn(began) {
                return;
            }
        }
    }

    /// Waits for the next thing to do. Gives the sockets that something waits at.
    fn wait(&mut self, began: Instant, events: &mut Events) -> io::Result<()> {
        if let Some(every) = self.load.poll_every() {
            let left = every.saturating_sub(began.elapsed());
            if !left.is_zero() {
                thread::sleep(left);
            }
            return self.poll.poll(events, Some(Duration::ZERO));
        }
        let idle = self.ports.is_empty();
        let next = self.ports.values().filter_map(|p| p.next_at).min();
        let next = next.into_iter().chain((!idle).then_some(self.next_stats)).min();
        self.timer.set(next)?;
        self.shared.asleep.store(true, Ordering::SeqCst);
        let at_once = self.shared.has_work() || self.ports.values().any(|p| p.readable);
        let limit = at_once.then_some(Duration::ZERO);
        let soon = next.is_some_and(|at| at.saturating_duration_since(began) < SOON);
        let waited = if soon { self.urgent.poll(events, limit) } else { self.poll.poll(events, limit) };
        self.shared.asleep.store(false, Ordering::SeqCst);
        waited?;
        if soon { self.poll.poll(events, Some(Duration::ZERO)) } else { Ok(()) }
    }

    /// True when the thread is to end.
    fn turn(&mut self, now: Instant) -> bool {
        // Step by step for all ports, not port by port: the code of each step is then in the
        // processor's cache, and so is the system's.
        let mut datagrams = 0;
        let ahead = self.load.ahead();
        self.due.clear();
        for (id, port) in &mut self.ports {
            if port.readable || port.next_at.is_some_and(|at| at <= now + ahead) {
                datagrams += port.receive();
                self.due.push(*id);
            }
        }
        for id in &self.due {
            self.ports.get_mut(id).into_iter().for_each(|p| p.release(now, ahead));
        }
        for id in &self.due {
            self.ports.get_mut(id).into_iter().for_each(|p| p.take_events(now));
        }
        if self.take_commands(now) {
            return true;
        }
        std::mem::swap(&mut self.queued, &mut lock(&self.shared.queued));
        for user in self.queued.drain(..) {
            if let Some(port) = self.users.get(&user).and_then(|id| self.ports.get_mut(id)) {
                datagrams += port.take(now, user);
            }
        }
        let stats = now >= self.next_stats;
        let mut idle = Vec::new();
        for (id, port) in &mut self.ports {
            if port.touched {
                if let Some(check) = port.poll_key_check(now) {
                    start_key_check(&mut self.checks, &self.shared, *id, check);
                }
                port.finish_turn(now);
                self.released.append(&mut port.released);
                if port.is_idle() {
                    idle.push(*id);
                }
            }
            if stats {
                port.copy_stats(now);
            }
        }
        idle.into_iter().for_each(|id| self.forget(id));
        if stats || self.ports.is_empty() {
            self.next_stats = now + STATS_EVERY;
            self.note_sleep(now);
            let cpu = thread_cpu();
            self.shared.cpu_us.store(cpu.as_micros() as u64, Ordering::Relaxed);
            self.shared.share_permille.store(self.load.share(now, cpu), Ordering::Relaxed);
            self.users.retain(|user, id| self.ports.get(id).is_some_and(|p| p.has(*user)));
            self.shared.links.store(self.users.len(), Ordering::Relaxed);
        }
        self.load.note(now, datagrams);
        self.note_lateness(now);
        false
    }

    /// The steady clock stands still while the machine sleeps. Peers have gone on, and most have
    /// given up.
    fn note_sleep(&mut self, now: Instant) {
        let before = std::mem::replace(&mut self.slept, slept());
        let more = self.slept.saturating_sub(before);
        if more >= SLEEP_LEAST {
            self.ports.values_mut().for_each(|p| p.note_pause(now, more));
        }
    }

    fn note_lateness(&mut self, now: Instant) {
        let took = now.elapsed();
        self.released.drain(..).for_each(|late| self.late.note((late + took).as_micros() as u32));
        if now >= self.next_late {
            self.next_late = now + LATE_EVERY;
            lock(&self.shared.lateness).add(&std::mem::take(&mut self.late));
        }
    }

    fn take_commands(&mut self, now: Instant) -> bool {
        let commands = std::mem::take(&mut *lock(&self.shared.commands));
        for command in commands {
            match command {
                Command::Listen(id, socket, endpoint) => {
                    let port = Port::new(socket, *endpoint, true);
                    if let Err(e) = self.open(id, port) {
                        tracing::error!(error = %e, "cannot wait for a socket");
                    }
                }
                Command::Add(port, id, user) => self.add(port, id, *user),
                Command::Call(id, call, mut user) => {
                    let (local, peer) = (call.local, call.peer);
                    match self.port_to_call(local, peer, user.is_in()) {
                        Ok(port) => {
                            user.to = Some(peer);
                            self.add(port, id, *user);
                            if let Some(port) = self.ports.get_mut(&port) {
                                port.call(now, id, *call);
                            }
                        }
                        Err(e) => {
                            let failed = Outcome::Failed(None, format!("cannot open {local} to reach {peer}: {e}"));
                            // Whoever called may have gone.
                            let _ = user.over.map(|over| over.send(failed));
                        }
                    }
                }
                Command::Remove(user, done) => {
                    if let Some(port) = self.users.remove(&user).and_then(|id| self.ports.get_mut(&id)) {
                        port.remove(now, user);
                        port.touched = true;
                    }
                    let _ = done.send(());
                }
                Command::Close(id, done) => {
                    if let Some(port) = self.ports.get_mut(&id) {
                        port.close(now);
                        self.forget(id);
                    }
                    let _ = done.send(());
                }
                Command::Unreachable(user) => {
                    if let Some(port) = self.users.get(&user).and_then(|id| self.ports.get_mut(id)) {
                        port.unreachable(user);
                    }
                }
                Command::Checked(id, checked) => {
                    if let Some(port) = self.ports.get_mut(&id) {
                        port.handle_key_check(now, checked);
                    }
                }
                Command::End => return true,
            }
        }
        false
    }

    fn open(&mut self, id: PortId, port: Port) -> io::Result<()> {
        self.poll.registry().register(&mut SourceFd(&port.socket.as_raw_fd()), Token(id), Interest::READABLE)?;
        self.ports.insert(id, port);
        Ok(())
    }

    /// Closing its socket ends what the system was asked to tell of it.
    fn forget(&mut self, id: PortId) {
        self.ports.remove(&id);
        self.callers.values_mut().for_each(|ids| ids.retain(|i| *i != id));
        self.callers.retain(|_, ids| !ids.is_empty());
    }

    fn add(&mut self, port: PortId, id: UserId, user: User) {
        let Some(to) = self.ports.get_mut(&port) else { return };
        self.users.insert(id, port);
        let shared = self.shared.clone();
        to.add(id, user, OnFill::new(move || shared.queue_link(id)));
        // It may have been held before it was here.
        self.shared.queue_link(id);
    }

    /// A port at `local` from which this peer may be called: one that is open, or a new one.
    fn port_to_call(&mut self, local: SocketAddr, peer: SocketAddr, way_in: bool) -> io::Result<PortId> {
        let open = self.callers.entry(local).or_default();
        if let Some(id) = open.iter().find(|id| self.ports.get(id).is_some_and(|p| p.may_call(peer, way_in))) {
            return Ok(*id);
        }
        let socket = BatchSocket::open(local)?;
        let endpoint = Endpoint::new(socket.local_addr()?.ip(), Instant::now(), secret_random()?);
        let id = next_id();
        open.push(id);
        self.open(id, Port::new(socket, endpoint, false))?;
        Ok(id)
    }
}

/// Has a passphrase check run on the thread for them.
fn start_key_check(checks: &mut Option<mpsc::Sender<(PortId, KeyCheck)>>, shared: &Arc<Shared>, port: PortId, check: KeyCheck) {
    let to = checks.get_or_insert_with(|| {
        let (tx, rx) = mpsc::channel::<(PortId, KeyCheck)>();
        let shard = Shard { shared: shared.clone(), _seat: None };
        let run = move || rx.into_iter().for_each(|(port, check)| shard.command(Command::Checked(port, check.run())));
        if let Err(e) = thread::Builder::new().name("choir-keys".into()).spawn(run) {
            tracing::error!(error = %e, "no thread for passphrase checks");
        }
        tx
    });
    // Without a thread nobody is let in, which has been told.
    let _ = to.send((port, check));
}
