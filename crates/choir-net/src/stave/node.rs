//! A node: one QUIC endpoint that serves this machine's sources and calls other nodes.

use super::{
    StaveError,
    find::LanPlan,
    group_out::GroupOut,
    identity::Identity,
    roster::{Roster, Ways},
    session::{exported, fingerprint_of, words},
    source::GroupPlan,
    tls::{self, Configs},
    units,
};
use crate::{
    clock::unix_ms,
    lock,
    port::{LinkStatus, Stop},
    secrets,
};
use bytes::{Buf, Bytes, BytesMut};
use choir_core::{
    health::Contact,
    stave::{StaveSettings, secured},
    view::TallyView,
};
use choir_proto::stave::{
    CameraAnswer, CameraVerb, Carriage, Catalogue, Hello, Lane, MOVE_MOST_MS, NodeEntry, Nodes, OPEN_GROUP, Offered, PORT, Refusal,
    RefusalCode, SharedKey, SourceOffer, Speaker, SpeakerConfig, SpeakerEvent, StreamOffer, Tally, TallyBook, Track, Unique, VERSION,
    Verdict, frame, same_name,
};
use quinn::{Connection, Endpoint, Incoming, VarInt};
use socket2::{Domain, Protocol, Socket, Type};
use std::{
    collections::BTreeMap,
    io,
    net::{IpAddr, Ipv4Addr, SocketAddr},
    path::Path,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    sync::{Notify, mpsc, oneshot, watch},
    task::JoinHandle,
};

/// Receivers at a time.
const RECEIVERS: usize = 256;
/// Sources of one node: their catalogue fits one message.
const SOURCES: usize = 64;
/// From connection to control stream.
const CONTROL_WITHIN: Duration = Duration::from_secs(3);
/// A receiver that takes no control bytes for so long is gone.
const STUCK: Duration = Duration::from_secs(3);
/// Asked of the system.
const BUFFER: usize = 8 << 20;

/// An order to a camera, and where to say what came of it.
pub type CameraRequest = (CameraVerb, oneshot::Sender<Result<(), String>>);
/// Takes orders to a camera.
pub type CameraDesk = mpsc::Sender<CameraRequest>;

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
    endpoint: Endpoint,
    at: SocketAddr,
    plan: NodePlan,
    machine: Mutex<String>,
    number: String,
    boot: u64,
    sources: Mutex<Sources>,
    receivers: Mutex<BTreeMap<u64, Arc<Receiver>>>,
    next: AtomicU64,
    directory: watch::Sender<BTreeMap<u64, NodeEntry>>,
    keeps_directory: std::sync::atomic::AtomicBool,
    roster: Mutex<Option<Roster>>,
    tasks: Mutex<Vec<JoinHandle<()>>>,
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
    camera: Option<CameraDesk>,
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
}

impl Node {
    /// Opens it.
    ///
    /// # Errors
    /// The port cannot be had.
    pub async fn start(plan: NodePlan, stop: &Stop) -> Result<Self, StaveError> {
        let Configs { endpoint: config, server, client } = tls::configs(&plan.identity)?;
        let socket = match plan.port {
            Some(port) => open((plan.ip, port).into()),
            // The usual one is for networks where a firewall must be told; another serves as well.
            None => open((plan.ip, PORT).into()).or_else(|_| open((plan.ip, 0).into())),
        };
        let wanted = SocketAddr::new(plan.ip, plan.port.unwrap_or(PORT));
        let failed = |e| StaveError::Open(wanted, e);
        let socket = socket.map_err(failed)?;
        let mut endpoint = Endpoint::new(config, Some(server), socket, Arc::new(quinn::TokioRuntime)).map_err(failed)?;
        endpoint.set_default_client_config(client);
        let at = endpoint.local_addr().map_err(failed)?;
        let number = plan.identity.number(&plan.seed);
        let node = Self(Arc::new(Inner {
            endpoint,
            at,
            machine: Mutex::new(plan.machine.clone()),
            number,
            boot: unix_ms(),
            plan,
            sources: Mutex::default(),
            receivers: Mutex::default(),
            next: AtomicU64::new(1),
            directory: watch::channel(BTreeMap::new()).0,
            keeps_directory: false.into(),
            roster: Mutex::default(),
            tasks: Mutex::default(),
        }));
        let task = tokio::spawn(accept(node.clone(), stop.clone()));
        lock(&node.0.tasks).push(task);
        Ok(node)
    }

