//! Time-stamped delivery: when a packet is due, and how far the peer's clock has drifted.
//!
//! All times are µs on the local clock of the endpoint, as signed 64-bit numbers.

use super::seq::unwrap_timestamp;

/// One estimate per second is enough for clocks a few hundred ppm apart.
const WINDOW_US: i64 = 1_000_000;
/// Most correction per window: follows clocks up to 500 ppm apart and never makes a visible jump.
const STEP_US: i64 = 500;

/// No path holds a packet for so long beyond the latency, and none brings it so early.
const OFF_MOST_US: i64 = 10_000_000;
/// When nothing but such packets has come for this long (and for the latency), the peer's clock has
/// jumped.
const OFF_FOR_US: i64 = 1_000_000;

/// Maps the peer's timestamps to local release times.
#[derive(Debug)]
pub(super) struct TimeBase {
    /// Local time minus peer timestamp at the handshake.
    base: i64,
    latency: i64,
    drift: Drift,
    /// Since when nothing but packets has come that are far from their time.
    off_since: Option<i64>,
}

/// Whether a packet's time can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Timing {
    Plausible,
    /// Long before its time: a forged one, or one of a clock that has jumped.
    TooEarly,
    /// The peer's clock has jumped by so much (µs), which this packet's time allows for.
    Jumped(i64),
}

impl TimeBase {
    /// `arrived`: local time of the handshake that carried `timestamp`.
    pub fn new(arrived: i64, timestamp: u32, latency: i64) -> Self {
        Self { base: arrived - i64::from(timestamp), latency, drift: Drift::default(), off_since: None }
    }

    /// The timestamp carried over its 32-bit wrap: of all times that it may stand for, the one
    /// nearest to now. What came before does not count, so that a forged one changes nothing.
    pub fn unwrap(&self, now: i64, timestamp: u32) -> i64 {
        unwrap_timestamp(timestamp, now - self.base - self.drift.applied)
    }

    /// Judges the time of a packet that comes now. Late ones are no fault of the clock's where the
    /// peer waits for everything (`drop_late` is false).
    pub fn judge(&mut self, now: i64, ts: i64, drop_late: bool) -> Timing {
        let ahead = self.expected(ts) - now;
        let behind = -ahead - self.latency > OFF_MOST_US && drop_late;
        if ahead <= OFF_MOST_US && !behind {
            self.off_since = None;
            return Timing::Plausible;
        }
        if now - *self.off_since.get_or_insert(now) >= OFF_FOR_US.max(self.latency) {
            self.base -= ahead + self.drift.applied;
            (self.drift, self.off_since) = (Drift::default(), None);
            return Timing::Jumped(ahead);
        }
        if behind { Timing::Plausible } else { Timing::TooEarly }
    }

    /// Local time at which a packet with this (carried-over) timestamp is due.
    pub fn due(&self, ts: i64) -> i64 {
        self.expected(ts) + self.latency
    }

    /// Local time at which it would have come, had it been on the way as long as the handshake.
    pub fn expected(&self, ts: i64) -> i64 {
        self.base + ts + self.drift.applied
    }

    pub fn drift_us(&self) -> i64 {
        self.drift.applied
    }

    /// Takes one round trip: the peer stamped `timestamp`, it arrived `now`, `rtt` after our
    /// question.
    pub fn handle_sample(&mut self, now: i64, timestamp: u32, rtt: i64) {
        let ts = self.unwrap(now, timestamp);
        self.drift.sample(now, now - ts - rtt / 2, rtt);
    }
}

/// Of each window the sample with the shortest round trip counts: it waited least in queues, so
/// half its round trip is the best guess at the way here.
#[derive(Debug, Default)]
struct Drift {
    window_end: Option<i64>,
    best: Option<(i64, i64)>,
    reference: Option<i64>,
    applied: i64,
}

