//! Cameras on the LAN, served feeds, groups and inspections, with the built program.

use crate::place::{Place, Running, last_json, port};
use choir_sim::stalls::{on_time, timed};
use std::{
    fs,
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    process::Command,
};

/// A camera that waits to be pulled, with further arguments; gives its address.
pub fn camera(place: &Place, more: &[&str]) -> (Running, String) {
    let at = format!("127.0.0.1:{}", port());
    let mut args = vec!["sim", "camera", "--serve", &at, "--size", "320x180", "--bitrate", "1Mbps", "--keyframe", "0.4"];
    args.extend(more);
    let mut command = place.command(&args);
    command.env("CAMERA", "four oars");
    let mut running = Running::of(command);
    running.says("waits at");
    (running, at)
}

fn inspections() {
    let place = Place::new();
    let (_camera, at) = camera(&place, &["--sub", "160x90", "--user", "desk", "--password-env", "CAMERA"]);
    let sheet = place.write(
        "boathouse.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n\
             [[line]]\nname = \"finish-tower\"\nexpect = {{ codec = \"h264\", size = \"320x180\", rate = 25 }}\n\
             [line.from]\nurl = \"rtsp://desk@{at}/main\"\npassword = {{ env = \"CAMERA\" }}\n\
             [[line]]\nname = \"finish-tower-sub\"\nexpect = {{ codec = \"h265\", size = \"320x180\" }}\n\
             [line.from]\nurl = \"rtsp://{at}/sub\"\nuser = \"desk\"\npassword = {{ env = \"CAMERA\" }}\n"
        ),
    );
    let inspect = |args: &[&str]| {
        let out = place.command(&[&["inspect", "--for", "2s"], args].concat()).env("CAMERA", "four oars").output().expect("runs");
        (out.status.code(), String::from_utf8_lossy(&out.stdout).into_owned(), String::from_utf8_lossy(&out.stderr).into_owned())
    };
    let (code, text, _) = inspect(&["--sheet", &sheet, "--line", "finish-tower"]);
    for wanted in ["RTP by UDP, Digest with MD5", "320x180", "each 10 frames, 0.40 s", "as line finish-tower has it"] {
        assert!(text.contains(wanted), "{wanted} in\n{text}");
    }
    on_time("nothing is wrong with what comes", || assert!(code == Some(0) && text.contains("no problem"), "{text}"));
    let (code, text, _) = inspect(&["--sheet", &sheet, "--line", "finish-tower-sub", "--json"]);
    assert_eq!(code, Some(5), "{text}");
    let view: serde_json::Value = serde_json::from_str(&text).expect("JSON");
    assert_eq!(view["differs"], serde_json::json!(["expected h265, receiving h264", "expected 320x180, receiving 160x90"]));
    // Typed in the open, the password goes no further than this.
    let (code, text, errors) = inspect(&[&format!("rtsp://desk:three%20oars@{at}/main"), "--wait", "8s"]);
    assert_eq!(code, Some(1), "{text}");
    assert!(errors.contains("does not take this user and password"), "{errors}");
    assert!(!errors.contains("three") && !text.contains("three"), "{errors}{text}");
    let (code, _, errors) = inspect(&[&format!("rtsp://desk@{at}/other#password-env=CAMERA"), "--wait", "2s"]);
    assert!(code == Some(1) && errors.contains("nothing under this path (404)"), "{errors}");
    let (code, _, errors) = inspect(&[&format!("rtsp://127.0.0.1:{}/main", port()), "--wait", "1s"]);
    assert!(code == Some(1) && errors.contains("is RTSP switched on"), "{errors}");
    let (code, _, errors) = inspect(&["--sheet", &sheet, "--line", "finish-towr"]);
    assert!(code == Some(2) && errors.contains("Did you mean \"finish-tower\""), "{errors}");
    let (code, _, errors) = inspect(&["rtsp:///main"]);
    assert!(code == Some(2) && errors.contains("whom to ask"), "{errors}");
}

#[test]
fn something_else_on_the_port_is_told_apart() {
    let place = Place::new();
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let at = listener.local_addr().expect("address");
    let other = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().expect("a caller");
        stream.write_all(b"SSH-2.0-something\r\n\0\x01").expect("writes");
        let _ = stream.read(&mut [0; 64]);
    });
    let out = place.run(&["inspect", &format!("rtsp://{at}/main"), "--wait", "1s"]);
    assert!(out.code == 1 && out.stdout.contains("not RTSP: it begins with \"SSH-2.0"), "{}{}", out.stdout, out.stderr);
    other.join().expect("ends");
}

