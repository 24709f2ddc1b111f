//! What a patch sheet says, as values, and how two of them differ.

mod alarm;
mod change;
mod confirm;
mod encode;
mod keys;
mod pattern;
mod record;
mod rota;
mod sound;
mod standby;

pub use alarm::{AlarmRules, AlarmSettings, AlarmWish, MEASURES, Measure};
pub use change::{Change, Difference};
pub use confirm::Confirm;
pub use encode::{Corner, Encode, Overlay, Shows, WayOut};
pub use keys::{KeyOrder, ORDERS, Order};
pub use pattern::Pattern;
pub use record::{RecordPlan, RecordSettings};
pub use rota::{Lasts, Rota, RotaOrder, RotaStep};
pub use sound::{FeedSound, SoundOf};
pub use standby::{SLATE, Standby};

use crate::{
    advice::PathFacts,
    content::ContentLimits,
    device::{Device, Keyframe, Sound, StreamWish},
    limits,
    link::{DEFAULT_LATENCY, Link, Mode},
    network::{Network, crossed, path_over},
    stave::StaveSettings,
    units::{Bitrate, say_rate, say_size},
};
use serde::{Deserialize, Serialize};
use std::{fmt, net::IpAddr, time::Duration};

/// The whole sheet.
#[derive(Debug, Clone, PartialEq)]
pub struct Sheet {
    /// `[show]`.
    pub show: Show,
    /// `[[line]]`, in order.
    pub lines: Vec<Line>,
    /// `[[feed]]`, in order.
    pub feeds: Vec<Feed>,
    /// `[[device]]`, in order; rows are written out.
    pub devices: Vec<Device>,
    /// `[[rota]]`, in order.
    pub rotas: Vec<Rota>,
    /// `[keys]`.
    pub keys: Vec<KeyOrder>,
    /// `[pattern.NAME]`.
    pub patterns: Vec<Pattern>,
    /// `[[network]]`, in order.
    pub networks: Vec<Network>,
    /// `[stave]`.
    pub stave: StaveSettings,
    /// `[alarm]`.
    pub alarm: AlarmSettings,
    /// What is recorded from the start on.
    pub record: RecordPlan,
}

impl Sheet {
    /// A show of one line and one feed that carries it, called `in` and `out`. Nobody looks at its
    /// pictures, and nothing is an alarm: whoever runs it is there.
    #[must_use]
    pub fn of_one(name: &str, from: Link, to: Vec<Link>) -> Self {
        let line = Line {
            name: "in".into(),
            title: "in".into(),
            from,
            expect: Expect::default(),
            far: None,
            via: Vec::new(),
            path: None,
            sub: None,
            watch: ContentLimits::default(),
            alarm: AlarmWish::default(),
        };
        let feed = Feed {
            name: "out".into(),
            title: "out".into(),
            line: "in".into(),
            to: to.into_iter().map(WayOut::from).collect(),
            takes: Vec::new(),
            standby: None,
            at_once: false,
            sound: FeedSound::default(),
            accepts: Accepts::default(),
            far: Vec::new(),
            via: Vec::new(),
            confirm: None,
            alarm: AlarmWish::default(),
        };
        let show = Show { name: name.into(), pictures: LookBudget::OFF, ..Show::blank() };
        Self {
            show,
            lines: vec![line],
            feeds: vec![feed],
            devices: Vec::new(),
            rotas: Vec::new(),
            keys: Vec::new(),
            patterns: Vec::new(),
            networks: Vec::new(),
            stave: StaveSettings::default(),
            alarm: AlarmSettings { wish: AlarmWish::off(), ..AlarmSettings::default() },
            record: RecordPlan::default(),
        }
    }

    /// The line of this name.
    #[must_use]
    pub fn line(&self, name: &str) -> Option<&Line> {
        self.lines.iter().find(|l| l.name == name)
    }

    /// The lines that a feed may carry, that of the start first, each once: also those that rotas
    /// and keys put on it.
    #[must_use]
    pub fn lines_of(&self, feed: &Feed) -> Vec<&Line> {
        let mut lines: Vec<&Line> = Vec::new();
        let by_rota = self.rotas.iter().filter(|r| r.feed == feed.name).flat_map(|r| r.steps.iter().map(|s| &s.line));
        let by_key = self.keys.iter().filter_map(|k| k.order.puts_on(&feed.name));
        for line in feed.may_carry().chain(by_rota).chain(by_key).filter_map(|n| self.line(n)) {
            if lines.iter().all(|l| l.name != line.name) {
                lines.push(line);
            }
        }
        lines
    }

    /// The device and the name of its stream that a line carries, where the sheet says so.
    #[must_use]
    pub fn source_of(&self, line: &str) -> Option<(&Device, &str, &StreamWish)> {
        self.devices.iter().find_map(|d| d.streams.iter().find(|(_, w)| w.line.as_deref() == Some(line)).map(|(s, w)| (d, s.as_str(), w)))
    }

