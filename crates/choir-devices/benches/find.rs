//! A sweep of a /24, where every address answers: how long, how many packets a second at most, and
//! how much of a core beside a raw loop that knocks at the same doors without a pace.
//!
//! `cargo bench -p choir-devices --bench find`. Packets are the system's own count of what this
//! machine sends by TCP and UDP, without the refusals, which are the other end's.

#![allow(clippy::unwrap_used, reason = "a bench")]

use choir_core::find::plan;
use choir_devices::discover::{FindOptions, find};
use choir_host::interfaces::own_interfaces;
use std::{
    fs,
    net::{Ipv4Addr, SocketAddr, TcpStream, UdpSocket},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::mpsc;

const RANGE: &str = "127.66.0.0/24";
const TCP: [u16; 5] = [80, 554, 8000, 8080, 8554];
const UDP: [u16; 2] = [3702, 52_381];
/// The peak is over one second, looked at this often.
const STEP: Duration = Duration::from_millis(50);

/// Packets that this machine has sent: segments without resets, and datagrams.
fn sent() -> u64 {
    let text = fs::read_to_string("/proc/net/snmp").unwrap_or_default();
    let field = |kind: &str, name: &str| -> u64 {
        let mut lines = text.lines().filter(|l| l.starts_with(kind));
        let (heads, values) = (lines.next().unwrap_or_default(), lines.next().unwrap_or_default());
        let at = heads.split_whitespace().position(|h| h == name);
        at.and_then(|i| values.split_whitespace().nth(i)?.parse().ok()).unwrap_or(0)
    };
    field("Tcp:", "OutSegs") - field("Tcp:", "OutRsts") + field("Udp:", "OutDatagrams")
}

fn cpu() -> Duration {
    let text = fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let fields: Vec<&str> = text.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    let ticks: u64 = fields.get(11..13).into_iter().flatten().filter_map(|f| f.parse::<u64>().ok()).sum();
    Duration::from_millis(ticks * 10)
}

/// Counts packets over each second until told to end; gives the most.
fn peak(end: Arc<AtomicBool>) -> std::thread::JoinHandle<u64> {
    std::thread::spawn(move || {
        let mut counts = vec![sent()];
        let steps = (Duration::from_secs(1).as_millis() / STEP.as_millis()) as usize;
        let mut most = 0;
        while !end.load(Ordering::Relaxed) {
            std::thread::sleep(STEP);
            counts.push(sent());
            let last = counts.len() - 1;
            most = most.max(counts[last] - counts[last.saturating_sub(steps)]);
        }
        most
    })
}

fn raw() {
    for n in 1..255 {
        let ip = Ipv4Addr::new(127, 66, 0, n);
        for port in TCP {
            let _ = TcpStream::connect_timeout(&SocketAddr::new(ip.into(), port), Duration::from_millis(900));
        }
        for port in UDP {
            let socket = UdpSocket::bind("0.0.0.0:0").unwrap();
            socket.connect((ip, port)).unwrap();
            let _ = socket.send(&[0; 300]);
            let _ = socket.recv(&mut [0; 8]);
        }
    }
}

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    println!("round  seconds  packets  most in 1 s   core   raw loop: seconds   core used by it, and the ratio");
    for round in 1..=3 {
        let end = Arc::new(AtomicBool::new(false));
        let (watch, before, used, start) = (peak(end.clone()), sent(), cpu(), Instant::now());
        let result = runtime.block_on(async {
            let scan = plan(Some(RANGE), &own_interfaces().unwrap()).unwrap();
            let (tx, mut rx) = mpsc::channel(64);
            tokio::spawn(async move { while rx.recv().await.is_some() {} });
            find(scan, &FindOptions::default(), tx, std::future::pending()).await.unwrap()
        });
        let (took, packets, used) = (start.elapsed(), sent() - before, cpu() - used);
        end.store(true, Ordering::Relaxed);
        let most = watch.join().unwrap();
        assert_eq!(result.asked, 254);
        let (raw_start, raw_used) = (Instant::now(), cpu());
        raw();
        let (raw_took, raw_used) = (raw_start.elapsed(), cpu() - raw_used);
        println!(
            "{round:>5}  {:>7.2}  {packets:>7}  {most:>11}  {:>4.0} ms  {:>17.2}   {:>4.0} ms  {:.1}",
            took.as_secs_f64(),
            used.as_secs_f64() * 1000.0,
            raw_took.as_secs_f64(),
            raw_used.as_secs_f64() * 1000.0,
            used.as_secs_f64() / raw_used.as_secs_f64().max(0.01)
        );
    }
}
