//! The shape of the workspace: which crate may use which.

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
};

/// What each crate may use of this workspace, as in `docs/architecture.md`.
const MAY_USE: &[(&str, &[&str])] = &[
    ("choir-proto", &[]),
    ("choir-core", &[]),
    ("choir-path", &[]),
    ("choir-rig", &[]),
    ("choir-host", &["choir-proto", "choir-core"]),
    ("choir-ports", &["choir-host", "choir-proto", "choir-core"]),
    ("choir-devices", &["choir-host", "choir-proto", "choir-core"]),
    ("choir-show", &["choir-ports", "choir-devices", "choir-host", "choir-proto", "choir-core"]),
    ("choir-sim", &["choir-ports", "choir-devices", "choir-host", "choir-path", "choir-proto", "choir-core"]),
    ("choir", &["choir-show", "choir-sim", "choir-ports", "choir-devices", "choir-host", "choir-path", "choir-proto", "choir-core"]),
    ("xtask", &[]),
];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

#[test]
fn crates_use_only_what_they_may() {
    let mut seen = BTreeSet::new();
    for entry in fs::read_dir(crates()).expect("crates") {
        let name = entry.expect("a crate").file_name().to_string_lossy().into_owned();
        let (_, allowed) = MAY_USE.iter().find(|(n, _)| *n == name).unwrap_or_else(|| panic!("{name} is not on the map"));
        let manifest = fs::read_to_string(crates().join(&name).join("Cargo.toml")).expect("a manifest");
        let dependencies = manifest.split("[dependencies]").nth(1).unwrap_or_default().split("\n[").next().unwrap_or_default();
        for line in dependencies.lines().filter(|l| l.starts_with("choir-")) {
            let used = line.split('.').next().unwrap_or_default();
            assert!(allowed.contains(&used), "{name} must not use {used}");
        }
        seen.insert(name);
    }
    assert_eq!(seen.len(), MAY_USE.len(), "a crate on the map is gone");
}
