//! Sheets: begun, edited, judged, handed out as cards, added up; advice, path and line check.

use crate::place::{Place, port};
use choir_sim::stalls::{on_time, timed};
use std::{fs, os::unix::fs::PermissionsExt};

const REGATTA: &str = include_str!("../../../../demo/regatta.toml");

#[test]
fn passphrases_elsewhere_are_judged_and_never_told() {
    let place = Place::new();
    let sheet = place.write(
        "s.toml",
        "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"a\"\nfrom = \"srt://:7101?passphrase-file=weak.txt\"\n\
         [[line]]\nname = \"b\"\nfrom = \"srt://:7102?passphrase-file=short.txt\"\n",
    );
    place.write("weak.txt", "password2026\n");
    place.write("short.txt", "oars\n");
    let out = place.run(&["check", &sheet]);
    assert_eq!(out.code, 1, "{}", out.stdout);
    assert!(
        out.stdout.contains("line \"a\": its passphrase is weak") && out.stdout.contains("line \"b\": the passphrase has 4"),
        "{}",
        out.stdout
    );
    assert!(out.stdout.contains("1 error, 1 warning"), "{}", out.stdout);
    assert!(!out.stdout.contains("2026") && !out.stdout.contains("oars"), "{}", out.stdout);
}

#[test]
fn cards_come_as_text_markdown_page_and_json_with_secrets_only_on_request() {
    let place = Place::new();
    let text = REGATTA.replace("{ env = \"REGATTA_PASSPHRASE\" }", "{ file = \"secret.txt\" }");
    let sheet = place.write("regatta.toml", &text);
    place.write("secret.txt", "cox & four <oars>\n");
    let out = place.run(&["card", "umpire-launch", "--sheet", &sheet]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    for part in ["mode                caller", "address             127.20.0.1", "300 ms", "AES-256", "25 frames", "█"] {
        assert!(out.stdout.contains(part), "{part}: {}", out.stdout);
    }
    assert!(!out.stdout.contains("four <oars>"));
    let shown = place.run(&["card", "umpire-launch", "--sheet", &sheet, "--reveal", "--no-code"]);
    assert!(shown.stdout.contains("cox & four <oars>") && shown.stdout.contains("passphrase=cox%20%26%20four"), "{}", shown.stdout);
    let page = place.path("cards.html");
    // Somebody's earlier page without passphrases may be read by others; the new one may not.
    fs::write(&page, "").expect("writes");
    let out = place.run(&["card", "--all", "--sheet", &sheet, "--reveal", "--html", &page.display().to_string()]);
    assert_eq!(fs::metadata(&page).expect("page").permissions().mode() & 0o777, 0o600);
    assert_eq!(out.code, 0, "{}", out.stderr);
    let html = fs::read_to_string(&page).expect("a page");
    assert!(html.contains("cox &amp; four &lt;oars&gt;") && html.matches("<article>").count() == 19 && html.contains("<svg"));
    assert!(out.stderr.contains("19 cards") && out.stderr.contains("contains passphrases"), "{}", out.stderr);
    let message = place.run(&["card", "boathouse-2", "finish-tower", "--sheet", &sheet, "--markdown"]).stdout;
    assert!(
        message.contains("| mode | `listener`") && message.matches("**").count() == 8,
        "a feed with its name, a line and a device: {message}"
    );
    let json: serde_json::Value = serde_json::from_str(&place.run(&["card", "--all", "--sheet", &sheet, "--json"]).stdout).expect("JSON");
    assert_eq!(json.as_array().map(Vec::len), Some(19));
    let wrong = place.run(&["card", "umpire-lunch", "--sheet", &sheet]);
    assert!(wrong.code == 2 && wrong.stderr.contains("Did you mean \"umpire-launch\""), "{}", wrong.stderr);
    assert_eq!(place.run(&["card"]).code, 2);
}

#[test]
fn a_budget_adds_up_and_says_what_to_change() {
    let place = Place::new();
    let good = place.write("regatta.toml", REGATTA);
    let out = place.run(&["budget", &good]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    assert!(
        out.stdout.contains("mobile: Mobile uplink") && out.stdout.contains("towards this machine: 8.4 Mbps of 12.0 Mbps"),
        "{}",
        out.stdout
    );
    assert!(out.stdout.contains("x 1.037 (transport stream) x 1360/1316 (SRT, UDP, IP) x 1.25 (repeats)"), "{}", out.stdout);
    let full = place.write("full.toml", &REGATTA.replace("in = \"12 Mbps\"", "in = \"8 Mbps\""));
    let out = place.run(&["budget", &full]);
    assert!(out.code == 5 && out.stdout.contains("TOO MUCH") && out.stdout.contains("that fits"), "{}", out.stdout);
    let json: serde_json::Value = serde_json::from_str(&place.run(&["budget", &full, "--json"]).stdout).expect("JSON");
    assert_eq!(json["networks"][2]["directions"][0]["capacity_bps"].as_u64(), Some(8_000_000));
    assert!(place.run(&["check", &full]).stdout.contains("choir budget"), "check says so too");
}

#[test]
fn advice_is_given_and_written() {
    let place = Place::new();
    let out = place.run(&["advise", "--rtt", "80ms", "--loss", "2%", "--burst", "3", "--bitrate", "8Mbps", "--latency", "60ms"]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    assert!(out.stdout.contains("99.99 %") && out.stdout.contains("With 60 ms as now: 2 % is lost"), "{}", out.stdout);
    let sheet = place.write("regatta.toml", REGATTA);
    let write = |line: &str| place.run(&["advise", "--rtt", "80ms", "--loss", "2%", "--write", &sheet, "--line", line]);
    let out = write("start-pontoon");
    assert_eq!(out.code, 0, "{}", out.stderr);
    let after = fs::read_to_string(&sheet).expect("a sheet");
    assert!(
        after.contains("path = { rtt = \"80 ms\", loss = \"2%\", burst = 1.0 }") && after.contains("mode=caller&latency=170&overhead="),
        "{after}"
    );
    assert_eq!(after.lines().filter(|l| l.starts_with('#')).count(), REGATTA.lines().filter(|l| l.starts_with('#')).count());
    assert_eq!(place.run(&["check", &sheet]).code, 0);
    let wrong = write("finish-tower");
    assert!(wrong.code == 1 && wrong.stderr.contains("does not come by SRT"), "{}", wrong.stderr);
    assert_eq!(place.run(&["advise", "--rtt", "80"]).code, 2, "no unit");
}

#[test]
fn a_sheet_is_begun_and_edited() {
    let place = Place::new();
    let file = place.path("new.toml").display().to_string();
    let out = place.run(&["new", &file]);
    assert!(out.code == 2 && out.stderr.contains("add --name"), "{}", out.stderr);
    let new = [
        "new",
        &file,
        "--name",
        "Tarn Hollow Regatta",
        "--network",
        "127.20.0.0/24",
        "--address",
        "127.20.0.1",
        "--cameras",
        "2",
        "--arrive",
        "srt-listener",
    ];
    assert_eq!(place.run(&new).code, 0);
    let out = place.run(&["check", &file]);
    assert!(out.code == 0 && out.stdout.contains("nothing wrong; 2 lines, 2 feeds"), "{}", out.stdout);
    assert_eq!(place.run(&new).code, 2, "what is there is not written over");
    let edit = |args: &[&str]| place.run(&[args, &["--sheet", &file]].concat());
    let out =
        edit(&["line", "add", "launch", "srt://:7109?passphrase-file=x", "--title", "Umpire's launch", "--codec", "h265", "--via", "site"]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    assert_eq!(edit(&["feed", "add", "reserve", "launch", "udp://127.20.0.31:7204", "--takes", "camera-1"]).code, 0);
    assert_eq!(edit(&["line", "rename", "launch", "umpire-launch"]).code, 0);
    let text = fs::read_to_string(&file).expect("a sheet");
    assert!(text.contains("line = \"umpire-launch\"") && text.contains("title = \"Umpire's launch\""), "{text}");
    let used = edit(&["line", "remove", "umpire-launch"]);
    assert!(used.code == 1 && used.stderr.contains("used by feed \"reserve\""), "{}", used.stderr);
    assert_eq!((edit(&["feed", "remove", "reserve"]).code, edit(&["line", "remove", "umpire-launch"]).code), (0, 0));
    let secret = edit(&["line", "add", "typed", "srt://:7110?passphrase=cox+and+four"]);
    assert!(secret.code == 2 && !fs::read_to_string(&file).expect("a sheet").contains("typed"), "{}", secret.stderr);
    let clash = edit(&["line", "add", "other", "srt://127.20.0.1:7101?mode=listener"]);
    assert!(clash.code == 1 && clash.stderr.contains("listens on port 7101"), "{}", clash.stderr);
    assert_eq!(edit(&["feed", "rename", "nowhere", "x"]).code, 1);
}

#[test]
fn a_sheet_is_begun_from_what_was_found() {
    let place = Place::new();
    let found = r#"[{"address":"127.20.0.11","macs":[],"what":"PTZ camera","maker":"Heron","model":"H-20","name":"finish tower",
        "services":[{"kind":"onvif","port":8000,"says":null}],"login":true,"flags":[]},
        {"address":"127.20.0.9","macs":[],"what":"RTSP source","maker":null,"model":null,"name":null,"services":[],"login":null,"flags":[]}]"#;
    let json = place.write("found.json", found);
    let file = place.path("new.toml").display().to_string();
    let out = place.run(&["new", &file, "--from-found", &json, "--name", "Tarn Hollow Regatta"]);
    assert!(out.code == 0 && out.stderr.contains("2 devices"), "{}", out.stderr);
    let own = place.path("own.toml").display().to_string();
    let out = place.run(&["new", &own, "--from-found", &json, "--name", "Tarn Hollow Regatta", "--address", "127.20.0.9"]);
    assert!(out.stderr.contains("1 device."), "this machine is none of its own devices: {}", out.stderr);
    let text = fs::read_to_string(&file).expect("a sheet");
    assert!(text.contains("name = \"finish-tower\"") && text.contains("address = \"127.20.0.11:8000\""), "{text}");
    assert_eq!(place.run(&["check", &file]).code, 0);
    for (name, junk) in [("a.json", "nonsense"), ("b.json", "{}"), ("c.json", r#"[{"address":7}]"#), ("d.json", "[]")] {
        let junk = place.write(name, junk);
        let out = place.run(&["new", &place.path("other.toml").display().to_string(), "--from-found", &junk, "--name", "x"]);
        assert!((1..=2).contains(&out.code) && !place.path("other.toml").exists(), "{}", out.stderr);
    }
}

#[test]
fn a_token_is_needed_and_long_enough() {
    let place = Place::new();
    let out = place.run(&["path", "127.0.0.1"]);
    assert!(out.code == 4 && out.stderr.contains("CHOIR_TOKEN is not set"), "{}", out.stderr);
    let short = Place::new().with("CHOIR_TOKEN", "oars");
    assert!(short.run(&["path", "127.0.0.1"]).stderr.contains("fewer than 8"));
}

#[test]
fn a_line_check_says_what_failed_and_looks_at_a_running_show() {
    let place = Place::new();
    let (line, nobody) = (port(), port());
    let sheet = place.write(
        "boathouse.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"finish-tower\"\nfrom = \"srt://127.0.0.1:{line}?mode=listener\"\n\
             [[line]]\nname = \"start-pontoon\"\nfrom = \"srt://127.0.0.1:{nobody}?mode=caller\"\n"
        ),
    );
    let out = place.run(&["linecheck", &sheet, "--wait", "6s"]);
    assert_eq!(out.code, 1, "{}", out.stderr);
    assert!(out.stdout.contains("NO line finish-tower: handshake: no caller yet"), "{}", out.stdout);
    assert!(
        out.stdout.contains("NO line start-pontoon: port: the host answers") && out.stdout.contains("0 of 2 good, 2 failed"),
        "{}",
        out.stdout
    );
    assert!(place.run(&["linecheck", &sheet, "finish-towel"]).stderr.contains("Did you mean \"finish-tower\""));
    let mut show = place.start(&["run", &sheet, "--json"]);
    show.says("start-pontoon");
    let _camera = place.start(&["sim", "camera", "--to", &format!("srt://127.0.0.1:{line}"), "--size", "320x180", "--bitrate", "1Mbps"]);
    place.until("a picture on finish-tower", |v| v["lines"][0]["media"]["frames"].as_u64().is_some_and(|n| n > 0));
    let out = place.run(&["linecheck", &sheet, "finish-tower", "--for", "2s"]);
    assert!(out.stderr.contains("it is looked at as it runs"), "{}", out.stderr);
    assert!(out.code == 0 && out.stdout.contains("320x180"), "{}{}", out.stdout, out.stderr);
}

#[test]
fn what_is_ended_early_says_so_and_ends_cleanly() {
    let place = Place::new().with("CHOIR_TOKEN", "four oars and a cox");
    let sheet = place.write(
        "boathouse.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"finish-tower\"\nfrom = \"srt://127.0.0.1:{}?mode=listener\"\n",
            port()
        ),
    );
    let mut check = place.start(&["linecheck", &sheet, "--wait", "1min", "--json"]);
    // It is known as a running show from the moment that it answers.
    let asked = place.until_answered();
    assert_eq!(asked["lines"][0]["link"]["state"], "waiting");
    let second = place.run(&["linecheck", &sheet, "--wait", "1s", "--for", "1s"]);
    assert!(
        second.stderr.contains("looked at as it runs") && second.stdout.contains("no caller yet"),
        "{}{}",
        second.stdout,
        second.stderr
    );
    check.interrupt();
    let (code, out) = check.end();
    let json: serde_json::Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((code, json["ended_early"].as_bool()), (1, Some(true)), "{out}");
    let at = format!("127.0.0.1:{}", port());
    let mut answer = place.start(&["path", "--answer", "--bind", &at]);
    answer.says("answering");
    let second = place.run(&["path", "--answer", "--bind", &at]);
    assert!(second.code == 4 && second.stderr.contains("cannot open"), "{}", second.stderr);
    let mut asker = place.start(&["path", &at, "--for", "10s", "--bitrate", "1Mbps"]);
    answer.says("measures");
    asker.interrupt();
    let (code, out) = asker.end();
    assert!(code == 1 && out.is_empty() && asker.seen.iter().any(|l| l.contains("ended before it was done")), "{:?}", asker.seen);
    answer.interrupt();
    assert_eq!(answer.end().0, 0);
    assert!(answer.seen.iter().any(|l| l.contains("0 measurements answered")), "{:?}", answer.seen);
}

#[test]
fn lines_are_checked_in_turn() {
    let place = Place::new();
    let clip = place.clip();
    let sheet = place.write(
        "boathouse.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"finish-tower\"\nfrom = \"{clip}?repeat\"\n\
             expect = {{ size = \"640x360\", audio = \"on\" }}\n[[line]]\nname = \"start-pontoon\"\nfrom = \"{clip}?repeat\"\n\
             [[feed]]\nname = \"boathouse-1\"\nline = \"start-pontoon\"\nto = \"udp://127.0.0.1:{}\"\n",
            port()
        ),
    );
    let out = place.run(&["linecheck", &sheet, "--in-turn", "--for", "1s", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    let marks: Vec<(&str, Vec<&str>)> = json["rows"]
        .as_array()
        .expect("rows")
        .iter()
        .map(|r| {
            let failed = r["items"].as_array().into_iter().flatten().filter(|i| i["mark"] == "failed");
            (r["subject"].as_str().unwrap_or_default(), failed.map(|i| i["step"].as_str().unwrap_or_default()).collect())
        })
        .collect();
    assert_eq!(
        marks,
        [("line finish-tower", vec!["size"]), ("line start-pontoon", vec![]), ("feed boathouse-1", vec![])],
        "{}",
        out.stdout
    );
    assert_eq!((out.code, json["stills"].as_array().map(Vec::len)), (1, Some(2)));
}

#[test]
fn a_file_that_cannot_be_written_is_told_and_what_was_there_stays() {
    let place = Place::new();
    let sheet = place.write("regatta.toml", REGATTA);
    for args in [
        vec!["card", "--all", "--sheet", &sheet, "--html", "nowhere/cards.html"],
        vec!["new", "nowhere/new.toml", "--name", "x", "--cameras", "1", "--arrive", "rtsp"],
    ] {
        let out = place.run(&args);
        assert!(out.code == 4 && out.stderr.contains("cannot be written"), "{args:?}: {}", out.stderr);
    }
    let broken = place.write("broken.toml", "[show\n");
    for args in [vec!["card", "--all", "--sheet", &broken], vec!["budget", &broken], vec!["linecheck", &broken]] {
        let out = place.run(&args);
        assert!(out.code == 1 && out.stderr.contains("not TOML"), "{args:?}: {}", out.stderr);
    }
    let edit = place.run(&["line", "rename", "a", "b", "--sheet", &broken]);
    assert!(edit.code == 1 && edit.stderr.contains("nothing was written"), "{}", edit.stderr);
    assert_eq!(fs::read_to_string(&broken).expect("as it was"), "[show\n");
}

#[test]
fn what_this_machine_cannot_open_does_not_keep_the_rest_from_being_checked() {
    let place = Place::new();
    let clip = place.clip();
    let taken = std::net::UdpSocket::bind("127.0.0.1:0").expect("a port");
    let port = taken.local_addr().expect("its address").port();
    place.write(
        "boathouse.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"taken\"\nfrom = \"srt://127.0.0.1:{port}?mode=listener\"\n\
             [[line]]\nname = \"secret\"\nfrom = \"srt://127.0.0.1:{}?mode=listener&passphrase-env=NOBODY_SET_THIS\"\n\
             [[line]]\nname = \"good\"\nfrom = \"{clip}?repeat\"\n",
            crate::place::port()
        ),
    );
    let out = place.run(&["linecheck", "--for", "1s"]);
    assert_eq!(out.code, 1, "{}", out.stderr);
    assert!(
        out.stdout.contains("NO line taken: port: cannot open") && out.stdout.contains("another program waits on that port"),
        "{}",
        out.stdout
    );
    assert!(out.stdout.contains("NO line secret: encryption: the environment variable NOBODY_SET_THIS is not set"), "{}", out.stdout);
    assert!(out.stdout.contains("1 of 3 good, 2 failed") && out.stdout.contains("line good: H.264, 320x180"), "{}", out.stdout);
    assert_eq!(place.run(&["check"]).code, 0, "the only sheet here");
}

#[test]
fn a_camera_that_dies_while_it_is_checked_is_told() {
    let place = Place::new();
    let line = port();
    let sheet = place.write(
        "boathouse.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"finish-tower\"\nfrom = \"srt://127.0.0.1:{line}?mode=listener\"\n"
        ),
    );
    let mut check = place.start(&["linecheck", &sheet, "--wait", "30s", "--for", "15s", "--json"]);
    place.until_answered();
    let mut camera = place.start(&["sim", "camera", "--to", &format!("srt://127.0.0.1:{line}"), "--size", "320x180", "--bitrate", "1Mbps"]);
    place.until("a picture", |v| v["lines"][0]["media"]["size"].is_array() && v["lines"][0]["media"]["frames"].as_u64() > Some(10));
    camera.kill();
    let (code, out) = check.end();
    let json: serde_json::Value = serde_json::from_str(&out).expect("JSON");
    let items = json["rows"][0]["items"].as_array().cloned().unwrap_or_default();
    let picture = items.iter().find(|i| i["step"] == "picture").cloned().unwrap_or_default();
    assert!(code == 1 && picture["found"].as_str().is_some_and(|f| f.starts_with("picture lost")), "{out}");
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn a_path_is_measured_through_a_bad_network() {
        timed(|| {
            let far = Place::new().with("CHOIR_TOKEN", "four oars and a cox");
            let (answerer, relay) = (port(), port());
            let mut answer = far.start(&["path", "--answer", "--bind", &format!("127.0.0.1:{answerer}")]);
            answer.says("answering at UDP");
            let (listen, to) = (format!("127.0.0.1:{relay}"), format!("127.0.0.1:{answerer}"));
            let mut bad = far.start(&["sim", "path", "--in", &listen, "--out", &to, "--delay", "20ms", "--loss", "3%"]);
            bad.says("packets to");
            let sheet = far.write("regatta.toml", REGATTA);
            let out = far.run(&[
                "path",
                &listen,
                "--bitrate",
                "2Mbps",
                "--for",
                "4s",
                "--latency",
                "20ms",
                "--json",
                "--write",
                &sheet,
                "--line",
                "umpire-launch",
            ]);
            assert_eq!(out.code, 0, "{}", out.stderr);
            let json: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
            let rtt = json["measured"]["rtt_ms"][0].as_f64().unwrap_or_default();
            on_time("the path", || assert!((39.0..60.0).contains(&rtt), "{rtt}"));
            let loss = json["path"]["loss"].as_f64().unwrap_or_default();
            on_time("the path", || assert!((0.01..0.06).contains(&loss), "{loss}"));
            assert!(json["advice"]["present"]["undelivered"].as_f64().is_some_and(|u| u > 0.01), "20 ms repairs nothing over 40 ms");
            assert!(fs::read_to_string(&sheet).expect("a sheet").contains("path = { rtt = "));
            let nobody = far.run(&["path", &format!("127.0.0.1:{}", port())]);
            assert!(nobody.code == 1 && nobody.stderr.contains("nothing listens"), "{}", nobody.stderr);
            let pasted = far.run(&["path", "srt://127.0.0.1:7103"]);
            assert!(pasted.code == 2, "{}", pasted.stderr);
            assert_eq!(far.run(&["path", &listen, "--bitrate", "50Mbps"]).code, 2, "more is asked about first");
        });
    }

    /// What a line check has found that is neither passed nor skipped.
    fn not_good(json: &serde_json::Value) -> Vec<String> {
        let rows = json["rows"].as_array().expect("rows");
        let items = rows.iter().flat_map(|row| row["items"].as_array().expect("items").iter().map(move |item| (row, item)));
        let bad = items.filter(|(_, item)| !matches!(item["mark"].as_str(), Some("passed" | "skipped")));
        bad.map(|(row, item)| format!("{}: {item}", row["subject"])).collect()
    }

    #[test]
    fn the_demo_passes_its_line_check() {
        timed(|| {
            let place = Place::alone();
            let page = place.path("check.html");
            let out = place.run(&[
                "linecheck",
                "--demo",
                "--net",
                &choir_rig::wide_net(),
                "--for",
                "3s",
                "--json",
                "--html",
                &page.display().to_string(),
            ]);
            let json: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
            on_time("in time", || assert_eq!((not_good(&json), out.code), (Vec::new(), 0), "{}", out.stderr));
            assert_eq!(json["failed"].as_u64(), Some(0));
            assert_eq!((json["rows"].as_array().map(Vec::len), json["stills"].as_array().map(Vec::len)), (Some(19), Some(8)));
            let html = fs::read_to_string(&page).expect("a page");
            assert!(html.contains("19 of 19 good"));
            assert_eq!(html.matches("data:image/png").count(), 8, "{} bytes", html.len());
        });
    }
}
