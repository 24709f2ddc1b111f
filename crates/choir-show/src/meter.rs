//! Turns the counters of one way into ticks, states and what is shown of it.

use crate::bus::Bus;
use choir_core::{
    diagnosis::Diagnosis,
    facts::{Around, Contact, Direction, EncodingFacts, Encryption, EventKind, Fault, MediaFacts, Notice, Reading, Reason, State, WayTick},
    health::{Health, Verdict},
    id::Subject,
    summary::Summary,
    units::in_ms,
    view::{EndView, LinkView, SinceView, SpanView},
};
use choir_host::clock::unix_ms;
use choir_ports::{LinkStatus, Live, MediaCount, PeerLive, Ticks};
use std::{
    collections::{HashMap, VecDeque},
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::{Duration, Instant},
};

/// How long it is told that a caller was turned away.
const CONTESTED: Duration = Duration::from_secs(5);
/// Over which changes of the sender count.
const SENDERS: Duration = Duration::from_secs(30);

/// What the media of a line adds to a tick.
pub(crate) struct LineMeasure {
    pub facts: MediaFacts,
    pub count: MediaCount,
}

/// What a tick came to.
pub(crate) struct Judged {
    pub subject: Subject,
    pub tick: WayTick,
    pub verdict: Verdict,
}

/// Drops of the kernel, by the inode of the socket.
pub(crate) type Drops = HashMap<u64, u64>;

/// Measures and judges one way in or out.
pub(crate) struct Meter {
    subject: Subject,
    url: String,
    direction: Direction,
    status: Arc<LinkStatus>,
    health: Health,
    summary: Summary,
    ticks: Ticks,
    tick: WayTick,
    verdict: Option<Verdict>,
    /// When that was, on the clock of the ticks and in ms since 1970.
    judged_at: (Duration, u64),
    told: Option<Verdict>,
    noticed: u64,
    /// The last tick is the first with media of a way out.
    begins: bool,
    /// A caller that was turned away since another has the place, and when.
    contested: Option<(SocketAddr, Instant)>,
    /// Hosts that sent, the last of all and when they changed.
    sender: Option<IpAddr>,
    sender_changes: VecDeque<Instant>,
}

/// What a line knows of itself besides its numbers.
#[derive(Default)]
pub(crate) struct Beside {
    pub late_ms: Option<f64>,
    pub busy: Option<f64>,
    pub same_picture: Option<String>,
    pub encoding: Option<EncodingFacts>,
}

impl Meter {
    pub fn new(subject: Subject, url: String, direction: Direction, status: Arc<LinkStatus>) -> Self {
        let ticks = Ticks::new(&status.look(), Instant::now());
        Self {
            subject,
            url,
            direction,
            status,
            health: Health::default(),
            summary: Summary::default(),
            ticks,
            tick: WayTick::default(),
            verdict: None,
            judged_at: (Duration::ZERO, 0),
            told: None,
            noticed: 0,
            begins: false,
            contested: None,
            sender: None,
            sender_changes: VecDeque::new(),
        }
    }

    /// Its link goes elsewhere now.
    pub fn set_url(&mut self, url: String) {
        self.url = url;
    }

    /// Tells what its port has noticed, a contact that is not up, and a silence: what can be told
    /// before the second is over. True when it says something else than before.
    pub fn at_once(&mut self, started: Instant, now: Instant, bus: &Bus) -> bool {
        let live = self.status.look();
        self.tell_notices(&live, now, bus);
        let reading = self.reading(&live, live.present(now), now, None, Beside::default());
        let verdict = self.health.glance(now - started, &reading);
        let other = self.verdict.as_ref().is_none_or(|v| *v != verdict);
        self.tell(now - started, verdict, &reading, bus);
        other
    }

    /// Ends a tick at `now`.
    pub fn tick(&mut self, started: Instant, now: Instant, media: Option<LineMeasure>, beside: Beside, drops: &Drops, bus: &Bus) -> Judged {
        let live = self.status.look();
        self.tell_notices(&live, now, bus);
        let silent = self.tick.bytes == 0;
        self.tick = self.ticks.end(&live, now, media.as_ref().map(|m| m.count), drops_of(&live, drops));
        self.summary.note(&self.tick);
        // Its media began somewhere within this second, so that its rate says nothing yet.
        self.begins = silent && media.is_none();
        let reading = self.reading(&live, self.tick.clone(), now, media.map(|m| m.facts), beside);
        let verdict = self.health.judge(now - started, &reading);
        self.tell(now - started, verdict.clone(), &reading, bus);
        Judged { subject: self.subject, tick: reading.tick, verdict }
    }

    fn reading(&self, live: &Live, tick: WayTick, now: Instant, media: Option<MediaFacts>, beside: Beside) -> Reading {
        let recent = |at: Instant, time: Duration| now.saturating_duration_since(at) < time;
        Reading {
            contact: live.contact.clone(),
            direction: self.direction,
            tick,
            up_for: live.up_since().map_or(Duration::ZERO, |s| now.saturating_duration_since(s.0)),
            media,
            around: Around {
                sessions: live.sessions,
                port_closed: live.worst_peer().is_some_and(|p| p.port_closed),
                contested: self.contested.filter(|(_, at)| recent(*at, CONTESTED)).map(|(from, _)| from),
                sender_changes: self.sender_changes.iter().filter(|at| recent(**at, SENDERS)).count() as u32,
                late_ms: beside.late_ms,
                busy: beside.busy,
                same_picture: beside.same_picture,
                encoding: beside.encoding,
            },
        }
    }

