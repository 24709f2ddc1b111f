//! What relaying many links costs: SRT in, a line that is metered, a feed, SRT out, AES-128 on both
//! sides. Sources and sinks run on threads of their own, whose CPU is not counted. Ratios to a raw
//! loop that sends and receives the same datagrams on one thread, and to a relay of as many links
//! without a protocol, run in turn with it.
//!
//! `cargo bench -p choir-show --bench gateway`; `-- N RATE` runs one row of N links at RATE Mbit/s.

mod raw;

use choir_host::{Stop, clock::thread_cpu};
use choir_ports::Lateness;
use choir_proto::srt::{KeyLength, LinkConfig, Passphrase};
use choir_show::load::{Load, carry};
use std::{
    net::UdpSocket,
    sync::atomic::{AtomicBool, Ordering},
    thread,
    time::{Duration, Instant},
};
use tokio::runtime::Runtime;

/// Links and their Mbit/s.
const ROWS: [(usize, f64); 5] = [(1, 8.0), (2, 8.0), (10, 8.0), (30, 8.0), (100, 8.0)];
const TIME: Duration = Duration::from_secs(4);

fn main() {
    let args: Vec<f64> = std::env::args().skip(1).filter_map(|a| a.parse().ok()).collect();
    println!("links relayed with AES-128 in and out, by the whole way; CPU of the relay's threads");
    println!(
        "{:>5} {:>7} {:>14} {:>9} {:>11} {:>13} {:>9} {:>7} {:>11} {:>21} {:>21} {:>21}",
        "links",
        "Mbit/s",
        "us per packet",
        "floor us",
        "over floor",
        "raw relay us",
        "over raw",
        "cores",
        "delivered",
        "late ms p50, p99, max",
        "the same at the sink",
        "a plain timer beside"
    );
    let rows: Vec<(usize, f64)> = match args[..] {
        [links, rate, ..] => vec![(links as usize, rate)],
        _ => ROWS.to_vec(),
    };
    let runtime = Runtime::new().expect("a runtime");
    let (_end, stop) = Stop::new();
    let config = LinkConfig {
        passphrase: Passphrase::new("rowing is made up").ok(),
        key_length: KeyLength::from_bytes(16).unwrap_or_default(),
        ..LinkConfig::default()
    };
    for (links, rate) in rows {
        let floor = floor(60_000);
        let bare = raw::us_per_packet(links, (rate * 1e6) as u64, config.receive_latency, TIME);
        let load = Load { links, bps: (rate * 1e6) as u64, config: config.clone(), time: TIME };
        let (c, timer) = beside_a_timer(|| runtime.block_on(carry(&load, stop.clone())).expect("carried").expect("not stopped"));
        let late = |l: Lateness| [l.half, l.most_of_all, l.most].map(|d| format!("{:7.2}", d.as_secs_f64() * 1000.0)).concat();
        let timer = [0.5, 0.99, 1.0].map(|share| timer[((timer.len() - 1) as f64 * share) as usize]);
        println!(
            "{links:5} {rate:7.1} {:14.2} {floor:9.2} {:11.2} {bare:13.2} {:9.2} {:7.3} {:10.3} % {} {} {}{}",
            c.us_per_packet(),
            c.us_per_packet() / floor,
            c.us_per_packet() / bare,
            c.cores(),
            c.delivered * 100.0,
            late(c.late),
            late(c.late_there),
            timer.map(|d| format!("{:7.2}", d.as_secs_f64() * 1000.0)).concat(),
            if c.holds() { "" } else { "   does not count: late or lost" }
        );
    }
}

/// Runs this, and beside it a thread that sleeps a millisecond at a time: how late it woke, sorted.
/// What is late there is the machine, or that it is full.
fn beside_a_timer<T>(run: impl FnOnce() -> T) -> (T, Vec<Duration>) {
    let ended = AtomicBool::new(false);
    thread::scope(|scope| {
        let timer = scope.spawn(|| {
            let (nap, mut late) = (Duration::from_millis(1), Vec::new());
            while !ended.load(Ordering::Relaxed) {
                let asleep = Instant::now();
                thread::sleep(nap);
                late.push(asleep.elapsed().saturating_sub(nap));
            }
            late.sort_unstable();
            late
        });
        let ran = run();
        ended.store(true, Ordering::Relaxed);
        (ran, timer.join().expect("a timer"))
    })
}

/// One thread sends and receives each datagram: us of CPU per packet.
fn floor(packets: u32) -> f64 {
    let socket = || UdpSocket::bind("127.0.0.1:0").expect("bound");
    let (a, b) = (socket(), socket());
    a.connect(b.local_addr().expect("address")).expect("connected");
    let (data, mut buffer) = ([0x47u8; 1316 + 16], [0u8; 2048]);
    let before = thread_cpu();
    for _ in 0..packets {
        a.send(&data).expect("sent");
        b.recv(&mut buffer).expect("received");
    }
    (thread_cpu() - before).as_nanos() as f64 / f64::from(packets) / 1000.0
}
