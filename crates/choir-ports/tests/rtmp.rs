//! RTMP over real sockets on loopback: a port that publishers call, and feeds that are pushed, to
//! it and to servers that refuse, send on, ask who it is, and take too little.

use choir_core::{
    facts::{Contact, Fault, Notice},
    link::parse_url,
};
use choir_host::Stop;
use choir_ports::{AnyOutlet, Arrival, Flow, Intake, LinkStatus, Live, Media, Outlet, UnitOutlet, Way, open_ways};
use choir_proto::{
    audio::aac_silence,
    rtmp::{Client, ClientPlan, HANDSHAKE_BLOCK, TagWriter},
    ts::{AccessUnit, StreamKind, UnitFormat},
};
use std::{
    net::SocketAddr,
    path::Path,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    sync::watch,
};

const PATIENCE: Duration = Duration::from_secs(20);
const SETS: &[u8] = &[
    0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
    0x80, 0x00, 0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
];

/// Units as they came: session, kind, time, and the last byte.
type Came = (u32, StreamKind, u64, u8);

struct Basket {
    units: Mutex<Vec<Came>>,
    count: watch::Sender<usize>,
}

impl Intake for Basket {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let mut units = self.units.lock().expect("lock");
        for a in arrivals.drain(..) {
            if let Media::Units(_, timed) = a.media
                && let Some(u) = timed.unit
            {
                units.push((a.session, u.kind, u.pts, *u.pieces.last().and_then(|p| p.last()).expect("bytes")));
            }
        }
        self.count.send_replace(units.len());
    }
}

impl Basket {
    fn new() -> Arc<Self> {
        Arc::new(Self { units: Mutex::default(), count: watch::channel(0).0 })
    }

    async fn has(&self, wanted: impl Fn(&[Came]) -> bool) -> Vec<Came> {
        let mut count = self.count.subscribe();
        let fits = |_: &usize| wanted(&self.units.lock().expect("lock"));
        tokio::time::timeout(PATIENCE, count.wait_for(fits)).await.expect("in time").expect("counted");
        self.units.lock().expect("lock").clone()
    }
}

/// Opens ways that share their ports.
async fn open_all(all: Vec<(String, Flow)>, stop: &Stop) -> Vec<Arc<LinkStatus>> {
    let mut statuses = Vec::new();
    let way = |(url, flow): (String, Flow)| {
        let status = LinkStatus::new();
        statuses.push(status.clone());
        Way { name: "boathouse-1".into(), link: parse_url(&url).0.expect(&url), flow, status, stave: None, shard: None }
    };
    let ways = all.into_iter().map(way).collect();
    open_ways(ways, Duration::from_millis(100), Path::new("."), stop, &Stop::given()).await.expect("opened");
    statuses
}

async fn open(url: &str, flow: Flow, stop: &Stop) -> Arc<LinkStatus> {
    open_all(vec![(url.to_owned(), flow)], stop).await.remove(0)
}

async fn until(status: &LinkStatus, what: &str, wanted: impl Fn(&Live) -> bool) -> Live {
    choir_rig::until(what, PATIENCE, || status.look(), wanted).await
}

fn push_url(addr: SocketAddr, rest: &str) -> String {
    format!("rtmp://{addr}/{rest}")
}

fn unit(kind: StreamKind, n: u64, keyframe: bool, data: Vec<u8>) -> AccessUnit {
    let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264, StreamKind::AacAdts] });
    AccessUnit { pid: 256, kind, pts: Some(900_000 + n * 3600), dts: None, keyframe, arrived: 0, data: data.into(), format }
}

/// Picture `n`, which ends with a number from 1 to 250 (zeros at its end are no part of it), and
/// the sound beside it.
fn units(n: u64) -> [AccessUnit; 2] {
    let keyframe = n.is_multiple_of(10);
    let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88];
    let picture = [if keyframe { SETS } else { &[] }, &head, &[0xA5; 900], &[(n % 250) as u8 + 1]].concat();
    [unit(StreamKind::H264, n, keyframe, picture), unit(StreamKind::AacAdts, n, true, aac_silence(48_000, 2))]
}

