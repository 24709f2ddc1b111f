//! Device clients against servers that do not behave: slow, endless, nonsense, closing; and VISCA
//! among strangers.

#![allow(clippy::panic, reason = "a helper that fails its test")]

use choir_core::{device::Control, find::plan, sheet::read_sheet};
use choir_devices::{
    discover::{FindEvent, FindOptions, Pacer, find},
    http::{Ask, HttpError, ask},
    onvif::{OnvifError, Session, who_is_there},
    visca::{Visca, ViscaError},
};
use choir_host::interfaces::own_interfaces;
use choir_proto::{
    auth::Credentials,
    onvif::{Fault, device, soap::envelope},
    visca::{Ask as Say, Drive, Header, Payload, Refusal, Reply},
};
use choir_show::ptz::Ptz;
use std::{
    mem::discriminant,
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, UdpSocket},
    sync::{mpsc, oneshot},
};

fn run(test: impl Future<Output = ()>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime");
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(60), test).await.expect("in time") });
}

/// Answers each request with what `answer` makes of its number and text; counts them.
async fn server(answer: impl Fn(u32, &str) -> Vec<u8> + Send + Sync + 'static) -> (SocketAddr, Arc<AtomicU32>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let at = listener.local_addr().expect("an address");
    let count = Arc::new(AtomicU32::new(0));
    let (counted, answer) = (count.clone(), Arc::new(answer));
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let (counted, answer) = (counted.clone(), answer.clone());
            tokio::spawn(async move {
                let mut request = Vec::new();
                // A request is here when its body is: all of ours are SOAP.
                while !request.windows(14).any(|w| w == b"</s:Envelope>\"" || w.ends_with(b"</s:Envelope>")) {
                    if stream.read_buf(&mut request).await.unwrap_or(0) == 0 {
                        break;
                    }
                    if request.starts_with(b"GET") {
                        break;
                    }
                }
                let n = counted.fetch_add(1, Ordering::SeqCst);
                let _ = stream.write_all(&answer(n, &String::from_utf8_lossy(&request))).await;
            });
        }
    });
    (at, count)
}

fn ok(body: &str) -> Vec<u8> {
    format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{body}", body.len()).into_bytes()
}

fn clock() -> String {
    envelope(
        "",
        "<tds:GetSystemDateAndTimeResponse><tds:SystemDateAndTime><tt:UTCDateTime><tt:Time><tt:Hour>1</tt:Hour><tt:Minute>2</tt:Minute>\
         <tt:Second>3</tt:Second></tt:Time><tt:Date><tt:Year>2020</tt:Year><tt:Month>1</tt:Month><tt:Day>1</tt:Day></tt:Date>\
         </tt:UTCDateTime></tds:SystemDateAndTime></tds:GetSystemDateAndTimeResponse>",
    )
}

#[test]
fn an_answer_is_bounded_in_time_and_size() {
    run(async {
        let (endless, _) = server(|_, _| {
            let mut all = b"HTTP/1.1 200 OK\r\n\r\n".to_vec();
            all.resize(3 << 20, b'x');
            all
        })
        .await;
        let get = |at| ask(at, Ask { path: "/", ..Ask::default() }, Duration::from_secs(5));
        assert!(matches!(get(endless).await, Err(HttpError::Strange(_))));
        let (nonsense, _) = server(|_, _| b"SSH-2.0-boathouse\r\n".to_vec()).await;
        assert!(matches!(get(nonsense).await, Err(HttpError::Strange(_))));
        let (nothing, _) = server(|_, _| Vec::new()).await;
        assert!(matches!(get(nothing).await, Err(HttpError::Strange(_))));
        let silent = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let at = silent.local_addr().expect("an address");
        let begun = Instant::now();
        let error = ask(at, Ask { path: "/", ..Ask::default() }, Duration::from_millis(200)).await;
        assert!(matches!(error, Err(HttpError::Silent(_))) && begun.elapsed() < Duration::from_secs(5), "{error:?}");
        drop(silent);
        assert!(matches!(get(at).await, Err(HttpError::Connect(_))));
    });
}

#[test]
fn what_is_no_onvif_is_told_apart() {
    run(async {
        for body in ["<html><body>camera</body></html>", "", "{\"json\": true}", "<!DOCTYPE x><x/>", "<a><b></a>"] {
            let (at, _) = server(move |_, _| ok(body)).await;
            assert!(who_is_there(at).await.expect("it answers").is_none(), "{body}");
            let error = Session::open(at.ip(), Some(at.port()), None).await.expect_err("no ONVIF");
            assert!(matches!(error, OnvifError::NotOnvif { .. }), "{body}: {error}");
        }
    });
}

