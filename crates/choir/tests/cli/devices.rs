//! Finding, setting and steering stand-in devices with the built program. Each test has a range to
//! itself.

use crate::{
    live::Screen,
    place::{Out, Place, Running, carries},
};
use std::{fs, net::Ipv4Addr};

const PASSWORD: &str = "four oars and a cox";

/// A stand-in at this address.
fn device(place: &Place, kind: &str, at: Ipv4Addr, name: &str) -> Running {
    let mut command = place.command(&["sim", "device", kind, "--at", &at.to_string(), "--name", name, "--password-env", "CAMERA"]);
    command.env("CAMERA", PASSWORD);
    let mut running = Running::of(command);
    running.says("ONVIF at");
    running
}

fn choir(place: &Place, args: &[&str]) -> Out {
    let out = place.command(args).env("CAMERA", PASSWORD).output().expect("runs");
    Out {
        code: out.status.code().unwrap_or(-1),
        stdout: String::from_utf8_lossy(&out.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&out.stderr).into_owned(),
    }
}

fn sheet(place: &Place, at: Ipv4Addr, wanted: &str) -> String {
    place.write(
        "regatta.toml",
        &format!(
            "# the show's own words\n[show]\nname = \"Tarn Hollow Regatta\"\n\n[[device]]\nname = \"finish-tower\"\n\
             address = \"{at}:8000\" # for now\ncontrol = \"onvif\"\nuser = \"desk\"\npassword = {{ env = \"CAMERA\" }}\n{wanted}\n"
        ),
    )
}

