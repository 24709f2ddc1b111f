//! Links under load, with the drivers as they are used in a show.

use crate::raw::process_cpu;
use bytes::Bytes;
use choir_host::{Stop, clock::Alarm};
use choir_ports::{Arrival, CallPlan, Intake, LinkStatus, ListenPlan, Outlet, TsFlow, spawn_caller, spawn_listener};
use choir_proto::srt::{Ceiling, KeyLength, LinkConfig, Passphrase, StreamMatch};
use std::{
    net::SocketAddr,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{runtime::Runtime, sync::watch};

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

/// Counts what arrives, and hands it on if there is somewhere to.
#[derive(Default)]
struct Sink {
    packets: AtomicU64,
    onward: Option<Arc<Outlet>>,
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
        if let Some(onward) = &self.onward {
            onward.push(payload);
        }
    }
}

fn runtime() -> Runtime {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime")
}

fn listen(sink: Arc<Sink>, config: LinkConfig, callers: usize, stop: &Stop) -> SocketAddr {
    let plan = ListenPlan { stream: StreamMatch::Any, config, max_callers: callers, flow: TsFlow::In(sink), status: LinkStatus::new() };
    spawn_listener(([127, 0, 0, 1], 0).into(), vec![plan], stop.clone()).expect("listens")
}

