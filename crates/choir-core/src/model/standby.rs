//! What a feed falls back to when its line fails.

use std::time::Duration;

/// The name that stands for the slate among lines.
pub const SLATE: &str = "slate";

/// `standby` of a feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Standby {
    /// Names of lines, or [`SLATE`]: the first one that is fit stands in.
    pub lines: Vec<String>,
    /// How long no media may come.
    pub no_media: Duration,
    /// How long the line may be broken; `None`: for ever.
    pub broken: Option<Duration>,
    /// How long its picture may be black.
    pub black: Option<Duration>,
    /// How long its picture may be frozen.
    pub frozen: Option<Duration>,
    /// How long it may be without sound.
    pub silent: Option<Duration>,
    /// How long the line must be fit before it comes on again by itself; `None`: by hand only.
    pub back: Option<Duration>,
}

impl Default for Standby {
    fn default() -> Self {
        Self {
            lines: Vec::new(),
            no_media: Duration::from_millis(500),
            broken: Some(Duration::from_secs(3)),
            black: None,
            frozen: None,
            silent: None,
            back: Some(Duration::from_secs(5)),
        }
    }
}
