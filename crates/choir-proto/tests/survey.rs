//! Two ends of a survey on a virtual clock with a bad path between: what is measured is what the
//! path does.

use choir_path::{Faults, Path};
use choir_proto::survey::{self, Answerer, Asker, Failure, Outgoing, Phase, Plan, STREAM_SIZE, Survey};
use proptest::prelude::*;
use std::{cmp::Reverse, collections::BinaryHeap, net::SocketAddr, time::Duration};

const TOKEN: &str = "four oars and a cox";
const PLAN: Plan = Plan { rate_bps: 8_000_000, lasts_ms: 6000 };
/// How far the answerer's clock is ahead, µs.
const AHEAD: i64 = 1_234_567;

/// At, in order, to whom, bytes.
type InFlight = (Duration, u64, usize, Vec<u8>);

struct Rig {
    asker: Asker,
    answerer: Answerer,
    addr: [SocketAddr; 2],
    paths: [Path; 2],
    wire: BinaryHeap<Reverse<InFlight>>,
    order: u64,
    now: Duration,
    /// Largest datagram that passes, IP headers included.
    mtu: usize,
    /// After this everything is lost.
    cut: Option<Duration>,
    sent_back: u64,
}

fn ms(n: u64) -> Duration {
    Duration::from_millis(n)
}

impl Rig {
    fn new(there: Faults, back: Faults, tokens: [&str; 2], plan: Plan, limit: u64) -> Self {
        let addr: [SocketAddr; 2] = [([127, 20, 0, 1], 40_000).into(), ([127, 20, 0, 2], 7099).into()];
        Self {
            asker: Asker::new(tokens[0], addr[1], 42, plan, 0),
            answerer: Answerer::new(tokens[1], limit, 10_000, [7; 32]),
            addr,
            paths: [Path::new(there, 1), Path::new(back, 2)],
            wire: BinaryHeap::new(),
            order: 0,
            now: Duration::ZERO,
            mtu: 65_535,
            cut: None,
            sent_back: 0,
        }
    }

    fn us(&self, end: usize) -> i64 {
        self.now.as_micros() as i64 + if end == 1 { AHEAD } else { 0 }
    }

    fn pass(&mut self, end: usize, o: Outgoing) {
        assert_eq!(o.to, self.addr[1 - end]);
        if self.cut.is_some_and(|c| self.now >= c) || o.data.len() + 28 > self.mtu {
            return;
        }
        let fate = self.paths[end].pass(self.now, o.data.len());
        for at in [fate.first, fate.second].into_iter().flatten() {
            self.order += 1;
            self.wire.push(Reverse((at, self.order, 1 - end, o.data.clone())));
        }
    }

    fn turn(&mut self) {
        let (a, b) = (self.us(0), self.us(1));
        self.asker.handle_timeout(a);
        self.answerer.handle_timeout(b);
        while let Some(o) = self.asker.poll_transmit() {
            self.pass(0, o);
        }
        while let Some(o) = self.answerer.poll_transmit() {
            self.sent_back += o.data.len() as u64;
            self.pass(1, o);
        }
    }

    fn run(&mut self, until: Duration) {
        loop {
            self.turn();
            let wire = self.wire.peek().map(|Reverse(p)| p.0);
            let asker = self.asker.poll_timeout().map(|t| Duration::from_micros(t.max(0) as u64));
            let answerer = self.answerer.poll_timeout(self.us(1)).map(|t| Duration::from_micros((t - AHEAD).max(0) as u64));
            let over = self.asker.phase() == Phase::Done || self.asker.failure().is_some();
            let Some(at) = [wire, asker, answerer].into_iter().flatten().min().filter(|at| *at <= until && !(over && wire.is_none()))
            else {
                return;
            };
            // A deadline that has passed would stop the clock.
            self.now = self.now.max(at) + if at <= self.now { Duration::from_micros(1) } else { Duration::ZERO };
            while self.wire.peek().is_some_and(|Reverse(p)| p.0 <= self.now) {
                let Some(Reverse((_, _, to, data))) = self.wire.pop() else { break };
                if to == 0 {
                    self.asker.handle_datagram(self.us(0), self.addr[1], &data);
                } else {
                    self.answerer.handle_datagram(self.us(1), self.addr[0], &data);
                }
            }
        }
    }
}

