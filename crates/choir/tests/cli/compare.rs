//! Sources side by side, and addresses by pattern, with the built program.

use super::{
    lan::camera,
    place::{Place, port},
};
use std::fs;

#[test]
fn sources_are_compared_as_they_are_and_by_the_pattern_of_a_sheet() {
    let place = Place::new().with("CAMERA", "four oars");
    let (_camera, at) = camera(&place, &["--sub", "160x90", "--user", "desk", "--password-env", "CAMERA"]);
    let sheet = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n\
         [pattern.tarn]\nurl = \"rtsp://{{address}}/{{stream}}\"\nstream = [\"main\", \"sub\"]\nuser = \"desk\"\npassword = {{ env = \"CAMERA\" }}\n\
         [[line]]\nname = \"dock\"\nfrom = {{ pattern = \"tarn\", address = \"{at}\", stream = \"main\" }}\n\
         [[line]]\nname = \"small\"\nfrom = {{ pattern = \"tarn\", address = \"{at}\", stream = \"sub\", transport = \"tcp\" }}\n"
    );
    let sheet = place.write("regatta.toml", &sheet);
    assert_eq!(place.run(&["check", &sheet]).code, 0);
    let out = place.run(&["compare", "--sheet", &sheet, "dock", "small", "--for", "3s", "--html", "which.html"]);
    assert_eq!(out.code, 0, "{}{}", out.stdout, out.stderr);
    let row =
        |fact: &str| out.stdout.lines().find(|l| l.contains(fact)).unwrap_or_default().split_whitespace().collect::<Vec<_>>().join(" ");
    assert_eq!((row("size"), row("a second")), ("≠ size 320x180 160x90".into(), "a second 25 25".into()), "{}", out.stdout);
    let page = fs::read_to_string(place.path("which.html")).expect("a page");
    assert_eq!(page.matches("data:image/png").count(), 2);
    assert!(!page.contains("four oars") && !out.stdout.contains("four oars"));
    // Every address that the pattern allows, one of which is not there.
    let out = place.run(&["compare", "--sheet", &sheet, "--pattern", "tarn", &format!("address={at}"), "--for", "1s", "--json"]);
    let seen: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
    let names: Vec<&str> = seen.as_array().expect("a list").iter().filter_map(|s| s["source"].as_str()).collect();
    assert_eq!((out.code, names), (0, vec!["stream main", "stream sub"]), "{}", out.stderr);
    for (args, code, says) in [
        (vec!["compare", "--sheet", &sheet, "--pattern", "tarn"], 2, "address is missing"),
        (vec!["compare", "--sheet", &sheet, "--pattern", "turn", "address=h"], 2, "Did you mean \"tarn\"?"),
        (vec!["compare", "--sheet", &sheet, "dok"], 2, "Did you mean \"dock\"?"),
        (
            vec!["inspect", "--sheet", &sheet, "--pattern", "tarn", "address=127.0.0.1:1", "--wait", "500ms", "--for", "1s"],
            1,
            "stream main: ",
        ),
    ] {
        let out = place.run(&args);
        assert!(out.code == code && out.stderr.contains(says), "{args:?}: {} {}", out.code, out.stderr);
    }
    // Nobody is there.
    let nobody = format!("srt://127.0.0.1:{}", port());
    let out = place.run(&["compare", &nobody, "--wait", "500ms", "--for", "1s"]);
    assert!(out.code == 1 && out.stdout.contains("nothing listens"), "{}{}", out.stdout, out.stderr);
}