#[test]
fn a_device_whose_answers_change_for_the_worse_is_left_with_a_reason() {
    run(async {
        // Who it is, it tells anyone; then what it says makes less and less sense.
        let (at, _) = server(|n, request| match n {
            _ if request.contains("GetSystemDateAndTime") => ok(&clock()),
            _ if request.contains("GetDeviceInformation") => {
                ok(&envelope("", "<tds:GetDeviceInformationResponse><tds:Model>Heron 20</tds:Model></tds:GetDeviceInformationResponse>"))
            }
            _ if request.contains("GetServices") => {
                assert!(!request.contains("Security"), "{request}");
                ok(&envelope("", "<tds:GetServicesResponse/>"))
            }
            // Clock, identity and services at once, and services once more, since there were none.
            4 => ok(&Fault::message(&["Receiver", "OutofMemory"], "no more")),
            5 => ok("<s:Envelope xmlns:s=\"x\"><s:Body>"),
            _ => b"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n".to_vec(),
        })
        .await;
        let mut s = Session::open(at.ip(), Some(at.port()), None).await.expect("a session");
        assert_eq!((s.identity.model.as_str(), s.clock_ahead_ms().is_some_and(|ms| ms < 0)), ("Heron 20", true));
        let none = s.call(choir_devices::onvif::Which::Media, &device::get_users()).await;
        assert!(matches!(none, Err(OnvifError::NoService { .. })), "{none:?}");
        let mut next = async || s.call(choir_devices::onvif::Which::Device, &device::get_users()).await.expect_err("no use").to_string();
        assert_eq!(next().await, "GetUsers: the device is out of memory; in its own words: no more");
        assert!(next().await.starts_with("GetUsers: the answer is not XML"));
        assert!(next().await.contains("nothing speaks ONVIF here"));
    });
}

#[test]
fn no_password_goes_in_the_open_and_a_stale_nonce_is_no_refusal() {
    run(async {
        let unauthorized =
            |header: &str| format!("HTTP/1.1 401 No\r\nWWW-Authenticate: {header}\r\nContent-Length: 0\r\n\r\n").into_bytes();
        let credentials = || Some(Credentials::new("desk", "four oars"));
        let (at, count) = server(move |_, request| {
            assert!(!request.to_lowercase().contains("authorization"), "{request}");
            if request.contains("GetSystemDateAndTime") { ok(&clock()) } else { unauthorized("Basic realm=\"x\"") }
        })
        .await;
        let error = Session::open(at.ip(), Some(at.port()), credentials()).await.expect_err("refused by us");
        assert!(matches!(error, OnvifError::Open { .. }), "{error}");
        assert_eq!(count.load(Ordering::SeqCst), 3);
        // The first proof meets a nonce that has just grown old; the second is taken.
        let (at, count) = server(move |n, request| match n {
            _ if request.contains("GetSystemDateAndTime") => ok(&clock()),
            0..3 => unauthorized("Digest realm=\"x\", nonce=\"one\", qop=\"auth\""),
            3 => {
                assert!(request.contains("nonce=\"one\""), "{request}");
                unauthorized("Digest realm=\"x\", nonce=\"two\", qop=\"auth\", stale=true")
            }
            4 => {
                assert!(request.contains("nonce=\"two\"") && request.contains("nc=00000001"), "{request}");
                ok(&envelope("", "<tds:GetServicesResponse/>"))
            }
            5 => {
                assert!(request.contains("nc=00000002"), "{request}");
                ok(&envelope("", "<tds:GetDeviceInformationResponse/>"))
            }
            _ => unauthorized("Digest realm=\"x\", nonce=\"two\""),
        })
        .await;
        let mut s = Session::open(at.ip(), Some(at.port()), credentials()).await.expect("a session");
        assert!(s.login().contains("MD5 by HTTP"), "{}", s.login());
        for _ in 0..3 {
            let refused = s.call(choir_devices::onvif::Which::Device, &device::get_users()).await;
            assert!(matches!(refused, Err(OnvifError::Login { .. })), "{refused:?}");
        }
        assert_eq!(count.load(Ordering::SeqCst), 7, "refused once, nothing more is asked");
    });
}

#[test]
fn a_camera_is_heard_among_strangers_and_a_silent_one_is_given_up() {
    run(async {
        let socket = UdpSocket::bind("127.0.0.1:0").await.expect("a port");
        let at = socket.local_addr().expect("an address");
        tokio::spawn(async move {
            let mut buffer = [0; 64];
            let mut asked = 0;
            while let Ok((n, from)) = socket.recv_from(&mut buffer).await {
                let Some((h, message)) = Header::read(&buffer[..n]) else { continue };
                if h.kind == Payload::Control {
                    let _ = socket.send_to(&Header { kind: Payload::ControlReply, sequence: h.sequence }.datagram(&[1]), from).await;
                    continue;
                }
                asked += 1;
                // Junk, an answer to something else, half an answer; and only the second time the
                // right one.
                let other = Header { kind: Payload::Reply, sequence: h.sequence.wrapping_add(9) }.datagram(&Reply::Done(1).message(1));
                let right = Header { kind: Payload::Reply, sequence: h.sequence }.datagram(&Reply::value(&[0, 1, 2, 3]).message(1));
                for data in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[], &other, &right[..right.len() - 1]] {
                    let _ = socket.send_to(data, from).await;
                }
                if asked > 1 && Say::read(message).is_some() {
                    let _ = socket.send_to(&right, from).await;
                }
            }
        });
        let camera = Visca::open(at.ip(), Some(at.port()), Control::Visca, 1).await.expect("a way");
        assert_eq!(camera.ask(Say::ZoomPosition).await.expect("an answer"), [0, 1, 2, 3]);
        let nobody = Visca::open(at.ip(), Some(9), Control::Visca, 1).await.expect("a way");
        let error = nobody.ask(Say::Home).await.expect_err("nobody there");
        assert!(matches!(error, ViscaError::Refused { cause: Refusal::Silent, .. }), "{error}");
        assert!(matches!(Visca::open(at.ip(), Some(9), Control::ViscaTcp, 1).await, Err(ViscaError::Socket { .. })));
    });
}

