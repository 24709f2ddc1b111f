//! The path does not carry the bitrate. Its queue fills: packets take ever longer, and when it is
//! full every packet beyond what it carries is dropped. Radio loss does neither: it is random, and
//! leaves no queue behind.

use crate::{
    diagnosis::course::{Course, median},
    facts::{Cause, Piece, WayTick},
    units::{Bitrate, of_ms},
};
use smallvec::SmallVec;

/// Numbers of a few ticks: hundreds of ways are judged each second, and none of them on the heap.
type Few = SmallVec<[f64; 64]>;

/// Every packet waits in a queue when even the quickest takes so much longer than the quickest
/// ever, ms.
const STANDING_MS: f64 = 12.0;
/// A queue that grows by so much over three ticks, tick by tick, ms.
const GROWS_MS: f64 = 25.0;
/// Share lost from which drops are told from chance.
const SHARE: f64 = 0.01;
/// Lost in each part of a tick on average, so that the scatter says anything.
const LOST_EACH: f64 = 4.0;
/// Of what the path carries, so much is left to media: the rest is for repeats and headers.
const FOR_MEDIA: f64 = 0.82;

pub(super) fn path_full(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    if c.ticks() < 2 || r.tick.packets == 0 {
        return None;
    }
    let queues = queues(c);
    let now = *queues.last()?;
    let loss = c.lost_share(3);
    let standing = stands(c, now);
    let drops = loss > SHARE && all_along(c) && (evenly(c) || evened_out(c) || arrives_evenly(c));
    let starves = !c.is_in() && starves(c, now);
    let short = if !c.is_in() { missing_there(c, 2) > 0.04 } else { loss > SHARE && one_way_only(c, now) };
    let overdriven = standing && (starves || grows(&queues) || short && stood(&queues));
    if !(drops || overdriven) {
        return None;
    }
    // A peer that drops what comes too late does not count it.
    let carries = if starves { None } else { carries(c) };
    let set = carries.map(|c| round(c.0 as f64 * FOR_MEDIA));
    Some(Cause::PathFull { carries, set, queue: of_ms(now) })
}

/// A queue stands since this tick: what it is of is told with the next.
pub(super) fn begins(c: &Course) -> bool {
    let queues = queues(c);
    queues.last().is_some_and(|now| stands(c, *now) && !stood(&queues) && (!c.is_in() || one_way_only(c, *now)))
}

fn stands(c: &Course, queue: f64) -> bool {
    queue > if c.is_in() { STANDING_MS } else { STANDING_MS.max(0.15 * c.least_rtt().unwrap_or(0.0)) }
}

/// How long packets wait at least in each of the last ticks: how much longer than the quickest ever
/// the quickest took, ms; of a way out, the round trip.
fn queues(c: &Course) -> Few {
    let way_in = c.is_in();
    let Some(least) = (if way_in { c.least_transit() } else { c.least_rtt() }) else { return Few::new() };
    c.last(6).filter_map(|t| if way_in { t.transit_ms } else { t.rtt_span_ms }).map(|s| s.least - least).collect()
}

/// Longer with each of three ticks.
fn grows(queues: &[f64]) -> bool {
    let Some(last) = queues.len().checked_sub(3).map(|at| &queues[at..]) else { return false };
    last.windows(2).all(|w| w[1] > w[0] + GROWS_MS / 6.0) && last[2] - last[0] > GROWS_MS
}

/// It stood in the ticks before as well.
fn stood(queues: &[f64]) -> bool {
    queues.len() >= 2 && queues[queues.len() - 2..].iter().all(|q| *q > STANDING_MS)
}

/// Something is lost in most parts of a tick: not in a few outages.
fn all_along(c: &Course) -> bool {
    let (lost, all) = c.pieces(4).fold((0, 0), |(lost, all), p| (lost + u32::from(p.lost > 0), all + 1));
    all >= 12 && lost * 10 >= all * 6
}

/// Far less arrives than is sent, and always as much: chance would make it more at one time and
/// less at another. Where no repeat fits into the latency, what is lost is simply missing.
fn arrives_evenly(c: &Course) -> bool {
    let Some(t) = c.last(1).next().filter(|_| !c.is_in() && c.ticks() > 5) else { return false };
    let fits = t.latency_ms.zip(t.rtt_ms).is_some_and(|(latency, rtt)| latency > 1.1 * rtt);
    let at_ceiling = t.ceiling_bps.is_some_and(|ceiling| c.last(5).any(|t| t.wire_bps() as f64 > 0.9 * ceiling as f64));
    let arrives: Few = c.last(5).filter_map(|t| t.peer_packets).map(f64::from).collect();
    fits && !at_ceiling && missing_there(c, 5) > 0.15 && scatter(&arrives).is_some_and(|s| s < 0.35)
}

/// Share of what is sent that does not arrive at the peer, as it says.
fn missing_there(c: &Course, ticks: usize) -> f64 {
    let arrives: u64 = c.last(ticks).filter_map(|t| t.peer_packets).map(u64::from).sum();
    1.0 - arrives as f64 / c.sum(ticks, |t| t.packets).max(1) as f64
}

