//! What a server knows of one viewer.

use super::transport::Delivery;
use std::{collections::BTreeMap, net::SocketAddr, time::Instant};

/// Names a session of a server, for its owner.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SessionId(pub u64);

/// How one track reaches a viewer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lane {
    /// UDP to these ports.
    Udp {
        /// RTP.
        rtp: SocketAddr,
        /// RTCP.
        rtcp: SocketAddr,
    },
    /// Channels of a connection.
    Tcp {
        /// RTP.
        rtp: u8,
        /// RTCP.
        rtcp: u8,
    },
    /// The group that all hear.
    Multicast,
}

impl Lane {
    /// Which kind.
    #[must_use]
    pub const fn delivery(&self) -> Delivery {
        match self {
            Self::Udp { .. } => Delivery::Udp,
            Self::Tcp { .. } => Delivery::Tcp,
            Self::Multicast => Delivery::Multicast,
        }
    }
}

/// One viewer of one mount.
#[derive(Debug, Clone)]
pub struct Session {
    /// As on the wire.
    pub name: String,
    /// Place of what it watches.
    pub mount: usize,
    /// The connection that set it up.
    pub connection: u64,
    /// The viewer.
    pub peer: SocketAddr,
    /// Tracks set up, by their place.
    pub lanes: BTreeMap<usize, Lane>,
    /// It wants packets now.
    pub playing: bool,
    /// When it gave a sign of life last.
    pub heard: Instant,
}
