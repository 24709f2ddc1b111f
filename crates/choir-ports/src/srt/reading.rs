//! From the counters of an SRT connection to those of a way in or out.

use crate::{Counters, Gauges, PeerLive};
use choir_core::facts::{Piece, Span};
use choir_proto::srt::{Extent, Glance, LinkStats};
use std::time::{Duration, Instant};

impl PeerLive {
    /// Takes what an SRT connection counts, and what has happened on it since the last call.
    pub fn read_srt(&mut self, now: Instant, way_in: bool, stats: &LinkStats, glance: &Glance) {
        let passed = {
            let before = std::mem::replace(&mut self.counters, counters_of(stats, way_in));
            self.counters.since(&before)
        };
        self.gauges = gauges_of(stats, way_in, glance);
        self.note_piece(
            now,
            Piece {
                ago: Duration::ZERO,
                packets: passed.packets,
                lost: passed.lost,
                headroom_ms: glance.headroom.map(span),
                transit_ms: glance.transit.map(span),
                rtt_ms: glance.rtt.map(span),
                hole: glance.hole.map(|h| (h.packets, micros(h.ago_us))),
            },
        );
    }
}

fn span(e: Extent) -> Span {
    Span { least: e.least_us as f64 / 1000.0, greatest: e.greatest_us as f64 / 1000.0 }
}

fn micros(us: i64) -> Duration {
    Duration::from_micros(us.max(0) as u64)
}

pub(super) fn counters_of(s: &LinkStats, way_in: bool) -> Counters {
    if way_in {
        return Counters {
            packets: s.received,
            bytes: s.received_bytes,
            lost: s.lost.saturating_sub(s.reordered),
            holes: s.holes,
            recovered: s.recovered,
            missing: s.skipped,
            acks: s.acks_sent,
            answered: s.acks_answered,
            undecrypted: s.undecrypted,
            wire_bytes: s.arrived_bytes,
            resent: s.repeats,
            late: s.came_late,
            ..Counters::default()
        };
    }
    Counters {
        packets: s.sent,
        bytes: s.sent_bytes,
        lost: s.reported_lost,
        holes: s.reported_holes,
        // As far as a sender knows: what it dropped, and what it was asked for too late.
        missing: s.send_dropped + s.given_up,
        resent: s.resent,
        dropped: s.send_dropped,
        window_dropped: s.window_dropped,
        wire_bytes: s.left_bytes,
        ..Counters::default()
    }
}

fn gauges_of(s: &LinkStats, way_in: bool, glance: &Glance) -> Gauges {
    let common = Gauges {
        rtt: Some(s.rtt).filter(|rtt| !rtt.is_zero()),
        silent: Some(micros(glance.silent_us)),
        peer_version: Some(s.peer_version),
        capacity_bps: glance.capacity_bps,
        ..Gauges::default()
    };
    if way_in {
        return Gauges {
            latency: Some(s.receive_latency),
            latency_asked: Some((s.latency_here.0, s.latency_there.0)),
            jitter: glance.transit.map(|_| micros(glance.jitter_us)),
            largest: Some(glance.largest).filter(|l| *l > 0),
            data_silent: glance.data_silent_us.map(micros),
            unanswered: Some(micros(glance.unanswered_us)),
            drift_us: Some(s.drift_us),
            ..common
        };
    }
    Gauges {
        latency: Some(s.send_latency),
        latency_asked: Some((s.latency_here.1, s.latency_there.1)),
        peer_window: Some(s.peer_window),
        peer_free: s.peer_free,
        peer_packets: s.peer_packets_per_s,
        unacknowledged: Some(micros(glance.unacknowledged_us)),
        ceiling_bps: Some(s.ceiling_bps).filter(|c| *c > 0),
        waited: Some(micros(glance.waited_us)),
        key_unconfirmed: Some(micros(glance.key_unconfirmed_us)),
        ..common
    }
}
