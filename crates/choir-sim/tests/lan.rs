//! Cameras that are pulled, feeds that are served, groups: every transport and every bad manner,
//! down to the numbers in the decoded pictures.

#![allow(clippy::panic, reason = "a helper that fails its test")]

use choir_core::{
    facts::Contact,
    link::{Link, parse_url},
    sheet::{Expect, Sheet},
    units::Bitrate,
};
use choir_host::Stop;
use choir_proto::{rtsp::Credentials, ts::AccessUnit};
use choir_show::{
    Show,
    inspect::{Look, inspect},
};
use choir_sim::{
    camera::{CameraSettings, Manner, RtspCamera, RtspCameraSettings, read_blocks, start_rtsp},
    stalls::{on_time, timed},
    switcher::{self, Input, Tap},
};
use openh264::{decoder::Decoder, formats::YUVSource};
use rust_h265::PixelData;
use std::{
    net::SocketAddr,
    path::Path,
    sync::{Arc, Mutex, atomic::Ordering},
    time::Duration,
};
use tokio::sync::watch;

const PATIENCE: Duration = Duration::from_secs(40);
const PASSWORD: &str = "four oars";

fn run(test: impl Future<Output = ()>) {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime").block_on(test);
}

fn link(text: &str) -> Link {
    parse_url(text).0.unwrap_or_else(|| panic!("{text}: {:?}", parse_url(text).1))
}

fn settings() -> RtspCameraSettings {
    let nowhere = link("-");
    let main =
        CameraSettings { size: (320, 180), bitrate: Bitrate(1_000_000), keyframe: 0.4, ..CameraSettings::new("finish-tower", nowhere) };
    let sub = CameraSettings { size: (160, 90), bitrate: Bitrate(300_000), ..main.clone() };
    RtspCameraSettings {
        listen: ([127, 0, 0, 1], 0).into(),
        main,
        sub: Some(sub),
        credentials: None,
        group: None,
        manners: Vec::new(),
        head: None,
    }
}

/// Reads the numbers in the pictures that come by.
struct Reader {
    numbers: Arc<Mutex<Vec<u16>>>,
    count: watch::Receiver<usize>,
}

enum Decode {
    Avc(Box<Decoder>),
    Hevc(Box<rust_h265::Decoder>),
}

impl Decode {
    fn number(&mut self, unit: &AccessUnit) -> Vec<u16> {
        match self {
            Self::Avc(d) => {
                let Ok(Some(yuv)) = d.decode(&unit.data) else { return Vec::new() };
                let (w, h) = yuv.dimensions();
                vec![read_blocks(yuv.y(), w, h, yuv.strides().0).unwrap_or(u16::MAX)]
            }
            Self::Hevc(d) => {
                let pictures = rust_h265::parse_annex_b(&unit.data).into_iter().filter_map(|nal| d.decode_nal(&nal).ok().flatten());
                let number = |p: rust_h265::Frame| {
                    let PixelData::U8(luma) = &p.y else { return u16::MAX };
                    let w = p.width as usize;
                    read_blocks(luma, w, p.height as usize, w).unwrap_or(u16::MAX)
                };
                pictures.map(number).collect()
            }
        }
    }
}

fn reader(h265: bool) -> (Reader, Tap) {
    let numbers: Arc<Mutex<Vec<u16>>> = Arc::default();
    let (tx, count) = watch::channel(0);
    let shared = numbers.clone();
    let mut decode = if h265 { Decode::Hevc(Box::default()) } else { Decode::Avc(Box::new(Decoder::new().expect("a decoder"))) };
    let tap = Box::new(move |unit: &AccessUnit| {
        if unit.kind.is_video() {
            let mut all = shared.lock().expect("lock");
            all.extend(decode.number(unit));
            tx.send_replace(all.len());
        }
    });
    (Reader { numbers, count }, tap)
}

impl Reader {
    async fn at_least(&mut self, n: usize) -> Vec<u16> {
        let got = tokio::time::timeout(PATIENCE, self.count.wait_for(|c| *c >= n)).await;
        let numbers = self.numbers.lock().expect("lock").clone();
        got.unwrap_or_else(|_| panic!("only {} pictures: {numbers:?}", numbers.len())).expect("counts");
        numbers
    }
}

