//! The built `choir`, driven as an engineer would, on files in a temporary folder and loopback
//! ports.

#![allow(clippy::panic, reason = "a helper that fails its test")]

mod alarms;
mod clips;
mod compare;
mod confirm;
mod devices;
mod help;
mod lan;
mod links;
mod live;
mod machine;
mod names;
mod namespaces;
mod pictures;
mod place;
mod readme;
mod records;
mod rotas;
mod rtmp;
mod sheets;
mod shows;
mod sound;
mod standby;
mod takes;
mod walls;
mod wire;

use place::Place;

#[test]
fn check_tells_all_mistakes_and_its_exit_code_says_so() {
    let place = Place::new();
    let demo = place.write("regatta.toml", include_str!("../../../../demo/regatta.toml"));
    let out = place.run(&["check", &demo]);
    assert_eq!((out.code, out.stdout.contains("nothing wrong; 8 lines, 6 feeds and 2 devices")), (0, true), "{}", out.stdout);
    assert!(out.stderr.contains("skipped, not set") && out.stderr.contains("REGATTA_BICYCLE"), "{}", out.stderr);
    let bad = place.write("bad.toml", "[show]\nname = \"x\"\n[[line]]\nname = \"a\"\nfrom = { mode = \"listner\", port = 0 }\n");
    let out = place.run(&["check", &bad]);
    assert_eq!(out.code, 1);
    assert!(out.stdout.contains("bad.toml:5:17: error") && out.stdout.contains("Did you mean \"listener\""), "{}", out.stdout);
    let out = place.run(&["check", &bad, "--json"]);
    let json: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    assert_eq!((json["errors"].as_u64(), json["findings"][0]["place"]["line"].as_u64()), (Some(2), Some(5)));
    assert_eq!(place.run(&["check", "nowhere.toml"]).code, 2);
    assert_eq!(place.run(&["run", &bad]).code, 1, "a sheet with errors starts nothing");
}
