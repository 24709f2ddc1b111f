//! Two endpoints on a virtual clock, joined by a bad path each way. No sockets, no sleeping: time jumps
//! to the next deadline or arrival.
#![allow(dead_code, reason = "each test file uses its own part of the harness")]

use bytes::Bytes;
use choir_path::{Faults, Path};
use choir_proto::srt::{AcceptRule, ConnId, Delivery, Endpoint, Event, LinkConfig, RuleId, StreamMatch};
use std::{
    cmp::Reverse,
    collections::BinaryHeap,
    net::SocketAddr,
    time::{Duration, Instant},
};

pub const A: usize = 0;
pub const B: usize = 1;

pub fn ms(n: u64) -> Duration {
    Duration::from_millis(n)
}

#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct InFlight {
    at: Duration,
    order: u64,
    to: usize,
    data: Vec<u8>,
}

/// What one end has seen.
#[derive(Default)]
pub struct Seen {
    pub events: Vec<Event>,
    pub delivered: Vec<(Duration, Delivery)>,
    /// When datagrams came.
    pub arrivals: Vec<Duration>,
}

pub struct Pair {
    pub ends: [Endpoint; 2],
    pub seen: [Seen; 2],
    pub addr: [SocketAddr; 2],
    pub paths: [Path; 2],
    pub now: Duration,
    /// How fast each end's clock runs, parts per million off.
    pub ppm: [f64; 2],
    start: Instant,
    wire: BinaryHeap<Reverse<InFlight>>,
    order: u64,
    /// Every datagram sent, for those who want to look.
    pub tap: Option<Vec<(usize, Vec<u8>)>>,
    pub cut: bool,
}

impl Pair {
    pub fn new(seed: u64, there: Faults, back: Faults) -> Self {
        Self::with_clocks(seed, there, back, [0, 0])
    }

    pub fn with_clocks(seed: u64, there: Faults, back: Faults, clocks: [u64; 2]) -> Self {
        #[allow(clippy::disallowed_methods, reason = "any start will do for the virtual clock")]
        let start = Instant::now();
        let addr: [SocketAddr; 2] = [([127, 20, 0, 1], 7001).into(), ([127, 20, 0, 2], 7002).into()];
        let make = |i: usize| {
            let mut bytes = [0; 32];
            bytes[..8].copy_from_slice(&seed.to_le_bytes());
            bytes[8] = i as u8;
            Endpoint::with_clock(addr[i].ip(), start, bytes, clocks[i])
        };
        Self {
            ends: [make(A), make(B)],
            seen: Default::default(),
            addr,
            paths: [Path::new(there, seed * 2), Path::new(back, seed * 2 + 1)],
            now: Duration::ZERO,
            ppm: [0.0; 2],
            start,
            wire: BinaryHeap::new(),
            order: 0,
            tap: None,
            cut: false,
        }
    }

    pub fn instant(&self, end: usize) -> Instant {
        self.start + self.now.mul_f64(1.0 + self.ppm[end] / 1e6)
    }

    fn virtual_time(&self, end: usize, at: Instant) -> Duration {
        at.saturating_duration_since(self.start).div_f64(1.0 + self.ppm[end] / 1e6)
    }

    /// A calls B, which listens.
    pub fn call(&mut self, caller: LinkConfig, listener: LinkConfig) -> ConnId {
        self.listen(listener);
        self.call_only(caller)
    }

    pub fn listen(&mut self, config: LinkConfig) {
        self.ends[B].listen(AcceptRule {
            id: RuleId(1),
            stream: StreamMatch::Any,
            config,
            max_callers: 1,
            held: false,
            callers_send: true,
        });
    }

    pub fn call_only(&mut self, config: LinkConfig) -> ConnId {
        let (now, to) = (self.instant(A), self.addr[B]);
        self.ends[A].call(now, to, config)
    }

    pub fn meet(&mut self, a: LinkConfig, b: LinkConfig) -> [ConnId; 2] {
        let (na, nb) = (self.instant(A), self.instant(B));
        let (to_b, to_a) = (self.addr[B], self.addr[A]);
        [self.ends[A].meet(na, to_b, a), self.ends[B].meet(nb, to_a, b)]
    }

