//! Groups, RTP and served feeds over real sockets on loopback: what is taken, what is not, and what
//! happens to those who send junk.

use bytes::Bytes;
use choir_core::{facts::Contact, link::parse_url};
use choir_host::{Stop, udp::UdpPort};
use choir_ports::{AnyOutlet, Arrival, Flow, Intake, LinkStatus, Live, Outlet, Way, WayError, open_ways};
use choir_proto::{
    rtp::write_rtp_header,
    ts::{TS_PACKET, TsWriter, Unit, WriterConfig},
};
use std::{
    net::{SocketAddr, UdpSocket},
    path::Path,
    sync::{Arc, Mutex},
    time::Duration,
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    sync::watch,
};

const PATIENCE: Duration = Duration::from_secs(20);

/// Keeps what comes in.
struct Basket {
    pieces: Mutex<Vec<(u32, Bytes)>>,
    count: watch::Sender<usize>,
}

impl Intake for Basket {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let mut pieces = self.pieces.lock().expect("lock");
        pieces.extend(arrivals.drain(..).filter_map(|a| Some((a.session, a.media.into_ts()?))));
        self.count.send_replace(pieces.len());
    }
}

impl Basket {
    fn new() -> Arc<Self> {
        Arc::new(Self { pieces: Mutex::default(), count: watch::channel(0).0 })
    }
    /// The second byte of each piece, once there are so many.
    async fn marks(&self, wanted: usize) -> Vec<u8> {
        let mut count = self.count.subscribe();
        tokio::time::timeout(PATIENCE, count.wait_for(|n| *n >= wanted)).await.expect("in time").expect("counted");
        self.pieces.lock().expect("lock").iter().map(|(_, p)| p[1]).collect()
    }
}

async fn open(url: &str, flow: Flow, stop: &Stop) -> Result<Arc<LinkStatus>, WayError> {
    let status = LinkStatus::new();
    let way =
        Way { name: "boathouse-1".into(), link: parse_url(url).0.expect(url), flow, status: status.clone(), stave: None, shard: None };
    open_ways(vec![way], Duration::from_millis(100), Path::new("."), stop, &Stop::given()).await.map(|_| status)
}

/// Two packets of a transport stream that can be known again.
fn piece(mark: u8) -> Vec<u8> {
    let mut packet = vec![mark; 2 * TS_PACKET];
    (packet[0], packet[TS_PACKET]) = (0x47, 0x47);
    packet
}

fn rtp(sequence: u16, payload_type: u8, data: &[u8]) -> Vec<u8> {
    let mut packet = Vec::new();
    write_rtp_header(false, payload_type, sequence, 0, 7, &mut packet);
    packet.extend_from_slice(data);
    packet
}

async fn until(status: &LinkStatus, what: &str, wanted: impl Fn(&Live) -> bool) -> Live {
    choir_rig::until(what, Duration::from_secs(20), || status.look(), wanted).await
}

#[tokio::test]
async fn of_a_group_only_the_chosen_source_is_heard() {
    let (end, stop) = Stop::new();
    let group: SocketAddr = format!("239.20.3.1:{}", choir_rig::port()).parse().expect("a group");
    let (all, one) = (Basket::new(), Basket::new());
    open(&format!("udp://{group}?interface=127.0.0.1"), Flow::In(all.clone()), &stop).await.expect("joins");
    open(&format!("udp://127.0.0.2@{group}?interface=127.0.0.1"), Flow::In(one.clone()), &stop).await.expect("joins as well");
    for (from, mark) in [([127, 0, 0, 1], 1u8), ([127, 0, 0, 2], 2), ([127, 0, 0, 3], 3), ([127, 0, 0, 2], 4)] {
        let socket = UdpPort::to_group(group.ip(), Some(from.into()), 1).expect("a sender");
        let data = piece(mark);
        while !socket.send(group, None, &data).expect("sent") {
            socket.writable().await.expect("writable");
        }
    }
    assert_eq!(all.marks(4).await, [1, 2, 3, 4]);
    assert_eq!(one.marks(2).await, [2, 4]);
    end.now();
}

