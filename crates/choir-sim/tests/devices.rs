//! Devices with their control: found, read, set down to the decoded picture, moved, steered; and
//! all their own ways. Each test has a network of 127.0.0.0/8 to itself.

#![allow(clippy::panic, reason = "a helper that fails its test")]

use choir_core::{
    device::{Control, Device, DeviceView},
    find::plan,
    link::parse_url,
    sheet::{Sheet, read_sheet},
};
use choir_devices::{
    device::{self, DeviceError, Report, Step},
    discover::{FindOptions, FindResult, find},
    onvif::OnvifError,
};
use choir_host::{End, Stop, interfaces::own_interfaces};
use choir_proto::{auth::Credentials, ts::AccessUnit, visca::Drive};
use choir_show::prove::OnTheWire;
use choir_show::ptz::{PictureBox, Ptz, PtzError};
use choir_sim::{
    device::{Kind, Quirk, Settings, SimDevice, start},
    switcher::{self, Tap},
};
use openh264::{decoder::Decoder, formats::YUVSource};
use std::{
    net::{IpAddr, Ipv4Addr},
    path::Path,
    sync::{Mutex, atomic::Ordering},
    time::Duration,
};
use tokio::sync::mpsc;

const PASSWORD: &str = "four oars and a cox";
const PATIENCE: Duration = Duration::from_secs(60);

fn run(test: impl Future<Output = ()>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime");
    runtime.block_on(async { tokio::time::timeout(PATIENCE * 2, test).await.expect("in time") });
}

/// A device with these own ways, and how to end it.
async fn a_device(kind: Kind, at: Ipv4Addr, quirks: &[Quirk]) -> (SimDevice, End) {
    let (end, stop) = Stop::new();
    let credentials = Credentials::new("desk", PASSWORD);
    let settings = match kind {
        Kind::PtzCamera => Settings::ptz_camera("finish-tower", at, credentials),
        Kind::Encoder => Settings::encoder("umpire-launch", at, credentials),
    };
    let device = start(Settings { quirks: quirks.to_vec(), ..settings }, stop).await.expect("a device");
    (device, end)
}

/// A sheet with one device that is wanted like this.
fn sheet(at: Ipv4Addr, password: &str, wanted: &str) -> Sheet {
    let text = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n[[device]]\nname = \"finish-tower\"\naddress = \"{at}:8000\"\ncontrol = \"onvif\"\n\
         user = \"desk\"\npassword = \"{password}\"\n{wanted}\n"
    );
    let (sheet, findings) = read_sheet(&text);
    sheet.unwrap_or_else(|| panic!("{findings:?}"))
}

fn entry(at: Ipv4Addr) -> Device {
    sheet(at, PASSWORD, "").devices.remove(0)
}

async fn look(at: Ipv4Addr) -> DeviceView {
    device::look_at(&entry(at), Path::new(".")).await.expect("it can be read")
}

async fn apply(sheet: &Sheet) -> (Report, Vec<Step>) {
    let plan = device::plan(&sheet.devices[0], sheet, Path::new(".")).await.expect("a plan");
    assert!(plan.impossible.is_empty(), "{:?}", plan.impossible);
    let steps = Mutex::new(Vec::new());
    let note = |_: &str, step| steps.lock().expect("lock").push(step);
    let (_end, stop) = Stop::new();
    let report = device::carry_out(plan, &OnTheWire { base: ".".into(), stop: stop.clone() }, &note, &stop).await;
    (report, steps.into_inner().expect("lock"))
}

/// Decodes the pictures of a stream; gives their sizes and luma as they come.
async fn pictures(url: &str, stop: &Stop) -> mpsc::Receiver<((usize, usize), Vec<u8>)> {
    let (tx, rx) = mpsc::channel(4);
    let mut decoder = Decoder::new().expect("a decoder");
    let tap: Tap = Box::new(move |unit: &AccessUnit| {
        if unit.kind.is_video()
            && let Ok(Some(yuv)) = decoder.decode(&unit.data)
        {
            let (w, h) = yuv.dimensions();
            let rows = (0..h).flat_map(|y| yuv.y()[y * yuv.strides().0..][..w].to_vec()).collect();
            let _ = tx.try_send(((w, h), rows));
        }
    });
    let link = parse_url(url).0.expect("a link");
    switcher::open_input("input-1", &link, Duration::from_millis(60), Some(tap), None, stop).await.expect("an input");
    rx
}