    /// What a line should bring: its own words, and where it has none those of the device's stream.
    #[must_use]
    pub fn wanted(&self, line: &Line) -> Expect {
        let own = line.expect.clone();
        match self.source_of(&line.name) {
            Some((_, _, wish)) => own.over(Expect::of(wish)),
            None => own,
        }
    }

    /// When trouble of a line or feed with this wish becomes an alarm.
    #[must_use]
    pub fn alarm_rules(&self, own: &AlarmWish) -> AlarmRules {
        AlarmRules::default().with(&self.alarm.wish).with(own)
    }

    /// The networks that a line crosses.
    #[must_use]
    pub fn line_crosses(&self, line: &Line) -> Vec<&Network> {
        crossed(&self.networks, &line.via, &self.addresses(&line.from), false)
    }

    /// The networks that one of a feed's destinations crosses.
    #[must_use]
    pub fn feed_crosses(&self, feed: &Feed, to: &Link) -> Vec<&Network> {
        crossed(&self.networks, &feed.via, &self.addresses(to), true)
    }

    /// The addresses that a link names; one by a name goes by this machine's own on that network.
    fn addresses(&self, link: &Link) -> Vec<IpAddr> {
        let own = self.stave.address.filter(|ip| matches!(link, Link::Stave(_)) && !ip.is_unspecified());
        link.addresses().into_iter().chain(own).collect()
    }

    /// What is known of a line's path.
    #[must_use]
    pub fn line_path(&self, line: &Line) -> Option<PathFacts> {
        line.path.or_else(|| path_over(&self.line_crosses(line)))
    }

    /// The address that the far end of a line or feed knows this machine by: the public one where a
    /// crossed network translates addresses, else that of the link itself, else the show's.
    #[must_use]
    pub fn own_address(&self, crossed: &[&Network], link: &Link) -> Option<String> {
        let public = crossed.iter().filter(|n| n.nat).find_map(|n| n.public_address.clone());
        let own = match link {
            Link::Srt(s) if s.mode == Mode::Listener => s.host.clone(),
            Link::Srt(s) => s.bind.map(|b| b.0.to_string()),
            Link::Udp(u) => u.interface.map(|i| i.to_string()),
            Link::Rtp(r) => r.interface.map(|i| i.to_string()),
            Link::Rtsp(r) => r.host.clone(),
            Link::Rtmp(r) => r.host.clone().filter(|_| r.listens),
            Link::Stave(_) | Link::File(_) | Link::Wall(_) => None,
        };
        let own = own.filter(|h| h.parse::<std::net::IpAddr>().map_or(true, |ip| !ip.is_unspecified()));
        public.or(own).or_else(|| self.show.address.clone())
    }
}

/// An entry of the sheet that is opened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "kind", content = "name")]
pub enum Entry {
    /// `[[line]]` of this name.
    Line(String),
    /// `[[feed]]` of this name.
    Feed(String),
    /// `[stave]`.
    Stave,
}

impl fmt::Display for Entry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Line(name) => write!(f, "line {name}"),
            Self::Feed(name) => write!(f, "feed {name}"),
            Self::Stave => f.write_str("[stave]"),
        }
    }
}

/// `[show]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Show {
    /// Shown everywhere.
    pub name: String,
    /// Latency of links that do not say.
    pub latency: Duration,
    /// Longest latency that the show can bear.
    pub latency_limit: Option<Duration>,
    /// Frame rate of the show.
    pub rate: Option<f64>,
    /// Mains frequency on site, Hz: lamps flicker with it.
    pub mains: Option<u8>,
    /// This machine's address, as the far ends reach it.
    pub address: Option<String>,
    /// What looking at pictures and sound may take.
    pub pictures: LookBudget,
}

/// A share of one core.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LookBudget(u8);

impl LookBudget {
    /// Nobody looks.
    pub const OFF: Self = Self(0);

    /// So many percent.
    #[must_use]
    pub const fn percent(percent: u8) -> Self {
        Self(percent)
    }

    /// Of 1; 0 if nobody looks.
    #[must_use]
    pub fn share(self) -> f64 {
        f64::from(self.0) / 100.0
    }
}

impl Default for LookBudget {
    fn default() -> Self {
        Self::percent(10)
    }
}

impl Show {
    /// A show that says nothing.
    pub(crate) fn blank() -> Self {
        Self {
            name: String::new(),
            latency: DEFAULT_LATENCY,
            latency_limit: None,
            rate: None,
            mains: None,
            address: None,
            pictures: LookBudget::default(),
        }
    }
}

