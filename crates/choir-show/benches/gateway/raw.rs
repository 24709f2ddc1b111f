//! A relay without protocol, lines and feeds, to compare with: as many links, AES-128 in and out,
//! held for as long as their latency, on as many threads, which look as often.

use choir_host::clock::thread_cpu;
use choir_proto::srt::{CipherKeys, Seq, wire::KeyFlag};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::{
    collections::VecDeque,
    io,
    net::UdpSocket,
    sync::atomic::{AtomicBool, Ordering},
    thread,
    time::{Duration, Instant},
};

/// As the threads of the gateway look where they have much to do.
const POLL_EVERY: Duration = Duration::from_millis(2);
/// Links that one thread serves before another gets any.
const TOGETHER: usize = 40;
const THREADS: usize = 2;
const HEADER: usize = 16;
const PACKET: usize = HEADER + 1316;
const WARM_UP: Duration = Duration::from_millis(500);

struct Link {
    from: UdpSocket,
    to: UdpSocket,
    held: VecDeque<(Instant, Vec<u8>)>,
    number: u32,
}

fn socket() -> UdpSocket {
    let socket = UdpSocket::bind("127.0.0.1:0").expect("bound");
    socket.set_nonblocking(true).expect("set");
    socket
}

fn connected(to: &UdpSocket) -> UdpSocket {
    let socket = socket();
    socket.connect(to.local_addr().expect("address")).expect("connected");
    socket
}

/// What waits at these sockets is read into `each`, by the number of the socket.
fn read(sockets: &[&UdpSocket], mut each: impl FnMut(usize, &[u8])) {
    let mut waiting: Vec<PollFd<'_>> = sockets.iter().map(|s| PollFd::new(*s, PollFlags::IN)).collect();
    poll(&mut waiting, Some(&Timespec::default())).expect("polled");
    let mut buffer = [0; 2048];
    for (n, _) in waiting.iter().enumerate().filter(|(_, w)| w.revents().contains(PollFlags::IN)) {
        loop {
            match sockets[n].recv(&mut buffer) {
                Err(e) if e.kind() == io::ErrorKind::WouldBlock => break,
                size => each(n, &buffer[..size.expect("received")]),
            }
        }
    }
}

fn rest_of(turn: Instant) {
    thread::sleep(POLL_EVERY.saturating_sub(turn.elapsed()));
}

/// Relays, and gives packets and CPU time once warm.
fn relay(mut links: Vec<Link>, latency: Duration, start: Instant, ended: &AtomicBool) -> (u64, Duration) {
    let keys = CipherKeys::from_even(&[7; 16], [3; 16]).expect("keys");
    let (mut packets, mut before) = (0, None);
    while !ended.load(Ordering::Relaxed) {
        let turn = Instant::now();
        if before.is_none() && turn - start > latency + WARM_UP {
            (packets, before) = (0, Some(thread_cpu()));
        }
        let mut came: Vec<(usize, Vec<u8>)> = Vec::new();
        read(&links.iter().map(|l| &l.from).collect::<Vec<_>>(), |n, data| came.push((n, data.to_vec())));
        for (n, mut data) in came {
            let link = &mut links[n];
            link.number += 1;
            assert!(keys.apply(KeyFlag::Even, Seq::new(link.number), &mut data[HEADER..]));
            link.held.push_back((turn + latency, data));
        }
        for link in &mut links {
            while link.held.front().is_some_and(|(due, _)| *due <= turn) {
                let Some((_, mut data)) = link.held.pop_front() else { break };
                packets += 1;
                assert!(keys.apply(KeyFlag::Even, Seq::new(link.number), &mut data[HEADER..]));
                // Lost where the sink does not keep up: it is the time of the relay that counts.
                let _ = link.to.send(&data);
            }
        }
        rest_of(turn);
    }
    (packets, thread_cpu().saturating_sub(before.unwrap_or_default()))
}

/// µs of CPU for each packet of so many links of `bps` each.
pub fn us_per_packet(count: usize, bps: u64, latency: Duration, time: Duration) -> f64 {
    let step = Duration::from_secs_f64(1316.0 * 8.0 / bps as f64);
    let sinks: Vec<UdpSocket> = (0..count).map(|_| socket()).collect();
    let links: Vec<Link> =
        sinks.iter().map(|sink| Link { from: socket(), to: connected(sink), held: VecDeque::new(), number: 0 }).collect();
    let sources: Vec<UdpSocket> = links.iter().map(|l| connected(&l.from)).collect();
    let threads = count.div_ceil(TOGETHER).min(THREADS);
    let mut shares: Vec<Vec<Link>> = (0..threads).map(|_| Vec::new()).collect();
    links.into_iter().enumerate().for_each(|(n, link)| shares[n % threads].push(link));
    let (ended, start) = (AtomicBool::new(false), Instant::now());
    thread::scope(|scope| {
        let running: Vec<_> = shares.into_iter().map(|share| scope.spawn(|| relay(share, latency, start, &ended))).collect();
        scope.spawn(|| {
            while !ended.load(Ordering::Relaxed) {
                let turn = Instant::now();
                read(&sinks.iter().collect::<Vec<_>>(), |_, _| {});
                rest_of(turn);
            }
        });
        let mut sent = vec![0; count];
        while start.elapsed() < latency + WARM_UP + time {
            let turn = Instant::now();
            for (n, source) in sources.iter().enumerate() {
                let phase = step.mul_f64(n as f64 / count as f64);
                let due = ((turn - start).saturating_sub(phase).as_secs_f64() / step.as_secs_f64()) as u64;
                while sent[n] < due {
                    let _ = source.send(&[0x47; PACKET]);
                    sent[n] += 1;
                }
            }
            rest_of(turn);
        }
        ended.store(true, Ordering::Relaxed);
        let of_all = running.into_iter().map(|r| r.join().expect("relayed"));
        let (packets, cpu) = of_all.fold((0, Duration::ZERO), |all, one| (all.0 + one.0, all.1 + one.1));
        cpu.as_secs_f64() * 1e6 / packets.max(1) as f64
    })
}
