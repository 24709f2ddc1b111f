//! The stated model: what share of packets repeat-on-request leaves undelivered, given a path and a
//! latency.
//!
//! It follows our own SRT engine (draft-sharabayko-srt, 4.8): a gap is noticed with the next packet
//! that arrives, reported at once, reported again every half round trip (never faster than 20 ms),
//! and answered at most once per round trip. Both directions lose packets in bursts: two states,
//! everything is lost in the bad one, and the chances of changing over follow from the loss share
//! and the mean burst.

use super::{PathFacts, packet_rate};
use crate::units::Bitrate;
use std::time::Duration;

/// Reports are never repeated faster (draft, periodic NAK).
const REPORT_MIN: f64 = 0.020;
/// Acknowledgements per second, which share the way back with the reports.
const ACKS: f64 = 100.0;
/// Share of packets that come too late when the latency is less than the jitter.
const LATE_SHARE: f64 = 0.002;
/// A chance that is none.
const NOTHING: f64 = 1e-15;
/// Tries beyond which nothing measurable is left.
const TRIES_MAX: usize = 400;

/// One direction as a chain of two states.
#[derive(Debug, Clone, Copy)]
struct Chain {
    loss: f64,
    /// What is left of the memory after one packet.
    memory: f64,
    /// Chance that a burst ends with a packet.
    leave: f64,
}

impl Chain {
    fn new(loss: f64, burst: f64) -> Self {
        if burst <= 1.0 {
            return Self { loss, memory: 0.0, leave: 1.0 - loss };
        }
        let leave = 1.0 / burst;
        let enter = (leave * loss / (1.0 - loss).max(1e-9)).min(1.0);
        Self { loss, memory: (1.0 - leave - enter).max(0.0), leave }
    }

    /// Chance of the bad state `packets` later, from the chance now.
    fn later(self, bad: f64, packets: f64) -> f64 {
        self.loss + (bad - self.loss) * self.memory.powf(packets.max(1.0))
    }
}

/// What the model says of one setting.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Outcome {
    /// Share of packets not delivered in time, 0 to 1.
    pub undelivered: f64,
    /// Packets sent again, as a share of those sent.
    pub sent_again: f64,
}

/// What becomes of packets of `rate` over `path` with this latency.
#[must_use]
pub fn outcome(path: &PathFacts, rate: Bitrate, latency: Duration) -> Outcome {
    let loss = path.loss.clamp(0.0, 0.99);
    // Jitter is what one packet in a thousand exceeds: with less latency at least twice as many
    // come too late.
    let late = if latency < path.jitter { LATE_SHARE } else { 0.0 };
    if loss <= 0.0 {
        return Outcome { undelivered: late, sent_again: 0.0 };
    }
    let there = Chain::new(loss, path.burst);
    let packets = packet_rate(rate);
    let spacing = 1.0 / packets;
    // A packet that waits in a queue may be repeated later by as much.
    let budget = latency.as_secs_f64() - path.jitter.as_secs_f64();
    let (mut undelivered, mut sent_again, mut weight) = (0.0, 0.0, 1.0);
    for k in 1..=200_u32 {
        let share = weight * there.leave;
        weight -= share;
        let o = tries(path, there, packets, budget, f64::from(k - 1) * spacing);
        undelivered += share * o.undelivered;
        sent_again += share * o.sent_again;
        if weight < 1e-12 {
            break;
        }
    }
    Outcome { undelivered: (loss * (undelivered + weight)).max(late), sent_again: loss * sent_again }
}

/// One lost packet of a burst that ends `after` seconds behind it: the chance that no try succeeds,
/// and the tries made.
///
/// A hole is given up when the packet behind it is due. Until a first answer has come, that is the
/// packet that showed the hole; afterwards it is the next one of the burst, already repaired.
fn tries(path: &PathFacts, there: Chain, packets: f64, budget: f64, after: f64) -> Outcome {
    let rtt = path.rtt.as_secs_f64();
    let each = if rtt >= 2.0 * REPORT_MIN { rtt / 2.0 } else { rtt.max(REPORT_MIN) };
    // After an answer, reports are not listened to for a round trip.
    let after_answer = if each < rtt { DEAF } else { LISTENING };
    let back = Chain::new(path.loss_back.unwrap_or(path.loss), path.burst);
    // Chance of being bad one step later, from good and from bad.
    let ways = {
        let there_step = each * (packets * (1.0 + there.loss) + ACKS);
        let back_step = each * (ACKS + packets * there.loss / path.burst.max(1.0));
        Ways { there: [0.0, 1.0].map(|bad| there.later(bad, there_step)), back: [0.0, 1.0].map(|bad| back.later(bad, back_step)) }
    };
    let mut state: States = [[[0.0; 2]; 2]; 3];
    let bad_there = there.later(0.0, rtt * (packets * (1.0 + there.loss) + ACKS));
    for (f, pf) in [(0, 1.0 - bad_there), (1, bad_there)] {
        state[UNANSWERED][f][0] = pf * (1.0 - back.loss);
        state[UNANSWERED][f][1] = pf * back.loss;
    }
    let mut sent = 0.0;
    for j in 0..TRIES_MAX {
        let arrives = rtt + each * j as f64;
        if arrives > budget {
            break;
        }
        let mut next = [[[0.0; 2]; 2]; 3];
        for (stage, by_way) in state.iter().enumerate() {
            let in_time = stage == UNANSWERED || arrives + after <= budget;
            for (f, by_report) in by_way.iter().enumerate() {
                for (r, chance) in by_report.iter().enumerate() {
                    let answered = stage != DEAF && r == 0;
                    sent += if answered { *chance } else { 0.0 };
                    // It came: this share is repaired.
                    if answered && f == 0 && in_time {
                        continue;
                    }
                    let to = match (answered, stage) {
                        (true, _) => after_answer,
                        (false, UNANSWERED) => UNANSWERED,
                        (false, _) => LISTENING,
                    };
                    next[to][f][r] += *chance;
                }
            }
        }
        state = step(&next, &ways);
        if state.iter().flatten().flatten().sum::<f64>() < NOTHING {
            break;
        }
    }
    let left: f64 = state.iter().flatten().flatten().sum();
    Outcome { undelivered: left.clamp(0.0, 1.0), sent_again: sent }
}

/// Chance of not having been repaired, by stage, and by which way is bad: there, back.
type States = [[[f64; 2]; 2]; 3];
/// No report was answered yet.
const UNANSWERED: usize = 0;
/// Answered just now: the next report is not listened to.
const DEAF: usize = 1;
/// Answered before.
const LISTENING: usize = 2;

/// How each way moves on.
struct Ways {
    there: [f64; 2],
    back: [f64; 2],
}

/// Both ways move on independently.
fn step(now: &States, ways: &Ways) -> States {
    let mut next = [[[0.0; 2]; 2]; 3];
    for (stage, by_way) in now.iter().enumerate() {
        for (f, by_report) in by_way.iter().enumerate() {
            for (r, chance) in by_report.iter().enumerate() {
                for (to_f, pf) in [(0, 1.0 - ways.there[f]), (1, ways.there[f])] {
                    next[stage][to_f][0] += chance * pf * (1.0 - ways.back[r]);
                    next[stage][to_f][1] += chance * pf * ways.back[r];
                }
            }
        }
    }
    next
}
