//! SRT ports among strangers, over sockets: a flood of wrong passphrases, and a sender that comes
//! back from another address.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use bytes::Bytes;
use choir_core::{facts::Contact, link::parse_url};
use choir_host::{Stop, clock::Alarm};
use choir_ports::{AnyOutlet, Arrival, Flow, Intake, LinkStatus, Live, Outlet, Way, open_ways};
use choir_proto::srt::{ConnId, Endpoint, LinkConfig, Passphrase};
use choir_sim::stalls::{on_time, timed};
use std::{
    net::{SocketAddr, UdpSocket},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

const PATIENCE: Duration = Duration::from_secs(20);

#[derive(Default)]
struct Counter(AtomicU64);

impl Intake for Counter {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        self.0.fetch_add(arrivals.drain(..).len() as u64, Ordering::Relaxed);
    }
}

async fn open(url: &str, flow: Flow, stop: &Stop) -> Arc<LinkStatus> {
    open_all(vec![(url.to_owned(), flow)], stop).await.remove(0)
}

type Wanted = (String, Flow);

async fn open_all(wanted: Vec<Wanted>, stop: &Stop) -> Vec<Arc<LinkStatus>> {
    let way = |(url, flow): Wanted| Way {
        name: "way".into(),
        link: parse_url(&url).0.unwrap_or_else(|| panic!("{url}")),
        flow,
        status: LinkStatus::new(),
        stave: None,
        shard: None,
    };
    let ways: Vec<Way> = wanted.into_iter().map(way).collect();
    let statuses = ways.iter().map(|w| w.status.clone()).collect();
    open_ways(ways, Duration::from_millis(30), Path::new("."), stop, &Stop::given()).await.unwrap();
    statuses
}

async fn until(status: &LinkStatus, what: &str, patience: Duration, wanted: impl Fn(&Live) -> bool) -> Live {
    choir_rig::until(what, patience, || status.look(), wanted).await
}

/// A caller by hand, whose socket stays open whatever it does.
struct ByHand {
    endpoint: Endpoint,
    socket: UdpSocket,
    conn: ConnId,
}

impl ByHand {
    fn call(from: &str, to: SocketAddr, config: LinkConfig) -> Self {
        let socket = UdpSocket::bind(from).unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
        let mut endpoint = Endpoint::new(socket.local_addr().unwrap().ip(), Instant::now(), [7; 32]);
        let conn = endpoint.call(Instant::now(), to, config);
        Self { endpoint, socket, conn }
    }

    /// What it has to send now.
    fn outgoing(&mut self) -> Vec<(SocketAddr, Vec<u8>)> {
        let (mut all, mut buffer) = (Vec::new(), Vec::new());
        while let Some(t) = self.endpoint.poll_transmit(Instant::now(), 1, &mut buffer) {
            all.push((t.to, std::mem::take(&mut buffer)));
        }
        all
    }

    /// Sends, receives, keeps its clock.
    fn turn(&mut self) {
        for (to, data) in self.outgoing() {
            self.socket.send_to(&data, to).unwrap();
        }
        let mut buffer = [0; 2048];
        if let Ok((n, from)) = self.socket.recv_from(&mut buffer) {
            self.endpoint.handle_datagram(Instant::now(), from, &buffer[..n]);
        }
        self.endpoint.handle_timeout(Instant::now());
        while self.endpoint.poll_event().is_some() {}
    }
}

/// Place of the caller's socket ID in a handshake, and of the handshake's type.
const SOCKET_ID: std::ops::Range<usize> = 40..44;
const CONCLUSION: [u8; 4] = 0xFFFF_FFFFu32.to_be_bytes();

/// The last message of a handshake with a wrong passphrase.
fn wrong_conclusion(to: SocketAddr) -> (UdpSocket, Vec<u8>) {
    let config = LinkConfig { passphrase: Passphrase::new("nine oars, no cox").ok(), stream_id: Some("b".into()), ..LinkConfig::default() };
    let mut caller = ByHand::call("127.0.0.1:0", to, config);
    let end = Instant::now() + PATIENCE;
    loop {
        for (to, data) in caller.outgoing() {
            if data.get(36..40) == Some(&CONCLUSION[..]) {
                return (caller.socket, data);
            }
            caller.socket.send_to(&data, to).unwrap();
        }
        caller.turn();
        assert!(Instant::now() < end, "the port does not answer");
    }
}

