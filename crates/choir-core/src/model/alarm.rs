//! `[alarm]`: when trouble becomes an alarm, for the show and for single lines and feeds, and who
//! is told.

use crate::{secret::Secret, units::Bitrate};
use std::{fmt, time::Duration};

/// What a limit is set on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Measure {
    /// Packets lost on the path, before repair.
    Loss,
    /// Packets missing after repair.
    Missing,
    /// Least headroom.
    Headroom,
    /// Round-trip time.
    Rtt,
    /// Variation of the time on the way.
    Jitter,
    /// Media rate.
    Rate,
}

/// All of them, in the order in which they are documented.
pub const MEASURES: [Measure; 6] = [Measure::Loss, Measure::Missing, Measure::Headroom, Measure::Rtt, Measure::Jitter, Measure::Rate];

impl Measure {
    /// As the sheet writes it.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::Loss => "loss",
            Self::Missing => "missing",
            Self::Headroom => "headroom",
            Self::Rtt => "rtt",
            Self::Jitter => "jitter",
            Self::Rate => "rate",
        }
    }

    /// Too little of it is the trouble, not too much.
    #[must_use]
    pub const fn is_least(self) -> bool {
        matches!(self, Self::Headroom | Self::Rate)
    }

    /// A value with its unit: a share of 1, ms, or bits per second.
    #[must_use]
    pub fn say(self, value: f64) -> String {
        match self {
            Self::Loss | Self::Missing => format!("{:.1} %", value * 100.0),
            Self::Headroom | Self::Rtt | Self::Jitter => format!("{value:.0} ms"),
            Self::Rate => Bitrate(value.max(0.0) as u64).to_string(),
        }
    }
}

impl fmt::Display for Measure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Loss => "loss on the path",
            Self::Missing => "loss after repair",
            Self::Headroom => "headroom",
            Self::Rtt => "round trip",
            Self::Jitter => "jitter",
            Self::Rate => "rate",
        })
    }
}

/// What `[alarm]` and the `alarm` of a line or feed say; what they do not say is left to the more
/// general one.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct AlarmWish {
    /// How long somebody may be waited for; `Some(None)`: for ever.
    pub waiting: Option<Option<Duration>>,
    /// How long a way may be strained.
    pub strained: Option<Option<Duration>>,
    /// How long a way may be broken.
    pub broken: Option<Option<Duration>>,
    /// How long a limit may be passed.
    pub limits: Option<Option<Duration>>,
    /// How long all must be well before an alarm is over.
    pub clear: Option<Duration>,
    /// How far a value must come back from its limit, as a share of it, 0 to 1.
    pub hysteresis: Option<f64>,
    /// Limits; `Some(None)`: none.
    pub limit: [Option<Option<f64>>; MEASURES.len()],
}

impl AlarmWish {
    /// No alarm at all.
    #[must_use]
    pub fn off() -> Self {
        Self { waiting: Some(None), strained: Some(None), broken: Some(None), limits: Some(None), ..Self::default() }
    }
}

/// When trouble becomes an alarm.
#[derive(Debug, Clone, PartialEq)]
pub struct AlarmRules {
    /// How long somebody may be waited for; `None`: for ever, as with the next ones.
    pub waiting: Option<Duration>,
    /// How long a way may be strained.
    pub strained: Option<Duration>,
    /// How long a way may be broken.
    pub broken: Option<Duration>,
    /// How long a limit may be passed.
    pub limits: Option<Duration>,
    /// How long all must be well before an alarm is over.
    pub clear: Duration,
    hysteresis: f64,
    limit: [Option<f64>; MEASURES.len()],
}

impl Default for AlarmRules {
    fn default() -> Self {
        Self {
            waiting: None,
            strained: Some(Duration::from_secs(10)),
            broken: Some(Duration::from_secs(2)),
            limits: Some(Duration::from_secs(5)),
            clear: Duration::from_secs(5),
            hysteresis: 0.2,
            limit: [None; MEASURES.len()],
        }
    }
}

impl AlarmRules {
    /// These, and where the wish says something, that.
    #[must_use]
    pub fn with(mut self, wish: &AlarmWish) -> Self {
        self.waiting = wish.waiting.unwrap_or(self.waiting);
        self.strained = wish.strained.unwrap_or(self.strained);
        self.broken = wish.broken.unwrap_or(self.broken);
        self.limits = wish.limits.unwrap_or(self.limits);
        self.clear = wish.clear.unwrap_or(self.clear);
        self.hysteresis = wish.hysteresis.unwrap_or(self.hysteresis);
        for (own, wished) in self.limit.iter_mut().zip(wish.limit) {
            *own = wished.unwrap_or(*own);
        }
        self
    }

    /// The limit of a measure that a value passes; one that was passed already must be come back
    /// from by more than the limit.
    #[must_use]
    pub fn passed(&self, measure: Measure, value: f64, already: bool) -> Option<f64> {
        let limit = self.limit[measure as usize]?;
        let give = if already { self.hysteresis } else { 0.0 };
        let passed = if measure.is_least() { value < limit * (1.0 + give) } else { value > limit * (1.0 - give) };
        passed.then_some(limit)
    }
}

/// So many ways of one network at once are one alarm.
const TOGETHER: usize = 4;

/// `[alarm]`.
#[derive(Debug, Clone, PartialEq)]
pub struct AlarmSettings {
    /// When.
    pub wish: AlarmWish,
    /// From how many ways of one network on they are one alarm; `None`: never.
    pub together: Option<usize>,
    /// The address that each alarm is posted to, whole: it may hold a secret.
    pub webhook: Option<Secret>,
    /// The program that each alarm is given to, and its arguments.
    pub command: Vec<String>,
    /// The live view rings the terminal's bell.
    pub bell: bool,
    /// The live view asks the terminal for a desktop notification.
    pub desktop: bool,
}

impl Default for AlarmSettings {
    fn default() -> Self {
        Self { wish: AlarmWish::default(), together: Some(TOGETHER), webhook: None, command: Vec::new(), bell: true, desktop: false }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_has_the_last_word() {
        let s = Duration::from_secs;
        let show = AlarmWish { broken: Some(Some(s(1))), hysteresis: Some(0.5), ..AlarmWish::default() };
        let line = AlarmWish { strained: Some(None), ..AlarmWish::default() };
        let rules = AlarmRules::default().with(&show).with(&line);
        assert_eq!((rules.broken, rules.strained, rules.waiting), (Some(s(1)), None, None));
        assert_eq!(AlarmRules::default().strained, Some(s(10)));
        let off = AlarmRules::default().with(&AlarmWish::off());
        assert!([off.waiting, off.strained, off.broken, off.limits].iter().all(Option::is_none));
    }

    #[test]
    fn a_limit_once_passed_must_be_left_by_more() {
        let mut wish = AlarmWish::default();
        wish.limit[Measure::Loss as usize] = Some(Some(0.05));
        wish.limit[Measure::Headroom as usize] = Some(Some(20.0));
        let rules = AlarmRules::default().with(&wish);
        for (measure, value, already, passed) in [
            (Measure::Loss, 0.051, false, true),
            (Measure::Loss, 0.045, false, false),
            (Measure::Loss, 0.045, true, true),
            (Measure::Loss, 0.039, true, false),
            (Measure::Headroom, 19.0, false, true),
            (Measure::Headroom, 22.0, false, false),
            (Measure::Headroom, 22.0, true, true),
            (Measure::Headroom, 25.0, true, false),
            (Measure::Rtt, 9000.0, false, false),
        ] {
            assert_eq!(rules.passed(measure, value, already).is_some(), passed, "{measure} {value} {already}");
        }
    }
}
