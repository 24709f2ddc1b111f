//! Timed units to a transport stream, where somebody wants one.

use crate::{
    media::Media,
    ts::{AUDIO_PID, MuxRate, PmtStream, Timed, TsWriter, Unit, UnitFormat, VIDEO_PID, WriterConfig},
};
use bytes::Bytes;
use std::sync::Arc;

/// Writes the units of one format.
#[derive(Debug)]
struct Mux {
    format: Arc<UnitFormat>,
    writer: TsWriter,
}

impl Mux {
    fn new(format: Arc<UnitFormat>) -> Self {
        let config = WriterConfig {
            video: format.video().map(|kind| PmtStream { pid: VIDEO_PID, kind }),
            audio: format.audio().map(|kind| PmtStream { pid: AUDIO_PID, kind }),
            rate: MuxRate::Clocked,
            ..WriterConfig::default()
        };
        Self { format, writer: TsWriter::new(config) }
    }

    fn push(&mut self, timed: &Timed, out: &mut Vec<u8>) {
        if timed.jump {
            self.writer.jump_to(timed.clock);
        } else {
            self.writer.clock_to(timed.clock);
        }
        let Some(unit) = &timed.unit else { return self.writer.idle(out) };
        let pieces: Vec<&[u8]> = unit.pieces.iter().map(AsRef::as_ref).collect();
        let unit = Unit { video: unit.kind.is_video(), pts: unit.pts, dts: unit.dts, keyframe: unit.keyframe, data: &pieces };
        self.writer.write(&unit, out);
    }
}

/// Media as a transport stream, whatever its shape: one that is there already is not touched.
#[derive(Debug, Default)]
pub struct ToTs {
    mux: Option<Mux>,
    out: Vec<u8>,
}

impl ToTs {
    /// Takes media; gives the part of the transport stream that it makes. Another format is another
    /// start.
    pub fn push(&mut self, media: &Media) -> Bytes {
        let (format, timed) = match media {
            Media::Ts(bytes) => return bytes.clone(),
            Media::Units(format, timed) => (format, timed),
        };
        let mux = match &mut self.mux {
            Some(mux) if Arc::ptr_eq(&mux.format, format) => mux,
            old => old.insert(Mux::new(format.clone())),
        };
        mux.push(timed, &mut self.out);
        // The next starts empty: room kept from a keyframe would be held by every small piece that
        // waits to be sent.
        Bytes::from(std::mem::take(&mut self.out))
    }
}
