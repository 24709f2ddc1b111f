//! `choir snap`: pictures of a running show as files.

use super::until_stopped;
use crate::{
    args::SnapArgs,
    exit::{FAILED, Failure, SHOW, SYSTEM, USAGE},
    output::{palette, plural},
};
use choir_core::{facts::State, view::ShowView};
use choir_host::clock::{stamp, time_of_day, unix_ms};
use choir_show::{
    contact::{self, Tile},
    control::{Answer, Client, ControlError, PictureAnswer, Request},
    still::Still,
};
use std::{
    fs,
    io::{self, Write},
    path::{Path, PathBuf},
    time::Duration,
};

/// Larger than any picture.
const WHOLE: (usize, usize) = (4096, 4096);
/// Pictures of the contact sheet.
const TILE: (usize, usize) = (320, 180);
/// Two pictures in one second would have one name.
const EVERY_LEAST: Duration = Duration::from_secs(1);

pub async fn run(args: SnapArgs) -> Result<(), Failure> {
    let mut client = Client::connect(args.sheet.as_deref()).await?;
    let (name, path) = match (&args.line, &args.all) {
        (_, Some(path)) => ("wall".to_owned(), path.clone()),
        (Some(line), None) => {
            let file = if args.every.is_some() { line.clone() } else { format!("{line}.png") };
            (line.clone(), args.output.clone().unwrap_or_else(|| file.into()))
        }
        (None, None) => return Err(Failure::new(USAGE, "name a line, or use --all")),
    };
    let Some(every) = args.every else {
        let still = take(&mut client, &args).await?.ok_or_else(|| no_picture(&args))?;
        return write(&path, &still.png());
    };
    if every < EVERY_LEAST {
        return Err(Failure::new(USAGE, "--every must be 1s at least"));
    }
    fs::create_dir_all(&path).map_err(|e| Failure::new(SYSTEM, format!("{}: cannot be made: {e}", path.display())))?;
    let mut series = Series { folder: path, name, written: 0, missed: 0, trouble: String::new() };
    let mut grid = tokio::time::interval(every);
    grid.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Skip);
    let end = until_stopped(args.for_time);
    tokio::pin!(end);
    let result = loop {
        tokio::select! {
            () = &mut end => break Ok(()),
            _ = grid.tick() => {}
        }
        match take(&mut client, &args).await {
            Ok(still) => series.add(still),
            Err(e) => break Err(e),
        }
    };
    eprintln!("{}", series.summary());
    result?;
    if series.written == 0 { Err(no_picture(&args)) } else { Ok(()) }
}

fn no_picture(args: &SnapArgs) -> Failure {
    let what = args.line.as_deref().map_or_else(|| "no line has a picture".to_owned(), |l| format!("line {l} has no picture"));
    Failure::new(FAILED, format!("{what} yet. \"choir status\" tells what it waits for"))
}

/// Files with the time in their names.
struct Series {
    folder: PathBuf,
    name: String,
    written: usize,
    missed: usize,
    /// Last trouble, which is told once.
    trouble: String,
}

impl Series {
    fn add(&mut self, still: Option<Still>) {
        let done = match still {
            Some(still) => write(&self.folder.join(format!("{}-{}.png", self.name, stamp(unix_ms()))), &still.png()).map_err(|e| e.text),
            None => Err("no picture".to_owned()),
        };
        match done {
            Ok(()) => {
                self.written += 1;
                self.trouble.clear();
            }
            Err(why) => {
                self.missed += 1;
                if self.trouble != why {
                    eprintln!("{why}; trying again");
                    self.trouble = why;
                }
            }
        }
    }

    fn summary(&self) -> String {
        let missed = if self.missed > 0 { format!(", {} missed", self.missed) } else { String::new() };
        format!("{} written to {}{missed}", plural(self.written, "picture"), self.folder.display())
    }
}

pub(super) fn write(path: &Path, png: &[u8]) -> Result<(), Failure> {
    let failed = |e: io::Error| Failure::new(SYSTEM, format!("{}: cannot be written: {e}", path.display()));
    if path.as_os_str() == "-" {
        return io::stdout().write_all(png).and_then(|()| io::stdout().flush()).map_err(failed);
    }
    fs::write(path, png).map_err(|e| {
        // Half a picture is none.
        let _ = fs::remove_file(path);
        failed(e)
    })
}

async fn take(client: &mut Client, args: &SnapArgs) -> Result<Option<Still>, Failure> {
    if args.all.is_none() {
        let fit = args.size.map_or(WHOLE, |(w, h)| (w as usize, h as usize));
        let lines = args.line.iter().cloned().collect();
        return Ok(pictures(client, lines, fit, false).await?.first().and_then(PictureAnswer::still));
    }
    let Answer::View(view) = client.ask(&Request::Look { histories: Vec::new() }).await? else { return Err(ControlError::Strange.into()) };
    let pictures = pictures(client, Vec::new(), TILE, true).await?;
    Ok((!pictures.is_empty()).then(|| wall(&view, &pictures)))
}

async fn pictures(client: &mut Client, lines: Vec<String>, fit: (usize, usize), kept: bool) -> Result<Vec<PictureAnswer>, Failure> {
    match client.ask(&Request::Pictures { lines, fit, kept }).await? {
        Answer::Pictures { pictures } => Ok(pictures),
        Answer::Refused { why } => Err(Failure::new(SHOW, why)),
        _ => Err(ControlError::Strange.into()),
    }
}

/// All lines on one picture.
fn wall(view: &ShowView, pictures: &[PictureAnswer]) -> Still {
    let tile = |l: &choir_core::view::LineView| {
        let picture = pictures.iter().find(|p| p.line == l.name);
        let state = l.link.state.map_or("waiting", State::word);
        let at = picture.map(|p| format!(", {}", time_of_day(p.at_ms))).unwrap_or_default();
        // What is wrong with the picture says more than its state.
        let says = l.content.first().map_or_else(|| format!("{state}{at}"), |c| c.text.clone());
        let (r, g, b) = match l.link.state {
            Some(State::Steady) => palette::GOOD,
            Some(State::Strained) => palette::WARNING,
            Some(State::Broken) => palette::BAD,
            _ => palette::QUIET,
        };
        Tile { name: l.name.clone(), says, colour: [r, g, b], still: picture.and_then(PictureAnswer::still) }
    };
    let tiles: Vec<Tile> = view.lines.iter().map(tile).collect();
    contact::sheet(&format!("{}  {} UTC", view.show, time_of_day(view.now_ms)), &tiles)
}
