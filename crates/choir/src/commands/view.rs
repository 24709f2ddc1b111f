//! `choir view`: one source, moving, in the terminal or as files.

use super::{folder_of, read_url, snap, until_stopped};
use crate::{
    args::ViewArgs,
    exit::{FAILED, Failure, SYSTEM, USAGE},
    live::view::{self, Eye},
    output::plural,
};
use choir_core::model::{LookBudget, Sheet};
use choir_show::{
    Show,
    control::{Answer, Client, ControlError, Request},
};
use std::{
    io::{IsTerminal, stdout},
    path::Path,
    time::Duration,
};

/// Pictures a second: ten.
const EVERY: Duration = Duration::from_millis(100);
/// Larger than any picture.
const WHOLE: (usize, usize) = (4096, 4096);

pub async fn run(args: ViewArgs) -> Result<(), Failure> {
    if args.frames.is_none() && !stdout().is_terminal() {
        return Err(Failure::new(USAGE, "view needs a terminal: write pictures with --frames FOLDER"));
    }
    // A line's name has no dot and no slash.
    let is_source = args.what.contains(['.', '/']) || Path::new(&args.what).exists();
    let (eye, line) = if is_source { (here(&args.what).await?, "in".to_owned()) } else { (there(&args).await?, args.what.clone()) };
    let show = if let Eye::Here(show) = &eye { Some(show.clone()) } else { None };
    let result = match &args.frames {
        Some(folder) => frames(eye, &line, folder, &args).await,
        None => view::run(eye, line, EVERY, args.for_time).await,
    };
    if let Some(show) = show {
        show.stop().await;
    }
    result
}

async fn there(args: &ViewArgs) -> Result<Eye, Failure> {
    let mut client = Client::connect(args.sheet.as_deref()).await?;
    match client.ask(&Request::Look { histories: Vec::new() }).await? {
        Answer::View(view) => Ok(Eye::There(client, view.lines.into_iter().map(|l| l.name).collect())),
        _ => Err(ControlError::Strange.into()),
    }
}

async fn here(url: &str) -> Result<Eye, Failure> {
    let link = read_url(url)?;
    if let Some((what, remedy)) = link.cannot_come_in() {
        return Err(Failure::new(USAGE, format!("{}: {what} {remedy}", choir_core::link::show_url(&link))));
    }
    let mut sheet = Sheet::of_one("view", link, Vec::new());
    sheet.feeds.clear();
    sheet.show.pictures = LookBudget::default();
    Ok(Eye::Here(Show::start(&sheet, folder_of(Path::new("."))).await?))
}

/// Writes each new picture into a file of its own.
async fn frames(mut eye: Eye, line: &str, folder: &Path, args: &ViewArgs) -> Result<(), Failure> {
    std::fs::create_dir_all(folder).map_err(|e| Failure::new(SYSTEM, format!("{}: cannot be made: {e}", folder.display())))?;
    let fit = args.size.map_or(WHOLE, |(w, h)| (w as usize, h as usize));
    let (mut grid, end) = (tokio::time::interval(EVERY), until_stopped(args.for_time));
    grid.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Skip);
    tokio::pin!(end);
    let (mut written, mut last, mut waits) = (0_u64, None, String::new());
    let result = loop {
        tokio::select! {
            () = &mut end => break Ok(()),
            _ = grid.tick() => {}
        }
        let (view, still) = match eye.look(line, fit).await {
            Ok(seen) => seen,
            Err(e) => break Err(e),
        };
        let Some(still) = still.filter(|s| last.as_ref() != Some(s)) else {
            if last.is_none() && waits != view.link.reason {
                eprintln!("{line}: {}", view.link.reason);
                waits = view.link.reason;
            }
            continue;
        };
        let path = folder.join(format!("{}-{:06}.png", if line == "in" { "view" } else { line }, written + 1));
        if let Err(e) = snap::write(&path, &still.png()) {
            break Err(e);
        }
        written += 1;
        last = Some(still);
    };
    eprintln!("{} written to {}", plural(written as usize, "picture"), folder.display());
    result?;
    if written == 0 { Err(Failure::new(FAILED, format!("no picture came: {waits}"))) } else { Ok(()) }
}
