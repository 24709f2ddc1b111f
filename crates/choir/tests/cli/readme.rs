//! Every command of the README, as printed there, while the demo runs.

use super::place::{CHOIR, Place, Running, carries};
use std::{
    fs,
    path::Path,
    process::{Command, Stdio},
};

const README: &str = include_str!("../../../../README.md");
const SHEET: &str = include_str!("../../../../demo/regatta.toml");
const SECRETS: &str = include_str!("../../../../demo/secrets.env");

/// Runs until it is interrupted, or would: what it says first, by which it is known to work.
const GOES_ON: &[(&str, &str)] = &[
    ("choir path --answer", "7099"),
    ("choir link 'srt://:7001?latency=200'", "line in: waiting"),
    ("choir link 'rtmp://", "line in: waiting"),
    ("choir link 'rtsp://", "line in: steady"),
    ("choir link 'srt://:7001' rtsp", "viewers use"),
    ("choir link 'srt://:7001' 'stave", "line in: waiting"),
    ("choir stave directory", "directory"),
    ("choir sim path", "7001"),
    // More than a minute on a machine by itself; beside a whole show it measures nothing.
    ("choir bench", "trying links of"),
];
/// Needs a terminal; tested with one elsewhere (`live.rs`, `devices.rs`).
const ON_A_TERMINAL: &[&str] = &["choir device password", "choir watch"];
/// Done by the demo itself.
const THE_DEMO: &[&str] = &["choir run regatta.toml"];
/// Exit codes other than 0 that are right on the demo.
const OTHER_CODES: &[(&str, &[i32])] = &[
    // What it measures on the wire may be off while the whole show runs beside it.
    ("choir device apply", &[0, 5]),
    // Nobody calls within a second.
    ("choir link 'srt://:7001' 'srt", &[1]),
    // Sources on a machine that runs a whole show beside them may be late, and nothing else.
    ("choir inspect", &[0, 5]),
    ("choir record check", &[0, 5]),
    // It measures too: what a machine that stands still now and then loses is no fault here.
    ("choir linecheck", &[0, 1]),
];
/// Looks at the demo while it runs, and brings up its devices itself once it has ended.
const AFTER_THE_DEMO: &[&str] = &["choir linecheck --demo"];

/// Commands as printed, without their remarks.
fn commands() -> Vec<String> {
    let joined = README.replace("\\\n        ", "");
    let lines = joined.lines().filter_map(|l| l.strip_prefix("    ")).filter(|l| l.contains("choir ") && !l.starts_with("mkdir"));
    lines.map(|l| l.split(" # ").next().unwrap_or_default().trim().to_owned()).collect()
}

/// The command as a shell runs it, with the place's own folders; not a child of the shell, so that
/// it can be interrupted.
fn shell(place: &Place, line: &str) -> Command {
    let path = format!("{}:{}", Path::new(CHOIR).parent().expect("a folder").display(), std::env::var("PATH").unwrap_or_default());
    let mut sh = Command::new("sh");
    sh.arg("-c").arg(format!(". ./secrets.env; {}", line.replacen("choir ", "exec choir ", 1))).current_dir(place.dir.path());
    sh.envs(place.command(&[]).get_envs().filter_map(|(k, v)| Some((k, v?)))).env("PATH", path).stdin(Stdio::null());
    sh
}

fn works(place: &Place, line: &str) {
    let out = shell(place, line).output().expect("runs");
    let codes = OTHER_CODES.iter().find(|(c, _)| line.contains(c)).map_or(&[0][..], |(_, codes)| codes);
    let (code, text) = (out.status.code().unwrap_or(-1), String::from_utf8_lossy(&out.stderr).into_owned());
    let said = String::from_utf8_lossy(&out.stdout);
    // A source that the busy machine holds up sends late, and with its pictures its sound, its
    // clock references and its tables.
    let late = |l: &str| ["after the DTS", "PCR gap", "audio gap", "between tables"].iter().any(|of| l.contains(of));
    assert!(!line.contains("choir inspect") || said.lines().filter(|l| l.starts_with("defect")).all(late), "{line}\n{said}");
    let lost = |l: &str| [": loss: ", ": rate: ", ": bitrate: "].iter().any(|of| l.contains(of));
    assert!(!line.contains("choir linecheck") || said.lines().filter(|l| l.starts_with("NO ")).all(lost), "{line}\n{said}");
    assert!(codes.contains(&code), "{line}\nexit code {code}\n{}\n{text}", String::from_utf8_lossy(&out.stdout));
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn every_command_of_the_readme_works_on_the_demo_as_printed() {
        let place = Place::alone();
        fs::write(place.path("regatta.toml"), SHEET).expect("written");
        fs::write(place.path("secrets.env"), SECRETS).expect("written");
        let mut demo = place.start(&["demo"]);
        place.until("the first four lines", |v| (0..4).all(|n| carries(&v["lines"][n]["link"]["state"])));
        let all = commands();
        assert!(all.len() > 30, "{all:?}");
        let mut answering = None;
        for line in &all {
            let is = |c: &str| line.contains(c);
            if ON_A_TERMINAL.iter().chain(THE_DEMO).any(|c| is(c)) {
                continue;
            }
            if let Some((_, says)) = GOES_ON.iter().find(|(c, _)| is(c)) {
                let mut running = Running::of(shell(&place, line));
                running.says(says);
                if is("--answer") {
                    answering = Some(running);
                } else {
                    running.interrupt();
                    running.end();
                }
                continue;
            }
            works(&place, line);
        }
        drop(answering);
        // "choir stop" ended it.
        assert_eq!(demo.end().0, 0);
        all.iter().filter(|l| AFTER_THE_DEMO.iter().any(|c| l.contains(c))).for_each(|line| works(&place, line));
    }
}
