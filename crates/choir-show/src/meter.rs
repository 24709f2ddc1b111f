//! Turns the counters of one way into ticks, states and what is shown of it.

use crate::bus::Bus;
use choir_core::{
    facts::{Contact, Direction, Encryption, EventKind, Span, State, WayTick},
    health::{Health, MediaFacts, Reading, Verdict},
    id::Subject,
    view::LinkView,
};
use choir_ports::{Counters, LinkStatus, Live, PeerLive};
use std::{
    collections::HashMap,
    sync::Arc,
    time::{Duration, Instant},
};

/// A rate needs this much time at least: a stream that has begun just now would show its first burst as one.
const RATE_TIME: Duration = Duration::from_millis(250);

/// What the media of a line adds to a tick.
pub(crate) struct LineMeasure {
    pub facts: MediaFacts,
    /// Bytes so far, and when the present session began.
    pub bytes: u64,
    pub begun: Option<Instant>,
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
    before: Mark,
    tick: WayTick,
    verdict: Option<Verdict>,
    told: Option<Verdict>,
    noticed: u64,
    /// The last tick is the first with media of a way out.
    begins: bool,
}

/// The end of the tick before.
struct Mark {
    /// On the grid.
    at: Instant,
    /// When its counters were read.
    read_at: Instant,
    counters: Counters,
    media_bytes: u64,
}

impl Meter {
    pub fn new(subject: Subject, url: String, direction: Direction, status: Arc<LinkStatus>) -> Self {
        let now = Instant::now();
        let before = Mark { at: now, read_at: now, counters: status.look().totals(), media_bytes: 0 };
        Self {
            subject,
            url,
            direction,
            status,
            health: Health::default(),
            before,
            tick: WayTick::default(),
            verdict: None,
            told: None,
            noticed: 0,
            begins: false,
        }
    }

    /// The last tick.
    pub fn last(&self) -> &WayTick {
        &self.tick
    }

    /// Its link goes elsewhere now.
    pub fn set_url(&mut self, url: String) {
        self.url = url;
    }

    /// Tells what its port has noticed, and a contact that is not up: what can be told before the second is over.
    pub fn at_once(&mut self, started: Instant, now: Instant, bus: &Bus) {
        let live = self.status.look();
        self.tell_notices(&live, bus);
        if live.contact != Contact::Up {
            let reading = self.reading(live.contact, WayTick::default(), Duration::ZERO, None);
            self.judge(now - started, &reading, bus);
        }
    }

    /// Ends a tick at `now`.
    pub fn tick(&mut self, started: Instant, now: Instant, media: Option<LineMeasure>, bus: &Bus) {
        let live = self.status.look();
        self.tell_notices(&live, bus);
        let silent = self.tick.bytes == 0;
        self.tick = self.measure(&live, now, media.as_ref());
        // Its media began somewhere within this second, so that its rate says nothing yet.
        self.begins = silent && media.is_none();
        let up_for = since(&live).map_or(Duration::ZERO, |s| now.saturating_duration_since(s.0));
        let reading = self.reading(live.contact, self.tick.clone(), up_for, media.map(|m| m.facts));
        self.judge(now - started, &reading, bus);
    }

    fn reading(&self, contact: Contact, tick: WayTick, up_for: Duration, media: Option<MediaFacts>) -> Reading {
        Reading { contact, direction: self.direction, tick, up_for, media }
    }

    fn tell_notices(&mut self, live: &Live, bus: &Bus) {
        for (number, notice) in live.notices_after(self.noticed) {
            bus.event(self.subject, EventKind::Notice(notice.clone()));
            self.noticed = *number;
        }
    }

