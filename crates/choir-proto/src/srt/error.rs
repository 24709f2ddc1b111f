//! Why a link was refused or ended, as codes on the wire and as sentences for the engineer.

use std::{fmt, time::Duration};

/// Reason code of a handshake refusal (draft, table of rejection reasons). Codes from 3000 are
/// application-defined by the draft; the ones named here are Cable Choir's own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[allow(missing_docs, reason = "each variant's sentence is its Display")]
pub enum RejectReason {
    Unknown,
    System,
    Peer,
    Resource,
    Rogue,
    Backlog,
    Internal,
    Closing,
    Version,
    RendezvousCookie,
    BadSecret,
    Unsecure,
    MessageApi,
    Congestion,
    Filter,
    Group,
    /// 2405: the caller wants to receive where only sending is possible, or the other way round.
    Mode,
    /// 3001: no line here is called by that stream ID.
    StreamIdUnknown,
    /// 3002: somebody else sends on that line already.
    InUse,
    /// 3003: the engineer holds that line.
    Held,
    /// Any other code, kept as it came.
    Other(u32),
}

impl RejectReason {
    /// The code as a handshake type.
    #[must_use]
    pub const fn code(self) -> u32 {
        match self {
            Self::Unknown => 1000,
            Self::System => 1001,
            Self::Peer => 1002,
            Self::Resource => 1003,
            Self::Rogue => 1004,
            Self::Backlog => 1005,
            Self::Internal => 1006,
            Self::Closing => 1007,
            Self::Version => 1008,
            Self::RendezvousCookie => 1009,
            Self::BadSecret => 1010,
            Self::Unsecure => 1011,
            Self::MessageApi => 1012,
            Self::Congestion => 1013,
            Self::Filter => 1014,
            Self::Group => 1015,
            Self::Mode => 2405,
            Self::StreamIdUnknown => 3001,
            Self::InUse => 3002,
            Self::Held => 3003,
            Self::Other(code) => code,
        }
    }

    /// The reason for a handshake type of 1000 and up.
    #[must_use]
    pub const fn from_code(code: u32) -> Self {
        match code {
            1000 => Self::Unknown,
            1001 => Self::System,
            1002 => Self::Peer,
            1003 => Self::Resource,
            1004 => Self::Rogue,
            1005 => Self::Backlog,
            1006 => Self::Internal,
            1007 => Self::Closing,
            1008 => Self::Version,
            1009 => Self::RendezvousCookie,
            1010 => Self::BadSecret,
            1011 => Self::Unsecure,
            1012 => Self::MessageApi,
            1013 => Self::Congestion,
            1014 => Self::Filter,
            1015 => Self::Group,
            2405 => Self::Mode,
            3001 => Self::StreamIdUnknown,
            3002 => Self::InUse,
            3003 => Self::Held,
            other => Self::Other(other),
        }
    }

    /// True when asking again cannot help until somebody changes a setting.
    #[must_use]
    pub const fn is_setting(self) -> bool {
        matches!(
            self,
            Self::Version
                | Self::BadSecret
                | Self::Unsecure
                | Self::MessageApi
                | Self::Congestion
                | Self::Filter
                | Self::Group
                | Self::StreamIdUnknown
                | Self::Mode
                | Self::Other(2400 | 2401 | 2403 | 2404 | 2406 | 2408)
        )
    }
}

/// What the codes of the access control guidelines say (2400 and up).
const fn access_code(code: u32) -> Option<&'static str> {
    Some(match code {
        2400 => "the stream ID has a syntax error",
        2401 => "user or password is missing or wrong in the stream ID",
        2402 => "the other end is overloaded",
        2403 => "access is forbidden by the other end",
        2404 => "the stream ID is not known there",
        2406 => "the other end cannot accept these parameters",
        2407 => "the resource is in use there",
        2408 => "the media type is not supported there",
        2409 => "the resource is locked by another there",
        2410 => "the session is not valid there any more",
        2500 => "an internal error at the other end",
        2501 => "the other end does not support this request",
        2502 => "a gateway at the other end failed",
        2503 => "the service at the other end is down",
        2504 => "the other end does not support this version",
        2505 => "the other end has no room to store it",
        _ => return None,
    })
}

impl RejectReason {
    /// The reason of a refusal of our own, as a sentence from this end.
    #[must_use]
    pub fn here(self) -> String {
        match self {
            Self::StreamIdUnknown => "no line or feed here has that stream ID".into(),
            Self::InUse => "another sender is connected to this line".into(),
            Self::Held => "the line is held here".into(),
            Self::Backlog => "too many connections here".into(),
            Self::Mode => "it asks for the other direction (m= in its stream ID)".into(),
            Self::Group => "link groups are not supported here".into(),
            Self::Filter => "packet filters are not supported here".into(),
            other => other.to_string(),
        }
    }
}

