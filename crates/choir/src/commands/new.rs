//! `choir new`: a first sheet from a few questions, or from what was found.

use super::{answer_to, read_text, replace_text};
use crate::{
    args::{Arrive, NewArgs},
    exit::{FAILED, Failure, SYSTEM, USAGE},
    output::plural,
};
use choir_core::{
    Grade,
    find::Found,
    network::Span,
    sheet::{Arrival, Start, fresh_sheet, read_sheet},
};
use std::{
    collections::HashSet,
    io::{self, IsTerminal, Read},
    net::IpAddr,
    path::Path,
};

/// What "choir find --json" prints is never larger.
const FOUND_MAX: u64 = 16 << 20;

pub async fn run(args: NewArgs) -> Result<(), Failure> {
    let file = args.file.display();
    if args.file.exists() {
        return Err(Failure::new(USAGE, format!("{file} exists: choose another name, or edit it with choir line and choir feed")));
    }
    let devices = match &args.from_found {
        Some(from) => found(from, args.address)?,
        None => Vec::new(),
    };
    let ask = io::stdin().is_terminal() && args.from_found.as_deref() != Some(Path::new("-"));
    let show = answer(ask, args.name, "--name", "What is the show called?", None, |t| (!t.is_empty()).then(|| t.to_owned())).await?;
    let network = |t: &str| (t.is_empty() || Span::parse(t).is_some()).then(|| t.to_owned());
    let network =
        answer(ask, args.network, "--network", "Which network is on site? (like 127.20.0.0/24; nothing if unknown)", Some(""), network)
            .await?;
    let network = Some(network).filter(|n| !n.is_empty());
    if let Some(n) = network.as_ref().filter(|n| Span::parse(n).is_none()) {
        return Err(Failure::new(USAGE, format!("\"{n}\" is not a range of addresses: write it like 127.20.0.0/24")));
    }
    let address = |t: &str| if t.is_empty() { Some(None) } else { t.parse::<IpAddr>().ok().map(Some) };
    let address =
        answer(ask, args.address.map(Some), "--address", "This machine's address there? (nothing if unknown)", Some(""), address).await?;
    let rate = |t: &str| t.parse().ok().filter(|r| (1..=120).contains(r));
    let rate = answer(ask, args.rate, "--rate", "How many frames per second? [25]", Some("25"), rate).await?;
    let cameras = match args.from_found {
        Some(_) => None,
        None => {
            let count = |t: &str| t.parse().ok().filter(|n| (1..=64).contains(n));
            let count = answer(ask, args.cameras, "--cameras", "How many cameras? (1 to 64)", None, count).await?;
            let question = "How do they arrive? (rtsp: pulled on site; srt-listener: they call this machine; srt-caller: it calls them)";
            let arrive = answer(ask, args.arrive, "--arrive", question, None, |t| clap::ValueEnum::from_str(t, true).ok()).await?;
            let arrival = match arrive {
                Arrive::Rtsp => Arrival::Rtsp,
                Arrive::SrtListener => Arrival::SrtListener,
                Arrive::SrtCaller => Arrival::SrtCaller,
            };
            Some((count, arrival))
        }
    };
    let count = devices.len();
    let text = fresh_sheet(&Start { show, network, address, cameras, rate, devices });
    let (_, findings) = read_sheet(&text);
    for finding in findings.iter().filter(|f| f.grade > Grade::Advice) {
        eprintln!("{}", finding.in_file(&args.file.display().to_string()));
    }
    replace_text(&args.file, &text)?;
    let what = cameras.map_or_else(|| plural(count, "device"), |(n, _)| format!("{} and as many feeds", plural(n.into(), "line")));
    eprintln!("{file}: written, with {what}. Read it, set what only you know, then: choir check {file}");
    Ok(())
}

/// The option, or what is typed; asked again until it can be read.
async fn answer<T>(
    ask: bool,
    given: Option<T>,
    option: &str,
    question: &str,
    usual: Option<&str>,
    read: impl Fn(&str) -> Option<T>,
) -> Result<T, Failure> {
    if let Some(given) = given {
        return Ok(given);
    }
    if !ask {
        let missing = || Failure::new(USAGE, format!("{question} No terminal to ask on: add {option}"));
        return usual.and_then(read).ok_or_else(missing);
    }
    for _ in 0..5 {
        let typed = answer_to(&format!("{question} ")).await?;
        let typed = if typed.is_empty() { usual.unwrap_or_default().to_owned() } else { typed };
        match read(&typed) {
            Some(value) => return Ok(value),
            None => eprintln!("\"{typed}\" is not a valid answer."),
        }
    }
    Err(Failure::new(FAILED, "nothing was written"))
}

/// The devices in what "choir find --json" printed.
fn found(from: &Path, own: Option<IpAddr>) -> Result<Vec<choir_core::sheet::NewDevice>, Failure> {
    let text = if from == Path::new("-") {
        let mut text = String::new();
        io::stdin().lock().take(FOUND_MAX).read_to_string(&mut text).map_err(|e| Failure::new(SYSTEM, format!("standard input: {e}")))?;
        text
    } else {
        read_text(from)?
    };
    let bad = |why: String| Failure::new(USAGE, format!("{}: not what \"choir find --json\" prints: {why}", from.display()));
    let devices: Vec<Found> = serde_json::from_str(&text).map_err(|e| bad(e.to_string()))?;
    let mut names = HashSet::new();
    let mut entries: Vec<choir_core::sheet::NewDevice> = Vec::new();
    for d in devices {
        // This machine serves feeds, and is found by that.
        let Some(device) = d.as_device(&names).filter(|_| d.address.map(IpAddr::from) != own) else { continue };
        // Two devices on one address are told by find; a sheet has one of them.
        if entries.iter().any(|e| e.address == device.address) {
            continue;
        }
        names.insert(device.name.clone());
        entries.push(device);
    }
    if entries.is_empty() {
        return Err(Failure::new(FAILED, format!("{}: nothing was found there, so there is nothing to start from", from.display())));
    }
    Ok(entries)
}
