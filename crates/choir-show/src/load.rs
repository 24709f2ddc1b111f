//! How many links this machine carries: a gateway under load, with the far ends on the same machine
//! and on threads of their own, whose time is counted apart.

use crate::media::{FeedMedia, KeptFor, LineMedia};
use bytes::Bytes;
use choir_core::id::LineId;
use choir_host::{Stop, clock::Alarm, lock};
use choir_ports::{
    Arrival, CallPlan, Flow, Intake, Lateness, LatenessCount, LinkStatus, ListenPlan, Outlet, Shard, Shards, spawn_caller, spawn_listener,
};
use choir_proto::{
    srt::LinkConfig,
    ts::{TsWriter, Unit, WriterConfig},
};
use std::{
    io,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

/// Bytes of one packet: seven of a transport stream.
const PAYLOAD: usize = 1316;
/// After the links are up, until it is measured.
const WARM_UP: Duration = Duration::from_millis(1500);
/// How long links may take to come up.
const UP_MOST: Duration = Duration::from_secs(20);
/// What is still under way when the sources end, and is told of their last second.
const REST: Duration = Duration::from_millis(1200);
/// How often the sources look at what is due.
const STEP: Duration = Duration::from_micros(250);
/// Of so many packets one is timed.
const SAMPLED: u64 = 16;
/// Later than this, on 1 of 100 packets, and the links do not count as carried.
pub const LATE_MOST: Duration = Duration::from_millis(2);

/// Links that come in by SRT, are metered as lines, and go out as feeds by SRT.
#[derive(Debug, Clone)]
pub struct Load {
    /// How many.
    pub links: usize,
    /// Bits per second of each.
    pub bps: u64,
    /// Settings, of both sides.
    pub config: LinkConfig,
    /// How long it is measured.
    pub time: Duration,
}

/// What came of it.
#[derive(Debug, Clone, Copy)]
pub struct Carried {
    /// Packets relayed while it was measured.
    pub packets: u64,
    /// CPU time that the relaying threads took for them.
    pub cpu: Duration,
    /// CPU time that the far ends took.
    pub far_cpu: Duration,
    /// How long it was measured.
    pub time: Duration,
    /// Share of all packets that arrived.
    pub delivered: f64,
    /// How late the relay sent what was due.
    pub late: Lateness,
    /// How late packets came at the far end, after the quickest of their link: with the waits of
    /// source and sink.
    pub late_there: Lateness,
}

impl Carried {
    /// Every packet arrived, and the relay was on time.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.delivered > 0.999_99 && self.late.most_of_all < LATE_MOST
    }

    /// Cores that the relay took.
    #[must_use]
    pub fn cores(&self) -> f64 {
        self.cpu.as_secs_f64() / self.time.as_secs_f64().max(0.001)
    }

    /// Cores that the far ends took.
    #[must_use]
    pub fn far_cores(&self) -> f64 {
        self.far_cpu.as_secs_f64() / self.time.as_secs_f64().max(0.001)
    }

    /// µs of CPU of the relay for each packet.
    #[must_use]
    pub fn us_per_packet(&self) -> f64 {
        self.cpu.as_secs_f64() * 1e6 / self.packets.max(1) as f64
    }
}

/// Counts what arrives on one link, and keeps when some of it did.
#[derive(Default)]
struct Sink {
    packets: AtomicU64,
    sampled: Mutex<Vec<(u64, Instant)>>,
}

impl Intake for Sink {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let now = Instant::now();
        for _ in arrivals.drain(..) {
            let n = self.packets.fetch_add(1, Ordering::Relaxed);
            if n.is_multiple_of(SAMPLED) {
                lock(&self.sampled).push((n, now));
            }
        }
    }
}

/// A transport stream of this rate with pictures and a clock, six seconds of it, in packets of the
/// link.
#[must_use]
pub fn stream(bps: u64) -> Vec<Bytes> {
    let mut writer = TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() });
    let size = (bps as f64 / 8.0 / 25.0 * 0.96) as usize;
    let mut all = Vec::new();
    for n in 0..150u64 {
        let keyframe = n.is_multiple_of(25);
        let mut data = Vec::new();
        if keyframe {
            data.extend_from_slice(&[
                0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
            ]);
        }
        data.extend_from_slice(&[0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88]);
        data.resize(size.max(data.len()), 0xA5);
        writer.write(&Unit { video: true, pts: 900_000 + n * 3600, dts: None, keyframe, data: &[&data] }, &mut all);
    }
    let all = Bytes::from(all);
    (0..all.len() / PAYLOAD).map(|n| all.slice(n * PAYLOAD..(n + 1) * PAYLOAD)).collect()
}

/// The gateway and its far ends.
struct Bed {
    own: Shards,
    far: Shards,
    sinks: Vec<Arc<Sink>>,
    outlets: Vec<Arc<Outlet>>,
    statuses: Vec<Arc<LinkStatus>>,
    /// The lines, and the threads that their links were given.
    _kept: Vec<(Arc<LineMedia>, [Shard; 2])>,
}

