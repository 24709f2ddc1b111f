//! One module per command; each takes its parsed arguments and ends with a result or a [`Failure`].

pub mod advise;
pub mod ask;
pub mod bench;
pub mod budget;
pub mod card;
pub mod check;
pub mod clip;
pub mod compare;
pub mod demo;
pub mod device;
pub mod entries;
pub mod find;
pub mod inspect;
pub mod linecheck;
pub mod link;
pub mod new;
pub mod path;
pub mod ptz;
pub mod record;
pub mod run;
pub mod sim;
pub mod snap;
pub mod stave;
pub mod view;

use crate::{
    args::Args,
    exit::{FAILED, Failure, SYSTEM, USAGE},
};
use choir_core::{
    Finding, Grade,
    link::{Link, parse_url},
    sheet::{Sheet, read_sheet},
};
use choir_host::clock::sleep_until;
use clap::CommandFactory;
use clap_complete::Shell;
use std::{
    fs,
    io::{self, BufRead, IsTerminal, Write},
    os::unix::fs::{OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
    time::{Duration, Instant},
};

/// Prints completions.
pub fn completions(shell: Shell) {
    clap_complete::generate(shell, &mut Args::command(), "choir", &mut io::stdout());
}

/// Reads a sheet; prints its findings to stderr, errors only if `all` is off.
fn load(path: &Path, all: bool) -> Result<Sheet, Failure> {
    let text = read_text(path)?;
    let (sheet, findings) = read_sheet(&text);
    let file = path.display().to_string();
    for finding in findings.iter().filter(|f| all || f.grade == Grade::Error) {
        eprintln!("{}", finding.in_file(&file));
    }
    sheet.ok_or_else(|| Failure::new(FAILED, format!("{file} has errors, nothing was started")))
}

fn read_text(path: &Path) -> Result<String, Failure> {
    fs::read_to_string(path).map_err(|e| Failure::new(USAGE, format!("{}: cannot be read: {e}", path.display())))
}

/// The folder that relative paths in a sheet count from.
fn folder_of(sheet: &Path) -> &Path {
    sheet.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// The sheet to work on: as given, by the environment, or the only one here.
fn which_sheet(given: Option<&Path>) -> Result<PathBuf, Failure> {
    if let Some(sheet) = given {
        return Ok(sheet.to_owned());
    }
    if let Some(sheet) = std::env::var_os("CHOIR_SHEET") {
        return Ok(sheet.into());
    }
    let is_sheet = |p: &PathBuf| {
        p.extension().is_some_and(|e| e == "toml")
            && fs::read_to_string(p).is_ok_and(|t| t.lines().any(|l| l.trim_start().starts_with("[show]")))
    };
    let mut found: Vec<PathBuf> = fs::read_dir(".")?.filter_map(|e| Some(e.ok()?.file_name().into())).filter(is_sheet).collect();
    found.sort();
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] => Err(Failure::new(USAGE, "no patch sheet in this folder: name it with --sheet, or set CHOIR_SHEET")),
        many => {
            let names: Vec<String> = many.iter().map(|p| p.display().to_string()).collect();
            Err(Failure::new(USAGE, format!("several patch sheets in this folder ({}): name one with --sheet", names.join(", "))))
        }
    }
}

/// Replaces a file's text; a full disk leaves the old one as it was.
fn replace_text(path: &Path, text: &str) -> Result<(), Failure> {
    replace(path, text, None)
}

/// The same with secrets in it: only its user may read it, whoever could before.
fn replace_secret_text(path: &Path, text: &str) -> Result<(), Failure> {
    replace(path, text, Some(0o600))
}

