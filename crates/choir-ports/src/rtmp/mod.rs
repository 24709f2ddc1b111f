//! RTMP: publishers that call a line, and feeds that are published to servers.

mod listen;
mod media;
mod push;

pub use listen::{PublishPlan, Published, RtmpServer};
pub use push::{PushPlan, spawn_push};

use choir_proto::rtmp::HANDSHAKE_BLOCK;

/// Bytes that are read at once.
const READ: usize = 64 << 10;

/// What a handshake is filled with.
fn random_block() -> [u8; HANDSHAKE_BLOCK] {
    choir_host::random()
}
