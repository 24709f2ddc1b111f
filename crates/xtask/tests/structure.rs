//! The shape of the workspace: which crate may use which, and no module in a circle with another.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

/// What each crate may use of this workspace, as in `docs/architecture.md`.
const MAY_USE: &[(&str, &[&str])] = &[
    ("choir-proto", &[]),
    ("choir-core", &[]),
    ("choir-path", &[]),
    ("choir-scale", &[]),
    ("choir-rig", &["choir-proto", "choir-path"]),
    ("choir-host", &["choir-proto", "choir-core"]),
    ("choir-ports", &["choir-host", "choir-proto", "choir-core"]),
    ("choir-devices", &["choir-host", "choir-proto", "choir-core"]),
    ("choir-show", &["choir-ports", "choir-devices", "choir-scale", "choir-host", "choir-proto", "choir-core"]),
    ("choir-sim", &["choir-ports", "choir-devices", "choir-host", "choir-path", "choir-proto", "choir-core"]),
    ("choir", &["choir-show", "choir-sim", "choir-ports", "choir-devices", "choir-host", "choir-path", "choir-proto", "choir-core"]),
    ("xtask", &[]),
];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

fn entries(folder: &Path) -> Vec<PathBuf> {
    let mut all: Vec<_> = fs::read_dir(folder).expect("a folder").map(|e| e.expect("an entry").path()).collect();
    all.sort();
    all
}

fn name(path: &Path) -> String {
    path.file_stem().expect("a name").to_string_lossy().into_owned()
}

#[test]
fn crates_use_only_what_they_may() {
    let mut seen = BTreeSet::new();
    for folder in entries(&crates()) {
        let name = name(&folder);
        let (_, allowed) = MAY_USE.iter().find(|(n, _)| *n == name).unwrap_or_else(|| panic!("{name} is not on the map"));
        let manifest = fs::read_to_string(folder.join("Cargo.toml")).expect("a manifest");
        let dependencies = manifest.split("[dependencies]").nth(1).unwrap_or_default().split("\n[").next().unwrap_or_default();
        for line in dependencies.lines().filter(|l| l.starts_with("choir-")) {
            let used = line.split('.').next().unwrap_or_default();
            assert!(allowed.contains(&used), "{name} must not use {used}");
        }
        seen.insert(name);
    }
    assert_eq!(seen.len(), MAY_USE.len(), "a crate on the map is gone");
}

/// The paths that a text uses or opens to others, written out: `a::{b, c::d}` is `a::b` and
/// `a::c::d`.
fn paths(text: &str, keyword: &str) -> Vec<String> {
    fn spread(prefix: &str, tree: &str, out: &mut Vec<String>) {
        let Some((head, rest)) = tree.split_once('{') else { return out.push(format!("{prefix}{}", tree.trim())) };
        let inner = rest.rsplit_once('}').map_or(rest, |r| r.0);
        let (mut depth, mut start) = (0, 0);
        for (at, c) in inner.char_indices().chain([(inner.len(), ',')]) {
            match c {
                '{' => depth += 1,
                '}' => depth -= 1,
                ',' if depth == 0 => {
                    if !inner[start..at].trim().is_empty() {
                        spread(&format!("{prefix}{}", head.trim()), &inner[start..at], out);
                    }
                    start = at + 1;
                }
                _ => {}
            }
        }
    }
    let mut out = Vec::new();
    for statement in text.split('\n').collect::<Vec<_>>().join(" ").split(';') {
        if let Some(at) = statement.rfind(keyword)
            && statement[..at].chars().last().is_none_or(char::is_whitespace)
        {
            spread("", &statement[at + keyword.len()..], &mut out);
        }
    }
    out
}