/// Pushes pictures at their pace until stopped.
async fn play(outlet: Arc<UnitOutlet>, mut stop: Stop) {
    let mut tick = tokio::time::interval(Duration::from_millis(20));
    for n in 0.. {
        tokio::select! {
            _ = tick.tick() => units(n).into_iter().for_each(|u| outlet.push(u)),
            () = stop.wait() => return,
        }
    }
}

async fn pushed(url: &str, stop: &Stop) -> Arc<LinkStatus> {
    let outlet: Arc<UnitOutlet> = Outlet::new();
    tokio::spawn(play(outlet.clone(), stop.clone()));
    open(url, Flow::Out(AnyOutlet::Units(outlet)), stop).await
}

fn fault(live: &Live) -> Option<Fault> {
    live.contact.fault()
}

#[tokio::test]
async fn a_feed_is_pushed_to_a_line_and_nothing_is_missing_from_the_first_keyframe_on() {
    let (end, stop) = Stop::new();
    let (basket, port) = (Basket::new(), choir_rig::port());
    let line = open(&format!("rtmp://127.0.0.1:{port}/in/regatta/bow#mode=listener"), Flow::In(basket.clone()), &stop).await;
    let feed = pushed(&format!("rtmp://127.0.0.1:{port}/in/regatta/bow"), &stop).await;
    let came = basket.has(|u| u.iter().filter(|u| u.1 == StreamKind::H264).count() > 60).await;
    let pictures: Vec<&Came> = came.iter().filter(|u| u.1 == StreamKind::H264).collect();
    assert_eq!(pictures[0].3 % 10, 1, "a keyframe comes first");
    for (before, after) in pictures.iter().zip(&pictures[1..]) {
        assert_eq!((after.3, after.0), (before.3 % 250 + 1, 1));
        assert_eq!(after.2 - before.2, 3600, "times are those of the feed");
    }
    // Sound is heard with the picture that it came with, to RTMP's millisecond.
    for sound in came.iter().filter(|u| u.1 == StreamKind::AacAdts && u.2 >= pictures[0].2 && u.2 <= pictures[pictures.len() - 1].2) {
        assert!(pictures.iter().any(|p| p.2.abs_diff(sound.2) <= 90), "no picture at the time of {sound:?}");
    }
    let sounds = came.iter().filter(|u| u.1 == StreamKind::AacAdts).count();
    assert!(sounds + 5 > pictures.len(), "{sounds}");
    let live = until(&line, "its counters", |l| l.counters.packets > 100).await;
    assert_eq!((live.contact.clone(), live.software.as_deref()), (Contact::Up, Some("choir")));
    until(&feed, "what is shown of it", |l| l.how.as_ref().is_some_and(|h| h.contains("ms waiting"))).await;
    end.now();
}

#[tokio::test]
async fn a_wrong_key_and_a_second_publisher_are_told_at_both_ends() {
    let (end, stop) = Stop::new();
    let (basket, port) = (Basket::new(), choir_rig::port());
    let line = open(&format!("rtmp://127.0.0.1:{port}/in/bow#mode=listener"), Flow::In(basket.clone()), &stop).await;
    let wrong = pushed(&format!("rtmp://127.0.0.1:{port}/in/stern"), &stop).await;
    let live = until(&wrong, "the refusal", |l| fault(l) == Some(Fault::StreamKey)).await;
    assert!(format!("{:?}", live.contact).contains("the stream key is wrong"), "{:?}", live.contact);
    until(&line, "the caller", |l| fault(l) == Some(Fault::StreamKey)).await;
    let nowhere = pushed(&format!("rtmp://127.0.0.1:{port}/out/bow"), &stop).await;
    until(&nowhere, "no such path", |l| format!("{:?}", l.contact).contains("nothing is taken under this path")).await;
    let first = pushed(&format!("rtmp://127.0.0.1:{port}/in/bow"), &stop).await;
    until(&first, "the first", |l| l.contact == Contact::Up).await;
    basket.has(|u| u.len() > 20).await;
    let second = pushed(&format!("rtmp://127.0.0.1:{port}/in/bow"), &stop).await;
    until(&second, "the second", |l| fault(l) == Some(Fault::Taken)).await;
    let told = |n: &Notice| matches!(n, Notice::CallerRefused(r) if r.fault == Some(Fault::Taken));
    assert_eq!((line.look().contact, line.look().notices().any(told)), (Contact::Up, true));
    // Held, it lets its publisher go and takes none.
    line.control.set_held(true);
    until(&line, "held", |l| l.contact == Contact::Held).await;
    until(&first, "let go", |l| matches!(l.contact, Contact::Lost(_))).await;
    line.control.set_held(false);
    until(&line, "taken again", |l| l.sessions > 1 && l.contact == Contact::Up).await;
    end.now();
}