#[test]
fn a_sender_that_comes_back_from_another_address_takes_over_from_its_silent_self() {
    tokio::runtime::Runtime::new().unwrap().block_on(async {
        let (_end, stop) = Stop::new();
        let at: SocketAddr = ([127, 0, 0, 1], choir_rig::port()).into();
        let count = Arc::new(Counter::default());
        let line = open(&format!("srt://{at}?mode=listener&streamid=bicycle"), Flow::In(count.clone()), &stop).await;
        let config = LinkConfig { stream_id: Some("bicycle".into()), ..LinkConfig::default() };
        let mut first = ByHand::call("127.0.0.2:0", at, config);
        // A second of media, then nothing: the cell has changed. Its socket stays open, so that
        // nothing tells of it.
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(1) || count.0.load(Ordering::Relaxed) < 20 {
            let _ = first.endpoint.send(Instant::now(), first.conn, Bytes::from(vec![0x47; 1316]));
            for _ in 0..5 {
                first.turn();
            }
            assert!(begun.elapsed() < PATIENCE, "nothing arrives");
        }
        assert_eq!(line.look().sessions, 1);
        let outlet = Outlet::new();
        let second = open(&format!("srt://{at}?streamid=bicycle&bind=127.0.0.3"), Flow::Out(outlet.clone().into()), &stop).await;
        // Long before the five seconds after which a silent caller counts as gone.
        until(&second, "let in", Duration::from_secs(3), |l| l.contact == Contact::Up && !l.peers.is_empty()).await;
        let came = count.0.load(Ordering::Relaxed);
        outlet.push(Bytes::from(vec![0x47; 1316]));
        let live = until(&line, "its media", PATIENCE, |l| l.sessions == 2 && count.0.load(Ordering::Relaxed) > came).await;
        assert_eq!(live.peers.len(), 1);
        assert_eq!(live.peers[0].1.addr.ip().to_string(), "127.0.0.3");
    });
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn wrong_passphrases_by_the_thousand_delay_no_packet_and_keep_no_good_caller_out() {
        timed(|| {
            tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap().block_on(async {
                let (_end, stop) = Stop::new();
                let at: SocketAddr = ([127, 0, 0, 1], choir_rig::port()).into();
                let (a, b) = (Arc::new(Counter::default()), Arc::new(Counter::default()));
                let line = |id: &str| format!("srt://{at}?mode=listener&streamid={id}&latency=30&passphrase=eight+oars+and+a+cox");
                let lines = open_all(vec![(line("a"), Flow::In(a.clone())), (line("b"), Flow::In(b))], &stop).await;
                let call = |id: &str| format!("srt://{at}?streamid={id}&latency=30&passphrase=eight+oars+and+a+cox");
                let outlet = Outlet::new();
                let sender = open(&call("a"), Flow::Out(outlet.clone().into()), &stop).await;
                until(&sender, "up", PATIENCE, |l| l.contact == Contact::Up && !l.peers.is_empty()).await;
                // 2000 a second, each by another socket of the same machine as far as can be told.
                let over = Arc::new(AtomicBool::new(false));
                let (flooded, ended) = (Arc::new(AtomicU64::new(0)), over.clone());
                let (socket, mut message) = wrong_conclusion(at);
                let count = flooded.clone();
                let flood = std::thread::spawn(move || {
                    let begun = Instant::now();
                    while !ended.load(Ordering::Relaxed) {
                        let due = (begun.elapsed().as_micros() / 500) as u64;
                        while count.load(Ordering::Relaxed) < due {
                            let n = count.fetch_add(1, Ordering::Relaxed);
                            message[SOCKET_ID].copy_from_slice(&(0x1000_0000 + n as u32).to_be_bytes());
                            socket.send_to(&message, at).unwrap();
                        }
                        std::thread::sleep(Duration::from_micros(500));
                    }
                });
                let mut alarm = Alarm::new().unwrap();
                let begun = Instant::now();
                let mut good = None;
                for n in 0..3000u32 {
                    alarm.until(begun + Duration::from_millis(n.into())).await;
                    outlet.push(Bytes::from(vec![0x47; 1316]));
                    if n == 500 {
                        good = Some(open(&call("b"), Flow::Out(AnyOutlet::Ts(Outlet::new())), &stop).await);
                    }
                }
                let good = good.unwrap();
                until(&good, "let in, while the flood goes on", Duration::from_secs(2), |l| {
                    l.contact == Contact::Up && !l.peers.is_empty()
                })
                .await;
                over.store(true, Ordering::Relaxed);
                flood.join().unwrap();
                assert!(flooded.load(Ordering::Relaxed) > 5000, "it was no flood");
                // What has come is given out only at its time.
                let out = a.clone();
                until(&lines[0], "all arrived and was given out", PATIENCE, |l| {
                    l.peers.iter().any(|(_, p)| out.0.load(Ordering::Relaxed) + p.counters.missing >= 3000)
                })
                .await;
                let counters = lines[0].look().totals();
                on_time("nothing is missing", || {
                    assert_eq!((counters.missing, counters.lost, a.0.load(Ordering::Relaxed)), (0, 0, 3000), "{counters:?}")
                });
            });
        });
    }
}
