//! What a sheet says only as a whole: which networks a link crosses, by which address the far end
//! knows this machine, what a line should bring, and what is judged where.

use choir_core::{
    Grade,
    budget::budget,
    link::parse_url,
    network::crossed,
    sheet::{Sheet, read_sheet},
};
use std::time::Duration;

const SHEET: &str = r#"[show]
name = "Tarn Hollow Regatta"
address = "127.20.0.1"

[[network]]
name = "site"
range = ["127.20.0.0/24", "127.20.1.10-127.20.1.20"]
path = { rtt = "2 ms" }

[[network]]
name = "mobile"
kind = "uplink"
nat = true
public-address = "127.20.9.1"
path = { rtt = "80 ms", loss = "2%", burst = 3, jitter = "20 ms" }

[[device]]
name = "tower"
address = "127.20.0.11"
control = "onvif"
main = { codec = "h264", size = "1280x720", rate = 25, bitrate = "5 Mbps", keyframe = "25 frames", audio = "aac", line = "tower" }

[[line]]
name = "tower"
from = "rtsp://127.20.0.11/main"
expect = { bitrate = "4 Mbps" }

[[line]]
name = "launch"
from = { mode = "listener", port = 7103, latency = "400 ms", passphrase = { env = "A" } }
via = ["mobile", "site"]

[[line]]
name = "pontoon"
from = "srt://127.20.1.12:7102?bind=127.20.1.11"

[[feed]]
name = "desk"
line = "tower"
to = ["udp://127.20.0.31:7204", "srt://relay.example:7300?passphrase-env=B"]
via = "mobile"
"#;

fn sheet() -> Sheet {
    let (sheet, findings) = read_sheet(SHEET);
    assert!(findings.iter().all(|f| f.grade < Grade::Error), "{findings:?}");
    sheet.expect("a sheet")
}

#[test]
fn a_link_crosses_what_holds_its_addresses_and_what_is_named() {
    let s = sheet();
    let names = |line: &str| s.line_crosses(s.line(line).expect("a line")).iter().map(|n| n.name.clone()).collect::<Vec<_>>();
    assert_eq!(names("tower"), ["site"]);
    assert_eq!(names("launch"), ["site", "mobile"], "in the sheet's order");
    assert_eq!(names("pontoon"), ["site"], "by a range that is no prefix");
    let feed = &s.feeds[0];
    let out = |n: usize| s.feed_crosses(feed, &feed.to[n].link).iter().map(|n| n.name.clone()).collect::<Vec<_>>();
    assert_eq!((out(0), out(1)), (vec!["site".to_owned()], vec!["mobile".to_owned()]), "what stays at home does not leave it");
    let far = parse_url("udp://[::1]:7300").0.expect("a link");
    assert!(crossed(&s.networks, &[], &far.addresses(), false).is_empty(), "IPv6 is on no IPv4 network");
}

#[test]
fn paths_add_up_and_the_line_s_own_words_come_first() {
    let mut s = sheet();
    let path = s.line_path(s.line("launch").expect("a line")).expect("a path");
    assert_eq!((path.rtt, path.jitter, path.burst), (Duration::from_millis(82), Duration::from_millis(20), 3.0));
    assert!((path.loss - 0.02).abs() < 1e-9);
    s.lines[1].path = Some(choir_core::advice::PathFacts::clean(Duration::from_millis(7)));
    assert_eq!(s.line_path(&s.lines[1]).map(|p| p.rtt), Some(Duration::from_millis(7)));
}

#[test]
fn the_far_end_knows_this_machine_by_its_public_address_its_own_or_the_show_s() {
    let s = sheet();
    let own = |line: &str| {
        let line = s.line(line).expect("a line");
        s.own_address(&s.line_crosses(line), &line.from)
    };
    assert_eq!(own("launch").as_deref(), Some("127.20.9.1"), "behind translation");
    assert_eq!(own("pontoon").as_deref(), Some("127.20.1.11"), "its own");
    assert_eq!(s.own_address(&[], &parse_url("srt://0.0.0.0:7103?mode=listener").0.expect("a link")).as_deref(), Some("127.20.0.1"));
}

#[test]
fn a_line_should_bring_what_it_says_and_else_what_its_device_is_to_send() {
    let s = sheet();
    let wanted = s.wanted(s.line("tower").expect("a line"));
    assert_eq!((wanted.codec.as_deref(), wanted.size, wanted.audio), (Some("h264"), Some((1280, 720)), Some(true)));
    assert_eq!(wanted.bitrate.map(|b| b.0), Some(4_000_000), "the line's own word holds");
    assert_eq!(s.source_of("tower").map(|(d, stream, _)| (d.name.as_str(), stream)), Some(("tower", "main")));
    let b = budget(&s);
    let on = |n: usize| b.networks[n].streams.iter().map(|s| s.subject.as_str()).collect::<Vec<_>>();
    assert_eq!(on(0), ["line tower", "line launch", "line pontoon", "feed desk"]);
    assert_eq!(on(1), ["line launch", "feed desk"]);
}

#[test]
fn values_of_the_new_entries_are_checked_where_they_stand() {
    let text = SHEET
        .replace("127.20.0.0/24", "127.20.0.0/99")
        .replace("burst = 3", "burst = 0")
        .replace("kind = \"uplink\"\nnat = true", "kind = \"uplnk\"\nreserve = 20\nnat = \"yes\"")
        .replace("rtt = \"2 ms\"", "rtt = 2")
        .replace("via = \"mobile\"", "via = 7\nfar = \"srt://:1\"\naccepts = { codec = \"h266\", rate = [0] }")
        .replace("address = \"127.20.0.1\"\n", "address = \"127.20.0.1\"\nmains = \"400 Hz\"\nrate = 0\nlatency-limit = 5\n");
    let (none, findings) = read_sheet(&text);
    assert!(none.is_none());
    let said: Vec<String> = findings.iter().map(|f| format!("{}: {}", f.subject, f.what)).collect();
    for wanted in [
        "network \"site\": range \"127.20.0.0/99\" is not a range of addresses.",
        "network \"site\": rtt 2 has no unit.",
        "network \"mobile\": burst is not a number of packets.",
        "network \"mobile\": kind \"uplnk\" is unknown.",
        "network \"mobile\": reserve 20 has no unit.",
        "network \"mobile\": nat must be true or false.",
        "feed \"desk\": via must be texts.",
        "feed \"desk\": codec \"h266\" is unknown.",
        "feed \"desk\": rate must be frame rates.",
        "show: mains \"400 Hz\" is not a mains frequency.",
        "show: rate is not a frame rate.",
        "show: latency-limit 5 has no unit.",
    ] {
        assert!(said.iter().any(|s| s == wanted), "{wanted}\nin {said:#?}");
    }
    assert!(findings.windows(2).all(|w| w[0].place <= w[1].place), "in the order of the text");
}
