//! `choir card`: what to type at the other end.

use super::{folder_of, load, replace_secret_text, replace_text, which_sheet};
use crate::{
    args::CardArgs,
    exit::{FAILED, Failure, USAGE},
    output::{cards, plural},
};
use choir_core::{
    card::{Card, Reveal, all_cards, device_card, feed_cards, line_card},
    sheet::Sheet,
    spelling::did_you_mean,
};
use choir_host::secrets::fetch_text;

pub fn run(args: &CardArgs) -> Result<(), Failure> {
    let path = which_sheet(args.sheet.as_deref())?;
    let sheet = load(&path, false)?;
    let fetch = |s: &choir_core::secret::Secret| fetch_text(s, folder_of(&path)).ok();
    let reveal: Option<Reveal<'_>> = if args.reveal { Some(&fetch) } else { None };
    let found = if args.all { all_cards(&sheet, reveal) } else { named(&sheet, &args.names, reveal)? };
    if found.is_empty() {
        return Err(Failure::new(FAILED, "a file has no other end: there is no card"));
    }
    let code = !args.no_code;
    if let Some(file) = &args.html {
        let write = if args.reveal { replace_secret_text } else { replace_text };
        write(file, &cards::html(&sheet.show.name, &found, code, args.reveal))?;
        eprintln!("{}: {}; print it, or save it as PDF from the browser", file.display(), plural(found.len(), "card"));
        if args.reveal {
            eprintln!("It contains passphrases, and only you may read it: keep it secret.");
        }
    } else if args.json {
        println!("{}", serde_json::to_string_pretty(&found).unwrap_or_default());
    } else if args.markdown {
        print!("{}", cards::markdown(&found));
    } else {
        print!("{}", cards::text(&found, code));
    }
    Ok(())
}

/// The cards of everything that has one of these names: a device and its line often share one.
fn named(sheet: &Sheet, names: &[String], reveal: Option<Reveal<'_>>) -> Result<Vec<Card>, Failure> {
    let known: Vec<&str> = sheet
        .lines
        .iter()
        .map(|l| l.name.as_str())
        .chain(sheet.feeds.iter().map(|f| f.name.as_str()))
        .chain(sheet.devices.iter().map(|d| d.name.as_str()))
        .collect();
    let mut found = Vec::new();
    for name in names {
        if !known.contains(&name.as_str()) {
            let hint = did_you_mean(name, &known);
            return Err(Failure::new(USAGE, format!("there is no line, feed or device \"{name}\". {hint}")));
        }
        found.extend(sheet.lines.iter().filter(|l| l.name == *name).filter_map(|l| line_card(sheet, l, reveal)));
        found.extend(sheet.feeds.iter().filter(|f| f.name == *name).flat_map(|f| feed_cards(sheet, f, reveal)));
        found.extend(sheet.devices.iter().filter(|d| d.name == *name).map(|d| device_card(sheet, d)));
    }
    Ok(found)
}
