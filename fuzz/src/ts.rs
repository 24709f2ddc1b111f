//! Transport streams: read, checked, cut into each other.

use super::{bounded, pieces};
use bytes::Bytes;
use choir_proto::{
    legs::LegMerge,
    ts::{Depth, Index, Origin, PacketAligner, Preroll, SourceKey, Splicer, TsChecker, TsReader},
};

/// Pieces of two sources in turn.
pub fn streams(data: &[u8]) {
    let all = pieces(data);
    let mut readers = [TsReader::new(Depth::Units), TsReader::new(Depth::Heads)];
    let (mut checker, mut splicer) = (TsChecker::new(Origin::Joined), Splicer::new());
    let mut sources: [(PacketAligner, Index, Preroll); 2] = Default::default();
    let _ = LegMerge::default();
    for (n, piece) in all.iter().enumerate() {
        // Mostly packets.
        let mut bytes = piece.to_vec();
        if n % 8 != 7 {
            bytes.resize(188, 0xFF);
            bytes[0] = 0x47;
        }
        let (bytes, at) = (Bytes::from(bytes), n as i64 * 1000);
        for reader in &mut readers {
            reader.push(at, &bytes);
            while let Some(unit) = reader.poll_unit() {
                bounded(unit.data.len(), 8 << 20);
            }
        }
        checker.push(&bytes);
        let line = n % 2;
        let (aligner, index, preroll) = &mut sources[line];
        aligner.push(&bytes, |part| {
            let piece = index.push(&part);
            let key = SourceKey { line: line as u32, session: 1 };
            let (out, _) = splicer.push(Some((n / 16 % 2) as u32), key, at, &piece, preroll);
            bounded(out.len(), 20 << 20);
            preroll.push(at, &piece);
        });
    }
    checker.finish(true);
    bounded(checker.findings().len(), 256);
    readers.iter_mut().for_each(TsReader::finish);
    let _ = readers[0].info();
}

/// All of it.
pub fn entry(data: &[u8]) {
    streams(data);
}
