//! Clips from MP4 files, and recordings joined into one, with the built program.

use super::{place::Place, rotas::defects};
use std::fs;

#[test]
fn a_recording_is_joined_into_a_file_that_is_checked_added_and_played_as_a_clip() {
    let place = Place::new();
    place.clip();
    let sheet = "[show]\nname = \"Tarn Hollow Regatta\"\n\
         [[line]]\nname = \"clip\"\nfrom = \"clip.ts?repeat\"\nexpect = { size = \"640x360\" }\n\
         [[feed]]\nname = \"desk\"\nline = \"clip\"\nto = \"out.ts\"\n";
    place.write("clips.toml", sheet);
    let mut show = place.start(&["run", "clips.toml"]);
    place.until_answered();
    place.until("the clip", |v| v["lines"][0]["media"]["size"] == serde_json::json!([320, 180]));
    assert_eq!(place.run(&["record", "start", "clip", "desk", "--each", "2s"]).code, 0);
    place.until("some files", |v| {
        v["recordings"].as_array().is_some_and(|r| r.len() == 2 && r.iter().all(|r| r["files"].as_u64() > Some(2)))
    });
    assert_eq!(place.run(&["record", "stop"]).code, 0);
    show.interrupt();
    assert_eq!(show.end().0, 0);

    let out = place.run(&["record", "join", "recordings", "-o", "film.mp4"]);
    assert!(out.code == 2 && out.stderr.contains("there are recordings of clip, desk"), "{} {}", out.code, out.stderr);
    let out = place.run(&["record", "join", "recordings", "--only", "clip", "-o", "film.mp4"]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    let film = fs::read(place.path("film.mp4")).expect("made");
    assert_eq!(&film[4..8], b"ftyp");
    let out = place.run(&["record", "join", "recordings", "--only", "clip", "-o", "film.mp4"]);
    assert!(out.code == 4 && fs::read(place.path("film.mp4")).expect("there") == film, "never overwritten: {}", out.stderr);

    // Every picture of the recording is in it.
    let out = place.run(&["clip", "check", "film.mp4", "--json"]);
    let seen: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    assert_eq!(
        (&seen["mp4"], &seen["size"], &seen["begins_with_keyframe"], &seen["defects"]),
        (&true.into(), &serde_json::json!([320, 180]), &true.into(), &serde_json::json!([])),
        "{}",
        out.stdout
    );
    let (frames, seconds) = (seen["frames"].as_u64().expect("frames"), seen["seconds"].as_f64().expect("seconds"));
    assert!((frames as f64 / 25.0 - seconds).abs() < 0.05 && seconds > 4.0, "{frames} pictures, {seconds} s");
    assert_eq!(seen["sound"], "AAC 48 kHz stereo");

    // Unlike the feed's line by the sheet: told, and written all the same.
    let out = place.run(&["clip", "add", "film.mp4", "--feed", "desk", "--sheet", "clips.toml"]);
    assert!(
        out.code == 5 && out.stdout.contains("on desk: ") && out.stdout.contains("640x360"),
        "{} {}{}",
        out.code,
        out.stdout,
        out.stderr
    );
    let text = fs::read_to_string(place.path("clips.toml")).expect("the sheet");
    assert!(text.contains("from = \"film.mp4?start=take\"") && text.contains("takes = [\"film\"]"), "{text}");
    for (args, says) in [
        (vec!["clip", "check", "clips.toml"], "no picture"),
        (vec!["clip", "add", "film.mp4", "--feed", "dsk", "--sheet", "clips.toml"], "Did you mean \"desk\"?"),
        (vec!["clip", "check", "nowhere.mp4"], "nowhere.mp4"),
    ] {
        let out = place.run(&args);
        assert!(matches!(out.code, 1 | 2) && out.stderr.contains(says), "{args:?}: {} {}", out.code, out.stderr);
    }
    fs::remove_file(place.path("out.ts")).expect("removed");
    let mut show = place.start(&["run", "clips.toml"]);
    place.until_answered();
    place.until("both", |v| v["lines"][1]["link"]["state"] == "waiting" && v["feeds"][0]["line"] == "clip");
    assert_eq!(place.run(&["take", "desk", "film"]).code, 0);
    show.says("film is on, cut at a keyframe");
    show.says("played to the end of the file");
    assert_eq!(place.run(&["take", "desk", "clip"]).code, 0);
    show.says("clip is on, cut at a keyframe");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    assert_eq!(defects(&place, "out.ts"), Vec::<String>::new());
}
