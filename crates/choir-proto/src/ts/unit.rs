//! Access units: as a transport stream has them, and as one can be made of them.

use super::StreamKind;
use bytes::Bytes;
use std::sync::Arc;

/// PIDs of units, as a transport stream made of them has them.
pub(crate) const VIDEO_PID: u16 = 0x100;
pub(crate) const AUDIO_PID: u16 = 0x101;

/// One whole frame or audio packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessUnit {
    /// Its stream.
    pub pid: u16,
    /// What it is.
    pub kind: StreamKind,
    /// Presentation time, 90 kHz.
    pub pts: Option<u64>,
    /// Decoding time.
    pub dts: Option<u64>,
    /// Decoding can start here.
    pub keyframe: bool,
    /// When its last packet was handed in.
    pub arrived: i64,
    /// Byte stream or ADTS frames.
    pub data: Bytes,
    /// What its source has besides.
    pub format: Arc<UnitFormat>,
}

/// What the units of a source are.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UnitFormat {
    /// Its streams, in the order of its table.
    pub streams: Vec<StreamKind>,
}

impl UnitFormat {
    /// The first stream of pictures.
    #[must_use]
    pub fn video(&self) -> Option<StreamKind> {
        self.streams.iter().copied().find(|k| k.is_video())
    }

    /// The first stream of sound.
    #[must_use]
    pub fn audio(&self) -> Option<StreamKind> {
        self.streams.iter().copied().find(|k| k.is_audio())
    }
}

/// The source's clock, and a unit that came then.
#[derive(Debug, Clone)]
pub struct Timed {
    /// 27 MHz, behind the decoding times by what the network may delay a unit; counted on over its
    /// wraps.
    pub clock: u64,
    /// The clock has jumped.
    pub jump: bool,
    /// The unit.
    pub unit: Option<TimedUnit>,
}

/// One access unit in time.
#[derive(Debug, Clone)]
pub struct TimedUnit {
    /// What it is.
    pub kind: StreamKind,
    /// Presentation time, 90 kHz, 33 bits.
    pub pts: u64,
    /// Decoding time, where it differs.
    pub dts: Option<u64>,
    /// Decoding can start here.
    pub keyframe: bool,
    /// Byte stream with start codes (without delimiter), ADTS frames or ST 302 frames, in pieces.
    pub pieces: Vec<Bytes>,
}

impl TimedUnit {
    /// The stream that it belongs to, as a transport stream made of it has it.
    #[must_use]
    pub const fn pid(&self) -> u16 {
        if self.kind.is_video() { VIDEO_PID } else { AUDIO_PID }
    }

    /// In one, which costs a copy.
    #[must_use]
    pub fn joined(&self, arrived: i64, format: &Arc<UnitFormat>) -> AccessUnit {
        let data = if let [one] = &self.pieces[..] { one.clone() } else { self.pieces.concat().into() };
        AccessUnit {
            pid: self.pid(),
            kind: self.kind,
            pts: Some(self.pts),
            dts: self.dts,
            keyframe: self.keyframe,
            arrived,
            data,
            format: format.clone(),
        }
    }
}
