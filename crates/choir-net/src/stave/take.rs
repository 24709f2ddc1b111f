//! A line from a named source: found, asked for, put in order, handed on as a transport stream; followed
//! wherever it goes.

use super::{
    fault_of,
    node::Node,
    plain_name,
    roster::NodeState,
    session::{Failed, Session},
    units::{self, Arrived, UnitTap},
};
use crate::{
    clock::unix_ms,
    port::{Intake, LinkStatus, Stop, UdpPort},
};
use bytes::{Bytes, BytesMut};
use choir_core::{
    health::{Contact, Fault},
    link::StaveLink,
    spelling::nearest,
    view::TallyView,
};
use choir_proto::{
    audio::{AacConfig, PCM_CHANNELS, st302_channels},
    h26x::start_code,
    media::{Codec, MediaUnit},
    remux::{Remux, RemuxTrack},
    stave::{
        CameraAnswer, CameraVerb, Carriage, Catalogue, Grade, GroupOffer, GroupReader, ListenerEvent, Ordered, Play, RefusalCode,
        StreamOffer, Tally, Track, UnitHead, UnitOrder, Wish, same_name,
    },
};
use quinn::RecvStream;
use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, oneshot},
    task::{JoinHandle, JoinSet},
};

/// Begins a stream that carries packets of a group again, instead of a unit.
pub(super) const REPAIR_MARK: [u8; 4] = [0xFE, b'R', b'E', b'P'];
/// Age at which a picture is of no use, unless said.
const PATIENCE: Duration = Duration::from_millis(200);
/// How long a unit is waited for that was overtaken.
const HOLD: Duration = Duration::from_millis(40);
/// What the clock of the transport stream runs behind.
const LEAD: Duration = Duration::from_millis(60);
const AGAIN: Duration = Duration::from_millis(300);
const AGAIN_REFUSED: Duration = Duration::from_secs(3);
/// Units being read at a time.
const READS: usize = 600;
/// Bytes of one repair.
const REPAIR_BYTES: usize = 16 << 20;

/// An order to the camera behind a source, and where its answer goes.
pub type Order = (CameraVerb, oneshot::Sender<CameraAnswer>);

/// A source to take.
pub struct TakePlan {
    /// This machine.
    pub node: Node,
    /// Which.
    pub link: StaveLink,
    /// Certificates that it must have; empty takes any.
    pub pins: Vec<String>,
    /// Own address by which a group is joined.
    pub interface: Option<IpAddr>,
    /// Takes the transport stream.
    pub intake: Option<Arc<dyn Intake>>,
    /// Takes units as they are, in order.
    pub tap: Option<UnitTap>,
    /// Orders for its camera.
    pub orders: Option<mpsc::Receiver<Order>>,
    /// How it stands; its tally is what is said to the source.
    pub status: Arc<LinkStatus>,
}

/// Takes it until `stop`.
pub fn spawn_take(plan: TakePlan, mut stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let mut take = Taker { told: String::new(), plan };
        while !stop.is_set() {
            if take.plan.status.is_held() {
                take.plan.status.update(|l| (l.contact, l.since) = (Contact::Held, None));
                tokio::select! {
                    () = take.plan.status.woken() => {}
                    () = stop.wait() => return,
                }
                continue;
            }
            let found = tokio::select! {
                found = take.find() => found,
                () = take.plan.status.woken() => continue,
                () = stop.wait() => return,
            };
            let ended = take.attend(found, &mut stop).await;
            let Some(failed) = ended else { continue };
            let refused = matches!(failed.fault, Some(Fault::Passphrase | Fault::Login | Fault::Refused));
            take.lost(failed);
            tokio::select! {
                () = tokio::time::sleep(if refused { AGAIN_REFUSED } else { AGAIN }) => {}
                () = take.plan.status.woken() => {}
                () = stop.wait() => return,
            }
        }
    })
}

/// Where a source is.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Found {
    at: SocketAddr,
    node: Option<(String, u64)>,
}

struct Taker {
    plan: TakePlan,
    /// What was told last: the same is not told again.
    told: String,
}

