//! One link's settings: as the URL that the trade pastes around, and as the fields of a patch
//! sheet.

mod ends;
mod fields;
mod lan;
mod rtmp;
mod stave;
mod url;
mod wall;

pub use ends::{Clash, clashes, opposite, own_port};
pub use fields::{Field, Problem, Value, from_fields};
pub use rtmp::RtmpLink;
pub use stave::{StaveLink, group_place, name_problem as stave_name_problem};
pub use url::{names_secret, parse_url, redact, show_url, typed_password};
pub use wall::WallLink;

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
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UdpLink {
    /// Where to send to, the group to join, or the own address to receive at; none receives at all.
    pub host: Option<String>,
    /// Port.
    pub port: u16,
    /// Only packets from here, of a group.
    pub source: Option<IpAddr>,
    /// Own address by which a group is joined or sent to.
    pub interface: Option<IpAddr>,
    /// Routers that packets to a group may pass.
    pub ttl: Option<u8>,
}

/// RTP without a session: a transport stream, or what a session description says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RtpLink {
    /// As for UDP; with a description it may be left to that.
    pub host: Option<String>,
    /// Port of the transport stream.
    pub port: Option<u16>,
    /// Only packets from here, of a group.
    pub source: Option<IpAddr>,
    /// Own address by which a group is joined or sent to.
    pub interface: Option<IpAddr>,
    /// Routers that packets to a group may pass.
    pub ttl: Option<u8>,
    /// Session description.
    pub sdp: Option<PathBuf>,
    /// How long to wait for a missing packet.
    pub reorder: Option<Duration>,
    /// Pass on pictures with holes instead of waiting for the next keyframe.
    pub damaged: bool,
}

/// How RTSP brings its packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum RtspTransport {
    /// UDP, and the connection itself when nothing comes by it.
    #[default]
    Auto,
    /// UDP only.
    Udp,
    /// In the connection.
    Tcp,
    /// By a group.
    Multicast,
}

impl RtspTransport {
    /// The words allowed.
    pub const WORDS: [&'static str; 4] = ["auto", "udp", "tcp", "multicast"];

    /// The word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Auto => "auto",
            Self::Udp => "udp",
            Self::Tcp => "tcp",
            Self::Multicast => "multicast",
        }
    }

    fn from_word(word: &str) -> Option<Self> {
        [Self::Auto, Self::Udp, Self::Tcp, Self::Multicast].into_iter().find(|t| t.word() == word)
    }
}

/// RTSP: a camera that is pulled, or a feed that is served.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RtspLink {
    /// Whom to ask, or the own address to serve at; none serves at all.
    pub host: Option<String>,
    /// 554 to ask, 8554 to serve, unless given.
    pub port: Option<u16>,
    /// With its query, beginning with a slash; empty is none.
    pub path: String,
    /// User.
    pub user: Option<String>,
    /// The user's password.
    pub password: Option<Secret>,
    /// How packets travel.
    pub transport: RtspTransport,
    /// How long to wait for a missing packet.
    pub reorder: Option<Duration>,
    /// Pass on pictures with holes instead of waiting for the next keyframe.
    pub damaged: bool,
    /// Own address by which a group is joined or sent to.
    pub interface: Option<IpAddr>,
    /// Group that a served feed can also be heard at.
    pub group: Option<(IpAddr, u16)>,
    /// Routers that packets to the group may pass.
    pub ttl: Option<u8>,
}

impl RtspLink {
    /// Port at which a camera is asked, unless given.
    pub const ASK_PORT: u16 = 554;
    /// Port at which a feed is served, unless given.
    pub const SERVE_PORT: u16 = 8554;
}

/// A transport stream file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileLink {
    /// Its path; none is standard input or output.
    pub path: Option<PathBuf>,
    /// Start again at the end.
    pub repeat: bool,
    /// Play from the start at each take, instead of with the show.
    pub at_take: bool,
}

impl FileLink {
    /// Plays once, with the show; none is standard input or output.
    #[must_use]
    pub fn once(path: Option<PathBuf>) -> Self {
        Self { path, repeat: false, at_take: false }
    }
}

/// One end of a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Link {
    /// SRT.
    Srt(SrtLink),
    /// UDP.
    Udp(UdpLink),
    /// RTP.
    Rtp(RtpLink),
    /// RTSP.
    Rtsp(RtspLink),
    /// RTMP.
    Rtmp(RtmpLink),
    /// A named source on the LAN.
    Stave(StaveLink),
    /// File.
    File(FileLink),
    /// A picture made of other lines.
    Wall(WallLink),
}

impl Link {
    /// The same, with the latency of the show where it has none of its own.
    #[must_use]
    pub fn with_latency(&self, show: Duration) -> Self {
        match self {
            Self::Srt(s) => Self::Srt(SrtLink { latency: s.latency.or(Some(show)), ..s.clone() }),
            other => other.clone(),
        }
    }

    /// The SRT settings, if it is one.
    #[must_use]
    pub fn srt(&self) -> Option<&SrtLink> {
        match self {
            Self::Srt(s) => Some(s),
            _ => None,
        }
    }