    /// The connection of an end, once it is up.
    pub fn up(&self, end: usize) -> Option<ConnId> {
        self.ends[end].connections().next()
    }

    pub fn send(&mut self, end: usize, conn: ConnId, payload: Bytes) -> bool {
        let now = self.instant(end);
        let ok = self.ends[end].send(now, conn, payload).is_ok();
        self.drain(end);
        ok
    }

    pub fn inject(&mut self, to: usize, from: SocketAddr, data: &[u8]) {
        let now = self.instant(to);
        self.ends[to].handle_datagram(now, from, data);
        self.drain(to);
    }

    /// Everything an end wants out, in the documented order.
    pub fn drain(&mut self, end: usize) {
        let now = self.instant(end);
        while let Some(check) = self.ends[end].poll_key_check(now) {
            self.ends[end].handle_key_check(now, check.run());
        }
        self.ends[end].handle_timeout(now);
        let mut buf = Vec::new();
        while let Some(t) = self.ends[end].poll_transmit(now, 16, &mut buf) {
            for data in buf.chunks(t.segment.unwrap_or(t.size)) {
                if let Some(tap) = &mut self.tap {
                    tap.push((end, data.to_vec()));
                }
                let to = 1 - end;
                if t.to != self.addr[to] || self.cut {
                    continue;
                }
                let fate = self.paths[end].pass(self.now, data.len());
                for at in [fate.first, fate.second].into_iter().flatten() {
                    self.order += 1;
                    self.wire.push(Reverse(InFlight { at, order: self.order, to, data: data.to_vec() }));
                }
            }
            buf.clear();
        }
        while let Some(event) = self.ends[end].poll_event() {
            self.seen[end].events.push(event);
        }
        while let Some(d) = self.ends[end].poll_delivery() {
            self.seen[end].delivered.push((self.now, d));
        }
    }

    fn next_at(&self) -> Option<Duration> {
        let wire = self.wire.peek().map(|Reverse(p)| p.at);
        let timers = [A, B].into_iter().filter_map(|e| {
            // Rounded up a microsecond, as a driver's timer would be.
            self.ends[e].poll_timeout().map(|t| self.virtual_time(e, t) + Duration::from_micros(1))
        });
        timers.chain(wire).min()
    }

    /// Runs up to `until`, jumping from event to event.
    pub fn run_until(&mut self, until: Duration) {
        self.drain(A);
        self.drain(B);
        while let Some(at) = self.next_at().filter(|at| *at <= until) {
            self.now = self.now.max(at);
            while self.wire.peek().is_some_and(|Reverse(p)| p.at <= self.now) {
                if let Some(Reverse(p)) = self.wire.pop() {
                    let now = self.instant(p.to);
                    self.seen[p.to].arrivals.push(self.now);
                    let from = self.addr[1 - p.to];
                    self.ends[p.to].handle_datagram(now, from, &p.data);
                }
            }
            self.drain(A);
            self.drain(B);
        }
        self.now = self.now.max(until);
        self.drain(A);
        self.drain(B);
    }

    pub fn run_for(&mut self, time: Duration) {
        self.run_until(self.now + time);
    }

    /// Runs until both ends are up; false when that does not happen in `limit`.
    pub fn join(&mut self, limit: Duration) -> bool {
        let end = self.now + limit;
        while self.now < end {
            self.run_for(ms(5));
            if self.up(A).is_some() && self.up(B).is_some() {
                return true;
            }
        }
        false
    }
}

/// A payload that says its own number and can be checked in every byte.
pub fn payload(n: u64, size: usize) -> Bytes {
    let mut data = n.to_be_bytes().to_vec();
    data.resize_with(size.max(8), {
        let mut x = n as u32 | 1;
        move || {
            x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (x >> 24) as u8
        }
    });
    data.into()
}

pub fn number(data: &[u8]) -> u64 {
    u64::from_be_bytes(data[..8].try_into().expect("8 bytes"))
}
