//! RTMP, after its published specification (1.0) and the open extension for further codecs:
//! both ends of a connection, without a socket.
//!
//! | module | holds |
//! |---|---|
//! | `handshake` | the first three blocks of either end |
//! | `chunk` | messages in chunks |
//! | `amf` | values in commands |
//! | `login` | user and password |
//! | `tags` | pictures and sound in messages |
//! | `session` | what both ends have in common |
//! | `server`, `client` | who is published to or played from; who publishes or plays |
//! | [`fuzz`] | entry points for fuzzers |

mod amf;
mod chunk;
mod client;
pub mod fuzz;
mod handshake;
mod login;
mod server;
mod session;
mod tags;

pub use amf::{Amf, AmfError, read_values, write_values};
pub use chunk::{ChunkError, ChunkReader, ChunkWriter, Message, kind};
pub use client::{Client, ClientEvent, ClientPlan};
pub use handshake::{Handshake, HandshakeError, SIZE as HANDSHAKE_BLOCK};
pub use login::{Challenge, Riddle};
pub use server::{Server, ServerEvent, Welcome};
pub use session::RtmpError;
pub use tags::{OutTag, Tag, TagReader, TagUnit, TagWriter};
