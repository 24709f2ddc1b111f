//! RTMP with the built program: publishers, players, platforms, and a field unit between an action
//! camera and a studio.

use crate::place::{Place, port};
use std::fs;

fn sheet(lines: &str) -> String {
    format!("[show]\nname = \"Tarn Hollow Regatta\"\naddress = \"127.0.0.1\"\n{lines}")
}

#[test]
fn a_field_unit_takes_a_camera_by_rtmp_and_sends_it_on_to_the_studio() {
    let (studio, unit) = (Place::new(), Place::new());
    let (srt, rtmp) = (port(), port());
    studio.write(
        "studio.toml",
        &sheet(&format!("[[line]]\nname = \"bow\"\nfrom = \"srt://127.0.0.1:{srt}?mode=listener\"\n[[feed]]\nname = \"desk\"\nline = \"bow\"\nto = \"got.ts\"\n")),
    );
    unit.write(
        "unit.toml",
        &sheet(&format!(
            "[[line]]\nname = \"action-camera\"\nexpect = {{ bitrate = \"2 Mbps\" }}\n\
             from = {{ kind = \"rtmp\", port = {rtmp}, path = \"in/regatta\", key = {{ file = \"key.txt\" }} }}\n\
             [[feed]]\nname = \"studio\"\nline = \"action-camera\"\nto = \"srt://127.0.0.1:{srt}\"\n"
        )),
    );
    unit.write("key.txt", "bow & stern\n");
    // What is typed into the camera: server and key in two fields, and as one address.
    let card = unit.run(&["card", "action-camera", "--sheet", "unit.toml", "--reveal"]);
    for part in
        ["publish by RTMP", &format!("rtmp://127.0.0.1:{rtmp}/in/regatta"), "stream key", "bow & stern", "/in/regatta/bow & stern", "█"]
    {
        assert!(card.stdout.contains(part), "{part}: {}", card.stdout);
    }
    assert!(!unit.run(&["card", "action-camera", "--sheet", "unit.toml"]).stdout.contains("bow & stern"));
    let mut at_studio = studio.start(&["run", "studio.toml"]);
    let mut at_unit = unit.start(&["run", "unit.toml"]);
    at_unit.says("line action-camera: waiting: no publisher on port");
    let camera = |key: &str| {
        let url = format!("rtmp://127.0.0.1:{rtmp}/in/regatta/{key}");
        unit.start(&["sim", "camera", "--to", &url, "--size", "320x180", "--bitrate", "2Mbps", "--keyframe", "0.4", "--variable"])
    };
    let mut wrong = camera("stern");
    at_unit.says("refused: wrong stream key");
    wrong.kill();
    let mut right = camera("bow & stern");
    at_unit.says("line action-camera: steady");
    at_studio.says("line bow: steady");
    let view = unit.until("its camera", |v| v["lines"][0]["media"]["audio"].is_string());
    let line = &view["lines"][0];
    assert_eq!((&line["media"]["codec"], &line["media"]["size"]), (&"H.264".into(), &serde_json::json!([320, 180])));
    let seen = studio.until("frames", |v| v["lines"][0]["media"]["frames"].as_u64() > Some(50));
    assert_eq!(seen["lines"][0]["media"]["codec"], "H.264");
    assert!(seen["lines"][0]["delay_ms"].as_f64().is_some_and(|d| d > 0.0), "the camera's clock goes through: {seen:#}");
    // It goes, and another takes its place.
    right.kill();
    at_unit.says("line action-camera: broken");
    let _again = camera("bow & stern");
    at_unit.says("line action-camera: steady");
    at_unit.interrupt();
    at_studio.interrupt();
    assert_eq!((at_unit.end().0, at_studio.end().0), (0, 0));
    let out = studio.run(&["inspect", "got.ts", "--json"]);
    let told: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    assert!(told.to_string().contains("H.264"), "{told:#}");
}

#[test]
fn a_feed_is_published_to_platforms_that_take_it_refuse_it_and_ask_who_it_is() {
    let place = Place::new();
    let clip = place.clip();
    let (takes, asks, refuses) = (port(), port(), port());
    let feed = |name: &str, to: &str| format!("[[feed]]\nname = \"{name}\"\nline = \"clip\"\nto = [{to}]\n");
    let to = |port: u16, more: &str| {
        format!("\"rtmp://{more}127.0.0.1:{port}/live#key-file=key.txt{}\"", if more.is_empty() { "" } else { "&password-file=word.txt" })
    };
    place.write(
        "out.toml",
        &sheet(
            &[
                format!("[[line]]\nname = \"clip\"\nfrom = \"{clip}?repeat\"\n"),
                feed("open", &to(takes, "")),
                feed("known", &to(asks, "desk@")),
                feed("refused", &to(refuses, "")),
            ]
            .concat(),
        ),
    );
    place.write("key.txt", "oars-9\n");
    place.write("word.txt", "four oars\n");
    let listen = |port: u16| format!("127.0.0.1:{port}");
    let mut platform = place.start(&["sim", "platform", "--in", &listen(takes), "--takes", "live/oars-9", "--still", "got.png", "--json"]);
    let mut known = {
        let mut command = place.command(&[
            "sim",
            "platform",
            "--in",
            &listen(asks),
            "--takes",
            "live/oars-9",
            "--user",
            "desk",
            "--password-env",
            "WORD",
        ]);
        command.env("WORD", "four oars");
        crate::place::Running::of(command)
    };
    let mut closed =
        place.start(&["sim", "platform", "--in", &listen(refuses), "--takes", "live/oars-9", "--refuses", "closed on Sundays"]);
    for running in [&mut platform, &mut known, &mut closed] {
        running.says_or_said("publish to rtmp://");
    }
    let mut show = place.start(&["run", "out.toml"]);
    let view = place.until("the platforms", |v| {
        let state = |n: usize| v["feeds"][n]["outs"][0]["state"].as_str().unwrap_or_default().to_owned();
        state(0) == "steady" && state(1) == "steady" && state(2) == "broken"
    });
    let text = place.run(&["status"]).stdout;
    assert!(text.contains("refused  127.0.0.1:") && text.contains("refused: closed on Sundays"), "{text}");
    assert!(!view.to_string().contains("oars-9") && !text.contains("oars-9") && !text.contains("four oars"), "secrets are shown to nobody");
    // A way out by itself is held and goes on with the next keyframe.
    assert_eq!(place.run(&["hold", "open"]).code, 0);
    platform.says("it has ended");
    assert_eq!(place.run(&["release", "open"]).code, 0);
    platform.says("publishes (choir)");
    place.until("taken again", |v| v["feeds"][0]["outs"][0]["state"] == "steady");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    platform.interrupt();
    let (code, said) = platform.end();
    assert_eq!(code, 0, "{said}");
    let got: serde_json::Value = serde_json::from_str(&said[said.find('{').expect("JSON")..]).expect("JSON");
    assert!(got["frames"].as_u64() > Some(20) && got["frames_missing"] == 0, "{got}");
    let still = fs::read(place.path("got.png")).expect("a picture");
    assert!(still.starts_with(b"\x89PNG"));
}
