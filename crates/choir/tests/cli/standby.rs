//! Standby, preview, and ways out that are held, with the built program.

use super::place::{PAUSE, Place, Running, carries, port};
use choir_proto::ts::Origin;
use choir_sim::stalls::{on_time, timed};
use std::fs;

/// A dock whose camera comes by SRT, a clip to stand in, and a feed that is recorded.
struct Stage {
    place: Place,
    port: u16,
}

fn stage(standby: &str) -> Stage {
    let place = Place::new();
    place.clip();
    let port = port();
    let sheet = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n\
         [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:{port}?mode=listener&latency=80\"\n\
         [[line]]\nname = \"clip\"\nfrom = \"clip.ts?repeat\"\n\
         [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = [\"out.ts\", \"second.ts\"]\nstandby = {standby}\n"
    );
    place.write("standby.toml", &sheet);
    Stage { place, port }
}

impl Stage {
    fn camera(&self) -> Running {
        let to = format!("srt://127.0.0.1:{}", self.port);
        self.place.start(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "1Mbps", "--keyframe", "0.4"])
    }

    /// Waits until the camera is on.
    fn dock_is_on(&self) {
        let on = |f: &serde_json::Value| f["line"] == "dock" && f["stand_in"].is_null() && carries(&f["outs"][0]["state"]);
        self.place.until("the camera", |v| on(&v["feeds"][0]));
    }
}

#[test]
fn a_clip_stands_in_for_a_camera_that_dies_and_the_camera_comes_back() {
    let stage = stage("{ lines = \"clip\", return = \"2 s\" }");
    let mut show = stage.place.start(&["run", "standby.toml"]);
    // Before the camera is there at all.
    show.says("clip stands in for dock: no media comes");
    let mut camera = stage.camera();
    show.says("dock is fit again and comes back after");
    show.says("dock is on, cut at a keyframe");
    camera.kill();
    let view = stage.place.until("standing in", |v| v["feeds"][0]["line"] == "clip" && v["feeds"][0]["stand_in"]["chosen"] == "dock");
    assert_eq!(view["feeds"][0]["stand_in"]["returns"], "once fit for 2.0 s");
    // The clip's keyframes are a second apart.
    let told = show.says("clip is on, cut at a keyframe, after");
    assert!(told.contains("without a picture"), "{told}");
    let out = stage.place.run(&["status", "desk"]);
    assert!(out.stdout.contains("stands in   for dock since"), "{}", out.stdout);
    assert!(stage.place.run(&["status"]).stdout.contains("clip for dock"));
    // A take comes before standby: nothing stands in for what the engineer wants.
    assert_eq!(stage.place.run(&["take", "desk", "clip"]).code, 0);
    let view = stage.place.until("the take", |v| v["feeds"][0]["stand_in"].is_null());
    assert_eq!(view["feeds"][0]["line"], "clip");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    assert_eq!(stage.place.defects("out.ts", Origin::Joined, &PAUSE), Vec::<String>::new());
}

#[test]
fn the_slate_is_on_within_the_time_allowed_and_a_keyframe() {
    let stage = stage("[\"slate\"]");
    let mut show = stage.place.start(&["run", "standby.toml"]);
    let mut camera = stage.camera();
    stage.dock_is_on();
    camera.kill();
    let told = show.says("slate is on, cut at a keyframe, after");
    assert_eq!(stage.place.view()["feeds"][0]["stand_in"]["chosen"], "dock", "{told}");
    let _again = stage.camera();
    show.says("dock is on");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    assert_eq!(stage.place.defects("out.ts", Origin::Joined, &PAUSE), Vec::<String>::new());
}

#[test]
fn by_hand_means_that_only_a_take_brings_a_line_back() {
    let stage = stage("{ lines = \"clip\", return = \"hand\" }");
    let mut show = stage.place.start(&["run", "standby.toml"]);
    let mut camera = stage.camera();
    stage.place.until("the camera", |v| carries(&v["lines"][0]["link"]["state"]));
    // A camera that needs longer to begin than the clip to stand in for it does not come back by
    // itself either.
    assert_eq!(stage.place.run(&["take", "desk", "dock"]).code, 0);
    stage.dock_is_on();
    camera.kill();
    stage.place.until("standing in", |v| v["feeds"][0]["line"] == "clip" && v["lines"][0]["link"]["state"] == "broken");
    let _again = stage.camera();
    let view = stage.place.until("the camera again", |v| carries(&v["lines"][0]["link"]["state"]));
    assert_eq!((&view["feeds"][0]["line"], &view["feeds"][0]["stand_in"]["returns"]), (&"clip".into(), &"by hand".into()));
    assert_eq!(stage.place.run(&["take", "desk", "dock"]).code, 0);
    stage.place.until("back", |v| v["feeds"][0]["line"] == "dock" && v["feeds"][0]["stand_in"].is_null());
    show.interrupt();
    assert_eq!(show.end().0, 0);
}

