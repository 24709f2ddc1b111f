//! What hostile input is put in front of, for the fuzzer (`fuzz/targets`) and for the property test
//! that each test run has (`crates/choir/tests/hostile.rs`, which takes this file in): engines in front of which hostile input is put, also behind a
//! greeting that is right, where most of the code is.

use std::time::Instant;

pub mod control;
pub mod devices;
pub mod files;
pub mod names;
pub mod rtmp;
pub mod rtp;
pub mod rtsp;
pub mod seeds;
pub mod sheet;
pub mod srt;
pub mod stave;
pub mod survey;
pub mod ts;
pub mod units;

/// What takes hostile input, by its name.
pub type Entry = (&'static str, fn(&[u8]));

/// All of it.
pub const ENTRIES: &[Entry] = &[
    ("control", control::entry),
    ("devices", devices::entry),
    ("files", files::entry),
    ("names", names::entry),
    ("rtmp", rtmp::entry),
    ("rtp", rtp::entry),
    ("rtsp", rtsp::entry),
    ("sheet", sheet::entry),
    ("srt", srt::entry),
    ("stave", stave::entry),
    ("survey", survey::entry),
    ("ts", ts::entry),
    ("units", units::entry),
];

/// Memory that is kept must have a bound.
pub fn bounded(is: usize, most: usize) {
    assert!(is <= most, "{is}, of at most {most}");
}

/// Any time will do.
pub fn start() -> Instant {
    Instant::now()
}

/// The data in pieces: two bytes in front of each say how long it is, up to 2047.
pub fn pieces(mut data: &[u8]) -> Vec<&[u8]> {
    let mut all = Vec::new();
    while let Some(([a, b], rest)) = data.split_first_chunk() {
        let length = usize::from(u16::from_be_bytes([*a, *b]) & 0x7FF);
        let (piece, more) = rest.split_at(length.min(rest.len()));
        all.push(piece);
        data = more;
    }
    all
}

/// Pieces as `pieces` takes them apart.
pub fn joined<T: AsRef<[u8]>>(pieces: impl IntoIterator<Item = T>) -> Vec<u8> {
    let mut all = Vec::new();
    for piece in pieces {
        let piece = &piece.as_ref()[..piece.as_ref().len().min(0x7FF)];
        all.extend((piece.len() as u16).to_be_bytes());
        all.extend(piece);
    }
    all
}
