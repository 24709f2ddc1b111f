//! `choir run` and the commands that talk to it; the demo; the stand-ins.

use crate::place::{Place, port};
use choir_sim::stalls::{on_time, timed};

struct Stage {
    place: Place,
    sheet: String,
    lines: [u16; 2],
    input: u16,
}

/// Two lines that wait for cameras, and a feed to a switcher's input.
fn stage() -> Stage {
    let place = Place::new();
    let (lines, input) = ([port(), port()], port());
    let sheet = place.write(
        "boathouse.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n\
             [[line]]\nname = \"finish-tower\"\nfrom = \"srt://127.0.0.1:{}?mode=listener&latency=80\"\n\
             [[line]]\nname = \"start-pontoon\"\nfrom = \"srt://127.0.0.1:{}?mode=listener&latency=80\"\n\
             [[feed]]\nname = \"boathouse-1\"\nline = \"finish-tower\"\nto = \"srt://127.0.0.1:{input}?latency=40\"\n",
            lines[0], lines[1]
        ),
    );
    Stage { place, sheet, lines, input }
}

fn camera(stage: &Stage, line: usize) -> crate::place::Running {
    let to = format!("srt://127.0.0.1:{}", stage.lines[line]);
    stage.place.start(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "1Mbps", "--keyframe", "0.4"])
}

fn line_state(view: &serde_json::Value, line: usize) -> String {
    view["lines"][line]["link"]["state"].as_str().unwrap_or_default().to_owned()
}

#[test]
fn a_camera_that_dies_is_told_and_comes_back() {
    let stage = stage();
    let mut show = stage.place.start(&["run", &stage.sheet]);
    let mut first = camera(&stage, 0);
    show.carries("line finish-tower");
    first.kill();
    show.says("line finish-tower: broken");
    let _again = camera(&stage, 0);
    show.carries("line finish-tower");
    show.interrupt();
    let (code, text) = show.end();
    assert_eq!(code, 0);
    assert!(text.contains("finish-tower"), "Ctrl-C ends with a summary: {text}");
}