fn replace(path: &Path, text: &str, mode: Option<u32>) -> Result<(), Failure> {
    let fail = |e: io::Error| Failure::new(SYSTEM, format!("{}: cannot be written, and is as it was: {e}", path.display()));
    // A link keeps leading to the file that it leads to.
    let target = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let beside = target.with_extension("toml.new");
    let write = || {
        let mut file = fs::File::options().write(true).create(true).truncate(true).mode(mode.unwrap_or(0o666)).open(&beside)?;
        match (mode, fs::metadata(&target)) {
            (Some(mode), _) => file.set_permissions(fs::Permissions::from_mode(mode))?,
            (None, Ok(old)) => file.set_permissions(old.permissions())?,
            (None, Err(_)) => {}
        }
        file.write_all(text.as_bytes())?;
        file.sync_all()?;
        fs::rename(&beside, &target)
    };
    write().map_err(|e| {
        let _ = fs::remove_file(&beside);
        fail(e)
    })
}

/// Asks on the terminal; without one, only a yes given beforehand counts.
async fn confirm(question: &str, yes: bool) -> Result<(), Failure> {
    if yes {
        return Ok(());
    }
    if !io::stdin().is_terminal() {
        return Err(Failure::new(USAGE, format!("{question} No terminal to ask on: add --yes")));
    }
    match answer_to(&format!("{question} [y/N] ")).await?.to_lowercase().as_str() {
        "y" | "yes" => Ok(()),
        _ => Err(Failure::new(FAILED, "nothing was done")),
    }
}

/// What is typed on the terminal; Ctrl-C ends the wait for it.
async fn answer_to(question: &str) -> Result<String, Failure> {
    let left = interrupted();
    tokio::pin!(left);
    // It must listen before the question is seen: whoever is quick is not to be missed.
    tokio::select! {
        biased;
        () = &mut left => return Err(Failure::new(FAILED, "nothing was done")),
        () = std::future::ready(()) => {}
    }
    eprint!("{question}");
    let _ = io::stderr().flush();
    let typed = tokio::task::spawn_blocking(|| {
        let mut answer = String::new();
        io::stdin().lock().read_line(&mut answer).map(|_| answer.trim().to_owned())
    });
    tokio::select! {
        typed = typed => Ok(typed.map_err(|e| Failure::new(SYSTEM, e.to_string()))??),
        () = left => {
            eprintln!();
            Err(Failure::new(FAILED, "nothing was done"))
        }
    }
}

/// Reads a URL of the command line, telling everything that is wrong with it.
fn read_url(text: &str) -> Result<Link, Failure> {
    let (link, problems) = parse_url(text);
    for p in problems {
        let finding =
            Finding { grade: p.grade, place: None, subject: format!("at character {}", p.at + 1), what: p.what, remedy: p.remedy };
        eprintln!("{}", finding.in_file(&choir_core::link::redact(text)));
    }
    link.ok_or_else(|| Failure::told(USAGE))
}

/// Waits for Ctrl-C, a polite kill, or the time to pass. Listens from the call on, also while it is
/// not waited for.
pub fn until_stopped(for_time: Option<Duration>) -> impl Future<Output = ()> {
    let (interrupted, end) = (interrupted(), for_time.and_then(|time| Instant::now().checked_add(time)));
    async move {
        tokio::select! {
            () = sleep_until(end) => {}
            () = interrupted => {}
        }
    }
}

/// Ctrl-C, a polite kill, or the terminal going away, from the call on.
fn interrupted() -> impl Future<Output = ()> {
    use tokio::signal::unix::{SignalKind, signal};
    let signals = [SignalKind::interrupt(), SignalKind::terminate(), SignalKind::hangup()].map(signal);
    async {
        let [Ok(mut interrupt), Ok(mut term), Ok(mut hangup)] = signals else { return std::future::pending().await };
        tokio::select! {
            _ = interrupt.recv() => {}
            _ = term.recv() => {}
            _ = hangup.recv() => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rustix::process::{Signal, getpid, kill_process};

    #[tokio::test]
    async fn a_signal_that_comes_before_it_is_waited_for_is_not_missed() {
        let left = until_stopped(None);
        // Not listened for it would end this program.
        kill_process(getpid(), Signal::HUP).expect("sent");
        left.await;
    }
}
