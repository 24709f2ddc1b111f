//! How a link stands, apart from its media.

use serde::{Deserialize, Serialize};
use std::net::SocketAddr;

/// What kept a link from coming up, as far as the network and the other end say.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// The name cannot be looked up.
    Name,
    /// Nothing answers at all.
    Silent,
    /// The host answers that nothing listens on the port.
    PortClosed,
    /// Something answers in another protocol.
    WrongProtocol,
    /// The passphrases differ.
    Passphrase,
    /// Only one end has a passphrase.
    OneSided,
    /// The stream ID is not known there.
    StreamId,
    /// The stream key is not known there.
    StreamKey,
    /// User or password are not accepted.
    Login,
    /// There is nothing under this path.
    Path,
    /// Another has the place already.
    Taken,
    /// Refused for another reason.
    Refused,
    /// It was there and is gone.
    PeerLost,
}

/// How a link stands, apart from its media.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Contact {
    /// Held by the engineer.
    Held,
    /// Nobody has come yet.
    Waiting(Waiting),
    /// Being joined.
    Joining(Joining),
    /// Was there or should be, and is not.
    Lost(Loss),
    /// Connected.
    Up,
}

impl Contact {
    /// What keeps it from coming up.
    #[must_use]
    pub fn fault(&self) -> Option<Fault> {
        match self {
            Self::Lost(loss) => loss.fault(),
            Self::Waiting(Waiting::Caller { refused, .. } | Waiting::Publisher { refused, .. }) => refused.as_ref().and_then(|r| r.fault),
            _ => None,
        }
    }
}

/// How a link is encrypted.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Encryption {
    /// Not at all.
    #[default]
    Clear,
    /// It is agreed when the ends meet.
    NotKnown,
    /// AES with a key of so many bits.
    Secured {
        /// 128, 192 or 256.
        key_bits: u16,
    },
    /// TLS of whatever version both ends have, 1.2 or later.
    AnyTls,
    /// TLS 1.3, always.
    Tls,
    /// The ends do not agree: the protocol's description.
    Mismatch(String),
}

/// What is waited for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Waiting {
    /// Its port has not started yet.
    Start,
    /// A caller.
    Caller {
        /// Port that listens.
        port: u16,
        /// Stream ID that it must have.
        stream_id: Option<String>,
        /// A caller that was refused by every link of the port, and may have been meant for this
        /// one.
        refused: Option<Refused>,
    },
    /// A publisher.
    Publisher {
        /// Port that listens.
        port: u16,
        /// The path before the stream key.
        app: String,
        /// One that was refused with this path.
        refused: Option<Refused>,
    },
    /// The first packet on a port without handshake.
    Packets {
        /// Port.
        port: u16,
    },
    /// The far end, before a file is played.
    FarEnd,
    /// Nothing more: the file is at its end.
    EndOfFile,
    /// A take: the clip plays from its start then.
    Take,
    /// Viewers of a served feed.
    Viewers,
    /// Receivers of a Stave name.
    Receivers {
        /// The feed's line sends nothing, so the name has no stream yet.
        no_media: bool,
    },
    /// A Stave name on the LAN.
    Source {
        /// The name.
        name: String,
        /// The machine that must have it.
        machine: Option<String>,
        /// Machines whose catalogue is known; `None` while no network interface is up.
        seen: Option<usize>,
        /// A name that is like it.
        near: Option<String>,
        /// A machine whose catalogue cannot be read, and why.
        closed: Option<String>,
        /// Other groups that were heard.
        other_groups: Vec<String>,
    },
    /// A name that a machine has stopped offering, or sends nothing on.
    Offer {
        /// The name.
        name: String,
        /// The machine.
        machine: String,
        /// It offers the name, and its line sends nothing.
        silent: bool,
    },
    /// Nothing: discovery is off and the name has no fixed address.
    Discovery,
}

/// What is under way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Joining {
    /// A call to this `host:port`.
    Calling(String),
    /// Rendezvous with this `host:port`.
    Meeting(String),
    /// A request to this server.
    Asking(String),
    /// A machine is asked for a Stave name.
    Requesting {
        /// Machine.
        machine: String,
        /// Name.
        name: String,
    },
}

/// A caller that was turned away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// Its address.
    pub from: SocketAddr,
    /// Its stream ID.
    pub stream_id: Option<String>,
    /// What the two ends disagree about.
    pub fault: Option<Fault>,
    /// The protocol's description of the reason.
    pub why: String,
}

/// Why a link is lost.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Loss {
    /// A link that this end calls.
    Call {
        /// Whom it calls: `host:port`.
        peer: String,
        /// What kept it from coming up.
        fault: Option<Fault>,
        /// The protocol's description of the reason.
        why: String,
    },
    /// The caller of a listener has gone.
    Caller {
        /// Its address.
        peer: Option<SocketAddr>,
        /// What happened.
        fault: Option<Fault>,
        /// The protocol's description of the reason.
        why: String,
    },
    /// A caller that was meant for this link was turned away.
    Refused(Refused),
    /// A file cannot be read.
    Reading(String),
    /// A file cannot be written.
    Writing {
        /// The system's reason.
        cause: String,
        /// It is tried again.
        retries: bool,
    },
    /// A source that was there, and is waited for again.
    Source(Waiting),
}

impl Loss {
    /// What kept it from coming up.
    #[must_use]
    pub fn fault(&self) -> Option<Fault> {
        match self {
            Self::Call { fault, .. } | Self::Caller { fault, .. } => *fault,
            Self::Refused(r) => r.fault,
            Self::Source(_) => Some(Fault::PeerLost),
            Self::Reading(_) | Self::Writing { .. } => None,
        }
    }
}