impl Taker {
    fn lost(&mut self, failed: Failed) {
        if self.told != failed.why {
            self.plan.status.note(true, failed.why.clone());
            self.told.clone_from(&failed.why);
        }
        self.plan.status.set_lost(failed.fault, failed.why);
        self.plan.status.update(|l| l.since = None);
    }

    /// Where the name is to be had now.
    fn look(&self) -> Result<Found, String> {
        let link = &self.plan.link;
        if let Some(at) = link.at() {
            return Ok(Found { at, node: None });
        }
        let Some(roster) = self.plan.node.roster() else { return Err("names are not sought: [stave] says so".into()) };
        let (place, count) = roster.place_of(&link.name, link.machine.as_deref());
        if let Some(k) = place {
            if count > 1 {
                let what = format!(
                    "{count} machines offer \"{}\": taken from {}; write stave://MACHINE/{} to choose",
                    link.name, k.entry.machine, link.name
                );
                self.plan.status.note(true, what);
            }
            return Ok(Found { at: k.at, node: Some((k.entry.node, k.entry.boot)) });
        }
        let known = roster.known();
        let of_machine = |k: &&super::roster::Known| link.machine.as_ref().is_none_or(|m| same_name(m, &k.entry.machine));
        let shut: Vec<String> = known
            .iter()
            .filter(of_machine)
            .filter_map(|k| match &k.state {
                NodeState::Closed(_, why) => Some(format!("{} ({}): {why}", k.entry.machine, k.at)),
                _ => None,
            })
            .collect();
        let seen = known.iter().filter(|k| matches!(k.state, NodeState::Open(_))).count();
        let whose = link.machine.as_ref().map_or_else(String::new, |m| format!(" of machine \"{m}\""));
        let seen_none = seen == 0;
        let seen = if roster.has_no_network() { "no network interface is up".into() } else { format!("{seen} seen") };
        let names: Vec<String> = known.iter().filter(of_machine).flat_map(|k| k.sources()).map(|s| plain_name(&s.name)).collect();
        let mut why = format!("no machine offers \"{}\"{whose} yet ({seen})", link.name);
        if let Some(near) = nearest(&link.name, names.iter().map(String::as_str)) {
            why = format!("{why}; there is \"{near}\"");
        }
        if let Some(first) = shut.first() {
            why = format!("{why}; not seen into: {first}");
        }
        let groups = roster.other_groups();
        if seen_none && !groups.is_empty() {
            why = format!("{why}; other groups are here: {}", groups.join(", "));
        }
        Err(why)
    }

    /// The node that is taken from is elsewhere now, or was started anew. Another one that offers the same is no reason to go.
    fn has_moved(&self, found: &Found) -> bool {
        let (Some((node, boot)), Some(roster)) = (&found.node, self.plan.node.roster()) else { return false };
        roster.known().iter().any(|k| k.entry.node == *node && (k.at != found.at || k.entry.boot != *boot))
    }

    async fn find(&self) -> Found {
        let mut bell = self.plan.node.roster().map(|r| r.bell());
        loop {
            match self.look() {
                Ok(found) => return found,
                Err(why) => absent(&self.plan.status, why),
            }
            match &mut bell {
                Some(b) => drop(b.changed().await),
                None => std::future::pending().await,
            }
        }
    }

    fn wish(&self) -> Wish {
        let link = &self.plan.link;
        Wish {
            source: link.name.clone(),
            grade: link.grade.as_deref().and_then(Grade::from_word),
            patience: link.patience.unwrap_or(PATIENCE),
            codecs: ["h264", "h265"].map(str::to_owned).to_vec(),
            carriage: if link.by_group { Carriage::Multicast } else { Carriage::Streams },
        }
    }

