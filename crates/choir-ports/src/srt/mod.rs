//! SRT ways in and out. Plans and attempts are here; [`driver`] serves a socket.

mod driver;

use super::{Intake, Outlet, status::LinkStatus};
use choir_core::health::{Contact, Fault};
use choir_host::secret_random;
use choir_host::{Stop, udp::UdpPort};
use choir_proto::srt::{CloseReason, Endpoint, LinkConfig, RuleId, StreamMatch};
use driver::{Driver, Outcome, User, fault_of, lost_sentence};
use std::{
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::task::JoinHandle;

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
    /// Where media goes that comes in.
    pub intake: Option<Arc<dyn Intake>>,
    /// Media to send.
    pub outlet: Option<Arc<Outlet>>,
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
    /// Where media goes that comes in.
    pub intake: Option<Arc<dyn Intake>>,
    /// Media to send to every caller.
    pub outlet: Option<Arc<Outlet>>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// A listening port that has been opened.
pub struct Listening {
    /// The address it got.
    pub addr: SocketAddr,
    /// Its task.
    pub task: JoinHandle<()>,
}

/// Opens a port and listens for all these links.
///
/// # Errors
/// The address cannot be had.
pub fn spawn_listener(addr: SocketAddr, plans: Vec<ListenPlan>, stop: Stop) -> io::Result<Listening> {
    let socket = UdpPort::open(addr, None)?;
    let addr = socket.local_addr()?;
    let endpoint = Endpoint::new(addr.ip(), Instant::now(), secret_random()?);
    let mut driver = Driver::new(socket, endpoint)?;
    for (n, plan) in plans.into_iter().enumerate() {
        let awaits = match &plan.stream {
            StreamMatch::Any => format!("nobody has called port {} yet", addr.port()),
            StreamMatch::Exactly(id) => format!("nobody has called port {} with the stream ID {id} yet", addr.port()),
        };
        plan.status.set_contact(Contact::Awaited(awaits.clone()));
        driver.add(User {
            rule: RuleId(n as u32),
            listen: Some((plan.stream, plan.config, plan.max_callers)),
            intake: plan.intake,
            outlet: plan.outlet,
            status: plan.status,
            conns: Vec::new(),
            held: false,
            finishing: false,
            awaits,
            there: String::new(),
        });
    }
    let task = tokio::spawn(async move {
        driver.run(stop).await;
    });
    Ok(Listening { addr, task })
}

/// Calls, and calls again with growing pauses whenever the link is lost.
pub fn spawn_caller(plan: CallPlan, mut stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let mut pause = RETRY_FIRST;
        while !stop.is_set() {
            if plan.status.is_held() {
                plan.status.set_contact(Contact::Held);
                tokio::select! {
                    () = plan.status.wake.notified() => {}
                    () = stop.wait() => return,
                }
                continue;
            }
            let outcome = attempt(&plan, &stop).await;
            let (wait, fault, why) = match outcome {
                Outcome::Stopped | Outcome::Finished => return,
                Outcome::Held => continue,
                Outcome::Ended { reason, was_up } => {
                    if was_up {
                        pause = RETRY_FIRST;
                    }
                    let setting = matches!(reason, CloseReason::RefusedByPeer(r) | CloseReason::RefusedHere(r) if r.is_setting());
                    (
                        if setting { RETRY_SETTING } else { pause },
                        fault_of(reason),
                        lost_sentence(&format!("{}:{}", plan.host, plan.port), reason),
                    )
                }
                Outcome::Failed(fault, e) => (pause, fault, e),
            };
            if plan.status.look().contact != Contact::Lost(why.clone()) {
                plan.status.note(true, why.clone());
            }
            plan.status.set_lost(fault, why);
            pause = (pause * 2).min(RETRY_MOST);
            tokio::select! {
                () = tokio::time::sleep(wait) => {}
                () = plan.status.wake.notified() => {}
                () = stop.wait() => return,
            }
        }
    })
}

async fn attempt(plan: &CallPlan, stop: &Stop) -> Outcome {
    let found = tokio::net::lookup_host((plan.host.as_str(), plan.port)).await.map(|mut a| a.next());
    let peer = match found {
        Ok(Some(peer)) => peer,
        Ok(None) => return Outcome::Failed(Some(Fault::Name), format!("the name {} has no address", plan.host)),
        Err(e) => return Outcome::Failed(Some(Fault::Name), format!("the name {} cannot be looked up: {e}", plan.host)),
    };
    let any: IpAddr = if peer.is_ipv4() { [0, 0, 0, 0].into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
    let local = plan.bind.unwrap_or_else(|| SocketAddr::new(any, if plan.rendezvous { peer.port() } else { 0 }));
    let opened = UdpPort::open(local, Some(peer)).and_then(|s| Ok((s.local_addr()?, s, secret_random()?)));
    let (addr, socket, seed) = match opened {
        Ok(opened) => opened,
        Err(e) => return Outcome::Failed(None, format!("cannot open {local} to reach {peer}: {e}")),
    };
    let endpoint = Endpoint::new(addr.ip(), Instant::now(), seed);
    let mut driver = match Driver::new(socket, endpoint) {
        Ok(driver) => driver,
        Err(e) => return Outcome::Failed(None, format!("cannot set a timer: {e}")),
    };
    let verb = if plan.rendezvous { "meeting" } else { "calling" };
    // While it calls again after a loss, the reason of the loss stays to be read.
    plan.status.update(|l| {
        if !matches!(l.contact, Contact::Lost(_)) {
            l.contact = Contact::Greeting(format!("{verb} {}:{}", plan.host, plan.port));
        }
    });
    driver.call(
        peer,
        plan.rendezvous,
        plan.config.clone(),
        User {
            rule: RuleId(0),
            listen: None,
            intake: plan.intake.clone(),
            outlet: plan.outlet.clone(),
            status: plan.status.clone(),
            conns: Vec::new(),
            held: false,
            finishing: false,
            awaits: String::new(),
            there: format!("{}:{}", plan.host, plan.port),
        },
    );
    driver.run(stop.clone()).await
}
