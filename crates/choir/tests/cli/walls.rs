//! Walls of pictures, and one source that moves, with the built program.

use super::place::{Place, Running, carries, port};
use choir_proto::ts::Origin;
use choir_sim::stalls::{on_time, timed};
use serde_json::Value;
use std::fs;

/// A camera, a line that nobody calls, and a wall of both that is recorded.
fn stage() -> (Place, Running, Running) {
    let place = Place::new();
    let (dock, jury) = (port(), port());
    let sheet = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\n\
         [[line]]\nname = \"dock\"\ntitle = \"Dock\"\nfrom = \"srt://127.0.0.1:{dock}?mode=listener\"\n\
         [[line]]\nname = \"jury\"\nfrom = \"srt://127.0.0.1:{jury}?mode=listener\"\n\
         [[line]]\nname = \"truck\"\nfrom = {{ kind = \"wall\", grid = \"2x1\", size = \"640x360\" }}\n\
         [[feed]]\nname = \"monitor\"\nline = \"truck\"\nto = \"out.ts\"\n\
         [keys]\nF1 = \"wall truck jury\"\n"
    );
    place.write("wall.toml", &sheet);
    let show = place.start(&["run", "wall.toml"]);
    let to = format!("srt://127.0.0.1:{dock}");
    let camera = place.start(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "1Mbps"]);
    place.until_answered();
    place.until("both", |v| carries(&v["lines"][0]["link"]["state"]) && carries(&v["feeds"][0]["outs"][0]["state"]));
    (place, show, camera)
}

/// Pixels of a PNG, RGB, and its width.
fn pixels(place: &Place, name: &str) -> (Vec<u8>, usize) {
    let file = fs::File::open(place.path(name)).expect("written");
    let mut reader = png::Decoder::new(std::io::BufReader::new(file)).read_info().expect("a PNG");
    let mut rgb = vec![0; reader.output_buffer_size().expect("a size")];
    let info = reader.next_frame(&mut rgb).expect("a picture");
    (rgb, info.width as usize)
}

/// A picture of a camera has more colours than names and bars have.
const MANY: usize = 45;

/// How many colours there are in this part of a picture, in steps of 16.
fn colours((rgb, width): &(Vec<u8>, usize), columns: std::ops::Range<usize>) -> usize {
    let pixel = |(n, p): (usize, &[u8])| columns.contains(&(n % width)).then(|| [p[0] >> 4, p[1] >> 4, p[2] >> 4]);
    rgb.chunks_exact(3).enumerate().filter_map(pixel).collect::<std::collections::HashSet<_>>().len()
}

fn a_wall_is_a_line() {
    let (place, mut show, _camera) = stage();
    let view = place.until("its picture", |v| v["lines"][2]["media"]["size"] == serde_json::json!([640, 360]));
    assert_eq!((&view["lines"][2]["media"]["codec"], &view["lines"][2]["full"]), (&"H.264".into(), &Value::Null));
    let snap = |name: &str| {
        let out = place.run(&["snap", "truck", "-o", name]);
        assert_eq!(out.code, 0, "{}", out.stderr);
        pixels(&place, name)
    };
    // A keyframe comes each two seconds: until the camera is on it.
    let mut both = snap("both.png");
    let end = std::time::Instant::now() + super::place::PATIENCE;
    while colours(&both, 0..320) < MANY {
        assert!(std::time::Instant::now() < end, "the camera is never seen");
        both = snap("both.png");
    }
    assert!(colours(&both, 330..640) < MANY, "nobody calls the other line: {}", colours(&both, 330..640));
    let out = place.run(&["wall", "truck", "dock"]);
    assert_eq!((out.code, out.stdout.trim()), (0, "truck shows dock alone"), "{}", out.stderr);
    assert!(place.run(&["wall"]).stdout.contains("dock alone"));
    let mut alone = snap("alone.png");
    while colours(&alone, 330..640) < MANY {
        assert!(std::time::Instant::now() < end, "it is never seen alone");
        alone = snap("alone.png");
    }
    assert_eq!(place.run(&["wall", "truck"]).stdout.trim(), "truck shows all its lines");
    for (args, says) in [(["wall", "dock", "jury"], "dock is no wall"), (["wall", "truck", "jurry"], "Did you mean \"jury\"?")] {
        let out = place.run(&args);
        assert!(out.code == 3 && out.stderr.contains(says), "{}", out.stderr);
    }
    show.interrupt();
    assert_eq!(show.end().0, 0);
    on_time("nothing is late or missing", || assert_eq!(place.defects("out.ts", Origin::Joined, &[]), Vec::<String>::new()));
}

#[test]
fn a_source_is_watched_as_it_moves_in_a_show_and_without_one() {
    let (place, mut show, _camera) = stage();
    let out = place.run(&["view", "dock", "--frames", "moving", "--size", "160x90", "--for", "3s"]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    let count = |folder: &str| fs::read_dir(place.path(folder)).expect("a folder").count();
    assert!((8..=31).contains(&count("moving")), "{} pictures in 3 s", count("moving"));
    let [first, later] = ["moving/dock-000001.png", "moving/dock-000008.png"].map(|name| pixels(&place, name));
    assert!(first.1 == 160 && first.0 != later.0, "it moves");
    // What sends nothing has no picture.
    let out = place.run(&["view", "jury", "--frames", "none", "--for", "1s"]);
    assert!(out.code == 1 && out.stderr.contains("no picture came: no caller on port"), "{} {}", out.code, out.stderr);
    let out = place.run(&["view", "dok", "--frames", "none", "--for", "1s"]);
    assert!(out.code == 3 && out.stderr.contains("Did you mean \"dock\"?"), "{} {}", out.code, out.stderr);
    show.interrupt();
    assert_eq!(show.end().0, 0);
    // The recording of the wall, without a show.
    let out = place.run(&["view", "out.ts", "--frames", "file", "--for", "2s"]);
    assert!(out.code == 0 && count("file") > 3, "{}", out.stderr);
    let out = place.run(&["view", "out.ts"]);
    assert!(out.code == 2 && out.stderr.contains("view needs a terminal"), "{}", out.stderr);
}

/// Run with the machine to itself.
mod timing {
    use super::*;

    #[test]
    fn a_wall_is_a_line_made_of_the_others_and_shows_one_alone_by_command() {
        timed(a_wall_is_a_line);
    }
}