#[tokio::test]
async fn rtp_is_put_in_order_and_what_is_missing_is_counted() {
    let (end, stop) = Stop::new();
    let at = choir_rig::port();
    let basket = Basket::new();
    let status = open(&format!("rtp://127.0.0.1:{at}?reorder=40"), Flow::In(basket.clone()), &stop).await.expect("opens");
    let sender = UdpSocket::bind("127.0.0.1:0").expect("bound");
    let send = |data: &[u8]| sender.send_to(data, ("127.0.0.1", at)).expect("sent");
    for n in [10u16, 12, 11, 13, 15, 15] {
        send(&rtp(n, 33, &piece(n as u8)));
    }
    // Of another payload type, cut short, no RTP at all.
    send(&rtp(16, 96, &piece(99)));
    send(&rtp(16, 33, &piece(98))[..11]);
    send(b"junk");
    assert_eq!(basket.marks(5).await, [10, 11, 12, 13, 15], "fourteen is given up after 40 ms");
    let live = until(&status, "counted", |l| l.counters.missing == 1).await;
    let c = live.counters;
    assert_eq!((c.packets, c.lost, c.missing), (6, 1, 1), "one came late by itself");
    assert_eq!((live.contact, live.sessions), (Contact::Up, 1));
    // Held and released it awaits a source anew, and what comes then is a new session.
    status.control.set_held(true);
    until(&status, "held", |l| l.contact == Contact::Held).await;
    status.control.set_held(false);
    until(&status, "awaited again", |l| matches!(l.contact, Contact::Waiting(_))).await;
    send(&rtp(300, 33, &piece(30)));
    assert_eq!(basket.marks(6).await[5..], [30]);
    assert_eq!(status.look().sessions, 2);
    end.now();
}

#[tokio::test]
async fn what_goes_out_in_rtp_counts_on() {
    let (end, stop) = Stop::new();
    let receiver = UdpSocket::bind("127.0.0.1:0").expect("bound");
    receiver.set_read_timeout(Some(PATIENCE)).expect("set");
    let outlet = Outlet::new();
    open(&format!("rtp://{}", receiver.local_addr().expect("address")), Flow::Out(outlet.clone().into()), &stop).await.expect("opens");
    outlet.push(Bytes::from(vec![0x47; 15 * TS_PACKET]));
    let got = tokio::task::spawn_blocking(move || {
        let mut packets = Vec::new();
        let mut buffer = [0; 2000];
        for _ in 0..3 {
            let n = receiver.recv(&mut buffer).expect("received");
            packets.push((n, buffer[1], u16::from_be_bytes([buffer[2], buffer[3]])));
        }
        packets
    });
    let got = got.await.expect("joined");
    let sizes: Vec<usize> = got.iter().map(|p| p.0).collect();
    assert_eq!(sizes, [12 + 7 * 188, 12 + 7 * 188, 12 + 188]);
    assert!(got.iter().all(|p| p.1 == 33) && got.windows(2).all(|w| w[1].2 == w[0].2.wrapping_add(1)));
    end.now();
}

const SPS_PPS: &[u8] = &[0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];

/// A served feed with a keyframe in it.
async fn served(login: &str, stop: &Stop) -> (SocketAddr, Arc<Outlet>, Arc<LinkStatus>) {
    let addr = SocketAddr::from(([127, 0, 0, 1], choir_rig::port()));
    let outlet = Outlet::new();
    let status = open(&format!("rtsp://{login}{addr}"), Flow::Out(outlet.clone().into()), stop).await.expect("serves");
    let mut writer = TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() });
    for n in 0..2u64 {
        let data = [SPS_PPS, &[0, 0, 0, 1, 0x65, 0x88], &[0xA5; 500]].concat();
        let mut out = Vec::new();
        writer.write(&Unit { video: true, pts: 90_000 + n * 3600, dts: None, keyframe: true, data: &[&data] }, &mut out);
        outlet.push(out.into());
    }
    (addr, outlet, status)
}

