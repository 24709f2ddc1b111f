//! The advice's model beside the engine itself on a simulated path, over the whole table.

use choir_core::{
    advice::{PathFacts, TARGETS, latency_for, outcome, overhead_for, packet_rate},
    units::Bitrate,
};
use choir_path::Faults;
use choir_proto::srt::{Ceiling, LinkConfig};
use choir_rig::pair::{A, B, Pair, ms, payload};
use std::{fmt::Write, time::Duration};

const RATE: Bitrate = Bitrate(8_000_000);
const LOSSES: [f64; 6] = [0.001, 0.005, 0.02, 0.05, 0.10, 0.20];
const RTTS: [u64; 6] = [5, 20, 50, 100, 200, 300];
/// Bursts that must have been left undelivered before a ratio says anything.
const ENOUGH: f64 = 60.0;

fn facts(loss: f64, rtt: u64, burst: f64) -> PathFacts {
    PathFacts { loss, burst, ..PathFacts::clean(ms(rtt)) }
}

/// The share that the engine leaves undelivered.
fn simulate(path: &PathFacts, latency: Duration, ceiling: Ceiling, packets: u64) -> f64 {
    simulate_at(path, RATE, latency, ceiling, packets)
}

fn simulate_at(path: &PathFacts, rate: Bitrate, latency: Duration, ceiling: Ceiling, packets: u64) -> f64 {
    let spacing = Duration::from_secs_f64(1.0 / packet_rate(rate));
    let faults = Faults { delay: path.rtt / 2, loss: path.loss, burst: path.burst, ..Faults::default() };
    let seed = path.rtt.as_micros() as u64 ^ latency.as_micros() as u64 ^ ((path.loss * 1e4) as u64) << 32;
    let mut pair = Pair::new(seed, faults.clone(), faults);
    let config = LinkConfig { ceiling, connect_timeout: ms(60_000), ..LinkConfig::default() }.with_latency(latency);
    pair.call(config.clone(), config);
    assert!(pair.join(ms(60_000)));
    let from = pair.up(A).expect("up");
    let mut before = 0;
    // The first seconds settle the round-trip time and are not judged.
    let settle = 2000;
    for n in 0..packets + settle {
        pair.send(A, from, payload(n, 16));
        pair.run_for(spacing);
        if n == settle {
            before = pair.ends[B].link_stats(pair.up(B).expect("up")).expect("stats").skipped;
        }
        pair.seen[B].delivered.clear();
    }
    pair.run_for(latency + path.rtt + ms(100));
    (pair.ends[B].link_stats(pair.up(B).expect("up")).expect("stats").skipped - before) as f64 / packets as f64
}

fn compare(burst: f64) {
    let (mut judged, mut far_off, mut table) = (0, Vec::new(), String::new());
    for loss in LOSSES {
        for rtt in RTTS {
            let path = facts(loss, rtt, burst);
            // One and a half, and three round trips: some tries fit, and enough is left to be
            // counted.
            for times in [1.5, 3.0] {
                let latency = ms(rtt.max(20)).mul_f64(times) + ms(7);
                let predicted = outcome(&path, RATE, latency).undelivered;
                // As many packets as leave enough to count, within reason.
                let packets = (2.0 * ENOUGH * burst / predicted.max(1e-9)).clamp(20_000.0, 40_000.0 * (1.0 + burst / 5.0));
                let simulated = simulate(&path, latency, Ceiling::Unlimited, packets as u64);
                let ratio = simulated / predicted;
                let enough = predicted * packets >= ENOUGH * burst;
                let _ = writeln!(table, "{loss} {rtt} {latency:?}: {predicted:.2e} {simulated:.2e} {ratio:.2} {enough}");
                if enough {
                    judged += 1;
                    if !(0.5..=2.0).contains(&ratio) {
                        far_off.push(format!("{loss} {rtt} ms {latency:?}: predicted {predicted:.2e}, simulated {simulated:.2e}"));
                    }
                } else if simulated * packets > 2.0 * predicted * packets + 3.0 * burst * (1.0 + (predicted * packets).sqrt()) {
                    far_off.push(format!("{loss} {rtt} ms {latency:?}: predicted {predicted:.2e}, simulated {simulated:.2e}, too few"));
                }
            }
        }
    }
    println!("{table}");
    assert!(far_off.is_empty(), "{far_off:#?}");
    assert!(judged >= 20, "only {judged} could be judged");
}

#[test]
fn prediction_and_engine_agree_for_single_losses() {
    compare(1.0);
}

#[test]
fn prediction_and_engine_agree_for_short_bursts() {
    compare(3.0);
}

#[test]
fn prediction_and_engine_agree_for_long_bursts() {
    compare(10.0);
}

#[test]
fn the_advised_latency_and_overhead_deliver_what_they_promise() {
    for (loss, rtt, burst) in [(0.02, 20, 1.0), (0.05, 50, 3.0), (0.10, 100, 3.0), (0.20, 50, 10.0), (0.02, 200, 10.0)] {
        let path = facts(loss, rtt, burst);
        let latency = latency_for(&path, RATE, TARGETS[0]).expect("one");
        let overhead = Ceiling::Overhead(overhead_for(&path, RATE, latency));
        let simulated = simulate(&path, latency, overhead, 60_000);
        assert!(simulated <= 2.0 * (1.0 - TARGETS[0]), "{loss} {rtt} {burst}: {simulated:.2e} with {latency:?} and {overhead:?}");
    }
}

#[test]
fn the_table_of_advice() {
    let mut table = String::from("8 Mbps\n loss burst    RTT |   99.9 %  99.99 % 99.999 % | overhead\n");
    for loss in LOSSES {
        for burst in [1.0, 3.0, 10.0] {
            for rtt in RTTS {
                let path = facts(loss, rtt, burst);
                let latencies = TARGETS.map(|t| latency_for(&path, RATE, t).expect("one"));
                let _ = write!(table, "{:3.1} % {burst:5} {rtt:3} ms |", loss * 100.0);
                for l in latencies {
                    let _ = write!(table, "{:6} ms", l.as_millis());
                }
                let _ = writeln!(table, " | {:3} %", overhead_for(&path, RATE, latencies[2]));
            }
        }
    }
    insta::assert_snapshot!(table);
}

#[test]
fn prediction_and_engine_agree_at_other_bitrates() {
    for rate in [Bitrate(2_000_000), Bitrate(20_000_000)] {
        for (loss, rtt, burst, times) in [(0.05, 20, 1.0, 1.5), (0.10, 50, 3.0, 1.5), (0.20, 100, 1.0, 3.0), (0.20, 50, 10.0, 1.5)] {
            let path = facts(loss, rtt, burst);
            let latency = ms(rtt.max(20)).mul_f64(times) + ms(7);
            let predicted = outcome(&path, rate, latency).undelivered;
            let simulated = simulate_at(&path, rate, latency, Ceiling::Unlimited, 40_000);
            let ratio = simulated / predicted;
            assert!((0.5..=2.0).contains(&ratio), "{rate} {loss} {rtt} {burst}: predicted {predicted:.2e}, simulated {simulated:.2e}");
        }
    }
}
