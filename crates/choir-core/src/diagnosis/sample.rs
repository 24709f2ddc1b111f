//! Made-up seconds of a link, for the tests of the rules.

use super::course::Course;
use crate::facts::{Around, Contact, Direction, MediaFacts, Piece, Reading, Span, WayTick};
use std::time::Duration;

/// Least and greatest.
pub fn span(least: f64, greatest: f64) -> Option<Span> {
    Some(Span { least, greatest })
}

/// A healthy second of 8 Mbps with a round trip of 20 ms in a latency of 120 ms.
pub fn tick() -> WayTick {
    let piece = |n: u32| Piece {
        ago: Duration::from_millis(200) * n,
        packets: 152,
        headroom_ms: span(105.0, 118.0),
        transit_ms: span(0.0, 3.0),
        rtt_ms: span(20.0, 22.0),
        ..Piece::default()
    };
    WayTick {
        length: Duration::from_secs(1),
        bytes: 1_000_000,
        packets: 760,
        wire_bytes: 1_033_000,
        acks: 100,
        answered: 100,
        rtt_ms: Some(20.0),
        rtt_span_ms: span(20.0, 22.0),
        headroom_ms: span(105.0, 118.0),
        transit_ms: span(0.0, 3.0),
        latency_ms: Some(120.0),
        largest: Some(1316),
        silent_ms: Some(1.0),
        data_silent_ms: Some(1.0),
        unanswered_ms: Some(5.0),
        drift_us: Some(0),
        peer_window: Some(8192),
        peer_free: Some(8000),
        peer_packets: Some(760),
        unacknowledged_ms: Some(25.0),
        waited_ms: Some(0.1),
        pieces: (0..5).rev().map(piece).collect(),
        ..WayTick::default()
    }
}

/// That second with losses: so many, spread over its parts in runs of so many.
pub fn lossy(lost: u64, run: u32) -> WayTick {
    let t = WayTick { lost, holes: lost / u64::from(run.max(1)), recovered: lost, ..tick() };
    with_pieces(t, |_, p| {
        p.lost = lost / 5;
        p.hole = (lost > 0).then_some((run, p.ago));
    })
}

/// That second with other parts.
pub fn with_pieces(t: WayTick, change: impl Fn(usize, &mut Piece)) -> WayTick {
    let mut pieces = t.pieces.to_vec();
    pieces.iter_mut().enumerate().for_each(|(n, p)| change(n, p));
    WayTick { pieces: pieces.into(), ..t }
}

/// What is known at its end.
pub fn reading(direction: Direction, tick: WayTick) -> Reading {
    let media = MediaFacts {
        quiet: Some(Duration::from_millis(2)),
        media_for: Duration::from_secs(60),
        readable: true,
        keyframe_seen: Some(true),
        ..MediaFacts::default()
    };
    Reading {
        contact: Contact::Up,
        direction,
        tick,
        up_for: Duration::from_secs(60),
        media: (direction == Direction::In).then_some(media),
        around: Around { sessions: 1, ..Around::default() },
    }
}

/// The course of a way after these readings, a second each.
pub fn after(readings: impl IntoIterator<Item = Reading>) -> Course {
    let mut course = Course::default();
    readings.into_iter().enumerate().for_each(|(n, r)| course.note(Duration::from_secs(n as u64 + 1), &r));
    course
}

/// The course of a way after these seconds.
pub fn course(direction: Direction, ticks: impl IntoIterator<Item = WayTick>) -> Course {
    after(ticks.into_iter().map(|t| reading(direction, t)))
}
