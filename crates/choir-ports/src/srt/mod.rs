//! SRT ways in and out. Plans and attempts are here; a [`Shard`] is a thread that serves ports.

mod gone;
mod lateness;
mod load;
mod port;
mod reading;
mod shard;
mod shards;

pub use lateness::{Lateness, LatenessCount};
pub use shard::Shard;
pub use shards::Shards;

use crate::retry::{Attempt, Ended, Pause, keep_up};
use crate::{Flow, LinkStatus, Outlet};
use choir_core::facts::{Contact, Encryption, Fault, Joining, Loss, Waiting};
use choir_host::secret_random;
use choir_host::{
    Backoff, Stop,
    udp::{BatchSocket, any_address},
};
use choir_proto::srt::{CallKeys, CloseReason, Endpoint, LinkConfig, RuleId, StreamMatch};
use port::{Call, Outcome, User, UserId, fault_of};
use shard::{Command, PortId, next_id};
use std::{
    io,
    net::SocketAddr,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    net::UdpSocket,
    sync::{Semaphore, oneshot},
    task::JoinHandle,
};

/// Pauses between attempts to connect.
const RETRY_FIRST: Duration = Duration::from_millis(500);
const RETRY_MOST: Duration = Duration::from_secs(5);
/// What a refusal for a setting waits: only a person can change it.
const RETRY_SETTING: Duration = Duration::from_secs(5);

