//! `choir ptz`: presets, moves, and the live panel.

use super::{device::Opened, folder_of, interrupted, load, read_text, read_url, replace_text, stave::seeker, which_sheet};
use crate::{
    args::{FrameArgs, MoveArgs, PtzAction, PtzArgs},
    exit::{Failure, USAGE},
    live,
    output::tables::{digits, table},
};
use choir_core::{
    device::PresetView,
    link::Link,
    sheet::{Line, set_preset_name},
    stave::StaveSettings,
};
use choir_devices::device::{DeviceError, credentials_of};
use choir_host::Stop;
use choir_ports::stave::{NamedCamera, Node};
use choir_proto::visca::Drive;
use choir_show::{
    Show,
    ptz::{PictureBox, Position, Ptz, PtzError},
};
use std::{
    io::{IsTerminal, stdout},
    path::{Path, PathBuf},
};

pub async fn run(mut args: PtzArgs) -> Result<(), Failure> {
    if args.action.is_none() && !stdout().is_terminal() {
        return Err(Failure::new(USAGE, "the live panel needs a terminal: name what to do, like goto 3 (see --help)"));
    }
    let (end, stop) = Stop::new();
    let (ptz, sheet, node) = if args.name.starts_with("stave:") {
        let (ptz, node) = by_name(&args, &stop).await?;
        (ptz, None, Some(node))
    } else {
        let opened = Opened::at(args.sheet.sheet.as_deref())?;
        let device = opened.device(&args.name)?;
        let credentials = credentials_of(&device, &opened.base).map_err(DeviceError::from)?;
        (Ptz::open(&device, args.by.unwrap_or(device.control), credentials).await?, Some(opened.path), None)
    };
    let done = match args.action.take() {
        None => panel(ptz, &args, sheet.as_deref()).await,
        Some(action) => steer(ptz, action, &args, sheet.as_deref()).await,
    };
    if let Some(node) = node {
        end.now();
        node.ended().await;
    }
    done
}

/// A camera by the name of its source, on the LAN as the sheet says.
async fn by_name(args: &PtzArgs, stop: &Stop) -> Result<(Ptz, Node), Failure> {
    let Link::Stave(link) = read_url(&args.name)? else { return Err(Failure::told(USAGE)) };
    if args.by.is_some() {
        return Err(Failure::new(USAGE, "--by needs a device: a name is steered by the machine that offers it"));
    }
    let named = args.sheet.sheet.is_some() || std::env::var_os("CHOIR_SHEET").is_some();
    let (settings, base) = match named.then(|| which_sheet(args.sheet.sheet.as_deref())).transpose()? {
        Some(path) => (load(&path, false)?.stave, folder_of(&path).to_owned()),
        None => (StaveSettings::default(), PathBuf::from(".")),
    };
    let node = seeker(&settings, &base, "ptz", stop).await?;
    let camera = NamedCamera::seek(&node, link, settings.sources, settings.address, stop);
    Ok((Ptz::by_name(camera), node))
}

/// Larger than any panel needs.
const PICTURE: (usize, usize) = (240, 136);

/// The panel, with the picture of the line that the sheet has of this camera: the small one first.
async fn panel(ptz: Ptz, args: &PtzArgs, sheet: Option<&Path>) -> Result<(), Failure> {
    let Some((show, line)) = look(args, sheet).await else { return live::ptz::run(ptz, sheet.map(Path::to_owned), None).await };
    let pictures = show.line_named(&line).ok().and_then(|line| show.live_pictures(line, PICTURE).ok());
    let done = live::ptz::run(ptz, sheet.map(Path::to_owned), pictures).await;
    show.stop().await;
    done
}

/// A show of nothing but the camera's line. Without one the camera is steered all the same.
async fn look(args: &PtzArgs, path: Option<&Path>) -> Option<(Show, String)> {
    let path = path?;
    let mut sheet = load(path, false).ok()?;
    let device = sheet.devices.iter().find(|d| d.name == args.name)?;
    // Only what is pulled: a port that listens is the show's.
    let host = device.address.to_string();
    let of_it: Vec<_> = sheet.lines.iter().filter(|l| matches!(&l.from, Link::Rtsp(r) if r.host.as_ref() == Some(&host))).collect();
    let is_small = |l: &&&Line| sheet.lines.iter().any(|main| main.sub.as_ref() == Some(&l.name));
    let line = of_it.iter().find(is_small).or(of_it.first())?.name.clone();
    sheet.lines.retain(|l| l.name == line);
    sheet.lines.iter_mut().for_each(|l| l.sub = None);
    (sheet.feeds, sheet.devices) = Default::default();
    let show = Show::start(&sheet, folder_of(path)).await.ok()?;
    Some((show, line))
}

