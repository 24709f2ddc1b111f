//! One link's settings: as the URL that the trade pastes around, and as the fields of a patch sheet.

mod fields;
mod url;

pub use fields::{Field, Problem, Value, from_fields};
pub use url::{parse_url, redact, show_url};

use crate::{secret::Secret, units::Bitrate};
use std::{net::IpAddr, path::PathBuf, time::Duration};

/// Latency of a link that does not say, and of a show that does not either.
pub const DEFAULT_LATENCY: Duration = Duration::from_millis(120);

/// Which end calls.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mode {
    /// This end calls.
    Caller,
    /// This end waits to be called.
    Listener,
    /// Both ends call each other.
    Rendezvous,
}

impl Mode {
    /// The words allowed.
    pub const WORDS: [&'static str; 3] = ["caller", "listener", "rendezvous"];
    /// The word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Caller => "caller",
            Self::Listener => "listener",
            Self::Rendezvous => "rendezvous",
        }
    }
    fn from_word(word: &str) -> Option<Self> {
        match word {
            "caller" => Some(Self::Caller),
            "listener" => Some(Self::Listener),
            "rendezvous" => Some(Self::Rendezvous),
            _ => None,
        }
    }
}

/// An SRT link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SrtLink {
    /// Which end calls.
    pub mode: Mode,
    /// Whom to call, or the own address to listen at. A listener without one listens at all.
    pub host: Option<String>,
    /// Port there.
    pub port: u16,
    /// Own address for a caller or rendezvous.
    pub bind: Option<(IpAddr, Option<u16>)>,
    /// Latency asked for.
    pub latency: Option<Duration>,
    /// Passphrase; with one the link is encrypted.
    pub passphrase: Option<Secret>,
    /// 128, 192 or 256.
    pub key_bits: Option<u16>,
    /// Sent by a caller, demanded by a listener.
    pub stream_id: Option<String>,
    /// Room above the input for retransmissions, percent.
    pub overhead: Option<u16>,
    /// Fixed ceiling instead.
    pub ceiling: Option<Bitrate>,
}

/// Transport stream in UDP datagrams.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UdpLink {
    /// Where to send to, or the own address to receive at; none receives at all.
    pub host: Option<String>,
    /// Port.
    pub port: u16,
}

/// A transport stream file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileLink {
    /// Its path; none is standard input or output.
    pub path: Option<PathBuf>,
    /// Start again at the end.
    pub repeat: bool,
}

/// One end of a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Link {
    /// SRT.
    Srt(SrtLink),
    /// UDP.
    Udp(UdpLink),
    /// File.
    File(FileLink),
}

impl Link {
    /// The SRT settings, if it is one.
    #[must_use]
    pub fn srt(&self) -> Option<&SrtLink> {
        match self {
            Self::Srt(s) => Some(s),
            _ => None,
        }
    }
}

/// Splits `host:port` with brackets round an IPv6 address; either part may be missing.
pub(crate) fn split_authority(text: &str) -> (&str, Option<&str>) {
    if let Some(rest) = text.strip_prefix('[')
        && let Some((host, after)) = rest.split_once(']')
    {
        return (host, after.strip_prefix(':'));
    }
    match text.rsplit_once(':') {
        Some((host, port)) => (host, Some(port)),
        None => (text, None),
    }
}