async fn picture(at: Ipv4Addr, path: &str) -> ((usize, usize), Vec<u8>) {
    let (end, stop) = Stop::new();
    let url = format!("rtsp://desk:{}@{at}:8554/{path}", PASSWORD.replace(' ', "%20"));
    let got = tokio::time::timeout(PATIENCE, pictures(&url, &stop).await.recv()).await.expect("in time").expect("a picture");
    end.now();
    got
}

async fn found(range: &str, factory: &[Ipv4Addr]) -> FindResult {
    let scan = plan(Some(range), &own_interfaces().expect("interfaces")).expect("a range");
    let (tx, mut rx) = mpsc::channel(64);
    let drain = tokio::spawn(async move { while rx.recv().await.is_some() {} });
    let options = FindOptions { factory: factory.to_vec(), ..FindOptions::default() };
    let result = find(scan, &options, tx, std::future::pending()).await.expect("it looks");
    drain.await.expect("drained");
    result
}

#[test]
fn everything_on_a_populated_range_is_found_and_what_is_odd_is_flagged() {
    run(async {
        let net = choir_rig::net();
        let (camera, _a) = a_device(Kind::PtzCamera, net.at(11), &[]).await;
        let (encoder, _b) = a_device(Kind::Encoder, net.at(9), &[Quirk::Twin]).await;
        // Somebody who takes connections and says nothing, and somebody who says nonsense.
        let _silent = std::net::TcpListener::bind((net.at(20), 8554)).expect("a port");
        let nonsense = tokio::net::TcpListener::bind((net.at(21), 8000)).await.expect("a port");
        tokio::spawn(async move {
            while let Ok((mut s, _)) = nonsense.accept().await {
                let _ = tokio::io::AsyncWriteExt::write_all(&mut s, b"\x00\xFFSSH-2.0-boathouse\r\n").await;
            }
        });
        let result = found(&format!("{net}.0/27"), &[net.at(9)]).await;
        assert_eq!(result.asked, 30);
        let addresses: Vec<_> = result.devices.iter().filter_map(|d| d.address).collect();
        assert_eq!(addresses, [net.at(9), net.at(11)], "{:?}", result.devices);
        let [encoder_found, camera_found] = result.devices.as_slice() else { panic!() };
        assert_eq!(
            (camera_found.what.as_str(), camera_found.model.as_deref(), camera_found.login),
            ("PTZ camera", Some("Heron 20"), Some(true))
        );
        let services: Vec<String> = camera_found.services.iter().map(|s| format!("{} {}", s.kind, s.port)).collect();
        assert_eq!(services, ["ONVIF 8000", "RTSP 8554", "VISCA 52381", "HTTP 8000"]);
        assert_eq!(camera_found.name.as_deref(), Some("finish-tower"));
        let flags: Vec<&str> = encoder_found.flags.iter().map(|f| f.word.as_str()).collect();
        assert_eq!((encoder_found.what.as_str(), flags), ("encoder", vec!["factory-address", "shared-address"]));
        // Nobody was asked for a password, and none was sent.
        assert_eq!((camera.counts().refused.load(Ordering::Relaxed), encoder.counts().refused.load(Ordering::Relaxed)), (0, 0));
    });
}

#[test]
fn a_camera_is_set_and_its_decoded_picture_has_the_new_size() {
    run(async {
        let net = choir_rig::net();
        let at = net.at(11);
        let (camera, _end) = a_device(Kind::PtzCamera, at, &[]).await;
        assert_eq!(picture(at, "main").await.0, (640, 360));
        let wanted = "main = { codec = \"h264\", size = \"320x180\", bitrate = \"3 Mbps\", keyframe = \"0.4 s\", audio = \"off\" }\n\
                      sub = { rate = 12, multicast = \"239.42.0.1:6000\" }";
        let (report, steps) = apply(&sheet(at, PASSWORD, wanted)).await;
        assert!(report.holds(), "{report:#?}");
        assert_eq!(report.done, ["main: size, bitrate, keyframe", "main: audio", "sub: rate, multicast"]);
        assert!(!report.restarted && steps.contains(&Step::ReadingBack));
        assert_eq!(picture(at, "main").await.0, (320, 180));
        let (main, sub) = (camera.sends(0), camera.sends(1));
        assert_eq!((main.kbps, main.gop, main.audio, sub.rate, sub.group), (3000, 10, false, 12, Some(([239, 42, 0, 1].into(), 6000))));
        // Nothing differs any more: nothing is sent.
        let (again, _) = apply(&sheet(at, PASSWORD, wanted)).await;
        assert!(again.holds() && again.done.is_empty(), "{again:#?}");
    });
}

