//! What publishers by RTMP cost: so many of 6 Mbit/s on one port, taken into units in time, beside
//! a plain relay of the same bytes over TCP, run in turn. CPU of the thread that takes or relays;
//! the publishers run on another.
//!
//! `cargo bench -p choir-ports --bench rtmp`; `-- COUNT` for another number than 30.

#![allow(clippy::unwrap_used, reason = "a bench")]

use choir_core::link::parse_url;
use choir_host::{Stop, clock::thread_cpu};
use choir_ports::{Arrival, Flow, Intake, LinkStatus, Way, open_ways};
use choir_proto::{
    audio::aac_silence,
    rtmp::{Client, ClientEvent, ClientPlan, HANDSHAKE_BLOCK, OutTag, TagWriter},
    ts::{AccessUnit, StreamKind, UnitFormat},
};
use std::{
    io::{Read, Write},
    net::{SocketAddr, TcpListener, TcpStream},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
        mpsc,
    },
    thread,
    time::{Duration, Instant},
};

const BPS: usize = 6_000_000;
const RATE: usize = 25;
const TIME: Duration = Duration::from_secs(6);
const SETS: &[u8] = &[
    0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
    0x80, 0x00, 0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
];

/// Counts units and bytes.
#[derive(Default)]
struct Count(AtomicU64, AtomicU64);

impl Intake for Count {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        for a in arrivals.drain(..) {
            self.0.fetch_add(1, Ordering::Relaxed);
            self.1.fetch_add(a.media.size() as u64, Ordering::Relaxed);
        }
    }
}

fn main() {
    let count = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(30);
    println!("{count} publishers of {} Mbit/s, {} s each", BPS / 1_000_000, TIME.as_secs());
    println!("{:>12} {:>12} {:>10} {:>14} {:>14}", "taken, cores", "relay, cores", "ratio", "taken, Mbit/s", "relay, Mbit/s");
    for _ in 0..3 {
        let ((taken, taken_bytes), (relay, relay_bytes)) = (take(count), relay(count));
        let cores = |cpu: Duration| cpu.as_secs_f64() / TIME.as_secs_f64();
        let rate = |bytes: u64| bytes as f64 * 8.0 / TIME.as_secs_f64() / 1e6;
        println!(
            "{:12.3} {:12.3} {:10.2} {:14.1} {:14.1}",
            cores(taken),
            cores(relay),
            cores(taken) / cores(relay),
            rate(taken_bytes),
            rate(relay_bytes)
        );
    }
}

/// One picture's tags at a time, a second of them.
fn tags() -> Vec<Vec<OutTag>> {
    let (mut writer, mut all) = (TagWriter::default(), Vec::new());
    let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264, StreamKind::AacAdts] });
    for n in 0..RATE as u64 {
        let mut out = Vec::new();
        let unit = |kind, keyframe, data: Vec<u8>| AccessUnit {
            pid: 256,
            kind,
            pts: Some(n * 3600),
            dts: None,
            keyframe,
            arrived: 0,
            data: data.into(),
            format: format.clone(),
        };
        let head = [0, 0, 0, 1, if n == 0 { 0x65 } else { 0x41 }, 0x88];
        let picture = [if n == 0 { SETS } else { &[] }, &head, &vec![0xA5; BPS / 8 / RATE]].concat();
        writer.push(&unit(StreamKind::H264, n == 0, picture), &mut out);
        for _ in 0..2 {
            writer.push(&unit(StreamKind::AacAdts, true, aac_silence(48_000, 2)), &mut out);
        }
        all.push(out);
    }
    all
}

