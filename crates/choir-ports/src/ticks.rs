//! Turns the counters of one way into ticks of a second.

use crate::{Counters, Live, PeerLive};
use choir_core::{
    facts::{Span, WayTick},
    units::in_ms,
};
use std::time::{Duration, Instant};

/// A rate needs this much time at least: a stream that has begun just now would show its first
/// burst as one.
const RATE_TIME: Duration = Duration::from_millis(250);

/// What the media of a line adds to a tick.
#[derive(Debug, Clone, Copy)]
pub struct MediaCount {
    /// Bytes so far.
    pub bytes: u64,
    /// When the present session began.
    pub begun: Option<Instant>,
}

/// The end of the tick before.
#[derive(Debug)]
pub struct Ticks {
    /// On the grid.
    at: Instant,
    /// When its counters were read.
    read_at: Instant,
    counters: Counters,
    media_bytes: u64,
    kernel_drops: u64,
}

impl Ticks {
    /// The first tick begins at `now`.
    #[must_use]
    pub fn new(live: &Live, now: Instant) -> Self {
        Self { at: now, read_at: now, counters: live.totals(), media_bytes: 0, kernel_drops: 0 }
    }

    /// Ends a tick at `now`. `kernel_drops`: of the way's socket, so far.
    pub fn end(&mut self, live: &Live, now: Instant, media: Option<MediaCount>, kernel_drops: u64) -> WayTick {
        let counters = live.totals();
        let read_at = live.read_at.filter(|at| *at > self.read_at).unwrap_or(now);
        let passed = counters.since(&self.counters);
        // Media is counted as it comes; the counters of a protocol are read a few times a second.
        let (bytes, from, until) = match media {
            Some(m) => (m.bytes.saturating_sub(self.media_bytes), m.begun, now),
            None => (passed.bytes, live.up_since().map(|s| s.0), read_at),
        };
        let begin = if media.is_some() { self.at } else { self.read_at };
        let length = until.saturating_duration_since(from.map_or(begin, |f| f.max(begin)));
        let (at, dropped) = (self.at, kernel_drops.saturating_sub(self.kernel_drops));
        *self = Self { at: now, read_at, counters, media_bytes: media.map_or(0, |m| m.bytes), kernel_drops };
        let tick = WayTick {
            length: length.max(RATE_TIME),
            bytes,
            packets: passed.packets,
            lost: passed.lost,
            holes: passed.holes,
            recovered: passed.recovered,
            missing: passed.missing,
            window_dropped: passed.window_dropped,
            acks: passed.acks,
            answered: passed.answered,
            undecrypted: passed.undecrypted,
            wire_bytes: passed.wire_bytes,
            resent: passed.resent,
            late: passed.late,
            kernel_drops: dropped,
            rtt_ms: live.rtt.map(in_ms),
            ..WayTick::default()
        };
        live.worst_peer().map_or(tick.clone(), |p| with_peer(tick, p, live, at, now))
    }
}

/// Adds what is known of the peer that is worst off.
fn with_peer(tick: WayTick, peer: &PeerLive, live: &Live, at: Instant, now: Instant) -> WayTick {
    let g = &peer.gauges;
    let latency_ms = g.latency.map(in_ms);
    let pieces = peer.pieces_between(at, now);
    let headroom = live.peers.iter().flat_map(|(_, p)| p.pieces_between(at, now)).filter_map(|p| p.headroom_ms).reduce(Span::with);
    // A path that has become shorter since the handshake leaves no more than the whole latency.
    let cap = |v: f64| v.min(latency_ms.unwrap_or(f64::MAX));
    WayTick {
        rtt_ms: g.rtt.map(in_ms).or(tick.rtt_ms).filter(|r| *r > 0.0),
        rtt_span_ms: pieces.iter().filter_map(|p| p.rtt_ms).reduce(Span::with),
        headroom_ms: headroom.map(|h| Span { least: cap(h.least), greatest: cap(h.greatest) }),
        transit_ms: pieces.iter().filter_map(|p| p.transit_ms).reduce(Span::with),
        jitter_ms: g.jitter.map(in_ms),
        latency_ms,
        largest: g.largest,
        silent_ms: g.silent.map(in_ms),
        data_silent_ms: g.data_silent.map(in_ms),
        unanswered_ms: g.unanswered.map(in_ms),
        drift_us: g.drift_us,
        peer_window: g.peer_window,
        peer_free: g.peer_free,
        peer_packets: g.peer_packets,
        unacknowledged_ms: g.unacknowledged.map(in_ms),
        ceiling_bps: g.ceiling_bps,
        waited_ms: g.waited.map(in_ms),
        key_unconfirmed_ms: g.key_unconfirmed.map(in_ms),
        pieces: pieces.into(),
        ..tick
    }
}

impl Live {
    /// Its present values, without anything counted.
    #[must_use]
    pub fn present(&self, now: Instant) -> WayTick {
        let tick = WayTick { rtt_ms: self.rtt.map(in_ms), ..WayTick::default() };
        self.worst_peer().map_or(tick.clone(), |p| with_peer(tick, p, self, now, now))
    }

    /// Since when it is up, here and ms since 1970.
    #[must_use]
    pub fn up_since(&self) -> Option<(Instant, u64)> {
        self.peers.first().map(|(_, p)| p.since).or(self.since)
    }

    /// The peer whose round trip takes most of its latency.
    #[must_use]
    pub fn worst_peer(&self) -> Option<&PeerLive> {
        let share = |p: &PeerLive| {
            let latency = p.gauges.latency.map_or(1.0, in_ms).max(1.0);
            p.gauges.rtt.map_or(0.0, in_ms) / latency
        };
        self.peers.iter().map(|(_, p)| p).max_by(|a, b| share(a).total_cmp(&share(b)))
    }
}
