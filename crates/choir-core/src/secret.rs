//! Passphrases: where they come from. The text itself is never printed, logged or written out.

use std::{fmt, path::PathBuf};
use zeroize::{Zeroize, ZeroizeOnDrop};

/// A secret text. `Debug` hides it, it has no `Display`, and its memory is wiped on drop.
#[derive(Clone, PartialEq, Eq, Zeroize, ZeroizeOnDrop)]
pub struct SecretText(String);

impl SecretText {
    /// Takes a text as secret.
    #[must_use]
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
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

/// Passphrase length in bytes that the SRT draft allows.
pub const PASSPHRASE_LENGTH: std::ops::RangeInclusive<usize> = 10..=79;

/// The sentence for a passphrase of the wrong length, or `None` when it is right.
#[must_use]
pub fn passphrase_length_problem(length: usize) -> Option<String> {
    (!PASSPHRASE_LENGTH.contains(&length)).then(|| format!("the passphrase has {length} characters."))
}
