//! Programme tables: sections with their checksum, PAT and PMT.

use crate::h26x::{self, Stamp};

/// Largest section of these tables (ISO 13818-1, 2.4.4).
const SECTION_MAX: usize = 1024;
/// Registration descriptor of PCM (SMPTE ST 302, 6.2).
const PCM_DESCRIPTOR: &[u8] = &[0x05, 4, b'B', b'S', b'S', b'D'];
/// Elementary streams kept of one programme.
const MAX_STREAMS: usize = 32;

/// The checksum of sections: polynomial 0x04C11DB7, no reflection.
#[must_use]
pub fn crc32(data: &[u8]) -> u32 {
    data.iter().fold(u32::MAX, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte) << 24, |c, _| if c >> 31 == 1 { c << 1 ^ 0x04C1_1DB7 } else { c << 1 })
    })
}

/// Puts sections together from packet payloads.
#[derive(Debug, Clone, Default)]
pub struct SectionReader {
    buffer: Vec<u8>,
    /// Sections whose checksum was wrong.
    pub crc_errors: u64,
}

impl SectionReader {
    /// Takes the payload of one packet; gives the section that it completes.
    pub fn push(&mut self, unit_start: bool, payload: &[u8]) -> Option<Vec<u8>> {
        if unit_start {
            let pointer = usize::from(*payload.first()?);
            self.buffer.clear();
            self.buffer.extend_from_slice(payload.get(1 + pointer..)?);
        } else if self.buffer.is_empty() {
            return None;
        } else {
            self.buffer.extend_from_slice(payload);
        }
        let length = 3 + (usize::from(self.buffer.get(1)? & 0x0F) << 8 | usize::from(*self.buffer.get(2)?));
        if !(12..=SECTION_MAX).contains(&length) {
            self.buffer.clear();
            return None;
        }
        if self.buffer.len() < length {
            return None;
        }
        self.buffer.truncate(length);
        let section = std::mem::take(&mut self.buffer);
        if crc32(&section) != 0 {
            self.crc_errors += 1;
            return None;
        }
        Some(section)
    }
}

/// What an elementary stream carries, by its stream type.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum StreamKind {
    /// 0x1B.
    H264,
    /// 0x24.
    H265,
    /// 0x0F: AAC in ADTS.
    AacAdts,
    /// 0x11: AAC in LATM.
    AacLatm,
    /// 0x03, 0x04: MPEG audio.
    MpegAudio,
    /// 0x06 registered as "BSSD": PCM after SMPTE ST 302.
    St302,
    /// Any other.
    Other(u8),
}

impl StreamKind {
    /// From the table's byte.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0x1B => Self::H264,
            0x24 => Self::H265,
            0x0F => Self::AacAdts,
            0x11 => Self::AacLatm,
            0x03 | 0x04 => Self::MpegAudio,
            other => Self::Other(other),
        }
    }
    /// The table's byte.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::H264 => 0x1B,
            Self::H265 => 0x24,
            Self::AacAdts => 0x0F,
            Self::AacLatm => 0x11,
            Self::MpegAudio => 0x03,
            Self::St302 => 0x06,
            Self::Other(code) => code,
        }
    }
    /// True for video.
    #[must_use]
    pub const fn is_video(self) -> bool {
        matches!(self, Self::H264 | Self::H265)
    }
    /// True for sound.
    #[must_use]
    pub const fn is_audio(self) -> bool {
        matches!(self, Self::AacAdts | Self::AacLatm | Self::MpegAudio | Self::St302)
    }
    /// When a picture of it was taken, if it carries that.
    #[must_use]
    pub fn find_stamp(self, unit: &[u8]) -> Option<Stamp> {
        match self {
            Self::H264 => h26x::find_stamp(unit),
            Self::H265 => h26x::find_hevc_stamp(unit),
            _ => None,
        }
    }
}

impl std::fmt::Display for StreamKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::H264 => f.write_str("H.264"),
            Self::H265 => f.write_str("H.265"),
            Self::AacAdts => f.write_str("AAC"),
            Self::AacLatm => f.write_str("AAC (LATM)"),
            Self::MpegAudio => f.write_str("MPEG audio"),
            Self::St302 => f.write_str("PCM (ST 302)"),
            Self::Other(code) => write!(f, "stream type 0x{code:02x}"),
        }
    }
}

/// One stream of a programme.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PmtStream {
    /// Its packets.
    pub pid: u16,
    /// What it is.
    pub kind: StreamKind,
}

/// A programme map.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pmt {
    /// Programme number.
    pub program: u16,
    /// 5 bits.
    pub version: u8,
    /// Where the clock is.
    pub pcr_pid: u16,
    /// Its streams.
    pub streams: Vec<PmtStream>,
}