fn demo_is_steady() {
    let place = Place::alone();
    let net = choir_rig::wide_net();
    let out = place.run(&["demo", "--for", "10s", "--json", "--net", &net]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    let view: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    // The wall is drawn when somebody wants it.
    let rests = |line: &&serde_json::Value| line["link"]["url"].as_str().is_some_and(|u| u.starts_with("wall:"));
    for line in view["lines"].as_array().expect("lines").iter().filter(|l| !rests(l)) {
        on_time("steady", || assert_eq!(line["link"]["state"], "steady", "{line:#}"));
        let srt = line["link"]["url"].as_str().is_some_and(|u| u.starts_with("srt:"));
        let numbers: &[&str] =
            if srt { &["rate_bps", "packets", "latency_ms", "headroom_ms", "rtt_ms"] } else { &["rate_bps", "packets", "rtt_ms"] };
        for number in numbers {
            assert!(line["link"][*number].as_f64().is_some_and(|n| n > 0.0), "{number} of {line:#}");
        }
        on_time("the delay", || assert!(line["delay_ms"].as_f64().is_some_and(|d| d > 0.0)));
    }
    // The desk's inputs are those of the feeds; the programme goes on to others.
    for (feed, input) in view["feeds"].as_array().expect("feeds")[..5].iter().zip(view["inputs"].as_array().expect("inputs")) {
        on_time("nothing is missing", || assert_eq!(input["frames_missing"], 0, "{input}"));
        on_time("up within seconds", || assert!(input["frames"].as_u64() > Some(100), "{input}"));
        let (said, measured) = (feed["delay_to_input_ms"].as_f64().unwrap_or(0.0), input["delay_ms"][1].as_f64().unwrap_or(0.0));
        on_time("the delay", || {
            assert!((said - measured).abs() < 60.0, "the delay told is {said} ms, the switcher measured {measured} ms")
        });
    }
    // What the desk takes by name comes as the line does, and it tells what it shows of it.
    for (input, line) in [(5, 0), (6, 2), (7, 4)] {
        let (input, line) = (&view["inputs"][input], &view["lines"][line]);
        on_time("nothing is missing", || assert!(input["frames_missing"] == 0 && input["frames"].as_u64() > Some(100), "{input}"));
        let (there, here) = (input["delay_ms"][1].as_f64().unwrap_or(0.0), line["delay_ms"].as_f64().unwrap_or(0.0));
        assert!((there - here).abs() < 60.0, "{here} ms here, {there} ms at the desk");
    }
    // The programme reaches the gateway, the monitor beside the desk, and the platform.
    for input in [8, 9, 10] {
        let input = &view["inputs"][input];
        on_time("the programme", || assert!(input["frames_missing"] == 0 && input["frames"].as_u64() > Some(75), "{input}"));
    }
    // Which ones may just be changing.
    for of in ["lines", "inputs"] {
        let tallies: Vec<_> = view[of].as_array().into_iter().flatten().filter_map(|l| l["tally"].as_str()).collect();
        assert!(tallies.len() == 2 && tallies.contains(&"on-air") && tallies.contains(&"next"), "{of}: {tallies:?}");
    }
    let secured: Vec<_> = view["lines"].as_array().into_iter().flatten().map(|l| l["link"]["encryption"].clone()).collect();
    assert_eq!(secured, ["none", "none", "none", "AES-256 secured", "AES-128 secured", "TLS 1.3", "none", "none"]);
    let how = |n: usize| view["lines"][n]["link"]["how"].as_str().unwrap_or_default().to_owned();
    assert_eq!([how(0), how(1)], ["RTP by UDP, Digest with MD5", "RTP by TCP, Digest with MD5"]);
    let seen: Vec<_> = view["lines"].as_array().into_iter().flatten().map(|l| l["media"]["codec"].clone()).collect();
    assert_eq!(seen[..6], ["H.264", "H.264", "H.264", "H.265", "H.264", "H.264"]);
    assert!(seen[7].is_null(), "nobody wants the wall");
    assert_eq!(view["lines"][5]["media"]["audio"], "PCM (ST 302) 48 kHz stereo");
    assert_eq!(view["feeds"][0]["outs"][0]["paste"][0], format!("rtsp://{net}.0.1:8554/boathouse-1"));
}

fn path_is_repaired() {
    let place = Place::new();
    let clip = format!("{}?repeat", place.clip());
    let (a, b) = (port(), port());
    let mut path = place.start(&[
        "sim",
        "path",
        "--in",
        &format!("127.0.0.1:{a}"),
        "--out",
        &format!("127.0.0.1:{b}"),
        "--delay",
        "20ms",
        "--jitter",
        "5ms",
        "--loss",
        "3%",
        "--burst",
        "2",
        "--duplicate",
        "1%",
        "--reorder",
        "1%",
        "--seed",
        "7",
    ]);
    path.says("and back");
    let mut receiver =
        place.start(&["link", &format!("srt://127.0.0.1:{b}?mode=listener&latency=400"), "got.ts", "--json", "--every", "1h"]);
    let mut sender = place.start(&["link", &clip, &format!("srt://127.0.0.1:{a}?latency=400"), "--for", "10s"]);
    sender.end();
    receiver.interrupt();
    let (_, text) = receiver.end();
    let json = crate::place::last_json(&text);
    assert!(json["from"]["lost"].as_u64() > Some(5), "{text}");
    on_time("nothing is missing", || assert_eq!(json["from"]["missing"], 0, "{text}"));
    on_time("nothing is missing", || assert_eq!(json["media"]["continuity_errors"], 0, "{text}"));
    path.interrupt();
    let (code, text) = path.end();
    assert_eq!((code, text.lines().count()), (0, 2), "{text}");
}

#[test]
fn a_changed_sheet_is_applied_by_command_and_at_every_save() {
    let place = Place::new();
    let clip = place.clip();
    let line = |name: &str| format!("[[line]]\nname = \"{name}\"\nfrom = \"{clip}?repeat\"\n");
    let text = |lines: &[&str]| {
        let lines: String = lines.iter().map(|l| line(l)).collect();
        format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n{lines}[[feed]]\nname = \"boathouse-1\"\nline = \"tower\"\nto = \"udp://127.0.0.1:9\"\n"
        )
    };
    let sheet = place.write("regatta.toml", &text(&["tower"]));
    let mut show = place.start(&["run", &sheet, "--plain", "--watch-sheet"]);
    show.carries("line tower");
    place.write("regatta.toml", &text(&["tower", "pontoon"]));
    show.says("sheet reloaded: line pontoon added");
    show.carries("line pontoon");
    assert_eq!(place.run(&["take", "boathouse-1", "pontoon"]).code, 0);
    show.says("pontoon is on");
    place.write("regatta.toml", &text(&["tower"]).replace("line = \"tower\"", "line = \"nobody\""));
    show.says("sheet not reloaded, nothing changed");
    assert!(place.run(&["status", &sheet]).stdout.contains("pontoon"));
    show.interrupt();
    show.end();

    // By command, where nothing is watched.
    let mut show = place.start(&["run", &place.write("regatta.toml", &text(&["tower"])), "--plain"]);
    show.carries("line tower");
    let out = place.run(&["reload"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "nothing has changed"));
    place.write("regatta.toml", &text(&["tower", "pontoon"]));
    let out = place.run(&["reload", &sheet]);
    assert_eq!((out.code, out.stdout.trim()), (0, "line pontoon added"));
    show.carries("line pontoon");
    place.write("regatta.toml", &line("tower"));
    let out = place.run(&["reload"]);
    assert_eq!(out.code, 3, "{}", out.stderr);
    assert!(out.stderr.contains("nothing has changed") && out.stderr.contains("regatta.toml:1:1"), "{}", out.stderr);
    show.interrupt();
    show.end();
    assert_eq!(place.run(&["reload"]).code, 3, "no show is running");
}

