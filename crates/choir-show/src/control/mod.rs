//! The local control socket of a running show: one JSON object a line, asked and answered.
//!
//! The socket lies in a folder that only its user may enter; whoever may open it may do what the
//! engineer may do. The folder also holds a lock, so that a sheet runs once.

mod message;

pub use message::{Answer, PictureAnswer, Request, VERSION, read_answer, read_request};

use crate::{LinePicture, Show};
use choir_core::{
    command::{By, Command, Done, Refusal, Which},
    id::Subject,
    model::RecordSettings,
    words::done_words,
};
use choir_host::clock::unix_ms;
use futures_core::future::BoxFuture;
use rustix::process::getuid;
use sha2::{Digest, Sha256};
use std::{
    fs::{self, DirBuilder, File, TryLockError},
    io::{self, Read, Write},
    os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt},
    path::{Path, PathBuf},
    time::Duration,
};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader},
    net::{UnixListener, UnixStream},
};

/// Longest request and answer that are read.
const MESSAGE_MAX: u64 = 4 << 20;
const PATIENCE: Duration = Duration::from_secs(8);
/// Pictures are no wider or higher than this.
const FIT_MOST: usize = 4096;

/// Why a running show cannot be reached, or this one cannot run.
#[derive(Debug, thiserror::Error)]
pub enum ControlError {
    /// The same sheet runs already.
    #[error("{sheet} is already running: {who}. Look at it with \"choir watch {sheet}\", end it with \"choir stop {sheet}\"")]
    AlreadyRunning {
        /// The sheet.
        sheet: String,
        /// Process, user and start.
        who: String,
    },
    /// Nothing runs.
    #[error("no show is running. Start one with \"choir run SHEET\"")]
    NothingRuns,
    /// This sheet does not run.
    #[error("{0} is not running. Start it with \"choir run {0}\"")]
    NotRunning(String),
    /// Several run.
    #[error("several shows are running: name the sheet: {}", .0.join(", "))]
    Several(Vec<String>),
    /// The socket's folder cannot be used.
    #[error("the folder {path} for control sockets cannot be used: {cause}", path = .0.display(), cause = .1)]
    Folder(PathBuf, io::Error),
    /// Talking failed.
    #[error("the running show does not answer: {0}")]
    Silent(io::Error),
    /// It answered what is not understood.
    #[error("the running show answers something else than protocol version {VERSION}: use the program that runs it")]
    Strange,
}

/// The folder for sockets and locks: `$CHOIR_RUNTIME_DIR`, else below `$XDG_RUNTIME_DIR`, else
/// below /run/user/UID, else in the home folder; in /tmp, where others may have made it first, only
/// without a home. Each call of a user finds the same one.
///
/// # Errors
/// It cannot be made, belongs to somebody else, is a link, or others may write to it.
fn folder() -> Result<PathBuf, ControlError> {
    let set = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from);
    if let Some(path) = set("CHOIR_RUNTIME_DIR") {
        return own_folder(path);
    }
    let user = getuid().as_raw();
    let of_login = [set("XDG_RUNTIME_DIR"), Some(PathBuf::from(format!("/run/user/{user}")))];
    let in_home = set("XDG_STATE_HOME").or_else(|| set("HOME").map(|h| h.join(".local/state")));
    let places = of_login.into_iter().flatten().filter(|p| p.is_dir()).map(|p| p.join("choir"));
    let last = std::env::temp_dir().join(format!("choir-{user}"));
    places.chain(in_home.map(|p| p.join("choir/run"))).find_map(|p| own_folder(p).ok()).map_or_else(|| own_folder(last), Ok)
}

/// A folder that is this user's alone to write to; made if it is not there.
fn own_folder(path: PathBuf) -> Result<PathBuf, ControlError> {
    let check = || {
        DirBuilder::new().recursive(true).mode(0o700).create(&path)?;
        let found = fs::symlink_metadata(&path)?;
        let wrong = |what| Err(io::Error::other(what));
        if !found.is_dir() {
            return wrong("it is not a folder; name one of yours in CHOIR_RUNTIME_DIR");
        }
        if found.uid() != getuid().as_raw() {
            return wrong("it belongs to another user; name one of yours in CHOIR_RUNTIME_DIR");
        }
        if found.mode() & 0o022 != 0 {
            return wrong("others may write to it: take that away (chmod go-w)");
        }
        Ok(())
    };
    match check() {
        Ok(()) => Ok(path),
        Err(cause) => Err(ControlError::Folder(path, cause)),
    }
}

