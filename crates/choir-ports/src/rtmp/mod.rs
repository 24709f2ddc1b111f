//! RTMP: publishers that call a line and players that call a feed, on one port; feeds that are
//! published to servers, and lines that are played from them.

mod call;
mod listen;
mod media;
mod pull;
mod push;
mod serve;

pub use call::RtmpTarget;
pub use listen::{OnPort, PublishPlan, RtmpServer};
pub use pull::{PlayPlan, spawn_play};
pub use push::{PushPlan, spawn_push};
pub use serve::RtmpServePlan;

use choir_proto::rtmp::HANDSHAKE_BLOCK;

/// Bytes that are read at once.
const READ: usize = 64 << 10;

/// What a handshake is filled with.
fn random_block() -> [u8; HANDSHAKE_BLOCK] {
    choir_host::random()
}
