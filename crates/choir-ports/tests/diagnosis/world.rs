//! A link in simulated time, with a fault that begins on purpose, as both of its ends see it.

use choir_core::{
    content::ContentFault,
    diagnosis::Diagnosing,
    facts::{Around, Contact, Direction, Fault, Loss, MediaFacts, Reading},
};
use choir_path::Faults;
use choir_ports::{LinkStatus, Live, MediaCount, PeerLive, Ticks};
use choir_proto::srt::{LinkConfig, Passphrase};
use choir_rig::pair::{A, B, Pair, ms, payload};
use std::time::Duration;

/// When the fault begins.
pub const FAULT_AT: Duration = Duration::from_secs(10);
const GLANCE: Duration = Duration::from_millis(200);

/// Where a link runs, and what it carries.
#[derive(Debug, Clone)]
pub struct Place {
    pub seed: u64,
    pub rtt: f64,
    pub jitter: f64,
    pub loss: f64,
    pub burst: f64,
    pub latency: f64,
    pub rate: f64,
    /// Pictures leave as they are coded, not evenly.
    pub frames: bool,
}

impl Place {
    pub fn faults(&self) -> Faults {
        let delay = Duration::from_secs_f64(self.rtt / 2000.0);
        Faults { delay, jitter: Duration::from_secs_f64(self.jitter / 1000.0), loss: self.loss, burst: self.burst, ..Faults::default() }
    }

    /// On the wire.
    pub fn wire(&self) -> f64 {
        self.rate * 1360.0 / 1316.0
    }
}

type Act = Box<dyn Fn(&mut World)>;
type Overlay = Box<dyn Fn(f64, &mut Reading)>;

/// What goes wrong.
pub struct Trouble {
    /// Which end judges.
    pub end: usize,
    pub config: Box<dyn Fn(usize, LinkConfig) -> LinkConfig>,
    /// At the start, and when the fault begins.
    pub start: Act,
    pub act: Act,
    /// What no simulation makes: what the show knows besides.
    pub overlay: Overlay,
    pub secs: u64,
}

impl Default for Trouble {
    fn default() -> Self {
        Self { end: B, config: Box::new(|_, c| c), start: Box::new(|_| ()), act: Box::new(|_| ()), overlay: Box::new(|_, _| ()), secs: 20 }
    }
}

