//! A feed's sound: of a fixed line, later, or none, with the built program.

use super::place::{Place, port};
use choir_proto::ts::{Origin, TsFault};
use serde_json::Value;
use std::fs;

fn peak(v: &Value, line: usize) -> Option<f64> {
    v["lines"][line]["levels"]["peak_dbfs"][0].as_f64()
}

#[test]
fn a_feed_takes_its_sound_from_a_fixed_line_whatever_picture_is_on() {
    let place = Place::new();
    place.clip();
    let [dock, commentary, heard] = [port(), port(), port()];
    let text = |sound: &str| {
        format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"30%\"\n\
             [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:{dock}?mode=listener\"\n\
             [[line]]\nname = \"commentary\"\nfrom = \"srt://127.0.0.1:{commentary}?mode=listener\"\n\
             [[line]]\nname = \"heard\"\nfrom = \"udp://127.0.0.1:{heard}\"\n\
             [[line]]\nname = \"clip\"\nfrom = \"clip.ts?repeat\"\n\
             [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = [\"udp://127.0.0.1:{heard}\", \"out.ts\"]\n{sound}\n\
             [[feed]]\nname = \"clean\"\nline = \"dock\"\nto = \"clean.ts\"\nsound = \"off\"\n"
        )
    };
    let sheet = place.write("sound.toml", &text("sound = { from = \"commentary\", delay = \"80 ms\" }"));
    let mut show = place.start(&["run", "sound.toml"]);
    let camera = |port: u16, more: &[&str]| {
        let to = format!("srt://127.0.0.1:{port}");
        place.start(&[&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "1Mbps", "--keyframe", "0.4"], more].concat())
    };
    let _cameras = [camera(dock, &["--show", "silent"]), camera(commentary, &[])];
    place.until_answered();
    let loud = |v: &Value, line: usize| peak(v, line).is_some_and(|peak| peak > -40.0);
    let quiet = |v: &Value, line: usize| peak(v, line).is_some_and(|peak| peak < -60.0);
    let view = place.until("the commentary", |v| quiet(v, 0) && loud(v, 1) && loud(v, 2));
    assert_eq!((&view["feeds"][0]["sound"], &view["feeds"][1]["sound"]), (&"of commentary, 80 ms later".into(), &"off".into()));
    assert!(place.run(&["status", "desk"]).stdout.contains("of commentary, 80 ms later"));
    // Another picture, the same sound.
    assert_eq!(place.run(&["take", "desk", "clip"]).code, 0);
    place.until("the take", |v| v["feeds"][0]["line"] == "clip" && loud(v, 2));
    assert_eq!(place.run(&["take", "desk", "dock"]).code, 0);
    place.until("the take back", |v| v["feeds"][0]["line"] == "dock" && loud(v, 2));
    // The sheet says otherwise now: the sound of the picture.
    fs::write(&sheet, text("")).expect("written");
    let out = place.run(&["reload"]);
    assert!(out.code == 0 && out.stdout.contains("feed desk changed"), "{}{}", out.stdout, out.stderr);
    place.until("its own sound", |v| quiet(v, 2));
    show.interrupt();
    assert_eq!(show.end().0, 0);
    // A busy machine lets pictures leave late, and their clock references with them.
    let late = [TsFault::PcrInterval, TsFault::TableInterval, TsFault::DtsLate];
    assert_eq!(place.defects("clean.ts", Origin::Joined, &late), Vec::<String>::new());
    let out = place.run(&["inspect", "clean.ts", "--for", "2s", "--json"]);
    let view: Value = serde_json::from_str(&out.stdout).expect("JSON");
    assert_eq!((&view["picture"]["size"], &view["sound"]), (&serde_json::json!([320, 180]), &Value::Null), "{}", out.stderr);
}
