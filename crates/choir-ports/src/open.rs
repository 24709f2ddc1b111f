//! Opens ways in and out as their links say. Listeners on one address share its port.

use crate::cause::resolve;
use crate::stave::{CameraSender, GroupPlan, Node, Order, SourcePlan, StreamPlan, TakePlan, spawn_take};
use crate::{
    CallPlan, Flow, Intake, LinkStatus, ListenPlan, Listener, PlayPlan, PublishPlan, PullPlan, PushPlan, RtmpServePlan, RtmpServer,
    RtmpTarget, RtspServer, ServePlan, ServerOptions, Shard, Shards, Shown, UnitOutlet, WayCause, spawn_caller, spawn_file_in,
    spawn_file_out, spawn_play, spawn_pull, spawn_push, spawn_rtp_in, spawn_rtp_out, spawn_udp_in, spawn_udp_out,
};
use choir_core::{
    facts::{Contact, Waiting},
    link::{FileLink, Link, Mode, RtmpLink, RtspLink, SrtLink},
    secret::{Secret, SecretText},
    units::Bitrate,
};
use choir_host::secrets::{self, SecretError};
use choir_host::{End, Stop};
use choir_proto::rtsp::{Credentials, RtspUrl};
use choir_proto::srt::{Ceiling, KeyLength, LinkConfig, MAX_WINDOW, StreamMatch};
use futures_core::future::BoxFuture;
use std::{
    collections::{HashMap, hash_map::Entry},
    io,
    net::{IpAddr, SocketAddr},
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};
use tokio::{
    sync::mpsc,
    task::{JoinHandle, JoinSet},
};

/// Callers that may pull one output from one port.
const OUT_CALLERS: usize = 64;

/// One way in or out, not yet open.
pub struct Way {
    /// What it is called: a served feed has its path from it, unless its link says otherwise.
    pub name: String,
    /// What it is.
    pub link: Link,
    /// Where its media goes or comes from.
    pub flow: Flow,
    /// How it stands.
    pub status: Arc<LinkStatus>,
    /// What a named source needs besides.
    pub stave: Option<StaveWay>,
    /// The thread that serves it, if it is an SRT link; without one that with the fewest links.
    pub shard: Option<Shard>,
}

/// What a way by Stave needs.
pub struct StaveWay {
    /// This machine.
    pub node: Node,
    /// Own address by which groups are sent to and joined.
    pub interface: Option<IpAddr>,
    /// Certificates that sources must have; empty takes any.
    pub pins: Vec<String>,
    /// The small picture of a way out.
    pub sub: Option<Arc<UnitOutlet>>,
    /// What is on a way out, in words.
    pub carries: Option<Arc<dyn Fn() -> String + Send + Sync>>,
    /// Takes orders for the camera behind a way out.
    pub camera: Option<CameraSender>,
    /// Orders for the camera behind a way in.
    pub orders: Option<mpsc::Receiver<Order>>,
}

impl StaveWay {
    /// By a node, groups by the address that it has for itself.
    #[must_use]
    pub fn by(node: &Node) -> Self {
        Self::of(node, Some(node.at().ip()).filter(|ip| !ip.is_unspecified()))
    }

    /// By this machine, with nothing else.
    #[must_use]
    pub fn of(node: &Node, interface: Option<IpAddr>) -> Self {
        Self { node: node.clone(), interface, pins: Vec::new(), sub: None, carries: None, camera: None, orders: None }
    }
}

/// A way that cannot be opened, and why.
#[derive(Debug, thiserror::Error)]
#[error("{name}: {cause}")]
pub struct WayError {
    /// Its name.
    pub name: String,
    /// Why.
    pub cause: WayCause,
}

