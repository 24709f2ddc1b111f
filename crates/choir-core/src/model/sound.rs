//! `sound` of a feed.

use std::{fmt, time::Duration};

/// Where a feed's sound comes from, and how much later than it comes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FeedSound {
    /// Where from.
    pub from: SoundOf,
    /// Later by this.
    pub delay: Duration,
}

/// Where a feed's sound comes from.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum SoundOf {
    /// From the line that is on.
    #[default]
    Picture,
    /// From this line, whatever is on.
    Line(String),
    /// There is none.
    Off,
}

impl FeedSound {
    /// Longest delay.
    pub const DELAY_MOST: Duration = Duration::from_secs(2);
}

impl fmt::Display for FeedSound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.from {
            SoundOf::Picture => f.write_str("of the picture")?,
            SoundOf::Line(name) => write!(f, "of {name}")?,
            SoundOf::Off => return f.write_str("off"),
        }
        if self.delay.is_zero() { Ok(()) } else { write!(f, ", {} ms later", self.delay.as_millis()) }
    }
}
