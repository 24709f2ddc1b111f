//! `choir clip`: what is in a clip, and clips as lines of the sheet.

use super::{entries, folder_of, load, which_sheet};
use crate::{
    args::{ClipAction, ClipArgs},
    exit::{DIFFERS, FAILED, Failure, USAGE},
};
use choir_core::{
    device::device_name,
    sheet::{Expect, NewLine, Sheet},
    spelling::did_you_mean,
    units::{say_duration, say_rate, say_size},
};
use choir_show::clip::Clip;
use serde_json::json;
use std::{
    collections::HashSet,
    path::{Path, PathBuf},
};

pub fn run(args: ClipArgs) -> Result<(), Failure> {
    match args.action {
        ClipAction::Check { file, json } => {
            let clip = look(&file)?;
            if json {
                println!("{}", serde_json::to_string_pretty(&as_json(&file, &clip)).unwrap_or_default());
            } else {
                print!("{}", told(&file, &clip));
            }
            Ok(())
        }
        ClipAction::Add { file, name, feed, repeat, sheet } => {
            let sheet = which_sheet(sheet.as_deref())?;
            add(&sheet, &file, name, feed.as_deref(), repeat)
        }
    }
}

fn look(file: &Path) -> Result<Clip, Failure> {
    Clip::look(file).map_err(|why| Failure::new(FAILED, format!("{}: {why}", file.display())))
}

fn told(file: &Path, c: &Clip) -> String {
    let rate = c.rate.map_or_else(String::new, |r| format!(" at {}", say_rate(r)));
    let size = c.size.map_or_else(String::new, |s| format!(" {}", say_size(s)));
    let keyframe = c.keyframe_ms.map_or_else(String::new, |ms| format!(", keyframe each {:.1} s", f64::from(ms) / 1000.0));
    let kind = if c.is_mp4 { "MP4" } else { "transport stream" };
    let sound = c.sound.clone().unwrap_or_else(|| "none".into());
    let mut text = format!(
        "{}: {kind}, {}, {} pictures\npicture     {}{size}{rate}{keyframe}\nsound       {sound}\n",
        file.display(),
        say_duration(c.lasts),
        c.frames,
        c.codec
    );
    if !c.begins_with_keyframe {
        text.push_str("remark      it does not begin with a keyframe: its first pictures are not seen\n");
    }
    for d in &c.defects {
        text.push_str(&format!("defect      {} ({})\n", d.text, d.clause));
    }
    text
}

fn as_json(file: &Path, c: &Clip) -> serde_json::Value {
    json!({
        "file": file, "mp4": c.is_mp4, "seconds": c.lasts.as_secs_f64(), "frames": c.frames, "codec": c.codec, "size": c.size,
        "rate": c.rate, "keyframe_ms": c.keyframe_ms, "sound": c.sound, "begins_with_keyframe": c.begins_with_keyframe,
        "defects": c.defects,
    })
}

fn add(sheet: &Path, file: &Path, name: Option<String>, feed: Option<&str>, repeat: bool) -> Result<(), Failure> {
    let read = load(sheet, false)?;
    let named = feed.map(|feed| of_feed(&read, feed)).transpose()?;
    let clip = look(file)?;
    print!("{}", told(file, &clip));
    let stem = file.file_stem().unwrap_or_default().to_string_lossy();
    let taken: HashSet<String> = read.lines.iter().map(|l| l.name.clone()).collect();
    let name = name.unwrap_or_else(|| device_name(&stem, &taken));
    let how = if repeat { "?repeat&start=take" } else { "?start=take" };
    let new = NewLine { name: name.clone(), from: format!("{}{how}", place(sheet, file).display()), ..NewLine::default() };
    entries::add_to(sheet, &new, feed)?;
    let Some((line, wanted)) = named else { return Ok(()) };
    let differs = clip.differs(&wanted);
    if differs.is_empty() {
        println!("on {}: as its line {line}", feed.unwrap_or_default());
        return Ok(());
    }
    for d in &differs {
        println!("on {}: {d}, unlike its line {line}; the picture changes at each take", feed.unwrap_or_default());
    }
    Err(Failure::told(DIFFERS))
}

/// The line that a feed carries, and what is expected of it.
fn of_feed(sheet: &Sheet, name: &str) -> Result<(String, Expect), Failure> {
    let names: Vec<&str> = sheet.feeds.iter().map(|f| f.name.as_str()).collect();
    let feed =
        sheet.feed(name).ok_or_else(|| Failure::new(USAGE, format!("there is no feed \"{name}\". {}", did_you_mean(name, &names))))?;
    let line = sheet.line(&feed.line).ok_or_else(|| Failure::new(USAGE, format!("feed {name} has no line")))?;
    Ok((line.name.clone(), sheet.wanted(line)))
}

/// As the sheet finds the file: relative to its own folder where it lies there.
fn place(sheet: &Path, file: &Path) -> PathBuf {
    let whole = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let (folder, file) = (whole(folder_of(sheet)), whole(file));
    file.strip_prefix(&folder).map(Path::to_owned).unwrap_or(file)
}