/// Settings of one end, with its passphrase fetched.
fn link_config(srt: &SrtLink, default_latency: Duration, base: &Path) -> Result<LinkConfig, SecretError> {
    let passphrase = srt.passphrase.as_ref().map(|s| secrets::fetch(s, base)).transpose()?;
    let ceiling = match (srt.ceiling, srt.overhead) {
        (Some(rate), _) => Ceiling::Fixed(rate.0),
        (None, percent) => Ceiling::Overhead(percent.unwrap_or(25)),
    };
    let config = LinkConfig {
        passphrase,
        key_length: srt.key_bits.and_then(|b| KeyLength::from_bytes(usize::from(b) / 8)).unwrap_or_default(),
        stream_id: srt.stream_id.clone(),
        ceiling,
        ..LinkConfig::default()
    };
    let latency = srt.latency.unwrap_or(default_latency);
    let window = window_for(latency, srt.ceiling);
    Ok(LinkConfig { window, ..config.with_latency(latency) })
}

/// Bits per second that a link without a ceiling is given room for.
const RATE_ASSUMED: u64 = 100_000_000;
/// Room for the round trip and for what came in a burst, above the latency.
const ROOM: Duration = Duration::from_millis(500);

/// Packets that latency times rate come to: at least the protocol's usual window, at most the cap.
fn window_for(latency: Duration, ceiling: Option<Bitrate>) -> u32 {
    let rate = ceiling.map_or(RATE_ASSUMED, |c| c.0);
    let packets = rate as f64 * (latency + ROOM).as_secs_f64() / (1316.0 * 8.0);
    (packets.ceil() as u32).clamp(8192, MAX_WINDOW)
}

/// User and password of an RTSP link, with the password fetched.
fn credentials(rtsp: &RtspLink, base: &Path) -> Result<Option<Credentials>, SecretError> {
    let Some(user) = &rtsp.user else { return Ok(None) };
    let password = rtsp.password.as_ref().map(|p| secrets::fetch_text(p, base)).transpose()?;
    Ok(Some(Credentials::new(user, password.as_ref().map_or("", |p| p.reveal()))))
}

fn pull_plan(rtsp: &RtspLink, credentials: Option<Credentials>, intake: Arc<dyn Intake>, status: Arc<LinkStatus>) -> PullPlan {
    PullPlan {
        url: RtspUrl {
            host: rtsp.host.clone().unwrap_or_default(),
            port: rtsp.port.unwrap_or(RtspLink::ASK_PORT),
            path: rtsp.path.clone(),
        },
        credentials,
        transport: rtsp.transport,
        reorder: rtsp.reorder,
        pass_damaged: rtsp.damaged,
        interface: rtsp.interface,
        intake,
        status,
    }
}

fn rtmp_keys(rtmp: &RtmpLink, base: &Path) -> Result<Keys, WayCause> {
    let fetch = |secret: &Option<Secret>| secret.as_ref().map_or(Ok(SecretText::new("")), |s| secrets::fetch_text(s, base));
    let login = rtmp.user.as_ref().map(|user| Ok::<_, SecretError>((user.clone(), fetch(&rtmp.password)?))).transpose()?;
    let shown = rtmp.certificate.as_ref().map(|(certificate, key)| Shown::read(&base.join(certificate), &base.join(key)));
    Ok(Keys::Rtmp { key: fetch(&rtmp.key)?, login, shown: shown.transpose().map_err(WayCause::Certificate)? })
}

/// A way with its secrets fetched.
pub struct ReadyWay {
    way: Way,
    keys: Keys,
}

/// What a way needs of its secrets.
enum Keys {
    None,
    Srt(Box<LinkConfig>),
    Rtsp(Option<Credentials>),
    /// Stream key, user and password, and what a port within TLS shows.
    Rtmp {
        key: SecretText,
        login: Option<(String, SecretText)>,
        shown: Option<Shown>,
    },
}