#[tokio::test]
async fn junk_silence_and_too_many_leave_the_port_working() {
    let (end, stop) = Stop::new();
    let (basket, port) = (Basket::new(), choir_rig::port());
    let line = open(&format!("rtmp://127.0.0.1:{port}/in/bow#mode=listener"), Flow::In(basket.clone()), &stop).await;
    let mut junk = TcpStream::connect(("127.0.0.1", port)).await.expect("connected");
    junk.write_all(b"GET / HTTP/1.1\r\n\r\n").await.expect("sent");
    let mut answer = Vec::new();
    tokio::time::timeout(PATIENCE, junk.read_to_end(&mut answer)).await.expect("closed").expect("read");
    assert!(answer.is_empty(), "nothing is said to whoever does not speak RTMP");
    // One address may hold so many places and no more: the next is closed at once.
    let mut idle = Vec::new();
    for _ in 0..32 {
        idle.push(TcpStream::connect(("127.0.0.1", port)).await.expect("connected"));
    }
    let mut more = TcpStream::connect(("127.0.0.1", port)).await.expect("connected");
    let closed = tokio::time::timeout(PATIENCE, more.read(&mut [0; 1])).await.expect("closed");
    assert!(matches!(closed, Ok(0) | Err(_)));
    idle.clear();
    let _feed = pushed(&format!("rtmp://127.0.0.1:{port}/in/bow"), &stop).await;
    basket.has(|u| u.len() > 20).await;
    assert_eq!(line.look().contact, Contact::Up);
    end.now();
}

#[tokio::test]
async fn a_publisher_whose_times_jump_and_one_that_begins_anew_go_on() {
    let (end, stop) = Stop::new();
    let (basket, port) = (Basket::new(), choir_rig::port());
    let line = open(&format!("rtmp://127.0.0.1:{port}/in/bow#mode=listener"), Flow::In(basket.clone()), &stop).await;
    // A client of our own, whose tags are moved over the wrap of their times.
    let mut stream = TcpStream::connect(("127.0.0.1", port)).await.expect("connected");
    let plan =
        ClientPlan { app: "in".into(), url: format!("rtmp://127.0.0.1:{port}/in"), name: "bow".into(), publishes: true, answer: None };
    let mut client = Client::new(plan, [5; HANDSHAKE_BLOCK]);
    let mut buffer = [0; 4096];
    while client.poll_event().is_none() {
        while let Some(out) = client.poll_output() {
            stream.write_all(&out).await.expect("sent");
        }
        let n = stream.read(&mut buffer).await.expect("read");
        client.handle(&buffer[..n]).expect("RTMP");
    }
    let (mut writer, mut tags) = (TagWriter::default(), Vec::new());
    for n in 0..60 {
        units(n).iter().for_each(|u| writer.push(u, &mut tags));
    }
    let mut tick = tokio::time::interval(Duration::from_millis(20));
    for tag in &mut tags {
        // A second before the wrap.
        tag.time = tag.time.wrapping_sub(2000);
        client.send(tag);
        while let Some(out) = client.poll_output() {
            stream.write_all(&out).await.expect("sent");
        }
        tick.tick().await;
    }
    let came = basket.has(|u| u.iter().filter(|u| u.1 == StreamKind::H264).count() == 60).await;
    let times: Vec<u64> = came.iter().filter(|u| u.1 == StreamKind::H264).map(|u| u.2).collect();
    assert!(times.windows(2).all(|w| w[1].wrapping_sub(w[0]) & ((1 << 33) - 1) == 3600), "{times:?}");
    drop(stream);
    until(&line, "gone", |l| matches!(l.contact, Contact::Lost(_))).await;
    let _again = pushed(&format!("rtmp://127.0.0.1:{port}/in/bow"), &stop).await;
    basket.has(|u| u.last().is_some_and(|u| u.0 == 2)).await;
    end.now();
}

