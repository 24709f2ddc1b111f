//! A link and the far end that its card describes join, over real sockets; a wrong far end fails
//! the line check at the step that is wrong.

#![allow(clippy::panic, reason = "a helper that fails its test")]

use bytes::Bytes;
use choir_core::{
    card::{far_of_feed, far_of_line},
    linecheck::{Limits, Row, Step},
    link::{Link, Mode, parse_url},
    secret::{Secret, SecretText},
    sheet::{Sheet, read_sheet},
};
use choir_host::Stop;
use choir_ports::{
    AnyOutlet, Arrival, Flow, Intake, LinkStatus, Outlet, Way, open_ways,
    survey::{Answering, SurveyError, facts, measure},
};
use choir_proto::survey::Plan;
use choir_show::{
    Show,
    linecheck::{Patience, Watched, check},
};
use proptest::prelude::*;
use std::{
    net::{Ipv4Addr, SocketAddr, UdpSocket},
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};
use tokio::{io::AsyncReadExt, io::AsyncWriteExt, runtime::Runtime, sync::mpsc, time::timeout};

/// Every case has addresses of its own: this end and the far one.
fn addresses() -> [Ipv4Addr; 2] {
    let net = choir_rig::net();
    [net.at(1), net.at(2)]
}

fn link(url: &str) -> Link {
    parse_url(url).0.unwrap_or_else(|| panic!("{url}"))
}

#[derive(Default)]
struct Count(AtomicU32);

impl Intake for Count {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        self.0.fetch_add(arrivals.drain(..).len() as u32, Ordering::Relaxed);
    }
}

/// What the card leaves to the far end: which of its own addresses it uses.
fn at_home(far: &mut Link, own: Ipv4Addr) {
    match far {
        Link::Srt(s) if s.mode == Mode::Listener => s.host = Some(own.to_string()),
        Link::Srt(s) if s.mode == Mode::Rendezvous => s.bind = Some((own.into(), Some(s.bind.and_then(|b| b.1).unwrap_or(s.port)))),
        Link::Udp(u) if u.host.is_none() => u.host = Some(own.to_string()),
        _ => {}
    }
}