#[test]
fn what_is_found_goes_into_a_sheet_that_can_be_used() {
    let (place, net) = (Place::new(), choir_rig::net());
    let _camera = device(&place, "ptz-camera", net.at(4), "Finish tower");
    let _encoder = device(&place, "encoder", net.at(9), "Launch");
    let range = &*format!("{net}.0/28");
    let out = choir(&place, &["find", range, "--factory", &format!("{net}.9"), "--json"]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    let found: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    assert_eq!((found[0]["address"].as_str(), found[0]["what"].as_str()), (Some(&*format!("{net}.4")), Some("PTZ camera")));
    assert_eq!(found[1]["flags"][0]["word"], "factory-address");
    assert!(out.stderr.contains("2 devices found; 14 of 14 addresses answered"), "{}", out.stderr);
    let new = place.path("new.toml").display().to_string();
    let out = choir(&place, &["find", range, "--add", &new]);
    assert!(out.code == 2 && out.stderr.contains("--choose"), "{}", out.stderr);
    let out = choir(&place, &["find", range, "--add", &new, "--choose", "all"]);
    assert!(out.code == 0 && out.stdout.contains("Heron 20"), "{}{}", out.stdout, out.stderr);
    let text = fs::read_to_string(&new).expect("written");
    assert!(text.contains("name = \"finish-tower\"") && text.contains("kind = \"encoder\""), "{text}");
    assert_eq!(choir(&place, &["check", &new]).code, 0);
    let out = choir(&place, &["find", range, "--add", &new, "--choose", &format!("{net}.4")]);
    assert!(out.stderr.contains("in the sheet already") && fs::read_to_string(&new).expect("there") == text, "{}", out.stderr);
    let out = choir(&place, &["device", "show", "finish-tower", "--sheet", &new]);
    assert!(out.code == 1 && out.stderr.contains("a login is required: add user and password"), "{}", out.stderr);
    let out = choir(&place, &["find", &format!("{net}.12/31")]);
    assert_eq!((out.code, out.stdout.trim()), (1, ""));
    for (args, says) in [
        (vec!["find", &format!("{net}.0/33")], "not an interface of this machine and not a range"),
        (vec!["find", "127.64.0.0/16"], "add --yes"),
        (vec!["find", "127.0.0.0/8"], "addresses are too many"),
    ] {
        let out = choir(&place, &args);
        assert!(out.code == 2 && out.stderr.contains(says), "{args:?}: {}", out.stderr);
    }
}

#[test]
fn a_device_is_compared_set_moved_and_given_a_password() {
    let (place, net) = (Place::new(), choir_rig::net());
    let _camera = device(&place, "ptz-camera", net.at(9), "finish-tower");
    let at = sheet(&place, net.at(9), "main = { size = \"320x180\", bitrate = \"1 Mbps\", keyframe = \"0.4 s\" }");
    let out = choir(&place, &["device", "show", "finish-tower"]);
    for wanted in ["Tarn Works Heron 20", &format!("{net}.9/24 fixed"), "allowed: 1280x720, 960x540", &format!("rtsp://{net}.9:8554/main")]
    {
        assert!(out.stdout.contains(wanted), "{wanted} in\n{}{}", out.stdout, out.stderr);
    }
    let out = choir(&place, &["device", "diff", "--json"]);
    let json: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    assert_eq!((out.code, json[0]["differs"][0]["what"].as_str()), (5, Some("main size")));
    let out = choir(&place, &["device", "apply"]);
    assert!(out.code == 2 && out.stderr.contains("add --yes"), "{}", out.stderr);
    let out = choir(&place, &["device", "apply", "--yes", "finish-tower"]);
    assert_eq!(out.code, 0, "{}{}", out.stdout, out.stderr);
    assert!(
        out.stdout.contains("on wire   main: h264, 320x180") && out.stderr.contains("setting main: size"),
        "{}{}",
        out.stdout,
        out.stderr
    );
    assert_eq!(choir(&place, &["device", "diff"]).code, 0);
    // One that is not there does not keep the others from being set.
    let both = fs::read_to_string(&at).expect("there").replace("1 Mbps", "1.5 Mbps")
        + &format!("[[device]]\nname = \"gone\"\naddress = \"{net}.99:8000\"\ncontrol = \"onvif\"\nmain = {{ rate = 25 }}\n");
    let both = place.write("both.toml", &both);
    let out = choir(&place, &["device", "apply", "--yes", "--sheet", &both]);
    assert!(
        out.code == 1 && out.stderr.contains(&format!("gone: {net}.99:8000: the device cannot be reached")),
        "{}{}",
        out.stdout,
        out.stderr
    );
    assert!(out.stdout.contains("set       main: bitrate"), "{}", out.stdout);
    let out = choir(&place, &["device", "diff"]);
    assert!(out.code == 2 && out.stderr.contains("several patch sheets"), "{}", out.stderr);
    fs::remove_file(both).expect("removed");
    // To a new place, by the sheet that names it.
    let out = choir(&place, &["device", "address", "finish-tower", "--static", &format!("{net}.13/24"), "--yes"]);
    assert_eq!((out.code, out.stdout.trim()), (0, &*format!("finish-tower: at {net}.13")), "{}", out.stderr);
    let text = fs::read_to_string(&at).expect("there");
    assert!(text.contains(&format!("address = \"{net}.13:8000\" # for now")) && text.starts_with("# the show's own words"), "{text}");
    for (args, says) in [
        (vec!["device", "address", "finish-tower", "--static", &format!("{net}.14")], "prefix length"),
        (vec!["device", "address", "finish-tower"], "required"),
        (vec!["device", "show", "finish-towr"], "Did you mean \"finish-tower\""),
        (vec!["device", "diff", "--sheet", "none.toml"], "cannot be read"),
        (vec!["device", "password", "finish-tower"], "add --file"),
    ] {
        let out = choir(&place, &args);
        assert!(out.code == 2 && out.stderr.contains(says), "{args:?}: {}", out.stderr);
    }
    place.write("weak", "admin\n");
    let out = choir(&place, &["device", "password", "finish-tower", "--file", "weak"]);
    assert!(out.code == 2 && out.stderr.contains("leave the factory"), "{}", out.stderr);
    place.write("strong", "five oars and a cox\n");
    let out = choir(&place, &["device", "password", "finish-tower", "--file", "strong"]);
    assert!(out.code == 0 && out.stderr.contains("variable CAMERA"), "{}{}", out.stdout, out.stderr);
    let out = choir(&place, &["device", "show", "finish-tower"]);
    assert!(out.code == 1 && out.stderr.contains("were tried once"), "{}", out.stderr);
    assert!(!out.stderr.contains("oars"), "{}", out.stderr);
    let out = choir(&place, &["device", "restart", "finish-tower", "--yes"]);
    assert_eq!(out.code, 1, "the old password restarts nothing: {}", out.stderr);
}

#[test]
fn a_device_without_control_is_told_by_hand_and_proved_by_its_line() {
    let (place, net) = (Place::new(), choir_rig::net());
    let text = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"towpath-bicycle\"\nfrom = \"udp://{net}.1:7104\"\n\
        [[device]]\nname = \"bicycle\"\nkind = \"field-unit\"\naddress = \"{net}.14\"\ncontrol = \"manual\"\n\
        main = {{ codec = \"h264\", size = \"320x180\", rate = 25, keyframe = \"1 s\", line = \"towpath-bicycle\" }}\n"
    );
    place.write("regatta.toml", &text);
    let out = choir(&place, &["device", "diff"]);
    assert!(out.code == 0 && out.stdout.contains("main keyframe      25 frames (1.0 s)"), "{}{}", out.stdout, out.stderr);
    let mut unit = place.start(&[
        "sim",
        "field-unit",
        "--to",
        &format!("udp://{net}.1:7104"),
        "--size",
        "320x180",
        "--bitrate",
        "1Mbps",
        "--name",
        "bicycle",
    ]);
    unit.says("320x180");
    let out = choir(&place, &["device", "apply"]);
    assert!(out.code == 0 && out.stdout.contains("on wire   main: h264, 320x180"), "{}{}", out.stdout, out.stderr);
    // A running show has the port: it tells what it measures.
    let mut show = place.start(&["run", "regatta.toml", "--plain"]);
    show.carries("line towpath-bicycle");
    place.until("the line carries pictures", |v| v["lines"][0]["media"]["size"].is_array() && carries(&v["lines"][0]["link"]["state"]));
    let out = choir(&place, &["device", "apply", "bicycle", "--json"]);
    assert!(out.stdout.contains("which the running show carries"), "{}{}", out.stdout, out.stderr);
    show.kill();
    unit.kill();
    let out = choir(&place, &["device", "apply"]);
    assert!(out.code == 1 && out.stdout.contains("NO PROOF"), "{}{}", out.stdout, out.stderr);
}