/// When it is asked whether anybody listens where a call goes: at once, and again in case the
/// answer was lost.
const PROBES: [Duration; 3] = [Duration::ZERO, Duration::from_millis(500), Duration::from_millis(1000)];
/// A keep-alive for nobody: what listens there leaves it aside.
const PROBE: [u8; 20] = [0x80, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

/// A link to a peer that this end calls, or meets in rendezvous.
pub struct CallPlan {
    /// Whom to call; looked up anew for each attempt.
    pub host: String,
    /// Port there.
    pub port: u16,
    /// Own address.
    pub bind: Option<SocketAddr>,
    /// Both ends call.
    pub rendezvous: bool,
    /// Settings.
    pub config: LinkConfig,
    /// Where media goes or comes from.
    pub flow: Flow<Arc<Outlet>>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

impl CallPlan {
    /// Calls this address, from wherever.
    #[must_use]
    pub fn to(to: SocketAddr, config: LinkConfig, flow: Flow<Arc<Outlet>>) -> Self {
        let (host, port) = (to.ip().to_string(), to.port());
        Self { host, port, bind: None, rendezvous: false, config, flow, status: LinkStatus::new() }
    }
}

/// A link that waits for callers on a shared port.
pub struct ListenPlan {
    /// Stream IDs it takes.
    pub stream: StreamMatch,
    /// Settings.
    pub config: LinkConfig,
    /// Callers at the same time.
    pub max_callers: usize,
    /// Where media goes, or what is sent to every caller.
    pub flow: Flow<Arc<Outlet>>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

impl ListenPlan {
    /// Takes one caller of any stream ID.
    #[must_use]
    pub fn one(config: LinkConfig, flow: Flow<Arc<Outlet>>) -> Self {
        Self { stream: StreamMatch::Any, config, max_callers: 1, flow, status: LinkStatus::new() }
    }
}

/// A listening port. Links can be added and removed while it runs.
pub struct Listener {
    /// The address it got.
    pub addr: SocketAddr,
    shard: Shard,
    port: PortId,
    task: JoinHandle<()>,
}

/// A link of a listening port.
pub struct Listening {
    id: UserId,
    /// Resolves when everything of a finite source has been sent, or the port is gone.
    ended: oneshot::Receiver<Outcome>,
}

impl Listener {
    /// Opens a port; without a link it refuses every caller.
    ///
    /// # Errors
    /// The address cannot be opened, or the system has no random numbers.
    pub fn open(shard: &Shard, addr: SocketAddr, mut stop: Stop) -> io::Result<Self> {
        let socket = BatchSocket::open(addr)?;
        let addr = socket.local_addr()?;
        let endpoint = Endpoint::new(addr.ip(), Instant::now(), secret_random()?);
        let (shard, port) = (shard.clone(), next_id());
        shard.command(Command::Listen(port, socket, Box::new(endpoint)));
        let of_task = shard.clone();
        let task = tokio::spawn(async move {
            stop.wait().await;
            let (done, closed) = oneshot::channel();
            of_task.command(Command::Close(port, done));
            // An error means that the shard has ended: the port too.
            let _ = closed.await;
        });
        Ok(Self { addr, shard, port, task })
    }

    /// Lets callers of a link in.
    #[must_use]
    pub fn add(&self, plan: ListenPlan) -> Listening {
        let stream_id = match &plan.stream {
            StreamMatch::Any => None,
            StreamMatch::Exactly(id) => Some(id.clone()),
        };
        plan.status.update(|l| {
            l.contact = Contact::Waiting(Waiting::Caller { port: self.addr.port(), stream_id: stream_id.clone(), refused: None });
            l.encryption = Encryption::NotKnown;
        });
        let id = next_id();
        let (over, ended) = oneshot::channel();
        let listen = Some((plan.stream, plan.config, plan.max_callers));
        let rule = RuleId(id as u32);
        let mut user = User { port: self.addr.port(), stream_id, over: Some(over), ..User::new(rule, listen, plan.flow, plan.status) };
        let (shard, status) = (self.shard.clone(), user.status.clone());
        user.relays.spawn(async move {
            loop {
                status.control.woken().await;
                shard.queue_link(id);
            }
        });
        // A port that has just ended drops it, which resolves `ended`.
        self.shard.command(Command::Add(self.port, id, Box::new(user)));
        Listening { id, ended }
    }

    /// Says goodbye to the callers of a link, and lets no more in.
    pub async fn remove(&self, link: Listening) {
        let (done, removed) = oneshot::channel();
        self.shard.command(Command::Remove(link.id, done));
        // An error means that the shard has ended: the link too.
        let _ = removed.await;
    }

    /// Waits for the end of the port, which `stop` ends.
    pub async fn ended(self) {
        let _ = self.task.await;
    }
}

impl Listening {
    /// Waits until everything of a finite source has been sent, or the port has ended. Safe to
    /// cancel.
    pub async fn ended(&mut self) {
        let _ = (&mut self.ended).await;
    }
}

/// Opens a port and listens for all these links, as long as it is not stopped. Gives the address it
/// got.
///
/// # Errors
/// As [`Listener::open`].
pub fn spawn_listener(shard: &Shard, addr: SocketAddr, plans: Vec<ListenPlan>, stop: Stop) -> io::Result<SocketAddr> {
    let listener = Listener::open(shard, addr, stop)?;
    plans.into_iter().for_each(|plan| drop(listener.add(plan)));
    Ok(listener.addr)
}

/// Calls, and calls again with growing pauses whenever the link is lost.
pub fn spawn_caller(shard: &Shard, plan: CallPlan, stop: Stop) -> JoinHandle<()> {
    let shard = shard.clone();
    tokio::spawn(async move {
        let status = plan.status.clone();
        status.update(|l| l.encryption = Encryption::NotKnown);
        keep_up(Caller { plan, shard }, &status, Backoff::new(RETRY_FIRST, RETRY_MOST), stop).await;
    })
}

struct Caller {
    plan: CallPlan,
    shard: Shard,
}

impl Attempt for Caller {
    async fn attempt(&mut self, stop: &mut Stop) -> Ended {
        let plan = &self.plan;
        let (was_up, pause, fault, why) = match attempt(&self.shard, plan, stop).await {
            Outcome::Stopped | Outcome::Finished => return Ended::Over,
            Outcome::Held => return Ended::Again,
            Outcome::Ended { reason, was_up } => {
                let setting = matches!(reason, CloseReason::RefusedByPeer(r) | CloseReason::RefusedHere(r) if r.is_setting());
                let pause = if setting { Pause::Fixed(RETRY_SETTING) } else { Pause::Growing };
                (was_up, pause, fault_of(reason), reason.to_string())
            }
            Outcome::Failed(fault, why) => (false, Pause::Growing, fault, why),
        };
        Ended::Lost { was_up, pause, loss: Loss::Call { peer: format!("{}:{}", plan.host, plan.port), fault, why } }
    }
}

async fn attempt(shard: &Shard, plan: &CallPlan, stop: &mut Stop) -> Outcome {
    let found = tokio::net::lookup_host((plan.host.as_str(), plan.port)).await.map(|mut a| a.next());
    let peer = match found {
        Ok(Some(peer)) => peer,
        Ok(None) => return Outcome::Failed(Some(Fault::Name), format!("{} has no address", plan.host)),
        Err(e) => return Outcome::Failed(Some(Fault::Name), format!("cannot look up {}: {e}", plan.host)),
    };
    let local = plan.bind.unwrap_or_else(|| SocketAddr::new(any_address(peer.ip()), if plan.rendezvous { peer.port() } else { 0 }));
    let there = format!("{}:{}", plan.host, plan.port);
    plan.status.set_joining(if plan.rendezvous { Joining::Meeting(there.clone()) } else { Joining::Calling(there.clone()) });
    let id = next_id();
    let (over, mut ended) = oneshot::channel();
    let user = User { peer: there, over: Some(over), ..User::new(RuleId(0), None, plan.flow.clone(), plan.status.clone()) };
    let keys = match draw_keys(&plan.config).await {
        Ok(keys) => keys,
        Err(e) => return Outcome::Failed(None, format!("cannot draw keys: {e}")),
    };
    let call = Call { local, peer, rendezvous: plan.rendezvous, config: plan.config.clone(), keys };
    shard.command(Command::Call(id, Box::new(call), Box::new(user)));
    let mut probe = std::pin::pin!(nobody_listens(peer, &plan.status));
    let mut probing = true;
    loop {
        tokio::select! {
            outcome = &mut ended => return outcome.unwrap_or(Outcome::Stopped),
            () = stop.wait() => break,
            () = plan.status.control.woken() => shard.queue_link(id),
            () = &mut probe, if probing => {
                probing = false;
                shard.command(Command::Unreachable(id));
            }
        }
    }
    let (done, removed) = oneshot::channel();
    shard.command(Command::Remove(id, done));
    // An error means that the shard has ended: the link too.
    let _ = removed.await;
    Outcome::Stopped
}

/// Draws the keys of a call aside from media, one call after the other: hundreds may call at once.
async fn draw_keys(config: &LinkConfig) -> io::Result<Option<CallKeys>> {
    static ONE: Semaphore = Semaphore::const_new(1);
    if config.passphrase.is_none() {
        return Ok(None);
    }
    let (seed, config) = (secret_random()?, config.clone());
    let _one = ONE.acquire().await.map_err(io::Error::other)?;
    tokio::task::spawn_blocking(move || CallKeys::draw(&config, seed)).await.map_err(io::Error::other)
}

/// Resolves when the system says that nobody listens at this address. A port that several calls
/// share is not told so itself.
async fn nobody_listens(peer: SocketAddr, status: &LinkStatus) {
    let probe = async {
        let socket = UdpSocket::bind((any_address(peer.ip()), 0)).await?;
        socket.connect(peer).await?;
        let told = async || -> io::Result<()> {
            loop {
                socket.recv(&mut [0; 64]).await?;
            }
        };
        for wait in PROBES {
            if status.look().peers.is_empty() {
                socket.send(&PROBE).await?;
            }
            if let Ok(told) = tokio::time::timeout(wait, told()).await {
                return told;
            }
        }
        told().await
    };
    // What else keeps it from asking keeps the call from coming through as well, which is told.
    if !probe.await.is_err_and(|e: io::Error| e.kind() == io::ErrorKind::ConnectionRefused) {
        std::future::pending::<()>().await;
    }
}
