//! One served feed: its units become RTP, once for all who watch.

use super::{
    super::{UnitOutlet, media_in::rand, status::LinkStatus},
    options::{Carrier, ServerOptions},
    viewers::{Lanes, QueueResult},
};
use choir_core::facts::{Contact, Notice, Waiting};
use choir_host::udp::UdpPort;
use choir_host::{
    clock::{steady_us, unix_us},
    lock,
};
use choir_proto::{
    audio::AacConfig,
    media::Codec,
    rtp::{NtpTime, PackedUnit, Packetizer, ParameterSets, Rtcp, parse_rtcp, write_bye, write_sender_report},
    rtsp::{Credentials, Delivery, Lane, Mount, Request, Response, Session, SessionId, describe, rtp_info},
    ts::{AccessUnit, PTS_WRAP, StreamKind, wrapped_distance},
};
use std::{
    borrow::Cow,
    collections::{BTreeMap, VecDeque},
    net::{IpAddr, SocketAddr},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::sync::watch;

/// Between sender reports.
const REPORT_EVERY: Duration = Duration::from_secs(5);
/// First dynamic payload type (RFC 3551, 6).
const FIRST_TYPE: u8 = 96;

/// A group that a feed can be heard at.
#[derive(Debug)]
pub(super) struct Group {
    pub ip: IpAddr,
    pub port: u16,
    pub ttl: u8,
    pub socket: UdpPort,
}

struct Track {
    codec: Codec,
    payload_type: u8,
    packer: Packetizer,
    /// Last time stamp, and the same counted on.
    last: Option<(u64, u64)>,
}

struct Media {
    tracks: Vec<Track>,
    sets: ParameterSets,
    sound: Option<AacConfig>,
    /// Keyframes that have come without sound that was announced.
    without_sound: u32,
    /// Presentation time of the last picture, counted on, and when it was sent (µs by `steady_us`).
    anchor: Option<(u64, i64)>,
    ready: bool,
}

/// One viewer.
struct Viewer {
    lanes: BTreeMap<usize, Lane>,
    /// Its connection, for packets within it.
    connection: Arc<Lanes>,
    peer: SocketAddr,
    /// It waits for a keyframe.
    waits: bool,
    told: bool,
    next_report: Instant,
    /// What it has got of each track.
    sent: BTreeMap<usize, Sent>,
    /// The answer to its PLAY, which waits for the first packet, since when.
    play: Option<(Play, Instant)>,
    paused: bool,
}

/// An answer to a PLAY that waits to be told which packets are the first.
pub(super) struct Play {
    pub response: Response,
    pub request: Request,
    /// What tracks are named by.
    pub base: String,
    pub asked_on: Arc<Lanes>,
}

impl Play {
    fn send(mut self, options: &ServerOptions) {
        options.answer(&self.request, &mut self.response);
        self.asked_on.message(self.response.to_bytes());
    }
}

/// What a viewer has got of a track.
#[derive(Debug, Clone, Copy, Default)]
struct Sent {
    /// Sequence number that comes next.
    next: Option<u16>,
    /// Added to the feed's sequence numbers, so that its own run on after a pause (RFC 2326,
    /// appendix B).
    shift: u16,
    packets: u32,
    bytes: u32,
}

impl Sent {
    fn add(&mut self, packed: &PackedUnit, shift: u16) {
        let count = packed.packets().len();
        self.next = packed.first().map(|(n, _)| n.wrapping_add(count as u16).wrapping_add(shift));
        self.packets = self.packets.wrapping_add(count as u32);
        self.bytes = self.bytes.wrapping_add(packed.payload() as u32);
    }
}

/// How long an answer to PLAY waits for a keyframe; then it goes without saying which packet is the
/// first.
const PLAY_WAITS: Duration = Duration::from_secs(4);

/// One served feed.
pub(super) struct MountPoint {
    pub path: String,
    pub credentials: Option<Credentials>,
    pub group: Option<Group>,
    pub status: Arc<LinkStatus>,
    pub described: watch::Sender<bool>,
    name: String,
    media: Mutex<Media>,
    viewers: Mutex<BTreeMap<SessionId, Viewer>>,
}

impl MountPoint {
    pub fn new(path: String, credentials: Option<Credentials>, group: Option<Group>, status: Arc<LinkStatus>) -> Self {
        Self {
            path,
            credentials,
            group,
            status,
            described: watch::channel(false).0,
            name: format!("choir-{:08x}", rand()),
            media: Mutex::new(Media::new()),
            viewers: Mutex::default(),
        }
    }

    /// What a viewer is told of it.
    pub fn offer(&self) -> Mount {
        let m = lock(&self.media);
        let group = self.group.as_ref().map(|g| (g.ip, g.port, g.ttl));
        let tracks: Vec<_> = m.tracks.iter().map(|t| (&t.codec, t.payload_type, t.codec.is_video().then_some(&m.sets))).collect();
        Mount {
            description: m.ready.then(|| describe(&self.path, [0, 0, 0, 0].into(), &tracks, group)),
            tracks: m.tracks.iter().map(|t| t.packer.ssrc()).collect(),
            credentials: self.credentials.clone(),
            group,
        }
    }

    /// Sends to a viewer from the next keyframe on, and then answers its PLAY.
    pub fn start(&self, id: SessionId, session: Session, connection: Arc<Lanes>, play: Play) {
        let now = Instant::now();
        let mut viewers = lock(&self.viewers);
        let sent = viewers.remove(&id).map(|v| v.sent).unwrap_or_default();
        let Session { lanes, peer, .. } = session;
        let play = Some((play, now));
        let viewer = Viewer { lanes, connection, peer, waits: true, told: false, next_report: now, sent, play, paused: false };
        viewers.insert(id, viewer);
        drop(viewers);
        self.tell_viewers();
    }

    /// Sends nothing more to a viewer for now.
    pub fn pause(&self, id: SessionId) {
        if let Some(v) = lock(&self.viewers).get_mut(&id) {
            v.paused = true;
        }
    }

    /// Answers that have waited for a keyframe for too long.
    pub fn answer_overdue(&self, options: &ServerOptions, now: Instant) {
        for v in lock(&self.viewers).values_mut() {
            if let Some((play, _)) = v.play.take_if(|(_, since)| now.saturating_duration_since(*since) >= PLAY_WAITS) {
                play.send(options);
            }
        }
    }

    pub fn stop(&self, id: SessionId) {
        lock(&self.viewers).remove(&id);
        self.tell_viewers();
    }

    /// How many watch, and how.
    fn tell_viewers(&self) {
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for v in lock(&self.viewers).values() {
            let word = match v.lanes.values().next().map(Lane::delivery) {
                Some(Delivery::Tcp) => "TCP",
                Some(Delivery::Multicast) => "multicast",
                _ => "UDP",
            };
            *counts.entry(word).or_default() += 1;
        }
        let total: usize = counts.values().sum();
        let ways: Vec<String> = counts.iter().map(|(w, n)| if total == *n { format!("by {w}") } else { format!("{n} by {w}") }).collect();
        self.status.update(|l| {
            l.set_how(match total {
                0 => "no viewer".into(),
                1 => format!("1 viewer {}", ways.join(", ")),
                n => format!("{n} viewers {}", ways.join(", ")),
            });
            if total == 0 {
                (l.contact, l.since) = (Contact::Waiting(Waiting::Viewers), None);
            } else if l.since.is_none() {
                (l.contact, l.since) = (Contact::Up, Some((Instant::now(), choir_host::clock::unix_ms())));
                l.sessions += 1;
            }
        });
    }

    /// Serves what comes out of `outlet` until it ends.
    /// Viewers that it can send nothing more to are given to `let_go`.
    pub async fn run(&self, carrier: &Carrier, outlet: &UnitOutlet, let_go: impl Fn(SessionId)) {
        let mut taken = VecDeque::new();
        loop {
            outlet.filled().await;
            let ended = outlet.has_ended();
            outlet.take_into(&mut taken);
            for unit in taken.drain(..) {
                self.unit(carrier, &unit, &let_go);
            }
            if ended {
                return;
            }
        }
    }

    fn unit(&self, carrier: &Carrier, unit: &AccessUnit, let_go: &impl Fn(SessionId)) {
        let mut gone = Vec::new();
        {
            let mut m = lock(&self.media);
            if m.changed(unit) {
                // Another kind of picture: who watches has to ask anew.
                gone.extend(lock(&self.viewers).keys().copied());
                self.described.send_replace(false);
            }
            if m.learn(unit) {
                self.described.send_replace(true);
            }
            if let Some((track, packed)) = m.pack(unit) {
                gone.extend(self.deliver(carrier, &m, track, &packed, unit.kind.is_video()));
            }
        }
        for id in gone {
            self.stop(id);
            let_go(id);
        }
    }

    /// Hands one unit's packets to all; gives those who are to be let go.
    fn deliver(&self, carrier: &Carrier, m: &Media, track: usize, packed: &PackedUnit, is_video: bool) -> Vec<SessionId> {
        let now = Instant::now();
        let packed = carrier.options.touch(packed);
        let packed = packed.as_ref();
        let (mut dead, mut bytes, mut packets) = (Vec::new(), 0, 0);
        let has_video = m.tracks.iter().any(|t| t.codec.is_video());
        let mut to_group = false;
        let count = packed.packets().len() as u64;
        for (id, v) in lock(&self.viewers).iter_mut() {
            let Some(lane) = v.lanes.get(&track).copied().filter(|_| !v.paused) else { continue };
            if matches!(lane, Lane::Tcp { .. }) && v.connection.is_dead(now) {
                dead.push((*id, v.peer));
                continue;
            }
            let watches_video = has_video && v.lanes.keys().any(|n| m.tracks.get(*n).is_some_and(|t| t.codec.is_video()));
            if v.waits {
                let starts = if watches_video { is_video && packed.keyframe } else { true };
                if !starts || !v.connection.roomy() {
                    continue;
                }
                (v.waits, v.next_report) = (false, now);
                self.begin(carrier, m, v, (track, packed));
            }
            if now >= v.next_report && carrier.options.reports {
                v.next_report = now + REPORT_EVERY;
                self.report(carrier, m, v, now);
            }
            let shift = v.sent.get(&track).map_or(0, |s| s.shift);
            let own = if shift == 0 { Cow::Borrowed(packed) } else { Cow::Owned(packed.shifted(shift)) };
            let fate = match lane {
                Lane::Tcp { rtp, .. } => v.connection.push(rtp, &own, now),
                Lane::Udp { rtp, .. } => send(carrier.rtp(), rtp, &own),
                Lane::Multicast => {
                    to_group = true;
                    continue;
                }
            };
            match fate {
                QueueResult::Queued => {
                    v.sent.entry(track).or_default().add(packed, shift);
                    v.told = false;
                    bytes += packed.size() as u64;
                    packets += count;
                }
                QueueResult::Full => {
                    v.waits = true;
                    if !std::mem::replace(&mut v.told, true) {
                        self.status.note(Notice::ViewerSlow(v.peer));
                    }
                }
                QueueResult::Dead => dead.push((*id, v.peer)),
            }
        }
        if let (true, Some(g)) = (to_group, &self.group) {
            send(Some(&g.socket), SocketAddr::new(g.ip, g.port + 2 * track as u16), packed);
            bytes += packed.size() as u64;
            packets += count;
        }
        self.status.update(|l| {
            l.counters.bytes += bytes;
            l.counters.packets += packets;
        });
        for (_, peer) in &dead {
            self.status.note(Notice::ViewerDropped(*peer, Duration::from_secs(10)));
        }
        dead.into_iter().map(|(id, _)| id).collect()
    }

    /// The first packets for a viewer are known: its numbers run on from before a pause, and its
    /// PLAY is answered.
    fn begin(&self, carrier: &Carrier, m: &Media, v: &mut Viewer, (track, packed): (usize, &PackedUnit)) {
        let now = m.now().unwrap_or(0);
        let mut first = Vec::new();
        for n in v.lanes.keys() {
            let Some(packer) = m.tracks.get(*n).map(|t| &t.packer) else { continue };
            let next = || (packer.next_sequence(), packer.next_timestamp().unwrap_or_else(|| packer.timestamp(now)));
            let (sequence, timestamp) = if *n == track { packed.first().unwrap_or_else(next) } else { next() };
            let sent = v.sent.entry(*n).or_default();
            let in_group = v.lanes.get(n) == Some(&Lane::Multicast);
            sent.shift = sent.next.filter(|_| !in_group).map_or(0, |next| next.wrapping_sub(sequence));
            first.push((*n, sequence.wrapping_add(sent.shift), timestamp));
        }
        if let Some((mut play, _)) = v.play.take() {
            play.response.headers.add("RTP-Info", rtp_info(&play.base, &first));
            play.send(&carrier.options);
        }
    }

    /// Ties the tracks to the time of day, for one viewer.
    fn report(&self, carrier: &Carrier, m: &Media, v: &Viewer, now: Instant) {
        let Some(pts) = m.now() else { return };
        for (n, lane) in &v.lanes {
            let Some(t) = m.tracks.get(*n) else { continue };
            let own = v.sent.get(n).copied().unwrap_or_default();
            let (packets, bytes) = if *lane == Lane::Multicast { t.packer.sent() } else { (own.packets, own.bytes) };
            let ntp = NtpTime::from_unix_us(unix_us().unsigned_abs());
            let report = write_sender_report(t.packer.ssrc(), &self.name, ntp, t.packer.timestamp(pts), packets, bytes);
            self.control(carrier, *n, lane, v, report, now);
        }
    }

    fn control(&self, carrier: &Carrier, track: usize, lane: &Lane, v: &Viewer, data: Vec<u8>, now: Instant) {
        let unit = PackedUnit::of([data.as_slice()].into_iter(), false);
        match (lane, &self.group) {
            (Lane::Tcp { rtcp, .. }, _) => {
                v.connection.push(*rtcp, &unit, now);
            }
            (Lane::Udp { rtcp, .. }, _) => {
                send(carrier.rtcp(), *rtcp, &unit);
            }
            (Lane::Multicast, Some(g)) => {
                send(Some(&g.socket), SocketAddr::new(g.ip, g.port + 2 * track as u16 + 1), &unit);
            }
            (Lane::Multicast, None) => {}
        }
    }

    /// What a viewer says by RTCP: it may ask for a keyframe.
    pub fn report_from_viewer(&self, data: &[u8]) {
        let Ok(packets) = parse_rtcp(data) else { return };
        let m = lock(&self.media);
        let pictures = |ssrc: &u32| m.tracks.iter().any(|t| t.codec.is_video() && t.packer.ssrc() == *ssrc);
        if packets.iter().any(|p| matches!(p, Rtcp::Keyframe(of) if of.iter().any(pictures))) {
            self.status.control.request_keyframe();
        }
    }

    /// Says goodbye to all.
    pub fn goodbye(&self, carrier: &Carrier) {
        let m = lock(&self.media);
        for v in lock(&self.viewers).values() {
            for (n, lane) in &v.lanes {
                if let Some(t) = m.tracks.get(*n) {
                    self.control(carrier, *n, lane, v, write_bye(t.packer.ssrc(), &self.name), Instant::now());
                }
            }
        }
    }
}

/// Sends by UDP. A full buffer of the system is a viewer that does not keep up.
fn send(socket: Option<&UdpPort>, to: SocketAddr, unit: &PackedUnit) -> QueueResult {
    let Some(socket) = socket else { return QueueResult::Queued };
    for (run, size) in unit.runs(socket.max_segments()) {
        let segment = (run.len() > size).then_some(size);
        match socket.send(to, segment, run) {
            // Nobody listens any more: the session's own timeout will tell.
            Ok(true) | Err(_) => {}
            Ok(false) => return QueueResult::Full,
        }
    }
    QueueResult::Queued
}

fn codec_of(kind: StreamKind, sound: Option<AacConfig>) -> Option<Codec> {
    match kind {
        StreamKind::H264 => Some(Codec::H264),
        StreamKind::H265 => Some(Codec::H265),
        StreamKind::AacAdts => sound.map(Codec::Aac),
        _ => None,
    }
}

impl Media {
    fn new() -> Self {
        Self { tracks: Vec::new(), sets: ParameterSets::default(), sound: None, without_sound: 0, anchor: None, ready: false }
    }

    /// Presentation time at this moment, counted on; `None` before the first picture.
    fn now(&self) -> Option<u64> {
        self.anchor.map(|(pts, at)| pts + (steady_us() - at).max(0) as u64 * 9 / 100)
    }

    /// True when the stream carries another kind of picture or sound than was described: all is
    /// learnt anew.
    fn changed(&mut self, unit: &AccessUnit) -> bool {
        let video = self.tracks.iter().find(|t| t.codec.is_video());
        let picture = unit.kind.is_video() && video.is_some_and(|t| Some(&t.codec) != codec_of(unit.kind, None).as_ref());
        let is_aac = unit.kind == StreamKind::AacAdts && self.sound.is_some();
        let sound = is_aac && AacConfig::of_adts(&unit.data).is_some_and(|c| Some(c) != self.sound);
        if picture || sound {
            *self = Self { anchor: self.anchor, ..Self::new() };
        }
        picture || sound
    }

    /// Takes in what must be known before anybody can watch; true when that is complete.
    fn learn(&mut self, unit: &AccessUnit) -> bool {
        if unit.kind == StreamKind::AacAdts && self.sound.is_none() {
            self.sound = AacConfig::of_adts(&unit.data);
        }
        if !unit.keyframe || !unit.kind.is_video() {
            return false;
        }
        self.sets.learn_from(unit.kind == StreamKind::H265, &unit.data);
        if self.ready || !self.sets.complete() {
            return false;
        }
        let kinds = unit.format.streams.iter().copied();
        // Sound is announced but has not come: one more interval.
        self.without_sound += 1;
        if kinds.clone().any(|k| k == StreamKind::AacAdts) && self.sound.is_none() && self.without_sound < 2 {
            return false;
        }
        let video = kinds.clone().find(|k| k.is_video());
        let sound = kinds.clone().find(|k| *k == StreamKind::AacAdts);
        for (n, codec) in video.into_iter().chain(sound).filter_map(|k| codec_of(k, self.sound)).enumerate() {
            let rate = if let Codec::Aac(c) = codec { c.sample_rate } else { 90_000 };
            let payload_type = FIRST_TYPE + n as u8;
            let packer = Packetizer::new(codec.clone(), payload_type, rate, (rand(), rand() as u16, rand()));
            self.tracks.push(Track { codec, payload_type, packer, last: None });
        }
        self.ready = true;
        true
    }

    fn pack(&mut self, unit: &AccessUnit) -> Option<(usize, PackedUnit)> {
        let wanted = codec_of(unit.kind, self.sound)?;
        let pts = unit.pts?;
        let n = self.tracks.iter().position(|t| t.codec == wanted)?;
        let track = self.tracks.get_mut(n)?;
        let long = match track.last {
            Some((last, long)) => long.saturating_add_signed(wrapped_distance(pts, last, PTS_WRAP)),
            // Sound counts on from where the picture does.
            None => self.anchor.map_or(pts + PTS_WRAP, |(a, _)| a.saturating_add_signed(wrapped_distance(pts, a % PTS_WRAP, PTS_WRAP))),
        };
        track.last = Some((pts, long));
        if unit.kind.is_video() {
            self.anchor = Some((long, steady_us()));
        }
        Some((n, track.packer.pack(long, unit.keyframe, &unit.data)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;

    fn unit(kind: StreamKind, keyframe: bool, data: &[u8]) -> AccessUnit {
        AccessUnit {
            pid: 256,
            kind,
            pts: Some(90_000),
            dts: None,
            keyframe,
            arrived: 0,
            data: Bytes::copy_from_slice(data),
            format: Arc::default(),
        }
    }

    #[test]
    fn another_kind_of_picture_or_sound_is_learnt_anew() {
        let adts = |rate| {
            let config = AacConfig { object_type: 2, sample_rate: rate, channels: 2, frame_samples: 1024 };
            let frame: Vec<u8> = config.adts_header(4).expect("fits").into_iter().chain([0; 4]).collect();
            unit(StreamKind::AacAdts, true, &frame)
        };
        let mut m = Media::new();
        assert!(!m.changed(&adts(48_000)));
        m.learn(&adts(48_000));
        assert!(!m.changed(&adts(48_000)));
        assert!(m.changed(&adts(44_100)) && m.sound.is_none());
        let packer = Packetizer::new(Codec::H264, 96, 90_000, (1, 2, 3));
        m.tracks.push(Track { codec: Codec::H264, payload_type: 96, packer, last: None });
        assert!(!m.changed(&unit(StreamKind::H264, false, &[0, 0, 1, 0x41])));
        assert!(m.changed(&unit(StreamKind::H265, true, &[0, 0, 1, 0x26, 1])) && m.tracks.is_empty());
    }
}
