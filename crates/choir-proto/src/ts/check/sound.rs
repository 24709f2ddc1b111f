//! Sound without holes: frame lengths that lead to the next frame, units that follow on each other.

use super::{Findings, Place, TsFault, ticks};
use crate::{
    adts,
    ts::{PTS_WRAP, StreamKind, sound_ticks},
};

/// Times may be rounded by this much, 90 kHz: 5 ms, less than half of any frame.
const TOLERANCE: i64 = 450;
/// The longest frame of AAC at the usual rates (44.1 kHz): what a cut may leave out.
const FRAME: i64 = 2090;

#[derive(Debug, Default)]
pub(super) struct Sound {
    /// When the last unit ends.
    end: Option<u64>,
    /// Bytes of a frame that goes on in the next PES packet.
    open_frame: usize,
}

impl Sound {
    /// What comes next does not follow on what was.
    pub fn restart(&mut self) {
        *self = Self::default();
    }

    pub fn unit(&mut self, pid: u16, kind: StreamKind, pts: Option<u64>, data: &[u8], at: Place, found: &mut Findings) {
        let mut length = sound_ticks(kind, data);
        if kind == StreamKind::AacAdts {
            let Some(frames) = self.frames(data) else {
                found.note(TsFault::AdtsLength, pid, at);
                return self.restart();
            };
            length = Some(frames);
        }
        let Some(pts) = pts else { return };
        if let Some(end) = self.end {
            let step = ticks(pts, end);
            if step > TOLERANCE {
                found.add(TsFault::SoundGap, Some(pid), at, 1, step.unsigned_abs() / 90, step <= FRAME);
            } else if step < -TOLERANCE {
                found.far(TsFault::SoundOverlap, pid, at, step);
            }
        }
        self.end = length.map(|l| (pts + l) % PTS_WRAP);
    }

    /// Ticks of the frames that begin in this payload; `None` when a frame does not end where it
    /// says.
    fn frames(&mut self, data: &[u8]) -> Option<u64> {
        let mut rest = data.get(self.open_frame..)?;
        self.open_frame = 0;
        let mut length = 0.0;
        while !rest.is_empty() {
            let header = adts::parse(rest)?;
            length += f64::from(header.samples) * 90_000.0 / f64::from(header.sample_rate);
            if header.frame_bytes > rest.len() {
                self.open_frame = header.frame_bytes - rest.len();
                break;
            }
            rest = &rest[header.frame_bytes..];
        }
        Some(length.round() as u64)
    }
}
