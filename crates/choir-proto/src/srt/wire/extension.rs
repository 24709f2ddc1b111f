//! Handshake extensions: capabilities and latency, keys, stream ID, congestion control.

use super::WireError;
use crate::bits::{be16, be32};

/// Longest stream ID, bytes.
pub const MAX_STREAM_ID: usize = 512;

/// Capability bits of HSREQ and HSRSP.
#[allow(missing_docs, reason = "named as in the draft")]
pub mod flags {
    pub const TSBPDSND: u32 = 0x01;
    pub const TSBPDRCV: u32 = 0x02;
    pub const CRYPT: u32 = 0x04;
    pub const TLPKTDROP: u32 = 0x08;
    pub const PERIODICNAK: u32 = 0x10;
    pub const REXMITFLG: u32 = 0x20;
    pub const STREAM: u32 = 0x40;
    pub const PACKET_FILTER: u32 = 0x80;
    /// What a live peer sends.
    pub const LIVE: u32 = 0x3F;
}

/// Contents of HSREQ and HSRSP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HsCaps {
    /// major << 16 | minor << 8 | patch.
    pub version: u32,
    /// See [`flags`].
    pub flags: u32,
    /// Latency this end wants for what it receives, ms.
    pub receiver_delay: u16,
    /// Latency this end asks of the peer for what it sends, ms.
    pub sender_delay: u16,
}

/// One extension.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Extension {
    /// Type 1.
    HsReq(HsCaps),
    /// Type 2.
    HsRsp(HsCaps),
    /// Type 3: key material, see [`super::KeyMaterial`].
    KmReq(Vec<u8>),
    /// Type 4.
    KmRsp(Vec<u8>),
    /// Type 5.
    StreamId(String),
    /// Type 6.
    Congestion(String),
    /// Type 7: refused, contents not read.
    Filter,
    /// Type 8: refused, contents not read.
    Group,
    /// Kept by number only.
    Unknown(u16),
}

impl Extension {
    /// Parses the first extension in `data`; gives the bytes it took.
    ///
    /// # Errors
    /// Cut short, or text that is too long or not UTF-8.
    pub fn parse(data: &[u8]) -> Result<(Self, usize), WireError> {
        let kind = be16(data, 0).ok_or(WireError::Truncated)?;
        let used = 4 + 4 * usize::from(be16(data, 2).ok_or(WireError::Truncated)?);
        let body = data.get(4..used).ok_or(WireError::Truncated)?;
        let caps = || -> Result<HsCaps, WireError> {
            let word = |i: usize| be32(body, i * 4).ok_or(WireError::Truncated);
            let delays = word(2)?;
            Ok(HsCaps { version: word(0)?, flags: word(1)?, receiver_delay: (delays >> 16) as u16, sender_delay: delays as u16 })
        };
        let extension = match kind {
            1 => Self::HsReq(caps()?),
            2 => Self::HsRsp(caps()?),
            3 => Self::KmReq(body.to_vec()),
            4 => Self::KmRsp(body.to_vec()),
            5 => Self::StreamId(text(body)?),
            6 => Self::Congestion(text(body)?),
            7 => Self::Filter,
            8 => Self::Group,
            other => Self::Unknown(other),
        };
        Ok((extension, used))
    }

    pub(super) fn encode(&self, out: &mut Vec<u8>) {
        let (kind, body): (u16, Vec<u8>) = match self {
            Self::HsReq(c) => (1, caps_bytes(c)),
            Self::HsRsp(c) => (2, caps_bytes(c)),
            Self::KmReq(km) => (3, km.clone()),
            Self::KmRsp(km) => (4, km.clone()),
            Self::StreamId(t) => (5, text_bytes(t)),
            Self::Congestion(t) => (6, text_bytes(t)),
            Self::Filter => (7, Vec::new()),
            Self::Group => (8, Vec::new()),
            Self::Unknown(k) => (*k, Vec::new()),
        };
        out.extend_from_slice(&kind.to_be_bytes());
        out.extend_from_slice(&((body.len() / 4) as u16).to_be_bytes());
        out.extend_from_slice(&body);
    }
}

fn caps_bytes(c: &HsCaps) -> Vec<u8> {
    let delays = u32::from(c.receiver_delay) << 16 | u32::from(c.sender_delay);
    [c.version, c.flags, delays].iter().flat_map(|w| w.to_be_bytes()).collect()
}

/// Text travels with the bytes of each 32-bit word reversed, padded with zeros.
fn text(body: &[u8]) -> Result<String, WireError> {
    if body.len() > MAX_STREAM_ID {
        return Err(WireError::Invalid("a text extension over 512 bytes"));
    }
    let mut bytes = body.to_vec();
    bytes.chunks_exact_mut(4).for_each(<[u8]>::reverse);
    let end = bytes.iter().rposition(|&b| b != 0).map_or(0, |i| i + 1);
    bytes.truncate(end);
    String::from_utf8(bytes).map_err(|_| WireError::Invalid("a text extension that is not UTF-8"))
}

fn text_bytes(text: &str) -> Vec<u8> {
    let mut bytes = text.as_bytes().to_vec();
    bytes.truncate(MAX_STREAM_ID);
    bytes.resize(bytes.len().div_ceil(4) * 4, 0);
    bytes.chunks_exact_mut(4).for_each(<[u8]>::reverse);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_matches_the_reference_vector() {
        assert_eq!(text_bytes("abcde"), [0x64, 0x63, 0x62, 0x61, 0, 0, 0, 0x65]);
        assert_eq!(text(&[0x64, 0x63, 0x62, 0x61, 0, 0, 0, 0x65]).expect("text"), "abcde");
    }
}