/// A number that is random and always the same.
pub fn random(seed: u64, salt: u64) -> f64 {
    let mut x = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ salt.wrapping_mul(0xD1B5_4A32_D192_ED03);
    x = (x ^ (x >> 31)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    x = (x ^ (x >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    ((x ^ (x >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}

pub struct World {
    pub pair: Pair,
    pub place: Place,
    /// Of the rate.
    pub scale: f64,
    /// Payload of packets: now and then a small one.
    pub mixed: bool,
    pub port_closed: bool,
    /// The sender calls again when it is turned away.
    calls: bool,
    /// Datagrams that the system dropped at the receiving end.
    pub kernel_drops: std::rc::Rc<std::cell::Cell<u64>>,
    sent: u64,
    next_send: Duration,
    frame: u64,
    delivered: u64,
    configs: [LinkConfig; 2],
    ends: [End; 2],
}

struct End {
    live: Live,
    ticks: Ticks,
    diagnosing: Diagnosing,
    begun: Option<Duration>,
}

/// What was named, and when.
pub type Names = Vec<(Duration, Vec<String>)>;

impl World {
    pub fn new(place: Place, trouble: &Trouble) -> Self {
        let pair = Pair::new(place.seed, place.faults(), place.faults());
        let latency = Duration::from_secs_f64(place.latency / 1000.0);
        let configs = [A, B].map(|end| (trouble.config)(end, LinkConfig::default().with_latency(latency)));
        let ends = [A, B].map(|end| {
            let live = LinkStatus::new().look();
            let ticks = Ticks::new(&live, pair.instant(end));
            End { live, ticks, diagnosing: Diagnosing::default(), begun: None }
        });
        let mut world = Self {
            pair,
            place,
            scale: 1.0,
            mixed: false,
            port_closed: false,
            calls: false,
            kernel_drops: Default::default(),
            sent: 0,
            next_send: Duration::ZERO,
            frame: 0,
            delivered: 0,
            configs,
            ends,
        };
        world.pair.listen(world.configs[B].clone());
        (trouble.start)(&mut world);
        world.pair.call_only(world.configs[A].clone());
        world
    }

    /// The sender's program ends and begins anew.
    pub fn restart_sender(&mut self) {
        if let Some(conn) = self.pair.up(A) {
            self.pair.ends[A].close(conn);
            self.pair.drain(A);
        }
        self.pair.call_only(self.configs[A].clone());
        self.calls = true;
    }

    /// Runs it all, and tells what the judging end named in each glance.
    pub fn run(mut self, trouble: &Trouble) -> Names {
        let mut names = Names::new();
        let end = FAULT_AT + Duration::from_secs(trouble.secs);
        let mut acted = false;
        for n in 1.. {
            let at = GLANCE * n;
            if at > end {
                break;
            }
            if !acted && at > FAULT_AT {
                acted = true;
                (trouble.act)(&mut self);
            }
            self.run_until(at);
            if self.calls && n % 5 == 0 && self.pair.up(A).is_none() {
                self.pair.call_only(self.configs[A].clone());
            }
            for end in [A, B] {
                let named = self.look(end, n % 5 == 0, trouble);
                if end == trouble.end {
                    names.push((at, named));
                }
            }
        }
        names
    }

    fn run_until(&mut self, at: Duration) {
        while self.next_send <= at {
            self.pair.run_until(self.next_send.max(self.pair.now));
            let sends = self.scale > 0.0 && !self.pair.dead[A];
            if let Some(conn) = self.pair.up(A).filter(|_| sends) {
                for _ in 0..self.packets() {
                    self.sent += 1;
                    let size = if self.mixed && random(self.place.seed, self.sent) < 0.3 { 752 } else { 1316 };
                    self.pair.send(A, conn, payload(self.sent, size));
                }
            }
            self.next_send += self.interval();
        }
        self.pair.run_until(at);
    }

    fn interval(&self) -> Duration {
        if self.place.frames { ms(40) } else { Duration::from_secs_f64(1316.0 * 8.0 / (self.place.rate * self.scale.max(0.01))) }
    }

    /// How many leave now.
    fn packets(&mut self) -> u64 {
        if !self.place.frames {
            return 1;
        }
        self.frame += 1;
        let size = if self.frame.is_multiple_of(25) { 4.0 } else { 0.875 } * (0.8 + 0.4 * random(self.place.seed, self.frame));
        ((self.place.rate * self.scale / 25.0 / 8.0 / 1316.0 * size).round() as u64).max(1)
    }

    fn look(&mut self, end: usize, tick: bool, trouble: &Trouble) -> Vec<String> {
        let now = self.pair.instant(end);
        let conn = self.pair.up(end);
        let (at, way_in) = (self.pair.now, end == B);
        for (_, d) in self.pair.seen[end].delivered.drain(..) {
            self.delivered += d.payload.len() as u64;
            self.ends[end].begun.get_or_insert(at);
        }
        let addr = self.pair.addr[1 - end];
        let e = &mut self.ends[end];
        e.live.read_at = Some(now);
        if let Some(conn) = conn {
            if e.live.peers.first().is_none_or(|(id, _)| *id != u64::from(conn.0)) {
                for (_, p) in std::mem::take(&mut e.live.peers) {
                    e.live.counters.add(&p.counters);
                }
                e.live.sessions += 1;
                e.live.contact = Contact::Up;
                e.live.peers.push((conn.0.into(), PeerLive::new(addr, now)));
            }
            let stats = self.pair.ends[end].link_stats(conn).expect("up");
            let glance = self.pair.ends[end].take_glance(now, conn).expect("up");
            e.live.peers[0].1.read_srt(now, way_in, &stats, &glance);
        } else if let Some((_, p)) = e.live.peers.pop() {
            e.live.counters.add(&p.counters);
            e.live.contact = Contact::Lost(Loss::Caller { peer: Some(addr), fault: Some(Fault::PeerLost), why: String::new() });
        }
        let media = way_in.then(|| MediaCount { bytes: self.delivered, begun: e.begun.map(|_| now - ms(60_000).min(at)) });
        let t = if tick { e.ticks.end(&e.live, now, media, if way_in { self.kernel_drops.get() } else { 0 }) } else { e.live.present(now) };
        let mut reading = Reading {
            contact: e.live.contact.clone(),
            direction: if way_in { Direction::In } else { Direction::Out },
            tick: t,
            up_for: e.live.peers.first().map_or(Duration::ZERO, |(_, p)| now.saturating_duration_since(p.since.0)),
            media: way_in.then(media_facts),
            around: Around { sessions: e.live.sessions, port_closed: self.port_closed, ..Around::default() },
        };
        if at > FAULT_AT && end == trouble.end {
            (trouble.overlay)((at - FAULT_AT).as_secs_f64(), &mut reading);
        }
        let named = if tick { e.diagnosing.note(at, &reading) } else { e.diagnosing.glance(at, &reading) };
        named.iter().map(|d| d.cause.name().to_owned()).collect()
    }
}

fn media_facts() -> MediaFacts {
    MediaFacts {
        quiet: Some(Duration::ZERO),
        media_for: Duration::from_secs(60),
        readable: true,
        keyframe_seen: Some(true),
        ..MediaFacts::default()
    }
}

/// The media shows this.
pub fn shows(reading: &mut Reading, fault: ContentFault) {
    if let Some(m) = &mut reading.media {
        m.content = vec![(fault, Duration::from_secs(2))];
    }
}

pub fn secret(config: LinkConfig) -> LinkConfig {
    LinkConfig { passphrase: Some(Passphrase::new("a long and dull phrase").expect("long enough")), ..config }
}
