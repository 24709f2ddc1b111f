//! Serves feeds by RTSP: one address, any number of feeds, any number of viewers of each.

use super::{
    super::{Outlet, status::LinkStatus, udp_ts::GROUP_TTL},
    SOFTWARE, connection,
    mount::{Group, MountPoint, Play},
    pull::pair,
    viewers::Lanes,
};
use bytes::BytesMut;
use choir_core::facts::{Contact, Notice, Waiting};
use choir_host::{Stop, interfaces::own_interfaces, tcp::listen, udp::UdpPort};
use choir_host::{lock, read, secret_random, write};
use choir_proto::{
    rtp::PackedUnit,
    rtsp::{Action, Catalog, Credentials, Mount, Request, Response, Scheme, Server, ServerConfig, SessionId},
};
use std::{
    borrow::Cow,
    collections::{BTreeMap, HashMap},
    io,
    net::{IpAddr, SocketAddr},
    sync::{Arc, Mutex, RwLock, RwLockReadGuard},
    time::{Duration, Instant},
};
use tokio::{net::TcpListener, sync::Semaphore, task::JoinHandle};

/// Connections at the same time.
const CONNECTIONS_MAX: usize = 512;
/// Rest after a connection that could not be taken.
const ACCEPT_PAUSE: Duration = Duration::from_millis(50);
/// How often silent viewers are looked for.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// One feed to serve.
pub struct ServePlan {
    /// Path without slashes at its ends.
    pub path: String,
    /// Who may watch; all when nobody is named.
    pub credentials: Option<Credentials>,
    /// Group and first port, when it can be heard by many.
    pub group: Option<(IpAddr, u16)>,
    /// Own address by which the group is sent to.
    pub interface: Option<IpAddr>,
    /// Routers that packets to the group may pass.
    pub ttl: Option<u8>,
    /// The feed's transport stream.
    pub outlet: Arc<Outlet>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

type TouchResponse = dyn Fn(&Request, &mut Response) + Send + Sync;
type TouchPacket = dyn Fn(&mut Vec<u8>) -> bool + Send + Sync;

/// What a server does about UDP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UdpManner {
    /// It sends.
    Sent,
    /// It refuses.
    Refused,
    /// It agrees, and sends nothing.
    Silent,
}

/// Where a stand-in puts its bad manners. The product itself has none.
pub struct Hooks {
    /// How credentials are to be proved.
    pub scheme: Scheme,
    /// Has the last word on each answer.
    pub response: Option<Box<TouchResponse>>,
    /// Has the last word on each packet; false drops it.
    pub packet: Option<Box<TouchPacket>>,
    /// Sender reports are sent.
    pub reports: bool,
    /// Packets go by UDP.
    pub udp: UdpManner,
}

impl Default for Hooks {
    fn default() -> Self {
        Self { scheme: Scheme::Md5, response: None, packet: None, reports: true, udp: UdpManner::Sent }
    }
}

impl Hooks {
    pub(super) fn answer(&self, request: &Request, response: &mut Response) {
        if let Some(touch) = &self.response {
            touch(request, response);
        }
    }

    pub(super) fn touch<'a>(&self, unit: &'a PackedUnit) -> Cow<'a, PackedUnit> {
        let Some(touch) = &self.packet else { return Cow::Borrowed(unit) };
        let packets = unit.packets().filter_map(|p| {
            let mut p = p.to_vec();
            touch(&mut p).then_some(p)
        });
        let packets: Vec<Vec<u8>> = packets.collect();
        Cow::Owned(PackedUnit::of(packets.iter().map(Vec::as_slice), unit.keyframe))
    }
}

/// A server. Feeds can be added and removed while it runs.
pub struct RtspServer {
    /// The address it got.
    pub addr: SocketAddr,
    shared: Arc<Shared>,
    tasks: Vec<JoinHandle<()>>,
}

/// A feed of a server.
pub struct Served {
    place: usize,
    task: JoinHandle<()>,
}

/// Feeds by their place, which is not used again.
#[derive(Default)]
struct Mounts {
    next: usize,
    all: BTreeMap<usize, Arc<MountPoint>>,
}

/// What all connections and mounts of a server share.
pub(super) struct Shared {
    server: Mutex<Server>,
    mounts: RwLock<Mounts>,
    connections: Mutex<HashMap<u64, Arc<Lanes>>>,
    /// Which mount a session watches.
    watching: Mutex<HashMap<SessionId, usize>>,
    udp: Option<(UdpPort, UdpPort)>,
    pub hooks: Hooks,
}

impl Catalog for Shared {
    fn find(&self, path: &str) -> Option<usize> {
        self.mounts().all.iter().find(|(_, m)| m.path == path).map(|(place, _)| *place)
    }
    fn mount(&self, place: usize) -> Mount {
        self.place(place).map_or_else(Mount::default, |m| m.offer())
    }
}

