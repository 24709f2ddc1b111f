//! `choir line` and `choir feed`: edits that leave the rest of the sheet as it was written.

use super::{read_text, replace_text, which_sheet};
use crate::{
    args::{AddFeed, AddLine, FeedEdit, FeedEditArgs, LineEdit, LineEditArgs},
    exit::{FAILED, Failure, USAGE},
};
use choir_core::sheet::{EditError, Expect, NewFeed, NewLine, add_feed, add_line, add_take, remove_entry, rename_entry};
use choir_host::secrets::TYPED_PREFIX;
use std::path::Path;

pub fn line(args: LineEditArgs) -> Result<(), Failure> {
    let sheet = which_sheet(args.sheet.sheet.as_deref())?;
    match args.action {
        LineEdit::Add(a) => {
            let name = a.name.clone();
            not_typed(std::slice::from_ref(&a.from))?;
            let new = new_line(a);
            edit(
                &sheet,
                |text| add_line(text, &new),
                &format!("line \"{name}\" is added; \"choir card {name}\" says what to type at its far end"),
            )
        }
        LineEdit::Remove { name } => edit(&sheet, |text| remove_entry(text, "line", &name), &format!("line \"{name}\" is gone")),
        LineEdit::Rename { name, to } => {
            edit(&sheet, |text| rename_entry(text, "line", &name, &to), &format!("line \"{name}\" is \"{to}\" now, wherever it is used"))
        }
    }
}

pub fn feed(args: FeedEditArgs) -> Result<(), Failure> {
    let sheet = which_sheet(args.sheet.sheet.as_deref())?;
    match args.action {
        FeedEdit::Add(AddFeed { name, line, to, title, takes }) => {
            not_typed(&to)?;
            let told = format!("feed \"{name}\" is added, with line \"{line}\"");
            edit(&sheet, |text| add_feed(text, &NewFeed { name, title, line, to, takes }), &told)
        }
        FeedEdit::Remove { name } => edit(&sheet, |text| remove_entry(text, "feed", &name), &format!("feed \"{name}\" is gone")),
        FeedEdit::Rename { name, to } => {
            edit(&sheet, |text| rename_entry(text, "feed", &name, &to), &format!("feed \"{name}\" is \"{to}\" now"))
        }
    }
}

/// Adds a line, and says that it will be taken on a feed.
pub(super) fn add_to(sheet: &Path, line: &NewLine, feed: Option<&str>) -> Result<(), Failure> {
    let taken = feed.map_or_else(String::new, |feed| format!(", and will be taken on {feed}"));
    let change = |text: &str| {
        let added = add_line(text, line)?;
        feed.map_or(Ok(added.clone()), |feed| add_take(&added, feed, &line.name))
    };
    edit(sheet, change, &format!("line \"{}\" is added: {}{taken}", line.name, line.from))
}

/// A secret typed on the command line would be gone with it.
fn not_typed(urls: &[String]) -> Result<(), Failure> {
    if urls.iter().any(|u| u.contains(TYPED_PREFIX)) {
        let text = "a passphrase or password cannot be typed here, since the sheet is passed on: write passphrase-env=NAME or passphrase-file=PATH (password-env, password-file)";
        return Err(Failure::new(USAGE, text));
    }
    Ok(())
}

fn new_line(a: AddLine) -> NewLine {
    let expect = Expect { codec: a.codec, size: a.size, rate: a.rate, bitrate: a.bitrate, ..Expect::default() };
    NewLine { name: a.name, title: a.title, from: a.from, expect, via: a.via }
}

fn edit(sheet: &Path, change: impl FnOnce(&str) -> Result<String, EditError>, told: &str) -> Result<(), Failure> {
    let file = sheet.display();
    let after = change(&read_text(sheet)?).map_err(|e| Failure::new(FAILED, format!("{file}: {e}; nothing was written")))?;
    replace_text(sheet, &after)?;
    eprintln!("{file}: {told}");
    Ok(())
}
