//! RTMP with the built program: publishers, players, platforms, and a field unit between an action
//! camera and a studio.

use crate::place::{Place, carries, port};
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
    at_unit.carries("line action-camera");
    at_studio.carries("line bow");
    let view = unit.until("its camera", |v| v["lines"][0]["media"]["audio"].is_string());
    let line = &view["lines"][0];
    assert_eq!((&line["media"]["codec"], &line["media"]["size"]), (&"H.264".into(), &serde_json::json!([320, 180])));
    let seen = studio.until("frames, and the camera's clock", |v| {
        let line = &v["lines"][0];
        line["media"]["frames"].as_u64() > Some(50) && line["delay_ms"].as_f64().is_some_and(|d| d > 0.0)
    });
    assert_eq!(seen["lines"][0]["media"]["codec"], "H.264");
    // It goes, and another takes its place.
    right.kill();
    at_unit.says("line action-camera: broken");
    let _again = camera("bow & stern");
    at_unit.carries("line action-camera");
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
        let state = |n: usize| &v["feeds"][n]["outs"][0]["state"];
        carries(state(0)) && carries(state(1)) && state(2) == "broken"
    });
    let text = place.run(&["status"]).stdout;
    assert!(text.contains("refused  127.0.0.1:") && text.contains("refused: closed on Sundays"), "{text}");
    assert!(!view.to_string().contains("oars-9") && !text.contains("oars-9") && !text.contains("four oars"), "secrets are shown to nobody");
    // A way out by itself is held and goes on with the next keyframe.
    assert_eq!(place.run(&["hold", "open"]).code, 0);
    platform.says("it has ended");
    assert_eq!(place.run(&["release", "open"]).code, 0);
    platform.says("publishes (choir)");
    place.until("taken again", |v| carries(&v["feeds"][0]["outs"][0]["state"]));
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

#[test]
fn what_cannot_be_encoded_or_laid_over_is_told_before_the_show() {
    let place = Place::new();
    let to = |more: &str| {
        sheet(&format!(
            "[[line]]\nname = \"tower\"\nfrom = \"srt://127.0.0.1:{}?mode=listener\"\nexpect = {{ size = \"1920x1080\", rate = 50 }}\n\
             [[feed]]\nname = \"viewers\"\nline = \"tower\"\nto = [{{ kind = \"udp\", host = \"127.0.0.1\", port = 7301, {more} }}]\n",
            port()
        ))
    };
    place.write("logo.toml", &to("overlay = { image = \"logo.png\" }"));
    let out = place.run(&["check", "logo.toml"]);
    assert!(out.code == 1 && out.stdout.contains("the overlay logo.png cannot be read"), "{out:?}");
    place.write("h265.toml", &to("encode = { codec = \"h265\" }"));
    let out = place.run(&["check", "h265.toml"]);
    assert!(out.code == 1 && out.stdout.contains("codec \"h265\" cannot be encoded here"), "{out:?}");
    place.write("good.toml", &to("encode = { size = \"640x360\", rate = 25 }"));
    let out = place.run(&["budget", "good.toml"]);
    assert!(out.code == 0 && out.stdout.contains("viewers  h264 640x360, 25 fps") && out.stdout.contains("about 0."), "{out:?}");
}

/// Run with the machine to themselves.
mod timing {
    use super::*;
    use choir_sim::stalls::{on_time, timed};

    #[test]
    fn a_platform_gets_a_smaller_picture_with_the_time_laid_over_and_none_is_missing() {
        timed(|| {
            let place = Place::alone();
            let (srt, rtmp, other) = (port(), port(), port());
            place.write(
                "out.toml",
                &sheet(&format!(
                    "[[line]]\nname = \"tower\"\nfrom = \"srt://127.0.0.1:{srt}?mode=listener\"\n\
                     [[feed]]\nname = \"viewers\"\nline = \"tower\"\nto = [\"whole.ts\",\n\
                     {{ url = \"rtmp://127.0.0.1:{rtmp}/live/KEY\", encode = {{ size = \"320x180\", bitrate = \"500 kbps\" }}, overlay = {{ time = \"utc\" }} }},\n\
                     {{ url = \"rtmp://127.0.0.1:{other}/live/KEY\", encode = {{ size = \"320x180\", bitrate = \"500 kbps\" }}, overlay = {{ time = \"utc\" }} }},\n\
                     {{ kind = \"file\", path = \"half.ts\", encode = {{ rate = 12.5, size = \"480x360\" }} }}]\n"
                )),
            );
            let listen = |port: u16| format!("127.0.0.1:{port}");
            let [mut platform, mut twin] = [rtmp, other].map(|port| {
                place.start(&["sim", "platform", "--in", &listen(port), "--takes", "live/KEY", "--still", "got.png", "--json"])
            });
            for running in [&mut platform, &mut twin] {
                running.says_or_said("publish to rtmp://");
            }
            let mut show = place.start(&["run", "out.toml"]);
            let _camera =
                place.start(&["sim", "camera", "--to", &format!("srt://127.0.0.1:{srt}"), "--size", "640x360", "--bitrate", "2Mbps"]);
            let view = place.until("both platforms and both files", |v| {
                let out = |n: usize| &v["feeds"][0]["outs"][n];
                let encoded = |n: usize| out(n)["encoding"]["size"].is_string() && out(n)["encoding"]["cores"].is_number();
                (0..4).all(|n| carries(&out(n)["state"])) && (1..4).all(encoded)
            });
            let encoding = |n: usize| &view["feeds"][0]["outs"][n]["encoding"];
            assert_eq!(
                (&encoding(1)["size"], &encoding(1)["shared_by"], &encoding(0)),
                (&"320x180".into(), &2.into(), &&serde_json::Value::Null)
            );
            let text = place.run(&["status", "viewers"]).stdout;
            assert!(text.contains("with the time of day at the top right: 320x180, ") && text.contains("shared by 2 ways out"), "{text}");
            place.until("some seconds of it", |v| v["feeds"][0]["outs"][1]["packets"].as_u64() > Some(300));
            // Another one is encoded from now on; what goes on is not disturbed.
            let sheet = fs::read_to_string(place.path("out.toml")).expect("the sheet").replace("12.5", "5");
            place.write("out.toml", &sheet);
            let reloaded = place.run(&["reload"]);
            assert!(reloaded.stdout.contains("way out removed") && reloaded.stdout.contains("5 fps"), "{reloaded:?}");
            place.until("the other rate", |v| v["feeds"][0]["outs"][3]["encoding"]["rate"].as_f64().is_some_and(|r| (r - 5.0).abs() < 0.2));
            show.interrupt();
            assert_eq!(show.end().0, 0);
            for mut platform in [platform, twin] {
                platform.interrupt();
                let (code, said) = platform.end();
                assert_eq!(code, 0, "{said}");
                let got: serde_json::Value = serde_json::from_str(&said[said.find('{').expect("JSON")..]).expect("JSON");
                assert!(got["frames"].as_u64() > Some(80), "{got}");
                on_time("no picture is missing", || assert_eq!(got["frames_missing"], 0, "{got}"));
            }
            // The numbers that are drawn into the pictures are read back from the file, too.
            let out = place.run(&["inspect", "half.ts", "--json"]);
            let told: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
            assert!(told.to_string().contains("480"), "{told:#}");
            let still = fs::read(place.path("got.png")).expect("a picture");
            assert!(still.starts_with(b"\x89PNG"));
        });
    }
}
