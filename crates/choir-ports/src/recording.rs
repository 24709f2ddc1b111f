//! A way out into a file: what was there is kept, a failed write does not end it, and what is wrong
//! with the stream is said.

use super::{Outlet, file::FileError, status::LinkStatus};
use crate::defects::defect;
use bytes::Bytes;
use choir_core::facts::{Loss, Notice};
use choir_host::Stop;
use choir_proto::ts::{Origin, TS_PACKET, TsChecker, TsFault};
use std::{
    collections::VecDeque,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    fs::File,
    io::{AsyncWrite, AsyncWriteExt},
    task::JoinHandle,
};

/// Writes to a file, or to standard output without a path. A recording that is there already is
/// kept under another name; after a failed write it goes on as soon as writing works again.
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
    status.begin_session();
    Ok(tokio::spawn(async move {
        let mut taken: VecDeque<Bytes> = VecDeque::new();
        loop {
            let stopping = tokio::select! {
                () = stop.wait() => true,
                () = outlet.filled() => false,
            };
            let ended = outlet.has_ended();
            outlet.take_into(&mut taken);
            sink.write(&mut taken, &status).await;
            if stopping || ended {
                return sink.sum_up(&status);
            }
        }
    }))
}

/// How often what was found in a recording is told.
const JUDGE_EVERY: Duration = Duration::from_secs(1);
/// Between tries after a failed write.
const WRITE_AGAIN: Duration = Duration::from_secs(1);

/// Where a recording goes.
struct Sink {
    path: Option<PathBuf>,
    /// `None` after a failed write, until it is opened again.
    out: Option<Box<dyn AsyncWrite + Send + Unpin>>,
    failed: Option<Failed>,
    /// Of a recording; standard output has a reader of its own.
    judge: Option<Judge>,
}

/// Compares what is written with the standard.
struct Judge {
    checker: TsChecker,
    told: Vec<(TsFault, Option<u16>)>,
    next: Instant,
}

impl Judge {
    /// Tells each kind of defect once, soon after its first place.
    fn tell(&mut self, status: &LinkStatus) {
        let now = Instant::now();
        if now < self.next {
            return;
        }
        self.next = now + JUDGE_EVERY;
        for f in self.checker.findings().iter().filter(|f| !f.minor) {
            if !self.told.contains(&(f.fault, f.pid)) {
                self.told.push((f.fault, f.pid));
                let d = defect(f);
                status.note(Notice::RecordingDefect { at: Duration::from_millis(f.ms), what: format!("{} ({})", d.text, d.clause) });
            }
        }
    }
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
                    status.note(Notice::RecordingRenamed { wanted: p.to_owned(), kept });
                }
                Box::new(File::create(p).await.map_err(fail(p))?)
            }
            None => Box::new(tokio::io::stdout()),
        };
        let judge = path.map(|_| Judge { checker: TsChecker::new(Origin::Joined), told: Vec::new(), next: Instant::now() + JUDGE_EVERY });
        Ok(Self { path: path.map(Path::to_owned), out: Some(out), failed: None, judge })
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
                if let Some(judge) = &mut self.judge {
                    judge.checker.push(piece);
                }
                status.update(|l| {
                    l.counters.bytes += piece.len() as u64;
                    l.counters.packets += 1;
                });
            }
            out.flush().await
        };
        if let Err(e) = written.await {
            let now = Instant::now();
            self.out = None;
            self.failed = Some(Failed { since: now, next_try: now + WRITE_AGAIN, pieces: taken.len() as u64 });
            // A full disk: what was written stays, and the rest of the show goes on.
            status.tell_lost(Loss::Writing { cause: e.to_string(), retries: self.path.is_some() });
        }
        taken.clear();
        if let Some(judge) = &mut self.judge {
            judge.tell(status);
        }
    }

    /// Says at the end how the recording is.
    fn sum_up(&mut self, status: &LinkStatus) {
        let Some((path, judge)) = self.path.as_ref().zip(self.judge.as_mut()).filter(|_| status.look().counters.bytes > 0) else { return };
        judge.checker.finish(false);
        let found: Vec<_> = judge.checker.findings().iter().filter(|f| !f.minor).map(defect).collect();
        status.note(Notice::Recorded {
            path: path.display().to_string(),
            first: found.first().map(|d| format!("{} ({})", d.text, d.clause)),
            more: found.len().saturating_sub(1),
        });
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
            status.note(Notice::WritingAgain { after: f.since.elapsed(), lost: f.pieces });
            status.begin_session();
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

/// Moves a recording out of the way of a new one; gives its new name. Devices, pipes and empty
/// files stay.
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
