//! An independent reader of what goes over the wire: tshark, where it is installed (CI installs
//! it).

use crate::place::{PATIENCE, Place, port};
use std::{
    process::{Command, Stdio},
    time::Instant,
};

/// True where tshark may capture; where CHOIR_CAPTURES=required says so, it must.
pub fn can_capture() -> bool {
    let tshark = Command::new("tshark").arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status();
    let can = tshark.is_ok_and(|s| s.success()) && rustix::process::geteuid().is_root();
    let required = std::env::var_os("CHOIR_CAPTURES").is_some_and(|v| v == "required");
    assert!(can || !required, "tshark is not installed, or this is not root");
    if !can {
        eprintln!("skipped: tshark is not installed, or only root may capture");
    }
    can
}

#[test]
fn a_captured_session_is_read_without_complaint() {
    if !can_capture() {
        return;
    }
    let place = Place::new();
    let clip = place.clip();
    let at = port();
    let file = place.path("session.pcapng").display().to_string();
    let mut command = Command::new("tshark");
    command.args(["-i", "lo", "-f", &format!("udp port {at}"), "-w", &file, "-a", "duration:120"]);
    let mut capture = crate::place::Running::of(command);
    capture.says("Capture started");
    let mut receiver = place.start(&["link", &format!("srt://127.0.0.1:{at}?mode=listener&passphrase=rowing is made up"), "got.ts"]);
    receiver.says("line in: waiting");
    let sent = place.run(&["link", &clip, &format!("srt://127.0.0.1:{at}?passphrase=rowing is made up&streamid=%23!::r=clip,m=publish")]);
    assert_eq!(sent.code, 0, "{}", sent.stderr);
    receiver.says("the other end closed the link");
    receiver.interrupt();
    receiver.end();
    let read = |args: &[&str]| {
        let out = Command::new("tshark").args(["-r", &file, "-d", &format!("udp.port=={at},srt")]).args(args).output().expect("tshark");
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    // The capture writes in batches: what came last is not in the file at once.
    let begun = Instant::now();
    while read(&["-Y", "srt.type == 5"]).is_empty() && begun.elapsed() < PATIENCE {}
    capture.interrupt();
    capture.end();
    let packets = read(&["-Y", "srt", "-T", "fields", "-e", "srt.iscontrol", "-e", "srt.type"]);
    let of_type = |t: &str| packets.lines().filter(|l| l.split('\t').nth(1) == Some(t)).count();
    assert!(packets.lines().filter(|l| l.starts_with('0') || l.starts_with("False")).count() > 300, "data packets: {packets}");
    assert!(of_type("0x0000") >= 4, "handshakes: {}", packets.lines().take(12).collect::<Vec<_>>().join(" / "));
    assert!(of_type("0x0002") > 20 && of_type("0x0006") > 20, "acknowledgements and their answers");
    assert_eq!(of_type("0x0005"), 1, "one shutdown");
    let complaints = read(&["-Y", "_ws.malformed || _ws.expert.severity >= 6291456"]);
    assert_eq!(complaints, "", "tshark complains");
    let handshakes = read(&["-Y", "srt.hs.sid contains \"clip\" && srt.km.msg"]);
    assert!(!handshakes.is_empty());
}

#[test]
fn a_captured_publication_is_read_without_complaint() {
    if !can_capture() {
        return;
    }
    let place = Place::new();
    let clip = place.clip();
    let at = port();
    let file = place.path("rtmp.pcapng").display().to_string();
    let mut command = Command::new("tshark");
    command.args(["-i", "lo", "-f", &format!("tcp port {at}"), "-w", &file, "-a", "duration:120"]);
    let mut capture = crate::place::Running::of(command);
    capture.says("Capture started");
    let mut receiver = place.start(&["link", &format!("rtmp://127.0.0.1:{at}/in/bow#mode=listener"), "got.ts"]);
    receiver.says("line in: waiting");
    let sent = place.run(&["link", &clip, &format!("rtmp://127.0.0.1:{at}/in/bow")]);
    assert_eq!(sent.code, 0, "{}", sent.stderr);
    receiver.says("it ended its stream");
    receiver.interrupt();
    receiver.end();
    let read = |args: &[&str]| {
        let out = Command::new("tshark").args(["-r", &file, "-d", &format!("tcp.port=={at},rtmpt")]).args(args).output().expect("tshark");
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    // The capture writes in batches: what came last is not in the file at once.
    let begun = Instant::now();
    while !read(&["-Y", "rtmpt", "-V"]).contains("deleteStream") && begun.elapsed() < PATIENCE {}
    capture.interrupt();
    capture.end();
    let told = read(&["-Y", "rtmpt", "-V"]);
    for part in [
        "Handshake C0+C1",
        "Handshake S0+S1+S2",
        "Handshake C2",
        "'connect'",
        "'createStream'",
        "'publish'",
        "'onStatus'",
        "NetStream.Publish.Start",
        "@setDataFrame",
    ] {
        assert!(told.contains(part), "{part} is not in what tshark reads");
    }
    let of_type = |t: &str| told.matches(t).count();
    assert!(of_type("Type ID: Video Data (0x09)") > 80, "{} pictures", of_type("Type ID: Video Data (0x09)"));
    assert!(of_type("Type ID: Audio Data (0x08)") > 100, "{} of sound", of_type("Type ID: Audio Data (0x08)"));
    assert_eq!(read(&["-Y", "rtmpt && (_ws.malformed || _ws.expert.severity >= 6291456)"]), "", "tshark complains");
}
