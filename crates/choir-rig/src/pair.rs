//! Two endpoints on a virtual clock, joined by a bad path each way. No sockets, no sleeping: time
//! jumps to the next deadline or arrival.

use bytes::Bytes;
use choir_path::{Faults, Path};
use choir_proto::srt::{AcceptRule, ConnId, Delivery, Endpoint, Event, LinkConfig, RuleId, StreamMatch};
use std::{
    cmp::Reverse,
    collections::BinaryHeap,
    net::SocketAddr,
    time::{Duration, Instant},
};

/// The end that calls.
pub const A: usize = 0;
/// The end that listens.
pub const B: usize = 1;

/// Milliseconds.
#[must_use]
pub const fn ms(n: u64) -> Duration {
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
    /// Events, in order.
    pub events: Vec<Event>,
    /// What was delivered, and when.
    pub delivered: Vec<(Duration, Delivery)>,
    /// When datagrams came.
    pub arrivals: Vec<Duration>,
}

/// Looks at a datagram for an end: false when it vanishes.
pub type Sieve = Box<dyn FnMut(Duration, &[u8]) -> bool>;

/// Both ends.
pub struct Pair {
    /// The protocol of each.
    pub ends: [Endpoint; 2],
    /// What each has seen.
    pub seen: [Seen; 2],
    /// Where each is.
    pub addr: [SocketAddr; 2],
    /// The way from each.
    pub paths: [Path; 2],
    /// Virtual time since the start.
    pub now: Duration,
    /// How fast each end's clock runs, parts per million off.
    pub ppm: [f64; 2],
    start: Instant,
    wire: BinaryHeap<Reverse<InFlight>>,
    order: u64,
    /// Every datagram sent, for those who want to look.
    pub tap: Option<Vec<(usize, Vec<u8>)>>,
    /// Nothing passes, either way.
    pub cut: bool,
    /// What else stops datagrams to an end.
    pub sieves: [Option<Sieve>; 2],
    /// An end whose program has gone: it does nothing any more.
    pub dead: [bool; 2],
    /// Both ends look at what has come so often, and are told when it came.
    pub looks: Option<Duration>,
}

impl Pair {
    /// Two ends, and the way from each.
    #[must_use]
    pub fn new(seed: u64, there: Faults, back: Faults) -> Self {
        Self::with_clocks(seed, there, back, [0, 0])
    }

    /// As `new`; the timestamps of each end begin so many µs in.
    #[must_use]
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
            sieves: [None, None],
            dead: [false; 2],
            looks: None,
        }
    }

    /// Now, on the clock of an end.
    #[must_use]
    pub fn instant(&self, end: usize) -> Instant {
        self.instant_of(end, self.now)
    }

    fn instant_of(&self, end: usize, at: Duration) -> Instant {
        self.start + at.mul_f64(1.0 + self.ppm[end] / 1e6)
    }

    fn virtual_time(&self, end: usize, at: Instant) -> Duration {
        at.saturating_duration_since(self.start).div_f64(1.0 + self.ppm[end] / 1e6)
    }

    /// A calls B, which listens.
    pub fn call(&mut self, caller: LinkConfig, listener: LinkConfig) -> ConnId {
        self.listen(listener);
        self.call_only(caller)
    }

    /// B listens.
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

    /// A calls B.
    pub fn call_only(&mut self, config: LinkConfig) -> ConnId {
        let (now, to) = (self.instant(A), self.addr[B]);
        self.ends[A].call(now, to, config)
    }

    /// Both call each other.
    pub fn meet(&mut self, a: LinkConfig, b: LinkConfig) -> [ConnId; 2] {
        let (na, nb) = (self.instant(A), self.instant(B));
        let (to_b, to_a) = (self.addr[B], self.addr[A]);
        [self.ends[A].meet(na, to_b, a), self.ends[B].meet(nb, to_a, b)]
    }

    /// The connection of an end, once it is up.
    #[must_use]
    pub fn up(&self, end: usize) -> Option<ConnId> {
        self.ends[end].connections().next()
    }

    /// Sends; false when it is not taken.
    pub fn send(&mut self, end: usize, conn: ConnId, payload: Bytes) -> bool {
        let now = self.instant(end);
        let ok = self.ends[end].send(now, conn, payload).is_ok();
        self.drain(end);
        ok
    }

    /// Hands an end a datagram, past the path.
    pub fn inject(&mut self, to: usize, from: SocketAddr, data: &[u8]) {
        let now = self.instant(to);
        self.ends[to].handle_datagram(now, from, data);
        self.drain(to);
    }

    /// Everything an end wants out, in the documented order.
    pub fn drain(&mut self, end: usize) {
        if self.dead[end] {
            return;
        }
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

    fn next_at(&mut self) -> Option<Duration> {
        let wire = self.wire.peek().map(|Reverse(p)| p.at);
        let ends = [A, B].map(|e| self.ends[e].poll_timeout().filter(|_| !self.dead[e]).map(|t| (e, t)));
        // Rounded up a microsecond, as a driver's timer would be.
        let timers = ends.into_iter().flatten().map(|(e, t)| self.virtual_time(e, t) + Duration::from_micros(1));
        timers.chain(wire).min()
    }

    /// Runs up to `until`, jumping from event to event.
    pub fn run_until(&mut self, until: Duration) {
        self.drain(A);
        self.drain(B);
        while let Some(at) = self.next_at().filter(|at| *at <= until) {
            self.now = self.now.max(self.looks.map_or(at, |every| every * at.div_duration_f64(every).ceil() as u32));
            while self.wire.peek().is_some_and(|Reverse(p)| p.at <= self.now) {
                if let Some(Reverse(p)) = self.wire.pop() {
                    let now = self.now;
                    let stopped = self.sieves[p.to].as_mut().is_some_and(|passes| !passes(now, &p.data));
                    if stopped || self.dead[p.to] {
                        continue;
                    }
                    let came = self.instant_of(p.to, if self.looks.is_some() { p.at } else { now });
                    self.seen[p.to].arrivals.push(now);
                    let from = self.addr[1 - p.to];
                    self.ends[p.to].handle_datagram(came, from, &p.data);
                }
            }
            self.drain(A);
            self.drain(B);
        }
        self.now = self.now.max(until);
        self.drain(A);
        self.drain(B);
    }

    /// Runs for so long.
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
#[must_use]
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

/// The number that a payload says.
///
/// # Panics
/// It is shorter than a number.
#[must_use]
pub fn number(data: &[u8]) -> u64 {
    u64::from_be_bytes(data[..8].try_into().expect("8 bytes"))
}
