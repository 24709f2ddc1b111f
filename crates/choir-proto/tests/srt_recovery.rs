//! How well loss is repaired, as a table beside the bound of an ideal repeat-on-request: what a
//! protocol that hears of each loss with the next packet, and asks once per round trip, cannot do
//! better than.

use choir_path::Faults;
use choir_proto::srt::{Ceiling, LinkConfig};
use choir_rig::pair::{A, B, Pair, ms, payload};
use std::{fmt::Write, time::Duration};

const PACKETS: u64 = 60_000;
/// 8 Mbit/s in packets of 1316 bytes.
const SPACING: Duration = Duration::from_micros(1316);

/// Undelivered share R of the ideal: a loss noticed k packets later (because
/// the k-1 between were lost too) leaves floor((L - r - k d) / max(r, 20 ms)) + 1 tries.
fn ideal(p: f64, rtt: f64, latency: f64) -> f64 {
    let d = SPACING.as_secs_f64() * 1000.0;
    let each = 1.0 - (1.0 - p) * (1.0 - p);
    let mut undelivered = 0.0;
    for k in 1..60 {
        let share = (1.0 - p) * p.powi(k - 1);
        let tries = (((latency - rtt - f64::from(k) * d) / rtt.max(20.0)).floor() + 1.0).max(0.0);
        undelivered += share * each.powf(tries);
    }
    p * undelivered
}

fn measure(p: f64, rtt: u64, latency: u64) -> (f64, f64) {
    let faults = Faults { delay: ms(rtt / 2), loss: p, ..Faults::default() };
    let mut pair = Pair::new(rtt * 1000 + latency, faults.clone(), faults);
    let config = LinkConfig { ceiling: Ceiling::Unlimited, connect_timeout: ms(20_000), ..LinkConfig::default() };
    let config = config.with_latency(ms(latency));
    pair.call(config.clone(), config);
    assert!(pair.join(ms(20_000)));
    let from = pair.up(A).expect("up");
    // The first second settles the round-trip time and is not judged.
    let mut before = (0, 0);
    for n in 0..PACKETS + 760 {
        pair.send(A, from, payload(n, 64));
        pair.run_for(SPACING);
        if n == 760 {
            let to = pair.up(B).expect("up");
            before = (pair.ends[B].link_stats(to).expect("stats").skipped, pair.ends[A].link_stats(from).expect("stats").resent);
        }
        pair.seen[B].delivered.clear();
    }
    pair.run_for(ms(latency + rtt + 100));
    let skipped = pair.ends[B].link_stats(pair.up(B).expect("up")).expect("stats").skipped - before.0;
    let resent = pair.ends[A].link_stats(from).expect("stats").resent - before.1;
    (skipped as f64 / PACKETS as f64, resent as f64 / PACKETS as f64)
}

#[test]
fn recovery_stays_close_to_the_ideal() {
    let mut table = String::from(" loss   RTT latency | undelivered   ideal   ratio | sent again   ideal   ratio\n");
    let mut far_off = Vec::new();
    for p in [0.01, 0.05, 0.1, 0.2] {
        for rtt in [10u64, 40, 100] {
            for times in [2u64, 3, 4, 6] {
                let latency = rtt * times;
                let (r, o) = measure(p, rtt, latency);
                let ri = ideal(p, rtt as f64, latency as f64);
                // Least repeats for what was in fact repaired.
                let oi = (p - r) / (1.0 - p);
                let ratio = r / ri;
                // Under 100 undelivered packets the ratio says nothing.
                let shown = if ri * PACKETS as f64 >= 100.0 { format!("{ratio:7.2}") } else { "      -".into() };
                let _ = writeln!(
                    table,
                    "{:4.0} % {rtt:4} ms {latency:4} ms | {r:11.2e} {ri:7.1e} {shown} | {o:10.3} {oi:7.3} {:7.2}",
                    p * 100.0,
                    o / oi
                );
                if ri * PACKETS as f64 >= 100.0 && ratio > 2.0 || o / oi > 1.2 {
                    far_off.push(format!("{p} {rtt} {latency}: undelivered x{ratio:.2}, sent again x{:.2}", o / oi));
                }
            }
        }
    }
    insta::assert_snapshot!(table);
    assert!(far_off.is_empty(), "{far_off:#?}");
}
