//! SRT live mode, handshake version 5, after the IETF draft "The SRT Protocol"
//! (draft-sharabayko-srt).
//!
//! ```text
//!   datagram ──► Endpoint ──► Connection ──► poll_event: Delivery, Connected, Closed ...
//!   payload  ──►  (mux)   ──►  send side ──► poll_transmit: datagrams, grouped for one send call
//! ```
//!
//! [`Endpoint`] is one UDP socket's worth of protocol: it listens, calls and meets in rendezvous,
//! and tells connections apart by socket id. After each `handle_*` or command, drain
//! [`Endpoint::poll_transmit`], [`Endpoint::poll_event`] and [`Endpoint::poll_timeout`], in that
//! order. Passphrases of callers are checked elsewhere: run what [`Endpoint::poll_key_check`] gives
//! on another thread, and hand the result in.
//!
//! Junk from strangers is counted and dropped. What a peer can make us keep is bounded by
//! `LinkConfig::window` packets per direction and [`MAX_CONNECTIONS`] per endpoint; the listener
//! keeps nothing before a caller has returned its cookie.

mod accept;
mod acks;
mod capacity;
mod config;
mod connection;
mod crypto;
mod deadlines;
mod endpoint;
mod entries;
mod error;
mod event;
mod handshake;
mod keycheck;
mod keys;
mod listener;
mod pacing;
mod path;
mod receive;
mod rules;
mod send;
mod seq;
mod stats;
mod timebase;
pub mod wire;

pub use config::{Ceiling, KeyLength, LinkConfig, MAX_WINDOW, PAYLOAD_MAX, Passphrase, PassphraseError, Refresh};
pub use crypto::{CipherKeys, derive_kek};
pub use endpoint::{Endpoint, MAX_CONNECTIONS};
pub use error::{CloseReason, KeyState, RejectReason, SendError};
pub use event::{ConnId, Delivery, EndpointStats, Event, Joined, Transmit};
pub use handshake::CallKeys;
pub use keycheck::{KeyCheck, KeyChecked};
pub use rules::{AcceptRule, RuleId, StreamMatch};
pub use seq::Seq;
pub use stats::{Extent, Glance, Hole, LinkStats};
