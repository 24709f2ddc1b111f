//! The ticks of a way, added up over the last second, the last ten, and since the start.

use crate::{
    facts::{Piece, Span, WayTick, per_second},
    view::SpanView,
};
use hdrhistogram::Histogram;
use std::{collections::VecDeque, time::Duration};

/// Ticks of the longer of the two short spans.
const TEN: usize = 10;
/// Times are kept in steps of this, ms.
const STEP_MS: f64 = 0.1;
/// Figures that are kept of them.
const FIGURES: u8 = 2;

/// Adds up the ticks of one way.
#[derive(Debug)]
pub struct Summary {
    recent: VecDeque<WayTick>,
    start: Sums,
}

impl Default for Summary {
    fn default() -> Self {
        Self { recent: VecDeque::new(), start: Sums::new() }
    }
}

impl Summary {
    /// Takes a tick.
    pub fn note(&mut self, tick: &WayTick) {
        if self.recent.len() == TEN {
            self.recent.pop_front();
        }
        self.recent.push_back(tick.clone());
        self.start.add(tick);
    }

    /// The last second, the last ten, and all since the start.
    #[must_use]
    pub fn spans(&self) -> Vec<SpanView> {
        let of = |ticks: &mut dyn Iterator<Item = &WayTick>| {
            let mut sums = Sums::new();
            ticks.for_each(|t| sums.add(t));
            sums.view()
        };
        vec![of(&mut self.recent.iter().rev().take(1)), of(&mut self.recent.iter()), self.start.view()]
    }
}

/// Values of which shares are asked, ms.
#[derive(Debug)]
struct Values {
    histogram: Option<Histogram<u32>>,
    span: Option<Span>,
}

impl Values {
    fn new() -> Self {
        // It grows with its values, up to the largest.
        let mut histogram = Histogram::new(FIGURES).ok();
        histogram.iter_mut().for_each(|h| h.auto(true));
        Self { histogram, span: None }
    }

    fn add(&mut self, ms: f64) {
        let one = Span { least: ms, greatest: ms };
        self.span = Some(self.span.map_or(one, |s| s.with(one)));
        let steps = (ms / STEP_MS).round().clamp(0.0, 1e6) as u64;
        if let Some(h) = &mut self.histogram {
            // Only memory could be lacking for it.
            let _ = h.record(steps);
        }
    }

    fn mean(&self) -> f64 {
        self.histogram.as_ref().map_or(0.0, |h| h.mean() * STEP_MS)
    }

    /// What this share does not exceed.
    fn at(&self, share: f64) -> f64 {
        self.histogram.as_ref().map_or(0.0, |h| h.value_at_quantile(share) as f64 * STEP_MS)
    }
}

#[derive(Debug)]
struct Sums {
    length: Duration,
    bytes: u64,
    wire_bytes: u64,
    least_bps: Option<u64>,
    most_wire_bps: u64,
    packets: u64,
    lost: u64,
    holes: u64,
    longest: u32,
    resent: u64,
    recovered: u64,
    late: u64,
    missing: u64,
    rtt: Values,
    headroom: Values,
    jitter: Option<(f64, u32, f64)>,
}

impl Sums {
    fn new() -> Self {
        Self {
            length: Duration::ZERO,
            bytes: 0,
            wire_bytes: 0,
            least_bps: None,
            most_wire_bps: 0,
            packets: 0,
            lost: 0,
            holes: 0,
            longest: 0,
            resent: 0,
            recovered: 0,
            late: 0,
            missing: 0,
            rtt: Values::new(),
            headroom: Values::new(),
            jitter: None,
        }
    }

    fn add(&mut self, t: &WayTick) {
        if t.bytes > 0 || self.bytes > 0 {
            self.length += t.length;
            self.least_bps = Some(self.least_bps.map_or(t.rate_bps(), |least| least.min(t.rate_bps())));
        }
        self.bytes += t.bytes;
        self.wire_bytes += t.wire_bytes;
        self.most_wire_bps = self.most_wire_bps.max(t.wire_bps());
        self.packets += t.packets;
        self.lost += t.lost;
        self.holes += t.holes;
        self.longest = self.longest.max(t.pieces.iter().filter_map(|p| p.hole).map(|h| h.0).max().unwrap_or(0));
        self.resent += t.resent;
        self.recovered += t.recovered;
        self.late += t.late;
        self.missing += t.missing;
        let spans = |of: fn(&Piece) -> Option<Span>| t.pieces.iter().filter_map(of);
        for rtt in spans(|p| p.rtt_ms) {
            self.rtt.add(rtt.least);
            self.rtt.add(rtt.greatest);
        }
        if let Some(rtt) = t.rtt_ms.filter(|_| spans(|p| p.rtt_ms).next().is_none()) {
            self.rtt.add(rtt);
        }
        spans(|p| p.headroom_ms).for_each(|h| self.headroom.add(h.least));
        if let Some(jitter) = t.jitter_ms {
            let (sum, count, most) = self.jitter.unwrap_or((0.0, 0, 0.0));
            self.jitter = Some((sum + jitter, count + 1, most.max(jitter)));
        }
    }