    fn tell_notices(&mut self, live: &Live, now: Instant, bus: &Bus) {
        for (number, notice) in live.notices_after(self.noticed) {
            bus.event(self.subject, EventKind::Notice(notice.clone()));
            self.noticed = *number;
            match notice {
                Notice::CallerRefused(r) if r.fault == Some(Fault::Taken) => self.contested = Some((r.from, now)),
                Notice::Connected { peer: from, .. } | Notice::Publishes { from, .. } | Notice::MediaFrom(from)
                    if self.direction == Direction::In =>
                {
                    self.note_sender(from.ip(), now);
                }
                _ => {}
            }
        }
    }

    fn note_sender(&mut self, from: IpAddr, now: Instant) {
        if self.sender.replace(from).is_some_and(|before| before != from) {
            self.sender_changes.push_back(now);
            self.sender_changes.retain(|at| now.saturating_duration_since(*at) < SENDERS);
        }
    }

    /// A change of state becomes an event.
    fn tell(&mut self, now: Duration, verdict: Verdict, reading: &Reading, bus: &Bus) {
        self.verdict = Some(verdict.clone());
        self.judged_at = (now, unix_ms());
        // Its port says at once what it waits for.
        if reading.contact == Contact::Waiting(choir_core::facts::Waiting::Start) {
            return;
        }
        let changed = self.told.as_ref().map(|t| t.state) != Some(verdict.state);
        let named = matches!(verdict.reason, Reason::Cause(_));
        let anew = (verdict.state == State::Broken || named) && !self.told.as_ref().is_some_and(|t| t.reason.is_like(&verdict.reason));
        if !changed && !anew {
            return;
        }
        if verdict.state == State::Steady && self.begins {
            return;
        }
        // What a way in waits for is worth a word at the start; a way out waits for its line.
        let quiet = if self.direction == Direction::In { State::Joining } else { State::Waiting };
        let worth = changed || named;
        if worth && (self.told.is_some() || verdict.state != quiet) {
            bus.event(self.subject, EventKind::State { state: verdict.state, reason: verdict.reason.clone() });
        }
        self.told = Some(verdict);
    }

    fn cause_view(&self, d: &Diagnosis) -> SinceView {
        let lasts = self.judged_at.0.saturating_sub(d.since).as_millis() as u64;
        SinceView { name: d.cause.name().into(), text: d.cause.to_string(), since_ms: self.judged_at.1.saturating_sub(lasts) }
    }

    /// What is shown of it.
    pub fn view(&self, drops: &Drops) -> LinkView {
        let live = self.status.look();
        let (totals, peer) = (live.totals(), live.worst_peer());
        let asked = peer.and_then(|p| p.gauges.latency_asked);
        LinkView {
            url: self.url.clone(),
            state: self.verdict.as_ref().map(|v| v.state),
            reason: self.verdict.as_ref().map(|v| v.reason.to_string()).unwrap_or_default(),
            causes: self.verdict.as_ref().map(|v| v.causes.iter().map(|d| self.cause_view(d)).collect()).unwrap_or_default(),
            fault: live.contact.fault(),
            peer: peer.map(|p| p.addr).or(live.peer).map(|a| a.to_string()),
            ends: if live.peers.len() > 1 { live.peers.iter().map(|(_, p)| end_view(p)).collect() } else { Vec::new() },
            how: live.how.clone(),
            paste: live.paste.clone(),
            up_since_ms: live.up_since().filter(|_| live.contact == Contact::Up).map(|s| s.1),
            rate_bps: self.tick.rate_bps(),
            rtt_ms: self.tick.rtt_ms,
            lost_percent: self.tick.lost_share() * 100.0,
            missing_percent: self.tick.missing_share() * 100.0,
            packets: totals.packets,
            lost: totals.lost,
            recovered: totals.recovered,
            missing: totals.missing,
            resent: totals.resent,
            dropped: totals.dropped,
            headroom_ms: self.tick.headroom_ms.map(|h| h.least),
            latency_ms: self.tick.latency_ms.or_else(|| peer.and_then(|p| p.gauges.latency).map(in_ms)),
            latency_asked: asked
                .map(|(here, there)| format!("{} ms here, {} ms there; the larger value applies", here.as_millis(), there.as_millis())),
            encryption: live.encryption.to_string(),
            key_bits: match live.encryption {
                Encryption::Secured { key_bits } => Some(key_bits),
                _ => None,
            },
            kernel_drops: drops_of(&live, drops),
            peer_version: peer.and_then(version_of).or_else(|| live.software.clone()),
            capacity_bps: peer.and_then(|p| p.gauges.capacity_bps),
            reconnects: live.sessions.saturating_sub(1),
            spans: Vec::new(),
            encoding: None,
        }
    }

    /// How it stands.
    pub fn state(&self) -> Option<State> {
        self.verdict.as_ref().map(|v| v.state)
    }

    /// The last second, the last ten, and all since the start.
    pub fn spans(&self) -> Vec<SpanView> {
        self.summary.spans()
    }
}

fn end_view(p: &PeerLive) -> EndView {
    EndView {
        peer: p.addr.to_string(),
        since_ms: p.since.1,
        rtt_ms: p.gauges.rtt.map(in_ms),
        latency_ms: p.gauges.latency.map(in_ms),
        packets: p.counters.packets,
        lost: p.counters.lost,
        resent: p.counters.resent,
        dropped: p.counters.dropped,
        version: version_of(p),
    }
}

fn version_of(p: &PeerLive) -> Option<String> {
    p.gauges.peer_version.filter(|v| *v > 0).map(srt_version)
}

/// `SRT 1.5.4`, of the handshake's number.
fn srt_version(version: u32) -> String {
    format!("SRT {}.{}.{}", version >> 16 & 0xff, version >> 8 & 0xff, version & 0xff)
}

fn drops_of(live: &Live, drops: &Drops) -> u64 {
    live.socket.and_then(|inode| drops.get(&inode)).copied().unwrap_or(0)
}
