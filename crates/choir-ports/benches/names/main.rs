//! What names on the LAN cost: the delay from a unit handed to its source to the same unit handed
//! on by 1 to 16 receivers, and the CPU of ten receivers of 100 Mbit/s intra beside a raw TCP
//! fan-out of the same bytes in turn.
//!
//! `cargo bench -p choir-ports --bench names`; `-- delay` or `-- fanout` runs one part.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a bench")]

mod raw;

use bytes::Bytes;
use choir_core::link::StaveLink;
use choir_host::{
    Stop,
    clock::{Alarm, unix_us},
};
use choir_ports::{
    LinkStatus,
    stave::{Identity, MadeUnit, Node, NodePlan, SourcePlan, StreamPlan, TakePlan, spawn_take},
};
use choir_proto::stave::{Grade, StreamOffer, Track};
use rustix::time::{ClockId, clock_gettime};
use std::time::{Duration, Instant};
use tokio::{runtime::Runtime, sync::mpsc};

/// Pictures a second.
const RATE: u64 = 50;
const TIME: Duration = Duration::from_secs(5);
/// Rounds of the comparison, in turn.
const ROUNDS: usize = 5;

/// What came of one run.
struct Ran {
    /// Milliseconds from source to receiver, sorted.
    delays: Vec<f64>,
    /// Of what was sent to all.
    delivered: f64,
    /// CPU of the whole process, in cores.
    cores: f64,
}

impl Ran {
    fn of(mut delays: Vec<f64>, sent: usize, cpu: f64) -> Self {
        delays.sort_by(f64::total_cmp);
        let delivered = delays.len() as f64 / sent.max(1) as f64;
        Self { delays, delivered, cores: cpu / TIME.as_secs_f64() }
    }

    fn at(&self, share: f64) -> f64 {
        self.delays.get(((self.delays.len().max(1) - 1) as f64 * share) as usize).copied().unwrap_or(f64::NAN)
    }
}

/// CPU seconds of this process.
fn cpu() -> f64 {
    let t = clock_gettime(ClockId::ProcessCPUTime);
    t.tv_sec as f64 + t.tv_nsec as f64 / 1e9
}

fn unit_bytes(mbits: f64) -> usize {
    (mbits * 1e6 / 8.0 / RATE as f64) as usize
}

/// Pictures of a rate at their times; gives how many. Every 50th or every one is a keyframe.
async fn pictures(units: mpsc::Sender<MadeUnit>, mbits: f64, intra: bool) -> usize {
    let (mut alarm, start) = (Alarm::new().unwrap(), Instant::now());
    // Begins as a picture does, or receivers would search all of it for where it begins.
    let mut data = vec![0x65; unit_bytes(mbits)];
    data[..4].copy_from_slice(&[0, 0, 0, 1]);
    let data = Bytes::from(data);
    let count = TIME.as_secs() * RATE;
    for n in 0..count {
        alarm.until(start + Duration::from_nanos(n * 1_000_000_000 / RATE)).await;
        let keyframe = intra || n % RATE == 0;
        let unit = MadeUnit { track: Track::Picture, keyframe, pts: (n * 90_000 / RATE) as i64, data: data.clone() };
        let _ = units.send(unit).await;
    }
    count as usize
}

