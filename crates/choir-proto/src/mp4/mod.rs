//! MP4 files (ISO 14496-12): read whole or in fragments, written in fragments, with H.264 and H.265
//! (ISO 14496-15) and AAC (ISO 14496-14).

mod boxes;
mod read;
mod write;

pub use read::{Mp4Error, Mp4File, Sample, SampleData};
pub use write::{Mp4Writer, NotWritten};
