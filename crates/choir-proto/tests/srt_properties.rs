//! What must hold on any path: thousands of seeded runs of two engines against each other.

use choir_path::{Faults, Outage};
use choir_proto::srt::{Ceiling, Event, KeyLength, LinkConfig, Passphrase, Refresh, Seq};
use choir_rig::pair::{A, B, Pair, ms, number, payload};
use rand_chacha::ChaCha8Rng;
use rand_core::{RngCore, SeedableRng};
use std::time::Duration;

const RUNS: u64 = 2000;

struct Dice(ChaCha8Rng);

impl Dice {
    fn below(&mut self, n: u64) -> u64 {
        self.0.next_u64() % n
    }
    fn chance(&mut self, percent: u64) -> bool {
        self.below(100) < percent
    }
    fn share(&mut self, max: f64) -> f64 {
        max * self.below(1000) as f64 / 1000.0
    }
    fn faults(&mut self) -> Faults {
        let mut f = Faults { delay: Duration::from_micros(self.below(80_000)), ..Faults::default() };
        if self.chance(50) {
            f.jitter = Duration::from_micros(self.below(15_000));
        }
        if self.chance(70) {
            f.loss = self.share(0.25);
            f.burst = 1.0 + self.share(9.0);
        }
        if self.chance(30) {
            f.reorder = self.share(0.05);
        }
        if self.chance(30) {
            f.duplicate = self.share(0.05);
        }
        if self.chance(20) {
            f.rate = Some(3_000_000 + self.below(20_000_000));
            f.queue = ms(20 + self.below(200));
        }
        if self.chance(15) {
            f.outage = Some(Outage { lasts: ms(100 + self.below(1500)), every: ms(1800) });
        }
        f
    }
}

