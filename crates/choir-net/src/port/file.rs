//! Transport stream files: read at the speed of their own clock, written as the media comes.

use super::{Intake, Outlet, Stop, status::LinkStatus};
use crate::clock::{Alarm, unix_ms};
use bytes::{Bytes, BytesMut};
use choir_core::health::Contact;
use choir_proto::ts::{PCR_WRAP, PTS_WRAP, PesHeader, TS_PACKET, TsPacket, wrapped_distance};
use std::{
    collections::VecDeque,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    fs::File,
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt},
    task::JoinHandle,
};

const CHUNK: usize = 7 * TS_PACKET;
/// Bytes between two clock references; more means that there is no clock in the file.
const SPAN_MAX: usize = 8 << 20;
/// A step of the clock larger than this is a cut in the file, not time to wait.
const STEP_MAX: Duration = Duration::from_secs(1);

/// Why a file cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("{path}: {cause}", path = .path.display())]
pub struct FileError {
    /// Its path.
    pub path: PathBuf,
    /// The system's word.
    pub cause: std::io::Error,
}

/// Plays a file, or standard input without a path, once `gate` is open. Ends by itself at the end unless it
/// repeats.
///
/// # Errors
/// The file cannot be opened.
pub async fn spawn_file_in(
    path: Option<&Path>,
    repeat: bool,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
    mut stop: Stop,
    mut gate: Stop,
) -> Result<JoinHandle<()>, FileError> {
    let path = path.map(Path::to_path_buf);
    let mut first: Option<Box<dyn AsyncRead + Send + Unpin>> = Some(match &path {
        Some(p) => Box::new(open(p).await?),
        None => Box::new(tokio::io::stdin()),
    });
    Ok(tokio::spawn(async move {
        let mut session = 0;
        let mut start = None;
        status.set_contact(Contact::Awaited("waiting for the far end before playing".into()));
        tokio::select! {
            () = gate.wait() => {}
            () = stop.wait() => return,
        }
        loop {
            let source = match (first.take(), &path) {
                (Some(source), _) => source,
                (None, Some(p)) if repeat => match open(p).await {
                    Ok(file) => Box::new(file),
                    Err(e) => return status.set_contact(Contact::Lost(e.to_string())),
                },
                _ => break,
            };
            session += 1;
            status.update(|l| {
                l.sessions = session;
                l.since.get_or_insert((Instant::now(), unix_ms()));
                l.contact = Contact::Up;
            });
            let ended = tokio::select! {
                ended = play(source, session, start, intake.as_ref(), &status) => ended,
                () = stop.wait() => return,
            };
            match ended {
                Ok(end) => start = Some(end),
                Err(e) => {
                    status.note(true, format!("reading stopped: {e}"));
                    status.set_played_out();
                    return status.set_contact(Contact::Lost(format!("reading stopped: {e}")));
                }
            }
        }
        status.note(false, "played to the end of the file".into());
        status.set_contact(Contact::Awaited("played to the end of the file".into()));
        status.set_played_out();
    }))
}

async fn open(path: &Path) -> Result<File, FileError> {
    File::open(path).await.map_err(|cause| FileError { path: path.to_owned(), cause })
}

/// Plays once, at the pace of the clock references, from `start` on; gives when its last picture ends, which is when a repeat
/// starts.
async fn play(
    mut source: impl AsyncRead + Unpin,
    session: u32,
    start: Option<Instant>,
    intake: &dyn Intake,
    status: &LinkStatus,
) -> std::io::Result<Instant> {
    let mut alarm = Alarm::new()?;
    let mut buffer = BytesMut::new();
    let start = start.unwrap_or_else(Instant::now);
    let mut pace = Pace::new(start);
    loop {
        let span = read_span(&mut source, &mut buffer, &mut pace).await?;
        let Some((bytes, takes)) = span else { return Ok(pace.at) };
        let pieces = bytes.len().div_ceil(CHUNK).max(1) as u32;
        for (n, at) in (0..bytes.len()).step_by(CHUNK).enumerate() {
            alarm.until(pace.at + takes * n as u32 / pieces).await;
            let piece = bytes.slice(at..bytes.len().min(at + CHUNK));
            status.update(|l| {
                l.bytes += piece.len() as u64;
                l.packets += 1;
            });
            intake.push(session, piece);
        }
        pace.at += takes;
    }
}

struct Pace {
    clock: Option<u64>,
    pid: Option<u16>,
    start: Instant,
    at: Instant,
    /// PID of the pictures, decoding time of the last one and its distance from the one before, 90 kHz.
    pictures: Option<(u16, u64, u64)>,
    /// Sum of these distances.
    length: u64,
}