#[test]
fn an_encoder_restarts_rounds_and_says_so() {
    run(async {
        let net = choir_rig::net();
        let at = net.at(9);
        let (encoder, _end) = a_device(Kind::Encoder, at, &[]).await;
        let view = look(at).await;
        assert!((38_000..42_000).contains(&view.clock_ahead_ms.expect("a clock")), "{:?}", view.clock_ahead_ms);
        let signals: Vec<bool> = view.inputs.iter().map(|i| i.signal.is_some()).collect();
        assert_eq!(signals, [true, false, true, false]);
        let wanted = "main = { codec = \"h265\", profile = \"main\", size = \"960x540\", rate = 25, bitrate = \"3 Mbps\", input = \"3\" }";
        let (report, steps) = apply(&sheet(at, PASSWORD, wanted)).await;
        assert!(report.restarted && report.failed.is_none(), "{report:#?}");
        assert!(steps.iter().any(|s| matches!(s, Step::Back(ms) if *ms >= 2500)), "{steps:?}");
        let quietly: Vec<&str> = report.quietly.iter().map(|q| q.actual.as_str()).collect();
        assert_eq!(quietly, ["3072 kbps"]);
        assert_eq!(report.proofs[0].measured.as_ref().and_then(|m| m.codec.as_deref()), Some("h265"));
        assert!(!report.holds() && report.proofs[0].holds());
        assert_eq!(encoder.sends(0).codec, "H265");
    });
}

#[test]
fn what_cannot_be_is_told_before_anything_is_sent_and_a_refusal_stops_the_rest() {
    run(async {
        let net = choir_rig::net();
        let at = net.at(9);
        let (encoder, _end) = a_device(Kind::Encoder, at, &[]).await;
        let impossible = sheet(at, PASSWORD, "main = { size = \"1920x1080\", bitrate = \"20 Mbps\" }\nsub = { codec = \"h265\" }");
        let plan = device::plan(&impossible.devices[0], &impossible, Path::new(".")).await.expect("a plan");
        let what: Vec<&str> = plan.impossible.iter().map(|i| i.what.as_str()).collect();
        assert_eq!(what, ["main size", "main bitrate", "sub size"]);
        assert!(plan.impossible[0].possible.contains("1280x720, 960x540"), "{:?}", plan.impossible);
        // Each may be, both together not: the device refuses, and what came after is not sent.
        let together = sheet(at, PASSWORD, "main = { rate = 50, profile = \"high\", audio = \"off\" }\nsub = { keyframe = \"50 frames\" }");
        let (report, _) = apply(&together).await;
        let failed = report.failed.expect("a refusal");
        assert!(failed.what == "main: rate" && failed.why.contains("refuses these settings together"), "{failed:?}");
        assert_eq!((report.done.len(), report.left), (0, vec!["main: audio".to_owned(), "sub: keyframe".to_owned()]));
        assert_eq!((encoder.sends(0).rate, encoder.sends(1).gop), (25, 25));
    });
}

#[test]
fn a_device_that_dies_in_the_middle_is_told_from_one_that_refuses() {
    run(async {
        let net = choir_rig::net();
        let at = net.at(11);
        let (_camera, _end) = a_device(Kind::PtzCamera, at, &[Quirk::DiesWhenSet]).await;
        let (report, _) = apply(&sheet(at, PASSWORD, "main = { bitrate = \"3 Mbps\" }\nsub = { bitrate = \"500 kbps\" }")).await;
        let failed = report.failed.expect("it died");
        assert!(failed.why.contains("does not answer") && failed.why.contains("is not known"), "{failed:?}");
        assert_eq!((report.done.len(), report.left), (0, vec!["sub: bitrate".to_owned()]));
    });
}