/// One source and so many receivers, all of this process.
fn stave(receivers: usize, mbits: f64, grade: Grade) -> Ran {
    Runtime::new().unwrap().block_on(async {
        let (end, stop) = Stop::new();
        let node = |n: u8| NodePlan::open(&format!("bench-{n}"), Identity::passing().unwrap(), [127, 90, 0, n].into());
        let source = Node::start(node(1), &stop).await.unwrap();
        let (give, units) = mpsc::channel(64);
        let offer = StreamOffer {
            id: 0,
            grade,
            codec: "h264".into(),
            size: Some((1920, 1080)),
            rate: Some(RATE as f64),
            bitrate: (mbits * 1e6) as u64,
            sound: None,
        };
        let status = LinkStatus::new();
        let streams = vec![StreamPlan::Made(Box::new(offer), units)];
        let plan = SourcePlan { name: "Finish Tower".into(), streams, camera: None, group: None, carries: None, status: status.clone() };
        source.spawn_source(plan, stop.clone());
        let mut taps = Vec::new();
        for n in 0..receivers {
            let node = Node::start(node(10 + n as u8), &stop).await.unwrap();
            let (tap, taken) = mpsc::unbounded_channel();
            let link = StaveLink { machine: Some(source.at().to_string()), ..StaveLink::named("Finish Tower") };
            let status = LinkStatus::new();
            let plan = TakePlan { tap: Some(tap), ..TakePlan::of(&node, link, status) };
            spawn_take(plan, stop.clone());
            taps.push(taken);
        }
        // A keyframe now and then until all have one.
        let warm = MadeUnit { track: Track::Picture, keyframe: true, pts: 0, data: Bytes::from_static(&[0x65; 64]) };
        for tap in &mut taps {
            while tokio::time::timeout(Duration::from_millis(50), tap.recv()).await.is_err() {
                give.send(warm.clone()).await.unwrap();
            }
        }
        let counts: Vec<_> = taps
            .into_iter()
            .map(|mut tap| {
                tokio::spawn(async move {
                    let mut delays = Vec::new();
                    while let Some(unit) = tap.recv().await {
                        if unit.data.data.len() > 64 {
                            delays.push((unix_us() - unit.head.made_us as i64) as f64 / 1000.0);
                        }
                    }
                    delays
                })
            })
            .collect();
        let before = cpu();
        let sent = pictures(give, mbits, grade == Grade::Intra).await;
        tokio::time::sleep(Duration::from_millis(100)).await;
        let spent = cpu() - before;
        end.now();
        let mut delays = Vec::new();
        for count in counts {
            delays.extend(count.await.unwrap());
        }
        Ran::of(delays, sent * receivers, spent)
    })
}

fn wanted(part: &str) -> bool {
    let args: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    args.is_empty() || args.iter().any(|a| part.starts_with(a.as_str()))
}

fn median(mut values: Vec<f64>) -> (f64, f64, f64) {
    values.sort_by(f64::total_cmp);
    (values[values.len() / 2], values[0], values[values.len() - 1])
}

fn main() {
    if wanted("delay") {
        println!("from a unit handed to its source to the unit handed on by a receiver, {RATE} pictures a second, one process\n");
        println!("{:30} {:>9} {:>8} {:>8} {:>8} {:>10} {:>7}", "", "receivers", "p50 ms", "p90 ms", "p99 ms", "delivered", "cores");
        for (what, mbits, grade) in [("long-GOP, 8 Mbit/s", 8.0, Grade::LongGop), ("intra, 100 Mbit/s", 100.0, Grade::Intra)] {
            for receivers in [1, 2, 4, 8, 16] {
                let ran = stave(receivers, mbits, grade);
                println!(
                    "{what:30} {receivers:9} {:8.2} {:8.2} {:8.2} {:8.2} % {:7.2}",
                    ran.at(0.5),
                    ran.at(0.9),
                    ran.at(0.99),
                    ran.delivered * 100.0,
                    ran.cores
                );
            }
        }
    }
    if wanted("fanout") {
        const RECEIVERS: usize = 10;
        const MBITS: f64 = 100.0;
        println!(
            "\n{RECEIVERS} receivers of {MBITS} Mbit/s intra beside a raw TCP fan-out of the same bytes, in turn: CPU of the whole process"
        );
        let raw = |sealed| raw::fan_out(RECEIVERS, unit_bytes(MBITS), sealed);
        let rounds: Vec<[Ran; 3]> = (0..ROUNDS).map(|_| [stave(RECEIVERS, MBITS, Grade::Intra), raw(false), raw(true)]).collect();
        for (n, name) in ["Stave", "raw TCP", "raw TCP, sealed and opened"].into_iter().enumerate() {
            let cores = median(rounds.iter().map(|r| r[n].cores).collect());
            let delay = median(rounds.iter().map(|r| r[n].at(0.5)).collect());
            let delivered = median(rounds.iter().map(|r| r[n].delivered * 100.0).collect());
            println!(
                "{name:28} cores {:.2} [{:.2}..{:.2}]   delay p50 {:.2} [{:.2}..{:.2}] ms   delivered {:.2} [{:.2}..{:.2}] %",
                cores.0, cores.1, cores.2, delay.0, delay.1, delay.2, delivered.0, delivered.1, delivered.2
            );
        }
        for (n, what) in [(1, "raw TCP"), (2, "the same sealed and opened")] {
            let ratio = median(rounds.iter().map(|r| r[0].cores / r[n].cores).collect());
            println!("Stave over {what} {:.2} [{:.2}..{:.2}]", ratio.0, ratio.1, ratio.2);
        }
    }
}