impl Pmt {
    /// Reads a checked section.
    #[must_use]
    pub fn parse(section: &[u8]) -> Option<Self> {
        let body = section.get(..section.len().checked_sub(4)?)?;
        let field = |at: usize| Some(u16::from(*body.get(at)?) << 8 | u16::from(*body.get(at + 1)?));
        if *body.first()? != 2 {
            return None;
        }
        let mut at = 12 + usize::from(field(10)? & 0x0FFF);
        let mut streams = Vec::new();
        while at + 5 <= body.len() && streams.len() < MAX_STREAMS {
            let descriptors = usize::from(field(at + 3)? & 0x0FFF);
            let pcm = body[at] == 0x06 && body.get(at + 5..at + 5 + descriptors).is_some_and(|d| d.windows(6).any(|w| w == PCM_DESCRIPTOR));
            let kind = if pcm { StreamKind::St302 } else { StreamKind::from_code(body[at]) };
            streams.push(PmtStream { pid: field(at + 1)? & 0x1FFF, kind });
            at += 5 + descriptors;
        }
        Some(Self { program: field(3)?, version: body.get(5)? >> 1 & 31, pcr_pid: field(8)? & 0x1FFF, streams })
    }
}

/// Programme number and map PID of each programme in a PAT section.
pub(super) fn programs(section: &[u8]) -> impl Iterator<Item = (u16, u16)> {
    let is_pat = section.first() == Some(&0);
    let body = section.len().checked_sub(4).filter(|_| is_pat).and_then(|end| section.get(8..end)).unwrap_or_default();
    body.as_chunks::<4>()
        .0
        .iter()
        .map(|e| (u16::from(e[0]) << 8 | u16::from(e[1]), u16::from(e[2] & 0x1F) << 8 | u16::from(e[3])))
        .filter(|(n, _)| *n != 0)
}

/// The first of them.
pub(super) fn first_program(section: &[u8]) -> Option<(u16, u16)> {
    programs(section).next()
}

fn finish(mut section: Vec<u8>) -> Vec<u8> {
    let length = section.len() - 3 + 4;
    section[1] = 0xB0 | (length >> 8) as u8;
    section[2] = length as u8;
    let crc = crc32(&section);
    section.extend_from_slice(&crc.to_be_bytes());
    section
}

/// A PAT of one programme.
#[must_use]
pub fn pat_section(stream_id: u16, program: u16, pmt_pid: u16) -> Vec<u8> {
    let mut s = vec![0, 0, 0];
    s.extend_from_slice(&stream_id.to_be_bytes());
    s.extend_from_slice(&[0xC1, 0, 0]);
    s.extend_from_slice(&program.to_be_bytes());
    s.extend_from_slice(&(0xE000 | pmt_pid).to_be_bytes());
    finish(s)
}

/// A PMT.
#[must_use]
pub fn pmt_section(pmt: &Pmt) -> Vec<u8> {
    let mut s = vec![2, 0, 0];
    s.extend_from_slice(&pmt.program.to_be_bytes());
    s.extend_from_slice(&[0xC1 | (pmt.version & 31) << 1, 0, 0]);
    s.extend_from_slice(&(0xE000 | pmt.pcr_pid).to_be_bytes());
    s.extend_from_slice(&[0xF0, 0]);
    for stream in &pmt.streams {
        s.push(stream.kind.code());
        s.extend_from_slice(&(0xE000 | stream.pid).to_be_bytes());
        let descriptors: &[u8] = if stream.kind == StreamKind::St302 { PCM_DESCRIPTOR } else { &[] };
        s.extend_from_slice(&[0xF0, descriptors.len() as u8]);
        s.extend_from_slice(descriptors);
    }
    finish(s)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_checksum_matches_a_published_value() {
        assert_eq!(crc32(b"123456789"), 0x0376_E6E7);
    }

    #[test]
    fn tables_survive_and_damage_is_noticed() {
        let pmt = Pmt {
            program: 1,
            version: 3,
            pcr_pid: 256,
            streams: vec![
                PmtStream { pid: 256, kind: StreamKind::H264 },
                PmtStream { pid: 257, kind: StreamKind::AacAdts },
                PmtStream { pid: 258, kind: StreamKind::St302 },
            ],
        };
        let section = pmt_section(&pmt);
        assert_eq!(Pmt::parse(&section), Some(pmt));
        assert_eq!(first_program(&pat_section(1, 1, 4096)), Some((1, 4096)));
        let mut reader = SectionReader::default();
        let payload = [&[0][..], &section, &[0xFF; 20]].concat();
        assert_eq!(reader.push(true, &payload), Some(section.clone()));
        for i in 0..section.len() * 8 {
            let mut bad = payload.clone();
            bad[1 + i / 8] ^= 1 << (i % 8);
            assert_eq!(reader.push(true, &bad), None, "bit {i}");
        }
        assert!(reader.crc_errors > 0);
        let mut parts = SectionReader::default();
        assert_eq!(parts.push(true, &payload[..10]), None);
        assert_eq!(parts.push(false, &payload[10..]), Some(section));
    }
}
