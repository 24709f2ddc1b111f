//! What a port reports besides how its link stands.

use super::{Loss, Refused};
use std::{net::SocketAddr, path::PathBuf, time::Duration};

/// Something that a port has seen or done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Notice {
    /// An SRT peer has joined.
    Connected {
        /// Its address.
        peer: SocketAddr,
        /// `AES-128`; `None` in the clear.
        cipher: Option<String>,
        /// Latency in force.
        latency: Duration,
    },
    /// A publisher has begun.
    Publishes {
        /// Its address.
        from: SocketAddr,
        /// What it calls itself.
        agent: Option<String>,
    },
    /// A server takes what is published.
    Taken(String),
    /// A server takes it too slowly: pictures are left out, and how long the oldest had waited.
    LeftOut {
        /// Pictures.
        pictures: u64,
        /// Of the oldest.
        waited: Duration,
    },
    /// A publisher sends something that is not carried.
    NotCarried(String),
    /// A link was lost.
    Lost(Loss),
    /// A caller was turned away.
    CallerRefused(Refused),
    /// The operating system reports a network error.
    Network(String),
    /// Datagrams to a destination cannot be sent.
    SendFailed {
        /// The destination.
        to: SocketAddr,
        /// The system's reason.
        cause: String,
    },
    /// Media comes from this address.
    MediaFrom(SocketAddr),
    /// A sender's sequence numbers and clock have jumped.
    SenderRestarted,
    /// Packets are missing.
    DroppingDamaged,
    /// A sender's clock has jumped.
    ClockJumped,
    /// The clock of an SRT peer has jumped: its packets are timed anew.
    PeerClockJumped {
        /// The peer.
        peer: SocketAddr,
        /// By how much, ms; positive when it is ahead now.
        ms: i64,
    },
    /// Timestamps of a sender were wrong.
    StampsCorrected {
        /// Since the last report.
        new: u64,
        /// In all.
        total: u64,
    },
    /// A sender breaks its protocol in a way that is known how to live with.
    Misbehaves(Misbehaviour),
    /// A track of a description is not carried.
    TrackIgnored {
        /// Its place, from 1.
        number: usize,
        /// `audio`.
        kind: String,
        /// `L24`.
        encoding: String,
        /// Why.
        why: String,
    },
    /// UDP failed: the packets are asked for within the TCP connection.
    FallsBackToTcp(String),
    /// A server points elsewhere.
    Redirected(String),
    /// The addresses that viewers of a served feed use.
    Served(Vec<String>),
    /// A viewer reads too slowly.
    ViewerSlow(SocketAddr),
    /// A viewer read nothing for so long, and was disconnected.
    ViewerDropped(SocketAddr, Duration),
    /// A file was played to its end.
    PlayedOut,
    /// A file of the same name was there.
    RecordingRenamed {
        /// As the sheet has it.
        wanted: PathBuf,
        /// The earlier file's new name.
        kept: PathBuf,
    },
    /// The transport stream of a recording has a defect.
    RecordingDefect {
        /// Where, from the start.
        at: Duration,
        /// What, with its clause.
        what: String,
    },
    /// A recording has ended.
    Recorded {
        /// The file.
        path: String,
        /// Its first defect, with its clause.
        first: Option<String>,
        /// Defects besides.
        more: usize,
    },
    /// Writing goes on after it had failed.
    WritingAgain {
        /// How long it had failed.
        after: Duration,
        /// Pieces of the stream that are missing in the file.
        lost: u64,
    },
    /// A multicast group cannot be sent to.
    GroupOutFailed {
        /// The group.
        group: SocketAddr,
        /// Why.
        cause: String,
    },
    /// A multicast group cannot be received.
    GroupInFailed {
        /// The group.
        group: SocketAddr,
        /// Why.
        cause: String,
    },
    /// The Stave name is taken on this machine.
    NameTaken {
        /// As the sheet has it.
        wanted: String,
        /// As it is offered.
        got: String,
    },
    /// Another machine has this machine's Stave name.
    MachineNameTaken {
        /// As it was.
        wanted: String,
        /// As it is.
        got: String,
    },
    /// No more Stave names can be offered.
    NameLimit(usize),
    /// A receiver of a Stave name reads too slowly.
    ReceiverSlow(SocketAddr),
    /// This end reads too slowly, and gets another grade.
    GradeLowered {
        /// The name.
        name: String,
        /// The grade.
        grade: String,
    },
    /// More channels than a transport stream carries.
    ChannelsDropped {
        /// What comes.
        channels: u8,
        /// What is carried.
        carried: u8,
    },
    /// Several machines offer the name.
    SeveralOffer {
        /// The name.
        name: String,
        /// How many.
        count: usize,
        /// The one that is taken.
        machine: String,
    },
    /// The tally lamp of a device cannot be switched.
    LampFailed {
        /// The device.
        device: String,
        /// Why.
        cause: String,
    },
    /// The tally lamp follows again.
    LampFollows {
        /// The device.
        device: String,
    },
    /// A keyframe cannot be asked for by ONVIF.
    KeyframeFailed(String),
}

/// What senders get wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Misbehaviour {
    /// Packets come with another payload type than was described.
    PayloadType {
        /// `h264`.
        codec: String,
        /// What comes.
        arrives: u8,
    },
    /// Timestamps run at another rate than the packets arrive.
    ClockRate {
        /// Percent, positive when they run fast.
        percent: i32,
    },
    /// Sender reports put sound elsewhere than it arrives.
    SenderReports {
        /// Tenths of a second.
        tenths: u32,
    },
    /// RTP-Info puts sound elsewhere than it arrives.
    RtpInfo {
        /// Tenths of a second.
        tenths: u32,
    },
}

impl Notice {
    /// Trouble, and not only news.
    #[must_use]
    pub const fn is_trouble(&self) -> bool {
        !matches!(
            self,
            Self::Connected { .. }
                | Self::Publishes { .. }
                | Self::Taken(_)
                | Self::MediaFrom(_)
                | Self::TrackIgnored { .. }
                | Self::Redirected(_)
                | Self::Served(_)
                | Self::PlayedOut
                | Self::RecordingRenamed { .. }
                | Self::Recorded { first: None, .. }
                | Self::LampFollows { .. }
        )
    }
}
