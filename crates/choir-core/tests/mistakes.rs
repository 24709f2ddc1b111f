//! Every classic mistake: its small sheet gets the sentence that stands at its top, and nothing
//! else; mended as it says, it gets none.

use choir_core::sheet::read_sheet;
use std::{fs, path::Path};

fn said(text: &str) -> Vec<String> {
    read_sheet(text).1.iter().map(|f| format!("{}: {}: {}", f.grade, f.subject, f.what)).collect()
}

/// The sheet with each wrong value replaced by what stands below it.
fn mended(text: &str) -> String {
    let right = |l: &str| l.strip_prefix("# right: ").map(|r| if r == "nothing" { String::new() } else { r.to_owned() });
    let kept = text.lines().filter(|l| !l.ends_with("# wrong"));
    kept.map(|l| right(l).unwrap_or_else(|| l.to_owned()) + "\n").collect()
}

#[test]
fn every_mistake_gets_its_sentence_and_none_once_mended() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/mistakes");
    let mut seen = 0;
    for entry in fs::read_dir(folder).expect("the mistakes") {
        let path = entry.expect("a file").path();
        let text = fs::read_to_string(&path).expect("a sheet");
        let promised: Vec<String> = text.lines().filter_map(|l| l.strip_prefix("#   ")).map(str::to_owned).collect();
        assert!(!promised.is_empty(), "{} promises nothing", path.display());
        assert_eq!(said(&text), promised, "{}", path.display());
        assert_eq!(said(&mended(&text)), Vec::<String>::new(), "{} mended", path.display());
        seen += 1;
    }
    assert!(seen >= 45, "only {seen} mistakes");
}

#[test]
fn every_finding_says_what_to_do_and_where() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/mistakes");
    for entry in fs::read_dir(folder).expect("the mistakes") {
        let path = entry.expect("a file").path();
        let text = fs::read_to_string(&path).expect("a sheet");
        let wrong: Vec<usize> = text.lines().enumerate().filter(|(_, l)| l.ends_with("# wrong")).map(|(n, _)| n + 1).collect();
        for f in read_sheet(&text).1 {
            assert!(f.remedy.len() > 10 && f.remedy.ends_with(['.', '"']), "{}: {}", path.display(), f.remedy);
            assert!(f.what.ends_with('.'), "{}: {}", path.display(), f.what);
            assert!(f.place.is_some_and(|p| p.line > 3 && p.line <= text.lines().count()), "{}: {:?}", path.display(), f.place);
            assert_eq!(wrong.len(), 1, "{} is one mistake", path.display());
        }
    }
}
