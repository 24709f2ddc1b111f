//! Ports, shows and the control socket over real sockets and files, on loopback.

use bytes::Bytes;
use choir_core::secret::{Secret, SecretText};
use choir_core::{facts::Contact, link::parse_url, sheet::read_sheet};
use choir_host::{Stop, secrets};
use choir_ports::{Arrival, Flow, Intake, LinkStatus, Live, Outlet, Way, open_ways};
use choir_proto::ts::{TS_PACKET, TsWriter, Unit, WriterConfig};
use choir_show::{
    Show,
    control::{Answer, Client, ControlError, Request, claim, serve},
};
use std::{
    fs,
    path::Path,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tempfile::TempDir;
use tokio::sync::watch;

/// Keeps what comes in and says how much that is.
struct Basket {
    pieces: Mutex<Vec<(u32, Bytes)>>,
    bytes: watch::Sender<usize>,
}

impl Intake for Basket {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let bytes: usize = arrivals.iter().map(|a| a.media.size()).sum();
        self.pieces.lock().expect("lock").extend(arrivals.drain(..).filter_map(|a| Some((a.session, a.media.into_ts()?))));
        // Told after it is there, or who waits for it may look too early.
        self.bytes.send_modify(|n| *n += bytes);
    }
}

impl Basket {
    fn new() -> Arc<Self> {
        Arc::new(Self { pieces: Mutex::default(), bytes: watch::channel(0).0 })
    }
    async fn holds(&self, bytes: usize) {
        let mut count = self.bytes.subscribe();
        tokio::time::timeout(Duration::from_secs(20), count.wait_for(|n| *n >= bytes)).await.expect("in time").expect("counted");
    }
    fn all(&self) -> Vec<u8> {
        self.pieces.lock().expect("lock").iter().flat_map(|p| p.1.to_vec()).collect()
    }
}

async fn until(status: &LinkStatus, what: &str, wanted: impl Fn(&Live) -> bool) -> Live {
    choir_rig::until(what, Duration::from_secs(20), || status.look(), wanted).await
}

async fn open_in(url: &str, basket: &Arc<Basket>, stop: &Stop, gate: &Stop) -> Arc<LinkStatus> {
    let status = LinkStatus::new();
    let link = parse_url(url).0.expect(url);
    let way = Way { name: "in".into(), link, flow: Flow::In(basket.clone()), status: status.clone(), stave: None, shard: None };
    open_ways(vec![way], Duration::from_millis(60), Path::new("."), stop, gate).await.expect("opens");
    status
}

async fn open_out(url: &str, stop: &Stop) -> (Arc<Outlet>, Arc<LinkStatus>) {
    let (outlet, status) = (Outlet::new(), LinkStatus::new());
    let link = parse_url(url).0.expect(url);
    let way = Way { name: "out".into(), link, flow: Flow::Out(outlet.clone().into()), status: status.clone(), stave: None, shard: None };
    open_ways(vec![way], Duration::from_millis(60), Path::new("."), stop, &Stop::given()).await.expect("opens");
    (outlet, status)
}

/// Packets that are no programme, but whole and in sync.
fn packets(count: usize) -> Bytes {
    let packet = |n: usize| {
        let mut p = vec![0x47, 0x1F, 0xFE, 0x10 | (n % 16) as u8];
        p.resize(TS_PACKET, n as u8);
        p
    };
    (0..count).flat_map(packet).collect::<Vec<u8>>().into()
}

#[tokio::test]
async fn large_pieces_leave_as_datagrams_of_seven_packets_and_arrive_in_order() {
    let (_end, stop) = Stop::new();
    for (from, to) in [("udp://127.0.0.1:P", "udp://127.0.0.1:P"), ("srt://127.0.0.1:P?mode=listener", "srt://127.0.0.1:P")] {
        let p = choir_rig::port().to_string();
        let basket = Basket::new();
        let entry = open_in(&from.replace('P', &p), &basket, &stop, &Stop::given()).await;
        let (outlet, status) = open_out(&to.replace('P', &p), &stop).await;
        until(&status, "up", |l| l.contact == Contact::Up).await;
        let data = packets(100);
        outlet.push(data.clone());
        basket.holds(data.len()).await;
        assert_eq!(basket.all(), data);
        let sizes: Vec<usize> = basket.pieces.lock().expect("lock").iter().map(|p| p.1.len() / TS_PACKET).collect();
        assert_eq!(sizes, [[7; 14].as_slice(), &[2]].concat());
        until(&entry, "counted", |l| l.totals().bytes == data.len() as u64).await;
    }
}

