//! A node: one QUIC endpoint that serves this machine's sources and calls other nodes.

mod pace;
mod serve;
mod sources;

pub(super) use sources::{SOURCES, tally_view};

use self::pace::Pace;
use super::{
    StaveError,
    caller::Caller,
    find::LanPlan,
    group_out::GroupOut,
    identity::Identity,
    roster::{Roster, Ways},
    tls::{self, Configs},
    units::Turns,
};
use crate::LinkStatus;
use choir_core::facts::Notice;
use choir_core::stave::StaveSettings;
use choir_host::{Stop, clock::unix_ms, lock, secrets};
use choir_proto::stave::{CameraVerb, Hello, NodeEntry, OPEN_GROUP, PORT, SharedKey, Speaker, StreamOffer, TallyBook, Unique};
use futures_core::future::BoxFuture;
use quinn::{Connection, Endpoint, VarInt};
use socket2::{Domain, Protocol, Socket, Type};
use std::{
    collections::BTreeMap,
    io,
    net::{IpAddr, Ipv4Addr, SocketAddr},
    path::Path,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64},
    },
    time::{Duration, Instant},
};
use tokio::{
    sync::{Notify, mpsc, oneshot, watch},
    task::JoinHandle,
};

/// Asked of the system.
const BUFFER: usize = 8 << 20;

/// An order to a camera, and where to say what came of it.
pub type CameraRequest = (CameraVerb, oneshot::Sender<Result<(), String>>);
/// Takes orders to a camera.
pub type CameraSender = mpsc::Sender<CameraRequest>;

/// What a node is to be.
#[derive(Debug, Clone)]
pub struct NodePlan {
    /// Name of the machine.
    pub machine: String,
    /// Group.
    pub group: String,
    /// The group's key.
    pub key: Option<SharedKey>,
    /// Its certificate.
    pub identity: Identity,
    /// Own address.
    pub ip: IpAddr,
    /// Port that it must have; without one the usual, or any that is free.
    pub port: Option<u16>,
    /// Certificates that are let in; empty lets in all.
    pub receivers: Vec<String>,
    /// What tells this node from others of the same machine.
    pub seed: String,
}

impl NodePlan {
    /// By a sheet's settings. Fetches the group key, which takes some tens of milliseconds.
    ///
    /// # Errors
    /// The key or the identity cannot be had.
    pub fn of(settings: &StaveSettings, identity: Identity, base: &Path, seed: &str) -> Result<Self, StaveError> {
        let words = settings.key.as_ref().map(|k| secrets::fetch_text(k, base)).transpose()?;
        let system = || rustix::system::uname().nodename().to_string_lossy().into_owned();
        Ok(Self {
            machine: settings.machine.clone().unwrap_or_else(system),
            group: settings.group.clone(),
            key: words.map(|w| SharedKey::derive(w.reveal(), &settings.group)),
            identity,
            ip: settings.address.unwrap_or(Ipv4Addr::UNSPECIFIED.into()),
            port: settings.port,
            receivers: settings.receivers.clone(),
            seed: seed.to_owned(),
        })
    }

    /// One for a test or a stand-in: open, at any free port.
    #[must_use]
    pub fn open(machine: &str, identity: Identity, ip: IpAddr) -> Self {
        let seed = machine.to_owned();
        let (machine, group) = (machine.to_owned(), OPEN_GROUP.to_owned());
        Self { machine, group, key: None, identity, ip, port: None, receivers: Vec::new(), seed }
    }
}

/// A node. Clones are the same node.
#[derive(Clone)]
pub struct Node(Arc<Inner>);

struct Inner {
    caller: Caller,
    /// What the machine was to be called.
    wanted: String,
    /// Certificates that are let in; empty lets in all.
    pins: Vec<String>,
    sources: Mutex<Sources>,
    receivers: Mutex<BTreeMap<u64, Arc<Receiver>>>,
    next: AtomicU64,
    /// When a directory tells all of all, and when what there is is told anew since a peer wants
    /// so.
    telling: Pace,
    publishing: Pace,
    directory: watch::Sender<BTreeMap<u64, NodeEntry>>,
    keeps_directory: AtomicBool,
    roster: Mutex<Option<Roster>>,
    tasks: Mutex<Vec<JoinHandle<()>>>,
    turns: Turns,
}

#[derive(Default)]
struct Sources {
    names: Unique,
    all: BTreeMap<u64, Source>,
}

struct Source {
    name: Arc<str>,
    streams: Vec<StreamOffer>,
    carries: String,
    camera: Option<CameraSender>,
    book: TallyBook,
    status: Arc<LinkStatus>,
    group: Option<GroupOut>,
    started: Option<(Instant, u64)>,
}

/// Somebody who is connected.
struct Receiver {
    id: u64,
    conn: Connection,
    speaker: Mutex<Speaker>,
    bell: Notify,
    /// Packets of a group are being sent again.
    repairing: AtomicBool,
}

