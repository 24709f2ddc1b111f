//! A sheet that is changed while its show runs: only what differs is touched.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use choir_core::{
    command::{By, Command, Done, Refusal},
    sheet::{Sheet, read_sheet},
    view::ShowView,
};
use choir_proto::ts::{Origin, TsChecker, TsFault, TsWriter, Unit, WriterConfig};
use choir_show::{Show, bus};
use std::{
    net::{SocketAddr, UdpSocket},
    sync::{Arc, Mutex},
    time::Duration,
};
use tempfile::TempDir;
use tokio::time::timeout;

const SPS_PPS: &[u8] = &[0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];
const PATIENCE: Duration = Duration::from_secs(20);

/// Receives a feed by UDP and keeps what came.
struct Receiver {
    at: SocketAddr,
    bytes: Arc<Mutex<Vec<u8>>>,
}

impl Receiver {
    fn new() -> Self {
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        let (at, bytes) = (socket.local_addr().unwrap(), Arc::new(Mutex::new(Vec::new())));
        let kept = bytes.clone();
        std::thread::spawn(move || {
            let mut buf = [0; 2048];
            while let Ok(n) = socket.recv(&mut buf) {
                kept.lock().unwrap().extend_from_slice(&buf[..n]);
            }
        });
        Self { at, bytes }
    }

    fn count(&self) -> usize {
        self.bytes.lock().unwrap().len()
    }

    /// Waits until so many more bytes have come.
    async fn gets(&self, more: usize) {
        let wanted = self.count() + more;
        choir_rig::until("so many bytes", PATIENCE, || self.count(), |count| *count >= wanted).await;
    }

    /// Packets that are missing by their counters.
    fn missing(&self) -> u64 {
        let mut checker = TsChecker::new(Origin::Joined);
        checker.push(&self.bytes.lock().unwrap().clone().into());
        checker.findings().iter().filter(|f| f.fault == TsFault::Continuity).map(|f| f.count).sum()
    }
}

/// A clip of a second that loops without a seam.
fn clip(dir: &TempDir, name: &str, mark: u8) {
    let mut writer = TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() });
    let mut out = Vec::new();
    for n in 0..25u64 {
        let sets = if n % 5 == 0 { SPS_PPS } else { &[] };
        let data = [sets, &[0, 0, 0, 1, if n % 5 == 0 { 0x65 } else { 0x41 }], &[mark | 0x80; 3000]].concat();
        writer.write(&Unit { video: true, pts: 90_000 + n * 3600, dts: None, keyframe: n % 5 == 0, data: &[&data] }, &mut out);
    }
    std::fs::write(dir.path().join(name), out).unwrap();
}

fn sheet(entries: &str) -> Sheet {
    let (sheet, findings) = read_sheet(&text(entries));
    sheet.unwrap_or_else(|| panic!("{findings:?}"))
}

fn text(entries: &str) -> String {
    format!("[show]\nname = \"Tarn Hollow Regatta\"\n{entries}")
}

fn line(name: &str, file: &str) -> String {
    format!("[[line]]\nname = \"{name}\"\nfrom = \"{file}?repeat\"\n")
}

fn feed(name: &str, line: &str, to: &[&Receiver]) -> String {
    let to: Vec<String> = to.iter().map(|r| format!("\"udp://{}\"", r.at)).collect();
    format!("[[feed]]\nname = \"{name}\"\nline = \"{line}\"\nto = [{}]\n", to.join(", "))
}

async fn until(show: &Show, what: &str, wanted: impl Fn(&ShowView) -> bool) -> ShowView {
    let mut facts = show.facts();
    let came = timeout(PATIENCE, async { while !wanted(&show.view()) && bus::next(&mut facts).await {} }).await;
    came.unwrap_or_else(|_| panic!("never came to be: {what}\n{:#?}", show.view()));
    show.view()
}