    fn view(&self) -> SpanView {
        let share = |part: u64, of: u64| if of == 0 { 0.0 } else { part as f64 / of as f64 };
        SpanView {
            seconds: self.length.as_secs_f64(),
            rate_bps: (per_second(self.bytes * 8, self.length), self.least_bps.unwrap_or(0)),
            wire_bps: per_second(self.wire_bytes * 8, self.length),
            rtt_ms: self.rtt.span.map(|s| (s.least, self.rtt.mean(), self.rtt.at(0.95).min(s.greatest))),
            jitter_ms: self.jitter.map(|(sum, count, most)| (sum / f64::from(count.max(1)), most)),
            headroom_ms: self.headroom.span.map(|s| (s.least, self.headroom.at(0.01).max(s.least))),
            packets: self.packets,
            lost: self.lost,
            lost_percent: share(self.lost, self.packets + self.missing) * 100.0,
            burst: (self.holes > 0).then(|| (share(self.lost, self.holes), self.longest)),
            resent: self.resent,
            recovered: self.recovered,
            late: self.late,
            missing: self.missing,
            carried_bps: self.most_wire_bps,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tick(n: u64) -> WayTick {
        let span = |least: f64, greatest: f64| Some(Span { least, greatest });
        let piece = |k: u64| Piece {
            rtt_ms: span(20.0 + n as f64, 22.0 + n as f64),
            headroom_ms: span(100.0 - n as f64, 110.0),
            hole: (k == 2).then_some((n as u32 % 4, Duration::ZERO)),
            ..Piece::default()
        };
        WayTick {
            length: Duration::from_secs(1),
            bytes: 500_000 + n * 1000,
            wire_bytes: 550_000,
            packets: 380,
            lost: 4,
            holes: 2,
            recovered: 3,
            missing: 1,
            late: 1,
            resent: 5,
            jitter_ms: Some(1.0 + n as f64 / 10.0),
            pieces: (0..5).map(piece).collect(),
            ..WayTick::default()
        }
    }

    #[test]
    fn a_second_ten_and_all_are_added_up() {
        let mut s = Summary::default();
        (0..40).for_each(|n| s.note(&tick(n)));
        let [one, ten, all] = s.spans().try_into().expect("three");
        assert_eq!((one.seconds, ten.seconds, all.seconds), (1.0, 10.0, 40.0));
        assert_eq!((one.rate_bps, ten.rate_bps.1, all.rate_bps.1), ((4_312_000, 4_312_000), 4_240_000, 4_000_000));
        assert_eq!((one.lost, ten.lost, all.lost), (4, 40, 160));
        assert_eq!((all.recovered, all.late, all.missing, all.resent), (120, 40, 40, 200));
        assert_eq!(all.burst, Some((2.0, 3)));
        assert!((all.lost_percent - 100.0 * 4.0 / 381.0).abs() < 1e-9);
        let (least, mean, most) = all.rtt_ms.expect("measured");
        assert!((least, (mean - 40.5).abs() < 0.5, (most - 59.0).abs() < 1.0) == (20.0, true, true), "{least} {mean} {most}");
        assert_eq!(one.rtt_ms.map(|r| (r.0, r.2)), Some((59.0, 61.0)));
        let (least, first) = all.headroom_ms.expect("measured");
        assert!(least == 61.0 && (61.0..62.5).contains(&first), "{least} {first}");
        assert_eq!(all.jitter_ms.map(|j| j.1), Some(4.9));
        assert_eq!(all.carried_bps, 4_400_000);
    }

    #[test]
    fn a_way_without_media_has_no_length_and_no_numbers() {
        let mut s = Summary::default();
        s.note(&WayTick { length: Duration::from_secs(1), ..WayTick::default() });
        let all = s.spans().pop().expect("all");
        assert_eq!(all, SpanView { rate_bps: (0, 0), ..SpanView::default() });
        assert_eq!(Summary::default().spans().len(), 3);
    }

    #[test]
    fn headroom_below_nothing_is_told_as_it_is() {
        let mut s = Summary::default();
        let piece = Piece { headroom_ms: Some(Span { least: -40.0, greatest: 3.0 }), ..Piece::default() };
        s.note(&WayTick { length: Duration::from_secs(1), bytes: 1, pieces: [piece].into(), ..WayTick::default() });
        assert_eq!(s.spans()[0].headroom_ms.map(|h| h.0), Some(-40.0));
    }
}