impl Way {
    /// Fetches its secrets, so that nothing opens when one is missing. Relative paths count from
    /// `base`.
    ///
    /// # Errors
    /// A secret is not where the link says.
    pub fn ready(self, default_latency: Duration, base: &Path) -> Result<ReadyWay, WayError> {
        let keys = match &self.link {
            Link::Srt(s) => link_config(s, default_latency, base).map(|c| Keys::Srt(Box::new(c))).map_err(WayCause::from),
            Link::Rtsp(r) => credentials(r, base).map(Keys::Rtsp).map_err(WayCause::from),
            Link::Rtmp(r) => rtmp_keys(r, base),
            _ => Ok(Keys::None),
        };
        match keys {
            Ok(keys) => Ok(ReadyWay { way: self, keys }),
            Err(cause) => Err(WayError { name: self.name, cause }),
        }
    }
}

/// The ways that are open, and the ports that several of them share.
#[derive(Clone)]
pub struct Ports(Arc<Inner>);

struct Inner {
    base: PathBuf,
    stop: Stop,
    gate: Stop,
    // Held across opening and closing, so that a port that is being given up is never found.
    shared: tokio::sync::Mutex<SharedPorts>,
}

#[derive(Default)]
struct SharedPorts {
    listeners: HashMap<SocketAddr, Shared<Listener>>,
    servers: HashMap<SocketAddr, Shared<RtspServer>>,
    publishers: HashMap<SocketAddr, Shared<RtmpServer>>,
}

/// A port, and how many ways use it.
struct Shared<P> {
    port: Arc<P>,
    ways: usize,
    end: End,
}

/// An open way, and the tasks that end with it.
pub struct OpenWay {
    link: Link,
    end: End,
    stop: Stop,
    task: JoinHandle<()>,
    beside: JoinSet<()>,
}

impl OpenWay {
    /// The link that it was opened by.
    #[must_use]
    pub const fn link(&self) -> &Link {
        &self.link
    }

    /// Runs a task beside it, which must end when it is told that the way has ended.
    pub fn beside<F: Future<Output = ()> + Send + 'static>(&mut self, task: impl FnOnce(Stop) -> F) {
        self.beside.spawn(task(self.stop.clone()));
    }

    /// Ends it, after saying goodbye to the other end.
    pub async fn close(self) {
        self.end.now();
        self.ended().await;
    }

    /// Waits until it has ended by itself, or has been stopped.
    pub async fn ended(mut self) {
        let _ = self.task.await;
        self.end.now();
        while self.beside.join_next().await.is_some() {}
    }

    /// Ends it without waiting.
    pub fn abort(self) {
        self.task.abort();
    }
}

impl Ports {
    /// No way is open yet. All end with `stop`; files begin to play when `gate` is given; relative
    /// paths count from `base`.
    #[must_use]
    pub fn new(base: &Path, stop: &Stop, gate: &Stop) -> Self {
        let (base, stop, gate) = (base.to_owned(), stop.clone(), gate.clone());
        Self(Arc::new(Inner { base, stop, gate, shared: tokio::sync::Mutex::default() }))
    }

