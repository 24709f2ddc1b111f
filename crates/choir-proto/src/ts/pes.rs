//! PES headers: time stamps of access units (ISO 13818-1, 2.4.3.6).

/// What a PES header says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PesHeader {
    /// 0xE0.. video, 0xC0.. audio.
    pub stream_id: u8,
    /// Presentation time, 90 kHz, 33 bits.
    pub pts: Option<u64>,
    /// Decoding time, where it differs.
    pub dts: Option<u64>,
    /// Bytes before the payload.
    pub header_bytes: usize,
    /// Bytes of payload, when the length is given.
    pub payload_bytes: Option<usize>,
}

impl PesHeader {
    /// Reads the header of an audio or video PES packet.
    #[must_use]
    pub fn parse(data: &[u8]) -> Option<Self> {
        let head = data.get(..9)?;
        if head[..3] != [0, 0, 1] || head[6] & 0xC0 != 0x80 {
            return None;
        }
        let length = usize::from(head[4]) << 8 | usize::from(head[5]);
        let header_bytes = 9 + usize::from(head[8]);
        let pts = if head[7] & 0x80 != 0 { Some(read_time(data.get(9..14)?)) } else { None };
        let dts = if head[7] & 0xC0 == 0xC0 { Some(read_time(data.get(14..19)?)) } else { None };
        let payload_bytes = if length == 0 { None } else { (length + 6).checked_sub(header_bytes) };
        Some(Self { stream_id: head[3], pts, dts, header_bytes, payload_bytes })
    }
}

fn read_time(b: &[u8]) -> u64 {
    u64::from(b[0] >> 1 & 7) << 30 | u64::from(b[1]) << 22 | u64::from(b[2] >> 1) << 15 | u64::from(b[3]) << 7 | u64::from(b[4] >> 1)
}

/// The five bytes of a time stamp behind its prefix.
pub(super) fn time_bytes(prefix: u8, t: u64) -> [u8; 5] {
    let t = t % super::PTS_WRAP;
    [prefix << 4 | ((t >> 30) as u8 & 7) << 1 | 1, (t >> 22) as u8, ((t >> 15) as u8) << 1 | 1, (t >> 7) as u8, (t as u8) << 1 | 1]
}

/// Appends a header. `payload` is written as length, but for video that is too long for it: 0
/// (unbounded).
pub fn write_pes_header(stream_id: u8, pts: u64, dts: Option<u64>, payload: usize, out: &mut Vec<u8>) {
    let dts = dts.filter(|d| *d != pts);
    let extra = if dts.is_some() { 10 } else { 5 };
    let length = u16::try_from(payload + 3 + extra).unwrap_or(0);
    out.extend_from_slice(&[0, 0, 1, stream_id]);
    out.extend_from_slice(&length.to_be_bytes());
    out.extend_from_slice(&[0x84, if dts.is_some() { 0xC0 } else { 0x80 }, extra as u8]);
    out.extend_from_slice(&time_bytes(if dts.is_some() { 3 } else { 2 }, pts));
    if let Some(dts) = dts {
        out.extend_from_slice(&time_bytes(1, dts));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_survive() {
        for (id, pts, dts) in [(0xE0, 0, None), (0xE0, (1 << 33) - 1, Some(5)), (0xC0, 123_456_789, None)] {
            let mut data = Vec::new();
            write_pes_header(id, pts, dts, if id < 0xE0 { 100 } else { 100_000 }, &mut data);
            let header = PesHeader::parse(&data).expect("a header");
            assert_eq!((header.stream_id, header.pts, header.dts), (id, Some(pts), dts));
            assert_eq!(header.header_bytes, data.len());
            assert_eq!(header.payload_bytes, (id < 0xE0).then_some(100));
            for end in 0..data.len() {
                assert!(PesHeader::parse(&data[..end]).is_none());
            }
        }
    }
}
