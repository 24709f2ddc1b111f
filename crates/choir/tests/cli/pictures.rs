//! Pictures of a running show as files, and what is said of them.

use crate::place::{Place, Running, carries, port};
use std::{fs, path::Path, process::Stdio};

/// Pixels of a PNG file.
fn size(path: &Path) -> (u32, u32) {
    let bytes = fs::read(path).expect("a file");
    assert!(bytes.starts_with(b"\x89PNG\r\n\x1a\n"), "{} is no PNG", path.display());
    let number = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().expect("4 bytes"));
    (number(16), number(20))
}

/// A line with a camera that takes words, and one that nobody sends to.
fn stage() -> (Place, Running, Running) {
    let place = Place::new();
    let (jury, nobody) = (port(), port());
    let sheet = place.write(
        "regatta.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"100 %\"\n\
             [[line]]\nname = \"jury-room\"\nfrom = \"udp://127.0.0.1:{jury}\"\n\
             [[line]]\nname = \"towpath\"\nfrom = \"udp://127.0.0.1:{nobody}\"\n"
        ),
    );
    let show = place.start(&["run", &sheet]);
    let to = format!("udp://127.0.0.1:{jury}");
    let mut camera = place.command(&[
        "sim",
        "camera",
        "--to",
        &to,
        "--size",
        "480x270",
        "--bitrate",
        "1500kbps",
        "--show",
        "black",
        "--show",
        "silent",
        "--typed",
    ]);
    camera.stdin(Stdio::piped());
    (place, show, Running::of(camera))
}

fn content(view: &serde_json::Value) -> Vec<&str> {
    view["lines"][0]["content"].as_array().into_iter().flatten().filter_map(|c| c["name"].as_str()).collect()
}

/// Run with the machine to themselves: whoever looks at pictures gives way to all else.
mod timing {
    use super::*;

    #[test]
    fn what_a_picture_shows_is_told_and_the_picture_is_written() {
        let (place, mut show, mut camera) = stage();
        show.says("line jury-room: strained: picture black");
        place.until("black and silent", |v| content(v) == ["black", "silent"]);
        camera.types("normal\nnonsense\n");
        camera.says("\"nonsense\" is not something that a camera can show");
        // The loudness is that of the last 400 ms, in which the sound came back.
        let loud = |v: &serde_json::Value| v["lines"][0]["levels"]["momentary_lufs"].as_f64().is_some_and(|l| (-25.0..-10.0).contains(&l));
        let fine = |v: &serde_json::Value| content(v).is_empty() && carries(&v["lines"][0]["link"]["state"]);
        let view = place.until("as it should be", |v| fine(v) && loud(v));
        assert_eq!(view["lines"][0]["picture"]["size"], serde_json::json!([480, 270]));

        let out = place.run(&["status", "jury-room"]);
        assert!(
            out.code == 0 && out.stdout.contains("peak -18 and -18 dBFS") && out.stdout.contains("H.264"),
            "{}{}",
            out.stdout,
            out.stderr
        );
        let out = place.run(&["status", "jury-room", "--json"]);
        let one: serde_json::Value = serde_json::from_str(&out.stdout).expect("JSON");
        assert_eq!(one["name"], "jury-room");
        let out = place.run(&["status", "jury-rom"]);
        assert!(out.code == 3 && out.stderr.contains("Did you mean \"jury-room\""), "{}", out.stderr);

        // As it is, smaller, by name, and on standard output.
        let out = place.run(&["snap", "jury-room"]);
        assert_eq!((out.code, size(&place.path("jury-room.png"))), (0, (480, 270)), "{}", out.stderr);
        let file = place.path("small.png").display().to_string();
        assert_eq!(place.run(&["snap", "jury-room", "-o", &file, "--size", "200x200"]).code, 0);
        assert_eq!(size(Path::new(&file)), (200, 113));
        let out = place.command(&["snap", "jury-room", "-o", "-"]).output().expect("runs");
        assert!(out.status.success() && out.stdout.starts_with(b"\x89PNG"), "{} bytes", out.stdout.len());
        // All on one.
        let wall = place.path("wall.png").display().to_string();
        assert_eq!(place.run(&["snap", "--all", &wall]).code, 0);
        assert!(size(Path::new(&wall)).0 > 640, "two beside each other");
        // One after the other.
        let out = place.run(&["snap", "--all", "walls", "--every", "1s", "--for", "2500ms"]);
        let files: Vec<_> = fs::read_dir(place.path("walls")).expect("a folder").map(|e| e.expect("an entry").path()).collect();
        assert!(out.code == 0 && files.len() >= 2 && out.stderr.contains("written to walls"), "{files:?} {}", out.stderr);
        assert!(files.iter().all(|f| f.file_name().is_some_and(|n| n.to_string_lossy().starts_with("wall-20"))), "{files:?}");

        // What cannot be.
        let out = place.run(&["snap", "towpath"]);
        assert!(out.code == 1 && out.stderr.contains("line towpath has no picture"), "{} {}", out.code, out.stderr);
        let out = place.run(&["snap", "jury"]);
        assert!(out.code == 3 && out.stderr.contains("no line \"jury\""), "{} {}", out.code, out.stderr);
        assert_eq!(place.run(&["snap", "jury-room", "-o", "nowhere/x.png"]).code, 4);
        assert_eq!(place.run(&["snap", "jury-room", "--every", "10ms"]).code, 2);
        assert_eq!(place.run(&["snap"]).code, 2);
        let out = place.run(&["sim", "show", "jury-room", "black"]);
        assert!(out.code == 3 && out.stderr.contains("only the demo has"), "{} {}", out.code, out.stderr);
        assert_eq!(place.run(&["stop"]).code, 0);
        assert_eq!(place.run(&["snap", "jury-room"]).code, 3, "nothing runs any more");
    }
}
