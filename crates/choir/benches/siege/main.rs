//! A good link through ports that strangers besiege: an encrypted line of 8 Mbit/s of `choir run`,
//! while others send junk, greetings, guesses, and connect by the thousand. What its viewers miss,
//! what is left of its headroom, and what memory the show takes.
//!
//! `cargo bench -p choir --bench siege -- SECONDS [ATTACK...]`; 60 seconds and all if not given.
//! Strangers and the good camera share the machine's cores with the show.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a bench")]

mod attacks;

use choir_core::view::ShowView;
use choir_host::{Stop, allow_many_files, clock::Alarm};
use choir_ports::{CallPlan, Flow, Outlet, Shard, spawn_caller};
use choir_proto::srt::{KeyLength, LinkConfig, Passphrase};
use choir_show::{
    control::{Answer, Client, Request},
    load::stream,
};
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

const BPS: u64 = 8_000_000;
/// Long enough for a machine that itself stands still for a while now and then.
const LATENCY: Duration = Duration::from_millis(500);
/// In a second with a longer stall the headroom is not judged.
const STALL_MOST_MS: u64 = 20;
const FOLDER: &str = "SIEGE_FOLDER";
const PASSPHRASE: &str = "four oars and a cox";
/// How long the link is watched alone before each attack.
const CALM: Duration = Duration::from_secs(15);
/// What a hostile network may cost: ms of headroom, KiB of memory.
const HEADROOM_MOST_MS: f64 = 5.0;
const MEMORY_MOST_KIB: f64 = 32.0 * 1024.0;

/// Ends with whoever holds it.
struct Show(Child);

impl Drop for Show {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Where the show can be reached.
struct Ports {
    srt: SocketAddr,
    rtsp: SocketAddr,
    stave: SocketAddr,
}

/// Name, what it does, rate, and unit.
type Attack = (&'static str, fn(&Ports, Instant) -> u64, &'static str);

const ATTACKS: &[Attack] = &[
    ("junk", |p, until| attacks::junk(p.srt, 50_000, until), "datagrams"),
    ("inductions", |p, until| attacks::inductions(p.srt, 20_000, until), "inductions"),
    ("conclusions", |p, until| attacks::conclusions(p.srt, 10_000, until), "conclusions with a right cookie"),
    ("rtsp", |p, until| attacks::rtsp(p.rtsp, 5000, until), "connections of 5000 callers, slow and pipelining"),
    ("quic", |p, until| attacks::quic(p.stave, 1000, until), "QUIC handshakes"),
];

fn main() {
    let args: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    let seconds = args.first().and_then(|a| a.parse().ok()).unwrap_or(60.0);
    let Some(folder) = std::env::var_os(FOLDER) else { return once_more() };
    allow_many_files();
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
    let wanted = |name: &str| !args.iter().any(|a| a.parse::<f64>().is_err()) || args.iter().any(|a| a == name);
    if !runtime.block_on(siege(Path::new(&folder), Duration::from_secs_f64(seconds), wanted)) {
        std::process::exit(1);
    }
}

/// Runs this again with a folder for the show, whose control socket both look for there.
fn once_more() {
    let folder = tempfile::tempdir().unwrap();
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(std::env::args().skip(1)).env(FOLDER, folder.path()).env("CHOIR_RUNTIME_DIR", folder.path().join("runtime"));
    let status = command.status().unwrap();
    drop(folder);
    std::process::exit(status.code().unwrap_or(1));
}

fn sheet(ports: &Ports) -> String {
    let (srt, rtsp, stave) = (ports.srt.port(), ports.rtsp, ports.stave.port());
    format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nmachine = \"boathouse\"\naddress = \"127.0.0.1\"\nport = {stave}\ndiscover = false\n\
         [[line]]\nname = \"good\"\nfrom = \"srt://127.0.0.1:{srt}?mode=listener&latency={}&passphrase-env=SIEGE_PASSPHRASE\"\n\
         [[feed]]\nname = \"out\"\nline = \"good\"\nto = \"rtsp://{rtsp}/out\"\nstave = \"Finish Tower\"\n",
        LATENCY.as_millis()
    )
}

async fn view(control: &mut Client) -> ShowView {
    match control.ask(&Request::View).await.unwrap() {
        Answer::View(view) => *view,
        other => panic!("{other:?}"),
    }
}

/// What was seen in some seconds.
#[derive(Default)]
struct Seen {
    /// Least headroom of each second, ms.
    headroom: Vec<f64>,
    missing: u64,
    lost: u64,
    kib: f64,
    /// Seconds in which the machine stood still.
    stalled: u32,
}

impl Seen {
    fn median(&mut self) -> f64 {
        self.headroom.sort_by(f64::total_cmp);
        self.headroom.get(self.headroom.len() / 2).copied().unwrap_or(f64::NAN)
    }

    fn least(&self) -> f64 {
        self.headroom.iter().copied().fold(f64::INFINITY, f64::min)
    }
}

/// How long a thread that wants to run each 2 ms was kept from it at most.
struct Stalls(Arc<AtomicU64>);