impl Drift {
    fn sample(&mut self, now: i64, offset: i64, rtt: i64) {
        let end = *self.window_end.get_or_insert(now + WINDOW_US);
        if self.best.is_none_or(|(best, _)| rtt < best) {
            self.best = Some((rtt, offset));
        }
        if now < end {
            return;
        }
        self.window_end = Some(now + WINDOW_US);
        let Some((_, offset)) = self.best.take() else { return };
        let reference = *self.reference.get_or_insert(offset);
        let error = offset - reference - self.applied;
        self.applied += (error / 4).clamp(-STEP_US, STEP_US);
    }
}

/// Round-trip time and its variation, µs.
#[derive(Debug, Clone, Copy)]
pub(super) struct Rtt {
    pub rtt: i64,
    pub var: i64,
    pub measured: bool,
    own_until: i64,
    /// Least round trip since the start: the way without its queues.
    least: i64,
}

/// What an end that has not measured yet says (draft, 4.10): no measurement.
const UNMEASURED: (u32, u32) = (100_000, 50_000);

/// Longest round trip believed, so that a hostile report cannot stop retransmission for good.
const RTT_MAX_US: i64 = 10_000_000;

impl Default for Rtt {
    fn default() -> Self {
        Self { rtt: 100_000, var: 50_000, measured: false, own_until: 0, least: i64::MAX }
    }
}

impl Rtt {
    /// What the greeting took: a first measurement, until acknowledgements bring better ones.
    pub fn from_greeting(now: i64, rtt: i64) -> Self {
        let mut own = Self::default();
        own.sample(now, rtt);
        own.own_until = now;
        own
    }

    /// A round trip measured here.
    pub fn sample(&mut self, now: i64, rtt: i64) {
        let rtt = rtt.clamp(1, RTT_MAX_US);
        if self.measured {
            self.var = (3 * self.var + (self.rtt - rtt).abs()) / 4;
            self.rtt = (7 * self.rtt + rtt) / 8;
        } else {
            (self.rtt, self.var, self.measured) = (rtt, rtt / 2, true);
        }
        self.own_until = now + 1_000_000;
        self.least = self.least.min(rtt);
    }

    /// What queues on the way add to the least round trip: 0 while nothing is measured, or where it
    /// only varies.
    pub fn queued(&self) -> i64 {
        if self.measured { (self.rtt - self.var - self.least.min(self.rtt)).max(0) } else { 0 }
    }

    /// What the peer measured and already smoothed; used only while we measure nothing ourselves.
    pub fn adopt(&mut self, now: i64, rtt_us: u32, var_us: u32) {
        if now >= self.own_until && (rtt_us, var_us) != UNMEASURED {
            self.rtt = i64::from(rtt_us).clamp(1, RTT_MAX_US);
            self.least = self.least.min(self.rtt);
            self.var = i64::from(var_us).clamp(0, RTT_MAX_US);
            self.measured = true;
        }
    }

