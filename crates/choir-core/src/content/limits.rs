//! How long a fault must last until it is told, and where its limits are. A line may have others
//! in the sheet.

use super::SILENT_DBFS;
use std::time::Duration;

/// What is watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Watched {
    /// Black pictures.
    Black,
    /// Pictures of one colour.
    Flat,
    /// Colour bars.
    Bars,
    /// Pictures that do not change.
    Frozen,
    /// No sound at all.
    Silence,
    /// One channel without sound.
    Channel,
    /// Sound at full scale.
    Clipping,
    /// Channels that cancel each other out.
    Phase,
    /// Sound and picture apart.
    Apart,
}

/// All of them, in the order in which faults are told.
pub const WATCHED: [Watched; 9] = [
    Watched::Black,
    Watched::Flat,
    Watched::Bars,
    Watched::Frozen,
    Watched::Silence,
    Watched::Channel,
    Watched::Clipping,
    Watched::Phase,
    Watched::Apart,
];

impl Watched {
    /// As the sheet writes it.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::Black => "black",
            Self::Flat => "flat",
            Self::Bars => "bars",
            Self::Frozen => "frozen",
            Self::Silence => "silence",
            Self::Channel => "channel",
            Self::Clipping => "clipping",
            Self::Phase => "phase",
            Self::Apart => "apart",
        }
    }

    /// Told after so long: soon enough to act, late enough for a cut or a pause between words.
    const fn usual_hold(self) -> Duration {
        Duration::from_millis(match self {
            Self::Black | Self::Flat | Self::Bars => 900,
            Self::Clipping => 800,
            Self::Frozen | Self::Silence | Self::Channel | Self::Phase | Self::Apart => 1500,
        })
    }
}

/// When the content of a line counts as faulty.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ContentLimits {
    /// `None`: not watched.
    holds: [Option<Duration>; WATCHED.len()],
    /// Peaks below this are silence, dBFS.
    pub silence_dbfs: f64,
    /// Sound and picture may come so far apart, ms.
    pub apart_ms: i32,
}

impl Default for ContentLimits {
    fn default() -> Self {
        Self { holds: WATCHED.map(|w| Some(w.usual_hold())), silence_dbfs: SILENT_DBFS, apart_ms: 700 }
    }
}

impl ContentLimits {
    /// Told after so long; `None` if it is not watched.
    #[must_use]
    pub fn hold(&self, what: Watched) -> Option<Duration> {
        self.holds[what as usize]
    }

    /// Tells it after so long, or never.
    pub fn set_hold(&mut self, what: Watched, hold: Option<Duration>) {
        self.holds[what as usize] = hold;
    }
}
