//! Names on the LAN, as an engineer sees them: listed, taken, shown on air, steered; with and
//! without multicast.

use crate::place::{Place, Running, port};
use choir_rig::Net;
use choir_sim::stalls::{on_time, timed};
use std::{net::UdpSocket, process::Stdio};

/// A camera that offers itself in all grades.
fn camera(place: &Place, lan: &[&str]) -> (Running, String) {
    let mut args = vec!["sim", "camera", "--stave", "Finish Tower", "--name", "tower", "--size", "320x180", "--bitrate", "1Mbps"];
    args.extend(["--intra", "4Mbps", "--channels", "16", "--sub", "160x96", "--keyframe", "0.4"]);
    args.extend(lan);
    let mut camera = place.start(&args);
    let said = camera.says("is on the LAN at");
    let at = said.split("at ").nth(1).and_then(|s| s.split(": ").next()).expect("an address").to_owned();
    (camera, at)
}

fn group(net: Net) -> String {
    format!("regatta {net} {}", std::process::id())
}

/// A network of the test's own, and the first addresses of it.
fn addresses() -> (Net, [String; 10]) {
    let net = choir_rig::net();
    (net, std::array::from_fn(|n| net.at(n as u8).to_string()))
}

fn list(place: &Place, lan: &[&str]) -> (i32, serde_json::Value, String) {
    let mut args = vec!["stave", "list", "--json"];
    args.extend(lan);
    let out = place.run(&args);
    (out.code, serde_json::from_str(&out.stdout).expect("JSON"), out.stderr)
}

/// Lists again and again, each for two seconds, until it is as wanted.
fn until_listed(place: &Place, lan: &[&str], wanted: impl Fn(&serde_json::Value) -> bool) {
    let found = (0..20).any(|_| wanted(&list(place, lan).1));
    assert!(found, "never came to be: {:#}", list(place, lan).1);
}

#[test]
fn a_directory_stands_in_for_multicast_and_has_its_port_to_itself() {
    let place = Place::new();
    let (net, ip) = addresses();
    let (g, port) = (group(net), port().to_string());
    let mut directory = place.start(&["stave", "directory", "--on", &ip[9], "--port", &port, "--lan-group", &g]);
    directory.says("directory of the group");
    let second = place.run(&["stave", "directory", "--on", &ip[9], "--port", &port]);
    assert!(second.code == 4 && second.stderr.contains("the port free"), "{}", second.stderr);
    let there = format!("{net}.9:{port}");
    let by = |on| ["--on", on, "--lan-group", &g, "--directory", &there, "--no-discover"];
    let (mut camera, _) = camera(&place, &by(&ip[1]));
    until_listed(&place, &by(&ip[2]), |nodes| nodes[0]["names"][0]["streams"].as_array().is_some_and(|s| s.len() == 3));
    let (code, nodes, why) = list(&place, &by(&ip[2]));
    assert_eq!((code, nodes[0]["names"][0]["name"].as_str()), (0, Some("Finish Tower")), "{nodes:#} {why}");
    assert_eq!(list(&place, &["--on", &ip[2], "--lan-group", &g, "--no-discover"]).0, 1, "by itself it knows nobody");
    camera.kill();
    until_listed(&place, &by(&ip[2]), |nodes| nodes.as_array().is_some_and(Vec::is_empty));
    directory.interrupt();
    let (code, text) = directory.end();
    assert_eq!(code, 0);
    assert!(text.contains(&format!("tower is here, at {net}.1:")) && text.contains("tower has gone"), "{text}");
    // The certificate stays the same, and its key to oneself.
    let prints: Vec<String> = (0..2).map(|_| place.run(&["stave", "identity"]).stdout).collect();
    assert!(prints[0] == prints[1] && prints[0].trim().len() == 64, "{prints:?}");
}

