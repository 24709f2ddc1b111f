//! What a sheet asks of the machine that it is read on: cores for encoding, and files.

use super::Sheet;
use crate::{
    budget::budget,
    finding::{Finding, Grade},
    model::Shows,
};
use std::path::Path;

/// Share of all cores that encoding may take: the links need the rest.
const SHARE: f64 = 0.6;

/// Judges what is encoded on a machine with so many cores, and whether the images are there that
/// are laid over.
#[must_use]
pub fn judge_machine(sheet: &Sheet, cores: usize, is_there: &dyn Fn(&Path) -> bool) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut add = |grade, subject: String, what: String, remedy: &str| {
        found.push(Finding { grade, place: None, subject, what, remedy: remedy.into() });
    };
    let needed = budget(sheet).cores();
    if needed > SHARE * cores as f64 {
        let what = format!("encoding takes about {needed:.1} cores, and this machine has {cores}.");
        let remedy = "Take a smaller size or rate, let several destinations share one encoding, or use another machine: what does not fit is left out.";
        add(Grade::Warning, "show".into(), what, remedy);
    }
    for feed in &sheet.feeds {
        for overlay in feed.to.iter().filter_map(|to| to.encode.as_ref()).flat_map(|e| &e.overlays) {
            if let Shows::Image(file) = &overlay.shows
                && !is_there(file)
            {
                let what = format!("the overlay {} cannot be read.", file.display());
                add(Grade::Error, format!("feed \"{}\"", feed.name), what, "Put the file there: paths count from the sheet's folder.");
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    #[test]
    fn too_few_cores_and_missing_images_are_told() {
        let sheet = |encode: &str| {
            let text = format!(
                "[show]\nname = \"Tarn Hollow Regatta\"\n\
                 [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n\
                 expect = {{ codec = \"h265\", size = \"1920x1080\", rate = 50 }}\n\
                 [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = [{{ host = \"127.0.0.1\", port = 7201, {encode} }}]\n"
            );
            read_sheet(&text).0.unwrap_or_else(|| panic!("{:?}", read_sheet(&text).1))
        };
        let plain = sheet("encode = { size = \"1280x720\", rate = 25 }");
        let told = |sheet: &Sheet, cores, there: bool| -> Vec<String> {
            judge_machine(sheet, cores, &|_| there).into_iter().map(|f| format!("{}: {}", f.subject, f.what)).collect()
        };
        assert_eq!(told(&plain, 16, true), [] as [&str; 0]);
        let few = told(&plain, 2, true);
        assert!(few.len() == 1 && few[0].starts_with("show: encoding takes about "), "{few:?}");
        let logo = sheet("overlay = { image = \"logo.png\" }");
        assert_eq!(told(&logo, 64, false), ["feed \"desk\": the overlay logo.png cannot be read."]);
    }
}