/// The loop has fifty frames; from the first on each must follow the one before.
fn assert_running_on(numbers: &[u16]) {
    for (n, pair) in numbers.windows(2).enumerate() {
        assert_eq!((pair[0] + 1) % 50, pair[1] % 50, "after {n} pictures: {numbers:?}");
    }
}

async fn open(url: &str, h265: bool, stop: &Stop) -> (Reader, Arc<Input>) {
    let (reader, tap) = reader(h265);
    let input = switcher::open_input("input-1", &link(url), Duration::from_millis(60), Some(tap), None, stop).await.expect("an input");
    (reader, input)
}

fn url(camera: &RtspCamera, path: &str) -> String {
    format!("rtsp://{}/{path}", camera.addr)
}

/// Pulls a camera with these manners until its pictures have run on for a while.
async fn pulled(manners: &[Manner], credentials: Option<&str>, rest: &str, pictures: usize) -> (RtspCamera, Arc<Input>) {
    let (end, stop) = Stop::new();
    let credentials = credentials.map(|p| Credentials::new("desk", p));
    let login = if credentials.is_some() { format!("desk:{}@", PASSWORD.replace(' ', "%20")) } else { String::new() };
    let camera =
        start_rtsp(RtspCameraSettings { manners: manners.to_vec(), credentials, ..settings() }, stop.clone()).await.expect("a camera");
    let (mut reader, input) = open(&format!("rtsp://{login}{}/{rest}", camera.addr), false, &stop).await;
    let numbers = reader.at_least(pictures).await;
    on_time("every picture comes", || assert_running_on(&numbers));
    on_time("nothing is missing", || assert_eq!(input.view().frames_missing, 0, "{manners:?}"));
    end.now();
    (camera, input)
}