#[tokio::test]
async fn a_held_line_closes_and_comes_back_with_another_session() {
    let (_end, stop) = Stop::new();
    let p = choir_rig::port();
    let basket = Basket::new();
    let listener = open_in(&format!("srt://127.0.0.1:{p}?mode=listener"), &basket, &stop, &Stop::given()).await;
    let (outlet, caller) = open_out(&format!("srt://127.0.0.1:{p}"), &stop).await;
    until(&listener, "up", |l| l.contact == Contact::Up).await;
    until(&caller, "up", |l| l.contact == Contact::Up && !l.peers.is_empty()).await;
    outlet.push(packets(1));
    basket.holds(TS_PACKET).await;
    listener.control.set_held(true);
    until(&listener, "held", |l| l.contact == Contact::Held && l.peers.is_empty()).await;
    until(&caller, "lost", |l| matches!(l.contact, Contact::Lost(_))).await;
    listener.control.set_held(false);
    until(&listener, "up again", |l| l.contact == Contact::Up && l.sessions == 2).await;
    until(&caller, "up again", |l| l.contact == Contact::Up && !l.peers.is_empty()).await;
    outlet.push(packets(1));
    basket.holds(2 * TS_PACKET).await;
    let sessions: Vec<u32> = basket.pieces.lock().expect("lock").iter().map(|p| p.0).collect();
    assert_eq!(sessions, [1, 2]);
    // The caller can be held too, in the middle of a call.
    caller.control.set_held(true);
    until(&caller, "held", |l| l.contact == Contact::Held).await;
    caller.control.set_held(false);
    until(&caller, "up", |l| l.contact == Contact::Up && !l.peers.is_empty()).await;
}

#[tokio::test]
async fn lines_share_a_port_by_stream_id() {
    let (_end, stop) = Stop::new();
    let p = choir_rig::port();
    let baskets = [Basket::new(), Basket::new()];
    let statuses: Vec<_> = ["launch", "pontoon"].iter().map(|_| LinkStatus::new()).collect();
    let ways = ["launch", "pontoon"]
        .iter()
        .zip(&baskets)
        .zip(&statuses)
        .map(|((id, basket), status)| Way {
            name: (*id).into(),
            link: parse_url(&format!("srt://127.0.0.1:{p}?mode=listener&streamid={id}")).0.expect("a link"),
            flow: Flow::In(basket.clone()),
            status: status.clone(),
            stave: None,
            shard: None,
        })
        .collect();
    open_ways(ways, Duration::from_millis(60), Path::new("."), &stop, &Stop::given()).await.expect("opens");
    let (launch, launch_status) = open_out(&format!("srt://127.0.0.1:{p}?streamid=launch"), &stop).await;
    let (pontoon, pontoon_status) = open_out(&format!("srt://127.0.0.1:{p}?streamid=%23!::r=pontoon"), &stop).await;
    let (_none, refused) = open_out(&format!("srt://127.0.0.1:{p}?streamid=bicycle"), &stop).await;
    until(&launch_status, "up", |l| l.contact == Contact::Up).await;
    until(&pontoon_status, "up", |l| l.contact == Contact::Up).await;
    launch.push(packets(3));
    pontoon.push(packets(5));
    baskets[0].holds(3 * TS_PACKET).await;
    baskets[1].holds(5 * TS_PACKET).await;
    until(&refused, "refused", |l| matches!(&l.contact, Contact::Lost(why) if why.to_string().contains("stream ID is not known"))).await;
}

fn clip(dir: &TempDir, frames: u64) -> std::path::PathBuf {
    let mut writer = TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() });
    let mut out = Vec::new();
    for n in 0..frames {
        let data = [&[0, 0, 0, 1, if n % 5 == 0 { 0x65 } else { 0x41 }][..], &[n as u8 | 4; 2000]].concat();
        writer.write(&Unit { video: true, pts: 90_000 + n * 3600, dts: None, keyframe: n % 5 == 0, data: &[&data] }, &mut out);
    }
    let path = dir.path().join("clip.ts");
    fs::write(&path, out).expect("written");
    path
}