impl Shared {
    fn mounts(&self) -> RwLockReadGuard<'_, Mounts> {
        read(&self.mounts)
    }

    fn place(&self, place: usize) -> Option<Arc<MountPoint>> {
        self.mounts().all.get(&place).cloned()
    }

    /// The feed that is served under a path.
    pub fn at_path(&self, path: &str) -> Option<Arc<MountPoint>> {
        self.find(path).and_then(|place| self.place(place))
    }

    pub fn rtp(&self) -> Option<&UdpPort> {
        self.udp.as_ref().filter(|_| self.hooks.udp == UdpManner::Sent).map(|u| &u.0)
    }

    pub fn rtcp(&self) -> Option<&UdpPort> {
        self.udp.as_ref().filter(|_| self.hooks.udp == UdpManner::Sent).map(|u| &u.1)
    }

    /// Answers a request, and does what follows from it.
    pub fn answer(&self, who: (u64, SocketAddr, SocketAddr), lanes: &Arc<Lanes>, request: &Request) {
        let (mut response, actions) = lock(&self.server).answer(Instant::now(), who, request, self);
        // The answer goes before the first packet; that to a PLAY waits for the keyframe that it starts with.
        let starts = actions.iter().find_map(|a| if let Action::Start(id) = a { Some(*id) } else { None });
        let session = starts.and_then(|id| {
            let s = lock(&self.server).session(id)?.clone();
            Some((id, self.place(s.mount)?, s))
        });
        match session {
            Some((id, mount, s)) => {
                lock(&self.watching).insert(id, s.mount);
                // Its packets go over the connection that set it up, the answer over the one that asked.
                let packets = lock(&self.connections).get(&s.connection).unwrap_or(lanes).clone();
                let play =
                    Play { response, request: request.clone(), base: format!("rtsp://{}/{}", who.2, mount.path), asked_on: lanes.clone() };
                mount.start(id, s, packets, play);
            }
            None => {
                self.hooks.answer(request, &mut response);
                lanes.message(response.to_bytes());
            }
        }
        self.act(actions);
    }

    pub fn act(&self, actions: Vec<Action>) {
        for action in actions {
            match action {
                // Begun with its answer.
                Action::Start(_) => {}
                Action::Pause(id) => {
                    let place = lock(&self.watching).get(&id).copied();
                    if let Some(mount) = place.and_then(|p| self.place(p)) {
                        mount.pause(id);
                    }
                }
                Action::End(id) => {
                    let place = lock(&self.watching).remove(&id);
                    if let Some(mount) = place.and_then(|p| self.place(p)) {
                        mount.stop(id);
                    }
                }
            }
        }
    }

    pub fn heard_on(&self, connection: u64, channel: u8, data: &[u8]) {
        let mount = {
            let mut server = lock(&self.server);
            server.heard_on(connection, Instant::now());
            server.reported_on(connection, channel)
        };
        self.report_from_viewer(mount, data);
    }

    fn report_from_viewer(&self, mount: Option<usize>, data: &[u8]) {
        if let Some(mount) = mount.and_then(|m| self.place(m)) {
            mount.report_from_viewer(data);
        }
    }

    pub fn connected(&self, connection: u64, lanes: Arc<Lanes>) {
        lock(&self.connections).insert(connection, lanes);
    }

    pub fn disconnected(&self, connection: u64) {
        lock(&self.connections).remove(&connection);
        let actions = lock(&self.server).connection_gone(connection);
        self.act(actions);
    }

    /// Ends a viewer from this side: its packets stop, and its connection is closed if they went over it.
    pub fn let_go(&self, id: SessionId) {
        lock(&self.watching).remove(&id);
        let session = lock(&self.server).end(id);
        if let Some(s) = session
            && let Some(lanes) = lock(&self.connections).get(&s.connection)
        {
            lanes.close();
        }
    }
}

/// The addresses that can be pasted for a server at `addr`.
fn paste(addr: SocketAddr, path: &str) -> Vec<String> {
    let hosts: Vec<IpAddr> = if addr.ip().is_unspecified() {
        let all = own_interfaces().unwrap_or_default();
        let mut own: Vec<IpAddr> = all.iter().filter(|i| !i.ip.is_loopback()).map(|i| i.ip.into()).collect();
        if own.is_empty() {
            own.push([127, 0, 0, 1].into());
        }
        own
    } else {
        vec![addr.ip()]
    };
    hosts.into_iter().map(|ip| format!("rtsp://{}/{path}", SocketAddr::new(ip, addr.port()))).collect()
}

impl RtspServer {
    /// Opens an address; without a feed it answers every request with "not found".
    ///
    /// # Errors
    /// The address cannot be opened, or the system has no random numbers.
    pub fn open(addr: SocketAddr, hooks: Hooks, stop: &Stop) -> io::Result<Self> {
        let listener = listen(addr)?;
        let addr = listener.local_addr()?;
        let (udp, ports) = pair(addr.ip())?;
        let config = ServerConfig {
            realm: "Cable Choir".into(),
            scheme: hooks.scheme,
            software: SOFTWARE.into(),
            ports: (hooks.udp != UdpManner::Refused).then_some(ports),
            seed: u64::from_be_bytes(secret_random()?),
        };
        let shared = Arc::new(Shared {
            server: Mutex::new(Server::new(config, Instant::now())),
            mounts: RwLock::default(),
            connections: Mutex::default(),
            watching: Mutex::default(),
            udp: Some(udp),
            hooks,
        });
        let tasks =
            vec![tokio::spawn(look_after(shared.clone(), stop.clone())), tokio::spawn(accept(shared.clone(), listener, stop.clone()))];
        Ok(Self { addr, shared, tasks })
    }

