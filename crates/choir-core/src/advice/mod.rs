//! Advice on latency and overhead for a path, from a stated model of the repair.

mod model;
mod words;

pub use model::{Outcome, outcome};
pub use words::say_share;

use crate::units::{Bitrate, say_duration};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// Media bytes in one packet: seven transport packets.
pub const PAYLOAD: f64 = 1316.0;
/// Bitrate of a line that does not say.
pub const USUAL_RATE: Bitrate = Bitrate(6_000_000);
/// Shares of packets delivered that advice is given for.
pub const TARGETS: [f64; 3] = [0.999, 0.9999, 0.99999];
/// The share that checks hold a line to: at 8 Mbit/s a packet lost about every second and a half.
pub const CHECKED_TARGET: f64 = TARGETS[0];
/// Least latency that is ever advised: below it a scheduling pause is heard.
const LATENCY_MIN: Duration = Duration::from_millis(20);
/// Longest latency that the handshake can carry.
const LATENCY_MAX: Duration = Duration::from_millis(65_535);
/// Part of an advised latency that is kept for what no model knows: a pause of either machine.
const MARGIN: Duration = Duration::from_millis(10);
/// Advised values are whole steps of this.
const STEP: Duration = Duration::from_millis(5);
/// Least and greatest overhead, percent.
const OVERHEAD: std::ops::RangeInclusive<u16> = 5..=100;

/// What is known of a path.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct PathFacts {
    /// Round-trip time.
    pub rtt: Duration,
    /// Variation of the one-way delay: what it exceeds its least value by at most.
    pub jitter: Duration,
    /// Share of packets lost towards the receiver, 0 to 1.
    pub loss: f64,
    /// Share lost on the way back, where it is known to differ.
    pub loss_back: Option<f64>,
    /// Mean number of packets lost in a row, at least 1.
    pub burst: f64,
}

impl PathFacts {
    /// A path with this round-trip time and nothing wrong with it.
    #[must_use]
    pub const fn clean(rtt: Duration) -> Self {
        Self { rtt, jitter: Duration::ZERO, loss: 0.0, loss_back: None, burst: 1.0 }
    }

    /// Two paths one behind the other.
    #[must_use]
    pub fn and(&self, next: &Self) -> Self {
        let both = |a: f64, b: f64| 1.0 - (1.0 - a) * (1.0 - b);
        let back = (self.loss_back.is_some() || next.loss_back.is_some())
            .then(|| both(self.loss_back.unwrap_or(self.loss), next.loss_back.unwrap_or(next.loss)));
        Self {
            rtt: self.rtt + next.rtt,
            jitter: self.jitter + next.jitter,
            loss: both(self.loss, next.loss),
            loss_back: back,
            burst: self.burst.max(next.burst),
        }
    }
}

/// The setting for one target.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Setting {
    /// Share of packets to be delivered, 0 to 1.
    pub target: f64,
    /// Smallest latency that does, ms; `None` when none does.
    pub latency_ms: Option<u64>,
    /// Room above the input that the sender needs for repeats, percent.
    pub overhead_percent: u16,
}

/// Advice for one path and bitrate.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Advice {
    /// One per [`TARGETS`].
    pub settings: Vec<Setting>,
    /// What the latency in use will lose, if there is one.
    pub present: Option<Present>,
}

/// What the present setting does.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Present {
    /// Latency in use, ms.
    pub latency_ms: u64,
    /// Share of packets not delivered, 0 to 1.
    pub undelivered: f64,
    /// Packets not delivered per hour.
    pub per_hour: f64,
}

/// Packets per second of this bitrate.
#[must_use]
pub fn packet_rate(rate: Bitrate) -> f64 {
    (rate.0 as f64 / (PAYLOAD * 8.0)).max(1.0)
}

/// The smallest latency that delivers `target` of the packets.
#[must_use]
pub fn latency_for(path: &PathFacts, rate: Bitrate, target: f64) -> Option<Duration> {
    let fits = |steps: u32| outcome(path, rate, STEP * steps).undelivered <= 1.0 - target;
    let most = (LATENCY_MAX.as_millis() / STEP.as_millis()) as u32;
    // From the round trip up: the longest latencies cost the most to work out, and are hardly ever
    // needed.
    let (mut low, mut high) = (0, (path.rtt.as_millis() / STEP.as_millis()) as u32 + 4);
    while !fits(high.min(most)) {
        if high >= most {
            return None;
        }
        (low, high) = (high + 1, high * 2);
    }
    high = high.min(most);
    while low < high {
        let middle = u32::midpoint(low, high);
        if fits(middle) {
            high = middle;
        } else {
            low = middle + 1;
        }
    }
    // Without loss the order still has to be restored.
    Some((STEP * high).max(path.jitter).max(LATENCY_MIN - MARGIN) + MARGIN)
}

