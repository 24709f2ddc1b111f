//! What SRT puts into a datagram: checked parsing, exact writing, one-line `Display`. No state.
//!
//! [`Packet::parse`] never panics and keeps unknown control types; fields are big-endian
//! throughout.

mod extension;
mod handshake;
mod keys;
mod loss;
mod stream_id;

pub use extension::{Extension, HsCaps, MAX_STREAM_ID, flags};
pub use handshake::{Handshake, HandshakeType, INDUCTION_MAGIC};
pub use keys::{KeyMaterial, KeySlots};
pub use loss::{LossList, MAX_LOSS_RANGES};
pub use stream_id::StreamId;

use super::Seq;
use crate::bits::be32;
use std::fmt;

/// Bytes of the header that every packet starts with.
pub const HEADER: usize = 16;

/// Which key a data packet is encrypted with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum KeyFlag {
    /// Not encrypted.
    #[default]
    Clear,
    /// Even key.
    Even,
    /// Odd key.
    Odd,
}

/// Header of a data packet in live mode (one packet per message).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DataHeader {
    /// Sequence number.
    pub seq: Seq,
    /// In-order flag; sent clear, ignored on receipt.
    pub in_order: bool,
    /// Position bits: 3 for a whole message.
    pub position: u8,
    /// Encryption.
    pub key: KeyFlag,
    /// Set on every retransmission.
    pub resent: bool,
    /// 26 bits.
    pub message: u32,
    /// µs since the sender's socket start.
    pub timestamp: u32,
    /// The peer's socket id.
    pub destination: u32,
}

impl DataHeader {
    /// Appends the 16 bytes.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let kk = match self.key {
            KeyFlag::Clear => 0,
            KeyFlag::Even => 1,
            KeyFlag::Odd => 2,
        };
        let word1 = u32::from(self.position & 3) << 30
            | u32::from(self.in_order) << 29
            | kk << 27
            | u32::from(self.resent) << 26
            | (self.message & 0x03FF_FFFF);
        let mut head = [0u8; HEADER];
        head[0..4].copy_from_slice(&self.seq.raw().to_be_bytes());
        head[4..8].copy_from_slice(&word1.to_be_bytes());
        head[8..12].copy_from_slice(&self.timestamp.to_be_bytes());
        head[12..16].copy_from_slice(&self.destination.to_be_bytes());
        out.extend_from_slice(&head);
    }
}

/// A control packet's meaning.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Control {
    /// Type 0.
    Handshake(Box<Handshake>),
    /// Type 1.
    KeepAlive,
    /// Type 2.
    Ack(Ack),
    /// Type 3.
    Nak(LossList),
    /// Type 4, unused in live mode.
    CongestionWarning,
    /// Type 5.
    Shutdown,
    /// Type 6, confirming the full acknowledgement of this number.
    AckAck(u32),
    /// Type 7: packets the sender no longer has, first and last.
    DropRequest {
        /// Message number, not judged by.
        message: u32,
        /// First packet.
        first: Seq,
        /// Last packet, inclusive.
        last: Seq,
    },
    /// Type 8 with its code.
    PeerError(u32),
    /// Type 0x7FFF/3: new keys.
    KeyRequest(Vec<u8>),
    /// Type 0x7FFF/4: the answer, a copy or one word.
    KeyResponse(Vec<u8>),
    /// Anything else; to be ignored.
    Unknown {
        /// Control type.
        kind: u16,
        /// Subtype.
        subtype: u16,
    },
}

/// An acknowledgement: full, small or light by what it carries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ack {
    /// Number to be confirmed; 0 for light and small ones.
    pub number: u32,
    /// First sequence number not received.
    pub next: Seq,
    /// Round-trip time, its variation (µs) and free receive buffer (packets), in full and small
    /// ones.
    pub link: Option<AckLink>,
    /// Rates, in full ones.
    pub rates: Option<AckRates>,
}

/// What a full or small acknowledgement says about the link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AckLink {
    /// Round-trip time, µs.
    pub rtt_us: u32,
    /// Its variation, µs.
    pub rtt_var_us: u32,
    /// Free receive buffer, packets.
    pub free_packets: u32,
}

/// Rates of a full acknowledgement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AckRates {
    /// Packets per second received.
    pub packets_per_s: u32,
    /// Estimated capacity of the path, packets per second.
    pub capacity_packets_per_s: u32,
    /// Bytes per second received.
    pub bytes_per_s: u32,
}

/// A parsed datagram; data borrows its payload.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Packet<'a> {
    /// Data.
    Data(DataHeader, &'a [u8]),
    /// Control, with its timestamp and destination socket id.
    Control {
        /// Meaning.
        control: Control,
        /// µs since the sender's socket start.
        timestamp: u32,
        /// The peer's socket id, or 0 before it is known.
        destination: u32,
    },
}

/// Why a datagram is not SRT.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WireError {
    /// Shorter than it must be.
    #[error("the packet ends before its fields do")]
    Truncated,
    /// A field holds what it may not.
    #[error("{0}")]
    Invalid(&'static str),
}

