//! A place to run `choir` in: its own folder, its own control sockets, its own ports.

use choir_proto::ts::{Origin, TsChecker, TsFault};
use choir_sim::stalls::on_time;
use std::{
    fs,
    io::{BufRead, BufReader, Read, Write},
    path::PathBuf,
    process::{Child, Command, Stdio},
    sync::{PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard, mpsc},
    time::{Duration, Instant},
};
use tempfile::TempDir;

pub const CHOIR: &str = env!("CARGO_BIN_EXE_choir");
/// Nothing here takes longer unless it hangs.
pub const PATIENCE: Duration = Duration::from_secs(40);

/// Most tests may run beside each other; one that counts every frame of a whole show runs alone.
static STAGE: RwLock<()> = RwLock::new(());

enum Turn {
    Shared(#[allow(dead_code, reason = "held")] RwLockReadGuard<'static, ()>),
    Alone(#[allow(dead_code, reason = "held")] RwLockWriteGuard<'static, ()>),
}

pub struct Place {
    pub dir: TempDir,
    vars: Vec<(&'static str, &'static str)>,
    _turn: Turn,
}

#[derive(Debug)]
pub struct Out {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

/// A `choir` in the background; killed when dropped.
pub struct Running {
    child: Child,
    lines: mpsc::Receiver<String>,
    pub seen: Vec<String>,
}

impl Place {
    pub fn new() -> Self {
        let turn = Turn::Shared(STAGE.read().unwrap_or_else(PoisonError::into_inner));
        Self { dir: TempDir::new().expect("a folder"), vars: Vec::new(), _turn: turn }
    }

    /// A place with the machine to itself.
    pub fn alone() -> Self {
        let turn = Turn::Alone(STAGE.write().unwrap_or_else(PoisonError::into_inner));
        Self { dir: TempDir::new().expect("a folder"), vars: Vec::new(), _turn: turn }
    }

    /// With a variable set for every `choir`.
    pub fn with(mut self, name: &'static str, value: &'static str) -> Self {
        self.vars.push((name, value));
        self
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub fn write(&self, name: &str, text: &str) -> String {
        let path = self.path(name);
        fs::write(&path, text).expect("written");
        path.display().to_string()
    }

    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(CHOIR);
        command.args(args).current_dir(self.dir.path()).env("CHOIR_RUNTIME_DIR", self.dir.path().join("runtime")).env("NO_COLOR", "1");
        command.env("CHOIR_STATE_DIR", self.dir.path().join("state"));
        command.stdin(Stdio::null()).envs(self.vars.iter().copied());
        command
    }

    pub fn run(&self, args: &[&str]) -> Out {
        let out = self.command(args).output().expect("runs");
        let stderr = String::from_utf8_lossy(&out.stderr).into_owned();
        assert!(!stderr.contains("panicked at"), "{stderr}");
        Out { code: out.status.code().unwrap_or(-1), stdout: String::from_utf8_lossy(&out.stdout).into_owned(), stderr }
    }

    /// Starts it and reads its stderr as it comes.
    pub fn start(&self, args: &[&str]) -> Running {
        Running::of(self.command(args))
    }

    /// A short clip with numbered, stamped frames.
    pub fn clip(&self) -> String {
        let path = self.path("clip.ts").display().to_string();
        let out = self.run(&["sim", "camera", "--to", &path, "--size", "320x180", "--bitrate", "1Mbps", "--for", "4s"]);
        assert_eq!(out.code, 0, "{}", out.stderr);
        path
    }

    pub fn view(&self) -> serde_json::Value {
        let out = self.run(&["status", "--json"]);
        assert_eq!(out.code, 0, "{}", out.stderr);
        serde_json::from_str(&out.stdout).expect("JSON")
    }

    /// The status, as soon as a show answers.
    pub fn until_answered(&self) -> serde_json::Value {
        let end = Instant::now() + PATIENCE;
        loop {
            let out = self.run(&["status", "--json"]);
            if out.code == 0 {
                return serde_json::from_str(&out.stdout).expect("JSON");
            }
            assert!(Instant::now() < end, "nothing answers: {}", out.stderr);
        }
    }

    /// Asks for the status until it is as wanted.
    pub fn until(&self, what: &str, wanted: impl Fn(&serde_json::Value) -> bool) -> serde_json::Value {
        let (end, mut view) = (Instant::now() + PATIENCE, self.until_answered());
        while !wanted(&view) {
            assert!(Instant::now() < end, "never came to be: {what}\n{view:#}");
            view = self.view();
        }
        view
    }

    /// What is wrong with a recording, but for these faults.
    pub fn defects(&self, name: &str, origin: Origin, but: &[TsFault]) -> Vec<String> {
        let mut checker = TsChecker::new(origin);
        checker.push(&fs::read(self.path(name)).expect("a recording").into());
        checker.finish(origin == Origin::Start);
        checker.findings().iter().filter(|f| !f.minor && !but.contains(&f.fault)).map(|f| format!("{f:?}")).collect()
    }

    /// As `until`, for what is well, in a test that has the machine to itself.
    pub fn until_steady(&self, wanted: impl Fn(&serde_json::Value) -> bool) -> serde_json::Value {
        let mut view = serde_json::Value::Null;
        on_time("steady", || view = self.until("steady", wanted));
        view
    }
}

/// What a pause before a cut leaves in a recording, in which nothing was there to be sent.
pub const PAUSE: [TsFault; 5] = [TsFault::PcrInterval, TsFault::PcrJump, TsFault::DtsJump, TsFault::TableInterval, TsFault::SoundGap];

/// Whether media goes through what is in this state, well or not: [`Running::carries`] says why.
pub fn carries(state: &serde_json::Value) -> bool {
    state == "steady" || state == "strained"
}

impl Running {
    pub fn of(mut command: Command) -> Self {
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("starts");
        let (tx, lines) = mpsc::channel();
        let stderr = BufReader::new(child.stderr.take().expect("stderr"));
        std::thread::spawn(move || stderr.lines().map_while(Result::ok).try_for_each(|l| tx.send(l)));
        Self { child, lines, seen: Vec::new() }
    }

    /// Types into it; it must have been started with a pipe.
    pub fn types(&mut self, text: &str) {
        self.child.stdin.as_mut().expect("a pipe").write_all(text.as_bytes()).expect("typed");
    }

    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Waits for a line on stderr that holds this.
    pub fn says(&mut self, wanted: &str) -> String {
        self.says_any(&[wanted])
    }

    fn says_any(&mut self, wanted: &[&str]) -> String {
        let end = Instant::now() + PATIENCE;
        loop {
            let left = end.saturating_duration_since(Instant::now());
            let line = self.lines.recv_timeout(left).unwrap_or_else(|_| panic!("never said {wanted:?}; said:\n{}", self.seen.join("\n")));
            self.seen.push(line.clone());
            if wanted.iter().any(|w| line.contains(w)) {
                return line;
            }
        }
    }

    /// Waits until a line or a feed is well, in a test that has the machine to itself: one that
    /// stands still again and again strains what it carries.
    pub fn is_steady(&mut self, whose: &str) {
        on_time("steady", || drop(self.says(&format!("{whose}: steady"))));
    }

    /// Waits until media goes through a line or a feed, well or not: beside other tests the machine
    /// may be too slow for its latency.
    pub fn carries(&mut self, whose: &str) {
        self.says_any(&[&format!("{whose}: steady"), &format!("{whose}: strained")]);
    }

    /// As `says`, also if it has been said already.
    pub fn says_or_said(&mut self, wanted: &str) -> String {
        let said = self.seen.iter().find(|l| l.contains(wanted)).cloned();
        said.unwrap_or_else(|| self.says(wanted))
    }

    pub fn interrupt(&self) {
        let status = Command::new("kill").args(["-INT", &self.id().to_string()]).status().expect("kill");
        assert!(status.success());
    }

    pub fn kill(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    /// Waits for its end; gives exit code and stdout.
    pub fn end(&mut self) -> (i32, String) {
        let mut text = String::new();
        if let Some(mut stdout) = self.child.stdout.take() {
            let _ = stdout.read_to_string(&mut text);
        }
        let status = self.child.wait().expect("ends");
        self.seen.extend(self.lines.iter());
        assert!(!self.seen.iter().any(|l| l.contains("panicked at")), "{}", self.seen.join("\n"));
        (status.code().unwrap_or(-1), text)
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.kill();
    }
}

pub use choir_rig::port;

/// The last line of a text as JSON.
pub fn last_json(text: &str) -> serde_json::Value {
    let line = text.lines().last().unwrap_or_default();
    serde_json::from_str(line).unwrap_or_else(|e| panic!("{e}: {text}"))
}
