//! Reads a transport stream by itself, where nobody else needs its index.

use super::{AccessUnit, Aligned, Depth, Index, MediaInfo, PacketAligner, TsMeter};
use bytes::Bytes;

/// A transport stream reader. Takes any cut of bytes, finds sync again after damage.
#[derive(Debug)]
pub struct TsReader {
    aligner: PacketAligner,
    index: Index,
    meter: TsMeter,
}

impl TsReader {
    /// A reader at the start of a stream.
    #[must_use]
    pub fn new(depth: Depth) -> Self {
        Self { aligner: PacketAligner::default(), index: Index::default(), meter: TsMeter::new(depth) }
    }

    /// Sets what is added to times of arrival (µs) to get UTC, which stamps are in.
    pub fn set_utc_offset(&mut self, offset_us: i64) {
        self.meter.set_utc_offset(offset_us);
    }

    /// What is known so far.
    #[must_use]
    pub fn info(&self) -> MediaInfo {
        self.meter.info(self.index.counters())
    }

    /// The next whole access unit, with [`Depth::Units`].
    pub fn poll_unit(&mut self) -> Option<AccessUnit> {
        self.meter.poll_unit()
    }

    /// Nothing more comes: what is open has ended.
    pub fn finish(&mut self) {
        self.meter.finish();
    }

    /// Takes bytes that arrived at `at` (µs on any clock that never steps; see
    /// [`TsReader::set_utc_offset`]).
    pub fn push(&mut self, at: i64, data: &Bytes) {
        let (index, meter) = (&mut self.index, &mut self.meter);
        self.aligner.push(data, |part: Aligned| meter.push(at, &index.push(&part)));
    }
}
