//! The RTP fixed header (RFC 3550, 5.1).

use bytes::Bytes;

/// Bytes of the header without contributing sources and extension.
pub const RTP_HEADER: usize = 12;

/// Why a datagram is no RTP packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RtpError {
    /// Shorter than its header says.
    #[error("the RTP packet is shorter than its header says")]
    Short,
    /// Not version 2.
    #[error("this is not RTP version 2")]
    Version,
    /// More padding than packet.
    #[error("the RTP packet has more padding than payload")]
    Padding,
}

/// One packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RtpPacket {
    /// Last of its frame, by most payload formats.
    pub marker: bool,
    /// 7 bits.
    pub payload_type: u8,
    /// Counts packets.
    pub sequence: u16,
    /// In ticks of the payload's clock.
    pub timestamp: u32,
    /// Who sends.
    pub ssrc: u32,
    /// Without header, extension and padding.
    pub payload: Bytes,
}

impl RtpPacket {
    /// Reads a datagram. The payload is a slice of it.
    ///
    /// # Errors
    /// It is cut short, or something else.
    pub fn parse(data: &Bytes) -> Result<Self, RtpError> {
        let head: [u8; RTP_HEADER] = data.get(..RTP_HEADER).and_then(|h| h.try_into().ok()).ok_or(RtpError::Short)?;
        if head[0] >> 6 != 2 {
            return Err(RtpError::Version);
        }
        let mut start = RTP_HEADER + 4 * usize::from(head[0] & 15);
        if head[0] & 0x10 != 0 {
            let words = crate::bits::be16(data, start + 2).ok_or(RtpError::Short)?;
            start += 4 + 4 * usize::from(words);
        }
        let mut end = data.len();
        if start > end {
            return Err(RtpError::Short);
        }
        if head[0] & 0x20 != 0 {
            let padding = usize::from(data[end - 1]);
            if padding == 0 || padding > end - start {
                return Err(RtpError::Padding);
            }
            end -= padding;
        }
        Ok(Self {
            marker: head[1] & 0x80 != 0,
            payload_type: head[1] & 0x7F,
            sequence: u16::from_be_bytes([head[2], head[3]]),
            timestamp: u32::from_be_bytes([head[4], head[5], head[6], head[7]]),
            ssrc: u32::from_be_bytes([head[8], head[9], head[10], head[11]]),
            payload: data.slice(start..end),
        })
    }
}

/// Appends a header without extension.
pub fn write_rtp_header(marker: bool, payload_type: u8, sequence: u16, timestamp: u32, ssrc: u32, out: &mut Vec<u8>) {
    out.extend_from_slice(&[0x80, u8::from(marker) << 7 | payload_type & 0x7F]);
    out.extend_from_slice(&sequence.to_be_bytes());
    out.extend_from_slice(&timestamp.to_be_bytes());
    out.extend_from_slice(&ssrc.to_be_bytes());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn extensions_sources_and_padding_are_taken_off() {
        let mut data = Vec::new();
        write_rtp_header(true, 96, 7, 90_000, 0xC0FF_EE00, &mut data);
        data[0] |= 0x20 | 0x10 | 1;
        data.extend_from_slice(&[1, 2, 3, 4]);
        data.extend_from_slice(&[0xAB, 0xAC, 0, 1, 9, 9, 9, 9]);
        data.extend_from_slice(b"picture");
        data.extend_from_slice(&[0, 0, 3]);
        let packet = RtpPacket::parse(&data.clone().into()).expect("a packet");
        assert_eq!(packet.payload.as_ref(), b"picture");
        assert_eq!((packet.marker, packet.payload_type, packet.sequence, packet.timestamp), (true, 96, 7, 90_000));
        for end in 0..data.len() {
            let _ = RtpPacket::parse(&Bytes::from(data[..end].to_vec()));
        }
        let last = data.len() - 1;
        data[last] = 200;
        assert_eq!(RtpPacket::parse(&data.clone().into()), Err(RtpError::Padding));
        data[0] = 0x40;
        assert_eq!(RtpPacket::parse(&data.into()), Err(RtpError::Version));
    }
}