impl Stalls {
    fn watch() -> Self {
        let worst = Arc::<AtomicU64>::default();
        let of_thread = worst.clone();
        std::thread::spawn(move || {
            loop {
                let before = Instant::now();
                std::thread::sleep(Duration::from_millis(2));
                of_thread.fetch_max(before.elapsed().as_millis() as u64, Ordering::Relaxed);
            }
        });
        Self(worst)
    }

    /// ms, since the last call.
    fn take(&self) -> u64 {
        self.0.swap(0, Ordering::Relaxed)
    }
}

async fn look(control: &mut Client, stalls: &Stalls, pid: u32, until: Instant) -> Seen {
    let mut seen = Seen::default();
    let before = view(control).await;
    let mut tick = tokio::time::interval(Duration::from_secs(1));
    while Instant::now() < until {
        tick.tick().await;
        let now = view(control).await;
        let link = &now.lines[0].link;
        // A second in which the whole machine stood still says nothing of strangers.
        if stalls.take() > STALL_MOST_MS {
            seen.stalled += 1;
        } else {
            seen.headroom.extend(link.headroom_ms);
        }
        (seen.missing, seen.lost) = (link.missing - before.lines[0].link.missing, link.lost - before.lines[0].link.lost);
        seen.kib = seen.kib.max(choir_rig::resident_kib(&pid.to_string()));
    }
    seen
}

/// Sends 8 Mbit/s for as long as it is let.
async fn camera(to: SocketAddr, stop: Stop) {
    let shard = Shard::start().unwrap();
    let passphrase = Passphrase::new(PASSPHRASE).ok();
    let config = LinkConfig { passphrase, key_length: KeyLength::Aes128, ..LinkConfig::default() }.with_latency(LATENCY);
    let outlet = Outlet::new();
    spawn_caller(&shard, CallPlan::to(to, config, Flow::Out(outlet.clone())), stop.child().1);
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let (pieces, step) = (stream(BPS), Duration::from_secs_f64(1316.0 * 8.0 / BPS as f64));
            let (start, mut alarm) = (Instant::now(), Alarm::new().unwrap());
            for n in 0_u32.. {
                alarm.until(start + step * n).await;
                outlet.push(pieces[n as usize % pieces.len()].clone());
            }
        });
    });
}

fn start(folder: &Path) -> Show {
    let mut command = Command::new(env!("CARGO_BIN_EXE_choir"));
    command.args(["run", "siege.toml"]).current_dir(folder).env("SIEGE_PASSPHRASE", PASSPHRASE);
    command.env("CHOIR_STATE_DIR", folder.join("state"));
    Show(command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap())
}

/// False where a row does not hold.
async fn siege(folder: &Path, time: Duration, wanted: impl Fn(&str) -> bool) -> bool {
    let at = || SocketAddr::from(([127, 0, 0, 1], choir_rig::port()));
    let ports = Ports { srt: at(), rtsp: at(), stave: at() };
    let own = folder.join("siege.toml");
    std::fs::write(&own, sheet(&ports)).unwrap();
    let show = start(folder);
    let pid = show.0.id();
    let mut control = None;
    let up = Instant::now() + Duration::from_secs(20);
    while control.is_none() && Instant::now() < up {
        tokio::time::sleep(Duration::from_millis(100)).await;
        control = Client::connect(Some(&own)).await.ok();
    }
    let mut control = control.unwrap_or_else(|| panic!("the show does not answer"));
    let (_end, stop) = Stop::new();
    camera(ports.srt, stop).await;
    tokio::time::sleep(Duration::from_secs(5)).await;
    let stalls = Stalls::watch();
    println!(
        "{:<12} {:>10} {:>9} {:>6} {:>17} {:>17} {:>8} {:>11}",
        "attack", "a second", "missing", "lost", "headroom before", "headroom then", "stalled", "memory MiB"
    );
    println!(
        "{:<12} {:>10} {:>9} {:>6} {:>17} {:>17} {:>8} {:>11}",
        "", "", "", "", "median, least ms", "median, least ms", "s", "and growth"
    );
    let mut holds = true;
    let ports = Arc::new(ports);
    for (name, attack, unit) in ATTACKS.iter().filter(|(name, ..)| wanted(name)) {
        let mut calm = look(&mut control, &stalls, pid, Instant::now() + CALM).await;
        let until = Instant::now() + time;
        let (ports, attack) = (ports.clone(), *attack);
        let strangers = std::thread::spawn(move || attack(&ports, until));
        let mut seen = look(&mut control, &stalls, pid, until).await;
        let done = strangers.join().unwrap();
        let growth = seen.kib - calm.kib;
        let (usual, then) = (calm.median(), seen.median());
        let ok = seen.missing == 0 && then > usual - HEADROOM_MOST_MS && growth < MEMORY_MOST_KIB;
        holds &= ok;
        println!(
            "{name:<12} {:>10.0} {:>9} {:>6} {usual:>9.1} {:>7.1} {then:>9.1} {:>7.1} {:>8} {:>5.0} {:>+5.1} {} {unit}",
            done as f64 / time.as_secs_f64(),
            seen.missing,
            seen.lost,
            calm.least(),
            seen.least(),
            seen.stalled,
            seen.kib / 1024.0,
            growth / 1024.0,
            if ok { "holds " } else { "FAILS " },
        );
    }
    holds
}