/// Publishes on these connections at their pace, `ready` once all have begun, until the other end
/// has gone.
fn publish(at: SocketAddr, count: usize, raw: bool, ready: mpsc::Sender<()>) {
    let mut all: Vec<(TcpStream, Option<Client>)> = (0..count)
        .map(|n| {
            let mut stream = TcpStream::connect(at).unwrap();
            stream.set_nodelay(true).unwrap();
            if raw {
                return (stream, None);
            }
            let plan =
                ClientPlan { app: "in".into(), url: format!("rtmp://{at}/in"), name: format!("k{n}"), publishes: true, answer: None };
            let mut client = Client::new(plan, [n as u8; HANDSHAKE_BLOCK]);
            let mut buffer = [0; 8192];
            while client.poll_event() != Some(ClientEvent::Started) {
                while let Some(out) = client.poll_output() {
                    stream.write_all(&out).unwrap();
                }
                let got = stream.read(&mut buffer).unwrap();
                client.handle(&buffer[..got]).unwrap();
            }
            (stream, Some(client))
        })
        .collect();
    ready.send(()).unwrap();
    let tags = tags();
    let begun = Instant::now();
    for n in 0.. {
        for (stream, client) in &mut all {
            for tag in &tags[n % RATE] {
                let time = tag.time.wrapping_add((n / RATE * 1000) as u32);
                let out = match client {
                    Some(client) => {
                        client.send(&OutTag { time, ..tag.clone() });
                        client.poll_output().unwrap_or_default()
                    }
                    None => tag.body.to_vec(),
                };
                if stream.write_all(&out).is_err() {
                    return;
                }
            }
        }
        let due = begun + Duration::from_millis((n as u64 + 1) * 1000 / RATE as u64);
        thread::sleep(due.saturating_duration_since(Instant::now()));
    }
}

/// CPU of the thread that takes them, and the bytes that came.
fn take(count: usize) -> (Duration, u64) {
    let (port, counter) = (choir_rig::port(), Arc::new(Count::default()));
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let (end, stop) = Stop::new();
    let way = |n: usize| Way {
        name: format!("line-{n}"),
        link: parse_url(&format!("rtmp://127.0.0.1:{port}/in/k{n}#mode=listener")).0.unwrap(),
        flow: Flow::In(counter.clone()),
        status: LinkStatus::new(),
        stave: None,
        shard: None,
    };
    let ways = (0..count).map(way).collect();
    runtime.block_on(open_ways(ways, Duration::from_millis(100), Path::new("."), &stop, &Stop::given())).map_err(|e| e.cause).unwrap();
    let (ready, begun) = mpsc::channel();
    let publisher = thread::spawn(move || publish(([127, 0, 0, 1], port).into(), count, false, ready));
    let measured = runtime.block_on(async {
        while begun.try_recv().is_err() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let (cpu, bytes) = (thread_cpu(), counter.1.load(Ordering::Relaxed));
        tokio::time::sleep(TIME).await;
        (thread_cpu().saturating_sub(cpu), counter.1.load(Ordering::Relaxed) - bytes)
    });
    end.now();
    drop(runtime);
    publisher.join().unwrap();
    measured
}

/// CPU of a thread that reads the same bytes and writes them on.
fn relay(count: usize) -> (Duration, u64) {
    let (listener, sink) = (TcpListener::bind("127.0.0.1:0").unwrap(), TcpListener::bind("127.0.0.1:0").unwrap());
    let (at, to) = (listener.local_addr().unwrap(), sink.local_addr().unwrap());
    let swallow = thread::spawn(move || {
        let readers: Vec<_> = (0..count)
            .map(|_| {
                let (mut stream, _) = sink.accept().unwrap();
                thread::spawn(move || {
                    let mut buffer = vec![0; 64 << 10];
                    while matches!(stream.read(&mut buffer), Ok(1..)) {}
                })
            })
            .collect();
        readers.into_iter().for_each(|r| r.join().unwrap());
    });
    let (ready, begun) = mpsc::channel();
    let publisher = thread::spawn(move || publish(at, count, true, ready));
    listener.set_nonblocking(true).unwrap();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let bytes = Arc::new(AtomicU64::new(0));
    let total = bytes.clone();
    let measured = runtime.block_on(async move {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};
        let listener = tokio::net::TcpListener::from_std(listener).unwrap();
        for _ in 0..count {
            let (mut from, _) = listener.accept().await.unwrap();
            let (mut on, total) = (tokio::net::TcpStream::connect(to).await.unwrap(), total.clone());
            tokio::spawn(async move {
                let mut buffer = vec![0; 64 << 10];
                while let Ok(n @ 1..) = from.read(&mut buffer).await {
                    total.fetch_add(n as u64, Ordering::Relaxed);
                    if on.write_all(&buffer[..n]).await.is_err() {
                        return;
                    }
                }
            });
        }
        while begun.try_recv().is_err() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let (cpu, before) = (thread_cpu(), total.load(Ordering::Relaxed));
        tokio::time::sleep(TIME).await;
        (thread_cpu().saturating_sub(cpu), total.load(Ordering::Relaxed) - before)
    });
    drop(runtime);
    publisher.join().unwrap();
    swallow.join().unwrap();
    measured
}
