//! A take asks the source of its line for a keyframe: by RTCP, by ONVIF, by a Stave name and on
//! through the show behind it.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use choir_core::command::By;
use choir_core::{link::parse_url, sheet::read_sheet, units::Bitrate, view::ShowView};
use choir_host::Stop;
use choir_proto::rtsp::Credentials;
use choir_show::{
    Show, bus,
    control::{Answer, Request, act},
};
use choir_sim::{
    camera::{CameraSettings, Manner, RtspCamera, RtspCameraSettings, start_rtsp},
    device::{self, Quirk, Settings, StreamState},
};
use std::{path::Path, sync::atomic::Ordering, time::Duration};
use tokio::{runtime::Runtime, time::timeout};

const PATIENCE: Duration = Duration::from_secs(40);
/// Keyframes come this seldom, unless they are asked for.
const SELDOM: f64 = 6.0;
/// A take that asks is done long before the next keyframe would have come.
const SOON: Duration = Duration::from_secs(3);

async fn camera(keyframe: f64, manners: &[Manner], stop: &Stop) -> RtspCamera {
    let picture = CameraSettings {
        size: (160, 96),
        rate: 10,
        bitrate: Bitrate(200_000),
        keyframe,
        ..CameraSettings::new("start-pontoon", parse_url("-").0.unwrap())
    };
    let listen = ([127, 0, 0, 1], 0).into();
    let settings =
        RtspCameraSettings { listen, main: picture, sub: None, credentials: None, group: None, manners: manners.to_vec(), head: None };
    start_rtsp(settings, stop.clone()).await.expect("a camera")
}

async fn running(sheet: &str) -> Show {
    let (sheet, findings) = read_sheet(&format!("[show]\nname = \"Tarn Hollow Regatta\"\n{sheet}"));
    Show::start(&sheet.unwrap_or_else(|| panic!("{findings:?}")), Path::new(".")).await.unwrap()
}

async fn until(show: &Show, what: &str, patience: Duration, wanted: impl Fn(&ShowView) -> bool) {
    let mut facts = show.facts();
    let came = timeout(patience, async { while !wanted(&show.view()) && bus::next(&mut facts).await {} }).await;
    came.unwrap_or_else(|_| panic!("never came to be: {what}\n{:#?}", show.view()));
}

async fn take(show: &Show, feed: &str, line: &str) {
    let request = Request::Take { feed: feed.into(), line: Some(line.into()) };
    assert!(matches!(act(By::CommandLine, request, show).await, Answer::Done { .. }));
}

