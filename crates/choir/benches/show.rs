//! A show in real time in which everything goes wrong in turn: cameras killed, paths cut, pictures
//! black or frozen, no sound, a full disk. Says how long each kind of standby took from the fault
//! to a picture on the feed, and fails when what went out is not legal, a recording cannot be read,
//! or memory grows.
//!
//! `cargo bench -p choir --bench show -- SECONDS`; 180 if not given. As root it gives the
//! recordings a disk of their own, which fills.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a bench")]

use choir_core::{facts::State, view::ShowView};
use choir_host::clock::unix_us;
use choir_proto::ts::{Origin, TsChecker, TsFault};
use std::{
    collections::BTreeMap,
    fs,
    io::Write,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

/// How long a fault lasts, and how long its end is given.
const LASTS: Duration = Duration::from_secs(4);
const REST: Duration = Duration::from_secs(5);
/// A change is looked for so often.
const LOOK: Duration = Duration::from_millis(100);
/// Feeds by what stands in on each.
const FEEDS: [(&str, &str, &str); 4] = [
    ("by-line", "\"tower\"", ""),
    ("at-once", "\"tower\"", "cut = \"at-once\"\n"),
    ("by-clip", "\"clip\"", ""),
    ("by-slate", "\"slate\"", ""),
];
/// What is done to the camera.
const FAULTS: [Fault; 5] = [Fault::Killed, Fault::Cut, Fault::Shows("black"), Fault::Shows("frozen"), Fault::Shows("silent")];
/// How much memory may grow, from when all has happened once.
const GROWTH_MOST: f64 = 0.10;
/// MB of the recordings' own disk.
const DISK: u32 = 360;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fault {
    /// The camera's program.
    Killed,
    /// Its path.
    Cut,
    Shows(&'static str),
}

/// A program that ends with whoever holds it.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

struct Stage {
    folder: PathBuf,
    listens: u16,
    path: u16,
    tower: u16,
}

impl Stage {
    fn choir(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_choir"));
        command.args(args).current_dir(&self.folder).env("CHOIR_RUNTIME_DIR", self.folder.join("runtime"));
        command.env("CHOIR_STATE_DIR", self.folder.join("state")).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command
    }

    fn start(&self, args: &[&str]) -> Running {
        Running(self.choir(args).stdin(Stdio::piped()).spawn().unwrap())
    }

    fn camera(&self, to: u16) -> Running {
        let to = format!("srt://127.0.0.1:{to}");
        self.start(&["sim", "camera", "--to", &to, "--size", "640x360", "--bitrate", "2Mbps", "--keyframe", "0.4", "--typed"])
    }

    fn relay(&self) -> Running {
        let (there, back) = (format!("127.0.0.1:{}", self.path), format!("127.0.0.1:{}", self.listens));
        self.start(&["sim", "path", "--in", &there, "--out", &back, "--delay", "10ms", "--loss", "0.5%"])
    }

    fn view(&self) -> ShowView {
        let out = self.choir(&["status", "--json"]).stdout(Stdio::piped()).output().unwrap();
        serde_json::from_slice(&out.stdout).unwrap_or_default()
    }

    fn until(&self, what: &str, is: impl Fn(&ShowView) -> bool) {
        let end = Instant::now() + Duration::from_secs(30);
        while !is(&self.view()) {
            assert!(Instant::now() < end, "never: {what}");
            std::thread::sleep(LOOK);
        }
    }

    fn sheet(&self, record: &Path) -> String {
        let mut text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n\
             [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:{}?mode=listener\"\n\
             [[line]]\nname = \"tower\"\nfrom = \"srt://127.0.0.1:{}?mode=listener\"\n\
             [[line]]\nname = \"clip\"\nfrom = \"clip.ts?repeat\"\n\
             [record]\nstart = [\"by-line\", \"by-clip\", \"by-slate\", \"dock\"]\nfolder = {record:?}\neach = \"10 s\"\n",
            self.listens, self.tower
        );
        for (name, lines, more) in FEEDS {
            let limits = "broken = \"3 s\", black = \"1 s\", frozen = \"1 s\", silent = \"1 s\", return = \"2 s\"";
            text += &format!(
                "[[feed]]\nname = \"{name}\"\nline = \"dock\"\nto = \"{name}.ts\"\n{more}standby = {{ lines = {lines}, {limits} }}\n"
            );
        }
        text
    }
}

/// Milliseconds from the fault until something else was on each feed, by what the show told.
fn told(view: &ShowView, since_ms: i64) -> BTreeMap<String, f64> {
    let mut first = BTreeMap::new();
    for event in view.events.iter().filter(|e| e.at_ms as i64 >= since_ms && e.text.contains(" is on, ")) {
        let Some(feed) = event.subject.strip_prefix("feed ") else { continue };
        first.entry(feed.to_owned()).or_insert((event.at_ms as i64 - since_ms) as f64);
    }
    first
}

fn main() {
    let seconds = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(180);
    let folder = tempfile::tempdir().unwrap();
    let stage = Stage { folder: folder.path().to_owned(), listens: choir_rig::port(), path: choir_rig::port(), tower: choir_rig::port() };
    let disk = folder.path().join("disk");
    fs::create_dir(&disk).unwrap();
    let mount =
        Command::new("mount").args(["-t", "tmpfs", "-o", &format!("size={DISK}m"), "tmpfs"]).arg(&disk).stderr(Stdio::null()).status();
    let mounted = mount.is_ok_and(|s| s.success());
    let ended = show(&stage, &disk, mounted, Duration::from_secs(seconds));
    if mounted {
        let _ = Command::new("umount").arg(&disk).status();
    }
    if let Err(why) = ended {
        eprintln!("failed: {why}");
        std::process::exit(1);
    }
}

fn show(stage: &Stage, disk: &Path, mounted: bool, time: Duration) -> Result<(), String> {
    stage.choir(&["sim", "camera", "--to", "clip.ts", "--size", "640x360", "--bitrate", "2Mbps", "--for", "8s"]).status().unwrap();
    fs::write(stage.folder.join("show.toml"), stage.sheet(disk)).unwrap();
    let run = stage.start(&["run", "show.toml"]);
    let (mut camera, mut relay, _tower) = (stage.camera(stage.path), stage.relay(), stage.camera(stage.tower));
    let steady = |v: &ShowView| v.feeds.iter().all(|f| f.line == "dock" && f.stand_in.is_none());
    stage.until("the cameras", |v| v.feeds.len() == FEEDS.len() && steady(v));
    println!("{} s; each fault lasts {} s", time.as_secs(), LASTS.as_secs());
    let (begun, mut taken, mut memory) = (Instant::now(), BTreeMap::<(String, String), Vec<f64>>::new(), Vec::new());
    let mut faults = 0;
    for fault in FAULTS.into_iter().cycle() {
        if begun.elapsed() >= time {
            break;
        }
        std::thread::sleep(REST);
        let since = unix_us() / 1000;
        match fault {
            Fault::Killed => drop(camera.0.kill()),
            Fault::Cut => drop(relay.0.kill()),
            Fault::Shows(word) => writeln!(camera.0.stdin.as_mut().unwrap(), "{word}").map_err(|e| e.to_string())?,
        }
        faults += 1;
        std::thread::sleep(LASTS);
        let name = if let Fault::Shows(word) = fault { word.to_owned() } else { format!("{fault:?}").to_lowercase() };
        let found = told(&stage.view(), since);
        for (feed, ..) in FEEDS {
            let ms = found.get(feed).ok_or(format!("{name}: nothing stood in on {feed} within {} s", LASTS.as_secs()))?;
            taken.entry((name.clone(), feed.to_owned())).or_default().push(*ms);
        }
        match fault {
            Fault::Killed => camera = stage.camera(stage.path),
            Fault::Cut => relay = stage.relay(),
            Fault::Shows(_) => writeln!(camera.0.stdin.as_mut().unwrap(), "normal").map_err(|e| e.to_string())?,
        }
        // One that fails again and again comes back by hand.
        stage.until("the line again", |v| v.lines.iter().any(|l| l.name == "dock" && l.link.state == Some(State::Steady)));
        FEEDS.iter().for_each(|(feed, ..)| drop(stage.choir(&["take", feed, "dock"]).status()));
        stage.until("the camera again", steady);
        memory.push(choir_rig::resident_kib(&run.0.id().to_string()));
    }
    println!("\n{:10} {:10} {:>5} {:>8} {:>8} {:>8}", "fault", "standby", "times", "least ms", "median", "most");
    for ((fault, feed), mut ms) in taken {
        ms.sort_by(f64::total_cmp);
        println!("{fault:10} {feed:10} {:5} {:8.0} {:8.0} {:8.0}", ms.len(), ms[0], ms[ms.len() / 2], ms[ms.len() - 1]);
    }
    let view = stage.view();
    let ended = view.events.iter().filter(|e| e.text.contains("disk")).map(|e| format!("{}: {}", e.subject, e.text)).collect::<Vec<_>>();
    let _ = Command::new("kill").args(["-INT", &run.0.id().to_string()]).status();
    let mut run = run;
    let _ = run.0.wait();
    judge(stage, disk, mounted, &ended)?;
    let (first, last) = (memory[memory.len().min(FAULTS.len()) - 1], memory[memory.len() - 1]);
    println!("{faults} faults; memory {:.1} MB after all had happened once, {:.1} at the end", first / 1024.0, last / 1024.0);
    let all: Vec<String> = memory.iter().map(|kib| format!("{:.0}", kib / 1024.0)).collect();
    println!("after each, MB: {}", all.join(" "));
    if last > first * (1.0 + GROWTH_MOST) { Err("memory grows".into()) } else { Ok(()) }
}

/// Whether what went out is legal, and the recordings can be read.
fn judge(stage: &Stage, disk: &Path, mounted: bool, ended: &[String]) -> Result<(), String> {
    let pauses = [TsFault::PcrInterval, TsFault::PcrJump, TsFault::DtsJump, TsFault::TableInterval, TsFault::SoundGap];
    for (feed, ..) in FEEDS {
        let mut checker = TsChecker::new(Origin::Joined);
        let bytes = fs::read(stage.folder.join(format!("{feed}.ts"))).map_err(|e| e.to_string())?;
        println!("{feed}: {:.1} MB", bytes.len() as f64 / 1e6);
        checker.push(&bytes.into());
        checker.finish(false);
        let found: Vec<_> =
            checker.findings().into_iter().filter(|f| !f.minor && !pauses.contains(&f.fault) && f.fault != TsFault::Continuity).collect();
        if !found.is_empty() {
            return Err(format!("{feed}: {found:?}"));
        }
    }
    let out = stage.choir(&["record", "check"]).arg(disk).stdout(Stdio::piped()).output().unwrap();
    let said = String::from_utf8_lossy(&out.stdout);
    let files = fs::read_dir(disk).map_err(|e| e.to_string())?.count();
    println!("{files} recorded files; {}", said.lines().last().unwrap_or_default());
    ended.iter().for_each(|e| println!("  {e}"));
    if mounted && ended.is_empty() {
        println!("  the disk did not fill");
    }
    if files < 4 || said.contains("cannot be") { Err(format!("recordings: {said}")) } else { Ok(()) }
}
