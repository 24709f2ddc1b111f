//! RTP (RFC 3550) with the payload formats that cameras use, in both directions.
//!
//! ```text
//! datagram → Reorder (order, loss) → Depacketizer (access units) → Timeline (one clock) → MediaUnit
//! MediaUnit or AccessUnit → Packetizer → datagrams
//! ```
//!
//! [`RtpReceiver`] is all of the upper row for one track, with its RTCP.

mod assembler;
mod depack;
mod pack;
mod packet;
mod params;
mod payload;
mod receiver;
mod reorder;
mod rtcp;
mod timeline;

pub use depack::Depacketizer;
pub use pack::{PackedUnit, Packetizer};
pub use packet::{RTP_HEADER, RtpError, RtpPacket, write_rtp_header};
pub use params::ParameterSets;
pub use payload::{AuHeaders, Damage, PayloadFormat, RawUnit};
pub use receiver::{Received, ReceiverConfig, RtpReceiver, TrackStats};
pub use reorder::{Reorder, ReorderCounters, Step};
pub use rtcp::{
    Feedback, NtpTime, ReportBlock, Rtcp, RtcpError, parse_rtcp, write_bye, write_keyframe_request, write_receiver_report,
    write_sender_report,
};
pub use timeline::SyncGroup;