impl Node {
    /// Opens it.
    ///
    /// # Errors
    /// The port cannot be had.
    pub fn start(plan: NodePlan, stop: &Stop) -> BoxFuture<'_, Result<Self, StaveError>> {
        Box::pin(async move {
            let Configs { endpoint: config, server, client } = tls::configs(&plan.identity)?;
            let socket = match plan.port {
                Some(port) => open((plan.ip, port).into()),
                // The usual one is for networks where a firewall must be told; others do as well.
                None => open((plan.ip, PORT).into()).or_else(|_| open((plan.ip, 0).into())),
            };
            let wanted = SocketAddr::new(plan.ip, plan.port.unwrap_or(PORT));
            let failed = |e| StaveError::Open(wanted, e);
            let socket = socket.map_err(failed)?;
            let mut endpoint = Endpoint::new(config, Some(server), socket, Arc::new(quinn::TokioRuntime)).map_err(failed)?;
            endpoint.set_default_client_config(client);
            let at = endpoint.local_addr().map_err(failed)?;
            // The same links twice are two nodes: the second has another port, and with it another
            // number.
            let number = match plan.port {
                None if at.port() != PORT => plan.identity.number(&format!("{} {}", plan.seed, at.port())),
                _ => plan.identity.number(&plan.seed),
            };
            let hello = Hello {
                versions: Vec::new(),
                machine: plan.machine.clone(),
                node: number,
                boot: unix_ms(),
                group: plan.group,
                features: Vec::new(),
                proof: None,
            };
            let node = Self(Arc::new(Inner {
                caller: Caller::new(endpoint, at, hello, plan.key),
                wanted: plan.machine,
                pins: plan.receivers,
                sources: Mutex::default(),
                receivers: Mutex::default(),
                next: AtomicU64::new(1),
                telling: Pace::new(serve::TELL_EVERY),
                publishing: Pace::new(sources::PUBLISH_EVERY),
                directory: watch::channel(BTreeMap::new()).0,
                keeps_directory: false.into(),
                roster: Mutex::default(),
                tasks: Mutex::default(),
                turns: Turns::default(),
            }));
            let task = tokio::spawn(serve::accept(node.clone(), stop.clone()));
            lock(&node.0.tasks).push(task);
            Ok(node)
        })
    }

    /// Opens it by the settings of a sheet whose folder is `base`, and begins to look for other
    /// nodes; with `announce` to be found too. `what` tells it from other nodes of this machine.
    ///
    /// # Errors
    /// As [`NodePlan::of`] and [`Node::start`].
    pub fn join<'a>(
        s: &'a StaveSettings,
        identity: Identity,
        base: &'a Path,
        what: &'a str,
        announce: bool,
        stop: &'a Stop,
    ) -> BoxFuture<'a, Result<Self, StaveError>> {
        Box::pin(async move {
            let seed = format!("{what} {:?} {:?} {:?}", s.machine, s.address, s.port);
            let node = Self::start(NodePlan::of(s, identity, base, &seed)?, stop).await?;
            let lan = s.discover.then(|| LanPlan::by(s.address));
            let ways = Ways { lan, nodes: s.nodes.clone(), directory: s.directory, pins: s.sources.clone(), announce };
            node.seek(ways, stop);
            Ok(node)
        })
    }

    /// What it calls others by.
    pub(super) fn caller(&self) -> &Caller {
        &self.0.caller
    }

    /// Where it is.
    #[must_use]
    pub fn at(&self) -> SocketAddr {
        self.0.caller.at()
    }

    /// The machine's name, as others see it.
    #[must_use]
    pub fn machine(&self) -> String {
        self.0.caller.machine()
    }

    /// What it says of itself.
    #[must_use]
    pub fn entry(&self) -> NodeEntry {
        self.0.caller.entry()
    }

    /// Begins to look for other nodes, and to be found. The roster is the same from then on.
    pub fn seek(&self, ways: Ways, stop: &Stop) -> Roster {
        let roster = Roster::start(self.caller(), ways, stop);
        *lock(&self.0.roster) = Some(roster.clone());
        let (me, mut renamed, mut end) = (self.clone(), roster.renamed(), stop.clone());
        let task = tokio::spawn(async move {
            loop {
                tokio::select! {
                    changed = renamed.changed() => if changed.is_err() { return },
                    () = end.wait() => return,
                }
                let new = renamed.borrow_and_update().clone();
                if let Some(name) = new {
                    let was = me.0.caller.rename(&name);
                    for s in lock(&me.0.sources).all.values() {
                        s.status.note(Notice::MachineNameTaken { wanted: was.clone(), got: name.clone() });
                    }
                    me.republish();
                }
            }
        });
        lock(&self.0.tasks).push(task);
        roster
    }

    /// The roster, once sought.
    #[must_use]
    pub fn roster(&self) -> Option<Roster> {
        lock(&self.0.roster).clone()
    }

    /// Waits until everything has said goodbye; after the stop.
    pub async fn ended(&self) {
        if let Some(roster) = self.roster() {
            roster.ended().await;
        }
        let tasks = std::mem::take(&mut *lock(&self.0.tasks));
        for task in tasks {
            let _ = task.await;
        }
        self.0.caller.endpoint().close(VarInt::from_u32(0), b"this machine ends its show");
        let _ = tokio::time::timeout(Duration::from_millis(300), self.0.caller.endpoint().wait_idle()).await;
    }
}

fn open(at: SocketAddr) -> io::Result<std::net::UdpSocket> {
    let socket = Socket::new(Domain::for_address(at), Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_nonblocking(true)?;
    socket.set_recv_buffer_size(BUFFER)?;
    socket.set_send_buffer_size(BUFFER)?;
    socket.bind(&at.into())?;
    Ok(socket.into())
}