    /// Opens a way.
    ///
    /// # Errors
    /// An address, a group or a file cannot be opened.
    pub fn open(&self, way: ReadyWay) -> BoxFuture<'_, Result<OpenWay, WayError>> {
        Box::pin(async move {
            let (name, link) = (way.way.name.clone(), way.way.link.clone());
            let (end, stop) = self.0.stop.child();
            match self.start(way, stop.clone()).await {
                Ok(task) => Ok(OpenWay { link, end, stop, task, beside: JoinSet::new() }),
                Err(cause) => Err(WayError { name, cause }),
            }
        })
    }

    async fn start(&self, ReadyWay { way, keys }: ReadyWay, stop: Stop) -> Result<JoinHandle<()>, WayCause> {
        let base = &self.0.base;
        match (&way.link, keys) {
            (Link::Rtsp(rtsp), Keys::Rtsp(credentials)) => match way.flow {
                Flow::In(intake) => Ok(spawn_pull(pull_plan(rtsp, credentials, intake, way.status), stop)),
                Flow::Out(outlet) => {
                    let outlet = outlet.into_units(&stop);
                    let addr = resolve(rtsp.host.as_deref(), rtsp.port.unwrap_or(RtspLink::SERVE_PORT)).await?;
                    let own = rtsp.path.trim_matches('/');
                    let plan = ServePlan {
                        path: if own.is_empty() { way.name } else { own.to_owned() },
                        credentials,
                        group: rtsp.group,
                        interface: rtsp.interface,
                        ttl: rtsp.ttl,
                        outlet,
                        status: way.status,
                    };
                    self.serve(addr, plan, stop).await.map_err(|e| WayCause::Open(addr, e))
                }
            },
            (Link::Rtmp(rtmp), Keys::Rtmp { key, login, .. }) if !rtmp.listens => {
                let host = rtmp.host.clone().unwrap_or_default();
                let target = RtmpTarget {
                    server: rtmp.server(&host),
                    host,
                    port: rtmp.port(),
                    app: rtmp.app.clone(),
                    key,
                    login,
                    tls: rtmp.tls,
                    authority: rtmp.authority.as_ref().map(|path| base.join(path)),
                };
                Ok(match way.flow {
                    Flow::In(intake) => spawn_play(PlayPlan { target, intake, status: way.status }, stop),
                    Flow::Out(outlet) => spawn_push(PushPlan { target, outlet: outlet.into_units(&stop), status: way.status }, stop),
                })
            }
            (Link::Rtmp(rtmp), Keys::Rtmp { key, shown, .. }) => {
                let (addr, app) = (resolve(rtmp.host.as_deref(), rtmp.port()).await?, rtmp.app.clone());
                let what = match way.flow {
                    Flow::In(intake) => ForPort::Line(PublishPlan { app, key, intake, status: way.status }),
                    Flow::Out(outlet) => {
                        ForPort::Feed(RtmpServePlan { app, name: key, outlet: outlet.into_units(&stop), status: way.status })
                    }
                };
                self.on_port(addr, what, shown, stop).await.map_err(|e| WayCause::Open(addr, e))
            }
            (Link::Srt(srt), Keys::Srt(config)) if srt.mode == Mode::Listener => {
                let shard = on_shard(way.shard)?;
                let addr = resolve(srt.host.as_deref(), srt.port).await?;
                let plan = ListenPlan {
                    stream: srt.stream_id.clone().map_or(StreamMatch::Any, StreamMatch::Exactly),
                    config: *config,
                    max_callers: if matches!(way.flow, Flow::In(_)) { 1 } else { OUT_CALLERS },
                    flow: way.flow.into_ts()?,
                    status: way.status,
                };
                self.listen(&shard, addr, plan, stop).await.map_err(|e| WayCause::Open(addr, e))
            }
            (Link::Srt(srt), Keys::Srt(config)) => {
                let rendezvous = srt.mode == Mode::Rendezvous;
                let plan = CallPlan {
                    host: srt.host.clone().unwrap_or_default(),
                    port: srt.port,
                    bind: srt.bind.map(|(ip, port)| (ip, port.unwrap_or(if rendezvous { srt.port } else { 0 })).into()),
                    rendezvous,
                    config: *config,
                    flow: way.flow.into_ts()?,
                    status: way.status,
                };
                Ok(spawn_caller(&on_shard(way.shard)?, plan, stop))
            }
            (Link::Rtp(rtp), _) => match way.flow.into_ts()? {
                Flow::In(intake) => spawn_rtp_in(rtp, base, intake, way.status, stop).await,
                Flow::Out(outlet) => {
                    let to = resolve(rtp.host.as_deref(), rtp.port.unwrap_or_default()).await?;
                    spawn_rtp_out(to, rtp.interface, rtp.ttl, outlet, way.status, stop).map_err(|e| WayCause::Open(to, e))
                }
            },
            (Link::Udp(udp), _) => {
                let addr = resolve(udp.host.as_deref(), udp.port).await?;
                let opened = match way.flow.into_ts()? {
                    Flow::In(intake) => spawn_udp_in(addr, udp, intake, way.status, stop),
                    Flow::Out(outlet) => spawn_udp_out(addr, udp, outlet, way.status, stop),
                };
                opened.map_err(|e| WayCause::Open(addr, e))
            }
            (Link::File(file), _) => {
                let path = file.path.as_ref().map(|p| base.join(p));
                let opened = match way.flow.into_ts()? {
                    Flow::In(intake) => {
                        let file = FileLink { path, ..file.clone() };
                        spawn_file_in(&file, intake, way.status, stop, self.0.gate.clone()).await
                    }
                    Flow::Out(outlet) => spawn_file_out(path.as_deref(), outlet, way.status, stop).await,
                };
                Ok(opened?)
            }
            // Whoever knows the lines draws it beside this.
            (Link::Wall(_), _) => {
                let mut stop = stop;
                way.status.set_contact(Contact::Waiting(Waiting::Take));
                Ok(tokio::spawn(async move { stop.wait().await }))
            }
            (Link::Stave(link), _) => {
                let part = way.stave.ok_or(WayCause::NoNode)?;
                Ok(match way.flow {
                    Flow::In(intake) => {
                        let plan = TakePlan {
                            pins: part.pins,
                            interface: part.interface,
                            intake: Some(intake),
                            orders: part.orders,
                            ..TakePlan::of(&part.node, link.clone(), way.status)
                        };
                        spawn_take(plan, stop)
                    }
                    Flow::Out(outlet) => {
                        let outlet = outlet.into_units(&stop);
                        let plan = SourcePlan {
                            name: link.name.clone(),
                            streams: std::iter::once(StreamPlan::Main(outlet)).chain(part.sub.map(StreamPlan::Small)).collect(),
                            camera: part.camera,
                            group: link.multicast.map(|to| GroupPlan { to, interface: part.interface }),
                            carries: part.carries,
                            status: way.status,
                        };
                        part.node.spawn_source(plan, stop)
                    }
                })
            }
            // `Way::ready` fetched the keys by the same link.
            (Link::Srt(_) | Link::Rtsp(_) | Link::Rtmp(_), _) => Err(WayCause::NoKeys),
        }
    }

    /// Listens for callers of a link on a port that other links may use as well.
    async fn listen(&self, shard: &Shard, addr: SocketAddr, plan: ListenPlan, mut stop: Stop) -> io::Result<JoinHandle<()>> {
        let mut shared = self.0.shared.lock().await;
        let port = one_more_use(&mut shared.listeners, addr, &self.0.stop, |stop| Listener::open(shard, addr, stop))?;
        let ports = self.clone();
        let mut link = port.add(plan);
        Ok(tokio::spawn(async move {
            tokio::select! {
                () = link.ended() => {}
                () = stop.wait() => {}
            }
            let mut shared = ports.0.shared.lock().await;
            port.remove(link).await;
            drop(port);
            if let Some(last) = last_use(&mut shared.listeners, addr) {
                last.ended().await;
            }
        }))
    }

    /// Lets a line be published to, or a feed be played, on a port that others may use as well.
    async fn on_port(&self, addr: SocketAddr, what: ForPort, shown: Option<Shown>, mut stop: Stop) -> io::Result<JoinHandle<()>> {
        let mut shared = self.0.shared.lock().await;
        let open = |stop: Stop| RtmpServer::open(addr, shown.clone(), &stop);
        let server = one_more_use(&mut shared.publishers, addr, &self.0.stop, open)?;
        if server.shown() != shown.as_ref() {
            drop((server, last_use(&mut shared.publishers, addr)));
            return Err(io::Error::other("another line or feed waits there with another certificate, or without TLS"));
        }
        let ports = self.clone();
        let (place, runs) = match what {
            ForPort::Line(plan) => (server.add_line(plan), None),
            ForPort::Feed(plan) => {
                let (place, runs) = server.add_feed(plan);
                (place, Some(runs))
            }
        };
        Ok(tokio::spawn(async move {
            let served = async {
                match runs {
                    Some(runs) => runs.await,
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                () = served => {}
                () = stop.wait() => {}
            }
            let mut shared = ports.0.shared.lock().await;
            server.remove(&place);
            drop((server, place));
            if let Some(last) = last_use(&mut shared.publishers, addr) {
                last.ended().await;
            }
        }))
    }

    /// Serves a feed at an address where other feeds may be served as well.
    async fn serve(&self, addr: SocketAddr, plan: ServePlan, stop: Stop) -> io::Result<JoinHandle<()>> {
        let mut shared = self.0.shared.lock().await;
        let server = one_more_use(&mut shared.servers, addr, &self.0.stop, |stop| RtspServer::open(addr, ServerOptions::default(), &stop))?;
        let mut served = match server.add(plan, stop) {
            Ok(served) => served,
            Err(e) => {
                drop(server);
                drop(last_use(&mut shared.servers, addr));
                return Err(e);
            }
        };
        let ports = self.clone();
        Ok(tokio::spawn(async move {
            served.ended().await;
            let mut shared = ports.0.shared.lock().await;
            server.remove(served).await;
            drop(server);
            if let Some(last) = last_use(&mut shared.servers, addr) {
                last.ended().await;
            }
        }))
    }
}

