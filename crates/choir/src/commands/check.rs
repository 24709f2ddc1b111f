//! `choir check`: reads a sheet and says what is wrong with it.

use super::{folder_of, read_text, which_sheet};
use crate::{
    args::CheckArgs,
    exit::{FAILED, Failure},
    output::plural,
};
use choir_core::{
    Grade,
    sheet::{judge_machine, judge_secrets, read_sheet},
};
use choir_host::secrets::fetch_text;

/// Secrets that are named when they are not there.
const MISSING_SHOWN: usize = 6;

pub fn run(args: &CheckArgs) -> Result<(), Failure> {
    let path = which_sheet(args.sheet.as_deref())?;
    let text = read_text(&path)?;
    let (sheet, mut findings) = read_sheet(&text);
    let file = path.display().to_string();
    if let Some(sheet) = &sheet {
        let (found, missing) = judge_secrets(sheet, &|s| fetch_text(s, folder_of(&path)).ok());
        findings.extend(found);
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        findings.extend(judge_machine(sheet, cores, &|file| folder_of(&path).join(file).is_file()));
        if !missing.is_empty() {
            let shown = missing.len().min(MISSING_SHOWN);
            let more = if missing.len() > shown { format!(" and {} more", missing.len() - shown) } else { String::new() };
            eprintln!("skipped, not set: {}{more}", missing[..shown].join(", "));
        }
    }
    let errors = findings.iter().filter(|f| f.grade == Grade::Error).count();
    let advice = findings.iter().filter(|f| f.grade == Grade::Advice).count();
    let warnings = findings.iter().filter(|f| f.grade == Grade::Warning).count();
    if args.json {
        let document = serde_json::json!({ "sheet": file, "errors": errors, "warnings": warnings, "advice": advice, "findings": findings });
        println!("{document:#}");
    } else {
        for finding in &findings {
            println!("{}", finding.in_file(&file));
        }
        match &sheet {
            Some(s) => println!(
                "{file}: {}: {}; {}, {} and {}",
                s.show.name,
                told(errors, warnings, advice),
                plural(s.lines.len(), "line"),
                plural(s.feeds.len(), "feed"),
                plural(s.devices.len(), "device")
            ),
            None => println!("{file}: {}", told(errors, warnings, advice)),
        }
    }
    if errors > 0 { Err(Failure::told(FAILED)) } else { Ok(()) }
}

/// `2 errors, 1 warning`; `nothing wrong`.
fn told(errors: usize, warnings: usize, advice: usize) -> String {
    let count = |n: usize, word: &str| (n > 0).then(|| plural(n, word));
    let hints = (advice > 0).then(|| format!("{advice} to consider"));
    let all: Vec<String> = [count(errors, "error"), count(warnings, "warning"), hints].into_iter().flatten().collect();
    if all.is_empty() { "nothing wrong".into() } else { all.join(", ") }
}