    /// Opens it by the settings of a sheet whose folder is `base`, and begins to look for other nodes; with `announce` to be found too.
    /// `what` tells it from other nodes of this machine.
    ///
    /// # Errors
    /// As [`NodePlan::of`] and [`Node::start`].
    pub async fn join(
        s: &StaveSettings,
        identity: Identity,
        base: &Path,
        what: &str,
        announce: bool,
        stop: &Stop,
    ) -> Result<Self, StaveError> {
        let seed = format!("{what} {:?} {:?} {:?}", s.machine, s.address, s.port);
        let node = Self::start(NodePlan::of(s, identity, base, &seed)?, stop).await?;
        let lan = s.discover.then(|| LanPlan::by(s.address));
        let ways = Ways { lan, nodes: s.nodes.clone(), directory: s.directory, pins: s.sources.clone(), announce };
        node.seek(ways, stop);
        Ok(node)
    }

    pub(super) fn endpoint(&self) -> &Endpoint {
        &self.0.endpoint
    }

    pub(super) fn key(&self) -> Option<SharedKey> {
        self.0.plan.key.clone()
    }

    pub(super) fn group(&self) -> &str {
        &self.0.plan.group
    }

    /// Where it is.
    #[must_use]
    pub fn at(&self) -> SocketAddr {
        self.0.at
    }

    /// The machine's name, as others see it.
    #[must_use]
    pub fn machine(&self) -> String {
        lock(&self.0.machine).clone()
    }

    pub(super) fn hello(&self) -> Hello {
        Hello {
            versions: vec![VERSION],
            machine: self.machine(),
            node: self.0.number.clone(),
            boot: self.0.boot,
            group: self.0.plan.group.clone(),
            features: ["camera", "multicast", "h264", "h265"].map(str::to_owned).to_vec(),
            proof: None,
        }
    }

    /// What it says of itself.
    #[must_use]
    pub fn entry(&self) -> NodeEntry {
        let Hello { machine, node, boot, group, .. } = self.hello();
        NodeEntry { machine, node, boot, group, at: vec![self.0.at] }
    }

