//! Media between protocols: transport streams, or access units in the pieces in which they came,
//! never put together on the way.

use crate::ts::{Timed, UnitFormat};
use bytes::Bytes;
use std::{sync::Arc, time::Instant};

/// Media in one of its two shapes.
#[derive(Debug, Clone)]
pub enum Media {
    /// A piece of a transport stream.
    Ts(Bytes),
    /// One unit of a source, or its clock alone. One format is one start of the source.
    Units(Arc<UnitFormat>, Timed),
}

impl Media {
    /// The piece, if it is one of a transport stream.
    #[must_use]
    pub fn into_ts(self) -> Option<Bytes> {
        if let Self::Ts(bytes) = self { Some(bytes) } else { None }
    }

    /// Bytes of media in it.
    #[must_use]
    pub fn size(&self) -> usize {
        match self {
            Self::Ts(bytes) => bytes.len(),
            Self::Units(_, timed) => timed.unit.iter().flat_map(|u| &u.pieces).map(Bytes::len).sum(),
        }
    }
}

/// One whole frame or audio packet of a track.
#[derive(Debug, Clone)]
pub struct MediaUnit {
    /// Place of its track in the session.
    pub track: usize,
    /// Presentation time, 90 kHz, 33 bits.
    pub pts: u64,
    /// Decoding time, where the protocol brings one; else it is worked out.
    pub dts: Option<u64>,
    /// Decoding can start here.
    pub keyframe: bool,
    /// A hole is in it, or something before it that it needs is missing.
    pub damaged: bool,
    /// When its last packet came.
    pub arrived: Instant,
    /// Byte stream with start codes (without delimiter), ADTS frames or PCM, in pieces.
    pub pieces: Vec<Bytes>,
}

impl MediaUnit {
    /// All of it in one, which costs a copy: for tests and for looking at.
    #[must_use]
    pub fn joined(&self) -> Vec<u8> {
        self.pieces.concat()
    }
}

/// What a track carries.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Codec {
    /// H.264 video.
    H264,
    /// H.265 video.
    H265,
    /// AAC, handed on in ADTS.
    Aac(crate::audio::AacConfig),
    /// G.711, handed on as PCM of 48 kHz, two channels, in SMPTE ST 302.
    G711(crate::audio::Law),
    /// PCM of 24 bits at 48 kHz in so many channels, handed on in SMPTE ST 302.
    Pcm(u8),
    /// A whole transport stream.
    Ts,
}

impl Codec {
    /// True for pictures.
    #[must_use]
    pub const fn is_video(&self) -> bool {
        matches!(self, Self::H264 | Self::H265)
    }
}

impl std::fmt::Display for Codec {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::H264 => f.write_str("H.264"),
            Self::H265 => f.write_str("H.265"),
            Self::Aac(_) => f.write_str("AAC"),
            Self::G711(law) => write!(f, "G.711 {law}"),
            Self::Pcm(channels) => write!(f, "PCM in {channels} channels"),
            Self::Ts => f.write_str("transport stream"),
        }
    }
}