fn survey(there: Faults, back: Faults, mtu: usize) -> Survey {
    let mut rig = Rig::new(there, back, [TOKEN, TOKEN], PLAN, 20_000_000);
    rig.mtu = mtu;
    rig.run(ms(30_000));
    assert_eq!(rig.answerer.surveys(), 1, "{:?} {:?}", rig.asker.phase(), rig.asker.failure());
    rig.asker.survey().expect("a survey")
}

#[test]
fn a_survey_says_what_the_path_does() {
    let there =
        Faults { delay: ms(30), jitter: ms(6), loss: 0.02, burst: 3.0, rate: Some(20_000_000), queue: ms(400), ..Faults::default() };
    let back = Faults { delay: ms(50), loss: 0.05, duplicate: 0.01, reorder: 0.01, ..Faults::default() };
    let s = survey(there, back, 1448);
    assert!((80_000..81_500).contains(&s.rtt_least), "{s:?}");
    assert!((4000..7000).contains(&s.there.delay.p95) && s.back.delay.p95 < 100, "jitter only there: {s:?}");
    assert!((0.012..0.03).contains(&s.there.loss()) && (0.042..0.058).contains(&s.back.loss()), "{s:?}");
    assert!((2.0..4.5).contains(&s.there.burst()) && (1.0..1.2).contains(&s.back.burst()), "{s:?}");
    assert!(s.there.reordered == 0 && s.back.reordered > 10 && s.back.doubled > 10, "{s:?}");
    // The clock is off by half the difference of the two ways, within what it says of itself.
    let (offset, error) = s.offset.expect("an offset");
    assert!((offset - AHEAD).abs() <= i64::from(error), "{offset} +- {error}");
    assert_eq!(s.size, Some(1440), "{s:?}");
    let rate = s.there.train_bps.expect("a train came whole") as f64;
    assert!((18e6..22e6).contains(&rate), "{rate}");
    assert!(s.pings > 80);
}

#[test]
fn a_clean_path_is_clean() {
    let s = survey(Faults { delay: ms(2), ..Faults::default() }, Faults { delay: ms(2), ..Faults::default() }, 65_535);
    assert_eq!((s.there.loss(), s.back.loss(), s.there.bursts, s.back.longest), (0.0, 0.0, 0, 0));
    assert_eq!(s.there.sent, 6_000_000_u32.div_ceil(1316), "6 s at 8 Mbit/s");
    assert_eq!((s.size, s.rtt_least), (Some(1500), 4000));
}

#[test]
fn without_the_token_there_is_no_answer_at_all() {
    let mut rig = Rig::new(Faults::default(), Faults::default(), ["another token", TOKEN], PLAN, 20_000_000);
    rig.run(ms(30_000));
    assert_eq!((rig.asker.failure(), rig.sent_back), (Some(Failure::NoAnswer), 0));
    assert!(!rig.asker.answered());
}

#[test]
fn an_answerer_keeps_to_its_limit_and_to_one_asker() {
    let mut rig = Rig::new(Faults::default(), Faults::default(), [TOKEN, TOKEN], PLAN, 4_000_000);
    rig.run(ms(30_000));
    assert_eq!(rig.asker.failure(), Some(Failure::TooMuch { limit_bps: 4_000_000, limit_ms: 10_000 }));
    assert!(rig.sent_back < 1000, "{}", rig.sent_back);

    let mut rig = Rig::new(Faults::default(), Faults::default(), [TOKEN, TOKEN], PLAN, 20_000_000);
    rig.run(ms(500));
    let second: SocketAddr = ([127, 20, 0, 3], 40_000).into();
    let mut other = Asker::new(TOKEN, rig.addr[1], 43, PLAN, 0);
    other.handle_timeout(rig.us(0));
    let hello = other.poll_transmit().expect("a greeting");
    rig.answerer.handle_datagram(rig.us(1), second, &hello.data);
    let busy = std::iter::from_fn(|| rig.answerer.poll_transmit()).find(|o| o.to == second).expect("an answer");
    other.handle_datagram(rig.us(0), rig.addr[1], &busy.data);
    assert_eq!(other.failure(), Some(Failure::Busy));
    rig.run(ms(30_000));
    assert!(rig.asker.survey().is_some(), "the first is not disturbed");
}