#[test]
fn a_take_asks_for_its_keyframe_by_whatever_way_there_is() {
    Runtime::new().unwrap().block_on(async {
        let (_end, stop) = Stop::new();
        let often = camera(0.4, &[], &stop).await;
        let udp = camera(SELDOM, &[Manner::TakesRequests], &stop).await;
        let tcp = camera(SELDOM, &[Manner::TakesRequests], &stop).await;
        let named = camera(SELDOM, &[Manner::TakesRequests], &stop).await;
        let net = choir_rig::net();
        let (at, host) = (net.at(9), net.to_string());
        let mut settings = Settings::encoder("umpire-launch", at, Credentials::new("desk", "four oars"));
        settings.streams[0] = StreamState { rate: 25, gop: 150, ..StreamState::new((320, 180), 400) };
        let device = device::start(settings, stop.clone()).await.unwrap();
        let stave =
            |n: u8| format!("[stave]\nmachine = \"m{n}\"\naddress = \"{host}.{n}\"\ngroup = \"regatta 62 {}\"\n", std::process::id());
        let far = running(&format!(
            "{}[[line]]\nname = \"pontoon\"\nfrom = \"rtsp://{}/main#transport=tcp\"\n\
                 [[feed]]\nname = \"pontoon\"\nline = \"pontoon\"\nstave = \"Start Pontoon\"\n",
            stave(1),
            named.addr
        ))
        .await;
        let show = running(&format!(
            "{}[[device]]\nname = \"launch\"\naddress = \"{host}.9:8000\"\ncontrol = \"onvif\"\nuser = \"desk\"\n\
                 password = \"four oars\"\nmain = {{ line = \"onvif\" }}\n\
                 [[line]]\nname = \"often\"\nfrom = \"rtsp://{}/main\"\n\
                 [[line]]\nname = \"udp\"\nfrom = \"rtsp://{}/main#transport=udp\"\n\
                 [[line]]\nname = \"tcp\"\nfrom = \"rtsp://{}/main#transport=tcp\"\n\
                 [[line]]\nname = \"onvif\"\nfrom = \"rtsp://desk:four%20oars@{host}.9:8554/main#transport=tcp\"\n\
                 [[line]]\nname = \"name\"\nfrom = \"stave://Start Pontoon\"\n\
                 [[feed]]\nname = \"on\"\nline = \"often\"\nto = \"udp://127.0.0.1:9\"\n",
            stave(2),
            often.addr,
            udp.addr,
            tcp.addr
        ))
        .await;
        until(&show, "all lines up", PATIENCE, |v| v.lines.iter().all(|l| l.link.up_since_ms.is_some() && l.media.size.is_some())).await;
        let asked = |c: &RtspCamera| *c.statuses[0].control.keyframe_requests().borrow();
        for line in ["udp", "tcp", "onvif", "name"] {
            take(&show, "on", "often").await;
            until(&show, "back", SOON, |v| v.feeds[0].line == "often").await;
            take(&show, "on", line).await;
            let said = show.view().events.iter().rev().find(|e| e.text.starts_with("take requested")).unwrap().text.clone();
            assert_eq!(said, format!("take requested: {line}; waiting for its next keyframe, requested from its source"));
            until(&show, line, SOON, |v| v.feeds[0].line == line).await;
        }
        assert_eq!((asked(&udp), asked(&tcp), asked(&named), device.counts().keyframes.load(Ordering::Relaxed)), (1, 1, 1, 1));
        // This one takes no requests, so that none is claimed.
        take(&show, "on", "often").await;
        let said = show.view().events.last().unwrap().text.clone();
        assert_eq!(said, "take requested: often; waiting for its next keyframe");
        assert_eq!(asked(&often), 0);
        show.stop().await;
        far.stop().await;
    });
}

#[test]
fn a_device_that_knows_no_requests_is_asked_once_and_no_more_is_claimed() {
    Runtime::new().unwrap().block_on(async {
        let (_end, stop) = Stop::new();
        let often = camera(0.4, &[], &stop).await;
        let net = choir_rig::net();
        let host = net.to_string();
        let settings = Settings::encoder("umpire-launch", net.at(9), Credentials::new("desk", "four oars"));
        let device = device::start(Settings { quirks: vec![Quirk::NoKeyframes], ..settings }, stop.clone()).await.unwrap();
        let show = running(&format!(
            "[[device]]\nname = \"launch\"\naddress = \"{host}.9:8000\"\ncontrol = \"onvif\"\nuser = \"desk\"\n\
             password = \"four oars\"\nmain = {{ line = \"onvif\" }}\n\
             [[line]]\nname = \"often\"\nfrom = \"rtsp://{}/main\"\n\
             [[line]]\nname = \"onvif\"\nfrom = \"rtsp://desk:four%20oars@{host}.9:8554/main#transport=tcp\"\n\
             [[feed]]\nname = \"on\"\nline = \"often\"\nto = \"udp://127.0.0.1:9\"\n",
            often.addr
        ))
        .await;
        until(&show, "all lines up", PATIENCE, |v| v.lines.iter().all(|l| l.link.up_since_ms.is_some() && l.media.size.is_some())).await;
        let asked = || show.view().events.iter().filter(|e| e.text.ends_with("keyframe, requested from its source")).count();
        take(&show, "on", "onvif").await;
        let refused = |e: &choir_core::view::EventView| e.subject == "line onvif" && e.text.contains("cannot ask for a keyframe by ONVIF");
        until(&show, "told", PATIENCE, |v| v.events.iter().any(refused) && v.feeds[0].line == "onvif").await;
        let requests = device.counts().requests.load(Ordering::Relaxed);
        for line in ["often", "onvif"] {
            take(&show, "on", line).await;
            until(&show, line, PATIENCE, |v| v.feeds[0].line == line).await;
        }
        assert_eq!((asked(), device.counts().requests.load(Ordering::Relaxed)), (1, requests));
        show.stop().await;
    });
}