/// The name of a sheet's files in the folder: readable, different for sheets of the same name, and
/// the same for every build.
fn stem(sheet: &Path) -> String {
    let whole = sheet.canonicalize().unwrap_or_else(|_| sheet.to_owned());
    let digest = Sha256::digest(whole.as_os_str().as_encoded_bytes());
    let name = whole.file_stem().map_or_else(|| "show".into(), |s| s.to_string_lossy().into_owned());
    let short: String = name.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').take(24).collect();
    let number = hex::encode(&digest[..4]);
    format!("{short}-{number}")
}

/// The right to run a sheet, and its open socket. Both go when it is dropped.
#[derive(Debug)]
pub struct Claim {
    listener: UnixListener,
    socket: PathBuf,
    _lock: File,
}

impl Drop for Claim {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.socket);
    }
}

/// Claims a sheet for this process. Must be called inside the runtime.
///
/// # Errors
/// It runs already, or the folder cannot be used.
pub fn claim(sheet: &Path) -> Result<Claim, ControlError> {
    let folder = folder()?;
    let failed = |cause| ControlError::Folder(folder.clone(), cause);
    let stem = stem(sheet);
    let lock_path = folder.join(format!("{stem}.lock"));
    let mut lock = File::options().read(true).write(true).create(true).truncate(false).open(&lock_path).map_err(failed)?;
    match lock.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => {
            let mut who = String::new();
            let _ = lock.read_to_string(&mut who);
            let who = who.lines().next().unwrap_or("by an unknown process").to_owned();
            return Err(ControlError::AlreadyRunning { sheet: sheet.display().to_string(), who });
        }
        Err(TryLockError::Error(cause)) => return Err(failed(cause)),
    }
    let user = std::env::var("USER").unwrap_or_else(|_| format!("user {}", getuid().as_raw()));
    lock.set_len(0).map_err(failed)?;
    let whole = sheet.canonicalize().unwrap_or_else(|_| sheet.to_owned());
    writeln!(lock, "process {} of {user}\n{}", std::process::id(), whole.display()).map_err(failed)?;
    let socket = folder.join(format!("{stem}.sock"));
    // The lock is ours, so whatever lies there is a dead run's.
    let _ = fs::remove_file(&socket);
    let listener = UnixListener::bind(&socket).map_err(failed)?;
    fs::set_permissions(&socket, fs::Permissions::from_mode(0o600)).map_err(failed)?;
    Ok(Claim { listener, socket, _lock: lock })
}