/// A source without its tests and comments.
fn code(file: &Path) -> String {
    let text = fs::read_to_string(file).expect("a source");
    let text = text.split("#[cfg(test)]\nmod tests").next().unwrap_or_default();
    text.lines().filter(|l| !l.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n")
}

/// The modules of a folder, with all their files.
fn modules(folder: &Path) -> BTreeMap<String, Vec<PathBuf>> {
    let mut all: BTreeMap<String, Vec<PathBuf>> = BTreeMap::new();
    for path in entries(folder) {
        let name = name(&path);
        if path.is_dir() {
            let mut files = Vec::new();
            sources(&path, &mut files);
            all.entry(name).or_default().extend(files);
        } else if !["lib", "main", "mod"].contains(&name.as_str()) {
            all.entry(name).or_default().push(path);
        }
    }
    all
}

fn sources(folder: &Path, files: &mut Vec<PathBuf>) {
    for path in entries(folder) {
        if path.is_dir() { sources(&path, files) } else { files.push(path) }
    }
}

/// Which of its siblings each module of a folder uses, also by names that the folder opens for
/// them.
fn uses(root: &Path, folder: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let modules = modules(folder);
    let own = ["mod.rs", "lib.rs", "main.rs"].iter().map(|f| folder.join(f)).find(|f| f.exists()).expect("a module");
    let opened: BTreeMap<String, String> = paths(&code(&own), "use ")
        .into_iter()
        .filter_map(|p| {
            let (module, item) = p.strip_prefix("self::").unwrap_or(&p).split_once("::")?;
            modules.contains_key(module).then(|| (item.rsplit("::").next().unwrap_or_default().to_owned(), module.to_owned()))
        })
        .collect();
    let inside = folder.strip_prefix(root).expect("in the crate").components().count();
    let here: String = folder.strip_prefix(root).expect("in the crate").iter().map(|p| format!("{}::", p.to_string_lossy())).collect();
    let mut all = BTreeMap::new();
    for (name, files) in &modules {
        let used: &mut BTreeSet<String> = all.entry(name.clone()).or_default();
        for file in files {
            // How many modules up the folder is, seen from within this file.
            let parts: Vec<_> = file.strip_prefix(root).expect("in the crate").iter().collect();
            let deep = parts.len() - usize::from(file.file_name().is_some_and(|f| f == "mod.rs"));
            let up = "super::".repeat(deep - inside);
            for path in paths(&code(file), "use ") {
                let below =
                    path.strip_prefix(&format!("crate::{here}")).or_else(|| path.strip_prefix(&up).filter(|p| !p.starts_with("super::")));
                let Some(first) = below.and_then(|b| b.split("::").next()) else { continue };
                let used_module = if modules.contains_key(first) { Some(first) } else { opened.get(first).map(String::as_str) };
                used.extend(used_module.filter(|m| m != name).map(str::to_owned));
            }
        }
    }
    all
}

/// A way from a module back to itself.
fn circle(uses: &BTreeMap<String, BTreeSet<String>>) -> Option<Vec<String>> {
    for start in uses.keys() {
        let (mut open, mut seen) = (vec![vec![start.clone()]], BTreeSet::new());
        while let Some(way) = open.pop() {
            for next in uses.get(way.last()?).into_iter().flatten() {
                if next == start {
                    return Some(way.into_iter().chain([next.clone()]).collect());
                }
                if seen.insert(next.clone()) {
                    open.push(way.iter().cloned().chain([next.clone()]).collect());
                }
            }
        }
    }
    None
}

#[test]
fn no_module_stands_in_a_circle() {
    let (mut circles, mut count) = (Vec::new(), 0);
    for folder in entries(&crates()) {
        let root = folder.join("src");
        let mut open = vec![root.clone()];
        while let Some(folder) = open.pop() {
            let uses = uses(&root, &folder);
            count += uses.values().map(BTreeSet::len).sum::<usize>();
            circles.extend(circle(&uses).map(|c| format!("{}: {}", folder.display(), c.join(" uses "))));
            open.extend(entries(&folder).into_iter().filter(|p| p.is_dir()));
        }
    }
    assert!(count > 300, "only {count} uses were read: the sources are written in another way than this test reads");
    assert!(circles.is_empty(), "{}", circles.join("\n"));
}

/// Columns of prose: comments, and texts outside tables and code.
const PROSE_MAX: usize = 100;

/// Lines of prose in a text that are longer, and could be shorter.
fn too_wide(text: &str, is_code: bool) -> Vec<usize> {
    let mut fenced = false;
    let mut wide = Vec::new();
    for (n, line) in text.lines().enumerate() {
        let prose = if is_code {
            let Some(comment) = line.trim_start().strip_prefix("//") else { continue };
            comment.trim_start_matches(['/', '!'])
        } else {
            line
        };
        let start = prose.trim_start();
        fenced ^= start.starts_with("```");
        let breaks = start.contains(' ') && !start.starts_with('|') && !prose.starts_with("    ");
        if !fenced && breaks && line.chars().count() > PROSE_MAX {
            wide.push(n + 1);
        }
    }
    wide
}

#[test]
fn prose_is_not_wider_than_a_reader_likes() {
    let root = crates().join("..");
    let mut open = vec![crates(), root.join("docs")];
    let mut files = vec![root.join("README.md"), root.join("CHANGELOG.md")];
    while let Some(folder) = open.pop() {
        let (folders, found): (Vec<_>, Vec<_>) = entries(&folder).into_iter().partition(|p| p.is_dir());
        open.extend(folders);
        files.extend(found.into_iter().filter(|p| p.extension().is_some_and(|e| e == "rs" || e == "md")));
    }
    assert!(files.len() > 300, "only {} files were read", files.len());
    let mut wide = Vec::new();
    for file in files {
        let text = fs::read_to_string(&file).expect("a text");
        let lines = too_wide(&text, file.extension().is_some_and(|e| e == "rs"));
        wide.extend(lines.into_iter().map(|n| format!("{}:{n}", file.display())));
    }
    assert!(wide.is_empty(), "wider than {PROSE_MAX} columns:\n{}", wide.join("\n"));
    let long = "a word ".repeat(20);
    assert_eq!(too_wide(&format!("{long}\n| {long}\n```\n{long}\n```\n"), false), [1]);
    assert_eq!(too_wide(&format!("let x;\n/// {long}\n{long}\n"), true), [2]);
}

#[test]
fn circles_are_seen() {
    let map = |all: &[(&str, &str)]| all.iter().map(|(a, b)| ((*a).to_owned(), BTreeSet::from([(*b).to_owned()]))).collect();
    assert_eq!(circle(&map(&[("a", "b"), ("b", "c"), ("c", "a")])), Some(["a", "b", "c", "a"].map(str::to_owned).to_vec()));
    assert_eq!(circle(&map(&[("a", "b"), ("b", "c")])), None);
    assert_eq!(
        paths("pub(super) use super::{\n    a::{B, c::D},\n    E,\n};\nfn f() {}", "use "),
        ["super::a::B", "super::a::c::D", "super::E"]
    );
}