#[test]
fn a_wrong_password_is_tried_once_by_either_proof() {
    run(async {
        let net = choir_rig::net();
        for (n, quirks) in [(11, vec![]), (12, vec![Quirk::HttpDigest])] {
            let at = net.at(n);
            let (camera, _end) = a_device(Kind::PtzCamera, at, &quirks).await;
            let wrong = sheet(at, "three oars", "");
            let error = device::look_at(&wrong.devices[0], Path::new(".")).await.expect_err("refused");
            assert!(matches!(error, DeviceError::Onvif(OnvifError::Login { .. })), "{error}");
            assert!(!error.to_string().contains("three"), "{error}");
            assert_eq!(camera.counts().refused.load(Ordering::Relaxed), 1, "{quirks:?}");
            let view = look(at).await;
            assert_eq!(view.login.contains("HTTP"), !quirks.is_empty(), "{}", view.login);
            // A session whose password is refused half-way asks no more.
            let mut session = device::session(&entry(at), Path::new(".")).await.expect("a session");
            device::change_password(&mut session, "five oars and a cox").await.expect("changed");
            let before = camera.counts().refused.load(Ordering::Relaxed);
            for _ in 0..3 {
                let refused = device::change_password(&mut session, "six oars and a cox").await;
                let Err(DeviceError::Password(why)) = refused else { panic!("{refused:?}") };
                assert!(why.starts_with("the present password of desk, which the sheet gives, was refused"), "{why}");
            }
            assert_eq!(camera.counts().refused.load(Ordering::Relaxed) - before, 1);
        }
    });
}

#[test]
fn a_device_that_says_yes_and_keeps_its_own_is_found_out() {
    run(async {
        let net = choir_rig::net();
        let at = net.at(14);
        let (camera, _end) = a_device(Kind::PtzCamera, at, &[Quirk::KeepsItsOwn]).await;
        let mut session = device::session(&entry(at), Path::new(".")).await.expect("a session");
        let Err(DeviceError::Password(why)) = device::change_password(&mut session, "five oars and a cox").await else { panic!("taken") };
        assert_eq!(why, "the device reported the new password of desk as set, but the old password still applies");
        assert_eq!(camera.counts().refused.load(Ordering::Relaxed), 1, "the new one was tried once");
        let Err(DeviceError::Password(why)) = device::change_password(&mut session, "oars").await else { panic!("taken") };
        assert!(why.starts_with("the device refused the new password of desk") && why.ends_with("the old password still applies"), "{why}");
        let moved = device::move_to(&mut session, Some((net.at(15), 24, None))).await;
        let Err(DeviceError::Gone(why)) = moved else { panic!("{moved:?}") };
        assert!(why.contains(&format!("{net}.15, and 20 s later still answers at {net}.14:8000")), "{why}");
    });
}

#[test]
fn a_stop_by_onvif_takes_three_round_trips() {
    run(async {
        let net = choir_rig::net();
        for (n, quirks, requests) in [(16, vec![], 5), (17, vec![Quirk::HttpDigest], 5)] {
            let at = net.at(n);
            let (camera, _end) = a_device(Kind::PtzCamera, at, &quirks).await;
            let device = entry(at);
            let credentials = device::credentials_of(&device, Path::new(".")).expect("a password");
            let ptz = Ptz::open(&device, Control::Onvif, credentials).await.expect("a camera");
            ptz.stop().await.expect("stopped");
            // Clock, identity and services at once; profiles; the stop.
            assert_eq!(camera.counts().requests.load(Ordering::Relaxed), requests, "{quirks:?}");
            assert_eq!(camera.counts().stops.load(Ordering::Relaxed), 1);
        }
    });
}

#[test]
fn every_own_way_of_a_device_is_understood() {
    run(async {
        let net = choir_rig::net();
        let ways = [
            (Quirk::OldServices, "GetCapabilities"),
            (Quirk::FirstMediaOnly, ""),
            (Quirk::OldAddress, "192.168.77.77"),
            (Quirk::OddPort, "port 8001"),
            (Quirk::HidesClock, ""),
        ];
        for (n, (quirk, note)) in ways.into_iter().enumerate() {
            let at = net.at(10 + n as u8);
            let (_device, _end) = a_device(Kind::Encoder, at, &[quirk]).await;
            // By whose clock, 40 s ahead, the proof is judged, even where only the header of a
            // refusal tells it.
            let view = device::look_at(&entry(at), Path::new(".")).await.unwrap_or_else(|e| panic!("{quirk:?}: {e}"));
            assert!(note.is_empty() || view.notes.iter().any(|n| n.contains(note)), "{quirk:?}: {:?}", view.notes);
            let url = view.streams[0].url.clone().expect("an address");
            assert_eq!(url, format!("rtsp://{at}:8554/main"), "{quirk:?}");
            let codecs: Vec<&str> = view.streams[0].options.iter().map(|o| o.codec.as_str()).collect();
            let both = !matches!(quirk, Quirk::FirstMediaOnly | Quirk::OldServices);
            assert_eq!(codecs, if both { vec!["h264", "h265"] } else { vec!["h264"] }, "{quirk:?}");
        }
        let nobody = device::look_at(&entry(net.at(99)), Path::new(".")).await.expect_err("nobody there");
        assert!(nobody.to_string().contains("cannot be reached"), "{nobody}");
    });
}

