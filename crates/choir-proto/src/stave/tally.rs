//! Who shows what: the tally of all receivers of a source as one.

use std::collections::BTreeMap;

/// What a receiver does with a source; the later the stronger.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Tally {
    /// Nothing that concerns those before the camera.
    #[default]
    Off,
    /// It is next.
    Next,
    /// It is on air.
    OnAir,
}

impl Tally {
    /// As people say it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Next => "next",
            Self::OnAir => "on air",
        }
    }
}

/// What each receiver has said of one source.
#[derive(Debug, Clone, Default)]
pub struct TallyBook {
    said: BTreeMap<u64, Tally>,
}

impl TallyBook {
    /// Notes what a receiver says; gives the strongest when it has changed.
    pub fn say(&mut self, receiver: u64, tally: Tally) -> Option<Tally> {
        let before = self.strongest();
        match tally {
            Tally::Off => self.said.remove(&receiver),
            t => self.said.insert(receiver, t),
        };
        let now = self.strongest();
        (now != before).then_some(now)
    }

    /// A receiver that is gone shows nothing.
    pub fn leave(&mut self, receiver: u64) -> Option<Tally> {
        self.say(receiver, Tally::Off)
    }

    /// On air if any says so, else next if any does.
    #[must_use]
    pub fn strongest(&self) -> Tally {
        self.said.values().copied().max().unwrap_or_default()
    }
}
