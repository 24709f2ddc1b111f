//! `choir record`: recordings of a running show, and those that are there.

use super::ask::{ask, view};
use crate::{
    args::{RecordAction, RecordArgs, StartArgs},
    exit::{DIFFERS, FAILED, Failure, SYSTEM, USAGE},
    output::{plural, recordings, tables::table},
};
use choir_core::{
    model::RecordSettings,
    units::{say_bytes, say_duration},
};
use choir_ports::defects::defect;
use choir_show::{
    control::Request,
    record::{self, JoinError, Segment, check},
};
use serde_json::json;
use std::{
    fs::OpenOptions,
    io::{BufWriter, IsTerminal},
    path::{Path, PathBuf},
};

/// Two files that follow each other so closely are one recording.
const GAP: f64 = 0.2;

pub async fn run(args: RecordArgs) -> Result<(), Failure> {
    match args.action {
        RecordAction::Start(args) => start(args).await,
        RecordAction::Stop { what, sheet } => ask(sheet.as_deref(), &Request::EndRecordings { what }).await,
        RecordAction::List { sheet, json } => {
            let view = view(sheet.as_deref(), &Request::View).await?;
            if json {
                println!("{}", serde_json::to_string_pretty(&view.recordings).unwrap_or_default());
            } else if view.recordings.is_empty() {
                println!("nothing is being recorded");
            } else {
                print!("{}", recordings::list(&view.recordings));
            }
            Ok(())
        }
        RecordAction::Join { paths, output, only } => join(&paths, &output, only.as_deref()),
        RecordAction::Check { paths, json } => checked(&paths, json),
    }
}

async fn start(args: StartArgs) -> Result<(), Failure> {
    if args.each < RecordSettings::EACH_LEAST {
        return Err(Failure::new(USAGE, "--each must be 2s at least"));
    }
    let bytes = args.size.map(|mb| mb.saturating_mul(1_000_000));
    // The show may run elsewhere.
    let folder = std::env::current_dir()?.join(args.into);
    let request = Request::Record { what: args.what, folder, each_s: args.each.as_secs(), bytes };
    ask(args.sheet.as_deref(), &request).await
}

/// All transport streams among these, in the order of their names.
fn files(paths: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let fail = |path: &Path, e: std::io::Error| Failure::new(FAILED, format!("{}: {e}", path.display()));
    let mut all = Vec::new();
    for path in paths {
        if path.is_dir() {
            let entries = std::fs::read_dir(path).map_err(|e| fail(path, e))?;
            all.extend(entries.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "ts")));
        } else {
            all.push(path.clone());
        }
    }
    all.sort();
    all.dedup();
    Ok(all)
}

/// The name without the time: `finish-tower` of `finish-tower-20261129-141203.ts`.
fn of(path: &Path) -> String {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let is_time = |part: &str| part.bytes().all(|b| b.is_ascii_digit());
    let kept: Vec<&str> = stem.split('-').take_while(|part| !(part.len() == 8 && is_time(part))).collect();
    kept.join("-")
}