#[test]
fn a_device_moves_to_a_free_address_and_back_to_dhcp() {
    run(async {
        for kind in [Kind::PtzCamera, Kind::Encoder] {
            let net = choir_rig::net();
            let at = net.at(9);
            let (moved, _end) = a_device(kind, at, &[]).await;
            let (_other, _keep) = a_device(Kind::PtzCamera, net.at(12), &[]).await;
            let refused = |r: Result<(), device::AddressError>| r.expect_err("refused").to_string();
            assert!(refused(device::free_and_reachable(net.at(12), 24, None).await).contains("Heron 20 answers there"));
            assert!(
                refused(device::free_and_reachable([10, 254, 254, 9].into(), 24, None).await).contains("none of this machine's subnets")
            );
            assert!(refused(device::free_and_reachable(net.at(13), 24, Some([10, 0, 0, 1].into())).await).contains("not in the subnet"));
            assert!(refused(device::free_and_reachable(net.at(255), 24, None).await).contains("broadcast"));
            device::free_and_reachable(net.at(13), 24, Some(net.at(1))).await.expect("free");
            let mut session = device::session(&entry(at), Path::new(".")).await.expect("a session");
            let new = device::move_to(&mut session, Some((net.at(13), 24, Some(net.at(1))))).await.expect("moved");
            assert_eq!((new, moved.at().ip()), (IpAddr::V4(net.at(13)), IpAddr::V4(net.at(13))));
            let network = look(net.at(13)).await.network.expect("a network");
            assert_eq!((network.dhcp, network.address, network.gateway), (false, Some((net.at(13), 24)), Some(net.at(1).into())));
            let mut session = device::session(&entry(net.at(13)), Path::new(".")).await.expect("a session");
            let lease = device::move_to(&mut session, None).await.expect("followed");
            assert_eq!((lease, moved.at().ip()), (IpAddr::V4(net.at(73)), IpAddr::V4(net.at(73))));
        }
    });
}

#[test]
fn presets_and_moves_are_the_same_by_every_protocol_and_change_the_picture() {
    run(async {
        let net = choir_rig::net();
        let at = net.at(11);
        let (camera, _end) = a_device(Kind::PtzCamera, at, &[Quirk::LosesStops(3)]).await;
        let credentials = Some(Credentials::new("desk", PASSWORD));
        let home = picture(at, "main").await.1;
        for by in [Control::Onvif, Control::Visca, Control::ViscaTcp] {
            let ptz = Ptz::open(&entry(at), by, credentials.clone()).await.expect("a way");
            ptz.home().await.expect("home");
            still(&camera).await;
            let start = camera.looks();
            let d = Drive { pan: 0.6, tilt: -0.3, zoom: 0.4 };
            ptz.move_for(d, Duration::from_millis(400), std::future::pending()).await.unwrap_or_else(|e| panic!("{by:?}: {e}"));
            assert!(!camera.turns(), "{by:?}: a lost stop leaves it moving");
            let there = camera.looks();
            assert!(there.0 > start.0 && there.1 < start.1 && there.2 > start.2, "{by:?}: {start:?} to {there:?}");
            ptz.store("7", Some("Finish line")).await.expect("stored");
            ptz.home().await.expect("home");
            still(&camera).await;
            assert_eq!(camera.looks(), (0.0, 0.0, 0.0));
            ptz.goto("7").await.expect("gone");
            still(&camera).await;
            assert_eq!(camera.looks(), there, "{by:?}");
            let p = ptz.position().await.expect("a place");
            assert!(p.pan > 0.0 && p.tilt < 0.0 && p.zoom > 0.0, "{by:?}: {p:?}");
        }
        assert!(camera.counts().stops.load(Ordering::Relaxed) >= 6, "the lost ones were repeated");
        // Where it looks now is not where it looked at first: the numbers apart, the picture is
        // another.
        let now = picture(at, "main").await.1;
        let differ = home.iter().zip(&now).filter(|(a, b)| a.abs_diff(**b) > 20).count();
        assert!(differ > home.len() / 20, "{differ} of {} pixels", home.len());
        let visca = Ptz::open(&entry(at), Control::Visca, None).await.expect("a way");
        visca.tally(true).await.expect("lit");
        assert!(camera.tally());
        let onvif = Ptz::open(&entry(at), Control::Onvif, credentials).await.expect("a way");
        assert!(matches!(onvif.tally(true).await, Err(PtzError::NoTally)));
        assert!(matches!(onvif.goto("99").await, Err(PtzError::NoPreset { .. })));
        assert!(matches!(visca.goto("no such").await, Err(PtzError::NotANumber(_))));
    });
}