    /// Takes from there; `None` when held, stopped, or to be had elsewhere.
    async fn attend(&mut self, found: Found, stop: &mut Stop) -> Option<Failed> {
        self.plan.status.set_contact(Contact::Greeting(format!("calling {}", found.at)));
        self.plan.status.update(|l| l.peer = Some(found.at));
        let mut session = tokio::select! {
            s = Session::open(&self.plan.node, found.at, &self.plan.pins) => match s {
                Ok(s) => s,
                Err(f) => return Some(f),
            },
            () = stop.wait() => return None,
        };
        // Whoever only steers loads no network.
        if self.plan.intake.is_some() || self.plan.tap.is_some() {
            session.listener.wish(self.wish());
        }
        let mut tally = self.plan.status.tally();
        session.listener.tally(&self.plan.link.name, said(*tally.borrow_and_update()));
        let mut stream = Incoming::new(self);
        let mut bell = self.plan.node.roster().map(|r| r.bell());
        let conn = session.conn.clone();
        let mut reads: JoinSet<Option<Came>> = JoinSet::new();
        let mut answers: Vec<(u32, oneshot::Sender<CameraAnswer>)> = Vec::new();
        let failed = loop {
            while let Some(event) = session.listener.poll_event() {
                match event {
                    ListenerEvent::Opened(hello) => {
                        let how = plain_name(&hello.machine);
                        self.plan.status.set_contact(Contact::Greeting(format!("asking {how} for \"{}\"", self.plan.link.name)));
                        stream.machine = how;
                    }
                    ListenerEvent::Play(play) => stream.play(&self.plan, play),
                    ListenerEvent::Camera(answer) => {
                        if let Some(i) = answers.iter().position(|a| a.0 == answer.id) {
                            let _ = answers.swap_remove(i).1.send(answer);
                        }
                    }
                    ListenerEvent::Refused(r) if r.code == RefusalCode::Name => {
                        let why = format!("{} has no \"{}\" now", stream.machine, self.plan.link.name);
                        absent(&self.plan.status, why);
                    }
                    ListenerEvent::Refused(r) => stream.failed = Some(Failed::new(Some(fault_of(r.code)), plain_name(&r.why))),
                    ListenerEvent::Gone(why) => stream.failed = Some(Failed::new(Some(Fault::Gone), plain_name(&why))),
                    ListenerEvent::Catalogue(c) => stream.catalogue(&self.plan, &c),
                    ListenerEvent::Nodes(_) => {}
                }
            }
            if let Some(f) = stream.failed.take() {
                break Some(f);
            }
            stream.flush(&self.plan, &mut session, &mut self.told);
            let due = stream.due().map(tokio::time::Instant::from_std);
            tokio::select! {
                turned = session.turn() => if let Err(f) = turned {
                    break Some(f);
                },
                uni = conn.accept_uni(), if reads.len() < READS => match uni {
                    Ok(recv) => drop(reads.spawn(read(recv))),
                    Err(e) => break Some(Failed::new(Some(Fault::Gone), super::session::words(&e))),
                },
                Some(came) = reads.join_next() => match came {
                    Ok(Some(Came::Unit(u))) => stream.unit(u),
                    Ok(Some(Came::Packets(all))) => stream.packets(&all),
                    _ => {}
                },
                packets = stream.group_readable() => if packets {
                    stream.drain_group();
                },
                changed = tally.changed() => if changed.is_ok() {
                    session.listener.tally(&self.plan.link.name, said(*tally.borrow_and_update()));
                },
                order = next_order(&mut self.plan.orders) => {
                    let id = session.listener.camera(&self.plan.link.name, order.0);
                    answers.push((id, order.1));
                    answers.retain(|a| !a.1.is_closed());
                }
                () = elsewhere(&mut bell) => if self.has_moved(&found) {
                    break None;
                },
                () = self.plan.status.woken() => if self.plan.status.is_held() {
                    break None;
                },
                () = tokio::time::sleep_until(due.unwrap_or_else(tokio::time::Instant::now)), if due.is_some() => {}
                () = stop.wait() => break None,
            }
        };
        reads.abort_all();
        if failed.is_none() {
            session.end("the receiver goes").await;
        }
        self.plan.status.update(|l| l.since = None);
        failed
    }
}

/// A source that has not been there yet is awaited; one that was is missed.
fn absent(status: &LinkStatus, why: String) {
    if status.look().sessions > 0 {
        status.set_lost(Some(Fault::Gone), why);
    } else {
        status.set_contact(Contact::Awaited(why));
    }
}

async fn elsewhere(bell: &mut Option<tokio::sync::watch::Receiver<u64>>) {
    let told = match bell {
        Some(b) => b.changed().await.is_ok(),
        None => false,
    };
    if !told {
        std::future::pending::<()>().await;
    }
}