/// Variance over mean.
fn scatter(all: &[f64]) -> Option<f64> {
    let mean = all.iter().sum::<f64>() / all.len().max(1) as f64;
    (all.len() > 4).then(|| all.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / all.len() as f64 / mean.max(1.0))
}

/// The queue is longer than most of the latency, and hardly anything arrives in time.
fn starves(c: &Course, queue: f64) -> bool {
    c.last(1).find_map(|t| t.latency_ms).is_some_and(|latency| queue > 0.8 * latency) && missing_there(c, 2) > 0.4
}

/// Losses come too evenly for chance: over a few ticks much too evenly, over more somewhat.
fn evenly(c: &Course) -> bool {
    let even = |ticks: usize, limit: f64| {
        let lost: Few = c.pieces(ticks).filter(|p| p.packets > 0).map(|p| p.lost as f64).collect();
        let mean = lost.iter().sum::<f64>() / lost.len().max(1) as f64;
        lost.len() >= ticks * 3 && mean >= LOST_EACH && scatter(&lost).is_some_and(|s| s < limit)
    };
    even(4, 0.15) || even(9, 0.35)
}

/// What is sent varies from part to part, and what comes through does not.
fn evened_out(c: &Course) -> bool {
    let way_in = c.is_in();
    let of = |each: &dyn Fn(&Piece) -> u64| {
        let all: Few = c.pieces(4).filter(|p| p.packets > 0).map(|p| each(p) as f64).collect();
        scatter(&all).filter(|_| all.len() >= 12)
    };
    let (sent, came) = if way_in {
        (of(&|p| p.packets + p.lost), of(&|p| p.packets))
    } else {
        (of(&|p| p.packets), of(&|p| p.packets.saturating_sub(p.lost)))
    };
    sent.zip(came).is_some_and(|(sent, came)| sent > 1.0 && came < 0.25 * sent)
}

/// The round trip has grown by as much as the way here, not twice as much: packets wait in a queue
/// on the way here; the path itself has not become longer.
fn one_way_only(c: &Course, queue: f64) -> bool {
    let Some(least) = c.least_rtt() else { return true };
    let now = c.last(1).filter_map(|t| t.rtt_span_ms.map(|s| s.least)).fold(f64::MAX, f64::min);
    now == f64::MAX || now - least < 1.5 * queue + 5.0
}

/// What came through on the wire while the queue stood.
fn carries(c: &Course) -> Option<Bitrate> {
    let of = |t: &WayTick| {
        if c.is_in() {
            return Some(t.wire_bps() as f64);
        }
        // The peer counts packets: their mean size is that of those that left.
        let size = t.wire_bytes as f64 * 8.0 / (t.packets as f64).max(1.0);
        t.peer_packets.filter(|n| *n > 0).map(|n| f64::from(n) * size)
    };
    median(c.last(3).filter_map(of)).map(round)
}

/// Two figures are all that can be said.
fn round(bps: f64) -> Bitrate {
    let step = 10f64.powf(bps.max(1.0).log10().floor() - 1.0);
    Bitrate(((bps / step).round() * step) as u64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, lossy, span, tick, with_pieces};
    use crate::facts::Direction;

    /// A queue of so many ms more each second.
    fn queueing(more: f64) -> impl Iterator<Item = WayTick> {
        (0..8).map(move |n| {
            let wait = f64::from((n - 2).max(0)) * more;
            WayTick {
                transit_ms: span(wait, wait + 3.0),
                rtt_span_ms: span(20.0 + wait, 22.0 + wait),
                rtt_ms: Some(20.0 + wait),
                wire_bytes: 800_000,
                ..tick()
            }
        })
    }

    #[test]
    fn a_queue_that_grows_is_a_full_path_with_what_it_carries() {
        let Some(Cause::PathFull { carries, set, queue }) = path_full(&mut course(Direction::In, queueing(40.0))) else {
            panic!("not told")
        };
        assert_eq!((carries, set), (Some(Bitrate(6_400_000)), Some(Bitrate(5_200_000))));
        assert_eq!(queue.as_millis(), 200);
        assert!(begins(&course(Direction::In, queueing(40.0).take(4))));
        assert_eq!(path_full(&mut course(Direction::In, queueing(0.5))), None);
    }

    #[test]
    fn losses_too_even_for_chance_are_drops_of_a_full_path() {
        let even = lossy(150, 1);
        assert!(matches!(path_full(&mut course(Direction::In, vec![even; 6])), Some(Cause::PathFull { .. })));
        // As many, by chance: what is sent is even, and what comes is not.
        let chance = |t: usize, n: usize, p: &mut Piece| {
            p.lost = [3, 61, 12, 44, 30, 9, 57][(t * 5 + n) % 7];
            p.packets = 182 - p.lost;
        };
        let chance = (0..6).map(|t| with_pieces(lossy(150, 1), |n, p| chance(t, n, p)));
        assert_eq!(path_full(&mut course(Direction::In, chance)), None);
    }
}
