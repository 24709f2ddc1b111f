//! MPEG transport streams (ISO/IEC 13818-1, H.222.0).
//!
//! An [`Index`] parses a source once; [`TsMeter`] and [`Splicer`] read it. A [`TsMeter`] says what
//! is in a source and can cut it into access units ([`TsReader`] does both by itself); a
//! [`Splicer`] joins several into one without a jump in time. [`TsWriter`] makes a stream;
//! [`TsChecker`] says what is wrong with one.

mod align;
mod check;
mod index;
mod look;
mod meter;
mod packet;
mod pes;
mod programme;
mod psi;
mod reader;
mod recent;
mod segments;
mod sound;
mod splice;
mod unit;
mod writer;

pub use align::{Aligned, PacketAligner};
pub use check::{Origin, TsChecker, TsFault, TsFinding};
pub use index::{Index, Piece, TsCounters};
pub use meter::{Depth, MediaInfo, PcrInfo, StreamInfo, TsMeter, VideoInfo};
pub use packet::{Adaptation, TS_PACKET, TsPacket};
pub use pes::{PesHeader, write_pes_header};
pub use psi::{Pmt, PmtStream, SectionReader, StreamKind, crc32, pat_section, pmt_section};
pub use reader::TsReader;
pub use recent::{Recent, Sent, Since};
pub use segments::{Part, SegmentLimit, Segments};
pub use sound::{SoundEnd, sound_after, sound_ticks};
pub(crate) use splice::limits;
pub use splice::{Cut, Preroll, SourceKey, Splicer};
pub(crate) use unit::{AUDIO_PID, VIDEO_PID};
pub use unit::{AccessUnit, Timed, TimedUnit, UnitFormat};
pub(crate) use writer::PCR_EVERY;
pub use writer::{MuxRate, TsWriter, Unit, WriterConfig};

/// Ticks of the 33-bit 90 kHz clock of PTS and DTS before it wraps (26.5 hours).
pub const PTS_WRAP: u64 = 1 << 33;
/// Ticks of the 27 MHz clock before it wraps.
pub const PCR_WRAP: u64 = PTS_WRAP * 300;

/// Signed distance from `b` to `a` on a clock that wraps at `wrap`.
#[must_use]
pub const fn wrapped_distance(a: u64, b: u64, wrap: u64) -> i64 {
    let d = (a + wrap - b % wrap) % wrap;
    if d >= wrap / 2 { d as i64 - wrap as i64 } else { d as i64 }
}

/// Counts 33-bit times on over their wraps, from the first one.
#[derive(Debug, Clone, Copy, Default)]
pub struct LongPts {
    last: Option<(u64, i64)>,
}

impl LongPts {
    /// This time, counted on.
    pub fn long(&mut self, pts: u64) -> i64 {
        let long = self.last.map_or(pts as i64, |(last, long)| long + wrapped_distance(pts, last, PTS_WRAP));
        self.last = Some((pts, long));
        long
    }
}