#[test]
fn a_move_by_visca_lasts_as_long_as_it_should_though_each_answer_takes_half_a_second() {
    run(async {
        for (drive, begins, ends) in [
            (Drive { pan: 0.5, ..Drive::default() }, Say::Move(Drive { pan: 0.5, ..Drive::default() }), Say::StopMove),
            (Drive { zoom: 0.5, ..Drive::default() }, Say::Zoom(0.5), Say::StopZoom),
        ] {
            let socket = Arc::new(UdpSocket::bind("127.0.0.1:0").await.expect("a port"));
            let at = socket.local_addr().expect("an address");
            let (heard_tx, mut heard) = mpsc::channel(64);
            tokio::spawn(async move {
                let mut buffer = [0; 64];
                while let Ok((n, from)) = socket.recv_from(&mut buffer).await {
                    let Some((h, message)) = Header::read(&buffer[..n]) else { continue };
                    let mut answers = vec![Header { kind: Payload::ControlReply, sequence: h.sequence }.datagram(&[1])];
                    if let Some((_, say)) = Say::read(message).filter(|_| h.kind == Payload::Command) {
                        let _ = heard_tx.send((say, Instant::now())).await;
                        let reply = |r: Reply| Header { kind: Payload::Reply, sequence: h.sequence }.datagram(&r.message(1));
                        answers = vec![reply(Reply::Taken(1)), reply(Reply::Done(1))];
                    }
                    let socket = socket.clone();
                    tokio::spawn(async move {
                        // What it does, it does at once; only its word is slow.
                        if h.kind != Payload::Control {
                            tokio::time::sleep(Duration::from_millis(500)).await;
                        }
                        for a in answers {
                            let _ = socket.send_to(&a, from).await;
                        }
                    });
                }
            });
            let sheet = format!(
                "[show]\nname = \"Tarn Hollow Regatta\"\n[[device]]\nname = \"finish-tower\"\naddress = \"{at}\"\ncontrol = \"visca\"\n"
            );
            let device = read_sheet(&sheet).0.expect("a sheet").devices.remove(0);
            let ptz = Ptz::open(&device, Control::Visca, None).await.expect("a way");
            ptz.move_for(drive, Duration::from_millis(600), std::future::pending()).await.expect("moved and stopped");
            let (mut began, mut ended) = (None, None);
            while let Ok((say, when)) = heard.try_recv() {
                // Speeds come in the camera's own steps.
                if discriminant(&say) == discriminant(&begins) {
                    began.get_or_insert(when);
                } else if say == ends {
                    ended.get_or_insert(when);
                }
            }
            let took = ended.expect("a stop") - began.expect("a move");
            assert!((Duration::from_millis(550)..Duration::from_millis(950)).contains(&took), "{ends:?}: {took:?} instead of 600 ms");
        }
    });
}

#[test]
fn the_pace_is_kept_by_many_at_once_and_a_look_can_be_ended() {
    run(async {
        let pacer = Arc::new(Pacer::new(1000));
        let begun = Instant::now();
        let tasks: Vec<_> = (0..50)
            .map(|_| {
                let pacer = pacer.clone();
                tokio::spawn(async move { pacer.take(4).await })
            })
            .collect();
        for task in tasks {
            task.await.expect("done");
        }
        // Two hundred at a thousand a second; the last may go when the one before has gone.
        assert!(begun.elapsed() >= Duration::from_millis(190), "{:?}", begun.elapsed());
        // Nobody is there, and no test is given addresses of it.
        let scan = plan(Some("127.67.0.0/20"), &own_interfaces().expect("interfaces")).expect("a range");
        let (tx, mut events) = mpsc::channel(8);
        let (end, ended) = oneshot::channel::<()>();
        let look = tokio::spawn(async move { find(scan, &FindOptions::default(), tx, async { drop(ended.await) }).await });
        let mut end = Some(end);
        while let Some(event) = events.recv().await {
            if let (FindEvent::Progress(n, of), true) = (event, end.is_some()) {
                assert!(n <= of && of == 4094);
                end.take().expect("once").send(()).expect("it looks");
            }
        }
        let result = look.await.expect("ends").expect("looked");
        assert!((1..4094).contains(&result.asked), "{}", result.asked);
    });
}