impl Pace {
    fn new(start: Instant) -> Self {
        Self { clock: None, pid: None, start, at: start, pictures: None, length: 0 }
    }

    /// Adds up how long the pictures last.
    fn note(&mut self, p: &TsPacket<'_>) {
        let header = p.payload.filter(|_| p.unit_start).and_then(PesHeader::parse).filter(|h| h.stream_id & 0xF0 == 0xE0);
        let Some(dts) = header.and_then(|h| h.dts.or(h.pts)) else { return };
        match &mut self.pictures {
            None => self.pictures = Some((p.pid, dts, 0)),
            Some((pid, last, step)) if *pid == p.pid => {
                let ticks = wrapped_distance(dts, *last, PTS_WRAP);
                // A cut in the file counts as one more picture.
                if (1..90_000).contains(&ticks) {
                    *step = ticks.unsigned_abs();
                }
                *last = dts;
                self.length += *step;
            }
            Some(_) => {}
        }
    }

    /// When the last picture ends; at once where that cannot be told.
    fn rest(&self) -> Duration {
        let step = self.pictures.map_or(0, |(_, _, step)| step);
        let end = self.start + Duration::from_nanos((self.length + step) * 100_000 / 9);
        end.saturating_duration_since(self.at).min(STEP_MAX)
    }
}

/// The bytes up to the next clock reference, and how long they last. `None` at the end.
async fn read_span(
    source: &mut (impl AsyncRead + Unpin),
    buffer: &mut BytesMut,
    pace: &mut Pace,
) -> std::io::Result<Option<(Bytes, Duration)>> {
    let mut seen = 0;
    loop {
        while let Some(raw) = buffer.get(seen..seen + TS_PACKET) {
            let parsed = TsPacket::parse(raw);
            let pcr = parsed.and_then(|p| p.adaptation.and_then(|a| a.pcr).map(|pcr| (p.pid, pcr)));
            seen += TS_PACKET;
            // The packet that ends a span is seen again at the start of the next one.
            if let Some(p) = parsed.filter(|_| seen > TS_PACKET || pace.clock.is_none()) {
                pace.note(&p);
            }
            if let Some((pid, pcr)) = pcr
                && *pace.pid.get_or_insert(pid) == pid
            {
                // A reference holds for the packet it is in, so the span ends before it, and the next begins with it.
                let Some(last) = pace.clock.replace(pcr).filter(|_| seen > TS_PACKET) else { continue };
                let ticks = wrapped_distance(pcr, last, PCR_WRAP);
                let step = Duration::from_nanos(u64::try_from(ticks).unwrap_or(0) * 1000 / 27);
                let step = if step > STEP_MAX { Duration::ZERO } else { step };
                let rest = buffer.split_off(seen - TS_PACKET);
                let span = std::mem::replace(buffer, rest).freeze();
                return Ok(Some((span, step)));
            }
        }
        if buffer.len() > SPAN_MAX {
            return Err(std::io::Error::other("no clock reference within 8 MiB: this is no transport stream with a programme clock"));
        }
        buffer.reserve(64 * 1024);
        if source.read_buf(buffer).await? == 0 {
            let whole = buffer.len() / TS_PACKET * TS_PACKET;
            let rest = buffer.split_to(whole).freeze();
            buffer.clear();
            return Ok((!rest.is_empty()).then(|| (rest, pace.rest())));
        }
    }
}

/// Writes to a file, or to standard output without a path. A recording that is there already is kept under another name; after a
/// failed write it goes on as soon as writing works again.
///
/// # Errors
/// The file cannot be created.
pub async fn spawn_file_out(
    path: Option<&Path>,
    outlet: Arc<Outlet>,
    status: Arc<LinkStatus>,
    mut stop: Stop,
) -> Result<JoinHandle<()>, FileError> {
    let mut sink = Sink::open(path, &status).await?;
    status.set_open();
    Ok(tokio::spawn(async move {
        let mut taken: VecDeque<Bytes> = VecDeque::new();
        loop {
            let stopping = tokio::select! {
                () = stop.wait() => true,
                () = outlet.wake.notified() => false,
            };
            let ended = outlet.has_ended();
            outlet.swap(&mut taken);
            sink.write(&mut taken, &status).await;
            if stopping || ended {
                return;
            }
        }
    }))
}

/// Between tries after a failed write.
const WRITE_AGAIN: Duration = Duration::from_secs(1);

/// Where a recording goes.
struct Sink {
    path: Option<PathBuf>,
    /// `None` after a failed write, until it is opened again.
    out: Option<Box<dyn AsyncWrite + Send + Unpin>>,
    failed: Option<Failed>,
}