async fn next_order(orders: &mut Option<mpsc::Receiver<Order>>) -> Order {
    match orders {
        Some(o) => match o.recv().await {
            Some(order) => order,
            None => std::future::pending().await,
        },
        None => std::future::pending().await,
    }
}

fn said(tally: Option<TallyView>) -> Tally {
    match tally {
        None => Tally::Off,
        Some(TallyView::Next) => Tally::Next,
        Some(TallyView::OnAir) => Tally::OnAir,
    }
}

/// What a stream brought.
enum Came {
    Unit(Arrived),
    Packets(Vec<u8>),
}

async fn read(mut recv: RecvStream) -> Option<Came> {
    let first = recv.read_chunk(4, true).await.ok()??;
    if first.bytes[..] == REPAIR_MARK {
        return recv.read_to_end(REPAIR_BYTES).await.ok().map(Came::Packets);
    }
    units::receive(first.bytes, recv).await.map(Came::Unit)
}

/// What comes of one connection.
struct Incoming {
    order: UnitOrder<Arrived>,
    group: Option<(GroupReader, UdpPort)>,
    play: Option<Play>,
    remux: Option<Remux>,
    out: Vec<u8>,
    session: Option<u32>,
    machine: String,
    /// Missing units that have been counted.
    counted: u64,
    facts: String,
    failed: Option<Failed>,
    arena: BytesMut,
}

impl Incoming {
    fn new(t: &Taker) -> Self {
        Self {
            order: UnitOrder::new(HOLD.min(t.plan.link.patience.unwrap_or(HOLD))),
            group: None,
            play: None,
            remux: None,
            out: Vec::new(),
            session: None,
            machine: String::new(),
            counted: 0,
            facts: String::new(),
            failed: None,
            arena: BytesMut::new(),
        }
    }

    fn play(&mut self, plan: &TakePlan, play: Play) {
        let now = Instant::now();
        if self.play.is_some() && play.why == "slow" {
            let what = format!("this end does not keep up: \"{}\" comes in the grade {} from now on", play.source, play.stream.grade);
            plan.status.note(true, what);
        }
        // Another kind of stream is a new start for those who take it.
        let kind = |p: &Play| (p.stream.codec.clone(), p.stream.size, p.stream.sound.clone(), p.stream.id);
        if self.play.as_ref().map(kind) != Some(kind(&play)) {
            (self.remux, self.session) = (None, None);
            if let Some(sound) = play.stream.sound.as_ref().filter(|s| s.codec == "pcm" && s.channels > st302_channels(s.channels)) {
                let carried = st302_channels(sound.channels);
                plan.status
                    .note(true, format!("its sound has {} channels: a transport stream carries the first {carried}", sound.channels));
            }
        }
        self.group = play.group.as_ref().and_then(|g| match open_group(g, plan) {
            Ok(group) => Some(group),
            Err(why) => {
                plan.status.note(true, format!("the group {} cannot be heard: {why}; write carriage = streams", g.to));
                None
            }
        });
        match play.group.as_ref().filter(|_| self.group.is_some()) {
            Some(g) => self.order.turn(now, g.turn.into(), play.stream.grade, true),
            None => self.order.turn(now, play.turn, play.stream.grade, false),
        }
        self.play = Some(play);
        self.tell_how(plan);
    }

    /// A source that has gone, or brings nothing, is awaited.
    fn catalogue(&mut self, plan: &TakePlan, c: &Catalogue) {
        let name = &plan.link.name;
        let source = c.sources.iter().find(|s| same_name(&s.name, name));
        let why = match source {
            None => format!("{} has no \"{name}\" now", self.machine),
            Some(s) if s.streams.is_empty() => format!("\"{name}\" is offered by {}, but nothing comes in there", self.machine),
            Some(_) => return,
        };
        // Its clock stops with it.
        (self.session, self.remux) = (None, None);
        self.out.clear();
        plan.status.update(|l| l.since = None);
        absent(&plan.status, why);
    }

    fn unit(&mut self, unit: Arrived) {
        self.order.push(unit.at, unit.head, unit);
    }