    /// The addresses that it names: the other end's, or its own.
    #[must_use]
    pub fn addresses(&self) -> Vec<IpAddr> {
        let (host, own) = match self {
            Self::Srt(s) => (s.host.as_deref(), s.bind.map(|b| b.0)),
            Self::Udp(u) => (u.host.as_deref(), u.interface),
            Self::Rtp(r) => (r.host.as_deref(), r.interface),
            Self::Rtsp(r) => (r.host.as_deref(), r.interface),
            Self::Rtmp(r) => (r.host.as_deref(), None),
            Self::Stave(s) => return s.at().map(|a| a.ip()).into_iter().collect(),
            Self::File(_) | Self::Wall(_) => (None, None),
        };
        host.and_then(|h| h.parse().ok()).into_iter().chain(own).collect()
    }

    /// This end calls the other: by SRT as caller or in rendezvous, or it pulls by RTSP.
    #[must_use]
    pub fn calls(&self, inbound: bool) -> bool {
        match self {
            Self::Srt(s) => s.mode != Mode::Listener,
            Self::Rtmp(r) => !r.listens,
            Self::Rtsp(_) | Self::Stave(_) => inbound,
            Self::Udp(_) | Self::Rtp(_) | Self::File(_) | Self::Wall(_) => false,
        }
    }

    /// This end waits for the other: to be called, or for what is sent to it.
    #[must_use]
    pub fn waits(&self, inbound: bool) -> bool {
        match self {
            Self::Srt(_) | Self::Rtsp(_) | Self::Rtmp(_) | Self::Stave(_) => !self.calls(inbound),
            Self::Udp(_) | Self::Rtp(_) => inbound,
            Self::File(_) | Self::Wall(_) => false,
        }
    }

    /// It plays, or is drawn, only while somebody wants it.
    #[must_use]
    pub fn rests(&self) -> bool {
        matches!(self, Self::File(FileLink { at_take: true, .. }) | Self::Wall(_))
    }

    /// Every secret that it names, with what it is called in a sheet.
    pub fn secrets(&self) -> impl Iterator<Item = (&'static str, &Secret)> {
        let (first, second) = match self {
            Self::Srt(s) => (s.passphrase.as_ref().map(|s| ("passphrase", s)), None),
            Self::Rtsp(r) => (r.password.as_ref().map(|s| ("password", s)), None),
            Self::Rtmp(r) => (r.key.as_ref().map(|s| ("key", s)), r.password.as_ref().map(|s| ("password", s))),
            _ => (None, None),
        };
        first.into_iter().chain(second)
    }

    /// Why it cannot be a line's way in, as what is the case and what to do.
    #[must_use]
    pub fn cannot_come_in(&self) -> Option<(&'static str, &'static str)> {
        match self {
            Self::Rtsp(r) if r.host.is_none() => Some(("it does not say whom to ask.", "Write rtsp://HOST/PATH.")),
            Self::Rtsp(r) if r.group.is_some() => {
                Some(("a group is for feeds that are served.", "Write transport = multicast to hear a camera by its own group."))
            }
            Self::Stave(s) if s.multicast.is_some() => {
                Some(("multicast is for feeds that are offered.", "Write carriage = multicast to hear a source by its own group."))
            }
            _ => None,
        }
    }

    /// Why it cannot be a feed's way out.
    #[must_use]
    pub fn cannot_go_out(&self) -> Option<(&'static str, &'static str)> {
        match self {
            Self::Wall(_) => Some(("a wall is made of lines: it is a line itself.", "Write it as the from of a [[line]], and carry that.")),
            Self::Udp(u) if u.host.is_none() => Some(("a UDP destination needs a host.", "Write udp://HOST:PORT.")),
            Self::Udp(u) if u.source.is_some() => Some(("a source is for what comes in.", "Write udp://GROUP:PORT and interface=ADDRESS.")),
            Self::Rtp(r) if r.sdp.is_some() => {
                Some(("a session description is for what comes in.", "Write rtp://HOST:PORT: it carries the transport stream."))
            }
            Self::Rtp(r) if r.host.is_none() || r.port.is_none() => {
                Some(("an RTP destination needs a host and a port.", "Write rtp://HOST:PORT."))
            }
            Self::Stave(s) if s.machine.is_some() || s.grade.is_some() || s.patience.is_some() || s.by_group => {
                Some(("receivers choose machine, grade, patience and carriage.", "Write stave = \"NAME\"."))
            }
            Self::Rtsp(r) if r.transport != RtspTransport::Auto => {
                Some(("viewers choose the transport.", "Leave it out; group=ADDRESS:PORT also offers multicast."))
            }
            Self::Rtsp(r) if r.path.contains('?') => Some(("a served feed has no query.", "Write rtsp://:8554/NAME.")),
            Self::Rtsp(r) if r.user.is_some() != r.password.is_some() => {
                Some(("a user needs a password.", "Write both, or neither to let everybody watch."))
            }
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