impl<'a> Packet<'a> {
    /// Parses one datagram.
    ///
    /// # Errors
    /// When a field that must be there is cut off or impossible.
    pub fn parse(data: &'a [u8]) -> Result<Self, WireError> {
        let word = |i: usize| be32(data, i * 4).ok_or(WireError::Truncated);
        let (w0, w1, timestamp, destination) = (word(0)?, word(1)?, word(2)?, word(3)?);
        let body = data.get(HEADER..).ok_or(WireError::Truncated)?;
        if w0 >> 31 == 0 {
            let key = match w1 >> 27 & 3 {
                0 => KeyFlag::Clear,
                1 => KeyFlag::Even,
                2 => KeyFlag::Odd,
                _ => return Err(WireError::Invalid("both key flags on one data packet")),
            };
            let header = DataHeader {
                seq: Seq::new(w0),
                in_order: w1 >> 29 & 1 == 1,
                position: (w1 >> 30) as u8,
                key,
                resent: w1 >> 26 & 1 == 1,
                message: w1 & 0x03FF_FFFF,
                timestamp,
                destination,
            };
            return Ok(Self::Data(header, body));
        }
        let (kind, subtype) = ((w0 >> 16 & 0x7FFF) as u16, (w0 & 0xFFFF) as u16);
        let control = match (kind, subtype) {
            (0, _) => Control::Handshake(Box::new(Handshake::parse(body)?)),
            (1, _) => Control::KeepAlive,
            (2, _) => Control::Ack(parse_ack(w1, body)?),
            (3, _) => Control::Nak(LossList::parse(body)?),
            (4, _) => Control::CongestionWarning,
            (5, _) => Control::Shutdown,
            (6, _) => Control::AckAck(w1),
            (7, _) => Control::DropRequest {
                message: w1,
                first: Seq::new(be32(body, 0).ok_or(WireError::Truncated)?),
                last: Seq::new(be32(body, 4).ok_or(WireError::Truncated)?),
            },
            (8, _) => Control::PeerError(w1),
            (0x7FFF, 3) => Control::KeyRequest(body.to_vec()),
            (0x7FFF, 4) => Control::KeyResponse(body.to_vec()),
            (kind, subtype) => Control::Unknown { kind, subtype },
        };
        Ok(Self::Control { control, timestamp, destination })
    }
}

fn parse_ack(number: u32, body: &[u8]) -> Result<Ack, WireError> {
    let word = |i: usize| be32(body, i * 4);
    let next = Seq::new(word(0).ok_or(WireError::Truncated)?);
    let link = match (word(1), word(2), word(3)) {
        (Some(rtt_us), Some(rtt_var_us), Some(free_packets)) => Some(AckLink { rtt_us, rtt_var_us, free_packets }),
        (None, ..) => None,
        _ => return Err(WireError::Truncated),
    };
    let rates = match (word(4), word(5), word(6)) {
        (Some(packets_per_s), Some(capacity_packets_per_s), Some(bytes_per_s)) => {
            Some(AckRates { packets_per_s, capacity_packets_per_s, bytes_per_s })
        }
        _ => None,
    };
    Ok(Ack { number, next, link, rates })
}

impl Control {
    /// Appends the whole packet, header included.
    pub fn encode(&self, timestamp: u32, destination: u32, out: &mut Vec<u8>) {
        let (kind, subtype, info) = match self {
            Self::Handshake(_) => (0, 0, 0),
            Self::KeepAlive => (1, 0, 0),
            Self::Ack(ack) => (2, 0, ack.number),
            Self::Nak(_) => (3, 0, 0),
            Self::CongestionWarning => (4, 0, 0),
            Self::Shutdown => (5, 0, 0),
            Self::AckAck(n) => (6, 0, *n),
            Self::DropRequest { message, .. } => (7, 0, *message),
            Self::PeerError(code) => (8, 0, *code),
            Self::KeyRequest(_) => (0x7FFF, 3, 0),
            Self::KeyResponse(_) => (0x7FFF, 4, 0),
            Self::Unknown { kind, subtype } => (*kind, *subtype, 0),
        };
        let mut put = |w: u32| out.extend_from_slice(&w.to_be_bytes());
        put(0x8000_0000 | u32::from(kind) << 16 | u32::from(subtype));
        put(info);
        put(timestamp);
        put(destination);
        match self {
            // The figures show no contents, the dissectors want one word: send it.
            Self::KeepAlive | Self::Shutdown | Self::AckAck(_) | Self::CongestionWarning | Self::PeerError(_) => put(0),
            Self::Ack(ack) => {
                put(ack.next.raw());
                if let Some(link) = ack.link {
                    put(link.rtt_us);
                    put(link.rtt_var_us);
                    put(link.free_packets);
                    if let Some(rates) = ack.rates {
                        put(rates.packets_per_s);
                        put(rates.capacity_packets_per_s);
                        put(rates.bytes_per_s);
                    }
                }
            }
            Self::DropRequest { first, last, .. } => {
                put(first.raw());
                put(last.raw());
            }
            Self::Handshake(h) => h.encode(out),
            Self::Nak(list) => list.encode(out),
            Self::KeyRequest(km) | Self::KeyResponse(km) => out.extend_from_slice(km),
            Self::Unknown { .. } => {}
        }
    }
}

impl fmt::Display for Packet<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Data(h, payload) => {
                let again = if h.resent { " resent" } else { "" };
                write!(f, "data {} to {:08x} at {} {:?}{again}, {} bytes", h.seq, h.destination, h.timestamp, h.key, payload.len())
            }
            Self::Control { control, timestamp, destination } => {
                match control {
                    Control::Handshake(h) => write!(f, "{h}")?,
                    Control::Ack(a) => write!(f, "ack #{} up to {}", a.number, a.next)?,
                    Control::Nak(l) => write!(f, "nak {l}")?,
                    Control::AckAck(n) => write!(f, "ackack #{n}")?,
                    Control::DropRequest { first, last, .. } => write!(f, "drop request {first}..={last}")?,
                    // Key material stays out of every dump.
                    Control::KeyRequest(km) => write!(f, "key request, {} bytes", km.len())?,
                    Control::KeyResponse(km) => write!(f, "key response, {} bytes", km.len())?,
                    other => write!(f, "{other:?}")?,
                }
                write!(f, " to {destination:08x} at {timestamp}")
            }
        }
    }
}
