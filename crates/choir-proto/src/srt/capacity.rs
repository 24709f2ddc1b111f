//! What a path has room for, from packets that left in one burst and came spread out: where they
//! queue, they arrive as fast as the narrowest place lets them through. Times of whole reads are
//! enough, which packet pairs would not be served by.

use super::Seq;
use std::collections::VecDeque;

/// A burst must grow older on the way by at least this much (µs), so that the times of our own
/// reads do not matter.
const RISE_LEAST_US: i64 = 5_000;
/// And have so many packets, so that one that was held up is not taken for a queue.
const PACKETS_LEAST: u32 = 8;
/// A delay that has fallen so far below the greatest has ended a burst (µs, and this part of the
/// rise).
const FALL_US: i64 = 1_000;
const FALL_PART: i64 = 4;
/// Far more than any delay (µs).
const DELAY_MAX: i64 = 1 << 50;
/// Estimates that are kept, and for how long.
const KEPT: usize = 16;
const KEPT_US: i64 = 30_000_000;
/// Fewer say nothing.
const ESTIMATES_LEAST: usize = 3;

/// A packet's place within a burst: how long it was on the way (with an unknown offset), when it
/// came, and the bytes, packets and longest pause behind the burst's first one.
#[derive(Debug, Clone, Copy)]
struct Mark {
    delay: i64,
    now: i64,
    bytes: u64,
    packets: u32,
    pause: i64,
}

/// Follows bursts of one connection.
#[derive(Debug, Default)]
pub(super) struct Bursts {
    /// The first packet, the one that was longest on the way, and the last.
    burst: Option<(Mark, Mark, Mark)>,
    next: Option<Seq>,
    estimates: VecDeque<(i64, u64)>,
    /// What they say together.
    median: Option<u64>,
}

impl Bursts {
    /// Takes a data packet that left at `ts` by the sender's clock; `bytes` with all headers.
    pub fn note(&mut self, now: i64, seq: Seq, ts: i64, bytes: usize) {
        let follows = self.next == Some(seq);
        self.next = Some(seq.add(1));
        // Times that cannot be must not overflow what follows.
        let delay = now.saturating_sub(ts).clamp(-DELAY_MAX, DELAY_MAX);
        let first = Mark { delay, now, bytes: 0, packets: 0, pause: 0 };
        if let Some((begin, peak, last)) = self.burst.as_mut().filter(|_| follows) {
            let pause = last.pause.max(now.saturating_sub(last.now));
            *last = Mark { delay, now, bytes: last.bytes.saturating_add(bytes as u64), packets: last.packets.saturating_add(1), pause };
            let fallen = peak.delay - delay > FALL_US + (peak.delay - begin.delay) / FALL_PART;
            if delay > begin.delay && !fallen {
                if delay >= peak.delay {
                    *peak = *last;
                }
                return;
            }
        }
        self.close();
        self.burst = Some((first, first, first));
    }

    /// What the burst says, if it queued.
    fn close(&mut self) {
        let Some((begin, peak, _)) = self.burst.take() else { return };
        let (rise, spread) = (peak.delay - begin.delay, peak.now - begin.now);
        // It came more slowly than it left, all of it, and not after one long pause.
        let queued = rise >= RISE_LEAST_US && 3 * rise >= spread && 4 * peak.pause <= spread;
        if queued && peak.packets >= PACKETS_LEAST {
            if self.estimates.len() == KEPT {
                self.estimates.pop_front();
            }
            self.estimates.push_back((peak.now, peak.bytes.saturating_mul(8_000_000) / spread.max(1) as u64));
            self.estimates.retain(|(at, _)| peak.now - at <= KEPT_US);
            self.median = self.median();
        }
    }

    /// The median of the latest estimates, bits per second with all headers; `None` where there
    /// are too few, or they differ too much to say anything.
    pub fn capacity(&self, now: i64) -> Option<u64> {
        let (latest, _) = self.estimates.back()?;
        self.median.filter(|_| now - latest <= KEPT_US)
    }

    fn median(&self) -> Option<u64> {
        let mut all: Vec<u64> = self.estimates.iter().map(|(_, bps)| *bps).collect();
        if all.len() < ESTIMATES_LEAST {
            return None;
        }
        all.sort_unstable();
        let (low, middle, high) = (all[all.len() / 4], all[all.len() / 2], all[all.len() * 3 / 4]);
        (high - low <= middle / 2).then_some(middle)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: usize = 1360;

    /// Pictures of 20 packets each 40 ms, over a path of this rate; `came` says when a packet is
    /// read that arrived at a time, `keeps` which packets arrive.
    fn over(bps: f64, came: impl Fn(i64) -> i64, keeps: impl Fn(u32) -> bool) -> Option<u64> {
        let (mut bursts, mut free) = (Bursts::default(), 0.0f64);
        for n in 0..4000u32 {
            let ts = i64::from(n / 20 * 40_000);
            free = free.max(ts as f64) + SIZE as f64 * 8e6 / bps;
            if keeps(n) {
                bursts.note(came(free as i64 + 30_000), Seq::new(n), ts, SIZE);
            }
        }
        bursts.capacity(4000 / 20 * 40_000)
    }

    fn near(shown: Option<u64>, is: f64) {
        let shown = shown.expect("an estimate") as f64;
        assert!((shown - is).abs() < 0.05 * is, "{shown} for {is}");
    }

    #[test]
    fn bursts_show_what_the_narrowest_place_lets_through() {
        for bps in [6e6, 12e6, 25e6] {
            near(over(bps, |at| at, |_| true), bps);
            // Read each half millisecond, all that has come till then.
            near(over(bps, |at| (at / 500 + 1) * 500, |_| true), bps);
            // With one packet in a hundred lost.
            near(over(bps, |at| at, |n| n % 100 != 37), bps);
        }
    }

    #[test]
    fn a_path_on_which_nothing_queues_says_nothing() {
        assert_eq!(over(1e9, |at| at, |_| true), None);
        // A radio that holds all packets back for 15 ms now and then, and lets them go at once.
        assert_eq!(over(1e9, |at| if at % 100_000 < 15_000 { at / 100_000 * 100_000 + 15_000 } else { at }, |_| true), None);
        // Clocks that jump and times that cannot be: no number, and no panic.
        let mut bursts = Bursts::default();
        for (n, ts) in [0, i64::MAX, i64::MIN, 5, -7, i64::MAX].into_iter().cycle().take(600).enumerate() {
            bursts.note(n as i64, Seq::new(n as u32), ts, usize::MAX >> 8);
        }
        assert_eq!(bursts.capacity(600), None);
    }
}
