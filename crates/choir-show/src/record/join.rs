//! One MP4 file, in fragments, of the segments of a recording.

use bytes::Bytes;
use choir_proto::{
    mp4::{Mp4Writer, NotWritten},
    ts::{Depth, TsReader},
};
use std::{
    fs::File,
    io::{self, Read, Write},
    path::{Path, PathBuf},
    time::Duration,
};

/// Bytes that are read together: no more units are in them than a reader keeps.
const PIECE: usize = 16 << 10;

/// Why segments cannot be joined.
#[derive(Debug, thiserror::Error)]
pub enum JoinError {
    /// One cannot be read.
    #[error("{path}: {cause}", path = .0.display(), cause = .1)]
    Read(PathBuf, io::Error),
    /// What is in one does not go on from what was before.
    #[error("{path}: {cause}; join what is before it, and what follows, by themselves", path = .0.display(), cause = .1)]
    Other(PathBuf, NotWritten),
    /// The file that is made cannot be written.
    #[error("{0}")]
    Write(io::Error),
    /// There is nothing to play.
    #[error("nothing to play is in these files")]
    Nothing,
}

/// Joins segments in this order; `begins` is told each. Gives how long the pictures last.
///
/// # Errors
/// What was written so far is of no use then.
pub fn join(segments: &[PathBuf], to: &mut impl Write, mut begins: impl FnMut(&Path)) -> Result<Duration, JoinError> {
    // One reader for all: a unit may end in the next segment.
    let (mut reader, mut writer, mut out) = (TsReader::new(Depth::Units), Mp4Writer::default(), Vec::new());
    let mut buffer = vec![0; PIECE];
    for path in segments {
        begins(path);
        let unread = |e| JoinError::Read(path.clone(), e);
        let mut from = File::open(path).map_err(unread)?;
        loop {
            let got = from.read(&mut buffer).map_err(unread)?;
            if got == 0 {
                break;
            }
            reader.push(0, &Bytes::copy_from_slice(&buffer[..got]));
            take(&mut reader, &mut writer, &mut out, path)?;
            to.write_all(&out).map_err(JoinError::Write)?;
            out.clear();
        }
    }
    reader.finish();
    if let Some(last) = segments.last() {
        take(&mut reader, &mut writer, &mut out, last)?;
    }
    writer.finish(&mut out);
    to.write_all(&out).and_then(|()| to.flush()).map_err(JoinError::Write)?;
    let lasts = writer.lasts();
    if lasts.is_zero() { Err(JoinError::Nothing) } else { Ok(lasts) }
}

fn take(reader: &mut TsReader, writer: &mut Mp4Writer, out: &mut Vec<u8>, path: &Path) -> Result<(), JoinError> {
    while let Some(unit) = reader.poll_unit() {
        writer.push(&unit, out).map_err(|e| JoinError::Other(path.to_owned(), e))?;
    }
    Ok(())
}
