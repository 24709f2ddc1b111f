//! Takes and recordings, with the built program: what ends up in the file is legal.

use super::place::{Place, port};
use choir_proto::ts::Origin;
use choir_sim::stalls::{on_time, timed};
use std::fs;

fn takes_between_files() {
    let place = Place::new();
    place.clip();
    let args = ["sim", "camera", "--to", "other.ts", "--size", "320x180", "--rate", "50", "--bitrate", "2Mbps", "--for", "3s"];
    assert_eq!(place.run(&args).code, 0);
    assert_eq!(place.defects("clip.ts", Origin::Start, &[]), Vec::<String>::new());
    let sheet = "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"a\"\nfrom = \"clip.ts?repeat\"\n\
                 [[line]]\nname = \"b\"\nfrom = \"other.ts?repeat\"\n[[feed]]\nname = \"f\"\nline = \"a\"\nto = \"out.ts\"\n";
    place.write("takes.toml", sheet);
    let mut show = place.start(&["run", "takes.toml"]);
    show.carries("feed f");
    for n in 0..6 {
        let to = if n % 2 == 0 { "b" } else { "a" };
        // Taken back at once, and asked for again: no trace of that may be left.
        for line in [to, if to == "a" { "b" } else { "a" }, to] {
            assert_eq!(place.run(&["take", "f", line]).code, 0);
        }
        place.until("the take", |v| v["feeds"][0]["line"] == to && v["feeds"][0]["next"].is_null());
    }
    show.interrupt();
    assert_eq!(show.end().0, 0);
    assert!(!show.seen.iter().any(|l| l.contains("strained: waiting for the first keyframe")), "{:?}", show.seen);
    on_time("nothing is late or missing", || assert_eq!(place.defects("out.ts", Origin::Start, &[]), Vec::<String>::new()));
}

#[test]
fn a_recording_is_never_overwritten() {
    let place = Place::new();
    let clip = place.clip();
    for _ in 0..3 {
        let out = place.run(&["link", &clip, "got.ts", "--for", "1s"]);
        assert!(out.code == 0, "{}", out.stderr);
    }
    for name in ["got.ts", "got-1.ts", "got-2.ts"] {
        assert!(fs::metadata(place.path(name)).expect("kept").len() > 10_000, "{name}");
    }
}

#[test]
fn a_recording_says_how_it_came_out() {
    let place = Place::new();
    let clip = place.clip();
    let out = place.run(&["link", &clip, "good.ts"]);
    assert!(out.code == 0 && out.stderr.contains("good.ts: recorded without defects"), "{}", out.stderr);
    // A packet of the picture is missing in the middle.
    let mut data = fs::read(&clip).expect("a clip");
    let middle = data.len() / 2 / 188;
    let place_of = |n: &usize| data[n * 188 + 1..n * 188 + 4] == [0x01, 0x00, data[n * 188 + 3] & 0x0F | 0x10];
    let at = (middle..data.len() / 188).find(place_of).expect("a packet of the picture") * 188;
    data.drain(at..at + 188);
    fs::write(place.path("bad.ts"), data).expect("written");
    let out = place.run(&["link", "bad.ts", "got.ts"]);
    let missing = "1 packet missing by the continuity counter; PID 256";
    assert!(out.stderr.contains(&format!("s: {missing}")), "told while it is recorded: {}", out.stderr);
    assert!(out.stderr.contains(&format!("got.ts: recorded with defects: {missing}")), "{}", out.stderr);
}

#[test]
fn a_full_disk_is_told_and_writing_goes_on_once_there_is_room() {
    let place = Place::new();
    let clip = format!("{}?repeat", place.clip());
    // A disk that is full until the link to it is taken away.
    std::os::unix::fs::symlink("/dev/full", place.path("out.ts")).expect("a link");
    let mut link = place.start(&["link", &clip, "out.ts", "--for", "10s"]);
    link.says("writing stopped");
    fs::remove_file(place.path("out.ts")).expect("taken away");
    link.says("writing again after");
    assert_eq!(link.end().0, 0);
    let size = fs::metadata(place.path("out.ts")).expect("a recording").len();
    assert!(size.is_multiple_of(188) && size > 100_000, "{size}");
}

#[test]
fn a_file_begins_for_the_first_viewer_and_at_once() {
    let place = Place::new();
    let clip = place.clip();
    let at = port();
    let mut served = place.start(&["link", &clip, &format!("rtsp://127.0.0.1:{at}/clip"), "--for", "30s"]);
    served.says("viewers use");
    let out = place.run(&["inspect", &format!("rtsp://127.0.0.1:{at}/clip"), "--for", "2s", "--wait", "6s", "--json"]);
    let seen: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    assert_eq!((seen["found"].as_bool(), seen["picture"]["size"].clone()), (Some(true), serde_json::json!([320, 180])), "{}", out.stderr);
    served.kill();
}

#[test]
fn callers_that_are_refused_show_in_the_line_s_state() {
    let place = Place::new();
    let clip = format!("{}?repeat", place.clip());
    let at = port();
    let sheet = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"launch\"\nfrom = \"srt://127.0.0.1:{at}?mode=listener&streamid=launch\"\n"
    );
    place.write("refuses.toml", &sheet);
    let mut show = place.start(&["run", "refuses.toml"]);
    show.says("line launch: waiting");
    let mut caller = place.start(&["link", &clip, &format!("srt://127.0.0.1:{at}?streamid=lunch")]);
    caller.says("the stream ID is not known there");
    let view = place.until("the refusal", |v| v["lines"][0]["link"]["reason"].as_str().is_some_and(|r| r.contains("\"lunch\" refused")));
    let reason = view["lines"][0]["link"]["reason"].as_str().expect("a reason").to_owned();
    assert!(reason.contains("no line or feed here has that stream ID"), "{reason}");
    let mut receiver = place.start(&["link", &format!("srt://127.0.0.1:{at}?streamid=%23!::r=launch,m=request"), "got.ts"]);
    receiver.says("the other direction");
    receiver.kill();
    caller.kill();
    show.interrupt();
    show.end();
}

#[test]
fn a_closed_port_is_told_at_once() {
    let place = Place::new();
    let out = place.run(&["inspect", &format!("srt://127.0.0.1:{}", port()), "--wait", "1s"]);
    assert_eq!(out.code, 1);
    assert!(out.stderr.contains("nothing listens on that port"), "{}", out.stderr);
}

/// Run with the machine to itself.
mod timing {
    use super::*;

    #[test]
    fn takes_between_repeating_files_give_a_legal_recording() {
        timed(takes_between_files);
    }
}