    /// Begins to look for other nodes, and to be found. The roster is the same from then on.
    pub fn seek(&self, ways: Ways, stop: &Stop) -> Roster {
        let roster = Roster::start(self, ways, stop);
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
                    let was = std::mem::replace(&mut *lock(&me.0.machine), name.clone());
                    for s in lock(&me.0.sources).all.values() {
                        s.status.note(true, format!("another machine is called \"{was}\": this one is \"{name}\" on Stave from now on"));
                    }
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

    /// Offers a name. Gives its number and the name that it has got: another one when it was taken.
    #[must_use]
    pub(super) fn add_source(
        &self,
        name: &str,
        camera: Option<CameraDesk>,
        group: Option<&GroupPlan>,
        status: Arc<LinkStatus>,
    ) -> Option<(u64, String)> {
        let group = group.and_then(|g| match GroupOut::open(g) {
            Ok(out) => Some(out),
            Err(e) => {
                status.note(true, format!("the group {} cannot be sent to: {e}", g.to));
                None
            }
        });
        let (id, got) = {
            let mut sources = lock(&self.0.sources);
            if sources.all.len() >= SOURCES {
                return None;
            }
            let got = sources.names.take(name);
            let id = self.0.next.fetch_add(1, Ordering::Relaxed);
            let source = Source {
                name: got.as_str().into(),
                streams: Vec::new(),
                carries: String::new(),
                camera,
                book: TallyBook::default(),
                status: status.clone(),
                group,
                started: None,
            };
            sources.all.insert(id, source);
            (id, got)
        };
        if got != name {
            status.note(true, format!("the Stave name \"{name}\" is taken on this machine: this one is \"{got}\""));
        }
        let url = format!("stave://{}/{got}", self.machine());
        status.update(|l| l.paste = vec![url]);
        self.republish();
        Some((id, got))
    }

    pub(super) fn remove_source(&self, id: u64) {
        {
            let mut sources = lock(&self.0.sources);
            if let Some(s) = sources.all.remove(&id) {
                sources.names.release(&s.name);
            }
        }
        self.republish();
    }

    /// Sets what a source has.
    pub(super) fn set_streams(&self, id: u64, streams: Vec<StreamOffer>, carries: &str) {
        {
            let mut sources = lock(&self.0.sources);
            let Some(s) = sources.all.get_mut(&id) else { return };
            if s.streams == streams && s.carries == carries {
                return;
            }
            s.streams = streams;
            s.carries = carries.to_owned();
            let streams = s.streams.clone();
            if let Some(g) = &mut s.group {
                g.set_offered(&streams);
            }
        }
        self.republish();
    }

    fn everybody(&self) -> Vec<Arc<Receiver>> {
        lock(&self.0.receivers).values().cloned().collect()
    }

    /// What there is, told to all.
    fn republish(&self) {
        let receivers = self.everybody();
        let mut viewers: BTreeMap<String, u32> = BTreeMap::new();
        for r in &receivers {
            if let Some(lane) = lock(&r.speaker).lane() {
                *viewers.entry(lane.wish().source.clone()).or_default() += 1;
            }
        }
        let catalogue = {
            let mut sources = lock(&self.0.sources);
            let offers = sources.all.values_mut().map(|s| {
                let viewers = viewers.get(&*s.name).copied().unwrap_or(0);
                tell_viewers(s, viewers);
                SourceOffer {
                    name: s.name.to_string(),
                    carries: s.carries.clone(),
                    streams: s.streams.clone(),
                    viewers,
                    camera: s.camera.is_some(),
                    tally: s.book.strongest().into(),
                    multicast: s.group.is_some(),
                }
            });
            Catalogue { sources: offers.collect(), secured: secured(self.0.plan.key.is_some(), !self.0.plan.receivers.is_empty()).into() }
        };
        let now = Instant::now();
        for r in receivers {
            lock(&r.speaker).set_catalogue(now, &catalogue);
            r.bell.notify_one();
        }
    }

    /// Hands a unit of a source's stream to all who want it.
    pub(super) fn deliver(&self, id: u64, stream: u8, unit: &Offered, payload: &Bytes) {
        let now = Instant::now();
        let (name, status) = {
            let mut sources = lock(&self.0.sources);
            let Some(s) = sources.all.get_mut(&id) else { return };
            if let Some(g) = &mut s.group {
                g.deliver(now, stream, unit, payload);
            }
            (s.name.clone(), s.status.clone())
        };
        let mut sent = 0;
        for r in self.everybody() {
            let mut speaker = lock(&r.speaker);
            let Some(lane) = speaker.lane().filter(|l| *l.wish().source == *name) else { continue };
            if lane.wish().carriage == Carriage::Multicast && self.in_group(id, lane) {
                continue;
            }
            let before = lane.stream();
            let verdict = lane.offer(now, stream, unit);
            if lane.stream() != before {
                r.bell.notify_one();
            }
            drop(speaker);
            let Verdict::Send { key, head, until } = verdict else { continue };
            sent += 1;
            let payload = payload.clone();
            // Sound is small, and its gaps are heard at once.
            let priority = i32::from(head.track != Track::Picture);
            let status = status.clone();
            tokio::spawn(async move {
                let arrived = units::send(r.conn.clone(), head, payload, until, priority).await;
                let mut speaker = lock(&r.speaker);
                let Some(lane) = speaker.lane() else { return };
                if arrived {
                    lane.done(key);
                } else {
                    tracing::debug!(to = %r.conn.remote_address(), track = ?head.track, number = head.number, "unit cancelled: too late");
                    let before = lane.stream();
                    lane.late(Instant::now(), key);
                    let moved = lane.stream() != before;
                    drop(speaker);
                    status.update(|l| l.counters.send_dropped += 1);
                    if moved {
                        status.note(true, format!("receiver {} does not keep up: it gets a lower grade", r.conn.remote_address()));
                        r.bell.notify_one();
                    }
                }
            });
        }
        if sent > 0 {
            status.update(|l| {
                l.packets += sent;
                l.bytes += sent * payload.len() as u64;
            });
        }
    }

    /// True when what a receiver wants is what its source's group carries.
    fn in_group(&self, id: u64, lane: &Lane) -> bool {
        lock(&self.0.sources).all.get(&id).and_then(|s| s.group.as_ref()).is_some_and(|g| g.carries(lane.stream()))
    }

    fn source_named(&self, name: &str) -> Option<u64> {
        lock(&self.0.sources).all.iter().find(|(_, s)| same_name(&s.name, name)).map(|(id, _)| *id)
    }

    fn say_tally(&self, receiver: u64, name: &str, tally: Tally) {
        let changed = {
            let mut sources = lock(&self.0.sources);
            let Some(s) = sources.all.values_mut().find(|s| same_name(&s.name, name)) else { return };
            let changed = s.book.say(receiver, tally);
            if let Some(t) = changed {
                s.status.set_tally(tally_view(t));
            }
            changed
        };
        if changed.is_some() {
            self.republish();
        }
    }

    fn leave(&self, receiver: u64) {
        lock(&self.0.receivers).remove(&receiver);
        let mut sources = lock(&self.0.sources);
        for s in sources.all.values_mut() {
            if let Some(t) = s.book.leave(receiver) {
                s.status.set_tally(tally_view(t));
            }
        }
        drop(sources);
        self.0.directory.send_if_modified(|d| d.remove(&receiver).is_some());
        self.republish();
    }

    /// From now on nodes that announce themselves here are told of each other.
    pub(super) fn keep_directory(&self) -> watch::Receiver<BTreeMap<u64, NodeEntry>> {
        self.0.keeps_directory.store(true, Ordering::Release);
        self.0.directory.subscribe()
    }

    fn announce(&self, receiver: &Receiver, entry: NodeEntry) {
        if !self.0.keeps_directory.load(Ordering::Acquire) || entry.at.is_empty() || entry.at.len() > 8 {
            return;
        }
        let entry = entry.seen_from(receiver.conn.remote_address().ip());
        self.0.directory.send_modify(|d| drop(d.insert(receiver.id, entry)));
        self.tell_directory();
    }

    fn tell_directory(&self) {
        if !self.0.keeps_directory.load(Ordering::Acquire) {
            return;
        }
        let nodes = Nodes { nodes: self.0.directory.borrow().values().cloned().collect() };
        for r in self.everybody() {
            lock(&r.speaker).nodes(nodes.clone());
            r.bell.notify_one();
        }
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
        self.0.endpoint.close(VarInt::from_u32(0), b"this machine ends its show");
        let _ = tokio::time::timeout(Duration::from_millis(300), self.0.endpoint.wait_idle()).await;
    }
}

/// As the views say it.
pub(super) fn tally_view(t: Tally) -> Option<TallyView> {
    match t {
        Tally::Off => None,
        Tally::Next => Some(TallyView::Next),
        Tally::OnAir => Some(TallyView::OnAir),
    }
}

fn tell_viewers(s: &mut Source, viewers: u32) {
    let ready = !s.streams.is_empty();
    let since = match (ready && viewers > 0, s.started) {
        (true, None) => Some((Instant::now(), unix_ms())),
        (true, kept) => kept,
        (false, _) => None,
    };
    let is_new = since.is_some() && s.started.is_none();
    s.started = since;
    s.status.update(|l| {
        l.how = Some(match viewers {
            0 => "no receiver".into(),
            1 => "1 receiver".into(),
            n => format!("{n} receivers"),
        });
        l.since = since;
        l.sessions += u32::from(is_new);
        l.contact = match (ready, viewers) {
            (false, _) => Contact::Awaited("offered, but its line brings nothing yet".into()),
            (true, 0) => Contact::Awaited("offered, but nobody takes it yet".into()),
            (true, _) => Contact::Up,
        };
    });
}

fn open(at: SocketAddr) -> io::Result<std::net::UdpSocket> {
    let socket = Socket::new(Domain::for_address(at), Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_nonblocking(true)?;
    socket.set_recv_buffer_size(BUFFER)?;
    socket.set_send_buffer_size(BUFFER)?;
    socket.bind(&at.into())?;
    Ok(socket.into())
}

async fn accept(node: Node, mut stop: Stop) {
    loop {
        let incoming = tokio::select! {
            i = node.0.endpoint.accept() => i,
            () = stop.wait() => break,
        };
        let Some(incoming) = incoming else { break };
        if node.0.endpoint.open_connections() > 2 * RECEIVERS && !incoming.remote_address_validated() {
            // Many at once: only those who are where they say they are.
            let _ = incoming.retry();
            continue;
        }
        if node.0.endpoint.open_connections() > 4 * RECEIVERS {
            incoming.refuse();
            continue;
        }
        let (me, stop) = (node.clone(), stop.clone());
        let task = tokio::spawn(async move { me.serve(incoming, stop).await });
        let mut tasks = lock(&node.0.tasks);
        tasks.retain(|t| !t.is_finished());
        tasks.push(task);
    }
}

impl Node {
    async fn serve(&self, incoming: Incoming, mut stop: Stop) {
        let Ok(Ok(conn)) = tokio::time::timeout(CONTROL_WITHIN, async { incoming.accept()?.await }).await else { return };
        let control = tokio::select! {
            c = tokio::time::timeout(CONTROL_WITHIN, conn.accept_bi()) => c,
            () = stop.wait() => return,
        };
        let Ok(Ok((mut send, mut recv))) = control else {
            return conn.close(VarInt::from_u32(1), b"no control stream");
        };
        let Some(exported) = exported(&conn) else { return };
        let pins = &self.0.plan.receivers;
        let known = pins.is_empty() || fingerprint_of(&conn).is_some_and(|f| pins.contains(&f));
        let config = SpeakerConfig { hello: self.hello(), key: self.key(), exported, known };
        let id = self.0.next.fetch_add(1, Ordering::Relaxed);
        let speaker = Mutex::new(Speaker::new(config, Instant::now()));
        let receiver = Arc::new(Receiver { id, conn: conn.clone(), speaker, bell: Notify::new() });
        let admitted = {
            let mut all = lock(&self.0.receivers);
            let room = all.len() < RECEIVERS;
            if room {
                all.insert(id, receiver.clone());
            }
            room
        };
        if !admitted {
            let full = choir_proto::stave::Message::Refuse(Refusal {
                code: RefusalCode::Full,
                why: "as many receivers as can be served are here".into(),
            });
            let _ = send.write_all(&frame(&full)).await;
            let _ = send.finish();
            let _ = tokio::time::timeout(CONTROL_WITHIN, send.stopped()).await;
            return;
        }
        self.republish();
        let mut out = BytesMut::new();
        let why = loop {
            self.pump(&receiver, &mut out);
            let (done, due) = {
                let s = lock(&receiver.speaker);
                (s.is_done(), s.poll_timeout().map(tokio::time::Instant::from_std))
            };
            if done && out.is_empty() {
                let _ = send.finish();
                let _ = tokio::time::timeout(Duration::from_millis(500), send.stopped()).await;
                break String::new();
            }
            tokio::select! {
                written = tokio::time::timeout(STUCK, send.write(&out)), if !out.is_empty() => match written {
                    Ok(Ok(n)) => out.advance(n),
                    _ => break "it takes no control messages".into(),
                },
                read = recv.read_chunk(64 << 10, true) => match read {
                    Ok(Some(chunk)) => {
                        let handled = lock(&receiver.speaker).handle_control(Instant::now(), &chunk.bytes);
                        if let Err(e) = handled {
                            break e.to_string();
                        }
                    }
                    _ => break String::new(),
                },
                () = receiver.bell.notified() => {}
                e = conn.closed() => break words(&e),
                () = tokio::time::sleep_until(due.unwrap_or_else(tokio::time::Instant::now)), if due.is_some() => {
                    let handled = lock(&receiver.speaker).handle_timeout(Instant::now());
                    if let Err(e) = handled {
                        break e.to_string();
                    }
                }
                () = stop.wait() => lock(&receiver.speaker).bye("this machine ends its show"),
            }
        };
        conn.close(VarInt::from_u32(0), why.as_bytes());
        self.leave(id);
        self.tell_directory();
    }

    /// Takes in what a receiver wants, and gathers what it is to be told.
    fn pump(&self, receiver: &Arc<Receiver>, out: &mut BytesMut) {
        let mut viewers_changed = false;
        loop {
            let event = lock(&receiver.speaker).poll_event();
            let Some(event) = event else { break };
            match event {
                SpeakerEvent::Opened(_) => self.tell_directory(),
                SpeakerEvent::Wishes(_) | SpeakerEvent::Enough(_) => viewers_changed = true,
                SpeakerEvent::Tally(name, tally) => self.say_tally(receiver.id, &name, tally),
                SpeakerEvent::Camera(order) => self.order(receiver, order.id, &order.source, order.verb),
                SpeakerEvent::Repair(repair) => self.repair(receiver, &repair),
                SpeakerEvent::Announce(entry) => self.announce(receiver, entry),
                SpeakerEvent::Report(_) | SpeakerEvent::Gone(_) => {}
            }
        }
        if viewers_changed {
            self.republish();
        }
        let mut speaker = lock(&receiver.speaker);
        while let Some(mut play) = speaker.poll_play() {
            let by_group = speaker.lane().is_some_and(|l| l.wish().carriage == Carriage::Multicast);
            if by_group {
                let sources = lock(&self.0.sources);
                let source = sources.all.values().find(|s| *s.name == *play.source);
                play.group = source.and_then(|s| s.group.as_ref()).and_then(|g| g.offer(play.stream.id));
            }
            speaker.play(play);
        }
        while let Some(data) = speaker.poll_control() {
            out.extend_from_slice(&data);
        }
    }

    fn order(&self, receiver: &Arc<Receiver>, id: u32, name: &str, verb: CameraVerb) {
        let desk = self.source_named(name).and_then(|s| lock(&self.0.sources).all.get(&s).and_then(|s| s.camera.clone()));
        let verb = match verb {
            CameraVerb::Move { pan, tilt, zoom, for_ms } => {
                let fits = |v: f64| if v.is_finite() { v.clamp(-1.0, 1.0) } else { 0.0 };
                CameraVerb::Move { pan: fits(pan), tilt: fits(tilt), zoom: fits(zoom), for_ms: for_ms.min(MOVE_MOST_MS) }
            }
            other => other,
        };
        let (tell, told) = oneshot::channel();
        let refused = match desk {
            None => Some("the camera behind this source is not steered by name".to_owned()),
            Some(desk) => desk.try_send((verb, tell)).err().map(|_| "its camera has more orders than it can do".to_owned()),
        };
        let receiver = receiver.clone();
        tokio::spawn(async move {
            let result = match refused {
                Some(why) => Err(why),
                None => told.await.unwrap_or_else(|_| Err("its camera is not there any more".into())),
            };
            let answer = CameraAnswer { id, done: result.is_ok(), why: result.err().unwrap_or_default() };
            lock(&receiver.speaker).answer(answer);
            receiver.bell.notify_one();
        });
    }

    fn repair(&self, receiver: &Arc<Receiver>, repair: &choir_proto::stave::Repair) {
        let wanted = lock(&receiver.speaker).lane().map(|l| l.wish().source.clone());
        let packets = {
            let sources = lock(&self.0.sources);
            let group = wanted.and_then(|w| sources.all.values().find(|s| *s.name == *w)).and_then(|s| s.group.as_ref());
            group.map(|g| g.again(repair)).unwrap_or_default()
        };
        if packets.is_empty() {
            return;
        }
        let conn = receiver.conn.clone();
        tokio::spawn(async move {
            let Ok(mut stream) = conn.open_uni().await else { return };
            // A mark that no unit begins with, then each packet behind its length.
            let mut all = BytesMut::from(&super::take::REPAIR_MARK[..]);
            for p in packets {
                all.extend_from_slice(&(p.len() as u16).to_be_bytes());
                all.extend_from_slice(&p);
            }
            let _ = tokio::time::timeout(Duration::from_millis(500), stream.write_all(&all)).await;
            let _ = stream.finish();
        });
    }
}
