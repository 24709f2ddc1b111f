//! `[keys]`: what keys of the live view and of the steering panel do in this show.

use super::RotaOrder;
use std::fmt;

/// A key, and what it does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyOrder {
    /// `F1` to `F12`.
    pub key: String,
    /// What it does.
    pub order: Order,
}

/// An order in the words of the command line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Order {
    /// Put a line on a feed; without one, what comes next.
    Take {
        /// Feed.
        feed: String,
        /// Line.
        line: Option<String>,
    },
    /// Say what comes next.
    Next {
        /// Feed.
        feed: String,
        /// Line.
        line: String,
    },
    /// Tell a rota something.
    Rota {
        /// Its name.
        name: String,
        /// What.
        order: RotaOrder,
    },
    /// Show one line alone on a wall, or all.
    Wall {
        /// The wall.
        wall: String,
        /// The line.
        line: Option<String>,
    },
    /// Send a camera to a preset.
    Preset {
        /// Device.
        device: String,
        /// Number or name.
        preset: String,
    },
}

/// What orders look like.
pub const ORDERS: &str =
    "Allowed: take FEED [LINE], next FEED LINE, rota start|pause|skip|stop NAME, wall WALL [LINE], ptz DEVICE goto PRESET.";

impl Order {
    /// Reads one.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let words: Vec<&str> = text.split_whitespace().collect();
        let own = |text: &str| text.to_owned();
        Some(match words[..] {
            ["take", feed] => Self::Take { feed: own(feed), line: None },
            ["take", feed, line] => Self::Take { feed: own(feed), line: Some(own(line)) },
            ["next", feed, line] => Self::Next { feed: own(feed), line: own(line) },
            ["rota", order, name] => Self::Rota { name: own(name), order: RotaOrder::from_word(order)? },
            ["wall", wall] => Self::Wall { wall: own(wall), line: None },
            ["wall", wall, line] => Self::Wall { wall: own(wall), line: Some(own(line)) },
            ["ptz", device, "goto", preset] => Self::Preset { device: own(device), preset: own(preset) },
            _ => return None,
        })
    }
}

impl Order {
    /// The line that it puts on this feed, or says to come next on it.
    #[must_use]
    pub fn puts_on(&self, on: &str) -> Option<&String> {
        match self {
            Self::Take { feed, line: Some(line) } | Self::Next { feed, line } if feed == on => Some(line),
            _ => None,
        }
    }
}

impl fmt::Display for Order {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Take { feed, line: None } => write!(f, "take {feed}"),
            Self::Take { feed, line: Some(line) } => write!(f, "take {feed} {line}"),
            Self::Next { feed, line } => write!(f, "next {feed} {line}"),
            Self::Rota { name, order } => write!(f, "rota {} {name}", order.word()),
            Self::Wall { wall, line: None } => write!(f, "wall {wall}"),
            Self::Wall { wall, line: Some(line) } => write!(f, "wall {wall} {line}"),
            Self::Preset { device, preset } => write!(f, "ptz {device} goto {preset}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_are_read_as_they_are_written() {
        for text in [
            "take desk",
            "take desk dock",
            "next desk dock",
            "rota skip intervals",
            "rota start intervals",
            "wall truck",
            "wall truck dock",
            "ptz crane goto 3",
        ] {
            assert_eq!(Order::parse(text).map(|o| o.to_string()).as_deref(), Some(text));
        }
        for text in ["", "take", "rota run intervals", "ptz crane 3", "stop", "take a b c"] {
            assert_eq!(Order::parse(text), None, "{text}");
        }
    }
}
