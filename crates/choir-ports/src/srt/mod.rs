//! SRT ways in and out. Plans and attempts are here; [`driver`] serves a socket.

mod driver;

use crate::retry::{Attempt, Backoff, Ended, Pause, keep_up};
use crate::{LinkStatus, TsFlow};
use choir_core::facts::{Contact, Encryption, Fault, Joining, Loss, Waiting};
use choir_host::secret_random;
use choir_host::{Stop, udp::UdpPort};
use choir_proto::srt::{CloseReason, Endpoint, LinkConfig, RuleId, StreamMatch};
use driver::{Change, Driver, Outcome, User, fault_of};
use std::{
    io,
    net::{IpAddr, SocketAddr},
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, oneshot},
    task::JoinHandle,
};

/// Pauses between attempts to connect.
const RETRY_FIRST: Duration = Duration::from_millis(500);
const RETRY_MOST: Duration = Duration::from_secs(5);
/// What a refusal for a setting waits: only a person can change it.
const RETRY_SETTING: Duration = Duration::from_secs(5);

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
    pub flow: TsFlow,
    /// How it stands.
    pub status: Arc<LinkStatus>,
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
    pub flow: TsFlow,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// A listening port. Links can be added and removed while it runs.
pub struct Listener {
    /// The address it got.
    pub addr: SocketAddr,
    changes: mpsc::UnboundedSender<Change>,
    next: AtomicU32,
    task: JoinHandle<()>,
}

/// A link of a listening port.
pub struct Listening {
    rule: RuleId,
    /// Resolves when everything of a finite source has been sent, or the port is gone.
    ended: oneshot::Receiver<()>,
}

impl Listener {
    /// Opens a port; without a link it refuses every caller.
    ///
    /// # Errors
    /// The address cannot be opened, or the system has no random numbers.
    pub fn open(addr: SocketAddr, stop: Stop) -> io::Result<Self> {
        let socket = UdpPort::open(addr, None)?;
        let addr = socket.local_addr()?;
        let endpoint = Endpoint::new(addr.ip(), Instant::now(), secret_random()?);
        let (changes, receiver) = mpsc::unbounded_channel();
        let mut driver = Driver::new(socket, endpoint, Some(receiver))?;
        let task = tokio::spawn(async move {
            driver.run(stop).await;
        });
        Ok(Self { addr, changes, next: AtomicU32::new(0), task })
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
        let rule = RuleId(self.next.fetch_add(1, Ordering::Relaxed));
        let (over, ended) = oneshot::channel();
        let listen = Some((plan.stream, plan.config, plan.max_callers));
        let user = User { port: self.addr.port(), stream_id, over: Some(over), ..User::new(rule, listen, plan.flow, plan.status) };
        // A port that has just ended drops it, which resolves `ended`.
        let _ = self.changes.send(Change::Add(Box::new(user)));
        Listening { rule, ended }
    }

    /// Says goodbye to the callers of a link, and lets no more in.
    pub async fn remove(&self, link: Listening) {
        let (done, removed) = oneshot::channel();
        if self.changes.send(Change::Remove(link.rule, done)).is_ok() {
            // An error means that the port has ended: the link too.
            let _ = removed.await;
        }
    }

    /// Waits for the end of the port's task, which `stop` ends.
    pub async fn ended(self) {
        let _ = self.task.await;
    }
}

impl Listening {
    /// Waits until everything of a finite source has been sent, or the port has ended. Safe to cancel.
    pub async fn ended(&mut self) {
        let _ = (&mut self.ended).await;
    }
}

/// Opens a port and listens for all these links, as long as it is not stopped. Gives the address it got.
///
/// # Errors
/// As [`Listener::open`].
pub fn spawn_listener(addr: SocketAddr, plans: Vec<ListenPlan>, stop: Stop) -> io::Result<SocketAddr> {
    let listener = Listener::open(addr, stop)?;
    plans.into_iter().for_each(|plan| drop(listener.add(plan)));
    Ok(listener.addr)
}

/// Calls, and calls again with growing pauses whenever the link is lost.
pub fn spawn_caller(plan: CallPlan, stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let status = plan.status.clone();
        status.update(|l| l.encryption = Encryption::NotKnown);
        keep_up(Caller(plan), &status, Backoff::new(RETRY_FIRST, RETRY_MOST), stop).await;
    })
}

struct Caller(CallPlan);

impl Attempt for Caller {
    async fn attempt(&mut self, stop: &mut Stop) -> Ended {
        let plan = &self.0;
        let (was_up, pause, fault, why) = match attempt(plan, stop).await {
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

async fn attempt(plan: &CallPlan, stop: &Stop) -> Outcome {
    let found = tokio::net::lookup_host((plan.host.as_str(), plan.port)).await.map(|mut a| a.next());
    let peer = match found {
        Ok(Some(peer)) => peer,
        Ok(None) => return Outcome::Failed(Some(Fault::Name), format!("{} has no address", plan.host)),
        Err(e) => return Outcome::Failed(Some(Fault::Name), format!("cannot look up {}: {e}", plan.host)),
    };
    let any: IpAddr = if peer.is_ipv4() { [0, 0, 0, 0].into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
    let local = plan.bind.unwrap_or_else(|| SocketAddr::new(any, if plan.rendezvous { peer.port() } else { 0 }));
    let opened = UdpPort::open(local, Some(peer)).and_then(|s| Ok((s.local_addr()?, s, secret_random()?)));
    let (addr, socket, seed) = match opened {
        Ok(opened) => opened,
        Err(e) => return Outcome::Failed(None, format!("cannot open {local} to reach {peer}: {e}")),
    };
    let endpoint = Endpoint::new(addr.ip(), Instant::now(), seed);
    let mut driver = match Driver::new(socket, endpoint, None) {
        Ok(driver) => driver,
        Err(e) => return Outcome::Failed(None, format!("cannot set a timer: {e}")),
    };
    let there = format!("{}:{}", plan.host, plan.port);
    plan.status.set_joining(if plan.rendezvous { Joining::Meeting(there) } else { Joining::Calling(there) });
    let peer_name = format!("{}:{}", plan.host, plan.port);
    let user = User { peer: peer_name, ..User::new(RuleId(0), None, plan.flow.clone(), plan.status.clone()) };
    driver.call(peer, plan.rendezvous, plan.config.clone(), user);
    driver.run(stop.clone()).await
}
