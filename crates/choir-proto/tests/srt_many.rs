//! Many links on one socket, on any path: each keeps its own order, none gets what another was
//! sent, and what ends leaves nothing behind.

use choir_path::Faults;
use choir_proto::srt::{AcceptRule, ConnId, LinkConfig, Passphrase, RuleId, StreamMatch};
use choir_rig::pair::{A, B, Pair, ms, number, payload};
use rand_chacha::ChaCha8Rng;
use rand_core::{RngCore, SeedableRng};
use std::{collections::HashMap, time::Duration};

const RUNS: u64 = 300;
/// Numbers of one link's packets; the link is what is above.
const EACH: u64 = 1_000_000;

struct Links {
    pair: Pair,
    config: LinkConfig,
    dice: ChaCha8Rng,
    /// Each link's connection at its caller, packets sent, and whether it is still wanted.
    links: Vec<(ConnId, u64, bool)>,
}

impl Links {
    fn new(seed: u64) -> Self {
        let mut dice = ChaCha8Rng::seed_from_u64(seed);
        let mut below = |n: u64| dice.next_u64() % n;
        let there = Faults {
            delay: Duration::from_micros(below(40_000)),
            jitter: Duration::from_micros(below(8000)),
            loss: below(6) as f64 / 100.0,
            burst: 1.0 + below(3) as f64,
            reorder: below(4) as f64 / 100.0,
            duplicate: below(3) as f64 / 100.0,
            ..Faults::default()
        };
        let back = Faults { loss: below(4) as f64 / 100.0, ..there.clone() };
        let mut config = LinkConfig { connect_timeout: Duration::from_secs(8), ..LinkConfig::default() }.with_latency(ms(250 + below(200)));
        if below(2) == 0 {
            config.passphrase = Passphrase::new("tarn hollow regatta").ok();
        }
        let mut pair = Pair::new(seed, there, back);
        pair.ppm = [below(200) as f64, -(below(200) as f64)];
        let rule = AcceptRule {
            id: RuleId(1),
            stream: StreamMatch::Any,
            config: config.clone(),
            max_callers: 100,
            held: false,
            callers_send: true,
        };
        pair.ends[B].listen(rule);
        Self { pair, config, dice, links: Vec::new() }
    }

    fn below(&mut self, n: u64) -> u64 {
        self.dice.next_u64() % n
    }

    fn call(&mut self) {
        let conn = self.pair.call_only(self.config.clone());
        self.links.push((conn, 0, true));
    }

    /// A packet on each link that is up.
    fn send_round(&mut self) {
        for n in 0..self.links.len() {
            let (conn, sent, wanted) = self.links[n];
            let size = 8 + self.below(1300) as usize;
            if wanted && self.pair.send(A, conn, payload(n as u64 * EACH + sent, size)) {
                self.links[n].1 += 1;
            }
        }
    }
}

fn one_run(seed: u64) -> Result<(), String> {
    let mut all = Links::new(seed);
    for _ in 0..2 + all.below(20) {
        all.call();
    }
    let rounds = 80 + all.below(80);
    for round in 0..rounds {
        all.send_round();
        let step = Duration::from_micros(500 + all.below(12_000));
        all.pair.run_for(step);
        if all.below(12) == 0 && round < rounds / 2 {
            // One leaves, another comes.
            let n = all.below(all.links.len() as u64) as usize;
            if std::mem::take(&mut all.links[n].2) {
                all.pair.ends[A].close(all.links[n].0);
            }
            all.call();
        }
    }
    // They pause, and stay; one that left without being heard is missed by then.
    all.pair.run_for(ms(6000));
    let mut last: HashMap<ConnId, u64> = HashMap::new();
    let mut arrived = vec![0u64; all.links.len()];
    for (_, d) in &all.pair.seen[B].delivered {
        let n = number(&d.payload);
        if d.payload != payload(n, d.payload.len()) {
            return Err(format!("packet {n} arrived damaged"));
        }
        let before = last.insert(d.conn, n);
        if before.is_some_and(|b| b / EACH != n / EACH || b >= n) {
            return Err(format!("{n} delivered after {before:?} on one connection"));
        }
        arrived[(n / EACH) as usize] += 1;
    }
    let mut missing = 0;
    for (n, (conn, sent, _)) in all.links.iter().enumerate().filter(|(_, l)| l.2) {
        let up = all.pair.ends[A].connections().any(|c| c == *conn);
        if !up {
            return Err(format!("link {n} is not up, {sent} packets sent"));
        }
        missing += sent - arrived[n];
    }
    let skipped: u64 = all.pair.ends[B].connections().filter_map(|c| all.pair.ends[B].link_stats(c)).map(|s| s.skipped).sum();
    if missing > skipped {
        return Err(format!("{missing} packets missing, {skipped} counted"));
    }
    // One whose goodbye was lost has fallen silent; nobody else is away.
    let wanted = all.links.iter().filter(|l| l.2).count();
    if all.pair.ends[B].connections().count() != wanted {
        return Err(format!("{wanted} links, and {} connections", all.pair.ends[B].connections().count()));
    }
    // What is closed leaves nothing to wait for.
    for (conn, _, _) in &all.links {
        all.pair.ends[A].close(*conn);
    }
    all.pair.run_for(Duration::from_secs(20));
    for end in [A, B] {
        if all.pair.ends[end].connections().count() > 0 || all.pair.ends[end].poll_timeout().is_some() {
            return Err(format!("end {end} still has {} connections", all.pair.ends[end].connections().count()));
        }
    }
    Ok(())
}

#[test]
fn many_links_on_one_socket_stay_apart_and_leave_nothing() {
    let failures: Vec<String> = (0..RUNS).filter_map(|seed| one_run(seed).err().map(|e| format!("seed {seed}: {e}"))).collect();
    assert!(failures.is_empty(), "{} of {RUNS} runs failed:\n{}", failures.len(), failures[..failures.len().min(20)].join("\n"));
}