/// What is to be had on a port of RTMP.
enum ForPort {
    Line(PublishPlan),
    Feed(RtmpServePlan),
}

fn on_shard(wanted: Option<Shard>) -> Result<Shard, WayCause> {
    wanted.map_or_else(Shards::pick_of_program, Ok).map_err(WayCause::Thread)
}

/// One way more uses a port, which the first one opens.
fn one_more_use<P>(
    ports: &mut HashMap<SocketAddr, Shared<P>>,
    addr: SocketAddr,
    stop: &Stop,
    open: impl FnOnce(Stop) -> io::Result<P>,
) -> io::Result<Arc<P>> {
    let used = match ports.entry(addr) {
        Entry::Occupied(used) => used.into_mut(),
        Entry::Vacant(place) => {
            let (end, port_stop) = stop.child();
            place.insert(Shared { port: Arc::new(open(port_stop)?), ways: 0, end })
        }
    };
    used.ways += 1;
    Ok(used.port.clone())
}

/// One way less uses a port; gives the port back, told to end, when it was the last.
fn last_use<P>(ports: &mut HashMap<SocketAddr, Shared<P>>, addr: SocketAddr) -> Option<P> {
    let used = ports.get_mut(&addr)?;
    used.ways -= 1;
    if used.ways > 0 {
        return None;
    }
    let used = ports.remove(&addr)?;
    used.end.now();
    Arc::into_inner(used.port)
}