#[test]
fn a_password_on_the_command_line_is_in_no_process_list() {
    let place = Place::new();
    let (_camera, at) = camera(&place, &["--user", "desk", "--password-env", "CAMERA"]);
    let mut link = place.start(&["link", &format!("rtsp://desk:four%20oars@{at}/main"), "got.ts", "--for", "8s"]);
    link.carries("line in");
    let cmdline = fs::read(format!("/proc/{}/cmdline", link.id())).expect("it runs");
    let text = String::from_utf8_lossy(&cmdline).replace('\0', " ");
    assert!(text.contains("password-env=CHOIR_PASSPHRASE_1") && !text.contains("oars"), "{text}");
    link.carries("feed out");
    link.interrupt();
    let (code, text) = link.end();
    assert!(code == 0 && text.contains("H.264 high") && !text.contains("oars"), "{text}");
}

/// What a camera says of itself, by hand.
fn describe(at: &str) -> String {
    let mut stream = TcpStream::connect(at).expect("connects");
    stream.write_all(format!("DESCRIBE rtsp://{at}/main RTSP/1.0\r\nCSeq: 1\r\n\r\n").as_bytes()).expect("asks");
    let mut text = String::new();
    let mut buffer = [0; 4096];
    while !text.contains("a=control:track2") {
        let n = stream.read(&mut buffer).expect("reads");
        assert!(n > 0, "{text}");
        text.push_str(&String::from_utf8_lossy(&buffer[..n]));
    }
    text.split_once("\r\n\r\n").expect("a body").1.to_owned()
}

fn all_pairs() {
    let place = Place::new();
    let group = 20_000 + port() % 10_000 * 2;
    let (_camera, at) = camera(&place, &["--group", &format!("239.20.2.1:{group}"), "--manner", "metadata-track"]);
    let (srt, served, rtp) = (port(), port(), port());
    // RTSP by a group, in; SRT; RTSP served; RTP; a file.
    let mut first =
        place.start(&["link", &format!("rtsp://{at}/main#transport=multicast"), &format!("srt://127.0.0.1:{srt}"), "--for", "60s"]);
    let mut second = place.start(&[
        "link",
        &format!("srt://127.0.0.1:{srt}?mode=listener"),
        &format!("rtsp://127.0.0.1:{served}/finish"),
        "--for",
        "60s",
    ]);
    second.says(&format!("viewers use rtsp://127.0.0.1:{served}/finish"));
    let mut third = place.start(&[
        "link",
        &format!("rtsp://127.0.0.1:{served}/finish#transport=tcp"),
        &format!("rtp://127.0.0.1:{rtp}"),
        "--for",
        "60s",
    ]);
    let mut last = place.start(&["link", &format!("rtp://127.0.0.1:{rtp}"), "end.ts", "--json", "--for", "60s"]);
    // The group by its description alone, beside the session that keeps it going.
    first.carries("line in");
    let sdp = place.write("finish-tower.sdp", &describe(&at));
    let by_sdp = place.run(&["inspect", &format!("rtp://?sdp={sdp}&interface=127.0.0.1"), "--for", "2s", "--json"]);
    on_time("nothing is wrong with what comes", || assert_eq!(by_sdp.code, 0, "{}{}", by_sdp.stdout, by_sdp.stderr));
    let view: serde_json::Value = serde_json::from_str(&by_sdp.stdout).expect("JSON");
    assert_eq!((&view["picture"]["size"], &view["sound"]), (&serde_json::json!([320, 180]), &serde_json::json!("AAC 48 kHz stereo")));
    last.carries("feed out");
    for running in [&mut last, &mut third, &mut second, &mut first] {
        running.interrupt();
    }
    let (code, text) = last.end();
    let json = last_json(&text);
    assert_eq!((code, &json["media"]["size"]), (0, &serde_json::json!([320, 180])), "{text}");
    on_time("nothing is missing", || {
        assert_eq!((&json["media"]["continuity_errors"], &json["from"]["missing"]), (&serde_json::json!(0), &serde_json::json!(0)))
    });
}