async fn steer(ptz: Ptz, action: PtzAction, args: &PtzArgs, sheet: Option<&Path>) -> Result<(), Failure> {
    match action {
        PtzAction::Goto { preset } => {
            let at = ptz.goto(&preset).await?;
            say(args.json, &at, format!("{}: going to preset {}", args.name, preset_words(&at)));
        }
        PtzAction::Store { preset, name } => store(&ptz, sheet, &preset, name.as_deref(), args.json).await?,
        PtzAction::List => list(&ptz.list().await?, &ptz, args.json),
        PtzAction::Home => {
            ptz.home().await?;
            say(args.json, &"home", format!("{}: going home", args.name));
        }
        PtzAction::Move(m) => moving(&ptz, &m, args.json).await?,
        PtzAction::Frame(f) => {
            let part = framed(&f)?;
            ptz.frame(part).await?;
            let what = if part.width > 0.0 { "a part of its picture" } else { "a point of its picture" };
            say(args.json, &"framing", format!("{}: going to {what}", args.name));
        }
        PtzAction::Stop => {
            ptz.stop().await?;
            say(args.json, &"stopped", format!("{}: stopped", args.name));
        }
        PtzAction::Where => {
            let p = ptz.position().await?;
            say(args.json, &p, position_words(&args.name, &p));
        }
        PtzAction::Tally { lamp } => {
            ptz.tally(lamp == "on").await?;
            say(args.json, &lamp, format!("{}: tally lamp {lamp}", args.name));
        }
    }
    Ok(())
}

fn framed(args: &FrameArgs) -> Result<PictureBox, Failure> {
    let (left, top, width, height) = match args.part[..] {
        [left, top] => (left, top, 0.0, 0.0),
        [left, top, width, height] if left + width <= 1.0 && top + height <= 1.0 && width > 0.0 && height > 0.0 => {
            (left, top, width, height)
        }
        [_, _, _, _] => {
            return Err(Failure::new(
                USAGE,
                "that part reaches beyond the picture, or has no size: left and width, and top and height, are at most 100% together",
            ));
        }
        _ => return Err(Failure::new(USAGE, "a point has two shares, left and top; a part has four, with its width and height")),
    };
    Ok(PictureBox { left, top, width, height })
}

fn say(json: bool, value: &impl serde::Serialize, words: String) {
    if json { println!("{}", serde_json::to_string(value).unwrap_or_default()) } else { println!("{words}") }
}

fn preset_words(p: &PresetView) -> String {
    if p.name.is_empty() { p.number.clone() } else { format!("{} \"{}\"", p.number, p.name) }
}

fn position_words(name: &str, p: &Position) -> String {
    let moving = match p.moving {
        Some(true) => ", moving",
        Some(false) => ", standing still",
        None => "",
    };
    let unit = if p.unit == "steps" { " (the camera's own steps)" } else { " of -1 to 1" };
    format!("{name}: pan {}, tilt {}{unit}, zoom {} of 1{moving}", digits(p.pan), digits(p.tilt), digits(p.zoom))
}

async fn store(ptz: &Ptz, sheet: Option<&Path>, preset: &str, name: Option<&str>, json: bool) -> Result<(), Failure> {
    let at = ptz.store(preset, name).await?;
    if ptz.names_in_sheet()
        && let (Some(path), Some(preset_name), Ok(number)) = (sheet, name, at.number.parse())
    {
        let after = set_preset_name(&read_text(path)?, ptz.name(), number, preset_name);
        let after = after.map_err(|e| Failure::new(crate::exit::FAILED, format!("stored as {}, but {e}", at.number)))?;
        replace_text(path, &after)?;
    }
    let other = if at.number == preset { "" } else { " (the camera chose the number)" };
    say(json, &at, format!("{}: stored as preset {}{other}", ptz.name(), preset_words(&at)));
    Ok(())
}

fn list(presets: &[PresetView], ptz: &Ptz, json: bool) {
    if json {
        println!("{}", serde_json::to_string_pretty(presets).unwrap_or_default());
    } else if presets.is_empty() {
        let where_from = if ptz.names_in_sheet() { "the sheet names none, and VISCA cannot ask" } else { "the camera has none" };
        println!("{}: no presets: {where_from}", ptz.name());
    } else {
        let rows: Vec<Vec<String>> = presets.iter().map(|p| vec![p.number.clone(), p.name.clone()]).collect();
        print!("{}", table(&["preset", "name"], &rows));
    }
}

async fn moving(ptz: &Ptz, m: &MoveArgs, json: bool) -> Result<(), Failure> {
    let d = Drive { pan: m.pan, tilt: m.tilt, zoom: m.zoom };
    if d == Drive::default() {
        return Err(Failure::new(USAGE, "nothing would move: add --pan, --tilt or --zoom with a speed from -1 to 1"));
    }
    let most = ptz.move_most();
    if m.time > most {
        return Err(Failure::new(USAGE, format!("a move lasts at most {} s", most.as_secs())));
    }
    ptz.move_for(d, m.time, interrupted()).await?;
    match ptz.position().await {
        Ok(p) => say(json, &p, position_words(ptz.name(), &p)),
        // It has moved and stopped; not every camera knows where it looks.
        Err(PtzError::Onvif(_) | PtzError::Visca(_) | PtzError::NotByName(_)) => {
            say(json, &"stopped", format!("{}: moved and stopped", ptz.name()))
        }
        Err(e) => return Err(e.into()),
    }
    Ok(())
}
