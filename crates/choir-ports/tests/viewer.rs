//! A strict viewer of a served feed, with a reader of its own: what RTP-Info, numbers and sender
//! reports promise, over sockets.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use choir_core::link::parse_url;
use choir_host::Stop;
use choir_ports::{Flow, LinkStatus, Outlet, Way, open_ways};
use choir_proto::ts::{TsWriter, Unit, WriterConfig};
use std::{
    collections::{BTreeMap, VecDeque},
    net::{SocketAddr, UdpSocket as StdUdp},
    path::Path,
    sync::Arc,
    time::Duration,
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpStream, UdpSocket},
    time::timeout,
};

const PATIENCE: Duration = Duration::from_secs(20);
const SPS_PPS: &[u8] = &[0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];

/// Writes 25 pictures a second of this size into the outlet, every tenth a keyframe, with sound.
async fn feed(outlet: Arc<Outlet>, size: usize) {
    let mut writer = TsWriter::new(WriterConfig::default());
    let mut tick = tokio::time::interval(Duration::from_millis(40));
    let mut sound = 0u64;
    for n in 0u64.. {
        tick.tick().await;
        let keyframe = n.is_multiple_of(10);
        let mut data = if keyframe { SPS_PPS.to_vec() } else { Vec::new() };
        data.extend_from_slice(&[0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88]);
        data.resize(data.len() + size, 0xA5);
        let mut out = Vec::new();
        writer.write(&Unit { video: true, pts: 900_000 + n * 3600, dts: None, keyframe, data: &[&data] }, &mut out);
        while sound < n * 3600 {
            let mut frame = vec![0xFF, 0xF1, 0x4C, 0x80, 0x02, 0x5F, 0xFC];
            frame.resize(18, 9);
            writer.write(&Unit { video: false, pts: 900_000 + sound, dts: None, keyframe: true, data: &[&frame] }, &mut out);
            sound += 1920;
        }
        outlet.push(out.into());
    }
}

async fn served(size: usize, stop: &Stop) -> (SocketAddr, Arc<LinkStatus>) {
    let addr = SocketAddr::from(([127, 0, 0, 1], choir_rig::port()));
    let (outlet, status) = (Outlet::new(), LinkStatus::new());
    let way = Way {
        name: "boathouse-1".into(),
        link: parse_url(&format!("rtsp://{addr}")).0.unwrap(),
        flow: Flow::Out(outlet.clone().into()),
        status: status.clone(),
        stave: None,
        shard: None,
    };
    open_ways(vec![way], Duration::from_millis(100), Path::new("."), stop, &Stop::given()).await.unwrap();
    tokio::spawn(feed(outlet, size));
    (addr, status)
}

#[derive(Debug)]
struct Answer {
    status: u16,
    headers: BTreeMap<String, String>,
}

/// A control connection, whose packets are kept in order of coming: channel and bytes.
struct Viewer {
    stream: TcpStream,
    buffer: Vec<u8>,
    packets: VecDeque<(u8, Vec<u8>)>,
    number: u32,
    base: String,
    udp: Vec<UdpSocket>,
}

impl Viewer {
    async fn connect(addr: SocketAddr) -> Self {
        let stream = TcpStream::connect(addr).await.unwrap();
        Self {
            stream,
            buffer: Vec::new(),
            packets: VecDeque::new(),
            number: 0,
            base: format!("rtsp://{addr}/boathouse-1"),
            udp: Vec::new(),
        }
    }

    /// The next message: a packet is kept, an answer is given.
    async fn message(&mut self) -> Option<Answer> {
        loop {
            if self.buffer.first() == Some(&b'$') && self.buffer.len() >= 4 {
                let end = 4 + usize::from(u16::from_be_bytes([self.buffer[2], self.buffer[3]]));
                if self.buffer.len() >= end {
                    let packet: Vec<u8> = self.buffer.drain(..end).collect();
                    self.packets.push_back((packet[1], packet[4..].to_vec()));
                    return None;
                }
            } else if let Some(end) = self.buffer.windows(4).position(|w| w == b"\r\n\r\n") {
                let head = String::from_utf8(self.buffer.drain(..end + 4).collect()).unwrap();
                let status = head.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or_else(|| panic!("{head}"));
                let pairs = head.lines().filter_map(|l| l.split_once(": ").map(|(n, v)| (n.to_owned(), v.to_owned())));
                let headers: BTreeMap<String, String> = pairs.collect();
                let body = headers.get("Content-Length").map_or(0, |n| n.parse().unwrap());
                while self.buffer.len() < body {
                    self.read().await;
                }
                self.buffer.drain(..body);
                return Some(Answer { status, headers });
            }
            self.read().await;
        }
    }

    async fn read(&mut self) {
        let n = timeout(PATIENCE, self.stream.read_buf(&mut self.buffer)).await.unwrap().unwrap();
        assert!(n > 0, "the connection has ended");
    }

