//! Rotas, clips that start at takes, takes at once and at the same moment, keys of the sheet.

use super::place::{PAUSE, Place, Running, carries, port};
use choir_proto::ts::{Origin, TsFault};
use choir_sim::stalls::{on_time, timed};
use serde_json::Value;

/// What is wrong with a recording beyond pauses. What comes behind one is seen before its first
/// clock reference, and compared with the one before the pause.
pub fn defects(place: &Place, name: &str) -> Vec<String> {
    place.defects(name, Origin::Joined, &[&PAUSE[..], &[TsFault::DtsEarly]].concat())
}

/// A clip of two seconds that plays when it is taken, one that goes on, and a rota of both.
fn stage() -> (Place, Running) {
    let place = Place::new();
    place.clip();
    let trailer = place.path("trailer.ts").display().to_string();
    let out =
        place.run(&["sim", "camera", "--to", &trailer, "--size", "320x180", "--bitrate", "1Mbps", "--keyframe", "0.4", "--for", "2s"]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    let sheet = "[show]\nname = \"Tarn Hollow Regatta\"\n\
         [[line]]\nname = \"clip\"\nfrom = \"clip.ts?repeat\"\n\
         [[line]]\nname = \"trailer\"\nfrom = \"trailer.ts?start=take\"\n\
         [[feed]]\nname = \"desk\"\nline = \"clip\"\nto = \"out.ts\"\n\
         [[rota]]\nname = \"intervals\"\nfeed = \"desk\"\nrepeat = true\n\
         steps = [{ line = \"clip\", for = \"1500 ms\" }, { line = \"trailer\", once = true }]\n\
         [keys]\nF5 = \"rota start intervals\"\n";
    place.write("rota.toml", sheet);
    let show = place.start(&["run", "rota.toml"]);
    place.until_answered();
    (place, show)
}

fn rota(view: &Value) -> (String, u64) {
    (view["rotas"][0]["state"].as_str().unwrap_or_default().into(), view["rotas"][0]["step"].as_u64().unwrap_or_default())
}

#[test]
fn a_rota_turns_waits_for_takes_and_its_clip_plays_from_the_start() {
    let (place, mut show) = stage();
    let view = place.until("the clip", |v| v["feeds"][0]["line"] == "clip" && carries(&v["lines"][0]["link"]["state"]));
    assert_eq!(view["lines"][1]["link"]["reason"], "ready; plays when it is taken");
    assert_eq!(rota(&view), ("stopped".into(), 1));
    let out = place.run(&["rota", "pause", "intervals"]);
    assert!(out.code == 3 && out.stderr.contains("intervals does not run"), "{} {}", out.code, out.stderr);
    let out = place.run(&["rota", "start", "interval"]);
    assert!(out.code == 3 && out.stderr.contains("Did you mean \"intervals\"?"), "{}", out.stderr);

    let out = place.run(&["rota", "start", "intervals"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "intervals started"), "{}", out.stderr);
    show.says("rota intervals started by the engineer");
    show.says("trailer is on, cut at a keyframe");
    show.says("played to the end of the file");
    show.says("clip is on, cut at a keyframe");
    show.says("trailer is on, cut at a keyframe");
    show.says("line trailer: waiting: ready; plays when it is taken");
    let out = place.run(&["rota"]);
    assert!(out.stdout.contains("intervals  desk  running"), "{}", out.stdout);

    assert_eq!(place.run(&["take", "desk", "trailer"]).code, 0);
    show.says("rota intervals waits, as something else was taken");
    let (_, step) = rota(&place.until("it waits", |v| rota(v).0 == "paused"));
    assert_eq!(place.run(&["rota", "start", "intervals"]).stdout.trim(), "intervals started");
    place.until("it goes on where it was", |v| rota(v) == ("running".into(), step));
    let out = place.run(&["rota", "skip", "intervals"]);
    assert_eq!(out.stdout.trim(), "intervals goes to its next step", "{}", out.stderr);
    assert_eq!(place.run(&["rota", "stop", "intervals"]).stdout.trim(), "intervals stopped");
    place.until("it has ended", |v| rota(v).0 == "stopped");
    // What was taken off rests.
    assert_eq!(place.run(&["take", "desk", "clip"]).code, 0);
    place.until("it rests", |v| v["feeds"][0]["line"] == "clip" && v["lines"][1]["link"]["state"] == "waiting");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    assert_eq!(defects(&place, "out.ts"), Vec::<String>::new());
}

/// Two cameras whose keyframes are two seconds apart, two feeds that are recorded.
fn two(cut: &str) -> (Place, Running, [Running; 2]) {
    let place = Place::new();
    place.clip();
    let ports = [port(), port()];
    let line = |name: &str, port: u16| format!("[[line]]\nname = \"{name}\"\nfrom = \"srt://127.0.0.1:{port}?mode=listener&latency=80\"\n");
    let feed = |name: &str| format!("[[feed]]\nname = \"{name}\"\nline = \"clip\"\nto = \"{name}.ts\"\ncut = \"{cut}\"\n");
    let sheet = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n{}{}[[line]]\nname = \"clip\"\nfrom = \"clip.ts?repeat\"\n{}{}",
        line("dock", ports[0]),
        line("jury", ports[1]),
        feed("desk"),
        feed("wall")
    );
    place.write("two.toml", &sheet);
    let show = place.start(&["run", "two.toml"]);
    let camera = |port: u16| {
        let to = format!("srt://127.0.0.1:{port}");
        place.start(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "1Mbps", "--keyframe", "2"])
    };
    let cameras = [camera(ports[0]), camera(ports[1])];
    place.until_answered();
    place.until("the cameras", |v| {
        let seen = |n: usize| v["lines"][n]["media"]["keyframe_ms"] == 2000;
        seen(0) && seen(1) && v["feeds"].as_array().is_some_and(|f| f.iter().all(|f| f["line"] == "clip"))
    });
    (place, show, cameras)
}