struct Failed {
    since: Instant,
    next_try: Instant,
    pieces: u64,
}

impl Sink {
    async fn open(path: Option<&Path>, status: &LinkStatus) -> Result<Self, FileError> {
        let fail = |p: &Path| {
            let path = p.to_owned();
            move |cause| FileError { path, cause }
        };
        let out: Box<dyn AsyncWrite + Send + Unpin> = match path {
            Some(p) => {
                if let Some(kept) = keep_recording(p).await.map_err(fail(p))? {
                    status.note(false, format!("{} was there already: kept as {}", p.display(), kept.display()));
                }
                Box::new(File::create(p).await.map_err(fail(p))?)
            }
            None => Box::new(tokio::io::stdout()),
        };
        Ok(Self { path: path.map(Path::to_owned), out: Some(out), failed: None })
    }

    /// Writes what is there; what cannot be written is counted as missing.
    async fn write(&mut self, taken: &mut VecDeque<Bytes>, status: &LinkStatus) {
        self.try_again(status).await;
        let Some(out) = &mut self.out else {
            if let Some(f) = &mut self.failed {
                f.pieces += taken.len() as u64;
            }
            return taken.clear();
        };
        let written = async {
            for piece in taken.iter() {
                out.write_all(piece).await?;
                status.update(|l| {
                    l.bytes += piece.len() as u64;
                    l.packets += 1;
                });
            }
            out.flush().await
        };
        if let Err(e) = written.await {
            let now = Instant::now();
            self.out = None;
            self.failed = Some(Failed { since: now, next_try: now + WRITE_AGAIN, pieces: taken.len() as u64 });
            // A full disk: what was written stays, and the rest of the show goes on.
            let again = if self.path.is_some() { "; trying again each second" } else { "" };
            status.note(true, format!("writing stopped: {e}{again}"));
            status.set_contact(Contact::Lost(format!("writing stopped: {e}{again}")));
        }
        taken.clear();
    }

    /// Opens the file again behind its last whole packet, once in a while.
    async fn try_again(&mut self, status: &LinkStatus) {
        let (Some(path), Some(f)) = (&self.path, &mut self.failed) else { return };
        if Instant::now() < f.next_try {
            return;
        }
        f.next_try = Instant::now() + WRITE_AGAIN;
        let opened = async {
            let mut file = tokio::fs::OpenOptions::new().append(true).create(true).open(path).await?;
            let whole = file.metadata().await?.len() / TS_PACKET as u64 * TS_PACKET as u64;
            file.set_len(whole).await?;
            // Tells a full disk from one with room again: padding that every receiver passes over.
            file.write_all(&NULL_PACKET).await?;
            file.flush().await?;
            std::io::Result::Ok(file)
        };
        if let Ok(file) = opened.await {
            let (lost, pieces) = (f.since.elapsed().as_secs_f64(), f.pieces);
            status.note(true, format!("writing again after {lost:.1} s: {pieces} pieces of the stream are missing in the file"));
            status.set_contact(Contact::Up);
            self.out = Some(Box::new(file));
            self.failed = None;
        }
    }
}

/// A null packet (ISO 13818-1, 2.4.1).
const NULL_PACKET: [u8; TS_PACKET] = {
    let mut packet = [0xFF; TS_PACKET];
    (packet[0], packet[1], packet[2], packet[3]) = (0x47, 0x1F, 0xFF, 0x10);
    packet
};

/// Recordings of one name that are told apart.
const KEPT_MAX: u32 = 10_000;

/// Moves a recording out of the way of a new one; gives its new name. Devices, pipes and empty files stay.
async fn keep_recording(path: &Path) -> std::io::Result<Option<PathBuf>> {
    match tokio::fs::symlink_metadata(path).await {
        Ok(m) if m.is_file() && m.len() > 0 => {}
        _ => return Ok(None),
    }
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let end = path.extension().map_or_else(String::new, |e| format!(".{}", e.to_string_lossy()));
    for n in 1..KEPT_MAX {
        let kept = path.with_file_name(format!("{stem}-{n}{end}"));
        // Linked before it is unlinked, so that no other recording is overwritten in between.
        match tokio::fs::hard_link(path, &kept).await {
            Ok(()) => {
                tokio::fs::remove_file(path).await?;
                return Ok(Some(kept));
            }
            Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
            Err(e) => return Err(e),
        }
    }
    Err(std::io::Error::other(format!("there are {KEPT_MAX} recordings of this name: clear some away")))
}
