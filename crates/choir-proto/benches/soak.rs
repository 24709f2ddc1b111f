//! Two hours of a hundred encrypted links on one socket, on a virtual clock, over a bad path, with
//! links that go and come back and keys that are refreshed: memory must stay flat, and every packet
//! be accounted for.
//!
//! `cargo bench -p choir-proto --bench soak -- MINUTES LINKS`; 120 minutes and 100 links if not
//! given.

#![allow(clippy::unwrap_used, reason = "a bench")]

use choir_path::Faults;
use choir_proto::srt::{AcceptRule, ConnId, Event, LinkConfig, LinkStats, Passphrase, Refresh, RuleId, StreamMatch};
use choir_rig::pair::{A, B, Pair, ms, payload};
use rand_chacha::ChaCha8Rng;
use rand_core::{RngCore, SeedableRng};
use std::time::Duration;

/// Between two packets of a link.
const STEP: Duration = Duration::from_millis(50);
/// Between two links that go and come back, on average.
const CHANGE_EVERY: Duration = Duration::from_secs(3);
/// How much memory may grow after a quarter of the time.
const GROWTH_MOST: f64 = 0.02;

/// What all connections of one end came to.
#[derive(Default)]
struct Sums {
    sent: u64,
    send_dropped: u64,
    delivered: u64,
    skipped: u64,
    refreshes: u64,
}

impl Sums {
    fn add(&mut self, s: &LinkStats) {
        self.sent += s.sent;
        self.send_dropped += s.send_dropped;
        self.delivered += s.delivered;
        self.skipped += s.skipped;
        self.refreshes += s.key_refreshes;
    }

    /// Those of connections that have ended meanwhile; forgets what was seen.
    fn take_ended(&mut self, pair: &mut Pair, end: usize) {
        let seen = std::mem::take(&mut pair.seen[end]);
        for event in seen.events {
            if let Event::Closed { stats: Some(stats), .. } = event {
                self.add(&stats);
            }
        }
    }
}

fn main() {
    let args: Vec<u64> = std::env::args().skip(1).filter_map(|a| a.parse().ok()).collect();
    let time = Duration::from_secs(60 * args.first().copied().unwrap_or(120));
    let links = args.get(1).map_or(100, |n| *n as usize);
    let faults = Faults { delay: ms(20), jitter: ms(4), loss: 0.02, burst: 1.5, reorder: 0.01, duplicate: 0.002, ..Faults::default() };
    let mut config = LinkConfig { connect_timeout: Duration::from_secs(8), ..LinkConfig::default() }.with_latency(ms(200));
    config.passphrase = Passphrase::new("tarn hollow regatta").ok();
    config.refresh = Refresh { after: 2000, announce: 200 };
    let mut pair = Pair::new(1, faults.clone(), faults);
    pair.ppm = [60.0, -60.0];
    let (stream, max_callers) = (StreamMatch::Any, links * 2);
    pair.ends[B].listen(AcceptRule { id: RuleId(1), stream, config: config.clone(), max_callers, held: false, callers_send: true });
    let mut dice = ChaCha8Rng::seed_from_u64(1);
    let mut calls: Vec<ConnId> = (0..links).map(|_| pair.call_only(config.clone())).collect();
    let (mut here, mut there) = (Sums::default(), Sums::default());
    let (mut packets, mut changes, mut at_first, mut next_word) = (0u64, 0u64, None, Duration::ZERO);
    let mut next_change = CHANGE_EVERY;
    println!("{:>7} {:>12} {:>10} {:>9} {:>10}", "minute", "memory KiB", "packets", "changes", "links up");
    while pair.now < time {
        for call in &calls {
            // A few milliseconds apart, as cameras are.
            let size = 8 + dice.next_u64() as usize % 1300;
            packets += u64::from(pair.send(A, *call, payload(packets, size)));
            pair.run_for(STEP / links as u32);
        }
        if pair.now >= next_change {
            let n = dice.next_u64() as usize % links;
            let now = pair.instant(A);
            pair.ends[A].finish(now, calls[n]);
            calls[n] = pair.call_only(config.clone());
            changes += 1;
            next_change = pair.now + CHANGE_EVERY.mul_f64(0.5 + (dice.next_u64() % 1000) as f64 / 1000.0);
        }
        here.take_ended(&mut pair, A);
        there.take_ended(&mut pair, B);
        if pair.now >= next_word {
            let kib = choir_rig::resident_kib("self");
            println!("{:7.0} {kib:12.0} {packets:10} {changes:9} {:10}", pair.now.as_secs_f64() / 60.0, pair.ends[B].connections().count());
            if at_first.is_none() && pair.now >= time / 4 {
                at_first = Some(kib);
            }
            next_word = pair.now + time / 24;
        }
    }
    pair.run_for(Duration::from_secs(2));
    let kib = choir_rig::resident_kib("self");
    let now = pair.instant(A);
    calls.iter().for_each(|c| pair.ends[A].finish(now, *c));
    pair.run_for(Duration::from_secs(20));
    here.take_ended(&mut pair, A);
    there.take_ended(&mut pair, B);
    println!(
        "\nsent {} (dropped there {}), delivered {}, given up {}, keys refreshed {} times",
        here.sent, here.send_dropped, there.delivered, there.skipped, here.refreshes
    );
    let unknown = here.sent as i64 - here.send_dropped as i64 - there.delivered as i64 - there.skipped as i64;
    println!("not accounted for: {unknown}");
    let growth = kib / at_first.unwrap_or(kib) - 1.0;
    println!("memory {:+.2} % since a quarter of the time", growth * 100.0);
    let left = [A, B].iter().any(|e| pair.ends[*e].connections().count() > 0 || pair.ends[*e].poll_timeout().is_some());
    if growth > GROWTH_MOST || unknown != 0 || left {
        eprintln!("failed: memory must be flat, every packet accounted for, and nothing left");
        std::process::exit(1);
    }
}