#[test]
fn a_camera_is_steered_by_words_and_by_keys_and_stops_when_the_terminal_goes() {
    let (place, net) = (Place::new(), choir_rig::net());
    let _camera = device(&place, "ptz-camera", net.at(11), "finish-tower");
    sheet(&place, net.at(11), "");
    let ptz = |args: &[&str]| choir(&place, &[&["ptz", "finish-tower"], args].concat());
    let out = ptz(&["move", "--pan", "0.5", "--tilt", "-0.2", "--for", "300ms"]);
    assert!(out.code == 0 && out.stdout.contains("standing still"), "{}{}", out.stdout, out.stderr);
    let out = ptz(&["store", "3", "Finish line", "--by", "visca"]);
    assert!(out.code == 0 && out.stdout.contains("stored as preset 3 \"Finish line\""), "{}{}", out.stdout, out.stderr);
    assert!(fs::read_to_string(place.path("regatta.toml")).expect("there").contains("3 = \"Finish line\""));
    assert!(ptz(&["list", "--by", "visca"]).stdout.contains("3       Finish line"));
    let out = ptz(&["goto", "finish line", "--by", "visca-tcp"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "finish-tower: going to preset 3 \"Finish line\""), "{}", out.stderr);
    for (args, code, says) in [
        (vec!["goto", "9"], 1, "there is no preset \"9\""),
        (vec!["move"], 2, "nothing would move"),
        (vec!["move", "--pan", "2"], 2, "from -1 to 1"),
        (vec!["move", "--pan", "1", "--for", "1min"], 2, "at most 30 s"),
        (vec!["frame", "70%"], 2, "2 values required"),
        (vec!["frame", "70%", "120%"], 2, "from 0% to 100%"),
        (vec!["frame", "70%", "10%", "40%", "20%"], 2, "reaches beyond the picture"),
        (vec!["frame", "10%", "10%", "--by", "visca"], 1, "has no moves relative to its picture"),
        (vec!["tally", "on"], 1, "ONVIF has no command"),
        (vec!["home", "--by", "manual"], 2, "Allowed: onvif"),
        (vec![], 2, "needs a terminal"),
    ] {
        let out = ptz(&args);
        assert!(out.code == code && out.stderr.contains(says), "{args:?}: {} {}", out.code, out.stderr);
    }
    let place_of = || -> serde_json::Value { serde_json::from_str(&ptz(&["where", "--json"]).stdout).expect("JSON") };
    let out = ptz(&["frame", "60%", "40%", "25%", "25%"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "finish-tower: going to a part of its picture"), "{}", out.stderr);
    while place_of()["moving"] == true {}
    let before = place_of()["pan"].as_f64().expect("a number");
    let mut screen = Screen::open_with(&place, &["ptz", "finish-tower"], &[("CAMERA", PASSWORD)]);
    screen.shows("arrows turn");
    // To the left, and the terminal is gone while the key is held.
    screen.types("\u{1b}[D");
    screen.shows("left");
    screen.hang_up();
    let after = place_of();
    assert!(after["pan"].as_f64().expect("a number") < before && after["moving"] == false, "{before} {after}");
}

#[test]
fn on_a_terminal_the_table_grows_and_a_question_can_be_left() {
    let (place, net) = (Place::new(), choir_rig::net());
    let _camera = device(&place, "ptz-camera", net.at(3), "finish-tower");
    let at = sheet(&place, net.at(3), "main = { bitrate = \"1 Mbps\" }");
    let before = fs::read_to_string(&at).expect("there");
    let mut finding = Screen::open(&place, &["find", &format!("{net}.0/28"), "--add", "regatta.toml"]);
    finding.shows("of 14 addresses asked");
    finding.shows("PTZ camera");
    finding.shows("Which devices to write into regatta.toml?");
    finding.types("1\n");
    finding.shows("is in the sheet already");
    let mut applying = Screen::open_with(&place, &["device", "apply"], &[("CAMERA", PASSWORD)]);
    applying.shows("main bitrate");
    applying.shows("[y/N]");
    applying.types("\u{3}");
    applying.shows("nothing was done");
    let mut applying = Screen::open_with(&place, &["device", "apply"], &[("CAMERA", PASSWORD)]);
    applying.shows("[y/N]");
    applying.types("y\n");
    applying.shows("on wire   main: h264, 640x360");
    // A password typed on the terminal is not shown, and must be typed twice.
    let mut typing = Screen::open_with(&place, &["device", "password", "finish-tower"], &[("CAMERA", PASSWORD)]);
    typing.shows("New password of desk");
    typing.types("six oars and a cox\r");
    typing.shows("Once more");
    typing.types("six oars and no cox\r");
    typing.shows("the two differ");
    assert!(!typing.seen().contains("six"), "{}", typing.seen());
    assert_eq!(fs::read_to_string(&at).expect("there"), before);
}