#[test]
fn what_comes_next_is_said_and_taken_and_the_other_comes_next_then() {
    let stage = stage("[]");
    let mut show = stage.place.start(&["run", "standby.toml"]);
    let _camera = stage.camera();
    stage.dock_is_on();
    let out = stage.place.run(&["take", "desk"]);
    assert!(out.code == 3 && out.stderr.contains("nothing comes next on desk"), "{} {}", out.code, out.stderr);
    let out = stage.place.run(&["next", "desk", "clip"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "clip comes next on desk"));
    assert!(stage.place.run(&["status"]).stdout.contains("dock (next: clip)"));
    assert_eq!(stage.place.run(&["take", "desk"]).code, 0);
    let view = stage.place.until("the take", |v| v["feeds"][0]["line"] == "clip");
    assert_eq!(view["feeds"][0]["preview"], "dock");
    assert_eq!(stage.place.run(&["take", "desk"]).code, 0);
    let view = stage.place.until("the take back", |v| v["feeds"][0]["line"] == "dock");
    assert_eq!(view["feeds"][0]["preview"], "clip");
    show.interrupt();
    assert_eq!(show.end().0, 0);
}

#[test]
fn one_way_out_is_held_and_released_while_the_other_goes_on() {
    let stage = stage("[]");
    let mut show = stage.place.start(&["run", "standby.toml"]);
    let _camera = stage.camera();
    stage.place.until_answered();
    stage.place.until("both", |v| v["feeds"][0]["outs"].as_array().is_some_and(|o| o.iter().all(|o| carries(&o["state"]))));
    let out = stage.place.run(&["hold", "desk:2"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "1 way out of desk held"), "{}", out.stderr);
    let view = stage.place.until("held", |v| v["feeds"][0]["outs"][1]["state"] == "held");
    assert!(carries(&view["feeds"][0]["outs"][0]["state"]), "{view:#}");
    assert_eq!(stage.place.run(&["hold", "desk:2"]).stdout.trim(), "desk is held already");
    let out = stage.place.run(&["hold", "desk:3"]);
    assert!(out.code == 3 && out.stderr.contains("desk has no way out 3: it has 2"), "{} {}", out.code, out.stderr);
    // A reload leaves what is held as it is.
    assert_eq!(stage.place.run(&["reload"]).code, 0);
    assert_eq!(stage.place.view()["feeds"][0]["outs"][1]["state"], "held");
    assert_eq!(stage.place.run(&["release", "desk"]).stdout.trim(), "1 way out of desk released");
    stage.place.until("both again", |v| carries(&v["feeds"][0]["outs"][1]["state"]));
    show.interrupt();
    assert_eq!(show.end().0, 0);
    // What was there before it was held is kept under another name.
    for name in ["out.ts", "second.ts", "second-1.ts"] {
        assert!(fs::metadata(stage.place.path(name)).expect("kept").len() > 10_000, "{name}");
        assert_eq!(stage.place.defects(name, Origin::Joined, &PAUSE), Vec::<String>::new());
    }
}

fn each_caller() {
    let place = Place::new();
    place.clip();
    let port = port();
    let sheet = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n\
         [[line]]\nname = \"clip\"\nfrom = \"clip.ts?repeat\"\n\
         [[feed]]\nname = \"desk\"\nline = \"clip\"\nto = \"srt://127.0.0.1:{port}?mode=listener&latency=80\"\n"
    );
    place.write("callers.toml", &sheet);
    let mut show = place.start(&["run", "callers.toml"]);
    place.until_answered();
    let call = |to: &str, latency: u32| place.start(&["link", &format!("srt://127.0.0.1:{port}?latency={latency}"), to]);
    let (stays, mut goes) = (call("stays.ts", 80), call("goes.ts", 160));
    let ends = |v: &serde_json::Value| v["feeds"][0]["outs"][0]["ends"].as_array().cloned().unwrap_or_default();
    let both = place.until("two callers", |v| {
        let ends = ends(v);
        ends.len() == 2 && ends.iter().all(|e| e["packets"].as_u64() > Some(50) && e["latency_ms"].is_number())
    });
    let mut latencies: Vec<f64> = ends(&both).iter().filter_map(|e| e["latency_ms"].as_f64()).collect();
    latencies.sort_by(f64::total_cmp);
    assert_eq!(latencies, [80.0, 160.0]);
    let out = place.run(&["status", "desk"]);
    let rows = out.stdout.lines().filter(|l| l.starts_with("127.0.0.1:")).count();
    assert!(out.stdout.contains("caller") && rows == 2, "{}", out.stdout);
    goes.kill();
    place.until("one is left", |v| ends(v).is_empty() && carries(&v["feeds"][0]["outs"][0]["state"]));
    drop(stays);
    show.interrupt();
    assert_eq!(show.end().0, 0);
    on_time("nothing is missing", || assert_eq!(super::rotas::defects(&place, "stays.ts"), Vec::<String>::new()));
}

/// Run with the machine to itself.
mod timing {
    use super::*;

    #[test]
    fn each_caller_of_a_feed_is_shown_and_one_that_goes_disturbs_no_other() {
        timed(each_caller);
    }
}
