//! Passphrases: where they come from. The text itself is never printed, logged or written out.

use std::{
    fmt,
    path::{Path, PathBuf},
};
use zeroize::Zeroizing;

/// A secret text. `Debug` hides it, it has no `Display`, and its memory is wiped on drop.
#[derive(Clone, PartialEq, Eq)]
pub struct SecretText(Zeroizing<String>);

impl SecretText {
    /// Takes a text as secret.
    #[must_use]
    pub fn new(text: impl Into<String>) -> Self {
        Self(Zeroizing::new(text.into()))
    }
    /// The text, for the one place that needs it.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for SecretText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(hidden)")
    }
}

/// Where a passphrase comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Secret {
    /// Written in the sheet or URL.
    Literal(SecretText),
    /// An environment variable of this name.
    Env(String),
    /// The first line of this file.
    File(PathBuf),
}

impl Secret {
    /// With a relative path counted from `base`.
    #[must_use]
    pub fn below(self, base: &Path) -> Self {
        match self {
            Self::File(path) => Self::File(base.join(path)),
            other => other,
        }
    }
}

/// Passphrase length in bytes that the SRT draft allows.
pub const PASSPHRASE_LENGTH: std::ops::RangeInclusive<usize> = 10..=79;

/// The sentence for a passphrase of the wrong length, or `None` when it is right.
#[must_use]
pub fn passphrase_length_problem(length: usize) -> Option<String> {
    (!PASSPHRASE_LENGTH.contains(&length)).then(|| format!("the passphrase has {length} characters."))
}

/// Words that everybody tries first.
const COMMON: [&str; 12] =
    ["password", "passphrase", "secret", "12345", "qwerty", "admin", "letmein", "welcome", "abcdef", "camera", "broadcast", "default"];
/// Fewer different characters are guessed.
const VARIETY_MIN: usize = 6;

/// Why a passphrase of the right length is weak all the same; `None` when it is not.
#[must_use]
pub fn passphrase_weakness(text: &str) -> Option<&'static str> {
    let lower = text.to_lowercase();
    let different: std::collections::HashSet<char> = lower.chars().collect();
    if different.len() < VARIETY_MIN {
        return Some("it repeats a few characters");
    }
    if lower.chars().all(|c| c.is_ascii_digit()) {
        return Some("it is only digits");
    }
    let rest = COMMON.iter().fold(lower, |rest, word| rest.replace(word, ""));
    let left = rest.chars().filter(|c| c.is_alphabetic()).count();
    (left < VARIETY_MIN).then_some("it is a word that everybody tries, with little added")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weak_passphrases_are_told_from_good_ones() {
        for weak in ["aaaaaaaaaaaa", "1234567890", "Password1234", "secret-2026!", "admincamera1"] {
            assert!(passphrase_weakness(weak).is_some(), "{weak}");
        }
        for good in ["rowing is a made-up sport", "cox and four", "Xk29-vmmq-77ty"] {
            assert_eq!(passphrase_weakness(good), None, "{good}");
        }
    }
}