    /// How long to wait before asking again for an answer that should have come.
    pub fn patience(&self) -> i64 {
        self.rtt + 4 * self.var
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn due_carries_over_the_wrap_of_the_timestamps() {
        let near = u32::MAX - 500_000;
        let base = TimeBase::new(7_000_000, near, 120_000);
        let at = |us: i64| base.due(base.unwrap(7_000_000 + us, near.wrapping_add(us as u32)));
        assert_eq!(at(400_000), 7_000_000 + 400_000 + 120_000);
        assert_eq!(at(1_000_000), 7_000_000 + 1_000_000 + 120_000);
        let late = base.unwrap(9_000_000, near.wrapping_add(400_000));
        assert_eq!(base.due(late), 7_000_000 + 400_000 + 120_000, "a late packet still finds its place");
        let hours = 3 * 3_600_000_000;
        assert_eq!(at(hours), 7_000_000 + hours + 120_000, "and one after hours of silence");
    }

    #[test]
    fn a_clock_that_jumps_is_told_from_packets_of_impossible_times() {
        let hour = 3_600_000_000_i64;
        for jump in [hour / 3, -hour / 3, 20_000_000] {
            let mut base = TimeBase::new(0, 0, 120_000);
            let mut come = |now: i64, off: i64| {
                let ts = base.unwrap(now, (now + off) as u32);
                let timing = base.judge(now, ts, true);
                (timing, base.due(ts) - now)
            };
            for n in 0..1000 {
                let forged = come(n * 10_000, jump).0;
                assert!(matches!(forged, Timing::TooEarly | Timing::Plausible), "a good one comes in between");
                assert_eq!(come(n * 10_000, 0), (Timing::Plausible, 120_000));
            }
            let all: Vec<_> = (1000..1200).map(|n| come(n * 10_000, jump)).collect();
            assert_eq!(all[100], (Timing::Jumped(jump), 120_000));
            assert!(all[101..].iter().all(|t| *t == (Timing::Plausible, 120_000)), "{:?}", all[101]);
        }
        // A peer that waits for everything may be late.
        let mut base = TimeBase::new(0, 0, 120_000);
        assert!((0..300).all(|n| base.judge(30_000_000 + n * 10_000, 0, false) == Timing::Plausible));
    }

    #[test]
    fn drift_is_followed_slowly_and_queues_on_the_way_are_not_taken_for_it() {
        let mut base = TimeBase::new(0, 0, 0);
        let mut now = 0;
        for second in 0..120i64 {
            for k in 0..100 {
                now = second * 1_000_000 + k * 10_000;
                // The peer's clock is 100 ppm slow; every other sample waited 30 ms in a queue on
                // the way here.
                let there = now - now / 10_000;
                let queued = if k % 2 == 0 { 30_000 } else { 0 };
                base.handle_sample(now, (there - 10_000 - queued) as u32, 20_000 + queued);
            }
        }
        let expected = now / 10_000;
        assert!((base.drift_us() - expected).abs() < 1000, "{} for {expected}", base.drift_us());
        // Nor are queues that come later: the sample that waited least tells.
        let mut base = TimeBase::new(0, 0, 0);
        for n in 0..600i64 {
            let (now, queued) = (1_000_000 + n * 100_000, if n > 100 && n % 3 > 0 { 30_000 } else { 0 });
            base.handle_sample(now, (now - 10_000 - queued) as u32, 20_000 + queued);
        }
        assert!(base.drift_us().abs() < 500, "{}", base.drift_us());
        // A path that becomes longer both ways alike is no drift either.
        let mut base = TimeBase::new(0, 0, 0);
        for n in 0..600i64 {
            let (now, one_way) = (1_000_000 + n * 100_000, if n < 300 { 10_000 } else { 50_000 });
            base.handle_sample(now, (now - one_way) as u32, 2 * one_way);
        }
        assert!(base.drift_us().abs() < 500, "{}", base.drift_us());
    }

    #[test]
    fn the_first_round_trip_counts_whole_and_a_peer_s_word_only_until_we_measure() {
        let mut rtt = Rtt::default();
        rtt.adopt(0, 80_000, 1_000);
        assert_eq!((rtt.rtt, rtt.var, rtt.measured), (80_000, 1_000, true));
        rtt.adopt(0, u32::MAX, u32::MAX);
        assert_eq!(rtt.rtt, RTT_MAX_US, "a hostile report is bounded");
        let mut own = Rtt::default();
        own.sample(0, 40_000);
        assert_eq!((own.rtt, own.var), (40_000, 20_000));
        own.adopt(10, 90_000, 0);
        assert_eq!(own.rtt, 40_000);
        own.sample(20, 80_000);
        assert_eq!(own.rtt, 45_000, "an eighth of what is new (draft, 4.10)");
        let mut long = Rtt::default();
        long.sample(0, 3 * RTT_MAX_US);
        assert_eq!(long.rtt, RTT_MAX_US, "a clock that jumps is bounded too");
        let mut own = Rtt::default();
        own.sample(0, 40_000);
        for _ in 0..50 {
            own.sample(0, 40_000);
        }
        assert!(own.patience() < 40_100);
    }
}