    fn packets(&mut self, mut all: &[u8]) {
        let Some((reader, _)) = &mut self.group else { return };
        let now = Instant::now();
        while let [a, b, rest @ ..] = all {
            let len = usize::from(u16::from_be_bytes([*a, *b]));
            let Some(packet) = rest.get(..len) else { return };
            reader.handle_packet(now, packet);
            all = &rest[len..];
        }
    }

    async fn group_readable(&self) -> bool {
        match &self.group {
            Some((_, socket)) => socket.readable().await.is_ok(),
            None => std::future::pending().await,
        }
    }

    fn drain_group(&mut self) {
        let Some((reader, socket)) = &mut self.group else { return };
        let mut got = Vec::new();
        socket.drain(&mut self.arena, &mut got);
        let now = Instant::now();
        for (_, data) in got {
            reader.handle_packet(now, &data);
        }
    }

    fn due(&self) -> Option<Instant> {
        let remux = self.remux.as_ref().and_then(Remux::poll_timeout);
        let group = self.group.as_ref().and_then(|(g, _)| g.poll_timeout());
        [self.order.poll_timeout(), remux, group].into_iter().flatten().min()
    }

    /// Hands on what is in order.
    fn flush(&mut self, plan: &TakePlan, session: &mut Session, told: &mut String) {
        let now = Instant::now();
        if let Some((reader, _)) = &mut self.group {
            reader.handle_timeout(now);
            while let Some(whole) = reader.poll_unit() {
                let data = Bytes::from(whole);
                if let Ok((head, at)) = UnitHead::read(&data)
                    && data.len() - at == head.size as usize
                {
                    self.order.push(now, head, Arrived { head, data: data.slice(at..), at: now });
                }
            }
            if let Some(repair) = reader.poll_repair(now) {
                session.listener.repair(repair);
            }
        }
        self.order.handle_timeout(now);
        while let Some(unit) = self.order.poll() {
            if unit.gap {
                tracing::debug!(track = ?unit.head.track, number = unit.head.number, waited = ?unit.data.at.elapsed(), "units before this one are missing");
            }
            session.listener.note(1, 0, unit.data.data.len() as u64);
            plan.status.update(|l| {
                l.counters.received += 1;
                l.counters.received_bytes += unit.data.data.len() as u64;
            });
            if plan.intake.is_none() {
                self.open_session(plan, told);
            }
            if let Some(tap) = &plan.tap {
                // Whoever measured may have gone.
                let _ = tap.send(unit.clone());
            }
            self.hand_on(plan, now, &unit);
        }
        if let Some(remux) = &mut self.remux {
            remux.handle_timeout(now, &mut self.out);
        }
        if !self.out.is_empty()
            && let Some(intake) = &plan.intake
        {
            let session = self.open_session(plan, told);
            intake.push(session, Bytes::from(std::mem::take(&mut self.out)));
        }
        self.count(plan, session);
    }

    fn hand_on(&mut self, plan: &TakePlan, now: Instant, unit: &Ordered<Arrived>) {
        let Some(play) = &self.play else { return };
        let head = &unit.head;
        if head.track == Track::Facts {
            let fact = serde_json::from_slice::<serde_json::Value>(&unit.data.data).ok();
            let facts = fact.and_then(|f| f["carries"].as_str().map(plain_name)).unwrap_or_default();
            if self.facts != facts {
                self.facts = facts;
                self.tell_how(plan);
            }
            return;
        }
        if self.remux.is_none() {
            // Begun by a picture; sound that was announced is in it, though it may not have come yet.
            if head.track != Track::Picture {
                return;
            }
            self.remux = Some(Remux::new(&tracks(&play.stream), LEAD));
        }
        let Some(remux) = &mut self.remux else { return };
        let is_h265 = play.stream.codec == "h265";
        let pieces = if head.track == Track::Picture { pieces(&unit.data.data, is_h265) } else { vec![unit.data.data.clone()] };
        let media = MediaUnit {
            track: head.track as usize,
            pts: head.pts.rem_euclid(choir_proto::ts::PTS_WRAP as i64) as u64,
            keyframe: head.keyframe,
            damaged: false,
            arrived: unit.data.at,
            pieces,
        };
        remux.push(now, &media, &mut self.out);
    }

