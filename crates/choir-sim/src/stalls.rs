//! Judging timing on a machine that is itself stopped now and then, as virtual ones are: for
//! rehearsals and tests.

use rustix::thread::{CpuSet, sched_getaffinity, sched_setaffinity};
use std::{
    io::Write,
    panic::{AssertUnwindSafe, RefUnwindSafe, catch_unwind, resume_unwind},
    sync::mpsc::{RecvTimeoutError, Sender, channel},
    thread::JoinHandle,
    time::{Duration, Instant},
};

/// How often the watch looks.
const STEP: Duration = Duration::from_millis(2);
/// Lateness of a sleeping thread beyond this is the machine's fault: a quiet one stays below a
/// millisecond or two.
const STALL: Duration = Duration::from_millis(8);
/// Times that a disturbed test is run.
const ATTEMPTS: u32 = 4;
/// So long must the machine run without a stall before a disturbed test is run again.
const QUIET: Duration = Duration::from_secs(3);
/// A machine that never does is not waited for any longer.
const QUIET_WAIT: Duration = Duration::from_secs(30);

/// Threads that do nothing but sleep, one on each processor, and note how late they wake: the
/// system keeps a processor from a guest without touching the others.
#[derive(Debug)]
pub struct Watch(Vec<(Sender<()>, JoinHandle<Duration>)>);

impl Watch {
    /// Begins to watch.
    #[must_use]
    pub fn start() -> Self {
        let may = sched_getaffinity(None).unwrap_or_else(|_| CpuSet::new());
        let processors: Vec<usize> = (0..CpuSet::MAX_CPU).filter(|n| may.is_set(*n)).collect();
        Self(processors.into_iter().map(sleeps_on).collect())
    }

    /// The longest that a processor stood still.
    #[must_use]
    pub fn worst(self) -> Duration {
        let threads: Vec<_> = self.0.into_iter().map(|(_, thread)| thread).collect();
        threads.into_iter().filter_map(|t| t.join().ok()).max().unwrap_or_default()
    }
}

/// A thread of [`Watch`] and what ends it when dropped.
fn sleeps_on(processor: usize) -> (Sender<()>, JoinHandle<Duration>) {
    let (end, ended) = channel::<()>();
    let thread = std::thread::spawn(move || {
        let mut only = CpuSet::new();
        only.set(processor);
        // Where the system refuses, it watches the processors that it happens to wake on.
        let _ = sched_setaffinity(None, &only);
        let (mut worst, mut last) = (Duration::ZERO, Instant::now());
        while ended.recv_timeout(STEP) == Err(RecvTimeoutError::Timeout) {
            worst = worst.max(last.elapsed().saturating_sub(STEP));
            last = Instant::now();
        }
        worst
    });
    (end, thread)
}

/// What a failed assertion of timing carries up to [`timed`].
struct Late {
    name: &'static str,
    text: String,
}

/// Makes an assertion that holds only on a machine that runs: on loss, delay, or what came in time.
/// Inside [`timed`] its failure is judged; anywhere else it is one.
///
/// # Panics
/// As `check` does.
pub fn on_time(name: &'static str, check: impl FnOnce()) {
    if let Err(why) = catch_unwind(AssertUnwindSafe(check)) {
        let text = why.downcast_ref::<String>().cloned().or_else(|| why.downcast_ref::<&str>().map(|s| (*s).to_owned()));
        resume_unwind(Box::new(Late { name, text: text.unwrap_or_default() }));
    }
}

/// Runs a test that has assertions of timing ([`on_time`]). When one of them fails while the
/// machine stood still, the test is run again; when that happens each time, it is counted as not
/// judged, in the file of the environment variable `CHOIR_NOT_JUDGED`. Any other failure is one at
/// once.
///
/// # Panics
/// As the test does.
pub fn timed(test: impl Fn() + RefUnwindSafe) {
    let run = |attempt| {
        if attempt > 1 {
            until_quiet();
        }
        let watch = Watch::start();
        let result = catch_unwind(&test);
        (result, watch.worst())
    };
    judge(run, note_not_judged);
}

/// Stalls come in spells: what is begun again within one is late again.
fn until_quiet() {
    let begun = Instant::now();
    while begun.elapsed() < QUIET_WAIT {
        let watch = Watch::start();
        std::thread::sleep(QUIET);
        if watch.worst() <= STALL {
            return;
        }
    }
}

/// Repeats what was late while the machine stood still: `run` gives its outcome, and for how long
/// the machine did.
fn judge(run: impl Fn(u32) -> (std::thread::Result<()>, Duration), not_judged: impl Fn(&'static str, Duration)) {
    for attempt in 1..=ATTEMPTS {
        let (result, worst) = run(attempt);
        let Err(why) = result else { return };
        let late = match why.downcast::<Late>() {
            Ok(late) => late,
            Err(other) => resume_unwind(other),
        };
        assert!(worst > STALL, "{}: {}", late.name, late.text);
        eprintln!("{}: the machine stood still for {worst:?}, attempt {attempt} of {ATTEMPTS}", late.name);
        if attempt == ATTEMPTS {
            not_judged(late.name, worst);
        }
    }
}

fn note_not_judged(name: &str, worst: Duration) {
    let Some(path) = std::env::var_os("CHOIR_NOT_JUDGED") else { return };
    let file = std::fs::File::options().append(true).create(true).open(path);
    let test = std::thread::current().name().unwrap_or_default().to_owned();
    // A line each, written at once: several programs may write there.
    let line = format!("{test}: {name}: the machine stood still for {worst:?}\n");
    assert!(file.and_then(|mut f| f.write_all(line.as_bytes())).is_ok(), "what was not judged cannot be counted");
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cell::Cell;

    #[derive(Debug, PartialEq)]
    enum Outcome {
        Passed,
        Failed,
        NotJudged,
    }

    /// How it ends, and how often it is run, on a machine that stands still for `stalls`.
    fn runs(stalls: &[Duration], test: impl Fn() + RefUnwindSafe) -> (Outcome, usize) {
        let (tried, noted) = (Cell::new(0), Cell::new(false));
        let run = |_| {
            tried.set(tried.get() + 1);
            (catch_unwind(&test), stalls[tried.get() - 1])
        };
        let judged = catch_unwind(AssertUnwindSafe(|| judge(run, |_, _| noted.set(true))));
        let outcome = match judged {
            Err(_) => Outcome::Failed,
            Ok(()) if noted.get() => Outcome::NotJudged,
            Ok(()) => Outcome::Passed,
        };
        (outcome, tried.get())
    }

    #[test]
    fn what_holds_is_run_once_and_what_is_no_timing_fails_at_once() {
        assert_eq!(runs(&[Duration::ZERO], || {}), (Outcome::Passed, 1));
        // Also on a machine that stands still: a broken check must not be repeated until it is
        // excused.
        assert_eq!(runs(&[STALL * 8], || assert_eq!(1, 2, "a fault")), (Outcome::Failed, 1));
    }

    #[test]
    fn timing_fails_on_a_machine_that_runs_and_is_repeated_on_one_that_does_not() {
        let late = || on_time("never", || assert_eq!(1, 2));
        assert_eq!(runs(&[Duration::ZERO], late), (Outcome::Failed, 1));
        assert_eq!(runs(&[STALL * 8, STALL], late), (Outcome::Failed, 2));
        assert_eq!(runs(&[STALL * 8; ATTEMPTS as usize], late), (Outcome::NotJudged, ATTEMPTS as usize));
    }
}