/// Serves a show until it stops.
pub fn serve(claim: Claim, show: Show) -> BoxFuture<'static, ()> {
    Box::pin(async move {
        loop {
            match claim.listener.accept().await {
                Ok((stream, _)) => {
                    tokio::spawn(answer_all(stream, show.clone()));
                }
                // Out of descriptors: those who hang on will go.
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
    })
}

async fn answer_all(stream: UnixStream, show: Show) {
    let (read, mut write) = stream.into_split();
    let mut lines = BufReader::new(read.take(MESSAGE_MAX)).lines();
    while let Ok(Some(line)) = lines.next_line().await {
        let mut ends = false;
        let answer = match message::read_request(&line) {
            Ok(Request::Stop) => {
                ends = true;
                Answer::Done { said: done_words(&Done::Stopping, show.names()) }
            }
            Ok(request) => act(By::CommandLine, request, &show).await,
            Err(why) => Answer::Refused { why },
        };
        let Some(text) = message::line(&answer) else { return };
        if write.write_all(text.as_bytes()).await.is_err() {
            return;
        }
        if ends {
            // Only now: the process may end before another word is written.
            let _ = show.execute(By::CommandLine, Command::Stop).await;
        }
        lines.get_mut().get_mut().set_limit(MESSAGE_MAX);
    }
}

/// Does what is asked of a show.
pub fn act(by: By, request: Request, show: &Show) -> BoxFuture<'_, Answer> {
    Box::pin(async move {
        let command = match request {
            Request::View => return Answer::View(Box::new(show.view())),
            Request::Look { histories } => return Answer::View(Box::new(show.look(&histories))),
            Request::Take { feed, line } => show.take_named(&feed, line.as_deref()),
            Request::TakeTogether { takes } => {
                let named = |(feed, line): &(String, String)| Ok((show.feed_named(feed)?, show.line_named(line)?));
                takes.iter().map(named).collect::<Result<Vec<_>, _>>().map(Command::TakeTogether)
            }
            Request::Wall { wall, line } => show.wall_named(&wall, line.as_deref()),
            Request::Key { key } => show.key_named(&key),
            Request::Rota { name, order } => Ok(Command::Rota { name, order }),
            Request::Next { feed, line } => show.next_named(&feed, &line),
            Request::Hold { line } => show.hold_named(&line, true),
            Request::Release { line } => show.hold_named(&line, false),
            Request::Examine { line, on } => show.line_named(&line).map(|line| Command::Examine { line, on }),
            Request::Pictures { lines, fit, kept } => return pictures(show, &lines, fit, kept).await,
            Request::Live { line, fit } => {
                let fit = (fit.0.clamp(1, FIT_MOST), fit.1.clamp(1, FIT_MOST));
                return match show.live_look(&line, fit) {
                    Ok((view, still)) => {
                        let picture = still.map(|still| PictureAnswer::of(line, &LinePicture { still, at_ms: unix_ms() }));
                        Answer::Live { line: view, picture }
                    }
                    Err(refusal) => Answer::Refused { why: refusal.to_string() },
                };
            }
            Request::StandIn { line, word } => {
                return match show.stand_in(&line, &word) {
                    Ok(said) => Answer::Done { said },
                    Err(why) => Answer::Refused { why },
                };
            }
            Request::Acknowledge { what } if what.is_empty() => Ok(Command::Acknowledge(Which::All)),
            Request::Acknowledge { what } => {
                let numbers = what.iter().map(|w| show.alarms_of(w)).collect::<Result<Vec<_>, _>>();
                numbers.map(|all| Command::Acknowledge(Which::Numbers(all.concat())))
            }
            Request::Record { what, folder, each_s, bytes } => {
                let settings = RecordSettings { folder, each: Duration::from_secs(each_s.max(1)), bytes };
                return record(by, &what, &settings, show).await;
            }
            Request::EndRecordings { what } => {
                let subjects: Result<Vec<_>, _> = what.iter().map(|name| show.subject_named(name)).collect();
                subjects.map(|s| Command::EndRecordings((!s.is_empty()).then_some(s)))
            }
            Request::Reload => Ok(Command::Reload),
            Request::Stop => Ok(Command::Stop),
        };
        let done = match command {
            Ok(command) => show.execute(by, command).await,
            Err(refusal) => Err(refusal),
        };
        match done {
            Ok(done) => Answer::Done { said: done_words(&done, show.names()) },
            Err(refusal) => Answer::Refused { why: refusal.to_string() },
        }
    })
}

/// Begins to record these in turn, up to the first that cannot be; none where a name is unknown.
async fn record(by: By, what: &[String], settings: &RecordSettings, show: &Show) -> Answer {
    let refused = |refusal: Refusal| Answer::Refused { why: refusal.to_string() };
    let subjects: Vec<Subject> = match what.iter().map(|name| show.subject_named(name)).collect() {
        Ok(subjects) => subjects,
        Err(refusal) => return refused(refusal),
    };
    let mut said = Vec::new();
    for subject in subjects {
        match show.execute(by, Command::Record { subject, settings: settings.clone() }).await {
            Ok(done) => said.push(done_words(&done, show.names())),
            Err(refusal) => return refused(refusal),
        }
    }
    Answer::Done { said: said.join("\n") }
}

async fn pictures(show: &Show, lines: &[String], fit: (usize, usize), kept: bool) -> Answer {
    let all = || Ok(show.0.lines().iter().map(|l| l.id).collect());
    let wanted = if lines.is_empty() { all() } else { lines.iter().map(|name| show.line_named(name)).collect::<Result<Vec<_>, _>>() };
    let wanted = match wanted {
        Ok(wanted) => wanted,
        Err(refusal) => return Answer::Refused { why: refusal.to_string() },
    };
    let fit = (fit.0.clamp(1, FIT_MOST), fit.1.clamp(1, FIT_MOST));
    let ask = |line| {
        let show = show.clone();
        (show.names().line(line), tokio::spawn(async move { show.picture(line, fit, kept).await.ok().flatten() }))
    };
    let asked: Vec<_> = wanted.into_iter().map(ask).collect();
    let mut pictures = Vec::new();
    for (name, picture) in asked {
        pictures.extend(picture.await.ok().flatten().map(|p| PictureAnswer::of(name, &p)));
    }
    Answer::Pictures { pictures }
}