#[tokio::test]
async fn a_file_waits_for_its_gate_and_plays_at_the_pace_of_its_clock() {
    let dir = TempDir::new().expect("a folder");
    let path = clip(&dir, 26);
    let (_end, stop) = Stop::new();
    let (open, gate) = Stop::new();
    let basket = Basket::new();
    let status = open_in(&path.display().to_string(), &basket, &stop, &gate).await;
    until(&status, "waiting", |l| matches!(&l.contact, Contact::Waiting(w) if w.to_string().contains("far end"))).await;
    assert!(basket.all().is_empty());
    let start = Instant::now();
    open.now();
    status.played_out().await;
    let took = start.elapsed();
    assert!(took >= Duration::from_millis(950), "25 frames of 40 ms took {took:?}");
    assert_eq!(basket.all(), fs::read(&path).expect("read"));
}

#[tokio::test]
async fn a_file_without_a_clock_is_refused_in_words() {
    let dir = TempDir::new().expect("a folder");
    let path = dir.path().join("noise.ts");
    fs::write(&path, vec![0x55; 9 << 20]).expect("written");
    let (_end, stop) = Stop::new();
    let status = open_in(&path.display().to_string(), &Basket::new(), &stop, &Stop::given()).await;
    status.played_out().await;
    let live = status.look();
    assert!(matches!(&live.contact, Contact::Lost(why) if why.to_string().contains("no clock reference")), "{live:?}");
}

#[test]
fn passphrases_come_from_where_they_are_said_to_be() {
    let dir = TempDir::new().expect("a folder");
    fs::write(dir.path().join("pass"), "rowing is made up\nsecond line\n").expect("written");
    fs::write(dir.path().join("short"), "oars\n").expect("written");
    assert!(secrets::fetch(&Secret::File("pass".into()), dir.path()).is_ok());
    assert!(secrets::fetch(&Secret::Literal(SecretText::new("rowing is made up")), dir.path()).is_ok());
    let error = |s: Secret| secrets::fetch(&s, dir.path()).expect_err("an error").to_string();
    assert!(error(Secret::File("short".into())).contains("has 4 characters"));
    assert!(error(Secret::File("gone".into())).contains("gone cannot be read"));
    assert!(error(Secret::Env("NO_SUCH_VARIABLE_HERE".into())).contains("NO_SUCH_VARIABLE_HERE is not set"));
    assert!(!error(Secret::Literal(SecretText::new("oars"))).contains("oars"));
}

#[tokio::test]
async fn a_show_is_claimed_once_asked_and_stopped_over_its_socket() {
    let dir = TempDir::new().expect("a folder");
    let sheet_path = dir.path().join("boathouse.toml");
    let text =
        format!("[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"a\"\nfrom = \"udp://127.0.0.1:{}\"\n", choir_rig::port());
    fs::write(&sheet_path, &text).expect("written");
    let sheet = read_sheet(&text).0.expect("a sheet");
    assert!(matches!(Client::connect(Some(&sheet_path)).await, Err(ControlError::NotRunning(_))));
    let claimed = claim(&sheet_path).expect("claimed");
    match claim(&sheet_path) {
        Err(e @ ControlError::AlreadyRunning { .. }) => assert!(e.to_string().contains(&format!("process {}", std::process::id()))),
        other => panic!("claimed twice: {other:?}"),
    }
    let show = Show::start(&sheet, dir.path()).await.expect("starts");
    let server = tokio::spawn(serve(claimed, show.clone()));
    let mut client = Client::connect(Some(&sheet_path)).await.expect("connected");
    let Answer::View(view) = client.ask(&Request::View).await.expect("answered") else { panic!("no view") };
    assert_eq!((view.show.as_str(), view.lines.len()), ("Tarn Hollow Regatta", 1));
    let refused = client.ask(&Request::Hold { line: "b".into() }).await.expect("answered");
    assert!(matches!(&refused, Answer::Refused { why } if why.contains("no line \"b\"")), "{refused:?}");
    assert!(matches!(client.ask(&Request::Stop).await.expect("answered"), Answer::Done { .. }));
    show.stop_asked().await;
    server.abort();
    let _ = server.await;
    show.stop().await;
    claim(&sheet_path).expect("free again");
}
