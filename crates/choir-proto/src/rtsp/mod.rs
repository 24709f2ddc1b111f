//! RTSP 1.0 (RFC 2326) with what devices really do.
//!
//! [`Client`] pulls a source: bytes in, bytes and [`ClientEvent`]s out. [`Server`] answers requests
//! for what its [`Catalog`] has. Both know no socket and no clock.

mod client;
mod describe;
mod message;
mod sdp;
mod server;
mod session;
mod transport;
mod url;

pub use crate::auth::{Challenge, Credentials, Scheme, Verdict, challenges};
pub use client::{Client, ClientConfig, ClientEnd, ClientEvent, Lower, SetTrack, TrackPorts};
pub use describe::describe;
pub use message::{Inbox, Incoming, MessageError, Method, Request, Response, frame_header};
pub use sdp::{SdpError, SdpTrack, SessionDescription, parse_sdp};
pub use server::{Action, Catalog, Mount, Server, ServerConfig, rtp_info};
pub use session::{Lane, Session, SessionId};
pub use transport::{Delivery, Transport, parse_transports};
pub use url::{RtspUrl, UrlError};
