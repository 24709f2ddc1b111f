//! Devices: what the sheet wants of them, what they have, and what differs.

mod compare;
mod new;
mod view;

pub use compare::{Difference, Impossible, Measured, differences, impossible, on_the_wire};
pub use new::{NewDevice, device_name};
pub use view::{DeviceView, InputState, NetworkView, PresetView, StreamOptions, StreamView};

use crate::{secret::Secret, units::Bitrate};
use std::{
    collections::BTreeMap,
    fmt,
    net::{IpAddr, Ipv4Addr},
};

/// How a device is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Control {
    /// ONVIF.
    Onvif,
    /// VISCA over IP, with its header on UDP.
    Visca,
    /// VISCA, bare, by TCP.
    ViscaTcp,
    /// VISCA, bare, by UDP.
    ViscaUdp,
    /// Not at all: by hand.
    Manual,
}

impl Control {
    /// All with their words.
    pub const WORDS: [(&'static str, Self); 5] = [
        ("onvif", Self::Onvif),
        ("visca", Self::Visca),
        ("visca-tcp", Self::ViscaTcp),
        ("visca-udp", Self::ViscaUdp),
        ("manual", Self::Manual),
    ];
    /// Its word in the sheet.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::WORDS.iter().find(|(_, c)| *c == self).map_or("", |(w, _)| w)
    }
    /// It has a word for the tally lamp.
    #[must_use]
    pub const fn has_tally(self) -> bool {
        matches!(self, Self::Visca | Self::ViscaTcp | Self::ViscaUdp)
    }
    /// From its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|(w, _)| *w == word).map(|(_, c)| *c)
    }
}

/// What a device can be.
pub const KINDS: [&str; 5] = ["camera", "encoder", "field-unit", "gateway", "switcher"];
/// The streams that a sheet can want.
pub const STREAMS: [&str; 2] = ["main", "sub"];

/// Where a device's sound can come from; `none`: nothing is plugged in.
pub const AUDIO_INPUTS: [&str; 4] = ["line", "microphone", "embedded", "none"];

/// `[[device]]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Device {
    /// Short name.
    pub name: String,
    /// For people.
    pub title: String,
    /// One of [`KINDS`].
    pub kind: String,
    /// Where it is spoken to.
    pub address: IpAddr,
    /// Port of its control, when not the usual one.
    pub port: Option<u16>,
    /// How it is spoken to.
    pub control: Control,
    /// Camera number on a bare VISCA chain.
    pub camera: u8,
    /// Who asks.
    pub user: Option<String>,
    /// Its password.
    pub password: Option<Secret>,
    /// Wanted network settings.
    pub network: Option<NetworkWish>,
    /// Wanted streams by name: `main`, `sub`.
    pub streams: BTreeMap<String, StreamWish>,
    /// Networks that its control crosses besides the one that holds its address.
    pub via: Vec<String>,
    /// Names of presets, by number, for a protocol that has none.
    pub presets: BTreeMap<u8, String>,
    /// Times that its lens brings closer, from wide to tele, as its data sheet says.
    pub zoom: u32,
    /// By which protocol its tally lamp follows the lines that it feeds.
    pub tally: Option<Control>,
}

impl Device {
    /// Port of its control by a protocol: the one in the sheet is that of the sheet's protocol.
    #[must_use]
    pub fn port_for(&self, by: Control) -> Option<u16> {
        self.port.filter(|_| by == self.control)
    }

    /// The lines that its streams feed.
    pub fn lines(&self) -> impl Iterator<Item = &str> {
        self.streams.values().filter_map(|s| s.line.as_deref())
    }
}

/// Wanted network settings.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NetworkWish {
    /// An address from a server.
    Dhcp,
    /// A fixed one.
    Static {
        /// Address.
        ip: Ipv4Addr,
        /// Prefix length.
        prefix: u8,
        /// Gateway.
        gateway: Option<Ipv4Addr>,
    },
}

/// Distance from keyframe to keyframe: engineers say seconds, devices want frames.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Keyframe {
    /// Seconds.
    Seconds(f64),
    /// Frames.
    Frames(u32),
}

impl Keyframe {
    /// In frames at this rate, at least 1.
    #[must_use]
    pub fn frames(self, rate: f64) -> u32 {
        match self {
            Self::Frames(n) => n.max(1),
            Self::Seconds(s) => ((s * rate).round() as u32).max(1),
        }
    }
}

/// Whether the bitrate is held constant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RateControl {
    /// Constant.
    Constant,
    /// Variable, up to the bitrate.
    Variable,
}

