//! `choir inspect`: joins a source for a few seconds and says what is there.

use super::{folder_of, load, read_url, stave::seeker, until_stopped};
use crate::{
    args::{CompareArgs, InspectArgs},
    exit::{DIFFERS, FAILED, Failure, USAGE},
    output::facts,
};
use choir_core::{
    link::{Link, show_url},
    spelling::did_you_mean,
    stave::StaveSettings,
};
use choir_host::Stop;
use choir_show::inspect::{Look, inspect};
use std::path::{Path, PathBuf};

pub async fn run(args: InspectArgs) -> Result<(), Failure> {
    if args.pattern.is_some() {
        let InspectArgs { url: sources, sheet, pattern, for_time, wait, json, .. } = args;
        return super::compare::run(CompareArgs { sources, sheet, pattern, for_time, wait, json, html: None }).await;
    }
    if args.url.len() > 1 {
        return Err(Failure::new(USAGE, "several sources are looked at by \"choir compare\""));
    }
    let mut base = PathBuf::from(".");
    let mut expected = None;
    let mut lan = StaveSettings::default();
    if let (Some(sheet), Some(name)) = (&args.sheet, &args.line) {
        let read = load(sheet, false)?;
        let names: Vec<&str> = read.lines.iter().map(|l| l.name.as_str()).collect();
        let line = read.lines.iter().find(|l| l.name == *name);
        let line = line.ok_or_else(|| Failure::new(USAGE, format!("there is no line \"{name}\". {}", did_you_mean(name, &names))))?;
        base = folder_of(sheet).to_owned();
        expected = Some(line.clone());
        lan = StaveSettings { key: read.stave.key.clone().map(|k| k.below(&base)), ..read.stave.clone() };
    }
    let link = match (args.url.first(), &expected) {
        (Some(url), _) => {
            base = Path::new(".").to_owned();
            read_url(url)?
        }
        (None, Some(line)) => line.from.clone(),
        (None, None) => return Err(Failure::new(USAGE, "there is nothing to look at: name a URL, or a sheet and its line")),
    };
    if let Some((what, remedy)) = link.cannot_come_in() {
        return Err(Failure::new(USAGE, format!("{}: {what} {remedy}", show_url(&link))));
    }
    eprintln!("{}: looking for {}", show_url(&link), choir_core::units::say_duration(args.for_time));
    let (stop_it, stop) = Stop::new();
    let node = match &link {
        Link::Stave(_) => Some(seeker(&args.lan.over(lan)?, Path::new("."), "inspect", &stop).await?),
        _ => None,
    };
    let look = Look { lasts: args.for_time, wait: args.wait };
    let work = inspect(&link, &base, look, expected.as_ref().map(|l| &l.expect), node.as_ref(), &stop);
    tokio::pin!(work);
    let view = tokio::select! {
        seen = &mut work => seen?.view,
        // Ctrl-C ends the look early; what has been seen is said.
        () = until_stopped(None) => {
            stop_it.now();
            work.await?.view
        }
    };
    if let Some(node) = &node {
        stop_it.now();
        node.ended().await;
    }
    if args.json {
        println!("{}", serde_json::to_string_pretty(&view).unwrap_or_default());
    } else {
        print!("{}", facts::inspected(&view, args.line.as_deref()));
    }
    match &view.differs {
        _ if !view.found => Err(Failure::new(FAILED, format!("nothing there: {}", view.reason))),
        Some(d) if !d.is_empty() => Err(Failure::told(DIFFERS)),
        _ if view.defects.iter().any(|d| !d.minor) => Err(Failure::told(DIFFERS)),
        _ => Ok(()),
    }
}
