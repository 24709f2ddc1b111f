//! `choir compare`: several sources at the same time, side by side.

use super::{folder_of, load, read_url, stave::seeker, until_stopped};
use crate::{
    args::CompareArgs,
    exit::{FAILED, Failure, SYSTEM, USAGE},
    output::{compare, palette::colours, plural, tables},
};
use choir_core::{
    link::{Link, show_url},
    sheet::Sheet,
    spelling::did_you_mean,
    stave::StaveSettings,
    units::say_duration,
};
use choir_host::{Stop, clock::unix_ms};
use choir_show::inspect::{Inspected, Look, inspect};
use std::{
    io::{IsTerminal, stdout},
    path::{Path, PathBuf},
};
use tokio::task::JoinSet;

pub async fn run(args: CompareArgs) -> Result<(), Failure> {
    let sheet = args.sheet.as_deref().map(|path| load(path, false)).transpose()?;
    let sources = sources(&args, sheet.as_ref())?;
    for (name, link) in &sources {
        if let Some((what, remedy)) = link.cannot_come_in() {
            return Err(Failure::new(USAGE, format!("{name}: {what} {remedy}")));
        }
        if matches!(link, Link::Wall(_)) {
            return Err(Failure::new(USAGE, format!("{name}: a wall is drawn by the show that has it: watch it with \"choir view\"")));
        }
    }
    let base = args.sheet.as_deref().map_or_else(|| PathBuf::from("."), |s| folder_of(s).to_owned());
    eprintln!("looking at {} for {}", plural(sources.len(), "source"), say_duration(args.for_time));
    let (stop_it, stop) = Stop::new();
    let node = if sources.iter().any(|(_, link)| matches!(link, Link::Stave(_))) {
        let settings = sheet.map_or_else(StaveSettings::default, |s| s.stave);
        Some(seeker(&settings, &base, "compare", &stop).await?)
    } else {
        None
    };
    let look = Look { lasts: args.for_time, wait: args.wait };
    let mut looks = JoinSet::new();
    for (n, (name, link)) in sources.into_iter().enumerate() {
        let (base, node, stop) = (base.clone(), node.clone(), stop.clone());
        looks.spawn(async move { (n, name, inspect(&link, &base, look, None, node.as_ref(), &stop).await) });
    }
    let mut all: Vec<(usize, String, Inspected)> = Vec::new();
    let ended = until_stopped(None);
    tokio::pin!(ended);
    let mut early = false;
    while !looks.is_empty() {
        tokio::select! {
            Some(Ok((n, name, seen))) = looks.join_next() => all.push((n, name, seen?)),
            // Ctrl-C ends the look early; what has been seen is said.
            () = &mut ended, if !early => {
                early = true;
                stop_it.now();
            }
        }
    }
    if let Some(node) = &node {
        stop_it.now();
        node.ended().await;
    }
    all.sort_by_key(|(n, ..)| *n);
    told(&args, &all.into_iter().map(|(_, name, seen)| (name, seen)).collect::<Vec<_>>())
}

/// Names and links of what is to be compared.
fn sources(args: &CompareArgs, sheet: Option<&Sheet>) -> Result<Vec<(String, Link)>, Failure> {
    if let (Some(name), Some(sheet)) = (&args.pattern, sheet) {
        let names: Vec<&str> = sheet.patterns.iter().map(|p| p.name.as_str()).collect();
        let pattern = sheet.patterns.iter().find(|p| p.name == *name);
        let pattern =
            pattern.ok_or_else(|| Failure::new(USAGE, format!("there is no pattern \"{name}\". {}", did_you_mean(name, &names))))?;
        let given: Vec<(String, String)> = (args.sources.iter())
            .map(|text| text.split_once('=').map(|(a, b)| (a.to_owned(), b.to_owned())))
            .collect::<Option<_>>()
            .ok_or_else(|| Failure::new(USAGE, "with --pattern, write BLANK=VALUE"))?;
        let addresses = pattern.addresses(&given).map_err(|why| Failure::new(USAGE, why))?;
        let filled = |(words, url): (String, String)| {
            let (link, problems) = pattern.link(&url);
            let why = || problems.iter().map(|p| format!("{} {}", p.what, p.remedy)).collect::<Vec<_>>().join(" ");
            let link = link.ok_or_else(|| Failure::new(USAGE, format!("{url}: {}", why())))?;
            Ok((if words.is_empty() { url } else { words }, link))
        };
        return addresses.into_iter().map(filled).collect();
    }
    let one = |text: &String| match sheet.and_then(|s| s.line(text)) {
        Some(line) => Ok((text.clone(), line.from.clone())),
        None if sheet.is_some() && !text.contains(['.', '/']) && !Path::new(text).exists() => {
            let names: Vec<&str> = sheet.iter().flat_map(|s| &s.lines).map(|l| l.name.as_str()).collect();
            Err(Failure::new(USAGE, format!("there is no line \"{text}\". {}", did_you_mean(text, &names))))
        }
        None => read_url(text).map(|link| (show_url(&link), link)),
    };
    args.sources.iter().map(one).collect()
}

fn told(args: &CompareArgs, all: &[(String, Inspected)]) -> Result<(), Failure> {
    if args.json {
        let list: Vec<_> = all.iter().map(|(name, seen)| serde_json::json!({ "source": name, "seen": seen.view })).collect();
        println!("{}", serde_json::to_string_pretty(&list).unwrap_or_default());
    } else {
        if colours(stdout().is_terminal()) {
            print!("{}", compare::stills(all, tables::width()));
        }
        print!("{}", compare::table(all));
    }
    if let Some(path) = &args.html {
        let page = compare::page(all, unix_ms());
        std::fs::write(path, page).map_err(|e| Failure::new(SYSTEM, format!("{}: cannot be written: {e}", path.display())))?;
        eprintln!("page written to {}", path.display());
    }
    let missing: Vec<String> = all.iter().filter(|(_, s)| !s.view.found).map(|(n, s)| format!("{n}: {}", s.view.reason)).collect();
    if missing.is_empty() { Ok(()) } else { Err(Failure::new(FAILED, missing.join("\n"))) }
}
