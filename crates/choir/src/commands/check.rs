//! `choir check`: reads a sheet and says what is wrong with it.

use super::read_text;
use crate::{
    args::CheckArgs,
    exit::{FAILED, Failure},
    output::plural,
};
use choir_core::{Grade, sheet::read_sheet};

pub fn run(args: &CheckArgs) -> Result<(), Failure> {
    let text = read_text(&args.sheet)?;
    let (sheet, findings) = read_sheet(&text);
    let file = args.sheet.display().to_string();
    let errors = findings.iter().filter(|f| f.grade == Grade::Error).count();
    let warnings = findings.iter().filter(|f| f.grade == Grade::Warning).count();
    if args.json {
        let document = serde_json::json!({ "sheet": file, "errors": errors, "warnings": warnings, "findings": findings });
        println!("{document:#}");
    } else {
        for finding in &findings {
            println!("{}", finding.in_file(&file));
        }
        match &sheet {
            Some(s) => println!(
                "{file}: {}, {}: {}, {} and {}",
                s.show.name,
                if warnings == 0 { "no errors".into() } else { plural(warnings, "warning") },
                plural(s.lines.len(), "line"),
                plural(s.feeds.len(), "feed"),
                plural(s.devices.len(), "device")
            ),
            None => println!("{file}: {}, {}", plural(errors, "error"), plural(warnings, "warning")),
        }
    }
    if errors > 0 { Err(Failure::told(FAILED)) } else { Ok(()) }
}
