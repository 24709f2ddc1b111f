//! Ways in and out. Each is one task that serves all links of one socket (or one file); media goes
//! in through [`Intake`], out through [`Outlet`], and [`LinkStatus`] tells how it stands.

mod callers;
mod cause;
mod clip;
mod control;
pub mod defects;
mod file;
mod flow;
mod made;
mod media_in;
mod open;
mod outlet;
mod recording;
mod retry;
mod rtmp;
mod rtp;
mod rtsp;
mod srt;
mod status;
pub mod stave;
pub mod survey;
mod ticks;
mod udp_ts;
mod units;

pub use cause::WayCause;
pub use clip::{is_mp4, mp4_to_ts};
pub use control::WayControl;
pub use file::{FileError, spawn_file_in};
pub use flow::{AnyOutlet, Flow};
pub use made::Made;
pub use open::{OpenWay, Ports, ReadyWay, StaveWay, Way, WayError, open_ways};
pub use outlet::{MediaSize, Outlet, UnitOutlet};
pub use recording::spawn_file_out;
pub use rtmp::{OnPort, PlayPlan, PublishPlan, PushPlan, RtmpServePlan, RtmpServer, RtmpTarget, Shown, spawn_play, spawn_push};
pub use rtp::{spawn_rtp_in, spawn_rtp_out};
pub use rtsp::{PullPlan, RtspServer, ServePlan, Served, ServerOptions, UdpManner, spawn_pull, spawn_server};
pub use srt::{CallPlan, Lateness, LatenessCount, ListenPlan, Listener, Listening, Shard, Shards, spawn_caller, spawn_listener};
pub use status::{Counters, Gauges, LinkStatus, Live, PeerLive};
pub use ticks::{MediaCount, Ticks};
pub use udp_ts::{spawn_udp_in, spawn_udp_out};
pub use units::units_of;

use bytes::Bytes;
pub use choir_proto::{legs::Arrival, media::Media};

/// Takes media from a way in. Called on the port's own task: must be quick and must not block.
pub trait Intake: Send + Sync + 'static {
    /// What has arrived since the last call, in order. Empties the list, whose room is used again.
    fn arrive(&self, arrivals: &mut Vec<Arrival>);
}

/// Cuts a piece of transport stream into datagrams of at most seven packets.
pub(crate) fn datagrams(payload: &Bytes) -> impl Iterator<Item = Bytes> + '_ {
    const SEVEN: usize = 7 * 188;
    (0..payload.len()).step_by(SEVEN).map(move |at| payload.slice(at..payload.len().min(at + SEVEN)))
}
