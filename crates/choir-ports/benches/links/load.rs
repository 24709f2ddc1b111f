//! Links under load, with the drivers as they are used in a show.

use bytes::Bytes;
use choir_host::{Stop, clock::Alarm};
use choir_ports::{Arrival, CallPlan, Flow, Intake, LinkStatus, ListenPlan, Outlet, Shard, spawn_caller, spawn_listener};
use choir_proto::srt::{Ceiling, KeyLength, LinkConfig, Passphrase};
use std::{
    net::SocketAddr,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::runtime::Runtime;

const PAYLOAD: usize = 1316;

fn config(key_bytes: Option<usize>) -> LinkConfig {
    LinkConfig {
        passphrase: key_bytes.and_then(|_| Passphrase::new("rowing is made up").ok()),
        key_length: key_bytes.and_then(KeyLength::from_bytes).unwrap_or_default(),
        ceiling: Ceiling::Unlimited,
        window: 32_768,
        ..LinkConfig::default()
    }
}

/// Counts what arrives.
#[derive(Default)]
struct Sink {
    packets: AtomicU64,
    /// Send times in the payload, to measure release against them.
    arrivals: Option<Mutex<Vec<(u64, Instant)>>>,
}

impl Intake for Sink {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        arrivals.drain(..).filter_map(|a| a.media.into_ts()).for_each(|bytes| self.take(bytes));
    }
}

impl Sink {
    fn take(&self, payload: Bytes) {
        self.packets.fetch_add(1, Ordering::Relaxed);
        if let Some(arrivals) = &self.arrivals {
            let n = payload.get(..8).and_then(|b| b.try_into().ok()).map_or(0, u64::from_be_bytes);
            arrivals.lock().expect("lock").push((n, Instant::now()));
        }
    }
}

fn shard() -> Shard {
    Shard::start().expect("a thread")
}

fn runtime() -> Runtime {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime")
}

fn listen(shard: &Shard, sink: Arc<Sink>, config: LinkConfig, callers: usize, stop: &Stop) -> SocketAddr {
    let plan = ListenPlan { max_callers: callers, ..ListenPlan::one(config, Flow::In(sink)) };
    spawn_listener(shard, ([127, 0, 0, 1], 0).into(), vec![plan], stop.clone()).expect("listens")
}

fn call(shard: &Shard, to: SocketAddr, config: LinkConfig, outlet: Arc<Outlet>, stop: &Stop) -> Arc<LinkStatus> {
    let plan = CallPlan::to(to, config, Flow::Out(outlet));
    let status = plan.status.clone();
    spawn_caller(shard, plan, stop.clone());
    status
}

async fn up(statuses: &[Arc<LinkStatus>], alarm: &mut Alarm) {
    let mut at = Instant::now();
    while statuses.iter().any(|s| s.look().peers.is_empty()) {
        at += Duration::from_millis(5);
        alarm.until(at).await;
    }
}

fn numbered(n: u64) -> Bytes {
    let mut data = vec![0x47; PAYLOAD];
    data[..8].copy_from_slice(&n.to_be_bytes());
    data.into()
}

/// ns of CPU per packet delivered, sender and receiver in one process, at the speed of the
/// receiver.
pub fn saturated(key_bytes: Option<usize>, packets: u64) -> f64 {
    runtime().block_on(async {
        let (end, stop) = Stop::new();
        let sink = Arc::new(Sink::default());
        let shards = [shard(), shard()];
        let at = listen(&shards[0], sink.clone(), config(key_bytes).with_latency(Duration::from_millis(20)), 1, &stop);
        let outlet = Outlet::new();
        let status = call(&shards[1], at, config(key_bytes).with_latency(Duration::from_millis(20)), outlet.clone(), &stop);
        let mut alarm = Alarm::new().expect("an alarm");
        up(&[status], &mut alarm).await;
        let piece = numbered(0);
        let cpu = || shards.iter().map(Shard::cpu).sum::<Duration>();
        let (before, mut sent) = (cpu(), 0);
        while sent < packets {
            // As much as is under way at once without loss: the receiver sets the pace.
            while sent < packets && sent - sink.packets.load(Ordering::Relaxed) < 2048 {
                outlet.push(piece.clone());
                sent += 1;
            }
            alarm.until(Instant::now() + Duration::from_micros(200)).await;
        }
        // Until the threads have said what they took.
        alarm.until(Instant::now() + Duration::from_millis(500)).await;
        let cpu = cpu() - before;
        let delivered = sink.packets.load(Ordering::Relaxed);
        end.now();
        shards.iter().for_each(Shard::end);
        cpu.as_nanos() as f64 / delivered.max(1) as f64
    })
}

/// µs from due to release, sorted: due is the steady beat of the sender as it was seen at the
/// receiver.
pub fn lateness(packets: u64) -> Vec<f64> {
    runtime().block_on(async {
        let (end, stop) = Stop::new();
        let sink = Arc::new(Sink { arrivals: Some(Mutex::default()), ..Sink::default() });
        let shards = [shard(), shard()];
        let at = listen(&shards[0], sink.clone(), config(None), 1, &stop);
        let outlet = Outlet::new();
        let status = call(&shards[1], at, config(None), outlet.clone(), &stop);
        let mut alarm = Alarm::new().expect("an alarm");
        up(&[status], &mut alarm).await;
        let mut stamps = Vec::new();
        let mut due = Instant::now();
        for n in 0..packets {
            due += Duration::from_micros(1316);
            alarm.until(due).await;
            // The engine stamps a packet when it is handed in.
            stamps.push(Instant::now());
            outlet.push(numbered(n));
        }
        alarm.until(due + Duration::from_millis(400)).await;
        end.now();
        shards.iter().for_each(Shard::end);
        let arrivals = sink.arrivals.as_ref().expect("arrivals").lock().expect("lock");
        let mut took: Vec<f64> =
            arrivals.iter().filter_map(|(n, at)| Some((*at - *stamps.get(*n as usize)?).as_nanos() as f64 / 1000.0)).collect();
        took.sort_by(f64::total_cmp);
        // The constant part, latency and handshake, is the same for all: the quickest had no delay
        // of ours.
        let least = took.first().copied().unwrap_or(0.0);
        took.iter().map(|t| t - least).collect()
    })
}

/// KiB per link, both ends in this process, with `count` links against with one.
pub fn memory(count: usize) -> f64 {
    let measure = |count: usize| {
        runtime().block_on(async {
            let (end, stop) = Stop::new();
            let sink = Arc::new(Sink::default());
            let shards = [shard(), shard()];
            let at = listen(&shards[0], sink, config(Some(16)), count, &stop);
            let outlets: Vec<_> = (0..count).map(|_| Outlet::new()).collect();
            let statuses: Vec<_> = outlets.iter().map(|o| call(&shards[1], at, config(Some(16)), o.clone(), &stop)).collect();
            let mut alarm = Alarm::new().expect("an alarm");
            up(&statuses, &mut alarm).await;
            let mut due = Instant::now();
            for n in 0..1500 {
                due += Duration::from_micros(1316);
                alarm.until(due).await;
                outlets.iter().for_each(|o| o.push(numbered(n)));
            }
            let resident = choir_rig::resident_kib("self");
            end.now();
            shards.iter().for_each(Shard::end);
            resident
        })
    };
    let one = measure(1);
    (measure(count) - one) / (count - 1) as f64
}
