//! Recordings of lines and feeds: segments in a folder, written beside the media. A slow or full
//! disk costs the recording, never the show.

mod check;
mod file;
mod join;

pub use check::{Segment, check};
pub use join::{JoinError, join};

use choir_core::{facts::RecordingStep, id::Subject, model::RecordSettings, view::RecordingView};
use choir_host::{
    End, Stop,
    clock::{steady_us, unix_ms},
    lock,
};
use choir_ports::Outlet;
use choir_proto::ts::{SegmentLimit, Segments};
use file::Files;
use std::{
    io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
    time::Duration,
};
use tokio::task::JoinHandle;

/// What has come is written together each so often.
const WRITE_EVERY: Duration = Duration::from_millis(200);
/// Between tries after a failed write.
const TRY_AGAIN: Duration = Duration::from_secs(2);
/// Recordings end when the disk has no more than this left, so that the machine can go on.
const DISK_LEAST: u64 = 256 << 20;
/// The disk is told to be nearly full when it lasts no longer than this.
const DISK_WARNS: Duration = Duration::from_secs(3600);
/// Segments are at most so long by themselves.
const BYTES_MOST: u64 = 1 << 40;

/// How it stands.
#[derive(Debug, Clone, Default)]
struct Progress {
    file: Option<PathBuf>,
    files: u64,
    bytes: u64,
    /// Bits per second of late.
    rate: u64,
    disk: Option<Disk>,
    failed: Option<String>,
}

/// A file system: which one, and what is free on it.
#[derive(Debug, Clone, Copy)]
struct Disk {
    id: u64,
    free: u64,
}

impl Disk {
    /// The one that holds a folder, or the next folder above it that exists; none for what has no
    /// size, such as /proc.
    fn of(folder: &Path) -> Option<Self> {
        let stat = folder.ancestors().find_map(|f| rustix::fs::statvfs(f).ok()).filter(|s| s.f_blocks > 0)?;
        Some(Self { id: stat.f_fsid, free: stat.f_bavail * stat.f_frsize })
    }

    /// How long it lasts at this rate, down to what is left free.
    fn lasts(&self, bps: u64) -> Option<Duration> {
        (bps > 0).then(|| Duration::from_secs(self.free.saturating_sub(DISK_LEAST) * 8 / bps))
    }
}

/// One recording.
struct Recording {
    subject: Subject,
    folder: PathBuf,
    since_ms: u64,
    progress: Arc<Mutex<Progress>>,
    /// Takes the outlet away from what it is fed by.
    detach: Box<dyn FnOnce() + Send>,
    end: End,
    task: JoinHandle<()>,
}

/// What is recorded, and how it is taken away from what feeds it.
pub(crate) struct Source {
    pub outlet: Arc<Outlet>,
    pub detach: Box<dyn FnOnce() + Send>,
}

/// Tells what happens to a recording.
pub(crate) type Tell = Arc<dyn Fn(Subject, RecordingStep) + Send + Sync>;

/// All recordings of a show.
#[derive(Clone, Default)]
pub(crate) struct Recorder(Arc<Mutex<Vec<Recording>>>);

impl Recorder {
    /// Begins to write what an outlet is given; false when that subject is recorded already.
    pub fn begin(&self, subject: Subject, name: &str, folder: &Path, settings: &RecordSettings, source: Source, tell: Tell) -> bool {
        let mut all = lock(&self.0);
        if all.iter().any(|r| r.subject == subject) {
            drop(all);
            (source.detach)();
            return false;
        }
        let (end, stop) = Stop::new();
        let progress: Arc<Mutex<Progress>> = Arc::default();
        let limit = SegmentLimit {
            time_us: i64::try_from(settings.each.as_micros()).unwrap_or(i64::MAX),
            bytes: settings.bytes.unwrap_or(BYTES_MOST),
        };
        let writer = Writer {
            recorder: self.clone(),
            tell,
            subject,
            outlet: source.outlet,
            segments: Segments::new(limit),
            files: Files::new(folder, name),
            folder: folder.to_owned(),
            progress: progress.clone(),
            warned: false,
        };
        let task = tokio::spawn(writer.run(stop));
        all.push(Recording { subject, folder: folder.to_owned(), since_ms: unix_ms(), progress, detach: source.detach, end, task });
        true
    }

    /// It is recorded.
    pub fn has(&self, subject: Subject) -> bool {
        lock(&self.0).iter().any(|r| r.subject == subject)
    }

    /// Ends recordings, of all where none is named, and waits until they are on the disk; gives
    /// their files and bytes.
    pub async fn end(&self, subjects: Option<&[Subject]>) -> Vec<(Subject, u64, u64)> {
        let wanted = |r: &mut Recording| subjects.is_none_or(|s| s.contains(&r.subject));
        let ended: Vec<Recording> = lock(&self.0).extract_if(.., wanted).collect();
        let mut done = Vec::new();
        for recording in ended {
            (recording.detach)();
            recording.end.now();
            let _ = recording.task.await;
            let p = lock(&recording.progress);
            done.push((recording.subject, p.files, p.bytes));
        }
        done
    }