fn call(to: SocketAddr, config: LinkConfig, outlet: Arc<Outlet>, stop: &Stop) -> Arc<LinkStatus> {
    let status = LinkStatus::new();
    let plan = CallPlan {
        host: to.ip().to_string(),
        port: to.port(),
        bind: None,
        rendezvous: false,
        config,
        flow: TsFlow::Out(outlet),
        status: status.clone(),
    };
    spawn_caller(plan, stop.clone());
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

/// ns of CPU per packet delivered, sender and receiver in one process, at the speed of the receiver.
pub fn saturated(key_bytes: Option<usize>, packets: u64) -> f64 {
    runtime().block_on(async {
        let (end, stop) = Stop::new();
        let sink = Arc::new(Sink::default());
        let at = listen(sink.clone(), config(key_bytes).with_latency(Duration::from_millis(20)), 1, &stop);
        let outlet = Outlet::new();
        let status = call(at, config(key_bytes).with_latency(Duration::from_millis(20)), outlet.clone(), &stop);
        let mut alarm = Alarm::new().expect("an alarm");
        up(&[status], &mut alarm).await;
        let piece = numbered(0);
        let before = process_cpu();
        let mut sent = 0;
        while sent < packets {
            // As much as is under way at once without loss: the receiver sets the pace.
            while sent < packets && sent - sink.packets.load(Ordering::Relaxed) < 2048 {
                outlet.push(piece.clone());
                sent += 1;
            }
            tokio::task::yield_now().await;
        }
        let cpu = process_cpu() - before;
        let delivered = sink.packets.load(Ordering::Relaxed);
        end.now();
        cpu.as_nanos() as f64 / delivered.max(1) as f64
    })
}

/// What the relay came to.
pub struct Relayed {
    pub ns_per_packet: f64,
    pub cores: f64,
    pub delivered: f64,
}

/// `count` links of 8 Mbit/s into one relay and out of it again, each encrypted on both sides. The relay
/// has a thread of its own, whose CPU alone is counted.
pub fn relay(count: usize, time: Duration) -> Relayed {
    let far = runtime();
    let (end, stop) = Stop::new();
    let sinks = Arc::new(Sink::default());
    let sink_at = far.block_on(async { listen(sinks.clone(), config(Some(16)), count, &stop) });
    let (entry_tx, entry_rx) = std::sync::mpsc::channel();
    let relay_stop = stop.clone();
    let (cpu_tx, cpu) = watch::channel(Duration::ZERO);
    let relay = std::thread::spawn(move || {
        runtime().block_on(async {
            let mut entries = Vec::new();
            // One port for all that comes in, one link out for each.
            let mut plans = Vec::new();
            for n in 0..count {
                let outlet = Outlet::new();
                call(sink_at, config(Some(16)), outlet.clone(), &relay_stop);
                plans.push(ListenPlan {
                    stream: StreamMatch::Exactly(format!("link-{n}")),
                    config: config(Some(16)),
                    max_callers: 1,
                    flow: TsFlow::In(Arc::new(Sink { onward: Some(outlet), ..Sink::default() })),
                    status: LinkStatus::new(),
                });
            }
            let at = spawn_listener(([127, 0, 0, 1], 0).into(), plans, relay_stop.clone()).expect("listens");
            entries.push(at);
            entry_tx.send(at).expect("told");
            let mut tick = tokio::time::interval(Duration::from_millis(100));
            let mut over = relay_stop.clone();
            loop {
                tokio::select! {
                    _ = tick.tick() => { cpu_tx.send_replace(crate::raw::thread_cpu()); }
                    () = over.wait() => return,
                }
            }
        });
    });
    let entry = entry_rx.recv().expect("an entry");
    let result = far.block_on(async {
        let outlets: Vec<_> = (0..count).map(|_| Outlet::new()).collect();
        let statuses: Vec<_> = outlets
            .iter()
            .enumerate()
            .map(|(n, o)| call(entry, LinkConfig { stream_id: Some(format!("link-{n}")), ..config(Some(16)) }, o.clone(), &stop))
            .collect();
        let mut alarm = Alarm::new().expect("an alarm");
        up(&statuses, &mut alarm).await;
        let piece = numbered(0);
        // Each millisecond as many packets of each link as 8 Mbit/s come to.
        let send = async |alarm: &mut Alarm, time: Duration| {
            let start = Instant::now();
            let mut sent = 0u64;
            while start.elapsed() < time {
                let due = (start.elapsed().as_secs_f64() * 8e6 / 8.0 / PAYLOAD as f64) as u64;
                while sent < due {
                    outlets.iter().for_each(|o| o.push(piece.clone()));
                    sent += 1;
                }
                alarm.until(Instant::now() + Duration::from_millis(1)).await;
            }
            sent * count as u64
        };
        send(&mut alarm, Duration::from_millis(700)).await;
        let (cpu_before, got_before) = (*cpu.borrow(), sinks.packets.load(Ordering::Relaxed));
        let sent = send(&mut alarm, time).await;
        let (cpu_after, got_after) = (*cpu.borrow(), sinks.packets.load(Ordering::Relaxed));
        let spent = cpu_after.saturating_sub(cpu_before);
        Relayed {
            ns_per_packet: spent.as_nanos() as f64 / (got_after - got_before).max(1) as f64,
            cores: spent.as_secs_f64() / time.as_secs_f64(),
            delivered: (got_after - got_before) as f64 / sent.max(1) as f64,
        }
    });
    end.now();
    relay.join().expect("joined");
    result
}

/// µs from due to release, sorted: due is the steady beat of the sender as it was seen at the receiver.
pub fn lateness(packets: u64) -> Vec<f64> {
    runtime().block_on(async {
        let (end, stop) = Stop::new();
        let sink = Arc::new(Sink { arrivals: Some(Mutex::default()), ..Sink::default() });
        let at = listen(sink.clone(), config(None), 1, &stop);
        let outlet = Outlet::new();
        let status = call(at, config(None), outlet.clone(), &stop);
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
        let arrivals = sink.arrivals.as_ref().expect("arrivals").lock().expect("lock");
        let mut took: Vec<f64> =
            arrivals.iter().filter_map(|(n, at)| Some((*at - *stamps.get(*n as usize)?).as_nanos() as f64 / 1000.0)).collect();
        took.sort_by(f64::total_cmp);
        // The constant part, latency and handshake, is the same for all: the quickest had no delay of ours.
        let least = took.first().copied().unwrap_or(0.0);
        took.iter().map(|t| t - least).collect()
    })
}

fn resident_kib() -> f64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find(|l| l.starts_with("VmRSS")).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|n| n.parse().ok()).unwrap_or(0.0)
}

/// KiB per link, both ends in this process, with `count` links against with one.
pub fn memory(count: usize) -> f64 {
    let measure = |count: usize| {
        runtime().block_on(async {
            let (end, stop) = Stop::new();
            let sink = Arc::new(Sink::default());
            let at = listen(sink, config(Some(16)), count, &stop);
            let outlets: Vec<_> = (0..count).map(|_| Outlet::new()).collect();
            let statuses: Vec<_> = outlets.iter().map(|o| call(at, config(Some(16)), o.clone(), &stop)).collect();
            let mut alarm = Alarm::new().expect("an alarm");
            up(&statuses, &mut alarm).await;
            let mut due = Instant::now();
            for n in 0..1500 {
                due += Duration::from_micros(1316);
                alarm.until(due).await;
                outlets.iter().for_each(|o| o.push(numbered(n)));
            }
            let resident = resident_kib();
            end.now();
            resident
        })
    };
    let one = measure(1);
    (measure(count) - one) / (count - 1) as f64
}