/// Sends these bytes and reads until the answer holds this, or the connection ends.
async fn ask(stream: &mut TcpStream, bytes: &[u8], until: &str) -> String {
    stream.write_all(bytes).await.expect("sends");
    let mut text = String::new();
    let mut buffer = vec![0; 4096];
    while !text.contains(until) {
        let read = tokio::time::timeout(PATIENCE, stream.read(&mut buffer)).await.expect("in time");
        match read {
            Ok(n) if n > 0 => text.push_str(&String::from_utf8_lossy(&buffer[..n])),
            _ => break,
        }
    }
    text
}

#[tokio::test]
async fn junk_on_a_served_port_costs_its_sender_the_connection_and_nobody_else() {
    let (end, stop) = Stop::new();
    let (addr, _outlet, status) = served("", &stop).await;
    assert_eq!(status.look().paste, [format!("rtsp://{addr}/boathouse-1")]);
    let mut good = TcpStream::connect(addr).await.expect("connects");
    let describe = format!("DESCRIBE rtsp://{addr}/boathouse-1 RTSP/1.0\r\nCSeq: 1\r\n\r\n");
    let described = ask(&mut good, describe.as_bytes(), "a=control:track1").await;
    assert!(described.starts_with("RTSP/1.0 200 OK\r\nCSeq: 1\r\n") && described.contains("sprop-parameter-sets="), "{described}");
    for junk in [&b"\x16\x03\x01\x02\x00\x01"[..], b"GET / HTTP/1.1\r\n\r\n", b"PLAY x RTSP/1.0\r\nContent-Length: 9999999\r\n\r\n"] {
        let mut bad = TcpStream::connect(addr).await.expect("connects");
        let answer = ask(&mut bad, junk, "never").await;
        assert!(answer.is_empty() || answer.starts_with("RTSP/1.0 400"), "{answer}");
    }
    let options = ask(&mut good, format!("OPTIONS rtsp://{addr}/ RTSP/1.0\r\nCSeq: 2\r\n\r\n").as_bytes(), "\r\n\r\n").await;
    assert!(options.contains("CSeq: 2") && options.contains("GET_PARAMETER"), "{options}");
    // The address is taken.
    let second = open(&format!("rtsp://{addr}/x"), Flow::Out(AnyOutlet::Ts(Outlet::new())), &stop).await;
    let text = second.map(|_| ()).expect_err("taken").to_string();
    assert!(text.contains("boathouse-1: cannot open") && text.contains("another program waits on that port"), "{text}");
    end.now();
}

#[tokio::test]
async fn whoever_asks_without_reading_the_answers_is_not_read_from_and_a_silent_one_holds_no_place() {
    let (end, stop) = Stop::new();
    let (addr, _outlet, _status) = served("", &stop).await;
    let mut flood = TcpStream::connect(addr).await.expect("connects");
    let asks = b"OPTIONS * RTSP/1.0\r\nCSeq: 1\r\n\r\n".repeat(2000);
    // What the system keeps on the way is a few MB; 64 would all be taken by a server that goes on.
    let mut taken = 0;
    while taken < 64 << 20 {
        match tokio::time::timeout(Duration::from_secs(2), flood.write(&asks)).await {
            Ok(Ok(n)) if n > 0 => taken += n,
            _ => break,
        }
    }
    assert!(taken < 48 << 20, "{taken} bytes of questions were taken");
    // Nobody else waits for that.
    let mut good = TcpStream::connect(addr).await.expect("connects");
    let options = ask(&mut good, format!("OPTIONS rtsp://{addr}/ RTSP/1.0\r\nCSeq: 2\r\n\r\n").as_bytes(), "\r\n\r\n").await;
    assert!(options.contains("CSeq: 2"), "{options}");
    // One address has so many places: the next connection is closed at once.
    let mut held = Vec::new();
    let closed = loop {
        let mut one = TcpStream::connect(addr).await.expect("connects");
        match tokio::time::timeout(Duration::from_millis(if held.len() < 120 { 1 } else { 1000 }), one.read(&mut [0; 1])).await {
            Err(_) if held.len() < 200 => held.push(one),
            read => break read,
        }
    };
    assert!(closed.is_ok() && held.len() <= 128, "{} connections", held.len());
    // A silent one is let go: a byte now and then is no request.
    let mut slow = held.remove(0);
    let begun = std::time::Instant::now();
    loop {
        let _ = slow.write_all(b"O").await;
        match tokio::time::timeout(Duration::from_millis(500), slow.read(&mut [0; 1])).await {
            Err(_) => assert!(begun.elapsed() < Duration::from_secs(18), "it holds its place"),
            Ok(read) => break assert!(matches!(read, Ok(0) | Err(_))),
        }
    }
    end.now();
}