impl fmt::Display for RejectReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Unknown => "no reason given",
            Self::System => "a system error at the other end",
            Self::Peer => "the other end's application refused it",
            Self::Resource => "the other end is out of memory or connections",
            Self::Rogue => "the greeting was malformed",
            Self::Backlog => "too many are waiting at the other end",
            Self::Internal => "an internal error at the other end",
            Self::Closing => "the other end is just closing",
            Self::Version => "the protocol version is too old: handshake version 5 is needed",
            Self::RendezvousCookie => "both ends drew the same rendezvous cookie",
            Self::BadSecret => "the passphrase differs",
            Self::Unsecure => "only one end has a passphrase",
            Self::MessageApi => "one end is set to stream mode, live mode is needed",
            Self::Congestion => "the congestion control differs: live is needed",
            Self::Filter => "a packet filter was asked for and is not supported",
            Self::Group => "link groups were asked for and are not supported",
            Self::StreamIdUnknown => "the stream ID is not known there",
            Self::InUse => "another sender is already connected there",
            Self::Held => "the line is held there by the engineer",
            Self::Mode => "the other end wants the other direction (m= in the stream ID)",
            Self::Other(code) => match access_code(*code) {
                Some(text) => return write!(f, "{text} (code {code})"),
                None => return write!(f, "refused with code {code}"),
            },
        })
    }
}

/// Why a connection is over, or an attempt at one failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CloseReason {
    /// The peer sent a shutdown.
    PeerClosed,
    /// We closed it.
    Closed,
    /// Nothing was heard for this long.
    Silent(Duration),
    /// The peer refused us.
    RefusedByPeer(RejectReason),
    /// We refused the peer.
    RefusedHere(RejectReason),
    /// No answer at all to our greetings.
    NoAnswer(Duration),
    /// The host answered that nothing listens on that port (ICMP port unreachable).
    PortClosed,
    /// A caller that we let in called on and gave up: our answers do not reach it.
    NotHeard,
    /// Another connection of the same sender took its place.
    Replaced,
    /// The end that was met has begun a new rendezvous.
    BegunAnew,
    /// Something answered that does not speak handshake version 5.
    NotVersion5,
}

impl fmt::Display for CloseReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::PeerClosed => f.write_str("the other end closed the link"),
            Self::Closed => f.write_str("closed here"),
            Self::Silent(d) => write!(f, "nothing heard for {:.1} s", d.as_secs_f64()),
            Self::RefusedByPeer(r) => write!(f, "refused by the other end: {r}"),
            Self::RefusedHere(r) => write!(f, "refused here: {}", r.here()),
            Self::NotHeard => f.write_str("it called, but did not hear our answers: the way back is blocked; check its firewall and NAT"),
            Self::Replaced => f.write_str("replaced by a new connection of the same sender"),
            Self::BegunAnew => f.write_str("the other end has begun anew"),
            Self::NoAnswer(d) => write!(f, "no answer within {:.0} s", d.as_secs_f64()),
            Self::PortClosed => f.write_str("the host answers, but nothing listens on that port"),
            Self::NotVersion5 => f.write_str("something answers there, but not with SRT handshake version 5"),
        }
    }
}

/// How the encryption of a connection stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum KeyState {
    /// No passphrase on either end.
    #[default]
    Clear,
    /// Both ends hold the same keys.
    Secured,
    /// The peer encrypts and we have no passphrase.
    NoPassphraseHere,
    /// We demand encryption and the peer offered none.
    NoPassphraseThere,
    /// Both have one, and they differ.
    PassphraseDiffers,
}

impl fmt::Display for KeyState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Clear => "clear",
            Self::Secured => "secured",
            Self::NoPassphraseHere => "no passphrase here",
            Self::NoPassphraseThere => "no passphrase there",
            Self::PassphraseDiffers => "passphrase differs",
        })
    }
}

/// Why a payload was not taken for sending.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SendError {
    /// The connection is not up (yet, or any more).
    #[error("the link is not connected")]
    NotConnected,
    /// Larger than one packet carries.
    #[error("the payload of {size} bytes is larger than the {max} bytes that one packet carries")]
    TooLarge {
        /// Bytes handed in.
        size: usize,
        /// Bytes that fit.
        max: usize,
    },
    /// The send window is full: the payload was counted as dropped.
    #[error("the send window is full")]
    WindowFull,
}
