//! Timed units to a transport stream, where somebody wants one.

use crate::{
    media::Media,
    ts::{AUDIO_PID, MuxRate, PmtStream, StreamKind, Timed, TsWriter, Unit, UnitFormat, VIDEO_PID, WriterConfig},
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
        let (video, audio) = streams(&format);
        let config = WriterConfig { video, audio, rate: MuxRate::Clocked, ..WriterConfig::default() };
        Self { format, writer: TsWriter::new(config) }
    }

    /// Goes on with another format: counters and clock run on.
    fn change(&mut self, format: &Arc<UnitFormat>) {
        if self.format.streams != format.streams {
            let (video, audio) = streams(format);
            self.writer.set_streams(video, audio);
        }
        self.format = format.clone();
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

/// The streams that a transport stream of this format has.
fn streams(format: &UnitFormat) -> (Option<PmtStream>, Option<PmtStream>) {
    let stream = |pid, kind: Option<StreamKind>| kind.map(|kind| PmtStream { pid, kind });
    (stream(VIDEO_PID, format.video()), stream(AUDIO_PID, format.audio()))
}

/// Media as a transport stream, whatever its shape: one that is there already is not touched.
#[derive(Debug, Default)]
pub struct ToTs {
    mux: Option<Mux>,
    out: Vec<u8>,
}

impl ToTs {
    /// Takes media; gives the part of the transport stream that it makes.
    pub fn push(&mut self, media: &Media) -> Bytes {
        let (format, timed) = match media {
            Media::Ts(bytes) => return bytes.clone(),
            Media::Units(format, timed) => (format, timed),
        };
        let mux = match &mut self.mux {
            Some(mux) => {
                if !Arc::ptr_eq(&mux.format, format) {
                    mux.change(format);
                }
                mux
            }
            none => none.insert(Mux::new(format.clone())),
        };
        mux.push(timed, &mut self.out);
        // The next starts empty: room kept from a keyframe would be held by every small piece that
        // waits to be sent.
        Bytes::from(std::mem::take(&mut self.out))
    }
}