/// `[[line]]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// Short name, used in commands.
    pub name: String,
    /// For people.
    pub title: String,
    /// Where it comes from.
    pub from: Link,
    /// What is expected on it.
    pub expect: Expect,
    /// What the far end says that it is set to.
    pub far: Option<Link>,
    /// Networks that it crosses besides those that hold its addresses.
    pub via: Vec<String>,
    /// What is known of its path.
    pub path: Option<PathFacts>,
    /// The line that carries a small picture of the same.
    pub sub: Option<String>,
    /// When its pictures and sound count as faulty.
    pub watch: ContentLimits,
    /// When its trouble becomes an alarm, where that differs from `[alarm]`.
    pub alarm: AlarmWish,
}

/// What a line should carry.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Expect {
    /// `h264` or `h265`.
    pub codec: Option<String>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub rate: Option<f64>,
    /// Bitrate of the picture.
    pub bitrate: Option<Bitrate>,
    /// From keyframe to keyframe.
    pub keyframe: Option<Keyframe>,
    /// Whether there should be sound.
    pub audio: Option<bool>,
}

impl Expect {
    /// What a device's stream is to send.
    #[must_use]
    pub fn of(wish: &StreamWish) -> Self {
        Self {
            codec: wish.codec.clone(),
            size: wish.size,
            rate: wish.rate,
            bitrate: wish.bitrate,
            keyframe: wish.keyframe,
            audio: wish.audio.as_ref().map(|a| *a != Sound::Off),
        }
    }

    /// This one, and where it says nothing, the other.
    #[must_use]
    pub fn over(self, base: Self) -> Self {
        Self {
            codec: self.codec.or(base.codec),
            size: self.size.or(base.size),
            rate: self.rate.or(base.rate),
            bitrate: self.bitrate.or(base.bitrate),
            keyframe: self.keyframe.or(base.keyframe),
            audio: self.audio.or(base.audio),
        }
    }

    /// How the course of the media differs from it: its mean bitrate of some seconds, and ms from
    /// keyframe to keyframe at a frame rate. What is not known yet differs in nothing.
    #[must_use]
    pub fn drifts(&self, bitrate: Option<Bitrate>, keyframe_ms: Option<u32>, rate: Option<f64>) -> Vec<Mismatch> {
        let mut found = Vec::new();
        if let (Some(expected), Some(receiving)) = (self.bitrate, bitrate) {
            let share = receiving.0 as f64 / expected.0.max(1) as f64;
            if !limits::BITRATE_SHARE.contains(&share) {
                found.push(Mismatch::Bitrate { expected, receiving });
            }
        }
        if let (Some(wanted), Some(ms), Some(rate)) = (self.keyframe, keyframe_ms, rate.filter(|r| *r > 0.0)) {
            let expected_ms = f64::from(wanted.frames(rate)) * 1000.0 / rate;
            // An encoder may put one a frame early or late, and at a cut.
            let slack = expected_ms * limits::KEYFRAME_TOLERANCE + 1000.0 / rate;
            if (f64::from(ms) - expected_ms).abs() > slack {
                found.push(Mismatch::Keyframe { expected_ms: expected_ms as u32, receiving_ms: ms });
            }
        }
        found
    }

    /// How what is received differs from it. What is not known yet differs in nothing.
    #[must_use]
    pub fn differences(&self, codec: Option<&str>, size: Option<(u32, u32)>, rate: Option<f64>) -> Vec<Mismatch> {
        let mut found = Vec::new();
        if let (Some(wanted), Some(is)) = (&self.codec, codec)
            && is != wanted
        {
            found.push(Mismatch::Codec { expected: wanted.clone(), receiving: is.to_owned() });
        }
        if let (Some(expected), Some(receiving)) = (self.size, size)
            && receiving != expected
        {
            found.push(Mismatch::Size { expected, receiving });
        }
        if let (Some(expected), Some(receiving)) = (self.rate, rate)
            && (expected - receiving).abs() > expected * limits::RATE_TOLERANCE
        {
            found.push(Mismatch::Rate { expected, receiving });
        }
        found
    }
}

/// How media differs from what is expected.
#[derive(Debug, Clone, PartialEq)]
pub enum Mismatch {
    /// No picture at all.
    NoPicture,
    /// Another codec.
    Codec {
        /// `h264`.
        expected: String,
        /// What is received.
        receiving: String,
    },
    /// Another size, pixels.
    Size {
        /// Width and height.
        expected: (u32, u32),
        /// What is received.
        receiving: (u32, u32),
    },
    /// Another frame rate, per second.
    Rate {
        /// Expected.
        expected: f64,
        /// Received.
        receiving: f64,
    },
    /// Far less or more media.
    Bitrate {
        /// Of the picture.
        expected: Bitrate,
        /// Of all that comes.
        receiving: Bitrate,
    },
    /// Keyframes are further apart or closer, ms.
    Keyframe {
        /// From one to the next.
        expected_ms: u32,
        /// What is received.
        receiving_ms: u32,
    },
}