impl fmt::Display for RateControl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if *self == Self::Constant { "cbr" } else { "vbr" })
    }
}

/// Wanted sound.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sound {
    /// None.
    Off,
    /// Any.
    On,
    /// This codec: `aac` or `g711`.
    Codec(String),
}

impl fmt::Display for Sound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Off => "off",
            Self::On => "on",
            Self::Codec(c) => c,
        })
    }
}

/// What is wanted of one stream. What is not said is left as it is.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StreamWish {
    /// Which input it takes.
    pub input: Option<String>,
    /// `h264` or `h265`.
    pub codec: Option<String>,
    /// `baseline`, `main`, `high`.
    pub profile: Option<String>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub rate: Option<f64>,
    /// Bitrate of the picture.
    pub bitrate: Option<Bitrate>,
    /// Constant or variable.
    pub rate_control: Option<RateControl>,
    /// From keyframe to keyframe.
    pub keyframe: Option<Keyframe>,
    /// Sound.
    pub audio: Option<Sound>,
    /// What its sound is plugged into: one of [`AUDIO_INPUTS`].
    pub audio_input: Option<String>,
    /// Group and port that it can be heard at; the outer `Some` with an inner `None` wants none.
    pub multicast: Option<Option<(Ipv4Addr, u16)>>,
    /// The sheet's line that this stream feeds: where a device without control is proved.
    pub line: Option<String>,
}

impl StreamWish {
    /// This one, and where it says nothing, the other.
    #[must_use]
    pub fn over(self, base: &Self) -> Self {
        let b = base.clone();
        Self {
            input: self.input.or(b.input),
            codec: self.codec.or(b.codec),
            profile: self.profile.or(b.profile),
            size: self.size.or(b.size),
            rate: self.rate.or(b.rate),
            bitrate: self.bitrate.or(b.bitrate),
            rate_control: self.rate_control.or(b.rate_control),
            keyframe: self.keyframe.or(b.keyframe),
            audio: self.audio.or(b.audio),
            audio_input: self.audio_input.or(b.audio_input),
            multicast: self.multicast.or(b.multicast),
            line: self.line.or(b.line),
        }
    }
}

/// Passwords that devices leave the factory with, or that everybody tries first. Lower case.
const FACTORY_PASSWORDS: [&str; 24] = [
    "",
    "admin",
    "administrator",
    "password",
    "passw0rd",
    "1234",
    "12345",
    "123456",
    "1234567",
    "12345678",
    "123456789",
    "0000",
    "1111",
    "111111",
    "root",
    "user",
    "default",
    "camera",
    "guest",
    "operator",
    "admin123",
    "admin1234",
    "9999",
    "qwerty",
];
/// Fewer characters are guessed.
const PASSWORD_MIN: usize = 8;
/// ONVIF Core, 8.4: longer ones may be refused.
const PASSWORD_MAX: usize = 63;

/// Why this is no password for a device; `None` when it is one.
#[must_use]
pub fn password_problem(user: &str, password: &str) -> Option<&'static str> {
    let lower = password.to_lowercase();
    if FACTORY_PASSWORDS.contains(&lower.as_str()) {
        return Some("devices leave the factory with this password. Choose one of your own.");
    }
    if lower == user.to_lowercase() {
        return Some("the password is the user's name. Choose another one.");
    }
    if password.chars().count() < PASSWORD_MIN {
        return Some("the password has fewer than 8 characters. Choose a longer one.");
    }
    if password.len() > PASSWORD_MAX {
        return Some("the password has more than 63 characters, which devices refuse. Choose a shorter one.");
    }
    password.chars().any(char::is_control).then_some("the password has a control character. Choose another one.")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keyframes_in_seconds_become_frames_and_factory_passwords_none() {
        assert_eq!(Keyframe::Seconds(2.0).frames(25.0), 50);
        assert_eq!(Keyframe::Seconds(1.0).frames(29.97), 30);
        assert_eq!((Keyframe::Seconds(0.001).frames(25.0), Keyframe::Frames(0).frames(25.0)), (1, 1));
        for bad in ["Admin", "12345678", "", "regatta1", "short", &"x".repeat(64), "tab\tinside it"] {
            assert!(password_problem("Regatta1", bad).is_some(), "{bad}");
        }
        assert_eq!(password_problem("desk", "four oars and a cox"), None);
        assert!(Control::WORDS.iter().all(|(w, c)| Control::from_word(w) == Some(*c) && c.word() == *w));
    }
}
