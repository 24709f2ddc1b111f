//! Recordings, with the built program: what is on the disk can be played, also after the process is
//! killed.

use super::place::Place;
use choir_sim::stalls::{on_time, timed};
use std::fs;

/// Lines that play a clip again and again.
fn stage(lines: usize) -> Place {
    let place = Place::new();
    place.clip();
    let line = |n: usize| format!("[[line]]\nname = \"line-{n}\"\nfrom = \"clip.ts?repeat\"\n");
    let lines: String = (0..lines).map(line).collect();
    let feed = "[[feed]]\nname = \"desk\"\nline = \"line-0\"\nto = \"udp://127.0.0.1:9\"\n";
    place.write("show.toml", &format!("[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"off\"\n{lines}{feed}"));
    place
}

fn checked(place: &Place, folder: &str) -> (i32, Vec<serde_json::Value>) {
    let out = place.run(&["record", "check", folder, "--json"]);
    (out.code, serde_json::from_str(&out.stdout).unwrap_or_else(|e| panic!("{e}: {}{}", out.stdout, out.stderr)))
}

#[test]
fn a_line_and_a_feed_are_recorded_in_segments_while_the_show_runs() {
    let place = stage(2);
    let mut show = place.start(&["run", "show.toml"]);
    show.carries("line line-1");
    let out = place.run(&["record", "start", "line-1", "desk", "--each", "2s"]);
    assert_eq!(out.code, 0, "{}", out.stderr);
    assert!(out.stdout.contains("line-1 is recorded into") && out.stdout.contains("desk is recorded into"), "{}", out.stdout);
    for (args, says) in [
        (vec!["start", "line-1"], "line-1 is being recorded already"),
        (vec!["start", "line-9"], "there is no line \"line-9\""),
        (vec!["stop", "line-0"], "line-0 is not being recorded"),
    ] {
        let out = place.run(&[vec!["record"], args].concat());
        assert!(out.code == 3 && out.stderr.contains(says), "{} {}", out.code, out.stderr);
    }
    assert_eq!(place.run(&["record", "start", "line-0", "--each", "1s"]).code, 2);
    place
        .until("segments", |v| v["recordings"].as_array().is_some_and(|r| r.len() == 2 && r.iter().all(|r| r["files"].as_u64() > Some(2))));
    let out = place.run(&["record", "list"]);
    assert!(
        out.stdout.contains("line line-1") && out.stdout.contains("feed desk") && out.stdout.contains("recordings/line-1-"),
        "{}",
        out.stdout
    );
    assert_eq!(place.run(&["record", "stop", "line-1"]).stdout.trim(), "1 recording ended");
    let (code, files) = checked(&place, "recordings");
    assert_eq!(code, 0, "{files:#?}");
    let seconds = |name: &str| -> f64 {
        let of = files.iter().filter(|f| f["file"].as_str().is_some_and(|f| f.contains(name)));
        of.map(|f| f["seconds"].as_f64().expect("a number")).sum()
    };
    assert!(seconds("line-1-") > 4.0 && seconds("desk-") > 4.0, "{files:#?}");
    // The end of the show ends the other.
    show.interrupt();
    let (code, text) = show.end();
    assert_eq!(code, 0);
    assert!(!text.contains("panicked"), "{text}");
    let (code, files) = checked(&place, "recordings");
    assert_eq!(code, 0, "{files:#?}");
}

#[test]
fn the_sheet_says_what_is_recorded_and_a_reload_changes_it() {
    let place = stage(2);
    let sheet = fs::read_to_string(place.path("show.toml")).expect("a sheet");
    place.write("show.toml", &format!("{sheet}[record]\nstart = [\"line-0\", \"desk\"]\nfolder = \"tapes\"\n"));
    let mut show = place.start(&["run", "show.toml"]);
    place.until_answered();
    let recorded = |v: &serde_json::Value| -> Vec<String> {
        v["recordings"].as_array().into_iter().flatten().filter_map(|r| Some(r["subject"].as_str()?.to_owned())).collect()
    };
    place.until("both", |v| recorded(v) == ["line line-0", "feed desk"] && v["recordings"][1]["bytes"].as_u64() > Some(0));
    place.write("show.toml", &format!("{sheet}[record]\nstart = [\"line-1\", \"desk\"]\nfolder = \"tapes\"\n"));
    let out = place.run(&["reload"]);
    assert!(out.code == 0 && out.stdout.contains("recordings changed"), "{}{}", out.stdout, out.stderr);
    place.until("the other", |v| recorded(v) == ["feed desk", "line line-1"] && v["recordings"][1]["bytes"].as_u64() > Some(0));
    show.interrupt();
    assert_eq!(show.end().0, 0);
    let (code, files) = checked(&place, "tapes");
    assert_eq!((code, files.len()), (0, 3), "{files:#?}");
}

#[test]
fn what_is_not_a_recording_is_told() {
    let place = Place::new();
    assert!(place.run(&["record", "check", "nowhere"]).stderr.contains("nowhere"));
    place.write("junk.ts", "not a transport stream at all, whatever its name says");
    let out = place.run(&["record", "check", "junk.ts"]);
    assert!(out.code == 5 && out.stdout.contains("nothing to play is in it"), "{} {}", out.code, out.stdout);
    place.clip();
    let whole = fs::read(place.path("clip.ts")).expect("a clip");
    fs::write(place.path("cut.ts"), &whole[..whole.len() - 100]).expect("written");
    let out = place.run(&["record", "check", "cut.ts"]);
    assert!(out.code == 5 && out.stdout.contains("was cut off after 88 bytes: the rest can be played"), "{}", out.stdout);
}

mod timing {
    use super::*;

    #[test]
    fn a_hundred_recordings_that_are_killed_can_be_played() {
        timed(|| {
            const LINES: usize = 20;
            let place = stage(LINES);
            let names: Vec<String> = (0..LINES).map(|n| format!("line-{n}")).collect();
            for round in 0..5 {
                let mut show = place.start(&["run", "show.toml"]);
                place.until_answered();
                let folder = format!("round-{round}");
                let args: Vec<&str> =
                    ["record", "start", "--into", &folder, "--each", "2s"].into_iter().chain(names.iter().map(String::as_str)).collect();
                assert_eq!(place.run(&args).code, 0);
                // Some have begun another file by then, and some have not.
                let files = 15 + 9 * round;
                place.until("files", |v| {
                    let all = v["recordings"].as_array().cloned().unwrap_or_default();
                    all.len() == LINES && all.iter().filter_map(|r| r["files"].as_u64()).sum::<u64>() >= files
                });
                show.kill();
                let (_, files) = checked(&place, &folder);
                for file in &files {
                    let says = file["says"].as_array().expect("a list");
                    let cut_off = |s: &serde_json::Value| s.as_str().is_some_and(|s| s.contains("was cut off after"));
                    let fair = || assert!(file["bytes"] == 0 || says.iter().all(cut_off), "{file:#}");
                    // A source that comes late leaves a gap.
                    if says.iter().any(|s| s.as_str().is_some_and(|s| s.contains(" gap"))) {
                        on_time("no gaps", fair);
                    } else {
                        fair();
                    }
                }
                let recorded = files.iter().filter(|f| f["bytes"].as_u64() > Some(1000)).count();
                assert!(recorded > 10, "{files:#?}");
            }
        });
    }
}
