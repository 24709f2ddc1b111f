//! MP4 files as transport streams, made as they are read.

use bytes::Bytes;
use choir_proto::{
    mp4::{Mp4Error, Mp4File, SampleData},
    ts::{PTS_WRAP, PmtStream, StreamKind, TsWriter, Unit, WriterConfig},
};
use std::{
    fs::File,
    io::{self, Read, Seek, SeekFrom},
    path::Path,
    pin::Pin,
    task::{Context, Poll, ready},
};
use tokio::{
    io::{AsyncRead, ReadBuf},
    sync::mpsc,
};

/// Bytes that are handed on together.
const PIECE: usize = 64 << 10;
/// Pieces that wait to be read.
const WAITING: usize = 8;
/// Its clock begins here, 90 kHz: there is room below it for what is decoded first.
const BEGINS: u64 = 90_000;

/// It is an MP4 file, by its first bytes.
///
/// # Errors
/// It cannot be read.
pub fn is_mp4(path: &Path) -> io::Result<bool> {
    let mut start = Vec::new();
    File::open(path)?.take(12).read_to_end(&mut start)?;
    Ok(start.len() == 12 && matches!(&start[4..8], b"ftyp" | b"moov"))
}

/// Makes a transport stream of an MP4 file, in pieces; ends when `give` no longer takes one.
///
/// # Errors
/// The file cannot be read, or nothing in it can be used.
pub fn mp4_to_ts(path: &Path, mut give: impl FnMut(Bytes) -> bool) -> Result<(), Mp4Error> {
    let mut file = File::open(path)?;
    let clip = Mp4File::read(&mut file)?;
    let stream = |pid, data: Option<&SampleData>| {
        let kind = match data? {
            SampleData::Picture { kind, .. } => *kind,
            SampleData::Sound(_) => StreamKind::AacAdts,
        };
        Some(PmtStream { pid, kind })
    };
    let config = WriterConfig { video: stream(0x100, clip.data(true)), audio: stream(0x101, clip.data(false)), ..WriterConfig::default() };
    let (mut writer, mut out, mut data) = (TsWriter::new(config), Vec::new(), Vec::new());
    for sample in &clip.samples {
        let Some(kind) = clip.data(sample.video) else { continue };
        data.resize(sample.size as usize, 0);
        file.seek(SeekFrom::Start(sample.offset))?;
        file.read_exact(&mut data)?;
        let unit = kind.unit(&data, sample.keyframe);
        let time = |t: u64| (t + BEGINS) % PTS_WRAP;
        let dts = (sample.video && sample.dts != sample.pts).then(|| time(sample.dts));
        writer.write(&Unit { video: sample.video, pts: time(sample.pts), dts, keyframe: sample.keyframe, data: &[&unit] }, &mut out);
        if out.len() >= PIECE && !give(std::mem::take(&mut out).into()) {
            return Ok(());
        }
    }
    if !out.is_empty() {
        give(out.into());
    }
    Ok(())
}

/// The transport stream of an MP4 file, made by a thread of its own as it is read.
pub(crate) struct Mp4Source {
    pieces: mpsc::Receiver<io::Result<Bytes>>,
    left: Bytes,
}

impl Mp4Source {
    pub fn open(path: &Path) -> io::Result<Self> {
        // What is wrong with it is told at once.
        Mp4File::read(&mut File::open(path)?).map_err(io::Error::other)?;
        let (tx, pieces) = mpsc::channel(WAITING);
        let path = path.to_owned();
        std::thread::Builder::new().name("clip".into()).spawn(move || {
            if let Err(e) = mp4_to_ts(&path, |piece| tx.blocking_send(Ok(piece)).is_ok()) {
                let _ = tx.blocking_send(Err(io::Error::other(e)));
            }
        })?;
        Ok(Self { pieces, left: Bytes::new() })
    }
}

impl AsyncRead for Mp4Source {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        while self.left.is_empty() {
            match ready!(self.pieces.poll_recv(cx)) {
                Some(Ok(piece)) => self.left = piece,
                Some(Err(e)) => return Poll::Ready(Err(e)),
                None => return Poll::Ready(Ok(())),
            }
        }
        let count = into.remaining().min(self.left.len());
        into.put_slice(&self.left.split_to(count));
        Poll::Ready(Ok(()))
    }
}
