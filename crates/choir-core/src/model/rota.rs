//! `[[rota]]`: a timed list of what is on a feed.

use serde::{Deserialize, Serialize};
use std::time::Duration;

/// A rota.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rota {
    /// Its name.
    pub name: String,
    /// The feed that it is for.
    pub feed: String,
    /// What is on, in this order; never empty.
    pub steps: Vec<RotaStep>,
    /// After the last the first comes again.
    pub repeat: bool,
    /// It starts with the show.
    pub starts: bool,
}

/// One step of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RotaStep {
    /// The line that is on.
    pub line: String,
    /// For how long.
    pub lasts: Lasts,
}

/// How long a step lasts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lasts {
    /// So long.
    For(Duration),
    /// Until the clip has been played to its end.
    Once,
}

/// What a rota is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RotaOrder {
    /// Start, or go on where it was paused.
    Start,
    /// Wait; what is on stays on.
    Pause,
    /// Go to the next step.
    Skip,
    /// End; what is on stays on.
    Stop,
}

impl RotaOrder {
    /// All with their words, as the command line and `[keys]` have them.
    pub const WORDS: [(&'static str, Self); 4] =
        [("start", Self::Start), ("pause", Self::Pause), ("skip", Self::Skip), ("stop", Self::Stop)];

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::WORDS.iter().find(|(_, o)| *o == self).map_or("", |(w, _)| w)
    }

    /// From its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|(w, _)| *w == word).map(|(_, o)| *o)
    }
}
