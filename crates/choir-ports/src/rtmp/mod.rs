//! RTMP: publishers that call a line and players that call a feed, on one port; feeds that are
//! published to servers, and lines that are played from them.

mod call;
mod listen;
mod media;
mod pull;
mod push;
mod secure;
mod serve;

pub use call::RtmpTarget;
pub use listen::{OnPort, PublishPlan, RtmpServer};
pub use pull::{PlayPlan, spawn_play};
pub use push::{PushPlan, spawn_push};
pub use secure::Shown;
pub use serve::RtmpServePlan;

use choir_proto::rtmp::HANDSHAKE_BLOCK;
use tokio::io::{AsyncRead, AsyncWrite};

/// Bytes that are read at once.
const READ: usize = 64 << 10;

/// A connection, within TLS or not.
trait Duplex: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Duplex for T {}

/// What a handshake is filled with.
fn random_block() -> [u8; HANDSHAKE_BLOCK] {
    choir_host::random()
}
