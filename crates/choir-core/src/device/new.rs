//! A device that a sheet does not have yet.

use std::collections::HashSet;

/// A device to be written into a sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewDevice {
    /// Short name.
    pub name: String,
    /// For people.
    pub title: String,
    /// One of [`super::KINDS`].
    pub kind: String,
    /// `IP` or `IP:PORT`.
    pub address: String,
    /// `onvif`, `visca`, `manual`.
    pub control: String,
}

/// A name for a device of this description, which none of `taken` has: `finish-tower`,
/// `finish-tower-2`.
#[must_use]
pub fn device_name(description: &str, taken: &HashSet<String>) -> String {
    let mut base = String::new();
    for c in description.chars() {
        match c.to_ascii_lowercase() {
            c if c.is_ascii_alphanumeric() => base.push(c),
            _ if !base.is_empty() && !base.ends_with('-') => base.push('-'),
            _ => {}
        }
    }
    base.truncate(28);
    let base = base.trim_matches('-');
    let base = if base.is_empty() { "device" } else { base };
    let mut names = std::iter::once(base.to_owned()).chain((2..).map(|n| format!("{base}-{n}")));
    names.find(|n| !taken.contains(n)).unwrap_or_default()
}