#[tokio::test(flavor = "multi_thread")]
async fn lines_feeds_and_ways_out_come_and_go_and_nothing_else_is_interrupted() {
    let dir = TempDir::new().unwrap();
    for (name, mark) in [("a.ts", 0x11), ("b.ts", 0x22)] {
        clip(&dir, name, mark);
    }
    let [stays, second, beside] = [Receiver::new(), Receiver::new(), Receiver::new()];
    let base = line("a", "a.ts") + &feed("one", "a", &[&stays]);
    let show = Show::start(&sheet(&base), dir.path()).await.unwrap();
    stays.gets(100_000).await;

    let more = line("a", "a.ts") + &line("b", "b.ts") + &feed("one", "a", &[&stays, &beside]) + &feed("two", "b", &[&second]);
    let change = show.apply(&sheet(&more)).await.unwrap().to_string();
    assert_eq!(change, format!("line b added; feed one: way out added: udp://{}; feed two added", beside.at), "and nothing of line a");
    tokio::join!(second.gets(50_000), beside.gets(50_000), stays.gets(50_000));
    let view = until(&show, "all steady", |v| v.lines.iter().all(|l| l.link.state == Some(choir_core::facts::State::Steady))).await;
    assert_eq!(
        view.feeds.iter().map(|f| (f.name.as_str(), f.line.as_str(), f.outs.len())).collect::<Vec<_>>(),
        [("one", "a", 2), ("two", "b", 1)]
    );
    // A new line can go on a feed that was there before.
    let take = Command::Take { feed: show.feed_named("one").unwrap(), line: show.line_named("b").unwrap() };
    show.execute(By::CommandLine, take).await.unwrap();
    until(&show, "b on one", |v| v.feeds[0].line == "b").await;
    assert!(
        show.events_after(0).iter().any(|e| e.subject == "feed one" && e.text.contains("take requested: b")),
        "{:?}",
        show.events_after(0)
    );

    // The line that goes is on a feed: that one takes its own again.
    let change = show.apply(&sheet(&base)).await.unwrap().to_string();
    assert_eq!(change, format!("feed one: way out removed: udp://{}; feed two removed; line b removed", beside.at));
    until(&show, "a on one again", |v| v.feeds[0].line == "a" && v.feeds.len() == 1 && v.lines.len() == 1).await;
    stays.gets(100_000).await;
    assert!(matches!(show.line_named("b"), Err(Refusal::NoLine { .. })));
    assert_eq!(stays.missing(), 0);
    let (gone, too) = (beside.count(), second.count());
    stays.gets(50_000).await;
    assert_eq!((beside.count(), second.count()), (gone, too), "what is removed gets nothing more");
    show.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_that_cannot_be_applied_changes_nothing() {
    let dir = TempDir::new().unwrap();
    clip(&dir, "a.ts", 0x11);
    let stays = Receiver::new();
    let base = line("a", "a.ts") + &feed("one", "a", &[&stays]);
    let file = dir.path().join("regatta.toml");
    std::fs::write(&file, text(&base)).unwrap();
    let show = Show::start(&sheet(&base), dir.path()).await.unwrap();
    assert_eq!(show.execute(By::CommandLine, Command::Reload).await, Err(Refusal::NoFile));
    show.set_file(&file);
    stays.gets(50_000).await;
    let reload = async |entries: &str| {
        std::fs::write(&file, text(entries)).unwrap();
        show.execute(By::CommandLine, Command::Reload).await
    };
    let elsewhere = base.replace("to = [", "to = [\"rtsp://192.0.2.1:8554\", ");
    // A mistake, with its place; a file that is not there; a line that is reopened and cannot be,
    // beside one that is added; a way out on an address that this machine does not have.
    for (entries, says) in [
        (line("a", "a.ts") + "[[feed]]\nname = \"one\"\nline = \"b\"\nto = \"udp://127.0.0.1:9\"\n", "regatta.toml:"),
        (base.clone() + &line("b", "nowhere.ts"), "nowhere.ts"),
        (line("c", "a.ts") + &line("a", "nowhere.ts") + &feed("one", "a", &[&stays]), "nowhere.ts"),
        (elsewhere, "192.0.2.1"),
    ] {
        match reload(&entries).await {
            Err(Refusal::Sheet(why)) => assert!(why.contains(says), "{why}"),
            other => panic!("{other:?}"),
        }
        let view = show.view();
        assert_eq!(view.lines.iter().map(|l| l.name.as_str()).collect::<Vec<_>>(), ["a"], "{says}");
        assert_eq!(view.feeds[0].outs.len(), 1, "{says}");
        assert!(view.events.last().unwrap().text.contains("nothing changed"), "{:?}", view.events.last());
        stays.gets(50_000).await;
    }
    assert_eq!(reload(&base).await, Ok(Done::Reloaded(choir_core::sheet::Change::default())), "as it was");
    // A title is no reason to touch the link.
    let steady = Some(choir_core::facts::State::Steady);
    let before = until(&show, "a steady line", |v| v.lines[0].link.state == steady).await.lines[0].link.packets;
    let titled = base.replace("name = \"a\"", "name = \"a\"\ntitle = \"Finish\"");
    assert!(matches!(reload(&titled).await, Ok(Done::Reloaded(c)) if c.to_string() == "line a changed, link kept"));
    let view = until(&show, "the title", |v| v.lines[0].title == "Finish").await;
    assert!(view.lines[0].link.packets >= before, "{view:#?}");
    assert_eq!(view.lines[0].link.state, steady, "{view:#?}");
    show.stop().await;
}

/// What goes against the stream of a way out ends with it, or a sheet that is saved all day fills
/// the machine with tasks.
#[tokio::test(flavor = "multi_thread")]
async fn a_way_out_that_goes_leaves_no_task_behind() {
    let dir = TempDir::new().unwrap();
    clip(&dir, "a.ts", 0x11);
    let stays = Receiver::new();
    let base = line("a", "a.ts") + &feed("one", "a", &[&stays]);
    let base = format!("[stave]\naddress = \"127.0.0.1\"\nport = {}\ndiscover = false\n{base}", choir_rig::port());
    let port = choir_rig::port();
    let rtsp = format!("to = [\"rtsp://127.0.0.1:{port}\", ");
    let served = base.replace("to = [", &rtsp) + "stave = { name = \"Finish Tower\", steer = true }\n";
    let show = Show::start(&sheet(&served), dir.path()).await.unwrap();
    let (mut without, runtime) = (Vec::new(), tokio::runtime::Handle::current());
    for _ in 0..3 {
        show.apply(&sheet(&base)).await.unwrap();
        stays.gets(20_000).await;
        without.push(runtime.metrics().num_alive_tasks());
        std::net::TcpListener::bind(("127.0.0.1", port)).expect("its port is given back");
        show.apply(&sheet(&served)).await.unwrap();
        stays.gets(20_000).await;
    }
    assert_eq!(without[0], without[2], "{without:?}");
    show.stop().await;
}

mod timing {
    use super::*;
    use choir_core::units::parse_bitrate;
    use choir_sim::stalls::{on_time, timed};

    /// Media that begins within a second of the grid is no rate yet.
    #[test]
    fn what_a_way_out_sends_is_told_once_it_has_done_so_for_a_second() {
        timed(|| {
            tokio::runtime::Runtime::new().unwrap().block_on(async {
                let (dir, out, port) = (TempDir::new().unwrap(), Receiver::new(), choir_rig::port());
                let entries = format!("[[line]]\nname = \"a\"\nfrom = \"udp://127.0.0.1:{port}\"\n") + &feed("one", "a", &[&out]);
                let show = Show::start(&sheet(&entries), dir.path()).await.unwrap();
                // Half a second before the end of the first, at 100 packets a second.
                let sending = tokio::spawn(async move {
                    let socket = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
                    let begin = tokio::time::Instant::now() + Duration::from_millis(600);
                    let mut tick = tokio::time::interval_at(begin, Duration::from_millis(10));
                    loop {
                        tick.tick().await;
                        socket.send_to(&[0x47; 7 * 188], ("127.0.0.1", port)).await.unwrap();
                    }
                });
                let says = |v: &ShowView| {
                    v.events
                        .iter()
                        .find_map(|e| e.text.strip_prefix("steady: sending ").filter(|_| e.subject == "feed one").map(str::to_owned))
                };
                let told = says(&until(&show, "a rate", |v| says(v).is_some()).await).unwrap();
                let mbps = parse_bitrate(&told).unwrap().0 as f64 / 1e6;
                on_time("the rate", || assert!((0.9..1.2).contains(&mbps), "{told}, of 1.05 Mbps"));
                sending.abort();
                show.stop().await;
            });
        });
    }
}
