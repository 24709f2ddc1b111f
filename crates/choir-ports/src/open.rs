//! Opens ways in and out as their links say. Listeners on one address share its port.

use super::{
    CallPlan, FileError, Hooks, Intake, LinkStatus, ListenPlan, Outlet, PullPlan, ServePlan, spawn_caller, spawn_file_in, spawn_file_out,
    spawn_listener, spawn_pull, spawn_rtp_in, spawn_rtp_out, spawn_server, spawn_udp_in, spawn_udp_out,
};
use crate::stave::{CameraDesk, GroupPlan, Node, Order, SourcePlan, StaveError, StreamPlan, TakePlan, spawn_take};
use choir_core::{
    link::{Link, Mode, RtspLink, SrtLink},
    units::Bitrate,
};
use choir_host::Stop;
use choir_host::secrets::{self, SecretError};
use choir_proto::rtsp::{Credentials, RtspUrl};
use choir_proto::srt::{Ceiling, KeyLength, LinkConfig, MAX_WINDOW, StreamMatch};
use std::{
    collections::BTreeMap,
    io,
    net::{IpAddr, SocketAddr},
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};
use tokio::{sync::mpsc, task::JoinHandle};

/// Callers that may pull one output from one port.
const OUT_CALLERS: usize = 64;

/// One way in or out, not yet open.
pub struct Way {
    /// `line finish-tower`, for errors.
    pub subject: String,
    /// What it is.
    pub link: Link,
    /// Takes what comes in; a way in has one.
    pub intake: Option<Arc<dyn Intake>>,
    /// Holds what goes out; a way out has one.
    pub outlet: Option<Arc<Outlet>>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
    /// What a named source needs besides.
    pub stave: Option<StaveWay>,
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
    pub sub: Option<Arc<Outlet>>,
    /// What is on a way out, in words.
    pub carries: Option<Arc<dyn Fn() -> String + Send + Sync>>,
    /// Takes orders for the camera behind a way out.
    pub camera: Option<CameraDesk>,
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
#[error("{subject}: {cause}")]
pub struct WayError {
    /// Which way.
    pub subject: String,
    /// Why.
    pub cause: WayCause,
}

/// Why a way cannot be opened.
#[derive(Debug, thiserror::Error)]
pub enum WayCause {
    /// An address cannot be had.
    #[error("cannot open {0}: {1}{hint}", hint = open_hint(.1))]
    Open(SocketAddr, io::Error),
    /// A name cannot be looked up.
    #[error("the name {0} cannot be looked up: {1}")]
    Name(String, io::Error),
    /// A passphrase cannot be had.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// A file cannot be used.
    #[error(transparent)]
    File(#[from] FileError),
    /// Stave cannot be had.
    #[error(transparent)]
    Stave(#[from] StaveError),
    /// Names are not taken here.
    #[error("a Stave name needs a running show: put it into a sheet, then \"choir run\"")]
    NoNode,
    /// A session description cannot be used.
    #[error("the session description {path} cannot be used: {1}", path = .0.display())]
    Description(PathBuf, String),
}

fn open_hint(cause: &io::Error) -> &'static str {
    match cause.kind() {
        io::ErrorKind::AddrInUse => ": another program waits on that port; stop it, or choose another port",
        io::ErrorKind::AddrNotAvailable => ": this machine has no such address; check it against the network settings",
        io::ErrorKind::PermissionDenied => ": not allowed; ports below 1024 need an administrator",
        _ => "",
    }
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

pub(super) async fn resolve(host: Option<&str>, port: u16) -> Result<SocketAddr, WayCause> {
    let Some(host) = host else { return Ok((IpAddr::from([0, 0, 0, 0]), port).into()) };
    let mut found = tokio::net::lookup_host((host, port)).await.map_err(|e| WayCause::Name(host.to_owned(), e))?;
    found.next().ok_or_else(|| WayCause::Name(host.to_owned(), io::Error::other("it has no address")))
}

/// Opens all of them; files begin to play when `gate` is given. When one fails, those opened before end with the error.
///
/// # Errors
/// The first that cannot be opened. Passphrases are fetched before anything opens.
pub async fn open_ways(
    ways: Vec<Way>,
    default_latency: Duration,
    base: &Path,
    stop: &Stop,
    gate: &Stop,
) -> Result<Vec<JoinHandle<()>>, WayError> {
    let mut configs = Vec::new();
    for way in &ways {
        let keys = match &way.link {
            Link::Srt(s) => link_config(s, default_latency, base).map(|c| Keys::Srt(Box::new(c))),
            Link::Rtsp(r) => credentials(r, base).map(Keys::Rtsp),
            _ => Ok(Keys::None),
        };
        configs.push(keys.map_err(|e| WayError { subject: way.subject.clone(), cause: e.into() })?);
    }
    let mut tasks = Vec::new();
    let result = open_each(ways, configs, base, (stop, gate), &mut tasks).await;
    if result.is_err() {
        tasks.iter().for_each(JoinHandle::abort);
    }
    result.map(|()| tasks)
}

/// What a way needs of its secrets.
enum Keys {
    None,
    Srt(Box<LinkConfig>),
    Rtsp(Option<Credentials>),
}

async fn open_each(
    ways: Vec<Way>,
    configs: Vec<Keys>,
    base: &Path,
    (stop, gate): (&Stop, &Stop),
    tasks: &mut Vec<JoinHandle<()>>,
) -> Result<(), WayError> {
    let mut listeners: BTreeMap<SocketAddr, (String, Vec<ListenPlan>)> = BTreeMap::new();
    let mut servers: BTreeMap<SocketAddr, (String, Vec<ServePlan>)> = BTreeMap::new();
    for (way, keys) in ways.into_iter().zip(configs) {
        let subject = way.subject.clone();
        let named = |cause| WayError { subject: subject.clone(), cause };
        match (&way.link, keys) {
            (Link::Rtsp(rtsp), Keys::Rtsp(credentials)) => match (way.intake, way.outlet) {
                (Some(intake), _) => tasks.push(spawn_pull(pull_plan(rtsp, credentials, intake, way.status), stop.clone())),
                (None, Some(outlet)) => {
                    let addr = resolve(rtsp.host.as_deref(), rtsp.port.unwrap_or(RtspLink::SERVE_PORT)).await.map_err(named)?;
                    let own = rtsp.path.trim_matches('/');
                    // "feed boathouse-1" is served as boathouse-1 unless it says otherwise.
                    let path = if own.is_empty() { subject.rsplit(' ').next().unwrap_or_default() } else { own };
                    let plan = ServePlan {
                        path: path.to_owned(),
                        credentials,
                        group: rtsp.group,
                        interface: rtsp.interface,
                        ttl: rtsp.ttl,
                        outlet,
                        status: way.status,
                    };
                    servers.entry(addr).or_insert_with(|| (subject, Vec::new())).1.push(plan);
                }
                (None, None) => {}
            },
            (Link::Rtp(rtp), _) => match (way.intake, way.outlet) {
                (Some(intake), _) => {
                    tasks.push(spawn_rtp_in(rtp, base, intake, way.status, stop.clone()).await.map_err(named)?);
                }
                (None, Some(outlet)) => {
                    let to = resolve(rtp.host.as_deref(), rtp.port.unwrap_or_default()).await.map_err(named)?;
                    let opened = spawn_rtp_out(to, rtp.interface, rtp.ttl, outlet, way.status, stop.clone());
                    tasks.push(opened.map_err(|e| named(WayCause::Open(to, e)))?);
                }
                (None, None) => {}
            },
            (Link::Srt(srt), Keys::Srt(config)) if srt.mode == Mode::Listener => {
                let addr = resolve(srt.host.as_deref(), srt.port).await.map_err(named)?;
                let plan = ListenPlan {
                    stream: srt.stream_id.clone().map_or(StreamMatch::Any, StreamMatch::Exactly),
                    config: *config,
                    max_callers: if way.intake.is_some() { 1 } else { OUT_CALLERS },
                    intake: way.intake,
                    outlet: way.outlet,
                    status: way.status,
                };
                listeners.entry(addr).or_insert_with(|| (subject, Vec::new())).1.push(plan);
            }
            (Link::Srt(srt), Keys::Srt(config)) => {
                let rendezvous = srt.mode == Mode::Rendezvous;
                let plan = CallPlan {
                    host: srt.host.clone().unwrap_or_default(),
                    port: srt.port,
                    bind: srt.bind.map(|(ip, port)| (ip, port.unwrap_or(if rendezvous { srt.port } else { 0 })).into()),
                    rendezvous,
                    config: *config,
                    intake: way.intake,
                    outlet: way.outlet,
                    status: way.status,
                };
                tasks.push(spawn_caller(plan, stop.clone()));
            }
            (Link::Udp(udp), _) => {
                let addr = resolve(udp.host.as_deref(), udp.port).await.map_err(named)?;
                let opened = match (way.intake, way.outlet) {
                    (Some(intake), _) => spawn_udp_in(addr, udp, intake, way.status, stop.clone()),
                    (None, Some(outlet)) => spawn_udp_out(addr, udp, outlet, way.status, stop.clone()),
                    (None, None) => continue,
                };
                tasks.push(opened.map_err(|e| named(WayCause::Open(addr, e)))?);
            }
            (Link::File(file), _) => {
                let path = file.path.as_ref().map(|p| base.join(p));
                let opened = match (way.intake, way.outlet) {
                    (Some(intake), _) => spawn_file_in(path.as_deref(), file.repeat, intake, way.status, stop.clone(), gate.clone()).await,
                    (None, Some(outlet)) => spawn_file_out(path.as_deref(), outlet, way.status, stop.clone()).await,
                    (None, None) => continue,
                };
                tasks.push(opened.map_err(|e| named(e.into()))?);
            }
            (Link::Stave(link), _) => {
                let part = way.stave.ok_or_else(|| named(WayCause::NoNode))?;
                match (way.intake, way.outlet) {
                    (Some(intake), _) => tasks.push(spawn_take(
                        TakePlan {
                            pins: part.pins,
                            interface: part.interface,
                            intake: Some(intake),
                            orders: part.orders,
                            ..TakePlan::of(&part.node, link.clone(), way.status)
                        },
                        stop.clone(),
                    )),
                    (None, Some(outlet)) => tasks.push(part.node.spawn_source(
                        SourcePlan {
                            name: link.name.clone(),
                            streams: std::iter::once(StreamPlan::Main(outlet)).chain(part.sub.map(StreamPlan::Small)).collect(),
                            camera: part.camera,
                            group: link.multicast.map(|to| GroupPlan { to, interface: part.interface }),
                            carries: part.carries,
                            status: way.status,
                        },
                        stop.clone(),
                    )),
                    (None, None) => {}
                }
            }
            (Link::Srt(_) | Link::Rtsp(_), _) => {}
        }
    }
    for (addr, (subject, plans)) in listeners {
        let opened = spawn_listener(addr, plans, stop.clone());
        tasks.push(opened.map_err(|e| WayError { subject, cause: WayCause::Open(addr, e) })?.task);
    }
    for (addr, (subject, plans)) in servers {
        let opened = spawn_server(addr, plans, Hooks::default(), stop);
        tasks.extend(opened.map_err(|e| WayError { subject, cause: WayCause::Open(addr, e) })?.tasks);
    }
    Ok(())
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