#[tokio::test]
async fn several_viewers_share_one_connection_and_only_the_named_user_gets_in() {
    let (end, stop) = Stop::new();
    let (addr, outlet, status) = served("", &stop).await;
    let mut stream = TcpStream::connect(addr).await.expect("connects");
    let mut sessions = Vec::new();
    for n in 0..2 {
        // Both want the same channels; the second gets others.
        let setup = format!(
            "SETUP rtsp://{addr}/boathouse-1/track1 RTSP/1.0\r\nCSeq: {n}\r\nTransport: RTP/AVP/TCP;unicast;interleaved=2-3\r\n\r\n"
        );
        // The feed must have been seen before it can be set up.
        ask(&mut stream, format!("DESCRIBE rtsp://{addr}/boathouse-1 RTSP/1.0\r\nCSeq: 9\r\n\r\n").as_bytes(), "a=control:track1").await;
        let answer = ask(&mut stream, setup.as_bytes(), "\r\n\r\n").await;
        let header = |name: &str| answer.lines().find_map(|l| l.strip_prefix(name)).unwrap_or_default().to_owned();
        sessions.push((header("Session: ").split(';').next().unwrap_or_default().to_owned(), header("Transport: ")));
    }
    assert!(sessions[0].1.contains("interleaved=2-3") && sessions[1].1.contains("interleaved=0-1"), "{sessions:?}");
    // A viewer's PLAY is answered with the keyframe that it starts with.
    let feeding = tokio::spawn({
        let outlet = outlet.clone();
        async move {
            let mut writer = TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() });
            let mut tick = tokio::time::interval(Duration::from_millis(40));
            for n in 2u64.. {
                tick.tick().await;
                let data = [SPS_PPS, &[0, 0, 0, 1, 0x65, 0x88], &[0xA5; 500]].concat();
                let mut out = Vec::new();
                writer.write(&Unit { video: true, pts: 90_000 + n * 3600, dts: None, keyframe: true, data: &[&data] }, &mut out);
                outlet.push(out.into());
            }
        }
    });
    for (session, _) in &sessions {
        let play = format!("PLAY rtsp://{addr}/boathouse-1 RTSP/1.0\r\nCSeq: 5\r\nSession: {session}\r\n\r\n");
        assert!(ask(&mut stream, play.as_bytes(), "RTP-Info").await.contains("200 OK"));
    }
    until(&status, "watched by two", |l| l.how.as_deref() == Some("2 viewers by TCP")).await;
    feeding.abort();
    outlet.end();
    drop(stream);
    until(&status, "left by both", |l| l.how.as_deref() == Some("no viewer")).await;

    let (closed, _outlet, _) = served("desk:three%20oars@", &stop).await;
    let mut stranger = TcpStream::connect(closed).await.expect("connects");
    let refused =
        ask(&mut stranger, format!("DESCRIBE rtsp://{closed}/boathouse-1 RTSP/1.0\r\nCSeq: 1\r\n\r\n").as_bytes(), "\r\n\r\n").await;
    assert!(refused.starts_with("RTSP/1.0 401") && refused.contains("WWW-Authenticate: Digest realm=\"Cable Choir\""), "{refused}");
    end.now();
}