    async fn say(&mut self, text: &str) -> Answer {
        self.stream.write_all(text.as_bytes()).await.unwrap();
        loop {
            if let Some(answer) = self.message().await {
                return answer;
            }
        }
    }

    async fn ask(&mut self, method: &str, path: &str, headers: &str) -> Answer {
        self.number += 1;
        let text = format!("{method} {}{path} RTSP/1.0\r\nCSeq: {}\r\n{headers}\r\n", self.base, self.number);
        let answer = self.say(&text).await;
        assert_eq!((answer.status, answer.headers["CSeq"].as_str()), (200, self.number.to_string().as_str()), "{method}: {answer:?}");
        answer
    }

    /// Sets up pictures and sound; gives the session.
    async fn set_up(&mut self, by_udp: bool) -> String {
        self.ask("DESCRIBE", "", "Accept: application/sdp\r\n").await;
        let mut session = String::new();
        for track in 0..2u16 {
            let transport = if by_udp {
                let (rtp, rtcp) = pair();
                let ports = format!("client_port={}-{}", rtp.local_addr().unwrap().port(), rtcp.local_addr().unwrap().port());
                self.udp.extend([rtp, rtcp]);
                format!("RTP/AVP;unicast;{ports}")
            } else {
                format!("RTP/AVP/TCP;unicast;interleaved={}-{}", 2 * track, 2 * track + 1)
            };
            let headers = format!("Transport: {transport}\r\n{session}");
            let answer = self.ask("SETUP", &format!("/track{}", track + 1), &headers).await;
            session = format!("Session: {}\r\n", answer.headers["Session"].split(';').next().unwrap());
        }
        session
    }

    /// The next packet on a channel (RTP and RTCP of pictures, RTP and RTCP of sound), and what
    /// came on others before it.
    async fn packet(&mut self, channel: u8) -> Vec<u8> {
        if !self.udp.is_empty() {
            let mut buffer = vec![0; 2048];
            let n = timeout(PATIENCE, self.udp[usize::from(channel)].recv(&mut buffer)).await.unwrap().unwrap();
            buffer.truncate(n);
            return buffer;
        }
        loop {
            if let Some(place) = self.packets.iter().position(|(c, _)| *c == channel) {
                return self.packets.remove(place).unwrap().1;
            }
            assert!(self.message().await.is_none(), "an answer to nothing");
        }
    }
}

fn pair() -> (UdpSocket, UdpSocket) {
    loop {
        let one = StdUdp::bind("127.0.0.1:0").unwrap();
        let port = one.local_addr().unwrap().port();
        if let (0, Ok(two)) = (port % 2, StdUdp::bind(("127.0.0.1", port.wrapping_add(1)))) {
            [&one, &two].iter().for_each(|s| s.set_nonblocking(true).unwrap());
            return (UdpSocket::from_std(one).unwrap(), UdpSocket::from_std(two).unwrap());
        }
    }
}

/// Sequence number and time stamp.
fn numbers(rtp: &[u8]) -> (u16, u32) {
    assert_eq!(rtp[0] >> 6, 2);
    (u16::from_be_bytes([rtp[2], rtp[3]]), u32::from_be_bytes([rtp[4], rtp[5], rtp[6], rtp[7]]))
}

/// What RTP-Info says of both tracks.
fn info(answer: &Answer) -> Vec<(u16, u32)> {
    let value = |part: &str, name: &str| -> u64 {
        part.split(';').find_map(|p| p.strip_prefix(name)).and_then(|v| v.parse().ok()).unwrap_or_else(|| panic!("{answer:?}"))
    };
    answer.headers["RTP-Info"].split(',').map(|part| (value(part, "seq=") as u16, value(part, "rtptime=") as u32)).collect()
}

async fn promises_are_kept(by_udp: bool) {
    let (_end, stop) = Stop::new();
    let (addr, _) = served(3000, &stop).await;
    let mut viewer = Viewer::connect(addr).await;
    let session = viewer.set_up(by_udp).await;
    let played = viewer.ask("PLAY", "", &session).await;
    for (track, promised) in info(&played).into_iter().enumerate() {
        assert_eq!(numbers(&viewer.packet(2 * track as u8).await), promised, "track {track}");
    }
    // The first report is of what this viewer has got, which is nothing; the next one comes after
    // five seconds.
    let words = |report: &[u8]| (report[1], packets_said(report));
    assert_eq!(words(&viewer.packet(1).await), (200, 0));
    let (mut count, mut last) = (1u32, 0);
    let (report, before) = viewer_report(&mut viewer, count).await;
    let (kind, said) = words(&report);
    for rtp in before {
        last = numbers(&rtp).0;
        count += 1;
    }
    // By UDP a packet may have overtaken the report.
    assert!(kind == 200 && (said == count || by_udp && said.abs_diff(count) <= 4), "{said} were sent, {count} came");
    viewer.ask("PAUSE", "", &session).await;
    while let Some(at) = viewer.packets.iter().position(|(c, _)| *c == 0) {
        last = numbers(&viewer.packets.remove(at).unwrap().1).0;
    }
    if by_udp {
        let mut buffer = [0; 2048];
        while let Ok(n) = viewer.udp[0].try_recv(&mut buffer) {
            last = numbers(&buffer[..n]).0;
        }
    }
    // Other packets go by meanwhile.
    tokio::time::sleep(Duration::from_millis(500)).await;
    let again = info(&viewer.ask("PLAY", "", &session).await);
    assert_eq!(again[0].0, last.wrapping_add(1), "numbers run on after a pause");
    assert_eq!(numbers(&viewer.packet(0).await), again[0]);
}