fn notes(input: &Input) -> String {
    input.status.look().notices().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

async fn comes_to(wanted: &dyn Fn() -> bool) {
    choir_rig::until("come to it", PATIENCE, wanted, |is| *is).await;
}

#[test]
fn wrong_credentials_are_tried_twice_and_never_again() {
    run(async {
        let (end, stop) = Stop::new();
        for manners in [vec![], vec![Manner::ManyProofs]] {
            let credentials = Some(Credentials::new("desk", "another password"));
            let camera = start_rtsp(RtspCameraSettings { credentials, manners, ..settings() }, stop.clone()).await.expect("a camera");
            let (_, input) = open(&format!("rtsp://desk:wrong@{}/main", camera.addr), false, &stop).await;
            comes_to(&|| notes(&input).contains("stopped after two attempts")).await;
            assert_eq!(camera.counts.refused.load(Ordering::Relaxed), 2);
            assert!(!notes(&input).contains("wrong@"), "no secret in a note");
            // Held and released by the engineer it asks again.
            input.status.control.set_held(true);
            comes_to(&|| input.status.look().contact == Contact::Held).await;
            assert_eq!(camera.counts.refused.load(Ordering::Relaxed), 2, "not asked meanwhile");
            input.status.control.set_held(false);
            comes_to(&|| camera.counts.refused.load(Ordering::Relaxed) == 3).await;
        }
        end.now();
    })
}

fn free() -> SocketAddr {
    ([127, 0, 0, 1], choir_rig::port()).into()
}

/// A show of one pulled line with these ways out.
async fn show(from: &str, to: &[&str]) -> Show {
    let mut sheet = Sheet::of_one("Tarn Hollow Regatta", link(from), to.iter().map(|t| link(t)).collect());
    sheet.show.latency = Duration::from_millis(80);
    (sheet.lines[0].name, sheet.feeds[0].line) = ("finish-tower".into(), "finish-tower".into());
    sheet.feeds[0].name = "boathouse-1".into();
    Show::start(&sheet, Path::new(".")).await.expect("a show")
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn every_transport_brings_every_picture() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let group = Some(([239, 20, 1, 1].into(), choir_rig::port()));
                let camera = start_rtsp(RtspCameraSettings { group, ..settings() }, stop.clone()).await.expect("a camera");
                let mut readers = Vec::new();
                for (path, how) in [
                    ("main#transport=udp", "UDP"),
                    ("main#transport=tcp", "TCP"),
                    ("main#transport=multicast", "multicast"),
                    ("sub", "UDP"),
                ] {
                    readers.push((path, how, open(&url(&camera, path), false, &stop).await));
                }
                for (path, how, (reader, input)) in &mut readers {
                    let numbers = reader.at_least(75).await;
                    on_time("every picture comes", || assert_running_on(&numbers));
                    let (view, live) = (input.view(), input.status.look());
                    on_time("nothing is missing", || {
                        assert_eq!((view.frames_missing, live.how.clone()), (0, Some(format!("RTP by {how}"))), "{path}")
                    });
                    assert_eq!(view.size, Some(if path.starts_with("sub") { (160, 90) } else { (320, 180) }));
                    on_time("nothing is missing", || assert!(live.totals().packets > 100 && live.totals().missing == 0));
                }
                assert_eq!(camera.statuses[0].look().how.as_deref(), Some("3 viewers 1 by TCP, 1 by UDP, 1 by multicast"));
                end.now();
            })
        });
    }

    #[test]
    fn h265_comes_as_well() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let main = CameraSettings { h265: true, ..settings().main };
                let camera = start_rtsp(RtspCameraSettings { main, sub: None, ..settings() }, stop.clone()).await.expect("a camera");
                for path in ["main#transport=udp", "main#transport=tcp"] {
                    let (mut reader, input) = open(&url(&camera, path), true, &stop).await;
                    let numbers = reader.at_least(40).await;
                    on_time("every picture comes", || assert_running_on(&numbers));
                    on_time("nothing is missing", || assert_eq!((input.view().frames_missing, input.view().size), (0, Some((960, 540)))));
                }
                end.now();
            })
        });
    }

    #[test]
    fn what_cameras_get_wrong_in_words_is_understood() {
        timed(|| {
            run(async {
                use Manner::*;
                for manners in [
                    vec![AbsoluteControl, MetadataTrack, OddHeaders],
                    vec![WrongBase, WrongProfile],
                    vec![NoBase, SetsInBand, NoReports],
                    vec![SetsInDescription, NoGetParameter],
                    vec![Latm, LyingMarkers],
                ] {
                    let (_, input) = pulled(&manners, None, "main", 40).await;
                    if manners.contains(&MetadataTrack) {
                        assert!(notes(&input).contains("track 3 (application vnd.finish-line.metadata) is ignored"), "{}", notes(&input));
                    }
                }
            })
        });
    }

    #[test]
    fn a_track_without_control_and_a_path_that_has_moved_are_found() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let main = CameraSettings { audio: false, ..settings().main };
                let manners = vec![Manner::NoControl, Manner::Redirects, Manner::NoMarkers];
                let camera = start_rtsp(RtspCameraSettings { main, manners, ..settings() }, stop.clone()).await.expect("a camera");
                let (mut reader, input) = open(&url(&camera, "old"), false, &stop).await;
                let numbers = reader.at_least(40).await;
                on_time("every picture comes", || assert_running_on(&numbers));
                assert!(notes(&input).contains("redirected to rtsp://"), "{}", notes(&input));
                end.now();
            })
        });
    }

    #[test]
    fn every_way_of_proof_is_answered() {
        timed(|| {
            run(async {
                use Manner::*;
                for manners in [vec![], vec![ProofAtSetup], vec![OldNonces], vec![ManyProofs]] {
                    let (camera, input) = pulled(&manners, Some(PASSWORD), "main", 30).await;
                    let how = input.status.look().how.expect("how");
                    assert!(how.contains(if manners.contains(&ManyProofs) { "SHA-256" } else { "MD5" }), "{how}");
                    assert_eq!(camera.counts.plays.load(Ordering::Relaxed), 1);
                }
            })
        });
    }

    #[test]
    fn without_udp_the_connection_is_used_and_it_is_said() {
        timed(|| {
            run(async {
                for manner in [Manner::NoUdp, Manner::SilentUdp] {
                    let (_, input) = pulled(&[manner], None, "main", 30).await;
                    assert_eq!(input.status.look().how.as_deref(), Some("RTP by TCP"));
                    assert!(notes(&input).contains("asking for RTP over TCP instead"), "{}", notes(&input));
                }
            })
        });
    }

    #[test]
    fn short_sessions_are_kept_alive() {
        timed(|| {
            run(async {
                for manners in [vec![Manner::ShortSessions], vec![Manner::ShortSessions, Manner::NoGetParameter]] {
                    let (camera, _) = pulled(&manners, None, "main", 110).await;
                    let alive = camera.counts.keep_alives.load(Ordering::Relaxed);
                    on_time("in time", || {
                        assert!((1..=4).contains(&alive), "{alive} signs of life in some four seconds of sessions of four")
                    });
                    assert_eq!(camera.counts.plays.load(Ordering::Relaxed), 1);
                }
            })
        });
    }

    #[test]
    fn a_camera_that_starts_anew_is_a_new_session_and_the_picture_goes_on() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let camera =
                    start_rtsp(RtspCameraSettings { manners: vec![Manner::Restarts], ..settings() }, stop.clone()).await.expect("a camera");
                let (mut reader, input) = open(&url(&camera, "main"), false, &stop).await;
                let mut status = input.status.look();
                while status.sessions < 2 {
                    let n = reader.count.borrow().to_owned();
                    reader.at_least(n + 1).await;
                    status = input.status.look();
                }
                let n = reader.numbers.lock().expect("lock").len();
                let numbers = reader.at_least(n + 30).await[n..].to_vec();
                on_time("every picture comes", || assert_running_on(&numbers));
                assert!(notes(&input).contains("restarted"), "{}", notes(&input));
                end.now();
            })
        });
    }

    #[test]
    fn one_pull_goes_out_by_every_means_to_many() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let camera = start_rtsp(settings(), stop.clone()).await.expect("a camera");
                let (serve, srt, udp, rtp) = (free(), free(), free(), free());
                let group = format!("239.20.1.2:{}", choir_rig::port());
                let ins = [
                    format!("srt://{srt}?mode=listener"),
                    format!("udp://{udp}"),
                    format!("rtp://{rtp}"),
                    format!("udp://127.0.0.1@{group}?interface=127.0.0.1"),
                ];
                let mut readers = Vec::new();
                for i in &ins {
                    readers.push(open(i, false, &stop).await);
                }
                let outs = [
                    format!("rtsp://viewer:pw@{serve}"),
                    format!("srt://{srt}"),
                    format!("udp://{udp}"),
                    format!("rtp://{rtp}"),
                    format!("udp://{group}?interface=127.0.0.1"),
                ];
                let show = show(&url(&camera, "main"), &outs.iter().map(String::as_str).collect::<Vec<_>>()).await;
                for transport in ["udp", "tcp"] {
                    readers.push(open(&format!("rtsp://viewer:pw@{serve}/boathouse-1#transport={transport}"), false, &stop).await);
                }
                for (reader, input) in &mut readers {
                    let numbers = reader.at_least(50).await;
                    on_time("every picture comes", || assert_running_on(&numbers));
                    on_time("nothing is missing", || assert_eq!(input.view().frames_missing, 0));
                }
                assert_eq!(camera.counts.plays.load(Ordering::Relaxed), 1, "the camera is asked once");
                let view = show.view();
                assert_eq!(view.feeds[0].outs[0].paste, [format!("rtsp://{serve}/boathouse-1")]);
                assert_eq!(view.feeds[0].outs[0].how.as_deref(), Some("2 viewers 1 by TCP, 1 by UDP"));
                show.stop().await;
                end.now();
            })
        });
    }

    #[test]
    fn a_viewer_that_takes_nothing_holds_up_nobody() {
        timed(|| {
            run(async {
                use tokio::io::{AsyncReadExt, AsyncWriteExt};
                let (end, stop) = Stop::new();
                let main = CameraSettings { size: (640, 360), bitrate: Bitrate(8_000_000), ..settings().main };
                let camera = start_rtsp(RtspCameraSettings { main, ..settings() }, stop.clone()).await.expect("a camera");
                // It plays within the connection and then reads no more.
                let lazy = tokio::net::TcpSocket::new_v4().expect("a socket");
                lazy.set_recv_buffer_size(4096).expect("small");
                let mut stream = lazy.connect(camera.addr).await.expect("connects");
                let base = url(&camera, "main");
                let mut session = String::new();
                for (n, (method, path, extra)) in
                    [("DESCRIBE", "", ""), ("SETUP", "/track1", "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n"), ("PLAY", "", "")]
                        .into_iter()
                        .enumerate()
                {
                    stream
                        .write_all(format!("{method} {base}{path} RTSP/1.0\r\nCSeq: {n}\r\n{session}{extra}\r\n").as_bytes())
                        .await
                        .expect("asks");
                    let mut answer = vec![0; 4096];
                    let size = stream.read(&mut answer).await.expect("an answer");
                    let text = String::from_utf8_lossy(&answer[..size]).into_owned();
                    assert!(text.starts_with("RTSP/1.0 200"), "{text}");
                    if let Some(line) = text.lines().find(|l| l.starts_with("Session:")) {
                        session = format!("{}\r\n", line.split(';').next().unwrap_or(line));
                    }
                }
                let (mut reader, input) = open(&format!("{base}#transport=tcp"), false, &stop).await;
                let let_go = async {
                    let mut seen = String::new();
                    while !seen.contains("disconnected") {
                        let n = reader.count.borrow().to_owned();
                        reader.at_least(n + 5).await;
                        camera.statuses[0].look().notices().for_each(|n| seen.push_str(&n.to_string()));
                    }
                    seen
                };
                let seen = tokio::time::timeout(PATIENCE, let_go).await.expect("is let go");
                assert!(seen.contains("reads too slowly") || seen.contains("no data read"), "{seen}");
                on_time("nothing is missing", || assert_eq!(input.view().frames_missing, 0, "the other viewer misses nothing"));
                on_time("every picture comes", || assert_running_on(&reader.numbers.lock().expect("lock")));
                end.now();
                drop(stream);
            })
        });
    }

    #[test]
    fn a_camera_that_goes_and_comes_is_asked_again() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let listen = free();
                let (gone, first_stop) = Stop::new();
                let first = start_rtsp(RtspCameraSettings { listen, ..settings() }, first_stop).await.expect("a camera");
                let (mut reader, input) = open(&format!("rtsp://{listen}/main"), false, &stop).await;
                reader.at_least(20).await;
                gone.now();
                first.wait().await;
                let again = start_rtsp(RtspCameraSettings { listen, ..settings() }, stop.clone()).await.expect("the port is free again");
                let n = reader.numbers.lock().expect("lock").len();
                let numbers = reader.at_least(n + 40).await[n + 5..].to_vec();
                on_time("every picture comes", || assert_running_on(&numbers));
                assert!(input.status.look().sessions >= 2);
                assert_eq!(again.counts.plays.load(Ordering::Relaxed), 1);
                end.now();
            })
        });
    }

    #[test]
    fn an_inspection_says_what_is_there() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let camera = start_rtsp(settings(), stop.clone()).await.expect("a camera");
                let look = Look { lasts: Duration::from_secs(3), wait: Duration::from_secs(10) };
                let expect = Expect { codec: Some("h264".into()), size: Some((320, 180)), rate: Some(25.0), ..Expect::default() };
                let view =
                    inspect(&link(&url(&camera, "main")), Path::new("."), look, Some(&expect), None, &stop).await.expect("looks").view;
                let picture = view.picture.expect("a picture");
                assert_eq!((view.found, view.differs, picture.size), (true, Some(Vec::new()), Some((320, 180))));
                on_time("nothing is missing", || {
                    assert_eq!((picture.keyframe_frames, picture.frames_missing, picture.b_pictures), (Some((10, 10)), Some(0), false))
                });
                on_time("the rate", || assert!((24.5..25.5).contains(&picture.measured_rate.expect("a rate"))));
                assert!(view.rate_bps.peak_100ms >= view.rate_bps.peak_1s && view.rate_bps.peak_1s >= view.rate_bps.mean * 9 / 10);
                on_time("the delay", || {
                    assert!(view.delay_ms.expect("a delay").1 < 500.0 && view.sound.as_deref() == Some("AAC 48 kHz stereo"))
                });
                let other = Expect { size: Some((1280, 720)), ..expect };
                let sub = inspect(&link(&url(&camera, "sub")), Path::new("."), look, Some(&other), None, &stop).await.expect("looks").view;
                assert_eq!(sub.differs, Some(vec!["expected 1280x720, receiving 160x90".to_owned()]));
                end.now();
            })
        });
    }
}
