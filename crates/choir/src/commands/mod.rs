//! One module per command; each takes its parsed arguments and ends with a result or a [`Failure`].

pub mod ask;
pub mod check;
pub mod demo;
pub mod inspect;
pub mod link;
pub mod run;
pub mod sim;

use crate::{
    args::Args,
    exit::{FAILED, Failure, USAGE},
};
use choir_core::{
    Finding, Grade,
    link::{Link, parse_url},
    sheet::{Sheet, read_sheet},
};
use clap::CommandFactory;
use clap_complete::Shell;
use std::{fs, io, path::Path, time::Duration};

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

/// Waits for Ctrl-C, a polite kill, or the time to pass.
async fn until_stopped(for_time: Option<Duration>) {
    let time = async {
        match for_time {
            Some(t) => tokio::time::sleep(t).await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        () = time => {}
        () = interrupted() => {}
    }
}

/// Ctrl-C, a polite kill, or the terminal going away.
async fn interrupted() {
    use tokio::signal::unix::{SignalKind, signal};
    let (Ok(mut term), Ok(mut hangup)) = (signal(SignalKind::terminate()), signal(SignalKind::hangup())) else {
        return std::future::pending().await;
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = term.recv() => {}
        _ = hangup.recv() => {}
    }
}
