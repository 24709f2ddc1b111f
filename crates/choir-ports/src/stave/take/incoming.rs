//! What comes by one connection: put in order, repaired, handed on in time or as it is.

use super::{PATIENCE, TakePlan, Taker, absent};
use crate::{
    Arrival,
    stave::{
        plain_name,
        session::{Failed, Session},
        units::Arrived,
    },
};
use bytes::{Bytes, BytesMut};
use choir_core::facts::{Notice, Waiting};
use choir_host::udp::UdpPort;
use choir_proto::{
    audio::{AacConfig, PCM_CHANNELS, st302_channels},
    h26x::start_code,
    media::{Codec, MediaUnit},
    sequence::{SequencedTrack, Sequencer},
    stave::{Catalogue, GroupOffer, GroupReader, Ordered, Play, StreamOffer, Track, UnitHead, UnitOrder, same_name},
    ts::Timed,
};
use std::time::{Duration, Instant};

/// How long a unit is waited for that was overtaken.
const HOLD: Duration = Duration::from_millis(40);
/// What the clock of the units runs behind.
const LEAD: Duration = Duration::from_millis(60);

/// What comes of one connection.
pub(super) struct Incoming {
    order: UnitOrder<Arrived>,
    group: Option<(GroupReader, UdpPort)>,
    play: Option<Play>,
    units: Option<Sequencer>,
    timed: Vec<Timed>,
    arrivals: Vec<Arrival>,
    session: Option<u32>,
    pub machine: String,
    /// Missing units that have been counted.
    counted: u64,
    facts: String,
    pub failed: Option<Failed>,
    arena: BytesMut,
}

impl Incoming {
    pub fn new(t: &Taker) -> Self {
        Self {
            order: UnitOrder::new(HOLD.min(t.plan.link.patience.unwrap_or(HOLD))),
            group: None,
            play: None,
            units: None,
            timed: Vec::new(),
            arrivals: Vec::new(),
            session: None,
            machine: String::new(),
            counted: 0,
            facts: String::new(),
            failed: None,
            arena: BytesMut::new(),
        }
    }