/// A server that says what `answers` has to each caller, in the words of its own session.
async fn stand_in(answers: Vec<Answer>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let addr = listener.local_addr().expect("its address");
    tokio::spawn(async move {
        for answer in answers {
            let Ok((stream, _)) = listener.accept().await else { return };
            serve(stream, answer).await;
        }
    });
    addr
}

enum Answer {
    /// Refuses the connection with these words.
    Says(String),
    /// Takes the stream, reads so many bytes, and nothing more.
    Reads(usize),
    /// Takes it and closes after so many bytes.
    Closes(usize),
}

async fn serve(mut stream: TcpStream, answer: Answer) {
    use choir_proto::rtmp::{Amf, ChunkWriter, Handshake, Message, Server, ServerEvent, kind, write_values};
    let mut buffer = vec![0; 32 << 10];
    if let Answer::Says(words) = answer {
        let mut handshake = Handshake::server([3; HANDSHAKE_BLOCK]);
        let mut out = Vec::new();
        loop {
            let Ok(n @ 1..) = stream.read(&mut buffer).await else { return };
            let ended = handshake.push(&buffer[..n], &mut out).expect("RTMP");
            stream.write_all(&out).await.expect("sent");
            out.clear();
            if ended.is_some() {
                break;
            }
        }
        let about = [("level", "error"), ("code", "NetConnection.Connect.Rejected"), ("description", words.as_str())];
        let mut about: Vec<(String, Amf)> = about.map(|(k, v)| (k.to_owned(), Amf::text(v))).to_vec();
        if let Some(url) = words.strip_prefix("elsewhere ") {
            about.push(("ex".into(), Amf::Object(vec![("redirect".into(), Amf::text(url))])));
        }
        let mut body = Vec::new();
        write_values(&[Amf::text("_error"), Amf::Number(1.0), Amf::Null, Amf::Object(about)], &mut body);
        ChunkWriter::default().write(3, &Message { kind: kind::COMMAND, stream: 0, time: 0, body: body.into() }, &mut out);
        stream.write_all(&out).await.expect("sent");
        return;
    }
    let (most, closes) = match answer {
        Answer::Reads(most) => (most, false),
        Answer::Closes(most) => (most, true),
        Answer::Says(_) => return,
    };
    let (mut server, mut taken) = (Server::new([3; HANDSHAKE_BLOCK]), 0);
    while taken < most {
        let Ok(n @ 1..) = stream.read(&mut buffer).await else { return };
        taken += n;
        server.handle(&buffer[..n]).expect("RTMP");
        while let Some(event) = server.poll_event() {
            if let ServerEvent::Publish { .. } = event {
                server.accept();
            }
        }
        while let Some(out) = server.poll_output() {
            stream.write_all(&out).await.expect("sent");
        }
    }
    if !closes {
        std::future::pending::<()>().await;
    }
}

#[tokio::test]
async fn a_server_that_asks_who_it_is_is_answered_and_one_that_sends_on_is_followed() {
    let (end, stop) = Stop::new();
    let refuse = "[ AccessManager.Reject ] : [ code=403 need auth; authmod=adobe ] : ".to_owned();
    let riddle = "[ AccessManager.Reject ] : [ authmod=adobe ] : ?reason=needauth&user=desk&salt=abc&challenge=xyz&opaque=q12".to_owned();
    let last = stand_in(vec![Answer::Closes(30_000), Answer::Reads(60_000)]).await;
    let first =
        stand_in(vec![Answer::Says(refuse), Answer::Says(riddle), Answer::Says(format!("elsewhere {}", push_url(last, "live")))]).await;
    let feed = pushed(&format!("rtmp://desk:four@{first}/live/key"), &stop).await;
    let live = until(&feed, "taken", |l| l.sessions > 0).await;
    assert!(live.notices().any(|n| matches!(n, Notice::Redirected(url) if url.contains(&last.to_string()))));
    end.now();
    // Without a login it says what is missing, and waits for the engineer.
    let (end, stop) = Stop::new();
    let asks = stand_in(vec![Answer::Says("[ code=403 need auth; authmod=adobe ]".into())]).await;
    let feed = pushed(&push_url(asks, "live/key"), &stop).await;
    until(&feed, "the login", |l| fault(l) == Some(Fault::Login)).await;
    end.now();
}