#[test]
fn a_cut_path_stops_the_answerer_and_is_told() {
    let mut rig = Rig::new(Faults::default(), Faults::default(), [TOKEN, TOKEN], PLAN, 20_000_000);
    rig.cut = Some(ms(2000));
    rig.run(ms(30_000));
    assert_eq!(rig.asker.failure(), Some(Failure::FellSilent));
    // Two seconds of stream, the second it takes to notice, and a little.
    assert!(rig.sent_back < 3_300_000, "{} bytes", rig.sent_back);
}

#[test]
fn what_was_recorded_starts_nothing_when_played_again() {
    let mut rig = Rig::new(Faults::default(), Faults::default(), [TOKEN, TOKEN], PLAN, 20_000_000);
    let mut recorded = Vec::new();
    while rig.asker.phase() == Phase::Greeting {
        rig.asker.handle_timeout(rig.us(0));
        while let Some(o) = rig.asker.poll_transmit() {
            recorded.push(o.data.clone());
            rig.answerer.handle_datagram(rig.us(1), rig.addr[0], &o.data);
        }
        while let Some(o) = rig.answerer.poll_transmit() {
            rig.asker.handle_datagram(rig.us(0), rig.addr[1], &o.data);
        }
        rig.now += ms(1);
    }
    let mut fresh = Answerer::new(TOKEN, 20_000_000, 10_000, [9; 32]);
    let thief: SocketAddr = ([127, 20, 0, 9], 1).into();
    let mut sent = 0;
    for at in 0..20_000 {
        for data in recorded.iter().filter(|_| at % 100 == 0) {
            fresh.handle_datagram(at * 1000, thief, data);
        }
        fresh.handle_timeout(at * 1000);
        while let Some(o) = fresh.poll_transmit() {
            sent += o.data.len();
        }
    }
    let received: usize = recorded.iter().map(Vec::len).sum::<usize>() * 200;
    assert!(sent < received && sent / STREAM_SIZE < 20, "{sent} bytes for {received}");
}

#[test]
fn an_answer_to_what_was_never_asked_measures_nothing() {
    // A fuzzer's find: of a peer that has the token.
    let there: SocketAddr = ([127, 20, 0, 2], 7370).into();
    let mut asker = Asker::new(TOKEN, there, 42, PLAN, 1000);
    for asked in [i64::MIN, -1, 999, i64::MAX] {
        let pong = [&[8][..], &asked.to_be_bytes(), &5_i64.to_be_bytes()].concat();
        asker.handle_datagram(2000, there, &survey::fuzz::proved(TOKEN, false, 42, &pong));
    }
    assert_eq!((asker.answered(), asker.so_far().2), (true, None));
    let pong = [&[8][..], &1500_i64.to_be_bytes(), &0_i64.to_be_bytes()].concat();
    asker.handle_datagram(2000, there, &survey::fuzz::proved(TOKEN, false, 42, &pong));
    assert_eq!(asker.so_far().2, Some(500));
}

proptest! {
    #[test]
    fn junk_costs_nothing_and_never_panics(data in proptest::collection::vec(any::<u8>(), 0..200), seal in any::<bool>()) {
        let mut data = data;
        if seal && data.len() > 6 {
            data[..5].copy_from_slice(&[0xC4, 0x50, 0x41, 0x54, 1]);
        }
        let mut rig = Rig::new(Faults::default(), Faults::default(), [TOKEN, TOKEN], PLAN, 20_000_000);
        rig.answerer.handle_datagram(0, rig.addr[0], &data);
        rig.asker.handle_datagram(0, rig.addr[1], &data);
        prop_assert!(rig.answerer.poll_transmit().is_none());
    }
}
