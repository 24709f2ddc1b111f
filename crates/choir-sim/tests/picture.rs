//! From the drawn picture to the decoded one: a camera, a bad path, a switching input, all on
//! loopback.

use choir_core::{
    link::{Link, parse_url},
    units::Bitrate,
};
use choir_host::{Stop, udp::UdpPort};
use choir_path::Faults;
use choir_sim::{
    camera::{self, CameraSettings, read_blocks},
    relay::{self, RelaySettings},
    stalls::{on_time, timed},
    switcher,
};
use openh264::{decoder::Decoder, formats::YUVSource};
use std::{
    net::UdpSocket,
    path::Path,
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};
use tokio::sync::watch;

fn run(test: impl Future<Output = ()>) {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime").block_on(test);
}

fn link(text: &str) -> Link {
    parse_url(text).0.expect(text)
}

/// Decodes the numbers in the pictures that reach an input, until `enough` have come.
async fn numbers(camera_to: &str, input: &str, stop: &Stop, enough: usize) -> Vec<u16> {
    let mut decoder = Decoder::new().expect("a decoder");
    let seen = Arc::new(Mutex::new(Vec::new()));
    let (count_tx, mut count) = watch::channel(0);
    let shared = seen.clone();
    let tap = Box::new(move |unit: &choir_proto::ts::AccessUnit| {
        if !unit.kind.is_video() {
            return;
        }
        if let Ok(Some(yuv)) = decoder.decode(&unit.data) {
            let (w, h) = yuv.dimensions();
            let mut seen = shared.lock().expect("lock");
            // A picture whose blocks cannot be read counts as a wrong number.
            seen.push(read_blocks(yuv.y(), w, h, yuv.strides().0).unwrap_or(u16::MAX));
            count_tx.send_replace(seen.len());
        }
    });
    let input = switcher::open_input("input-1", &link(input), Duration::from_millis(80), Some(tap), None, stop).await.expect("an input");
    let settings = CameraSettings { size: (320, 180), bitrate: Bitrate(1_000_000), ..CameraSettings::new("finish-tower", link(camera_to)) };
    let camera = camera::start(settings, Path::new("."), stop.clone()).await.expect("a camera");
    tokio::time::timeout(Duration::from_secs(40), count.wait_for(|n| *n >= enough)).await.expect("pictures in time").expect("counted");
    on_time("nothing is missing", || assert_eq!(input.view().frames_missing, 0));
    let (least, median, most) = input.view().delay_ms.expect("a delay");
    on_time("the delay", || assert!(least > 0.0 && least <= median && median <= most && most < 3000.0, "{least} {median} {most}"));
    drop(camera);
    seen.lock().expect("lock").clone()
}

fn assert_running_on(numbers: &[u16]) {
    for pair in numbers.windows(2) {
        assert_eq!(pair[1], (pair[0] + 1) % 50, "a picture is missing or damaged: {numbers:?}");
    }
}

#[tokio::test]
async fn a_relay_keeps_strangers_out_and_carries_both_ways() {
    let (end, stop) = Stop::new();
    let (a, b) = (UdpPort::open(([127, 0, 0, 1], 0).into(), None).expect("a"), UdpPort::open(([127, 0, 0, 1], 0).into(), None).expect("b"));
    let far = b.local_addr().expect("address");
    let settings = RelaySettings {
        listen: ([127, 0, 0, 1], 0).into(),
        to: far,
        from: Some(([127, 0, 0, 1], choir_rig::port()).into()),
        client: None,
        there: Faults::default(),
        back: Faults::default(),
        seed: 1,
        changes: None,
    };
    let own = settings.from.expect("given");
    let path = relay::start(settings, stop).expect("a path");
    let stranger = UdpSocket::bind("127.0.0.1:0").expect("a stranger");
    let got = AtomicU64::new(0);
    let receive = async |port: &UdpPort, wanted: &[u8]| {
        loop {
            port.readable().await.expect("readable");
            let mut found = false;
            port.receive(|_, data| {
                got.fetch_add(1, Ordering::Relaxed);
                found |= data == wanted;
            })
            .expect("received");
            if found {
                return;
            }
        }
    };
    let send = async |port: &UdpPort, to, data: &[u8]| {
        while !port.send(to, None, data).expect("sent") {
            port.writable().await.expect("writable");
        }
    };
    send(&a, path.listen, b"there").await;
    receive(&b, b"there").await;
    stranger.send_to(b"junk", own).expect("sent");
    send(&b, own, b"back").await;
    receive(&a, b"back").await;
    assert_eq!(got.load(Ordering::Relaxed), 2, "the stranger's packet went nowhere");
    end.now();
    assert_eq!(path.wait().await.0.entered, 1);
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn every_picture_of_a_clean_link_arrives_and_can_be_read() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let at = choir_rig::port();
                let to = format!("srt://127.0.0.1:{at}?latency=80");
                let numbers = numbers(&to, &format!("srt://127.0.0.1:{at}?mode=listener&latency=80"), &stop, 120).await;
                on_time("every picture comes", || assert_running_on(&numbers));
                end.now();
            })
        });
    }

    #[test]
    fn every_picture_survives_a_path_that_loses_one_packet_in_twenty() {
        timed(|| {
            run(async {
                let (end, stop) = Stop::new();
                let (front, behind) = (choir_rig::port(), choir_rig::port());
                let faults = Faults {
                    delay: Duration::from_millis(10),
                    jitter: Duration::from_millis(3),
                    loss: 0.05,
                    burst: 2.0,
                    reorder: 0.01,
                    duplicate: 0.01,
                    ..Faults::default()
                };
                let settings = RelaySettings {
                    listen: ([127, 0, 0, 1], front).into(),
                    to: ([127, 0, 0, 1], behind).into(),
                    from: None,
                    client: None,
                    there: faults.clone(),
                    back: faults,
                    seed: 5,
                    changes: None,
                };
                let path = relay::start(settings, stop.clone()).expect("a path");
                let to = format!("srt://127.0.0.1:{front}?latency=400&passphrase=rowing%20is%20made%20up");
                let input = format!("srt://127.0.0.1:{behind}?mode=listener&latency=400&passphrase=rowing%20is%20made%20up");
                let numbers = numbers(&to, &input, &stop, 150).await;
                on_time("every picture comes", || assert_running_on(&numbers));
                let (there, back) = path.stats();
                on_time("in time", || assert!(there.lost > 5 && there.duplicated > 0 && back.entered > 50, "{there:?} {back:?}"));
                end.now();
                path.wait().await;
            })
        });
    }
}