#[tokio::test]
async fn a_server_that_takes_too_little_costs_whole_groups_and_one_that_closes_is_called_again() {
    let (end, stop) = Stop::new();
    let slow = stand_in(vec![Answer::Reads(20_000)]).await;
    let outlet: Arc<UnitOutlet> = Outlet::new();
    let feed = open(&push_url(slow, "live/key"), Flow::Out(AnyOutlet::Units(outlet.clone())), &stop).await;
    until(&feed, "taken", |l| l.contact == Contact::Up).await;
    let begun = Instant::now();
    let mut tick = tokio::time::interval(Duration::from_millis(10));
    let mut n = 0;
    // Much more than the system keeps.
    while outlet.dropped() == 0 && begun.elapsed() < PATIENCE {
        let keyframe = n % 10 == 0;
        let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88];
        outlet.push(unit(StreamKind::H264, n, keyframe, [if keyframe { SETS } else { &[] }, &head, &[0xA5; 40_000]].concat()));
        n += 1;
        tick.tick().await;
    }
    let told = until(&feed, "told", |l| l.notices().any(|n| matches!(n, Notice::LeftOut { .. }))).await;
    let Some(Notice::LeftOut { pictures, waited }) = told.notices().find(|n| matches!(n, Notice::LeftOut { .. })) else { return };
    assert!(*pictures > 0 && *waited >= Duration::from_secs(3), "{pictures} {waited:?}");
    end.now();
    let (end, stop) = Stop::new();
    let closes = stand_in(vec![Answer::Closes(30_000), Answer::Reads(usize::MAX)]).await;
    let feed = pushed(&push_url(closes, "live/key"), &stop).await;
    until(&feed, "called again", |l| l.sessions == 2 && l.contact == Contact::Up).await;
    end.now();
}

#[tokio::test]
async fn a_feed_is_served_to_players_on_the_port_that_lines_are_published_to() {
    let (end, stop) = Stop::new();
    let (published, port) = (Basket::new(), choir_rig::port());
    let outlet: Arc<UnitOutlet> = Outlet::new();
    tokio::spawn(play(outlet.clone(), stop.clone()));
    let both = vec![
        (format!("rtmp://127.0.0.1:{port}/in/bow#mode=listener"), Flow::In(published.clone())),
        (format!("rtmp://127.0.0.1:{port}/out/programme#mode=listener"), Flow::Out(AnyOutlet::Units(outlet))),
    ];
    let served = open_all(both, &stop).await.remove(1);
    assert!(matches!(served.look().contact, Contact::Waiting(_)));
    let (first, second) = (Basket::new(), Basket::new());
    let (once, once_stop) = stop.child();
    let one = open(&format!("rtmp://127.0.0.1:{port}/out/programme"), Flow::In(first.clone()), &once_stop).await;
    let other = open(&format!("rtmp://127.0.0.1:{port}/out/programme"), Flow::In(second.clone()), &stop).await;
    for basket in [&first, &second] {
        let came = basket.has(|u| u.iter().filter(|u| u.1 == StreamKind::H264).count() > 30).await;
        let pictures: Vec<u8> = came.iter().filter(|u| u.1 == StreamKind::H264).map(|u| u.3).collect();
        assert_eq!(pictures[0] % 10, 1, "a keyframe comes first");
        assert!(pictures.windows(2).all(|w| w[1] == w[0] % 250 + 1), "{pictures:?}");
    }
    let live = until(&served, "two players", |l| l.how.as_deref() == Some("2 players by RTMP")).await;
    assert_eq!((live.contact, one.look().contact, other.look().contact), (Contact::Up, Contact::Up, Contact::Up));
    once.now();
    until(&served, "one player", |l| l.how.as_deref() == Some("1 player by RTMP")).await;
    let nothing = open(&format!("rtmp://127.0.0.1:{port}/out/other"), Flow::In(Basket::new()), &stop).await;
    until(&nothing, "no such name", |l| format!("{:?}", l.contact).contains("nothing is played under this name")).await;
    // A feed is no line: nobody can publish to it.
    let wrong = pushed(&format!("rtmp://127.0.0.1:{port}/out/programme"), &stop).await;
    until(&wrong, "no line", |l| format!("{:?}", l.contact).contains("nothing is taken under this path")).await;
    let _publisher = pushed(&format!("rtmp://127.0.0.1:{port}/in/bow"), &stop).await;
    published.has(|u| u.len() > 20).await;
    end.now();
}

