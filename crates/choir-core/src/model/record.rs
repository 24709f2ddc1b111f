//! How a recording is to be written.

use std::{path::PathBuf, time::Duration};

/// How a recording is to be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordSettings {
    /// Where; relative to the sheet's folder.
    pub folder: PathBuf,
    /// A new file after so long, at the next keyframe.
    pub each: Duration,
    /// Or after so many bytes.
    pub bytes: Option<u64>,
}

impl RecordSettings {
    /// A shorter segment says that it was meant for another use.
    pub const EACH_LEAST: Duration = Duration::from_secs(2);
}

/// `[record]`: what is recorded from the start of the show on.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RecordPlan {
    /// How.
    pub settings: RecordSettings,
    /// Names of lines and feeds.
    pub start: Vec<String>,
}

impl Default for RecordSettings {
    fn default() -> Self {
        Self { folder: "recordings".into(), each: Duration::from_secs(600), bytes: None }
    }
}
