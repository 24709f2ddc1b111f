//! Serves feeds by RTSP: one address, any number of feeds, any number of viewers of each.

use super::{
    super::{UnitOutlet, callers::Callers, status::LinkStatus, udp_ts::GROUP_TTL},
    SOFTWARE, connection,
    mount::{Group, MountPoint},
    options::{Carrier, ServerOptions, UdpManner},
    pull::pair,
    shared::Shared,
};
use bytes::BytesMut;
use choir_core::facts::{Contact, Notice, Waiting};
use choir_host::{Stop, interfaces::own_interfaces, machine::takes_the_last, tcp::listen, udp::UdpPort};
use choir_host::{lock, secret_random};
use choir_proto::rtsp::{Credentials, Server, ServerConfig};
use std::{
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{net::TcpListener, task::JoinHandle};

/// Connections at the same time, in all and from one address: a switcher pulls many feeds.
const CONNECTIONS_MAX: usize = 512;
const FROM_ONE_MAX: usize = 128;
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
    /// The feed's units.
    pub outlet: Arc<UnitOutlet>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
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
    /// Taken once it has ended.
    task: Option<JoinHandle<()>>,
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
    pub fn open(addr: SocketAddr, options: ServerOptions, stop: &Stop) -> io::Result<Self> {
        let listener = listen(addr)?;
        let addr = listener.local_addr()?;
        let (udp, ports) = pair(addr.ip())?;
        let config = ServerConfig {
            realm: "Cable Choir".into(),
            scheme: options.scheme,
            better: options.better,
            software: SOFTWARE.into(),
            ports: (options.udp != UdpManner::Refused).then_some(ports),
            seed: u64::from_be_bytes(secret_random()?),
        };
        let shared = Arc::new(Shared::new(Server::new(config, Instant::now()), Carrier::new(udp, options)));
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
        let place = self.shared.add(mount.clone());
        let shared = self.shared.clone();
        let task = tokio::spawn(async move {
            tokio::select! {
                () = mount.run(&shared.carrier, &plan.outlet, |id| shared.let_go(id)) => {}
                () = stop.wait() => {}
            }
            mount.goodbye(&shared.carrier);
        });
        Ok(Served { place, task: Some(task) })
    }

    /// Waits until a feed has ended, says goodbye to its viewers, and takes it out.
    pub async fn remove(&self, mut served: Served) {
        served.ended().await;
        self.shared.remove(served.place);
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
        if let Some(task) = &mut self.task {
            let _ = task.await;
            self.task = None;
        }
    }
}

/// Opens an address and serves these feeds there, as long as it is not stopped. Gives the address
/// it got, and its tasks.
///
/// # Errors
/// As [`RtspServer::open`] and [`RtspServer::add`].
pub fn spawn_server(
    addr: SocketAddr,
    plans: Vec<ServePlan>,
    options: ServerOptions,
    stop: &Stop,
) -> io::Result<(SocketAddr, Vec<JoinHandle<()>>)> {
    let server = RtspServer::open(addr, options, stop)?;
    let served: Vec<_> = plans.into_iter().map(|plan| server.add(plan, stop.clone())).collect::<Result<_, _>>()?;
    Ok((server.addr, served.into_iter().filter_map(|s| s.task).chain(server.tasks).collect()))
}

async fn accept(shared: Arc<Shared>, listener: TcpListener, mut stopping: Stop) {
    let callers = Callers::new(CONNECTIONS_MAX, FROM_ONE_MAX);
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
        if takes_the_last(&stream) {
            continue;
        }
        let Some(place) = callers.admit(peer.ip()) else { continue };
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
    let [rtp, rtcp] = shared.carrier.sockets();
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
        shared.mounts().all.values().for_each(|m| m.answer_overdue(&shared.carrier.options, now));
    }
}