/// An authority's certificate, and one that it signed for 127.0.0.1 with its key, as PEM.
fn certified() -> (String, String, String) {
    use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair};
    let mut params = CertificateParams::new(Vec::<String>::new()).expect("parameters");
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let key = KeyPair::generate().expect("a key");
    let authority = params.self_signed(&key).expect("signed");
    let issuer = Issuer::from_params(&params, &key);
    let own = KeyPair::generate().expect("a key");
    let signed = CertificateParams::new(vec!["127.0.0.1".to_owned()]).expect("parameters").signed_by(&own, &issuer).expect("signed");
    (authority.pem(), signed.pem(), own.serialize_pem())
}

#[tokio::test]
async fn within_tls_a_port_shows_its_certificate_and_a_caller_takes_only_what_its_authority_signed() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = |name: &str, text: &str| {
        let path = folder.path().join(name);
        std::fs::write(&path, text).expect("written");
        path.display().to_string()
    };
    let ((authority, certificate, key), (other, ..)) = (certified(), certified());
    let (authority, other) = (file("authority.pem", &authority), file("other.pem", &other));
    let (certificate, key) = (file("own.pem", &certificate), file("own-key.pem", &key));
    let (end, stop) = Stop::new();
    let (basket, port) = (Basket::new(), choir_rig::port());
    let listens = format!("rtmps://127.0.0.1:{port}/in/bow#mode=listener&certificate={certificate}&certificate-key={key}");
    let line = open(&listens, Flow::In(basket.clone()), &stop).await;
    // Somebody who does not speak TLS, and somebody who trusts nobody that signed it.
    let plain = pushed(&format!("rtmp://127.0.0.1:{port}/in/bow"), &stop).await;
    let refused = |l: &Live| {
        l.notices().any(|n| matches!(n, Notice::CallerRefused(r) if r.fault == Some(Fault::WrongProtocol) && r.why.starts_with("TLS: ")))
    };
    until(&line, "a caller without TLS is told of", refused).await;
    plain.control.set_held(true);
    let strange = pushed(&format!("rtmps://127.0.0.1:{port}/in/bow#authority={other}"), &stop).await;
    let live = until(&strange, "it is not trusted", |l| fault(l) == Some(Fault::WrongProtocol)).await;
    assert!(format!("{:?}", live.contact).contains("TLS: invalid peer certificate"), "{:?}", live.contact);
    strange.control.set_held(true);
    let feed = pushed(&format!("rtmps://127.0.0.1:{port}/in/bow#authority={authority}"), &stop).await;
    basket.has(|u| u.len() > 20).await;
    for status in [&line, &feed] {
        assert_eq!(status.look().encryption.to_string(), "TLS");
    }
    let way = |url: &str| {
        let (link, flow) = (parse_url(url).0.expect("a link"), Flow::In(Basket::new()));
        Way { name: "bow".into(), link, flow, status: LinkStatus::new(), stave: None, shard: None }
    };
    let error = async |ways: Vec<Way>| {
        open_ways(ways, Duration::ZERO, Path::new("."), &stop, &Stop::given()).await.err().expect("refused").to_string()
    };
    // One port has one certificate.
    let next = choir_rig::port();
    let two = [listens.replace(&port.to_string(), &next.to_string()), format!("rtmp://127.0.0.1:{next}/in/stern#mode=listener")];
    let told = error(two.iter().map(|url| way(url)).collect()).await;
    assert!(told.contains("another certificate"), "{told}");
    // What cannot be shown is told before anything opens, and nothing of the key.
    for (certificate, key, says) in [
        (folder.path().join("none.pem").display().to_string(), key.clone(), "certificate "),
        (certificate.clone(), certificate.clone(), "no key that can be read"),
        (authority.clone(), key.clone(), "is not the key of"),
    ] {
        let url = format!("rtmps://127.0.0.1:{}/in/bow#mode=listener&certificate={certificate}&certificate-key={key}", choir_rig::port());
        let told = error(vec![way(&url)]).await;
        assert!(told.contains(says) && !told.contains("PRIVATE"), "{told}");
    }
    end.now();
}
