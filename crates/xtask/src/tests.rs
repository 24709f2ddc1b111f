//! Runs the test programs. They mostly wait, so several run at a time; those of timing have the
//! machine to themselves.

use std::{
    collections::VecDeque,
    env, fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{Mutex, PoisonError},
    thread,
    time::{Duration, Instant},
};

/// Tests of timing stand in modules of this name.
const TIMING: &str = "timing::";
/// Tests of one program at the same time, where they have no timing: they mostly wait.
const THREADS: usize = 3;
/// Test programs at the same time.
const SIDE_BY_SIDE: usize = 2;

/// One test program.
#[derive(Debug, Clone)]
struct Program {
    /// `choir-sim lan`.
    name: String,
    path: PathBuf,
    /// The folder that cargo runs it in.
    folder: PathBuf,
}

/// What one run gave.
struct Outcome {
    name: String,
    ok: bool,
    took: Duration,
    summary: String,
    output: String,
}

pub fn run(args: &[&str]) -> Result<(), String> {
    let (max, filter) = match args {
        ["--not-judged-max", n, rest @ ..] => (Some(n.parse::<usize>().map_err(|e| format!("--not-judged-max {n}: {e}"))?), rest.first()),
        rest => (None, rest.first()),
    };
    let begun = Instant::now();
    let (programs, target) = build()?;
    // What cannot be judged is noted there by whoever judges timing.
    let notes = target.join(format!("not-judged-{}", std::process::id()));
    fs::write(&notes, "").map_err(|e| format!("{}: {e}", notes.display()))?;
    let args = |timing: bool| {
        let mut args: Vec<String> = filter.iter().map(|f| (*f).to_string()).collect();
        match (timing, filter) {
            (true, None) => args.push(TIMING.into()),
            (true, Some(_)) => {}
            (false, _) => args.extend(["--skip".into(), TIMING.into()]),
        }
        args.push(format!("--test-threads={}", if timing { 1 } else { THREADS }));
        args
    };
    let mut failed = Vec::new();
    let mut count = |outcomes: Vec<Outcome>| failed.extend(outcomes.into_iter().filter(|o| !o.ok).map(|o| o.name));
    count(all(&programs, &args(false), SIDE_BY_SIDE, &notes)?);
    let timed: Vec<Program> = programs.into_iter().filter(has_timing).collect();
    eprintln!("tests of timing, one program at a time:");
    let only_timing = args(true);
    count(all(&timed, &only_timing, 1, &notes)?);
    let not_judged = fs::read_to_string(&notes).unwrap_or_default();
    // It holds only what was printed here.
    let _ = fs::remove_file(&notes);
    not_judged.lines().for_each(|l| eprintln!("not judged: {l}"));
    let number = not_judged.lines().count();
    if !failed.is_empty() {
        eprintln!("failed: {}", failed.join(", "));
    }
    eprintln!("took {:.0} s; not judged: {number}", begun.elapsed().as_secs_f64());
    if !failed.is_empty() {
        return Err("tests have failed".into());
    }
    match max {
        Some(max) if number > max => Err(format!("more than {max} assertions could not be judged: run it on a quieter machine")),
        _ => Ok(()),
    }
}

/// Builds all test programs.
fn build() -> Result<(Vec<Program>, PathBuf), String> {
    let cargo = env::var("CARGO").unwrap_or_else(|_| "cargo".into());
    let mut command = Command::new(cargo);
    command.args(["test", "--workspace", "--no-run", "--message-format=json-render-diagnostics"]);
    // What cargo says of this package here, build scripts would take for a change.
    let own = |name: &str| name.starts_with("CARGO_PKG_") || name.starts_with("CARGO_MANIFEST_");
    for (name, _) in env::vars_os().filter(|(name, _)| own(&name.to_string_lossy())) {
        command.env_remove(name);
    }
    let out = command.stderr(Stdio::inherit()).output().map_err(|e| format!("cargo: {e}"))?;
    if !out.status.success() {
        return Err("the tests do not build".into());
    }
    let mut programs = Vec::new();
    let mut target = PathBuf::from("target");
    for line in String::from_utf8_lossy(&out.stdout).lines() {
        let Ok(message) = serde_json::from_str::<serde_json::Value>(line) else { continue };
        if !message["profile"]["test"].as_bool().unwrap_or_default() {
            continue;
        }
        let (Some(path), Some(manifest)) = (message["executable"].as_str(), message["manifest_path"].as_str()) else { continue };
        let folder = Path::new(manifest).parent().unwrap_or(Path::new("."));
        let package = folder.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let path = PathBuf::from(path);
        // target/debug/deps/NAME
        if let Some(up) = path.ancestors().nth(3) {
            target = up.to_owned();
        }
        let name = format!("{package} {}", message["target"]["name"].as_str().unwrap_or_default());
        programs.push(Program { name, path, folder: folder.to_owned() });
    }
    Ok((programs, target))
}

fn has_timing(program: &Program) -> bool {
    let listed = Command::new(&program.path).arg("--list").arg(TIMING).current_dir(&program.folder).output();
    listed.is_ok_and(|out| String::from_utf8_lossy(&out.stdout).lines().any(|l| l.ends_with(": test")))
}

fn all(programs: &[Program], args: &[String], at_once: usize, notes: &Path) -> Result<Vec<Outcome>, String> {
    let queue: Mutex<VecDeque<&Program>> = Mutex::new(programs.iter().collect());
    let done: Mutex<Vec<Outcome>> = Mutex::default();
    thread::scope(|scope| {
        for _ in 0..at_once {
            scope.spawn(|| {
                loop {
                    let next = queue.lock().unwrap_or_else(PoisonError::into_inner).pop_front();
                    let Some(program) = next else { return };
                    let outcome = one(program, args, notes);
                    if outcome.ok {
                        eprintln!("ok     {:28} {:6.1} s  {}", outcome.name, outcome.took.as_secs_f64(), outcome.summary);
                    } else {
                        eprintln!("FAILED {}\n{}", outcome.name, outcome.output);
                    }
                    done.lock().unwrap_or_else(PoisonError::into_inner).push(outcome);
                }
            });
        }
    });
    Ok(done.into_inner().unwrap_or_else(PoisonError::into_inner))
}

fn one(program: &Program, args: &[String], notes: &Path) -> Outcome {
    let begun = Instant::now();
    let ran = Command::new(&program.path)
        .args(args)
        .current_dir(&program.folder)
        .env("CARGO_MANIFEST_DIR", &program.folder)
        .env("CHOIR_NOT_JUDGED", notes)
        .stdin(Stdio::null())
        .output();
    let (ok, output) = match ran {
        Ok(out) => (out.status.success(), [out.stdout, out.stderr].map(|o| String::from_utf8_lossy(&o).into_owned()).concat()),
        Err(e) => (false, e.to_string()),
    };
    let summary = output.lines().rev().find_map(|l| l.strip_prefix("test result: ok. ")).unwrap_or_default();
    let summary = summary.split(';').next().unwrap_or_default().to_owned();
    Outcome { name: program.name.clone(), ok, took: begun.elapsed(), summary, output }
}