/// Makes one file of those of a recording.
fn join(paths: &[PathBuf], output: &Path, only: Option<&str>) -> Result<(), Failure> {
    let files: Vec<PathBuf> = files(paths)?.into_iter().filter(|f| only.is_none_or(|name| of(f) == name)).collect();
    let mut names: Vec<String> = files.iter().map(|f| of(f)).collect();
    names.dedup();
    match &names[..] {
        [] => return Err(Failure::new(FAILED, "there is no .ts file of that name: see \"choir record check\"")),
        [_] => {}
        several => return Err(Failure::new(USAGE, format!("there are recordings of {}: name one with --only", several.join(", ")))),
    }
    let fail = |path: &Path, e: &dyn std::fmt::Display| Failure::new(SYSTEM, format!("{}: {e}", path.display()));
    let file = OpenOptions::new().write(true).create_new(true).open(output).map_err(|e| fail(output, &e))?;
    let shows = std::io::stderr().is_terminal();
    let mut to = BufWriter::new(file);
    let mut n = 0;
    let joined = record::join(&files, &mut to, |_| {
        n += 1;
        if shows {
            eprint!("\r{n} of {}", files.len());
        }
    });
    if shows {
        eprintln!();
    }
    let joined = joined.map_err(|e| {
        let code = if matches!(e, JoinError::Write(_)) { SYSTEM } else { FAILED };
        Failure::new(code, if code == SYSTEM { format!("{}: {e}", output.display()) } else { e.to_string() })
    });
    let synced = joined.and_then(|lasts| {
        let bytes = to.get_ref().sync_all().and_then(|()| to.get_ref().metadata()).map_err(|e| fail(output, &e))?.len();
        Ok((lasts, bytes))
    });
    if synced.is_err() {
        // Half a film is none.
        let _ = std::fs::remove_file(output);
    }
    let (lasts, bytes) = synced?;
    println!("{}: {}, {} of {}", output.display(), say_duration(lasts), say_bytes(bytes), plural(files.len(), "file"));
    Ok(())
}

fn checked(paths: &[PathBuf], as_json: bool) -> Result<(), Failure> {
    let files = files(paths)?;
    if files.is_empty() {
        return Err(Failure::new(FAILED, "there is no .ts file: name files, or a folder of recordings"));
    }
    let mut all: Vec<(PathBuf, Segment)> = Vec::new();
    for path in files {
        let segment = check(&path).map_err(|e| Failure::new(FAILED, format!("{}: {e}", path.display())))?;
        all.push((path, segment));
    }
    let says: Vec<Vec<String>> = (0..all.len()).map(|n| says(&all, n)).collect();
    let wrong = says.iter().filter(|s| !s.is_empty()).count();
    if as_json {
        let one = |((path, s), says): (&(PathBuf, Segment), &Vec<String>)| json!({ "file": path, "bytes": s.bytes, "seconds": s.lasts.as_secs_f64(), "says": says });
        let list: Vec<_> = all.iter().zip(&says).map(one).collect();
        println!("{}", serde_json::to_string_pretty(&list).unwrap_or_default());
    } else {
        let row = |((path, s), says): (&(PathBuf, Segment), &Vec<String>)| {
            let says = if says.is_empty() { "without defects".to_owned() } else { says.join("; ") };
            vec![path.display().to_string(), say_duration(s.lasts), say_bytes(s.bytes), says]
        };
        let rows: Vec<Vec<String>> = all.iter().zip(&says).map(row).collect();
        print!("{}", table(&["file", ">lasts", ">size", ""], &rows));
    }
    if wrong > 0 { Err(Failure::new(DIFFERS, format!("{} of {} with remarks", wrong, plural(all.len(), "file")))) } else { Ok(()) }
}

fn says(all: &[(PathBuf, Segment)], n: usize) -> Vec<String> {
    let (path, s) = &all[n];
    let mut says: Vec<String> = s.findings.iter().map(defect).map(|d| format!("{} ({})", d.text, d.clause)).collect();
    if s.clock.is_none() {
        says.push("nothing to play is in it".into());
    }
    if s.tail > 0 {
        says.push(format!("its last packet was cut off after {}: the rest can be played", say_bytes(s.tail)));
    }
    let before = n.checked_sub(1).map(|n| &all[n]).filter(|(other, _)| of(other) == of(path));
    match before.and_then(|(_, before)| before.gap_to(s)) {
        Some(gap) if gap > GAP => says.push(format!("{gap:.1} s are missing before it")),
        Some(gap) if gap < -GAP => says.push("another recording than the one before it".into()),
        _ => {}
    }
    says
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_one_recording_are_known_by_their_names() {
        for (file, name) in
            [("finish-tower-20261129-141203.ts", "finish-tower"), ("a-1-20261129-141203-2.ts", "a-1"), ("holiday.ts", "holiday")]
        {
            assert_eq!(of(Path::new(file)), name);
        }
    }
}