impl fmt::Display for Mismatch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoPicture => f.write_str("expected a picture, receiving none"),
            Self::Codec { expected, receiving } => write!(f, "expected {expected}, receiving {receiving}"),
            Self::Size { expected, receiving } => write!(f, "expected {}, receiving {}", say_size(*expected), say_size(*receiving)),
            Self::Rate { expected, receiving } => {
                write!(f, "expected {} frames per second, receiving {receiving:.2}", say_rate(*expected))
            }
            Self::Bitrate { expected, receiving } => {
                write!(f, "expected a bitrate of {expected}, receiving {receiving}: set it at the encoder, or in the sheet")
            }
            Self::Keyframe { expected_ms, receiving_ms } => {
                let secs = |ms: u32| f64::from(ms) / 1000.0;
                write!(
                    f,
                    "expected a keyframe every {:.1} s, receiving one every {:.1} s: set it at the encoder",
                    secs(*expected_ms),
                    secs(*receiving_ms)
                )
            }
        }
    }
}

/// `[[feed]]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Feed {
    /// Short name.
    pub name: String,
    /// For people.
    pub title: String,
    /// The line it carries at the start.
    pub line: String,
    /// Where it goes.
    pub to: Vec<WayOut>,
    /// The lines that will be taken on it; its own is always one.
    pub takes: Vec<String>,
    /// What stands in for its line when that fails.
    pub standby: Option<Standby>,
    /// Lines come on at once from their last keyframe, and the feed stays behind by its age.
    pub at_once: bool,
    /// Where its sound comes from.
    pub sound: FeedSound,
    /// What its destinations accept.
    pub accepts: Accepts,
    /// What the far ends say that they are set to, in the order of the destinations.
    pub far: Vec<Link>,
    /// Networks that destinations cross which no network holds.
    pub via: Vec<String>,
    /// Where its picture can be had back from.
    pub confirm: Option<Confirm>,
    /// When trouble of its ways out becomes an alarm, where that differs from `[alarm]`.
    pub alarm: AlarmWish,
}

impl Feed {
    /// The names of all lines that it may carry, that of the start first.
    pub fn may_carry(&self) -> impl Iterator<Item = &String> {
        let standby = self.standby.iter().flat_map(|s| &s.lines);
        std::iter::once(&self.line).chain(&self.takes).chain(standby)
    }

    /// How one of its ways out is called: by its name a feed may go out beside its other ways.
    #[must_use]
    pub fn way_out(&self, to: &Link) -> String {
        let by_name = if matches!(to, Link::Stave(_)) && self.to.len() > 1 { " by name" } else { "" };
        format!("feed {}{by_name}", self.name)
    }
}

/// What a switcher takes; an empty list takes anything.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Accepts {
    /// `h264`, `h265`.
    pub codecs: Vec<String>,
    /// Pixels.
    pub sizes: Vec<(u32, u32)>,
    /// Frames per second.
    pub rates: Vec<f64>,
}

impl Accepts {
    /// The codec is in the list.
    #[must_use]
    pub fn takes_codec(&self, codec: &str) -> bool {
        self.codecs.iter().any(|c| c == codec)
    }

    /// The size is in the list.
    #[must_use]
    pub fn takes_size(&self, size: (u32, u32)) -> bool {
        self.sizes.contains(&size)
    }

    /// The rate is in the list.
    #[must_use]
    pub fn takes_rate(&self, rate: f64) -> bool {
        self.rates.iter().any(|r| same_rate(*r, rate))
    }
}

/// Rates of pictures that nobody can tell apart: 29.97 and 30000/1001.
#[must_use]
pub fn same_rate(a: f64, b: f64) -> bool {
    (a - b).abs() <= 0.005
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bitrate_or_keyframe_far_from_the_expected_differs() {
        let expect = Expect { bitrate: Some(Bitrate(6_000_000)), keyframe: Some(Keyframe::Frames(50)), ..Expect::default() };
        let drifts = |bps, ms| expect.drifts(Some(Bitrate(bps)), Some(ms), Some(25.0)).len();
        assert_eq!(drifts(6_300_000, 2000), 0);
        assert_eq!(drifts(3_100_000, 1500), 0);
        assert_eq!(drifts(480_000, 2000), 1);
        assert_eq!(drifts(9_900_000, 2000), 1);
        assert_eq!(drifts(6_000_000, 9600), 1);
        assert_eq!(drifts(6_000_000, 1000), 1);
        assert_eq!(expect.drifts(None, None, None), []);
        assert_eq!(Expect::default().drifts(Some(Bitrate(1)), Some(1), Some(25.0)), []);
    }
}
