//! What is known of a way at the end of a tick, and the course of it over the last minutes.

use crate::{
    advice::{self, PathFacts},
    facts::{Contact, Direction, Piece, Reading, WayTick, per_second},
    units::{Bitrate, of_ms},
};
use std::{collections::VecDeque, time::Duration};

/// Ticks that rules can look back on.
const TICKS: usize = 60;
/// Holes and delays that are remembered for their rhythm.
const BEATS: usize = 64;
/// Packets missing in a row, or part of the latency that is left, from which it may have a rhythm.
/// A keyframe takes longer on the way too, with every group of pictures, and is no trouble.
pub(super) const BEAT_PACKETS: u32 = 4;
const BEAT_HEADROOM: f64 = 0.05;
/// Corrections for the peer's clock that are looked back on.
pub(super) const DRIFTS: usize = 20;
/// Two signs so close to each other are one beat.
const ONE_BEAT: Duration = Duration::from_millis(250);
/// Share that is most of what is lost.
const MOST: f64 = 0.6;
/// The share of packets that an advised latency delivers.
const ADVISED: f64 = 0.99999;

/// This machine during a tick.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Own {
    /// How late packets left, ms.
    pub late_ms: f64,
    /// Share of a core that the thread took.
    pub busy: f64,
}

/// What has happened up to now.
#[derive(Debug, Clone, Default)]
pub(super) struct Course {
    /// With how late this machine was, ms, and how busy.
    ticks: VecDeque<(WayTick, Own)>,
    reading: Option<Reading>,
    now: Duration,
    /// Shortest transit and round trip of this connection, ms.
    least_transit: Option<f64>,
    least_rtt: Option<f64>,
    /// Largest payload that ever came on this connection.
    largest: u32,
    sessions: u32,
    /// There was a connection before this one.
    is_anew: bool,
    beats: VecDeque<Duration>,
    /// The last advice, and for what.
    advised: Option<(PathFacts, Option<Duration>)>,
    /// The last corrections for the peer's clock, µs; kept apart, since all are looked at each
    /// second.
    drift: VecDeque<f64>,
}

impl Course {
    pub fn note(&mut self, now: Duration, reading: &Reading) {
        self.now = now;
        if reading.contact == Contact::Up && reading.around.sessions != self.sessions {
            *self = Self { now, sessions: reading.around.sessions, is_anew: self.sessions > 0, ..Self::default() };
        }
        if reading.contact == Contact::Up {
            let t = &reading.tick;
            let least = |had: Option<f64>, new: Option<f64>| had.into_iter().chain(new).reduce(f64::min);
            self.least_transit = least(self.least_transit, t.transit_ms.map(|s| s.least));
            self.least_rtt = least(self.least_rtt, t.rtt_span_ms.map(|s| s.least).or(t.rtt_ms));
            self.largest = self.largest.max(t.largest.unwrap_or(0));
            self.note_beats(t);
            if let Some(us) = t.drift_us {
                if self.drift.len() == DRIFTS {
                    self.drift.pop_front();
                }
                self.drift.push_back(us as f64);
                self.drift.make_contiguous();
            }
            if self.ticks.len() == TICKS {
                self.ticks.pop_front();
            }
            let own = Own { late_ms: reading.around.late_ms.unwrap_or(0.0), busy: reading.around.busy.unwrap_or(0.0) };
            self.ticks.push_back((t.clone(), own));
        }
        self.reading = Some(reading.clone());
    }

    fn note_beats(&mut self, t: &WayTick) {
        for p in t.pieces.iter() {
            let hole = p.hole.filter(|(packets, _)| *packets >= BEAT_PACKETS).map(|(_, ago)| ago);
            let late = p.transit_ms.zip(t.latency_ms).is_some_and(|(s, latency)| s.greatest > (1.0 - BEAT_HEADROOM) * latency);
            let late = late.then_some(p.ago);
            let Some(ago) = hole.or(late) else { continue };
            let at = self.now.saturating_sub(ago);
            if self.beats.back().is_none_or(|last| at.saturating_sub(*last) > ONE_BEAT) {
                if self.beats.len() == BEATS {
                    self.beats.pop_front();
                }
                self.beats.push_back(at);
            } else if let Some(last) = self.beats.back_mut() {
                *last = at;
            }
        }
    }

    pub fn reading(&self) -> Option<&Reading> {
        self.reading.as_ref()
    }

    /// The last reading, if it is up.
    pub fn up(&self) -> Option<&Reading> {
        self.reading.as_ref().filter(|r| r.contact == Contact::Up)
    }

    pub fn is_in(&self) -> bool {
        self.reading.as_ref().is_some_and(|r| r.direction == Direction::In)
    }

    /// The last ticks, newest last.
    pub fn last(&self, count: usize) -> impl DoubleEndedIterator<Item = &WayTick> {
        self.ticks.iter().skip(self.ticks.len().saturating_sub(count)).map(|(t, _)| t)
    }