#[test]
fn a_point_of_the_picture_comes_to_its_middle_and_a_box_fills_it() {
    run(async {
        let net = choir_rig::net();
        let credentials = Some(Credentials::new("desk", PASSWORD));
        let (camera, _end) = a_device(Kind::PtzCamera, net.at(11), &[]).await;
        let device = Device { zoom: 4, ..entry(net.at(11)) };
        let ptz = Ptz::open(&device, Control::Onvif, credentials.clone()).await.expect("a way");
        let near = |(a, b, c): (f64, f64, f64), (x, y, z): (f64, f64, f64)| [a - x, b - y, c - z].iter().all(|d| d.abs() < 1e-3);
        // The scene is twice as wide as the picture at its wide end: the right edge of that is half
        // of the way to where the window ends.
        ptz.frame(PictureBox { left: 0.75, top: 0.5, width: 0.0, height: 0.0 }).await.expect("framed");
        still(&camera).await;
        assert!(near(camera.looks(), (0.5, 0.0, 0.0)), "{:?}", camera.looks());
        ptz.home().await.expect("home");
        still(&camera).await;
        // Half of the width and of the height, right above: twice as close, half of a lens of four.
        ptz.frame(PictureBox { left: 0.5, top: 0.0, width: 0.5, height: 0.5 }).await.expect("framed");
        still(&camera).await;
        assert!(near(camera.looks(), (0.5 / 1.5, 0.5 / 1.5, 0.5)), "{:?}", camera.looks());
        // What it cannot reach ends at its ends.
        ptz.frame(PictureBox { left: 1.0, top: 0.0, width: 0.0, height: 0.0 }).await.expect("framed");
        still(&camera).await;
        assert!(camera.looks().0 <= 1.0 && camera.looks().1 <= 1.0);
        let (_other, _end) = a_device(Kind::PtzCamera, net.at(12), &[Quirk::NoPictureMoves]).await;
        let part = PictureBox { left: 0.5, top: 0.0, width: 0.0, height: 0.0 };
        for by in [Control::Onvif, Control::Visca] {
            let ptz = Ptz::open(&entry(net.at(12)), by, credentials.clone()).await.expect("a way");
            assert!(matches!(ptz.frame(part).await, Err(PtzError::NotInPicture(_))), "{by:?}");
        }
    });
}

async fn still(camera: &SimDevice) {
    choir_rig::until("still", PATIENCE, || camera.turns(), |turns| !turns).await;
}

#[test]
fn a_camera_that_chooses_numbers_and_one_that_is_gone_are_told() {
    run(async {
        let net = choir_rig::net();
        let at = net.at(11);
        let (camera, end) = a_device(Kind::PtzCamera, at, &[Quirk::OwnPresetNumbers]).await;
        let onvif = Ptz::open(&entry(at), Control::Onvif, Some(Credentials::new("desk", PASSWORD))).await.expect("a way");
        assert_eq!(onvif.store("9", Some("Committee boat")).await.expect("stored").number, "5", "it has four already");
        assert_eq!(onvif.goto("committee BOAT").await.expect("gone").number, "5");
        let visca = Ptz::open(&entry(at), Control::Visca, None).await.expect("a way");
        visca.drive(Drive { pan: 0.1, ..Drive::default() }, Duration::from_secs(1)).await.expect("moves");
        end.now();
        camera.wait().await;
        let error = visca.stop().await.expect_err("nobody there");
        assert!(error.to_string().contains("MAY STILL BE MOVING"), "{error}");
    });
}