    fn measure(&mut self, live: &Live, now: Instant, media: Option<&LineMeasure>) -> WayTick {
        let counters = live.totals();
        let read_at = live.read_at.filter(|at| *at > self.before.read_at).unwrap_or(now);
        let passed = counters.since(&self.before.counters);
        // Media is counted as it comes; the counters of a protocol are read a few times a second.
        let (bytes, from, until) = match media {
            Some(m) => (m.bytes.saturating_sub(self.before.media_bytes), m.begun, now),
            None => (passed.bytes, since(live).map(|s| s.0), read_at),
        };
        let begin = if media.is_some() { self.before.at } else { self.before.read_at };
        let length = until.saturating_duration_since(from.map_or(begin, |f| f.max(begin)));
        let peer = worst(live);
        let headroom = live.peers.iter().filter_map(|(_, p)| p.headroom_between(self.before.at, now));
        let headroom = headroom.reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)));
        let latency_ms = peer.and_then(|p| p.gauges.latency).map(ms);
        // A path that has become shorter since the handshake leaves no more than the whole latency.
        let cap = |us: i64| (us as f64 / 1000.0).min(latency_ms.unwrap_or(f64::MAX));
        let tick = WayTick {
            length: length.max(RATE_TIME),
            bytes,
            packets: passed.packets,
            lost: passed.lost,
            recovered: passed.recovered,
            missing: passed.missing,
            window_dropped: passed.window_dropped,
            rtt_ms: peer.and_then(|p| p.gauges.rtt).or(live.rtt).map(ms).filter(|r| *r > 0.0),
            headroom_ms: headroom.map(|(least, greatest)| Span { least: cap(least), greatest: cap(greatest) }),
            latency_ms,
            peer_window: peer.and_then(|p| p.gauges.peer_window),
            unacknowledged_ms: peer.and_then(|p| p.gauges.unacknowledged).map(ms),
        };
        self.before = Mark { at: now, read_at, counters, media_bytes: media.map_or(0, |m| m.bytes) };
        tick
    }

    /// A change of state becomes an event.
    fn judge(&mut self, now: Duration, reading: &Reading, bus: &Bus) {
        let verdict = self.health.judge(now, reading);
        self.verdict = Some(verdict.clone());
        // Its port says at once what it waits for.
        if reading.contact == Contact::Waiting(choir_core::facts::Waiting::Start) {
            return;
        }
        let changed = self.told.as_ref().map(|t| t.state) != Some(verdict.state);
        let anew = verdict.state == State::Broken && !self.told.as_ref().is_some_and(|t| t.reason.is_like(&verdict.reason));
        if !changed && !anew {
            return;
        }
        if verdict.state == State::Steady && self.begins {
            return;
        }
        // What a way in waits for is worth a word at the start; a way out waits for its line.
        let quiet = if self.direction == Direction::In { State::Joining } else { State::Waiting };
        if changed && (self.told.is_some() || verdict.state != quiet) {
            bus.event(self.subject, EventKind::State { state: verdict.state, reason: verdict.reason.clone() });
        }
        self.told = Some(verdict);
    }

    /// What is shown of it.
    pub fn view(&self, drops: &Drops) -> LinkView {
        let live = self.status.look();
        let (totals, peer) = (live.totals(), worst(&live));
        let asked = peer.and_then(|p| p.gauges.latency_asked);
        LinkView {
            url: self.url.clone(),
            state: self.verdict.as_ref().map(|v| v.state),
            reason: self.verdict.as_ref().map(|v| v.reason.to_string()).unwrap_or_default(),
            fault: live.contact.fault(),
            peer: peer.map(|p| p.addr).or(live.peer).map(|a| a.to_string()),
            how: live.how.clone(),
            paste: live.paste.clone(),
            up_since_ms: since(&live).filter(|_| live.contact == Contact::Up).map(|s| s.1),
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
            latency_ms: self.tick.latency_ms.or_else(|| peer.and_then(|p| p.gauges.latency).map(ms)),
            latency_asked: asked
                .map(|(here, there)| format!("{} ms here, {} ms there; the larger value applies", here.as_millis(), there.as_millis())),
            encryption: live.encryption.to_string(),
            key_bits: match live.encryption {
                Encryption::Secured { key_bits } => Some(key_bits),
                _ => None,
            },
            kernel_drops: live.socket.and_then(|inode| drops.get(&inode)).copied().unwrap_or(0),
        }
    }
}

fn ms(d: Duration) -> f64 {
    d.as_secs_f64() * 1000.0
}

fn since(live: &Live) -> Option<(Instant, u64)> {
    live.peers.first().map(|(_, p)| p.since).or(live.since)
}

/// The peer whose round trip takes most of its latency.
fn worst(live: &Live) -> Option<&PeerLive> {
    let share = |p: &PeerLive| {
        let latency = p.gauges.latency.map_or(1.0, ms).max(1.0);
        p.gauges.rtt.map_or(0.0, ms) / latency
    };
    live.peers.iter().map(|(_, p)| p).max_by(|a, b| share(a).total_cmp(&share(b)))
}