/// Room for repeats: what is sent again on average and half as much, and a burst within half a
/// latency.
#[must_use]
pub fn overhead_for(path: &PathFacts, rate: Bitrate, latency: Duration) -> u16 {
    let again = outcome(path, rate, latency).sent_again;
    let bursts = if path.loss > 0.0 { 2.0 * path.burst / (packet_rate(rate) * latency.as_secs_f64().max(0.02)) } else { 0.0 };
    let percent = (1.5 * again + bursts) * 100.0;
    ((percent / 5.0).ceil() as u16 * 5).clamp(*OVERHEAD.start(), *OVERHEAD.end())
}

/// All advice for a path, beside what the latency in use does.
#[must_use]
pub fn advise(path: &PathFacts, rate: Bitrate, in_use: Option<Duration>) -> Advice {
    let setting = |&target: &f64| {
        let latency = latency_for(path, rate, target);
        let overhead_percent = overhead_for(path, rate, latency.unwrap_or(LATENCY_MAX));
        Setting { target, latency_ms: latency.map(|l| l.as_millis() as u64), overhead_percent }
    };
    let present = in_use.map(|latency| {
        let undelivered = outcome(path, rate, latency).undelivered;
        Present { latency_ms: latency.as_millis() as u64, undelivered, per_hour: undelivered * packet_rate(rate) * 3600.0 }
    });
    Advice { settings: TARGETS.iter().map(setting).collect(), present }
}

/// The path in words: `80 ms RTT, 2 % lost in bursts of 3`.
#[must_use]
pub fn say_path(path: &PathFacts) -> String {
    let rtt = if path.rtt < Duration::from_millis(1) { "under 1 ms".into() } else { say_duration(path.rtt) };
    let mut text = format!("{rtt} RTT");
    if path.loss > 0.0 {
        text += &format!(", {} lost", say_share(path.loss));
        if path.burst > 1.0 {
            text += &format!(" in bursts of {}", (path.burst * 10.0).round() / 10.0);
        }
    } else {
        text += ", nothing lost";
    }
    if path.jitter >= Duration::from_millis(1) {
        text += &format!(", {} jitter", say_duration(path.jitter));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: Bitrate = Bitrate(8_000_000);

    fn path(rtt: u64, loss: f64, burst: f64) -> PathFacts {
        PathFacts { loss, burst, ..PathFacts::clean(Duration::from_millis(rtt)) }
    }

    #[test]
    fn more_latency_never_delivers_less_and_a_clean_path_needs_the_least() {
        for (rtt, loss, burst) in [(5, 0.01, 1.0), (80, 0.02, 3.0), (300, 0.2, 10.0)] {
            let p = path(rtt, loss, burst);
            let shares: Vec<f64> = (0..200).map(|n| outcome(&p, RATE, Duration::from_millis(n * 10)).undelivered).collect();
            assert!((shares[0] - loss).abs() < 1e-9, "without time for a repeat all that is lost stays lost");
            assert!(shares.windows(2).all(|w| w[1] <= w[0] + 1e-12), "{rtt} {loss} {burst}");
        }
        assert_eq!(latency_for(&path(80, 0.0, 1.0), RATE, 0.99999), Some(LATENCY_MIN));
        assert_eq!(overhead_for(&path(80, 0.0, 1.0), RATE, LATENCY_MIN), 5);
    }

    #[test]
    fn the_advised_latency_is_the_smallest_that_does() {
        let p = path(80, 0.02, 3.0);
        for target in TARGETS {
            let latency = latency_for(&p, RATE, target).expect("one");
            let bare = latency - MARGIN;
            assert!(outcome(&p, RATE, bare).undelivered <= 1.0 - target);
            assert!(outcome(&p, RATE, bare - STEP).undelivered > 1.0 - target, "{latency:?} is not the smallest");
        }
        let a = advise(&p, RATE, Some(Duration::from_millis(60)));
        assert!(a.settings.windows(2).all(|w| w[0].latency_ms <= w[1].latency_ms));
        let present = a.present.expect("asked for");
        assert!((present.undelivered - 0.02).abs() < 1e-9 && present.per_hour > 50_000.0, "no repeat fits into 60 ms: {present:?}");
    }

    #[test]
    fn jitter_is_added_and_paths_add_up() {
        let calm = path(40, 0.01, 1.0);
        let shaky = PathFacts { jitter: Duration::from_millis(30), ..calm };
        let gain = latency_for(&shaky, RATE, 0.9999).expect("one") - latency_for(&calm, RATE, 0.9999).expect("one");
        assert_eq!(gain, Duration::from_millis(30));
        let both = calm.and(&PathFacts { loss_back: Some(0.5), ..path(10, 0.5, 4.0) });
        assert_eq!((both.rtt, both.burst), (Duration::from_millis(50), 4.0));
        assert!((both.loss - 0.505).abs() < 1e-9 && both.loss_back == Some(both.loss));
        assert_eq!(say_path(&shaky), "40 ms RTT, 1 % lost, 30 ms jitter");
        assert_eq!(say_path(&path(5, 0.025, 2.25)), "5 ms RTT, 2.5 % lost in bursts of 2.3");
        assert_eq!(latency_for(&path(300, 0.99, 10.0), Bitrate(1000), 0.99999), None, "hopeless");
    }
}