/// Opens both ends, sends into one, and waits until it comes out of the other.
async fn join(here: Link, far: Link, inbound: bool) -> bool {
    let (end, stop) = Stop::new();
    let (count, outlet) = (Arc::new(Count::default()), Outlet::new());
    let way = |subject: &str, link: Link, takes: bool| Way {
        name: subject.into(),
        link,
        flow: if takes { Flow::In(count.clone()) } else { Flow::Out(outlet.clone().into()) },
        status: LinkStatus::new(),
        stave: None,
        shard: None,
    };
    let ways = vec![way("here", here, inbound), way("there", far, !inbound)];
    let tasks = open_ways(ways, Duration::from_millis(120), Path::new("."), &stop, &Stop::given()).await.expect("both open");
    let came = timeout(Duration::from_secs(10), async {
        while count.0.load(Ordering::Relaxed) == 0 {
            outlet.push(Bytes::from(vec![0x47; 1316]));
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    });
    let joined = came.await.is_ok();
    end.now();
    for task in tasks {
        let _ = timeout(Duration::from_secs(2), task.ended()).await;
    }
    joined
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn a_line_and_the_link_built_from_its_card_join(
        mode in 0..4_u8, port in 20_000..30_000_u16, latency in 20..200_u64, id in "[a-z]{0,8}", key in 0..4_u8, other in any::<bool>(),
    ) {
        let [here, there] = addresses();
        let mut url = match mode {
            0 => format!("srt://{here}:{port}?mode=listener"),
            1 => format!("srt://{there}:{port}?mode=caller&bind={here}"),
            2 => format!("srt://{there}:{port}?mode=rendezvous&bind={here}:{}", if other { port + 1 } else { port }),
            _ => format!("udp://{here}:{port}"),
        };
        if mode < 3 {
            url += &format!("&latency={latency}");
            // Both ends of a rendezvous are equal: neither has a stream ID to ask for.
            if !id.is_empty() && mode < 2 {
                url += &format!("&streamid={id}");
            }
            if key > 0 {
                url += &format!("&pbkeylen={}&passphrase=cox+and+four", 8 + key * 8);
            }
        }
        let mut sheet = Sheet::of_one("Tarn Hollow Regatta", link(&url), Vec::new());
        sheet.show.address = Some(here.to_string());
        let mut far = far_of_line(&sheet, &sheet.lines[0]).expect("a far end");
        at_home(&mut far, there);
        let joined = Runtime::new().expect("a runtime").block_on(join(link(&url), far, true));
        prop_assert!(joined, "{url}");
    }
}

#[test]
fn a_feed_and_the_link_built_from_its_card_join() {
    for to in
        ["srt://{there}:{port}?mode=caller&latency=60", "srt://{here}:{port}?mode=listener&passphrase=cox+and+four", "udp://{there}:{port}"]
    {
        let [here, there] = addresses();
        let url = to.replace("{here}", &here.to_string()).replace("{there}", &there.to_string()).replace("{port}", "21000");
        let mut sheet = Sheet::of_one("Tarn Hollow Regatta", link("clip.ts"), vec![link(&url)]);
        sheet.show.address = Some(here.to_string());
        let mut far = far_of_feed(&sheet, &sheet.feeds[0], &sheet.feeds[0].to[0].link).expect("a far end");
        at_home(&mut far, there);
        assert!(Runtime::new().expect("a runtime").block_on(join(link(&url), far, false)), "{url}");
    }
}

async fn checked(text: &str) -> Vec<Row> {
    let (sheet, findings) = read_sheet(text);
    let sheet = sheet.unwrap_or_else(|| panic!("{findings:?}"));
    let show = Show::start(&sheet, Path::new(".")).await.expect("a show");
    let lines: Vec<String> = sheet.lines.iter().map(|l| l.name.clone()).collect();
    let patience = Patience { wait: Duration::from_secs(8), look: Duration::from_secs(1) };
    let (tell, _progress) = mpsc::channel(1);
    let (_end, stop) = Stop::new();
    let done = check(&sheet, Watched::Here(show.clone()), &lines, &Limits::default(), patience, tell, stop).await;
    show.stop().await;
    done.rows
}

/// A way out that joins and says nothing.
async fn silent(urls: &[String], stop: &Stop) {
    let ways = urls.iter().map(|u| Way {
        name: "far end".into(),
        link: link(u),
        flow: Flow::Out(AnyOutlet::Ts(Outlet::new())),
        status: LinkStatus::new(),
        stave: None,
        shard: None,
    });
    open_ways(ways.collect(), Duration::from_millis(120), Path::new("."), stop, &Stop::given()).await.expect("far ends");
}

#[test]
fn each_failure_of_a_line_is_told_at_its_step() {
    Runtime::new().expect("a runtime").block_on(async {
        let [here, there] = addresses();
        let (_end, stop) = Stop::new();
        let deaf = UdpSocket::bind((there, 22_002)).expect("a port");
        // Something that speaks, but not RTSP.
        let web = tokio::net::TcpListener::bind((there, 22_554)).await.expect("a port");
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = web.accept().await {
                let mut request = [0; 512];
                let _ = stream.read(&mut request).await;
                let _ = stream.write_all(b"SSH-2.0-something\r\n\r\n").await;
            }
        });
        let echo = tokio::net::UdpSocket::bind((there, 22_009)).await.expect("a port");
        tokio::spawn(async move {
            let mut data = [0; 2048];
            while let Ok((_, from)) = echo.recv_from(&mut data).await {
                let _ = echo.send_to(b"what do you want?", from).await;
            }
        });
        // Datagrams that are no transport stream, all the while.
        let noise = UdpSocket::bind((there, 0)).expect("a port");
        let target = SocketAddr::from((here, 22_007));
        let hum = tokio::spawn(async move {
            let mut tick = tokio::time::interval(Duration::from_millis(5));
            loop {
                tick.tick().await;
                let _ = noise.send_to(&[0x47, 0x1f, 0xff, 0x10].repeat(47), target);
            }
        });
        let far = [
            format!("srt://{here}:22003?mode=caller&passphrase=another+secret"),
            format!("srt://{here}:22004?mode=caller"),
            format!("srt://{there}:22005?mode=listener&streamid=theirs"),
            format!("srt://{there}:22006?mode=listener"),
        ];
        silent(&far, &stop).await;
        let line = |name: &str, url: String| format!("[[line]]\nname = \"{name}\"\nfrom = \"{url}\"\n");
        let text = [
            "[show]\nname = \"Tarn Hollow Regatta\"\n".to_owned(),
            // Longer than a name may be: refused here, without asking any name server.
            line("name", format!("srt://{}:22000", "a".repeat(70))),
            line("closed", format!("srt://{there}:22001?bind={here}")),
            line("deaf", format!("srt://{there}:22002?bind={here}")),
            line("secret", format!("srt://{here}:22003?mode=listener&passphrase-file=secret.txt")),
            line("one-sided", format!("srt://{here}:22004?mode=listener&passphrase-file=secret.txt")),
            line("stream-id", format!("srt://{there}:22005?bind={here}&streamid=ours")),
            line("silent", format!("srt://{there}:22006?bind={here}")),
            line("noise", format!("udp://{here}:22007")),
            line("nobody", format!("srt://{here}:22008?mode=listener")),
            line("chatter", format!("srt://{there}:22009?bind={here}")),
            line("stranger", format!("rtsp://{there}:22554/main")),
            line("no-rtsp", format!("rtsp://{there}:22555/main")),
        ]
        .concat();
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::write(folder.path().join("secret.txt"), "cox and four\n").expect("written");
        let text = text.replace("secret.txt", &folder.path().join("secret.txt").display().to_string());
        let rows = checked(&text).await;
        hum.abort();
        drop(deaf);
        let said: Vec<(String, Step, String)> = rows
            .iter()
            .map(|r| {
                let first = r.first_failure().unwrap_or_else(|| panic!("{r:#?}"));
                (r.subject.replace("line ", ""), first.step, first.found.clone())
            })
            .collect();
        let wanted = [
            ("name", Step::Name, "the name aaaa"),
            ("closed", Step::Port, "the host answers, but nothing listens on the port"),
            ("deaf", Step::Host, "no answer from"),
            ("secret", Step::Encryption, "refused: the passphrase differs"),
            ("one-sided", Step::Encryption, "refused: only one end has a passphrase"),
            ("stream-id", Step::Handshake, "stream ID refused"),
            ("silent", Step::Picture, "connected, no media"),
            ("noise", Step::Picture, "receiving media without a readable picture"),
            ("nobody", Step::Handshake, "no caller yet"),
            ("chatter", Step::Handshake, "something answers there, but not SRT"),
            ("stranger", Step::Handshake, "something answers there, but not RTSP"),
            ("no-rtsp", Step::Port, "the host answers, but nothing listens on the port"),
        ];
        assert_eq!(said.len(), wanted.len());
        for ((name, step, found), (w_name, w_step, w_found)) in said.iter().zip(wanted) {
            assert!(name == w_name && *step == w_step && found.starts_with(w_found), "{name}: {step:?}: {found}");
        }
    });
}