    /// Serves a feed until `stop`, or until its source has ended.
    ///
    /// # Errors
    /// Its group cannot be sent to.
    pub fn add(&self, plan: ServePlan, mut stop: Stop) -> io::Result<Served> {
        let group = plan.group.map(|(ip, port)| {
            let ttl = plan.ttl.unwrap_or(GROUP_TTL);
            let interface = plan.interface.or(Some(self.addr.ip()).filter(|ip| !ip.is_unspecified()));
            UdpPort::to_group(ip, interface, ttl).map(|socket| Group { ip, port, ttl, socket })
        });
        let urls = paste(self.addr, &plan.path);
        let group = group.transpose()?;
        plan.status.note(Notice::Served(urls.clone()));
        plan.status.update(|l| {
            l.paste = urls;
            l.set_how("no viewer".into());
            l.contact = Contact::Waiting(Waiting::Viewers);
        });
        let mount = Arc::new(MountPoint::new(plan.path, plan.credentials, group, plan.status));
        let place = {
            let mut mounts = write(&self.shared.mounts);
            let place = mounts.next;
            mounts.next += 1;
            mounts.all.insert(place, mount.clone());
            place
        };
        let shared = self.shared.clone();
        let task = tokio::spawn(async move {
            tokio::select! {
                () = mount.run(&shared, &plan.outlet) => {}
                () = stop.wait() => {}
            }
            mount.goodbye(&shared);
        });
        Ok(Served { place, task })
    }

    /// Waits until a feed has ended, says goodbye to its viewers, and takes it out.
    pub async fn remove(&self, served: Served) {
        let _ = served.task.await;
        let viewers: Vec<_> = lock(&self.shared.watching).iter().filter(|(_, p)| **p == served.place).map(|(id, _)| *id).collect();
        viewers.into_iter().for_each(|id| self.shared.let_go(id));
        write(&self.shared.mounts).all.remove(&served.place);
    }

    /// Waits for the end of its tasks, which `stop` ends.
    pub async fn ended(self) {
        for task in self.tasks {
            let _ = task.await;
        }
    }
}

impl Served {
    /// Waits until its source has ended, or it has been stopped. Safe to cancel.
    pub async fn ended(&mut self) {
        let _ = (&mut self.task).await;
    }
}

/// Opens an address and serves these feeds there, as long as it is not stopped. Gives the address it got, and its tasks.
///
/// # Errors
/// As [`RtspServer::open`] and [`RtspServer::add`].
pub fn spawn_server(addr: SocketAddr, plans: Vec<ServePlan>, hooks: Hooks, stop: &Stop) -> io::Result<(SocketAddr, Vec<JoinHandle<()>>)> {
    let server = RtspServer::open(addr, hooks, stop)?;
    let served: Vec<_> = plans.into_iter().map(|plan| server.add(plan, stop.clone())).collect::<Result<_, _>>()?;
    Ok((server.addr, served.into_iter().map(|s| s.task).chain(server.tasks).collect()))
}

async fn accept(shared: Arc<Shared>, listener: TcpListener, mut stopping: Stop) {
    let places = Arc::new(Semaphore::new(CONNECTIONS_MAX));
    let mut number = 0;
    loop {
        let accepted = tokio::select! {
            a = listener.accept() => a,
            () = stopping.wait() => return,
        };
        // Gone before it was taken, or out of descriptors, which only time mends.
        let Ok((stream, peer)) = accepted else {
            tokio::time::sleep(ACCEPT_PAUSE).await;
            continue;
        };
        let Ok(place) = places.clone().try_acquire_owned() else { continue };
        number += 1;
        let (shared, stop) = (shared.clone(), stopping.clone());
        tokio::spawn(async move {
            connection::serve(shared, stream, peer, number, stop).await;
            drop(place);
        });
    }
}

/// Listens for signs of life, and lets go who gives none.
async fn look_after(shared: Arc<Shared>, mut stop: Stop) {
    let Some((rtp, rtcp)) = &shared.udp else { return };
    let (mut arena, mut got) = (BytesMut::new(), Vec::new());
    let mut tick = tokio::time::interval(LOOK_EVERY);
    loop {
        tokio::select! {
            () = stop.wait() => return,
            _ = rtp.readable() => {}
            _ = rtcp.readable() => {}
            _ = tick.tick() => {}
        }
        let now = Instant::now();
        for socket in [rtp, rtcp] {
            socket.drain(&mut arena, &mut got);
        }
        for (from, data) in got.drain(..) {
            let mount = lock(&shared.server).heard_from(from, now);
            shared.report_from_viewer(mount, &data);
        }
        let actions = lock(&shared.server).handle_timeout(now);
        shared.act(actions);
        shared.mounts().all.values().for_each(|m| m.answer_overdue(&shared.hooks, now));
    }
}