fn one_link() {
    let place = Place::new();
    let (net, ip) = addresses();
    let clip = format!("{}?repeat", place.clip());
    let g = group(net);
    let lan = |on| ["--on", on, "--lan-group", &g];
    let out = lan(&ip[1]);
    let mut offers = place.start(&[&["link", &clip, "stave://Start Pontoon"], &out[..]].concat());
    offers.carries("line in");
    let got = place.path("got.ts").display().to_string();
    let taken = place.run(&[&["link", "stave://Start Pontoon", &got, "--for", "4s", "--json"], &lan(&ip[2])[..]].concat());
    assert_eq!(taken.code, 0, "{}", taken.stderr);
    let seen: serde_json::Value = serde_json::from_str(&place.run(&["inspect", &got, "--for", "2s", "--json"]).stdout).expect("JSON");
    assert_eq!(seen["picture"]["size"][0], 320, "{seen:#}");
    on_time("nothing is missing", || assert_eq!(seen["picture"]["frames_missing"], 0, "{seen:#}"));
    // A name that is taken on this machine gets a number: two links are two nodes, so the
    // machine's name does.
    let mut second = place.start(&[&["link", &clip, "stave://Start Pontoon"], &lan(&ip[3])[..]].concat());
    second.says("this one is \"");
    offers.interrupt();
    assert_eq!(offers.end().0, 0);
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn a_name_is_listed_shown_on_air_and_steered_and_strangers_learn_nothing() {
        timed(listed_shown_and_steered);
    }

    fn listed_shown_and_steered() {
        let place = Place::new().with("LAN", "eight oars and a cox").with("OTHER", "six oars");
        let (net, ip) = addresses();
        let g = group(net);
        let lan = |on| ["--on", on, "--lan-group", &g, "--key-env", "LAN"];
        let (mut camera, at) = camera(&place, &lan(&ip[1]));
        // Whatever comes to its port that is no QUIC costs nothing.
        let noise = UdpSocket::bind((net.at(7), 0)).expect("a socket");
        for n in 0..200u8 {
            let _ = noise.send_to(&vec![n; usize::from(n) * 6 + 1], &at);
        }
        until_listed(&place, &lan(&ip[2]), |nodes| nodes[0]["names"][0]["streams"].as_array().is_some_and(|s| s.len() == 3));
        let (code, nodes, _) = list(&place, &lan(&ip[2]));
        let source = &nodes[0]["names"][0];
        assert_eq!((code, source["name"].as_str(), nodes[0]["machine"].as_str()), (0, Some("Finish Tower"), Some("tower")), "{nodes:#}");
        assert_eq!(
            (nodes[0]["secured"].as_str(), nodes[0]["at"].as_str(), source["steered"].as_bool()),
            (Some("key"), Some(&*at), Some(true))
        );
        let streams = source["streams"].as_array().expect("streams");
        let facts: Vec<_> = streams.iter().map(|s| (s["grade"].as_str(), s["size"][0].as_u64(), s["sound"].as_str())).collect();
        assert_eq!(
            facts,
            [
                (Some("intra"), Some(320), Some("pcm 16x48 kHz")),
                (Some("long-gop"), Some(320), Some("aac 2x48 kHz")),
                (Some("sub"), Some(160), Some("aac 2x48 kHz"))
            ]
        );
        let mut args = vec!["stave", "list"];
        let on = lan(&ip[2]);
        args.extend(on);
        let table = place.run(&args).stdout;
        assert!(
            table.starts_with("name") && table.contains("Finish Tower") && table.contains("long-gop") && table.contains("steered"),
            "{table}"
        );

        // Looked at before it is taken.
        let look = |on, more: &[&str]| {
            let lan = lan(on);
            place.run(&[&["inspect", "stave://Finish Tower?grade=sub", "--for", "1s", "--wait", "8s", "--json"], &lan[..], more].concat())
        };
        let out = look(&ip[6], &[]);
        let seen: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
        assert_eq!(seen["picture"]["size"][0].as_u64(), Some(160), "{seen:#}");
        on_time("the stream has no defects", || assert_eq!(out.code, 0, "{seen:#}"));
        assert!(seen["how"].as_str().is_some_and(|h| h.starts_with("sub from tower, by QUIC")), "{seen:#}");
        let out = place.run(&["inspect", "stave://Nobody", "--on", &ip[6], "--lan-group", &g, "--key-env", "LAN", "--wait", "1s"]);
        assert!(out.code == 1 && out.stderr.contains("name \"Nobody\" not found"), "{}", out.stderr);

        // Without the key, and in another group.
        let (code, nodes, why) = list(&place, &["--on", &ip[3], "--lan-group", &g, "--key-env", "OTHER"]);
        assert!(code == 1 && why.contains("tower") && why.contains("group keys") && !why.contains("oars"), "{why}");
        assert!(nodes[0]["names"].as_array().is_some_and(Vec::is_empty), "{nodes:#}");
        let (code, _, why) = list(&place, &["--on", &ip[3], "--lan-group", "harbour"]);
        assert!(code == 1 && why.contains("other groups here") && why.contains(&g), "{why}");
        let out = place.run(&["stave", "list", "--on", &ip[3], "--key-env", "NOT_SET"]);
        assert!(out.code == 4 && out.stderr.contains("NOT_SET"), "{}", out.stderr);
        assert_eq!(place.run(&["stave", "list", "--on", "1.2.3"]).code, 2);

        // A switcher puts it on air.
        let mut args =
            vec!["sim", "switcher", "stave://tower/Finish Tower?grade=intra", "stave://Finish Tower?grade=sub", "--desk", "--json"];
        let on = lan(&ip[4]);
        args.extend(on);
        let mut command = place.command(&args);
        command.stdin(Stdio::piped());
        let mut switcher = Running::of(command);
        switcher.says("type a number");
        switcher.types("nonsense\n1 2\n");
        switcher.says("write one or two numbers");
        switcher.says("taken");
        until_listed(&place, &lan(&ip[2]), |nodes| nodes[0]["names"][0]["tally"] == "on-air" && nodes[0]["names"][0]["viewers"] == 2);
        switcher.interrupt();
        let (code, text) = switcher.end();
        let inputs: serde_json::Value = serde_json::from_str(&text).expect("JSON");
        assert_eq!(code, 0, "{text}");
        assert_eq!(
            (inputs[0]["size"][0].as_u64(), inputs[1]["size"][0].as_u64(), inputs[0]["tally"].as_str()),
            (Some(320), Some(160), Some("on-air"))
        );

        // By name it is steered.
        let sheet = place.write(
            "desk.toml",
            &format!(
                "[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nmachine = \"desk\"\naddress = \"{net}.5\"\ngroup = \"{g}\"\n\
                 key = {{ env = \"LAN\" }}\n[[line]]\nname = \"tower\"\nfrom = \"stave://Finish Tower\"\n"
            ),
        );
        let ptz = |args: &[&str]| place.run(&[&["ptz", "stave://Finish Tower", "--sheet", &sheet], args].concat());
        assert_eq!(ptz(&["goto", "3"]).code, 0);
        let out = ptz(&["goto", "9"]);
        assert!(out.code == 1 && out.stderr.contains("there is no preset 9"), "{}", out.stderr);
        assert!(ptz(&["move", "--pan", "-0.5", "--for", "200ms"]).stdout.contains("moved and stopped"));
        assert!(ptz(&["move", "--pan", "-0.5", "--for", "11s"]).stderr.contains("at most 10 s"));
        assert!(ptz(&["list"]).stderr.contains("goes only to the camera itself"));
        let out = place.run(&["ptz", "stave://Finish Towr", "home", "--sheet", &sheet]);
        assert!(out.code == 1 && out.stderr.contains("did you mean \"Finish Tower\"?"), "{}", out.stderr);
        camera.interrupt();
        let (code, text) = camera.end();
        assert_eq!(code, 0);
        // Its two receivers come and go one after the other.
        let tallies: Vec<&str> = text.lines().filter_map(|l| l.strip_prefix("tally: ")).collect();
        assert!(tallies.contains(&"on air") && tallies.last() == Some(&"off"), "{text}");
        assert!(!text.contains("looks at pan 0.00"), "it has turned: {text}");
    }

    #[test]
    fn one_link_goes_out_by_a_name_and_comes_in_by_it() {
        timed(one_link);
    }
}