/// A connection to a running show.
#[derive(Debug)]
pub struct Client {
    lines: tokio::io::Lines<BufReader<tokio::net::unix::OwnedReadHalf>>,
    write: tokio::net::unix::OwnedWriteHalf,
}

impl Client {
    /// Connects to the show of this sheet, or to the only one running.
    ///
    /// # Errors
    /// None or several run, or it does not answer.
    pub async fn connect(sheet: Option<&Path>) -> Result<Self, ControlError> {
        let folder = folder()?;
        let socket = match sheet {
            Some(sheet) => folder.join(format!("{}.sock", stem(sheet))),
            None => only_running(&folder).await?,
        };
        match UnixStream::connect(&socket).await {
            Ok(stream) => {
                let (read, write) = stream.into_split();
                Ok(Self { lines: BufReader::new(read).lines(), write })
            }
            Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::ConnectionRefused) => {
                Err(sheet.map_or(ControlError::NothingRuns, |s| ControlError::NotRunning(s.display().to_string())))
            }
            Err(e) => Err(ControlError::Silent(e)),
        }
    }

    /// Asks and waits for the answer.
    ///
    /// # Errors
    /// No answer within 8 s, or one that is not understood.
    pub fn ask<'a>(&'a mut self, request: &'a Request) -> BoxFuture<'a, Result<Answer, ControlError>> {
        Box::pin(async move {
            let text = message::line(request).ok_or(ControlError::Strange)?;
            self.write.write_all(text.as_bytes()).await.map_err(ControlError::Silent)?;
            let line = tokio::time::timeout(PATIENCE, self.lines.next_line())
                .await
                .map_err(|_| ControlError::Silent(io::ErrorKind::TimedOut.into()))?
                .map_err(ControlError::Silent)?
                .ok_or_else(|| ControlError::Silent(io::ErrorKind::UnexpectedEof.into()))?;
            message::read_answer(&line).ok_or(ControlError::Strange)
        })
    }
}

async fn only_running(folder: &Path) -> Result<PathBuf, ControlError> {
    let entries = fs::read_dir(folder).map_err(|e| ControlError::Folder(folder.to_owned(), e))?;
    let mut running = Vec::new();
    for entry in entries.flatten() {
        let path = entry.path();
        if path.extension().is_some_and(|e| e == "sock") && UnixStream::connect(&path).await.is_ok() {
            running.push(path);
        }
    }
    if running.len() > 1 {
        let sheet = |p: &PathBuf| {
            let text = fs::read_to_string(p.with_extension("lock")).unwrap_or_default();
            text.lines().nth(1).map_or_else(|| p.display().to_string(), str::to_owned)
        };
        return Err(ControlError::Several(running.iter().map(sheet).collect()));
    }
    running.pop().ok_or(ControlError::NothingRuns)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_show_is_found_by_every_build() {
        // The first digits of the path's SHA-256: no build may have another idea of it.
        assert_eq!(stem(Path::new("/nowhere/regatta.toml")), "regatta-d6bb931d");
        assert_ne!(stem(Path::new("/elsewhere/regatta.toml")), "regatta-d6bb931d");
    }

    #[test]
    fn only_a_folder_of_ones_own_is_used() {
        let place = tempfile::tempdir().expect("place");
        let path = |name: &str| place.path().join(name);
        let refused = |name: &str| own_folder(path(name)).expect_err("refused").to_string();
        assert!(own_folder(path("new/one")).is_ok() && own_folder(path("new/one")).is_ok());
        assert_eq!(fs::metadata(path("new/one")).expect("there").mode() & 0o777, 0o700);
        std::os::unix::fs::symlink(path("new"), path("link")).expect("link");
        assert!(refused("link").contains("not a folder"));
        fs::set_permissions(path("new"), fs::Permissions::from_mode(0o770)).expect("mode");
        assert!(refused("new").contains("chmod go-w"));
        File::create(path("file")).expect("file");
        assert!(refused("file").contains("cannot"), "{}", refused("file"));
    }
}