/// Opens all of them; files begin to play when `gate` is given. When one fails, those opened before
/// end.
///
/// # Errors
/// The first that cannot be opened. Secrets are fetched before anything opens.
pub fn open_ways<'a>(
    ways: Vec<Way>,
    default_latency: Duration,
    base: &'a Path,
    stop: &'a Stop,
    gate: &'a Stop,
) -> BoxFuture<'a, Result<Vec<OpenWay>, WayError>> {
    Box::pin(async move {
        let ready: Vec<_> = ways.into_iter().map(|w| w.ready(default_latency, base)).collect::<Result<_, _>>()?;
        let ports = Ports::new(base, stop, gate);
        let mut open = Vec::new();
        for way in ready {
            match ports.open(way).await {
                Ok(way) => open.push(way),
                Err(e) => {
                    open.into_iter().for_each(OpenWay::abort);
                    return Err(e);
                }
            }
        }
        Ok(open)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_window_grows_with_latency_and_rate_up_to_its_cap() {
        let ms = Duration::from_millis;
        assert_eq!(window_for(ms(120), None), 8192);
        assert_eq!(window_for(ms(2000), None), 23_747);
        assert_eq!(window_for(ms(2000), Some(Bitrate(8_000_000))), 8192);
        assert_eq!(window_for(ms(8000), Some(Bitrate(400_000_000))), MAX_WINDOW);
    }
}