impl Bed {
    fn open(load: &Load, stop: &Stop) -> io::Result<Self> {
        let (own, far) = (Shards::start()?, Shards::start()?);
        let (mut sinks, mut outlets, mut statuses, mut kept) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let none = || io::Error::other("no thread for SRT");
        for n in 0..load.links {
            let (here, there) = (own.pick().ok_or_else(none)?, far.pick().ok_or_else(none)?);
            let (sink, outlet, onward) = (Arc::<Sink>::default(), Outlet::new(), Outlet::new());
            let id = LineId(n as u32);
            let (line, feed) = (LineMedia::new(id), FeedMedia::new(Some(id), Arc::default()));
            feed.add_out(onward.clone().into());
            line.attach(feed);
            // As a show does, for those who look at pictures.
            line.keep_recent(KeptFor::Looking, true);
            let listen = |shard: &Shard, intake: Arc<dyn Intake>| {
                let plan = ListenPlan::one(load.config.clone(), Flow::In(intake));
                spawn_listener(shard, ([127, 0, 0, 1], 0).into(), vec![plan], stop.clone())
            };
            let beyond = listen(&there, sink.clone())?;
            let entry = listen(&here, line.clone())?;
            for (shard, to, outlet) in [(&here, beyond, onward), (&there, entry, outlet.clone())] {
                let plan = CallPlan::to(to, load.config.clone(), Flow::Out(outlet));
                statuses.push(plan.status.clone());
                spawn_caller(shard, plan, stop.clone());
            }
            sinks.push(sink);
            outlets.push(outlet);
            kept.push((line, [here, there]));
        }
        Ok(Self { own, far, sinks, outlets, statuses, _kept: kept })
    }

    fn are_up(&self) -> bool {
        self.statuses.iter().all(|s| !s.look().peers.is_empty())
    }

    fn arrived(&self) -> u64 {
        self.sinks.iter().map(|s| s.packets.load(Ordering::Relaxed)).sum()
    }

    /// How late the relay was since this was asked last.
    fn late(&self) -> Lateness {
        let mut all = LatenessCount::default();
        self.own.iter().for_each(|s| all.add(&s.take_lateness()));
        all.lateness()
    }
}

impl Drop for Bed {
    fn drop(&mut self) {
        self.own.end();
        self.far.end();
    }
}

fn cpu(of: &Shards) -> Duration {
    of.iter().map(Shard::cpu).sum()
}

/// Carries the load on loopback; nothing when it is stopped meanwhile.
///
/// # Errors
/// The system is out of sockets or threads, or the links do not come up.
pub async fn carry(load: &Load, mut stopped: Stop) -> io::Result<Option<Carried>> {
    let (end, stop) = Stop::new();
    let bed = Bed::open(load, &stop)?;
    let measured = tokio::select! {
        measured = measure(load, &bed) => measured.map(Some),
        () = stopped.wait() => Ok(None),
    };
    end.now();
    measured
}

async fn measure(load: &Load, bed: &Bed) -> io::Result<Carried> {
    let mut alarm = Alarm::new()?;
    let begun = Instant::now();
    while !bed.are_up() {
        if begun.elapsed() > UP_MOST {
            let up = bed.statuses.iter().filter(|s| !s.look().peers.is_empty()).count();
            return Err(io::Error::other(format!("only {up} of {} connections came up in {UP_MOST:?}", bed.statuses.len())));
        }
        alarm.until(Instant::now() + Duration::from_millis(5)).await;
    }
    let pieces = stream(load.bps);
    let step = Duration::from_secs_f64(PAYLOAD as f64 * 8.0 / load.bps.max(1) as f64);
    let mut sent = vec![0u64; load.links];
    let mut stamps: Vec<Vec<Instant>> = vec![Vec::new(); load.links];
    let (start, mut before, mut counted_from) = (Instant::now(), None, Vec::new());
    loop {
        let now = Instant::now();
        let passed = now - start;
        if passed >= WARM_UP + load.time {
            break;
        }
        // Each link has a phase of its own.
        for n in 0..load.links {
            let phase = step.mul_f64(n as f64 / load.links as f64);
            let due = (passed.saturating_sub(phase).as_secs_f64() / step.as_secs_f64()) as u64;
            while sent[n] < due {
                if sent[n].is_multiple_of(SAMPLED) {
                    stamps[n].push(Instant::now());
                }
                bed.outlets[n].push(pieces[sent[n] as usize % pieces.len()].clone());
                sent[n] += 1;
            }
        }
        if before.is_none() && passed >= WARM_UP {
            let _ = bed.late();
            before = Some((cpu(&bed.own), cpu(&bed.far), bed.arrived(), now));
            counted_from = bed.sinks.iter().map(|s| lock(&s.sampled).len()).collect();
        }
        alarm.until(now + STEP).await;
    }
    let Some((own, far, packets, since)) = before else { return Err(io::Error::other("nothing was measured")) };
    let time = since.elapsed();
    let (own_cpu, far_cpu) = (cpu(&bed.own).saturating_sub(own), cpu(&bed.far).saturating_sub(far));
    let packets = bed.arrived() - packets;
    alarm.until(Instant::now() + load.config.receive_latency * 2 + REST).await;
    let late = bed.late();
    let delivered = bed.arrived() as f64 / sent.iter().sum::<u64>().max(1) as f64;
    let late_there = late_there(&bed.sinks, &stamps, &counted_from);
    Ok(Carried { packets, cpu: own_cpu, far_cpu, time, delivered, late, late_there })
}

/// Of each link the quickest packet had no delay of ours.
fn late_there(sinks: &[Arc<Sink>], stamps: &[Vec<Instant>], from: &[usize]) -> Lateness {
    let mut late = Vec::new();
    for ((sink, stamps), from) in sinks.iter().zip(stamps).zip(from) {
        let sampled = lock(&sink.sampled);
        let took = |(n, at): &(u64, Instant)| Some(*at - *stamps.get((n / SAMPLED) as usize)?);
        let all: Vec<Duration> = sampled.iter().skip(*from).filter_map(took).collect();
        let least = all.iter().min().copied().unwrap_or_default();
        late.extend(all.iter().map(|t| *t - least));
    }
    late.sort_unstable();
    let at = |share: f64| late.get(((late.len().max(1) - 1) as f64 * share) as usize).copied().unwrap_or_default();
    Lateness { half: at(0.5), most_of_all: at(0.99), most: at(1.0) }
}