/// When the feeds said that this line was on, ms.
fn on_at(view: &Value, feed: &str, line: &str) -> Option<u64> {
    let says =
        |e: &&Value| e["subject"] == format!("feed {feed}") && e["text"].as_str().is_some_and(|t| t.starts_with(&format!("{line} is on")));
    view["events"].as_array()?.iter().filter(says).filter_map(|e| e["at_ms"].as_u64()).next_back()
}

fn takes_together() {
    let (place, mut show, _cameras) = two("keyframe");
    let out = place.run(&["take", "desk=dock", "wall"]);
    assert!(out.code == 2 && out.stderr.contains("FEED=LINE"), "{} {}", out.code, out.stderr);
    let out = place.run(&["take", "desk=dock", "wall=jurry"]);
    assert!(out.code == 3 && out.stderr.contains("Did you mean \"jury\"?"), "{} {}", out.code, out.stderr);
    let out = place.run(&["take", "desk=dock", "wall=jury"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "dock on desk, jury on wall: together, once each has sent a keyframe"), "{}", out.stderr);
    let view = place.until("both", |v| v["feeds"][0]["line"] == "dock" && v["feeds"][1]["line"] == "jury");
    let at = [on_at(&view, "desk", "dock"), on_at(&view, "wall", "jury")].map(|at| at.expect("told"));
    // In a frame; looked at each 20 ms.
    on_time("together", || assert!(at[0].abs_diff(at[1]) <= 60, "{at:?}"));
    // Whose keyframe came first is behind.
    let behind = [0, 1].map(|n| view["feeds"][n]["behind_ms"].as_f64().expect("told"));
    on_time("behind", || assert!(behind.iter().all(|ms| *ms < 2100.0) && behind.iter().any(|ms| *ms < 200.0), "{behind:?}"));
    // The next take is behind no longer.
    assert_eq!(place.run(&["take", "desk", "clip"]).code, 0);
    place.until("in time again", |v| v["feeds"][0]["line"] == "clip" && v["feeds"][0]["behind_ms"].is_null());
    assert_eq!(place.run(&["take", "desk", "dock"]).code, 0);
    place.until("as it comes", |v| v["feeds"][0]["line"] == "dock" && v["feeds"][0]["behind_ms"].is_null());
    show.interrupt();
    assert_eq!(show.end().0, 0);
    for name in ["desk.ts", "wall.ts"] {
        on_time("nothing is missing", || assert_eq!(defects(&place, name), Vec::<String>::new(), "{name}"));
    }
}

fn take_at_once() {
    let (place, mut show, _cameras) = two("at-once");
    for (line, other) in [("dock", "jury"), ("jury", "dock"), ("dock", "clip")] {
        let out = place.run(&["take", "desk", line]);
        assert!(out.code == 0 && out.stdout.contains(&format!("{line} goes on desk at once, ")), "{}{}", out.stdout, out.stderr);
        let view = place.until("on", |v| v["feeds"][0]["line"] == line);
        let behind = view["feeds"][0]["behind_ms"].as_f64().expect("told");
        on_time("behind", || assert!(behind < 2200.0, "{line} after {other}: {behind} ms"));
        let asked =
            view["events"].as_array().and_then(|all| all.iter().rfind(|e| e["text"].as_str().is_some_and(|t| t.contains("at once"))));
        let asked = asked.and_then(|e| e["at_ms"].as_u64()).expect("told");
        let waited = on_at(&view, "desk", line).expect("told").saturating_sub(asked);
        on_time("at once", || assert!(waited < 500, "{line}: {waited} ms"));
    }
    assert!(place.run(&["status", "desk"]).stdout.contains("behind"), "told of the feed");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    on_time("nothing is missing", || assert_eq!(defects(&place, "desk.ts"), Vec::<String>::new()));
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn takes_together_are_made_at_the_same_moment() {
        timed(takes_together);
    }

    #[test]
    fn a_take_at_once_does_not_wait_for_a_keyframe() {
        timed(take_at_once);
    }
}