#[test]
fn wrong_links_are_refused_with_the_place_and_the_way_out() {
    let place = Place::new();
    for (from, to, says) in [
        ("rtsp://h:0/x", "a.ts", "Allowed: 1 to 65535"),
        ("rtsp://h/x#transport=upd", "a.ts", "Allowed: auto, udp, tcp, multicast"),
        ("rtsp://h/x#reorder=9000", "a.ts", "At most 2 s"),
        ("rtsps://h/x", "a.ts", "Set the camera to rtsp://"),
        ("udp://h:5004", "rtsp://:8554/a?x=1", "has no query"),
        ("udp://h:5004", "rtsp://desk@:8554/a", "a user needs a password"),
        ("udp://h:5004", "rtp://:5004", "needs a host and a port"),
        ("udp://h:5004?interface=127.0.0.1", "a.ts", "only be chosen for a multicast group"),
        ("rtp://h", "a.ts", "the port is missing"),
        ("rtp://?sdp=none.sdp", "a.ts", "none.sdp cannot be used"),
        ("udp://192.0.2.1@239.1.1.1:5004?ttl=0", "a.ts", "ttl is not a number of routers"),
        ("udp://239.1.1.1:5004?interface=203.0.113.5", "a.ts", "cannot open 239.1.1.1:5004"),
    ] {
        let out = place.run(&["link", from, to, "--for", "1s"]);
        assert!(matches!(out.code, 2 | 4), "{from} {to}: {} {}", out.code, out.stderr);
        assert!(out.stderr.contains(says), "{says} in {}", out.stderr);
    }
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn every_kind_of_link_pairs_with_every_other_on_the_lan() {
        timed(all_pairs);
    }

    #[test]
    fn an_inspection_matches_differs_or_finds_nothing() {
        timed(inspections);
    }

    #[test]
    fn captures_are_read_by_an_independent_reader_without_complaint() {
        timed(|| {
            if !crate::wire::can_capture() {
                return;
            }
            let place = Place::alone();
            let (_camera, at) = camera(&place, &["--user", "desk", "--password-env", "CAMERA"]);
            let (rtsp, ts) = (at.rsplit(':').next().unwrap_or_default().to_owned(), port());
            let file = place.path("lan.pcapng").display().to_string();
            let mut command = Command::new("tshark");
            command.args(["-i", "lo", "-f", &format!("udp or tcp port {rtsp}"), "-w", &file, "-a", "duration:120"]);
            let mut capture = Running::of(command);
            capture.says("Capture started");
            for transport in ["udp", "tcp"] {
                let from = format!("rtsp://desk@{at}/main#password-env=CAMERA&transport={transport}");
                let mut link = place.command(&["link", &from, &format!("udp://127.0.0.1:{ts}"), "--for", "8s", "--json"]);
                let out = link.env("CAMERA", "four oars").output().expect("runs");
                assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
            }
            capture.interrupt();
            capture.end();
            let read = |args: &[&str]| {
                let ports = [format!("tcp.port=={rtsp},rtsp"), format!("udp.port=={ts},mp2t")];
                let out = Command::new("tshark")
                    .args(["-r", &file, "-d", &ports[0], "-d", &ports[1], "-d", "rtp.pt==96,h264"])
                    .args(args)
                    .output()
                    .expect("tshark");
                String::from_utf8_lossy(&out.stdout).into_owned()
            };
            let methods = read(&["-Y", "rtsp.request", "-T", "fields", "-e", "rtsp.method"]);
            // Twice described: without and with the proof. A goodbye between interleaved packets it
            // may not find.
            for (wanted, least) in [("OPTIONS", 2), ("DESCRIBE", 4), ("SETUP", 4), ("PLAY", 2), ("TEARDOWN", 1)] {
                assert!(methods.lines().filter(|m| *m == wanted).count() >= least, "{wanted}: {methods}");
            }
            assert!(read(&["-Y", "sdp.media contains \"video\""]).lines().count() >= 2);
            // By UDP and within the connection, pictures and sound are known for what they are.
            for (over, least) in [("udp && h264", 300), ("tcp && h264", 100)] {
                let n = read(&["-Y", over]).lines().count();
                assert!(n > least, "{n} of {over}");
            }
            assert!(read(&["-Y", "rtcp.pt == 200"]).lines().count() >= 2, "sender reports");
            assert!(read(&["-Y", "rtcp.pt == 201"]).lines().count() >= 2, "receiver reports");
            assert!(read(&["-Y", &format!("mp2t && udp.port == {ts}")]).lines().count() > 500);
            on_time("nothing is missing", || assert_eq!(read(&["-Y", "mp2t.cc.drop"]), "", "no packet missing by its counter"));
            let wrong = format!("(_ws.malformed || _ws.expert.severity >= 6291456) && (rtp || rtcp || rtsp || sdp || udp.port == {ts})");
            let complaints = read(&["-Y", &wrong, "-T", "fields", "-e", "_ws.expert.message"]);
            // The reader says of itself that it does not know every message of H.264.
            let own = |line: &&str| line.split(',').any(|m| m != "[Not decoded yet]");
            assert_eq!(complaints.lines().filter(own).take(5).collect::<Vec<_>>(), Vec::<&str>::new(), "tshark complains");
        });
    }
}
