//! The handshake's 48 fixed bytes and its list of extensions.

use super::{Extension, Seq, WireError};
use crate::{
    bits::{be16, be32},
    srt::RejectReason,
};
use std::{fmt, net::IpAddr};

/// Extension field of an induction response of version 5.
pub const INDUCTION_MAGIC: u16 = 0x4A17;
/// Most extensions in one message; more is junk.
const MAX_EXTENSIONS: usize = 16;

/// What a handshake is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HandshakeType {
    /// First round of caller and listener.
    Induction,
    /// First greeting of a rendezvous.
    Waveahand,
    /// Carries the settings.
    Conclusion,
    /// Ends a rendezvous.
    Agreement,
    /// Unused.
    Done,
    /// A refusal.
    Rejection(RejectReason),
    /// Kept as it came.
    Unknown(u32),
}

impl HandshakeType {
    const fn code(self) -> u32 {
        match self {
            Self::Waveahand => 0,
            Self::Induction => 1,
            Self::Done => 0xFFFF_FFFD,
            Self::Agreement => 0xFFFF_FFFE,
            Self::Conclusion => 0xFFFF_FFFF,
            Self::Rejection(r) => r.code(),
            Self::Unknown(c) => c,
        }
    }
    const fn from_code(code: u32) -> Self {
        match code {
            0 => Self::Waveahand,
            1 => Self::Induction,
            0xFFFF_FFFD => Self::Done,
            0xFFFF_FFFE => Self::Agreement,
            0xFFFF_FFFF => Self::Conclusion,
            1000.. => Self::Rejection(RejectReason::from_code(code)),
            _ => Self::Unknown(code),
        }
    }
}

/// A handshake message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Handshake {
    /// 4 in an induction request, else 5.
    pub version: u32,
    /// Key length code: 0, 2, 3 or 4.
    pub encryption: u16,
    /// Extension field: bits, or [`INDUCTION_MAGIC`].
    pub extension_field: u16,
    /// First sequence number this end will send.
    pub initial_seq: Seq,
    /// 1500.
    pub mtu: u32,
    /// Flow window, packets.
    pub window: u32,
    /// What it is for.
    pub kind: HandshakeType,
    /// The sender's socket id.
    pub socket_id: u32,
    /// SYN cookie.
    pub cookie: u32,
    /// The peer's address as four little-endian-looking words.
    pub peer_ip: [u8; 16],
    /// Extensions, in order.
    pub extensions: Vec<Extension>,
}

impl Handshake {
    /// Parses the contents of a handshake packet.
    ///
    /// # Errors
    /// Cut in the fixed part or in an extension.
    pub fn parse(body: &[u8]) -> Result<Self, WireError> {
        let word = |at: usize| be32(body, at).ok_or(WireError::Truncated);
        let half = |at: usize| be16(body, at).ok_or(WireError::Truncated);
        let mut peer_ip = [0; 16];
        peer_ip.copy_from_slice(body.get(32..48).ok_or(WireError::Truncated)?);
        let kind = HandshakeType::from_code(word(20)?);
        let mut extensions = Vec::new();
        let mut rest = body.get(48..).unwrap_or_default();
        // Only these two carry extensions; a version 4 peer may leave junk behind the others.
        if matches!(kind, HandshakeType::Conclusion | HandshakeType::Agreement) {
            while !rest.is_empty() {
                if extensions.len() == MAX_EXTENSIONS {
                    return Err(WireError::Invalid("too many handshake extensions"));
                }
                let (extension, used) = Extension::parse(rest)?;
                extensions.push(extension);
                rest = rest.get(used..).unwrap_or_default();
            }
        }
        Ok(Self {
            version: word(0)?,
            encryption: half(4)?,
            extension_field: half(6)?,
            initial_seq: Seq::new(word(8)?),
            mtu: word(12)?,
            window: word(16)?,
            kind,
            socket_id: word(24)?,
            cookie: word(28)?,
            peer_ip,
            extensions,
        })
    }

    pub(super) fn encode(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.version.to_be_bytes());
        out.extend_from_slice(&self.encryption.to_be_bytes());
        out.extend_from_slice(&self.extension_field.to_be_bytes());
        for word in [self.initial_seq.raw(), self.mtu, self.window, self.kind.code(), self.socket_id, self.cookie] {
            out.extend_from_slice(&word.to_be_bytes());
        }
        out.extend_from_slice(&self.peer_ip);
        for extension in &self.extensions {
            extension.encode(out);
        }
    }

    /// An address in the handshake's form: each 32-bit word least significant byte first.
    #[must_use]
    pub fn ip_field(ip: IpAddr) -> [u8; 16] {
        let mut field = [0; 16];
        match ip {
            IpAddr::V4(v4) => field[..4].copy_from_slice(&v4.octets()),
            IpAddr::V6(v6) => field.copy_from_slice(&v6.octets()),
        }
        for word in field.chunks_exact_mut(4) {
            word.reverse();
        }
        field
    }
}

impl fmt::Display for Handshake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "handshake {:?} v{} from {:08x} seq {} cookie {:08x}, {} extensions",
            self.kind,
            self.version,
            self.socket_id,
            self.initial_seq,
            self.cookie,
            self.extensions.len()
        )
    }
}
