//! Transport stream and MP4 files as ways in: read at the speed of their own clock.

use super::{
    Arrival, Intake,
    clip::{Mp4Source, is_mp4},
    status::LinkStatus,
};
use bytes::{Bytes, BytesMut};
use choir_core::{
    facts::{Contact, Loss, Notice, Waiting},
    link::FileLink,
};
use choir_host::Stop;
use choir_host::clock::{Alarm, unix_ms};
use choir_proto::ts::{PCR_WRAP, PTS_WRAP, PesHeader, TS_PACKET, TsPacket, wrapped_distance};
use std::{
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    fs::File,
    io::{AsyncRead, AsyncReadExt},
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
    /// The OS error.
    pub cause: std::io::Error,
}

/// Plays a file, or standard input without a path, once `gate` is open, or from its start at each
/// take. Ends by itself at the end unless it may play again.
///
/// # Errors
/// The file cannot be opened.
pub async fn spawn_file_in(
    file: &FileLink,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
    mut stop: Stop,
    mut gate: Stop,
) -> Result<JoinHandle<()>, FileError> {
    let file = file.clone();
    let first: Source = match &file.path {
        Some(p) => open(p).await?,
        None => Box::new(tokio::io::stdin()),
    };
    Ok(tokio::spawn(async move {
        status.set_contact(Contact::Waiting(Waiting::FarEnd));
        let playing = async {
            gate.wait().await;
            if file.at_take {
                play_at_takes(&file, intake.as_ref(), &status).await
            } else {
                play_all(&file, Some(first), intake.as_ref(), &status).await
            }
        };
        tokio::select! {
            () = playing => {}
            () = stop.wait() => {}
        }
    }))
}

type Source = Box<dyn AsyncRead + Send + Unpin>;

/// Plays it from its start whenever it is to start, until it is to rest. Safe to cancel.
async fn play_at_takes(file: &FileLink, intake: &dyn Intake, status: &LinkStatus) {
    let mut starts = status.control.starts();
    let mut wanted = starts.borrow_and_update().is_some();
    loop {
        if !wanted {
            status.set_contact(Contact::Waiting(Waiting::Take));
        }
        let playing = async {
            if wanted {
                play_all(file, None, intake, status).await;
                status.set_contact(Contact::Waiting(Waiting::Take));
            }
            std::future::pending::<()>().await;
        };
        tokio::select! {
            () = playing => {}
            changed = starts.changed() => if changed.is_err() { return },
        }
        wanted = starts.borrow_and_update().is_some();
    }
}

/// Plays it to its end, or again and again. Safe to cancel.
async fn play_all(file: &FileLink, mut first: Option<Source>, intake: &dyn Intake, status: &LinkStatus) {
    let mut start = None;
    loop {
        let source = match (first.take(), &file.path) {
            (Some(source), _) => source,
            (None, Some(p)) if file.repeat || start.is_none() => match open(p).await {
                Ok(source) => source,
                Err(e) => return status.set_lost(Loss::Reading(e.to_string())),
            },
            _ => break,
        };
        let mut session = 0;
        status.update(|l| {
            l.sessions += 1;
            session = l.sessions;
            l.since.get_or_insert((Instant::now(), unix_ms()));
            l.contact = Contact::Up;
        });
        match play(source, session, start, intake, status).await {
            Ok(end) => start = Some(end),
            Err(e) => {
                status.tell_lost(Loss::Reading(e.to_string()));
                return status.set_played_out();
            }
        }
    }
    status.note(Notice::PlayedOut);
    status.set_contact(Contact::Waiting(Waiting::EndOfFile));
    status.set_played_out();
}

async fn open(path: &Path) -> Result<Source, FileError> {
    let failed = |cause| FileError { path: path.to_owned(), cause };
    let place = path.to_owned();
    let clip = tokio::task::spawn_blocking(move || if is_mp4(&place)? { Mp4Source::open(&place).map(Some) } else { Ok(None) });
    match clip.await.map_err(|e| failed(e.into())).and_then(|clip| clip.map_err(failed))? {
        Some(clip) => Ok(Box::new(clip)),
        None => File::open(path).await.map(|file| Box::new(file) as Source).map_err(failed),
    }
}

/// Plays once, at the pace of the clock references, from `start` on; gives when its last picture
/// ends, which is when a repeat starts.
async fn play(
    mut source: impl AsyncRead + Unpin,
    session: u32,
    start: Option<Instant>,
    intake: &dyn Intake,
    status: &LinkStatus,
) -> std::io::Result<Instant> {
    let mut alarm = Alarm::new()?;
    let (mut buffer, mut arrivals) = (BytesMut::new(), Vec::new());
    let start = start.unwrap_or_else(Instant::now);
    let mut pace = Pace::new(start);
    loop {
        let span = read_span(&mut source, &mut buffer, &mut pace).await?;
        let Some((bytes, takes)) = span else {
            // A repeat is another session from its first packet on, not before.
            alarm.until(pace.at).await;
            return Ok(pace.at);
        };
        let pieces = bytes.len().div_ceil(CHUNK).max(1) as u32;
        for (n, at) in (0..bytes.len()).step_by(CHUNK).enumerate() {
            alarm.until(pace.at + takes * n as u32 / pieces).await;
            let piece = bytes.slice(at..bytes.len().min(at + CHUNK));
            status.update(|l| {
                l.counters.bytes += piece.len() as u64;
                l.counters.packets += 1;
            });
            arrivals.push(Arrival::ts(session, Instant::now(), piece));
            intake.arrive(&mut arrivals);
        }
        pace.at += takes;
    }
}

struct Pace {
    clock: Option<u64>,
    pid: Option<u16>,
    start: Instant,
    at: Instant,
    /// PID of the pictures, decoding time of the last one and its distance from the one before, 90
    /// kHz.
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
                // A reference holds for the packet it is in, so the span ends before it, and the
                // next begins with it.
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
            return Err(std::io::Error::other("no clock reference within 8 MiB: not a transport stream with a programme clock"));
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
