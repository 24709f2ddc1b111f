//! A show of many encrypted lines over bad paths, whose cameras and receivers go and come back at
//! random, for as long as it is let run: memory and open files of `choir run` must stay flat, and
//! every packet be accounted for.
//!
//! `cargo bench -p choir --bench soak -- MINUTES LINES`; 20 minutes and 100 lines if not given.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a bench")]

use choir_core::view::ShowView;
use choir_host::{End, Stop, clock::Alarm};
use choir_path::Faults;
use choir_ports::{Arrival, CallPlan, Counters, Flow, Intake, LinkStatus, ListenPlan, Listener, Listening, Outlet, Shard, spawn_caller};
use choir_proto::srt::{KeyLength, LinkConfig, Passphrase};
use choir_show::load::stream;
use choir_sim::relay::{self, RelaySettings};
use std::{
    net::SocketAddr,
    path::Path,
    process::{Child, Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

const BPS: u64 = 1_000_000;
const LATENCY: Duration = Duration::from_millis(300);
const PASSPHRASE: &str = "rowing is made up";
/// Between two links that go and come back, on average.
const CHANGE_EVERY: Duration = Duration::from_millis(1500);
/// Memory is compared after a quarter of the time.
const SETTLED: f64 = 0.25;
/// A link that calls again has some files open for a moment.
const CALLING: usize = 4;
/// Packets that may be under way when a link goes.
const TAIL: u64 = 2;
/// How much memory may grow from then on.
const GROWTH_MOST: f64 = 0.02;

/// A camera's link, which goes and comes back.
struct Camera {
    to: SocketAddr,
    outlet: Arc<Outlet>,
    status: Arc<LinkStatus>,
    end: End,
    next: usize,
}

/// A receiver's link, which goes and comes back.
struct Receiver {
    port: Listener,
    count: Arc<Count>,
    link: Listening,
    status: Arc<LinkStatus>,
}

#[derive(Default)]
struct Count(AtomicU64);

impl Intake for Count {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        self.0.fetch_add(arrivals.len() as u64, Ordering::Relaxed);
        arrivals.clear();
    }
}

fn config() -> LinkConfig {
    let passphrase = Passphrase::new(PASSPHRASE).ok();
    LinkConfig { passphrase, key_length: KeyLength::from_bytes(16).unwrap(), ..LinkConfig::default() }.with_latency(LATENCY)
}

fn call(shard: &Shard, to: SocketAddr, stop: &Stop) -> Camera {
    let outlet = Outlet::new();
    let plan = CallPlan::to(to, config(), Flow::Out(outlet.clone()));
    let (status, (end, stop)) = (plan.status.clone(), stop.child());
    spawn_caller(shard, plan, stop);
    Camera { to, outlet, status, end, next: 0 }
}

fn receive(port: &Listener, count: &Arc<Count>) -> (Listening, Arc<LinkStatus>) {
    let plan = ListenPlan::one(config(), Flow::In(count.clone()));
    let status = plan.status.clone();
    (port.add(plan), status)
}

fn sheet(ports: &[u16], receivers: &[SocketAddr]) -> String {
    use std::fmt::Write as _;
    let mut text = "[show]\nname = \"Tarn Hollow Regatta\"\n".to_owned();
    let how = format!("latency={}&passphrase-env=SOAK_PASSPHRASE", LATENCY.as_millis());
    for (n, port) in ports.iter().enumerate() {
        writeln!(text, "[[line]]\nname = \"line-{n}\"\nfrom = \"srt://127.0.0.1:{port}?mode=listener&{how}\"").unwrap();
    }
    for (n, at) in receivers.iter().enumerate() {
        writeln!(text, "[[feed]]\nname = \"feed-{n}\"\nline = \"line-{n}\"\nto = \"srt://{at}?{how}\"").unwrap();
    }
    text
}

/// Memory in KiB, and open files, of a process.
fn held(pid: u32) -> (f64, usize) {
    (choir_rig::resident_kib(&pid.to_string()), std::fs::read_dir(format!("/proc/{pid}/fd")).map_or(0, Iterator::count))
}

fn choir(folder: &Path, args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_choir"));
    command.args(args).current_dir(folder).env("CHOIR_RUNTIME_DIR", folder.join("runtime")).env("CHOIR_STATE_DIR", folder.join("state"));
    command.env("SOAK_PASSPHRASE", PASSPHRASE).stdin(Stdio::null()).stderr(Stdio::null());
    command
}

fn status(folder: &Path) -> ShowView {
    let out = choir(folder, &["status", "--json"]).output().unwrap();
    serde_json::from_slice(&out.stdout).unwrap_or_default()
}

/// Ends with whoever holds it.
struct Show(Child);

impl Drop for Show {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn main() {
    let args: Vec<f64> = std::env::args().skip(1).filter_map(|a| a.parse().ok()).collect();
    let minutes = args.first().copied().unwrap_or(20.0);
    let lines = args.get(1).map_or(100, |n| *n as usize);
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    if let Err(why) = runtime.block_on(soak(Duration::from_secs_f64(minutes * 60.0), lines)) {
        eprintln!("failed: {why}");
        std::process::exit(1);
    }
}

async fn soak(time: Duration, lines: usize) -> Result<(), String> {
    let folder = tempfile::tempdir().unwrap();
    let (_end, stop) = Stop::new();
    let shards = [Shard::start().unwrap(), Shard::start().unwrap()];
    let mut receivers: Vec<Receiver> = (0..lines)
        .map(|_| {
            let port = Listener::open(&shards[0], ([127, 0, 0, 1], 0).into(), stop.clone()).unwrap();
            let count = Arc::<Count>::default();
            let (link, status) = receive(&port, &count);
            Receiver { port, count, link, status }
        })
        .collect();
    let addresses: Vec<SocketAddr> = receivers.iter().map(|r| r.port.addr).collect();
    let ports: Vec<u16> = (0..lines).map(|_| choir_rig::port()).collect();
    std::fs::write(folder.path().join("soak.toml"), sheet(&ports, &addresses)).unwrap();
    let show = Show(choir(folder.path(), &["run", "soak.toml"]).stdout(Stdio::null()).spawn().unwrap());
    // Each camera's packets go by a path of its own, one of 50 of them lost.
    let faults = |n: usize| Faults {
        delay: Duration::from_millis(5 + n as u64 % 30),
        jitter: Duration::from_millis(3),
        loss: 0.02,
        burst: 1.5,
        reorder: 0.01,
        ..Faults::default()
    };
    let mut cameras: Vec<Camera> = (0..lines)
        .map(|n| {
            let settings = RelaySettings {
                listen: ([127, 0, 0, 1], 0).into(),
                to: ([127, 0, 0, 1], ports[n]).into(),
                from: None,
                client: None,
                there: faults(n),
                back: faults(n),
                seed: n as u64,
                changes: None,
            };
            let relay = relay::start(settings, stop.clone()).unwrap();
            call(&shards[1], relay.listen, &stop)
        })
        .collect();
    let pieces = stream(BPS);
    let step = Duration::from_secs_f64(1316.0 * 8.0 / BPS as f64);
    let (start, mut alarm, mut round) = (Instant::now(), Alarm::new().unwrap(), 0u32);
    // Links that are gone, whose last packets may still be under way.
    let mut gone: [Vec<Arc<LinkStatus>>; 2] = Default::default();
    let (mut next_change, mut changes, mut dice) = (start + Duration::from_secs(10), 0u64, 1u64);
    let (mut next_word, mut at_first) = (start, None);
    println!("{:>7} {:>12} {:>11} {:>9} {:>12}", "minute", "memory KiB", "open files", "changes", "links up");
    while start.elapsed() < time {
        round += 1;
        alarm.until(start + step * round).await;
        for camera in &mut cameras {
            camera.outlet.push(pieces[camera.next % pieces.len()].clone());
            camera.next += 1;
        }
        let now = Instant::now();
        if now >= next_change && start.elapsed() + Duration::from_secs(20) < time {
            dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let (n, pause) = ((dice >> 33) as usize % lines, (dice >> 20) % 1000);
            if changes.is_multiple_of(3) {
                let r = &mut receivers[n];
                let (link, status) = receive(&r.port, &r.count);
                gone[1].push(std::mem::replace(&mut r.status, status));
                r.port.remove(std::mem::replace(&mut r.link, link)).await;
            } else {
                let camera = &mut cameras[n];
                let next = call(&shards[1], camera.to, &stop);
                let old = std::mem::replace(camera, next);
                old.end.now();
                gone[0].push(old.status);
            }
            changes += 1;
            next_change = now + CHANGE_EVERY / 2 + CHANGE_EVERY.mul_f64(pause as f64 / 1000.0);
        }
        if now >= next_word {
            let (kib, files) = held(show.0.id());
            let ends = cameras.iter().map(|c| &c.status).chain(receivers.iter().map(|r| &r.status));
            let up = ends.filter(|s| !s.look().peers.is_empty()).count();
            println!("{:7.1} {kib:12.0} {files:11} {changes:9} {up:12}", start.elapsed().as_secs_f64() / 60.0);
            if at_first.is_none() && start.elapsed() > time.mul_f64(SETTLED) {
                at_first = Some((kib, files));
            }
            next_word = now + (time / 20).max(Duration::from_secs(5));
        }
    }
    // What is still under way arrives, or is given up; then all have counted.
    alarm.until(Instant::now() + LATENCY * 4 + Duration::from_secs(2)).await;
    let (kib, files) = held(show.0.id());
    let view = status(folder.path());
    gone[0].extend(cameras.iter().map(|c| c.status.clone()));
    gone[1].extend(receivers.iter().map(|r| r.status.clone()));
    let [sent, received] = gone.map(|all| {
        let mut sum = Counters::default();
        all.iter().for_each(|s| sum.add(&s.look().totals()));
        sum
    });
    let arrived: u64 = receivers.iter().map(|r| r.count.0.load(Ordering::Relaxed)).sum();
    let sum = |of: fn(&choir_core::view::LinkView) -> u64, links: &[&choir_core::view::LinkView]| links.iter().map(|l| of(l)).sum::<u64>();
    let ins: Vec<_> = view.lines.iter().map(|l| &l.link).collect();
    let outs: Vec<_> = view.feeds.iter().flat_map(|f| &f.outs).collect();
    let (came, missed) = (sum(|l| l.packets, &ins), sum(|l| l.missing, &ins));
    println!("\nsent by cameras {} (dropped there {}), came {came}, missing {missed}", sent.packets, sent.dropped);
    let (went, dropped) = (sum(|l| l.packets, &outs), sum(|l| l.dropped, &outs));
    println!(
        "handed to ways out {went} (dropped there {dropped}), received {} ({arrived} handed on), missing {}",
        received.packets, received.missing
    );
    let (kib_first, files_first) = at_first.ok_or("it ran too briefly")?;
    let growth = kib / kib_first - 1.0;
    println!("memory {:+.2} % and open files {:+} since a quarter of the time", growth * 100.0, files as i64 - files_first as i64);
    if growth > GROWTH_MOST {
        return Err(format!("memory has grown by more than {} %", GROWTH_MOST * 100.0));
    }
    if files > files_first + CALLING {
        return Err("files stay open".into());
    }
    if sent.packets.abs_diff(came + missed + sent.dropped) > changes * TAIL {
        return Err("packets are not accounted for".into());
    }
    Ok(())
}