    pub fn play(&mut self, plan: &TakePlan, play: Play) {
        let now = Instant::now();
        if self.play.is_some() && play.why == "slow" {
            plan.status.note(Notice::GradeLowered { name: play.source.clone(), grade: play.stream.grade.to_string() });
        }
        // Another kind of stream is a new start for those who take it.
        let kind = |p: &Play| (p.stream.codec.clone(), p.stream.size, p.stream.sound.clone(), p.stream.id);
        if self.play.as_ref().map(kind) != Some(kind(&play)) {
            (self.units, self.session) = (None, None);
            if let Some(sound) = play.stream.sound.as_ref().filter(|s| s.codec == "pcm" && s.channels > st302_channels(s.channels)) {
                let carried = st302_channels(sound.channels);
                plan.status.note(Notice::ChannelsDropped { channels: sound.channels, carried });
            }
        }
        self.group = play.group.as_ref().and_then(|g| match open_group(g, plan) {
            Ok(group) => Some(group),
            Err(why) => {
                plan.status.note(Notice::GroupInFailed { group: g.to, cause: why });
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

    /// A source that has gone, or sends nothing, is waited for.
    pub fn catalogue(&mut self, plan: &TakePlan, c: &Catalogue) {
        let name = &plan.link.name;
        let source = c.sources.iter().find(|s| same_name(&s.name, name));
        let waiting = match source {
            Some(s) if !s.streams.is_empty() => return,
            offered => Waiting::Offer { name: name.clone(), machine: self.machine.clone(), silent: offered.is_some() },
        };
        // Its clock stops with it.
        (self.session, self.units) = (None, None);
        self.timed.clear();
        plan.status.update(|l| l.since = None);
        absent(&plan.status, waiting);
    }

    pub fn unit(&mut self, unit: Arrived) {
        self.order.push(unit.at, unit.head, unit);
    }

    pub fn packets(&mut self, mut all: &[u8]) {
        let Some((reader, _)) = &mut self.group else { return };
        let now = Instant::now();
        while let [a, b, rest @ ..] = all {
            let len = usize::from(u16::from_be_bytes([*a, *b]));
            let Some(packet) = rest.get(..len) else { return };
            reader.handle_packet(now, packet);
            all = &rest[len..];
        }
    }

    pub async fn group_readable(&self) -> bool {
        match &self.group {
            Some((_, socket)) => socket.readable().await.is_ok(),
            None => std::future::pending().await,
        }
    }

    pub fn drain_group(&mut self) {
        let Some((reader, socket)) = &mut self.group else { return };
        let mut got = Vec::new();
        socket.drain(&mut self.arena, &mut got);
        let now = Instant::now();
        for (_, data) in got {
            reader.handle_packet(now, &data);
        }
    }

    pub fn due(&self) -> Option<Instant> {
        let units = self.units.as_ref().and_then(Sequencer::poll_timeout);
        let group = self.group.as_ref().and_then(|(g, _)| g.poll_timeout());
        [self.order.poll_timeout(), units, group].into_iter().flatten().min()
    }

    /// Hands on what is in order.
    pub fn flush(&mut self, plan: &TakePlan, session: &mut Session) {
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
                l.counters.packets += 1;
                l.counters.bytes += unit.data.data.len() as u64;
            });
            if plan.intake.is_none() {
                self.open_session(plan);
            }
            if let Some(tap) = &plan.tap {
                // Whoever measured may have gone.
                let _ = tap.send(unit.clone());
            }
            self.hand_on(plan, now, &unit);
        }
        if let Some(units) = &mut self.units {
            units.handle_timeout(now, &mut self.timed);
        }
        if let (Some(intake), Some(units), false) = (&plan.intake, &self.units, self.timed.is_empty()) {
            let format = units.format().clone();
            let session = self.open_session(plan);
            self.arrivals.extend(Arrival::units(session, now, &format, &mut self.timed));
            intake.arrive(&mut self.arrivals);
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
        if plan.intake.is_none() {
            return;
        }
        if self.units.is_none() {
            // Begun by a picture; sound that was announced is in it, though it may not have come
            // yet.
            if head.track != Track::Picture {
                return;
            }
            self.units = Some(Sequencer::new(&tracks(&play.stream), LEAD));
        }
        let Some(units) = &mut self.units else { return };
        let is_h265 = play.stream.codec == "h265";
        let pieces = if head.track == Track::Picture { pieces(&unit.data.data, is_h265) } else { vec![unit.data.data.clone()] };
        let media = MediaUnit {
            track: head.track as usize,
            pts: head.pts.rem_euclid(choir_proto::ts::PTS_WRAP as i64) as u64,
            dts: None,
            keyframe: head.keyframe,
            damaged: false,
            arrived: unit.data.at,
            pieces,
        };
        units.push(now, &media, &mut self.timed);
    }

    fn open_session(&mut self, plan: &TakePlan) -> u32 {
        if let Some(session) = self.session {
            return session;
        }
        let session = plan.status.begin_session();
        self.session = Some(session);
        session
    }

    /// Says in words how it comes.
    fn tell_how(&self, plan: &TakePlan) {
        let Some(play) = &self.play else { return };
        let by = if self.group.is_some() { "by group" } else { "by QUIC" };
        let carries = if self.facts.is_empty() { String::new() } else { format!(", carries {}", self.facts) };
        plan.status.update(|l| l.set_how(format!("{} from {}, {by}{carries}", play.stream.grade, self.machine)));
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
            l.counters.missing += new;
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
        return Err("it is not a group".into());
    }
    let patience = plan.link.patience.unwrap_or(PATIENCE);
    let reader = GroupReader::new(offer, patience).ok_or("its key is not readable")?;
    let socket = UdpPort::join(offer.to, None, plan.interface).map_err(|e| e.to_string())?;
    Ok((reader, socket))
}

fn tracks(stream: &StreamOffer) -> Vec<SequencedTrack> {
    let picture = if stream.codec == "h265" { Codec::H265 } else { Codec::H264 };
    let mut tracks = vec![SequencedTrack { track: Track::Picture as usize, codec: picture }];
    if let Some(sound) = &stream.sound {
        let (sample_rate, channels) = (sound.sample_rate, sound.channels.min(PCM_CHANNELS));
        let codec = match sound.codec.as_str() {
            "aac" => Some(Codec::Aac(AacConfig { object_type: 2, sample_rate, channels, frame_samples: 1024 })),
            "pcm" if channels > 0 => Some(Codec::Pcm(channels)),
            _ => None,
        };
        tracks.extend(codec.map(|codec| SequencedTrack { track: Track::Sound as usize, codec }));
    }
    tracks
}

/// Cuts the head of a picture into its NAL units, start codes apart, without the delimiter: as
/// [`MediaUnit`] wants them. The picture itself stays whole.
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