#[test]
fn a_path_is_measured_over_sockets_and_refusals_are_told() {
    Runtime::new().expect("a runtime").block_on(async {
        let [here, there] = addresses();
        let at = SocketAddr::from((there, 7099));
        let answering = Answering::open(at).expect("a port");
        let (end, stop) = Stop::new();
        let (peers, mut seen) = mpsc::channel(8);
        let server = tokio::spawn(answering.run("four oars and a cox", 4_000_000, Duration::from_secs(3), peers, stop.clone()));
        let ask = |token: &'static str, rate_bps, to: SocketAddr| {
            let (tell, _) = mpsc::channel(1);
            measure(to, Some((here, 0).into()), token, Plan { rate_bps, lasts_ms: 1000 }, tell, stop.clone())
        };
        let survey = ask("four oars and a cox", 2_000_000, at).await.expect("measured");
        assert!(survey.there.received > 150 && survey.back.received > 150 && survey.pings > 10, "{survey:?}");
        assert_eq!(survey.size, Some(1500));
        assert!(survey.there.train_bps.is_some() && facts(&survey, true).rtt < Duration::from_millis(500));
        assert!(seen.recv().await.flatten().is_some(), "the answerer says whom it answers");
        let err = |r: Result<_, SurveyError>| r.map(|_: choir_proto::survey::Survey| ()).expect_err("refused").to_string();
        assert!(err(ask("four oars and a cox", 8_000_000, at).await).contains("at most 4.0 Mbps for 3.0 s"));
        assert!(err(ask("four oars and a cox", 2_000_000, (there, 7098).into()).await).contains("nothing listens"));
        assert!(err(ask("another token at all", 2_000_000, at).await).contains("no answer"));
        end.now();
        assert_eq!(server.await.expect("ended").expect("well"), 1);
    });
}

#[test]
fn a_secret_of_the_card_is_that_of_the_line() {
    let from = link("srt://127.20.0.1:7103?mode=listener&passphrase=cox+and+four");
    let mut sheet = Sheet::of_one("Tarn Hollow Regatta", from, Vec::new());
    sheet.show.address = Some("127.20.0.1".into());
    let far = far_of_line(&sheet, &sheet.lines[0]).expect("a far end");
    assert_eq!(far.secrets().next().map(|(_, s)| s), Some(&Secret::Literal(SecretText::new("cox+and+four"))));
}