    fn open_session(&mut self, plan: &TakePlan, told: &mut String) -> u32 {
        if let Some(session) = self.session {
            return session;
        }
        let mut session = 0;
        plan.status.update(|l| {
            l.sessions += 1;
            session = l.sessions;
            l.since = Some((Instant::now(), unix_ms()));
            l.contact = Contact::Up;
            l.fault = None;
        });
        told.clear();
        self.session = Some(session);
        session
    }

    /// Says in words how it comes.
    fn tell_how(&self, plan: &TakePlan) {
        let Some(play) = &self.play else { return };
        let by = if self.group.is_some() { "by group" } else { "by QUIC" };
        let carries = if self.facts.is_empty() { String::new() } else { format!(", carries {}", self.facts) };
        plan.status.update(|l| l.how = Some(format!("{} from {}, {by}{carries}", play.stream.grade, self.machine)));
    }

    fn count(&mut self, plan: &TakePlan, session: &mut Session) {
        let (_, missing, _) = self.order.counts();
        let group = self.group.as_ref().map(|(g, _)| g.stats());
        let new = missing - self.counted;
        if new > 0 {
            session.listener.note(0, new, 0);
        }
        self.counted = missing;
        plan.status.update(|l| {
            l.counters.skipped += new;
            l.counters.lost += new;
            if let Some(g) = group {
                l.counters.recovered = g.repaired;
            }
            l.rtt = Some(session.conn.rtt());
        });
    }
}

fn open_group(offer: &GroupOffer, plan: &TakePlan) -> Result<(GroupReader, UdpPort), String> {
    if !offer.to.ip().is_multicast() {
        return Err("it is no group".into());
    }
    let patience = plan.link.patience.unwrap_or(PATIENCE);
    let reader = GroupReader::new(offer, patience).ok_or("its key is not readable")?;
    let socket = UdpPort::join(offer.to, None, plan.interface).map_err(|e| e.to_string())?;
    Ok((reader, socket))
}

fn tracks(stream: &StreamOffer) -> Vec<RemuxTrack> {
    let picture = if stream.codec == "h265" { Codec::H265 } else { Codec::H264 };
    let mut tracks = vec![RemuxTrack { track: Track::Picture as usize, codec: picture }];
    if let Some(sound) = &stream.sound {
        let (sample_rate, channels) = (sound.sample_rate, sound.channels.min(PCM_CHANNELS));
        let codec = match sound.codec.as_str() {
            "aac" => Some(Codec::Aac(AacConfig { object_type: 2, sample_rate, channels, frame_samples: 1024 })),
            "pcm" if channels > 0 => Some(Codec::Pcm(channels)),
            _ => None,
        };
        tracks.extend(codec.map(|codec| RemuxTrack { track: Track::Sound as usize, codec }));
    }
    tracks
}

/// Cuts the head of a picture into its NAL units, start codes apart, without the delimiter: as [`MediaUnit`] wants
/// them. The picture itself stays whole.
fn pieces(data: &Bytes, is_h265: bool) -> Vec<Bytes> {
    let mut out = Vec::new();
    let mut at = 0;
    while let Some((code, after)) = start_code(&data[at..]) {
        let nal_at = at + after;
        let Some(first) = data.get(nal_at).copied() else { break };
        let (delimiter, picture) = if is_h265 {
            let kind = first >> 1 & 0x3F;
            (kind == 35, kind < 32)
        } else {
            let kind = first & 0x1F;
            (kind == 9, (1..=5).contains(&kind))
        };
        if picture {
            out.push(data.slice(at + code..nal_at));
            out.push(data.slice(nal_at..));
            return out;
        }
        let next = start_code(&data[nal_at..]).map_or(data.len(), |(n, _)| nal_at + n);
        // A zero before the next start code belongs to that.
        let end = if next < data.len() && data[next - 1] == 0 { next - 1 } else { next };
        if !delimiter {
            out.push(Bytes::from_static(&[0, 0, 0, 1]));
            out.push(data.slice(nal_at..end));
        }
        at = next;
    }
    out
}