#[test]
fn a_camera_that_reaches_nobody_says_why_in_words() {
    let place = Place::new();
    let to = format!("srt://127.0.0.1:{}", choir_rig::port());
    let out = place.run(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "1Mbps", "--for", "2s"]);
    assert!(out.code == 1 && out.stderr.contains("nobody was reached: 127.0.0.1:"), "{}", out.stderr);
    assert!(out.stderr.contains("nothing listens on that port") && !out.stderr.contains("Lost("), "{}", out.stderr);
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn a_show_is_run_looked_at_taken_held_released_and_stopped() {
        timed(|| {
            let stage = stage();
            let place = &stage.place;
            let mut switcher = place.start(&["sim", "switcher", &format!("srt://127.0.0.1:{}?mode=listener", stage.input), "--json"]);
            switcher.says("input-1 waits");
            let mut show = place.start(&["run", &stage.sheet, "--json"]);
            show.says("boathouse-1: connected");
            let view = place.view();
            assert_eq!((line_state(&view, 0), line_state(&view, 1)), ("waiting".into(), "waiting".into()));
            assert!(view["lines"][0]["link"]["reason"].as_str().is_some_and(|r| r.contains("no caller on port")), "{view}");
            let _cameras = [camera(&stage, 0), camera(&stage, 1)];
            let view = place.until_steady(|v| (0..2).all(|l| line_state(v, l) == "steady"));
            on_time("the delay", || assert!(view["lines"][0]["delay_ms"].as_f64().is_some_and(|d| (80.0..400.0).contains(&d)), "{view}"));

            let second = place.run(&["run", &stage.sheet]);
            assert_eq!(second.code, 3);
            assert!(second.stderr.contains(&format!("process {}", show.id())), "says who runs it: {}", second.stderr);

            let out = place.run(&["take", "boathouse-1", "start-pontoon"]);
            assert_eq!((out.code, out.stdout.contains("at its next keyframe")), (0, true), "{}", out.stderr);
            place.until("the take", |v| v["feeds"][0]["line"] == "start-pontoon" && v["feeds"][0]["takes"] == 1);
            let wrong = place.run(&["take", "boathouse-1", "start-ponton"]);
            assert_eq!((wrong.code, wrong.stderr.contains("Did you mean \"start-pontoon\"")), (3, true), "{}", wrong.stderr);

            assert_eq!(place.run(&["hold", "finish-tower"]).code, 0);
            place.until("held", |v| line_state(v, 0) == "held");
            assert!(place.run(&["hold", "finish-tower"]).stdout.contains("already"));
            assert_eq!(place.run(&["release", "finish-tower"]).code, 0);
            place.until_steady(|v| line_state(v, 0) == "steady");

            let table = place.run(&["status", "-v", &stage.sheet]);
            let threads = place.view()["threads"].clone();
            assert!(table.stdout.contains("choir-srt") && table.stdout.contains("late ms"), "{}", table.stdout);
            assert_eq!(threads[0]["lines"], serde_json::json!(["finish-tower", "start-pontoon"]), "{threads}");
            assert!(threads[0]["links"] == 3 && threads[0]["late_most_ms"].as_f64() > Some(0.0), "{threads}");
            assert!(table.stdout.contains("finish-tower") && table.stdout.contains("320x180"), "{}", table.stdout);
            assert_eq!(place.run(&["stop"]).code, 0);
            let (code, text) = show.end();
            assert_eq!(code, 0);
            let document: serde_json::Value = serde_json::from_str(&text).expect("one JSON document");
            assert!(document["events"].as_array().is_some_and(|e| e.len() > 5));
            assert_eq!(place.run(&["status"]).code, 3);

            switcher.interrupt();
            let (_, text) = switcher.end();
            let inputs: serde_json::Value = serde_json::from_str(&text).expect("JSON");
            assert!(inputs[0]["frames"].as_u64() > Some(20), "{text}");
            on_time("the delay", || assert!(inputs[0]["delay_ms"][1].as_f64().is_some_and(|d| (120.0..600.0).contains(&d)), "{text}"));
        });
    }

    #[test]
    fn a_machine_is_asked_how_many_links_it_carries() {
        timed(|| {
            let place = Place::new();
            let out = place.run(&["bench", "--links", "3", "--rate", "4Mbps", "--for", "1s", "--json"]);
            on_time("three links", || assert_eq!(out.code, 0, "{}", out.stderr));
            assert!(out.stderr.contains("   3 links: carried"), "{}", out.stderr);
            let answer: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
            assert_eq!((answer["carried"]["links"].as_u64(), answer["complete"].as_bool()), (Some(3), Some(true)), "{answer}");
            assert!(
                answer["carried"]["us_per_packet"].as_f64() > Some(0.5) && answer["full_at_about_links"].as_u64() > Some(3),
                "{answer}"
            );
            let mut long = place.start(&["bench", "--key", "0", "--for", "60s"]);
            long.says("trying links of 8.0 Mbps");
            long.interrupt();
            let (code, text) = long.end();
            assert!(code == 1 && text.contains("Nothing was carried yet"), "{code} {text}");
        });
    }

    #[test]
    fn the_demo_is_steady_within_ten_seconds_and_loses_no_frame() {
        timed(demo_is_steady);
    }

    #[test]
    fn a_path_between_two_ends_loses_what_it_is_told_to_and_the_link_repairs_it() {
        timed(path_is_repaired);
    }
}
