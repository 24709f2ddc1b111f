//! One named source: a feed's transport stream becomes access units, once for all receivers.

use super::node::{CameraDesk, Node};
use crate::{
    clock::unix_us,
    port::{LinkStatus, Outlet, Stop, UdpPort},
};
use bytes::Bytes;
use choir_proto::{
    audio::AacConfig,
    srt::Transmit,
    stave::{Ask, Carriage, Grade, GroupOffer, GroupWriter, Lane, Offered, Repair, SoundOffer, StreamOffer, Timecode, Track, Verdict},
    ts::{AccessUnit, Depth, LongPts, StreamKind, TsReader},
};
use std::{
    collections::VecDeque,
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::task::JoinHandle;

/// Pictures by which a stream is known to be intra or not.
const JUDGED: u32 = 3;
/// Pictures in a row that all decode by themselves, after which a stream that was not is intra.
const TURNED_INTRA: u32 = 50;
/// A stream that brings nothing for so long is offered no more.
const QUIET: Duration = Duration::from_secs(2);
/// Between two measurements of the bitrate.
const MEASURE: Duration = Duration::from_secs(1);
/// The main stream and the sub stream.
const MAIN: u8 = 0;
const SUB: u8 = 1;

/// A group to send to as well.
#[derive(Debug, Clone)]
pub struct GroupPlan {
    /// Where.
    pub to: SocketAddr,
    /// Own address by which it is sent.
    pub interface: Option<IpAddr>,
}

/// A source to be offered.
pub struct SourcePlan {
    /// Its name.
    pub name: String,
    /// Transport stream for the main stream.
    pub main: Arc<Outlet>,
    /// And for the sub stream.
    pub sub: Option<Arc<Outlet>>,
    /// Takes orders for the camera.
    pub camera: Option<CameraDesk>,
    /// Also to a group.
    pub group: Option<GroupPlan>,
    /// What is on it, in words; asked now and then.
    pub carries: Option<Arc<dyn Fn() -> String + Send + Sync>>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

impl Node {
    /// Offers a source until `stop`.
    pub fn spawn_source(&self, plan: SourcePlan, mut stop: Stop) -> JoinHandle<()> {
        let node = self.clone();
        tokio::spawn(async move {
            let Some((id, _)) = node.add_source(&plan.name, plan.camera, plan.group.as_ref(), plan.status.clone()) else {
                return plan.status.note(true, "this machine offers as many names as one can".into());
            };
            let mut feeder = Feeder { node: node.clone(), id, streams: Vec::new(), facts: String::new() };
            feeder.streams.push(Stream::new(MAIN));
            if plan.sub.is_some() {
                feeder.streams.push(Stream::new(SUB));
            }
            let (mut taken, mut tick) = (VecDeque::new(), tokio::time::interval(MEASURE / 2));
            loop {
                tokio::select! {
                    () = plan.main.filled() => feeder.take(0, &plan.main, &mut taken),
                    () = filled(plan.sub.as_deref()) => if let Some(sub) = &plan.sub {
                        feeder.take(1, sub, &mut taken);
                    },
                    _ = tick.tick() => {
                        feeder.facts = plan.carries.as_ref().map_or_else(String::new, |c| c());
                        feeder.measure();
                    }
                    () = stop.wait() => break,
                }
                if plan.main.has_ended() {
                    break;
                }
            }
            node.remove_source(id);
        })
    }
}

async fn filled(outlet: Option<&Outlet>) {
    match outlet {
        Some(o) => o.filled().await,
        None => std::future::pending().await,
    }
}

struct Feeder {
    node: Node,
    id: u64,
    streams: Vec<Stream>,
    facts: String,
}

impl Feeder {
    fn take(&mut self, n: usize, outlet: &Outlet, taken: &mut VecDeque<Bytes>) {
        outlet.swap(taken);
        for piece in taken.drain(..) {
            if let Some(stream) = self.streams.get_mut(n) {
                stream.reader.push(unix_us(), &piece);
            }
            while let Some(unit) = self.streams.get_mut(n).and_then(|s| s.reader.poll_unit()) {
                if self.streams[n].learn(&unit) {
                    // Known before its first unit comes.
                    self.node.set_streams(self.id, offers(&self.streams), &self.facts);
                }
                let stream = &mut self.streams[n];
                if stream.offer.is_none() {
                    continue;
                }
                let Some((offered, payload)) = stream.unit(unit) else { continue };
                if offered.keyframe && offered.track == Track::Picture && !self.facts.is_empty() {
                    let facts = Bytes::from(serde_json::json!({ "carries": self.facts }).to_string());
                    let head = Offered { track: Track::Facts, size: facts.len() as u32, timecode: None, ..offered };
                    self.node.deliver(self.id, n as u8, &head, &facts);
                }
                self.node.deliver(self.id, n as u8, &offered, &payload);
            }
        }
    }

    fn measure(&mut self) {
        self.streams.iter_mut().for_each(Stream::measure);
        self.node.set_streams(self.id, offers(&self.streams), &self.facts);
    }
}

fn offers(streams: &[Stream]) -> Vec<StreamOffer> {
    streams.iter().filter_map(|s| s.offer.clone()).collect()
}

/// One transport stream as units.
struct Stream {
    id: u8,
    reader: TsReader,
    offer: Option<StreamOffer>,
    /// Pictures seen, and how many of the last in a row were keyframes.
    pictures: u32,
    keyframes: u32,
    leans: bool,
    last_pts: LongPts,
    bytes: u64,
    since: Instant,
    last: Instant,
}

impl Stream {
    fn new(id: u8) -> Self {
        let now = Instant::now();
        Self {
            id,
            reader: TsReader::new(Depth::Units),
            offer: None,
            pictures: 0,
            keyframes: 0,
            leans: false,
            last_pts: LongPts::default(),
            bytes: 0,
            since: now,
            last: now,
        }
    }

    /// Takes in what a unit tells of its stream; true when what is offered changes.
    fn learn(&mut self, unit: &AccessUnit) -> bool {
        self.bytes += unit.data.len() as u64;
        self.last = Instant::now();
        if !unit.kind.is_video() {
            return false;
        }
        self.pictures = self.pictures.saturating_add(1);
        self.keyframes = if unit.keyframe { self.keyframes.saturating_add(1) } else { 0 };
        self.leans = !unit.keyframe || self.leans && self.keyframes < TURNED_INTRA;
        if self.pictures < JUDGED {
            return false;
        }
        let was = self.offer.as_ref().map(|o| (o.grade, o.codec.clone(), o.size, o.sound.clone()));
        // Only a keyframe says what is to come.
        if was.is_some() && !unit.keyframe && was.as_ref().is_some_and(|w| w.0 != Grade::Intra) {
            return false;
        }
        let info = self.reader.info();
        let format = info.video.as_ref().and_then(|v| v.format.clone());
        let Some(format) = format else { return false };
        let grade = match (self.id, self.leans) {
            (SUB, _) => Grade::Sub,
            (_, false) => Grade::Intra,
            (_, true) => Grade::LongGop,
        };
        let codec = if unit.kind == StreamKind::H265 { "h265" } else { "h264" };
        let sound = info.audio.map(|(sample_rate, channels)| SoundOffer { codec: "aac".into(), sample_rate, channels });
        let rate = info.video.as_ref().and_then(|v| v.measured_rate);
        let bitrate = self.offer.as_ref().map_or(0, |o| o.bitrate);
        let new = StreamOffer { id: self.id, grade, codec: codec.into(), size: Some((format.width, format.height)), rate, bitrate, sound };
        let changed = was != Some((new.grade, new.codec.clone(), new.size, new.sound.clone()));
        if changed {
            self.offer = Some(new);
        } else if let Some(offer) = &mut self.offer {
            offer.rate = rate.map(|r| (r * 100.0).round() / 100.0);
        }
        changed
    }

    fn unit(&mut self, unit: AccessUnit) -> Option<(Offered, Bytes)> {
        let track = match unit.kind {
            k if k.is_video() => Track::Picture,
            StreamKind::AacAdts => Track::Sound,
            _ => return None,
        };
        if track == Track::Sound && AacConfig::of_adts(&unit.data).is_none() {
            return None;
        }
        let pts = self.last_pts.long(unit.pts?);
        let made_us = unix_us().max(0) as u64;
        let rate = self.offer.as_ref().and_then(|o| o.rate).unwrap_or(25.0);
        let timecode = (track == Track::Picture).then(|| Timecode::of_day(made_us, rate));
        let keyframe = unit.keyframe || track == Track::Sound;
        Some((Offered { track, keyframe, pts, made_us, size: unit.data.len() as u32, timecode }, unit.data))
    }

    fn measure(&mut self) {
        let now = Instant::now();
        let passed = now.saturating_duration_since(self.since);
        if passed >= MEASURE {
            let bps = self.bytes as f64 * 8.0 / passed.as_secs_f64();
            if let Some(offer) = &mut self.offer {
                // To the nearest hundredth of a megabit: what flickers is not told to all twice a second.
                offer.bitrate = (bps / 10_000.0).round() as u64 * 10_000;
            }
            (self.bytes, self.since) = (0, now);
        }
        if now.saturating_duration_since(self.last) > QUIET && self.offer.is_some() {
            (self.offer, self.pictures, self.keyframes, self.leans) = (None, 0, 0, false);
        }
    }
}

/// A source's way to its group.
pub(super) struct GroupOut {
    to: SocketAddr,
    socket: UdpPort,
    writer: GroupWriter,
    lane: Lane,
    turn: u32,
}

impl GroupOut {
    pub fn open(plan: &GroupPlan) -> io::Result<Self> {
        let socket = UdpPort::to_group(plan.to.ip(), plan.interface, 1)?;
        let codecs = ["h264", "h265", "jpeg"].map(str::to_owned).to_vec();
        let ask = Ask { source: String::new(), grade: None, patience_ms: 2000, codecs, carriage: Carriage::Multicast };
        Ok(Self { to: plan.to, socket, writer: GroupWriter::new(crate::random()), lane: Lane::new(ask, &[]), turn: 0 })
    }

    pub fn set_offered(&mut self, streams: &[StreamOffer]) {
        self.lane.set_offered(streams);
        while let Some(play) = self.lane.poll_play() {
            self.turn = play.turn;
        }
    }

    /// True when this stream is what the group carries.
    pub fn carries(&self, stream: Option<u8>) -> bool {
        stream.is_some() && self.lane.stream() == stream
    }

    pub fn offer(&self, stream: u8) -> Option<GroupOffer> {
        self.carries(Some(stream)).then(|| self.writer.offer(self.to, self.turn as u16))
    }

    pub fn again(&self, repair: &Repair) -> Vec<Bytes> {
        self.writer.again(repair)
    }

    pub fn deliver(&mut self, now: Instant, stream: u8, unit: &Offered, payload: &Bytes) {
        let Verdict::Send { key, head, .. } = self.lane.offer(now, stream, unit) else { return };
        self.lane.done(key);
        for packet in self.writer.write(&head.write(), payload, unit.pts as u32) {
            // What the system does not take now is repaired.
            let _ = self.socket.send(&Transmit { to: self.to, size: packet.len(), segment: None }, &packet);
        }
    }
}