fn one_run(seed: u64) -> Result<(), String> {
    let mut dice = Dice(ChaCha8Rng::seed_from_u64(seed));
    let (there, back) = (dice.faults(), dice.faults());
    // Half of the runs start just before both wraps.
    let wrap = dice.chance(50);
    let clocks = if wrap { [(1 << 32) - 1_500_000, (1 << 32) - 700_000] } else { [0, 5_000_000] };
    let mut pair = Pair::with_clocks(seed, there.clone(), back, clocks);
    pair.ppm = [dice.share(300.0), -dice.share(300.0)];
    let mut config = LinkConfig { connect_timeout: Duration::from_secs(8), ..LinkConfig::default() };
    config = config.with_latency(ms(20 + dice.below(400)));
    config.window = 64 + dice.below(2000) as u32;
    if wrap {
        config.initial_seq = Some(Seq::new(0x7FFF_FFFF - dice.below(300) as u32));
    }
    if dice.chance(50) {
        config.passphrase = Passphrase::new("tarn hollow regatta").ok();
        config.key_length = [KeyLength::Aes128, KeyLength::Aes192, KeyLength::Aes256][dice.below(3) as usize];
        config.refresh = Refresh { after: 120 + dice.below(200), announce: 60 };
    }
    config.ceiling = [Ceiling::Unlimited, Ceiling::Overhead(25), Ceiling::Fixed(12_000_000)][dice.below(3) as usize];
    if dice.chance(70) {
        pair.call(config.clone(), config.clone());
    } else {
        pair.meet(config.clone(), config.clone());
    }
    if !pair.join(Duration::from_secs(7)) {
        // Only a path that is mostly dark may fail to join.
        return if there.loss > 0.1 || there.outage.is_some() { Ok(()) } else { Err("did not join".into()) };
    }
    // What a dark path did to the greeting is not judged; from here on every connection must last.
    pair.seen.iter_mut().for_each(|s| s.events.clear());
    let from = pair.up(A).ok_or("no sender")?;
    let size = 8 + dice.below(1400) as usize;
    let count = 500 + dice.below(500);
    let mut sent = 0;
    for n in 0..count {
        sent += u64::from(pair.send(A, from, payload(n, size)));
        pair.run_for(Duration::from_micros(800 + dice.below(1500)));
        if let Some(conn) = pair.up(B) {
            let s = pair.ends[B].link_stats(conn).ok_or("no stats")?;
            if s.receive_buffer > config.window {
                return Err(format!("receive buffer {} over the window {}", s.receive_buffer, config.window));
            }
        }
        if let Some(s) = pair.ends[A].link_stats(from)
            && s.in_flight > config.window
        {
            return Err(format!("send buffer {} over the window {}", s.in_flight, config.window));
        }
    }
    let to = pair.up(B);
    pair.run_for(Duration::from_millis(2500));
    let delivered = &pair.seen[B].delivered;
    let mut last: Option<u64> = None;
    for (_, d) in delivered {
        let n = number(&d.payload);
        if d.payload != payload(n, size) {
            return Err(format!("packet {n} arrived damaged"));
        }
        if last.is_some_and(|l| n <= l) {
            return Err(format!("{n} delivered after {last:?}"));
        }
        last = Some(n);
    }
    let closed = pair.seen.iter().any(|s| s.events.iter().any(|e| matches!(e, Event::Closed { .. })));
    if closed {
        // Only silence of 5 s may end a connection; no path here is dark that long.
        return Err("the connection was lost".into());
    }
    let (to, stats) = (to.ok_or("no receiver")?, pair.ends[A].link_stats(from).ok_or("no stats")?);
    let there_stats = pair.ends[B].link_stats(to).ok_or("no stats")?;
    // Every hole in what was delivered was counted.
    let holes: u64 = delivered.iter().map(|(_, d)| u64::from(d.skipped)).sum();
    let accounted = delivered.len() as u64 + there_stats.skipped;
    if holes > there_stats.skipped || accounted > sent {
        return Err(format!("{} delivered + {} skipped of {sent} sent", delivered.len(), there_stats.skipped));
    }
    if accounted + stats.send_dropped < sent && stats.in_flight == 0 {
        return Err(format!(
            "{} delivered, {} skipped, {} dropped by the sender: fewer than {sent} sent",
            delivered.len(),
            there_stats.skipped,
            stats.send_dropped
        ));
    }
    if there_stats.undecrypted > 0 {
        return Err(format!("{} packets could not be decrypted", there_stats.undecrypted));
    }
    Ok(())
}

#[test]
fn any_path_delivers_what_was_sent_in_order_with_gaps_only_where_counted() {
    let failures: Vec<String> = (0..RUNS).filter_map(|seed| one_run(seed).err().map(|e| format!("seed {seed}: {e}"))).collect();
    assert!(failures.is_empty(), "{} of {RUNS} runs failed:\n{}", failures.len(), failures[..failures.len().min(20)].join("\n"));
}

#[test]
fn packets_are_released_within_a_millisecond_of_due() {
    for seed in 0..50 {
        let faults = Faults { delay: ms(20), jitter: ms(10), loss: 0.05, burst: 2.0, ..Faults::default() };
        let mut pair = Pair::new(seed, faults.clone(), faults);
        pair.call(LinkConfig::default().with_latency(ms(200)), LinkConfig::default());
        assert!(pair.join(ms(3000)));
        let from = pair.up(A).expect("up");
        for n in 0..400 {
            pair.send(A, from, payload(n, 1316));
            // After each step, all that was released is judged against its due time.
            let before = pair.seen[B].delivered.len();
            pair.seen[B].arrivals.clear();
            pair.run_for(Duration::from_micros(1316));
            let now = pair.instant(B);
            for (at, d) in &pair.seen[B].delivered[before..] {
                let released = now - (pair.now - *at);
                assert!(released >= d.due, "released {:?} early", d.due - released);
                // One that comes when it is already due goes out on arrival.
                let late = released - d.due;
                assert!(late <= ms(1) || pair.seen[B].arrivals.contains(at), "released {late:?} late");
            }
        }
        assert!(pair.seen[B].delivered.len() > 200);
    }
}