/// What a report says was sent before it.
fn packets_said(report: &[u8]) -> u32 {
    u32::from_be_bytes([report[20], report[21], report[22], report[23]])
}

/// The next report on pictures, and the packets of pictures that came before it, of which `had` are
/// known already.
async fn viewer_report(viewer: &mut Viewer, had: u32) -> (Vec<u8>, Vec<Vec<u8>>) {
    let mut before = Vec::new();
    if viewer.udp.is_empty() {
        loop {
            match viewer.packets.pop_front() {
                Some((0, rtp)) => before.push(rtp),
                Some((1, report)) => return (report, before),
                Some(_) => {}
                None => assert!(viewer.message().await.is_none(), "an answer to nothing"),
            }
        }
    }
    let (mut rtp, mut rtcp) = (vec![0; 2048], vec![0; 2048]);
    // The report first where both wait, or whoever looks late takes packets that came behind it.
    // What was sent before it waits by then; what is not there at once was not sent.
    let report = loop {
        tokio::select! {
            biased;
            n = viewer.udp[1].recv(&mut rtcp) => break rtcp[..n.unwrap()].to_vec(),
            n = viewer.udp[0].recv(&mut rtp) => before.push(rtp[..n.unwrap()].to_vec()),
        }
    };
    while had + (before.len() as u32) < packets_said(&report) {
        let Ok(n) = timeout(Duration::from_millis(1), viewer.udp[0].recv(&mut rtp)).await else { break };
        before.push(rtp[..n.unwrap()].to_vec());
    }
    (report, before)
}

#[tokio::test]
async fn within_the_connection_every_promise_is_kept() {
    promises_are_kept(false).await;
}

#[tokio::test]
async fn by_udp_every_promise_is_kept() {
    promises_are_kept(true).await;
}

#[tokio::test]
async fn requests_against_the_standard_are_refused() {
    let (_end, stop) = Stop::new();
    let (addr, _) = served(3000, &stop).await;
    for (first, headers, wanted) in [
        ("OPTIONS * RTSP/1.0", "", 400),
        ("OPTIONS * RTSP/1.0", "CSeq: abc\r\n", 400),
        ("OPTIONS * RTSP/9.9", "CSeq: 1\r\n", 505),
        ("DESCRIBE URL RTSP/1.0", "CSeq: 1\r\nAccept: text/html\r\n", 406),
        ("DESCRIBE URL RTSP/1.0", "CSeq: 1\r\nAccept: text/html, application/sdp\r\n", 200),
        ("DESCRIBE URL RTSP/1.0", "CSeq: 1\r\n", 200),
    ] {
        let mut viewer = Viewer::connect(addr).await;
        let first = first.replace("URL", &viewer.base);
        let answer = viewer.say(&format!("{first}\r\n{headers}\r\n")).await;
        assert_eq!(answer.status, wanted, "{first} {headers:?}");
        assert_ne!(answer.headers.get("CSeq").map(String::as_str), Some("abc"));
    }
}

#[tokio::test]
async fn a_viewer_that_takes_nothing_is_let_go_after_ten_seconds_and_the_other_never_waits() {
    let (_end, stop) = Stop::new();
    // 10 Mbit/s.
    let (addr, status) = served(50_000, &stop).await;
    let (mut good, mut stuck) = (Viewer::connect(addr).await, Viewer::connect(addr).await);
    for viewer in [&mut good, &mut stuck] {
        let session = viewer.set_up(false).await;
        viewer.ask("PLAY", "", &session).await;
    }
    let told = |text: &str| status.look().notices().any(|notice| notice.to_string().contains(text));
    let begun = tokio::time::Instant::now();
    let mut last = numbers(&good.packet(0).await).0;
    // The one that reads gets every packet, until the other has been let go.
    while !told("disconnected: no data read for 10 s") {
        let (next, _) = numbers(&good.packet(0).await);
        assert_eq!(next, last.wrapping_add(1));
        last = next;
        assert!(begun.elapsed() < PATIENCE, "still not let go: {:?}", status.look());
    }
    let mut left = vec![0; 1 << 16];
    while timeout(PATIENCE, stuck.stream.read(&mut left)).await.unwrap().is_ok_and(|n| n > 0) {}
}
