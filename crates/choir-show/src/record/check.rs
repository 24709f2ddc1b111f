//! What is wrong with recordings that are there: also with those of a machine whose power was cut.

use choir_proto::ts::{Origin, PCR_WRAP, TS_PACKET, TsChecker, TsFinding, TsPacket, wrapped_distance};
use std::{
    fs::File,
    io::{self, Read},
    path::Path,
    time::Duration,
};

/// Read together.
const CHUNK: usize = 4096 * TS_PACKET;

/// One file of a recording.
#[derive(Debug)]
pub struct Segment {
    /// Its bytes.
    pub bytes: u64,
    /// Bytes behind its last whole packet: a write was cut off there.
    pub tail: u64,
    /// From its first clock reference to its last.
    pub lasts: Duration,
    /// Clock of its first and last references, 27 MHz.
    pub clock: Option<(u64, u64)>,
    /// What is wrong with it.
    pub findings: Vec<TsFinding>,
}

impl Segment {
    /// Time missing between this one and the next, by their clocks; negative where they overlap, or
    /// the clock is another one. `None` where it cannot be told.
    #[must_use]
    pub fn gap_to(&self, next: &Self) -> Option<f64> {
        let ((_, last), (first, _)) = (self.clock?, next.clock?);
        Some(wrapped_distance(first, last, PCR_WRAP) as f64 / 27e6)
    }
}

/// Reads one file.
///
/// # Errors
/// It cannot be read.
pub fn check(path: &Path) -> io::Result<Segment> {
    let mut file = File::open(path)?;
    let mut checker = TsChecker::new(Origin::Joined);
    let mut segment = Segment { bytes: 0, tail: 0, lasts: Duration::ZERO, clock: None, findings: Vec::new() };
    let (mut ticks, mut carry) = (0i64, Vec::new());
    loop {
        let mut chunk = vec![0; CHUNK];
        let read = file.read(&mut chunk)?;
        chunk.truncate(read);
        segment.bytes += read as u64;
        carry.extend_from_slice(&chunk);
        let whole = carry.len() / TS_PACKET * TS_PACKET;
        for packet in carry[..whole].as_chunks::<TS_PACKET>().0.iter().filter_map(|raw| TsPacket::parse(raw)) {
            let Some(pcr) = packet.adaptation.and_then(|a| a.pcr) else { continue };
            let (first, last) = segment.clock.unwrap_or((pcr, pcr));
            ticks += wrapped_distance(pcr, last, PCR_WRAP).max(0);
            segment.clock = Some((first, pcr));
        }
        checker.push(&carry.drain(..whole).collect::<Vec<u8>>().into());
        if read == 0 {
            break;
        }
    }
    segment.tail = carry.len() as u64;
    segment.lasts = Duration::from_nanos(ticks as u64 * 1000 / 27);
    // What is open at its end goes on in the next.
    checker.finish(false);
    segment.findings = checker.findings().into_iter().filter(|f| !f.minor).collect();
    Ok(segment)
}