    pub fn ticks(&self) -> usize {
        self.ticks.len()
    }

    /// The parts of the last ticks, newest last.
    pub fn pieces(&self, ticks: usize) -> impl Iterator<Item = &Piece> {
        self.last(ticks).flat_map(|t| t.pieces.iter())
    }

    /// The sum of something over the last ticks.
    pub fn sum(&self, ticks: usize, of: impl Fn(&WayTick) -> u64) -> u64 {
        self.last(ticks).map(of).sum()
    }

    /// Share of packets lost on the path over the last ticks.
    pub fn lost_share(&self, ticks: usize) -> f64 {
        let lost = self.sum(ticks, |t| t.lost);
        lost as f64 / self.sum(ticks, |t| t.packets + t.missing).max(lost).max(1) as f64
    }

    /// Mean run of packets lost.
    pub fn burst(&self, ticks: usize) -> f64 {
        (self.sum(ticks, |t| t.lost) as f64 / self.sum(ticks, |t| t.holes).max(1) as f64).max(1.0)
    }

    /// Mean media rate over the last ticks, bits per second.
    pub fn rate(&self, ticks: usize) -> u64 {
        per_second(self.sum(ticks, |t| t.bytes) * 8, self.last(ticks).map(|t| t.length).sum())
    }

    /// Shortest transit of this connection, ms.
    pub fn least_transit(&self) -> Option<f64> {
        self.least_transit
    }

    pub fn least_rtt(&self) -> Option<f64> {
        self.least_rtt
    }

    /// Largest payload that ever came on this connection, bytes.
    pub fn largest(&self) -> u32 {
        self.largest
    }

    /// There was a connection before this one.
    pub fn is_anew(&self) -> bool {
        self.is_anew
    }

    /// This machine in all of so many last ticks; `None` while there are fewer.
    pub fn own(&self, count: usize) -> Option<impl Iterator<Item = &Own>> {
        let first = self.ticks.len().checked_sub(count)?;
        Some(self.ticks.iter().skip(first).map(|(_, own)| own))
    }

    /// Most of what was lost in the last ticks was lost in runs of so many packets or more.
    pub fn mostly_in_runs(&self, ticks: usize, least: u32) -> bool {
        let runs = self.pieces(ticks).filter_map(|p| p.hole).filter(|h| h.0 >= least);
        let in_runs: u64 = runs.map(|h| u64::from(h.0)).sum();
        in_runs as f64 >= MOST * self.sum(ticks, |t| t.lost) as f64
    }

    /// Signs of something that comes again and again, as times.
    pub fn beats(&self) -> impl ExactSizeIterator<Item = Duration> {
        self.beats.iter().copied()
    }

    /// The last corrections for the peer's clock, µs, once there are enough.
    pub fn drift(&self) -> Option<&[f64]> {
        (self.drift.len() == DRIFTS).then_some(self.drift.as_slices().0)
    }

    pub fn now(&self) -> Duration {
        self.now
    }

    /// The path as measured over the last ticks.
    pub fn path(&self, ticks: usize) -> Option<PathFacts> {
        let rtt = self.last(ticks).filter_map(|t| t.rtt_ms).reduce(f64::max)?;
        let transit = self.last(ticks).filter_map(|t| t.transit_ms).map(|s| s.greatest).reduce(f64::max);
        let jitter = transit.zip(self.least_transit).map_or(0.0, |(most, least)| most - least);
        Some(PathFacts { rtt: of_ms(rtt), jitter: of_ms(jitter), loss: self.lost_share(ticks), loss_back: None, burst: self.burst(ticks) })
    }

    /// The latency that this path takes, from the model; worked out anew only where the path has
    /// changed.
    pub fn advised(&mut self, path: &PathFacts) -> Option<Duration> {
        let near = |a: f64, b: f64| (a - b).abs() <= 0.2 * a.max(b);
        let same = |p: &PathFacts| {
            near(p.rtt.as_secs_f64(), path.rtt.as_secs_f64())
                && near(p.loss, path.loss)
                && near(p.burst, path.burst)
                && near(p.jitter.as_secs_f64() + 0.005, path.jitter.as_secs_f64() + 0.005)
        };
        if let Some((_, set)) = self.advised.filter(|(p, _)| same(p)) {
            return set;
        }
        let rate = Bitrate(self.rate(10).max(500_000));
        let set = advice::latency_for(path, rate, ADVISED).map(|l| Duration::from_millis(l.as_millis().div_ceil(10) as u64 * 10));
        self.advised = Some((*path, set));
        set
    }
}

/// The one in the middle.
pub(super) fn median(values: impl Iterator<Item = f64>) -> Option<f64> {
    let mut all: Vec<f64> = values.collect();
    all.sort_by(f64::total_cmp);
    all.get(all.len() / 2).copied()
}