    /// Bits per second of all on a disk.
    fn rate(&self, disk: Disk) -> u64 {
        let on_it = |r: &Recording| {
            let p = lock(&r.progress);
            p.disk.is_some_and(|d| d.id == disk.id).then_some(p.rate)
        };
        lock(&self.0).iter().filter_map(on_it).sum()
    }

    /// How all of them stand; the names are for whoever knows them.
    pub fn view(&self, name: impl Fn(Subject) -> String) -> Vec<RecordingView> {
        let look = |r: &Recording| (r.subject, r.folder.clone(), r.since_ms, lock(&r.progress).clone());
        let all: Vec<_> = lock(&self.0).iter().map(look).collect();
        let view = |(subject, folder, since_ms, p): (Subject, PathBuf, u64, Progress)| RecordingView {
            subject: name(subject),
            folder: folder.display().to_string(),
            file: p.file.as_ref().and_then(|f| f.file_name()).map(|f| f.to_string_lossy().into_owned()),
            since_ms,
            files: p.files,
            bytes: p.bytes,
            rate_bps: p.rate,
            hours_left: p.disk.and_then(|disk| disk.lasts(self.rate(disk))).map(|left| left.as_secs_f64() / 3600.0),
            failed: p.failed,
        };
        all.into_iter().map(view).collect()
    }
}

/// Writes one recording.
struct Writer {
    recorder: Recorder,
    tell: Tell,
    subject: Subject,
    outlet: Arc<Outlet>,
    segments: Segments,
    files: Files,
    folder: PathBuf,
    progress: Arc<Mutex<Progress>>,
    /// That the disk is nearly full has been told.
    warned: bool,
}

impl Writer {
    async fn run(mut self, mut stop: Stop) {
        let mut tick = tokio::time::interval(WRITE_EVERY);
        tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            let ends = tokio::select! {
                _ = tick.tick() => false,
                () = stop.wait() => true,
            };
            let written;
            (self, written) = match tokio::task::spawn_blocking(move || self.write(ends)).await {
                Ok(done) => done,
                // The runtime is going down.
                Err(_) => return,
            };
            if let Err(cause) = written {
                self.tell_failed(&cause);
                self.segments.begin_anew();
                tokio::select! {
                    () = tokio::time::sleep(TRY_AGAIN) => {}
                    () = stop.wait() => {}
                }
            } else if self.files.current().is_some() {
                lock(&self.progress).failed = None;
            }
            if ends || self.judge_disk() {
                return;
            }
        }
    }

    /// Writes what has come; the last of it, if nothing more comes.
    fn write(mut self, ends: bool) -> (Self, io::Result<()>) {
        let (now, mut parts) = (steady_us(), Vec::new());
        for piece in self.outlet.take() {
            self.segments.push(now, &piece, |part| parts.push(part));
        }
        if ends {
            self.segments.finish(|part| parts.push(part));
        }
        let before = self.files.bytes;
        let mut written = self.files.write(&parts);
        if ends && written.is_ok() {
            written = self.files.close();
        }
        let disk = Disk::of(&self.folder);
        let mut p = lock(&self.progress);
        // Over some ten writes.
        let bps = (self.files.bytes - before) * 8 * 1000 / WRITE_EVERY.as_millis() as u64;
        p.rate = if p.rate == 0 { bps } else { (p.rate * 9 + bps) / 10 };
        (p.files, p.bytes, p.disk) = (self.files.count, self.files.bytes, disk);
        p.file = self.files.current().map(Path::to_owned);
        drop(p);
        (self, written)
    }

    fn tell_failed(&self, cause: &io::Error) {
        let cause = cause.to_string();
        let before = lock(&self.progress).failed.replace(cause.clone());
        if before.as_ref() != Some(&cause) {
            (self.tell)(self.subject, RecordingStep::Failed { folder: self.folder.clone(), cause });
        }
    }

    /// Warns of a disk that will soon be full; true when there is no room for more.
    fn judge_disk(&mut self) -> bool {
        let Some(disk) = lock(&self.progress).disk else { return false };
        let (free, left) = (disk.free, disk.lasts(self.recorder.rate(disk)));
        if free <= DISK_LEAST {
            lock(&self.progress).failed = Some(format!("{} MiB are left on the disk", free >> 20));
            (self.tell)(self.subject, RecordingStep::DiskFull { folder: self.folder.clone(), free });
            return true;
        }
        match left {
            Some(left) if left < DISK_WARNS && !self.warned => {
                self.warned = true;
                (self.tell)(self.subject, RecordingStep::DiskLow { folder: self.folder.clone(), left });
            }
            Some(left) if left > 2 * DISK_WARNS => self.warned = false,
            _ => {}
        }
        false
    }
}
