//! Judging timing on a machine that is itself stopped now and then, as virtual ones are: for rehearsals and tests.

use std::{
    io::Write,
    panic::{AssertUnwindSafe, RefUnwindSafe, catch_unwind, resume_unwind},
    sync::mpsc::{RecvTimeoutError, Sender, channel},
    thread::JoinHandle,
    time::{Duration, Instant},
};

/// How often the watch looks.
const STEP: Duration = Duration::from_millis(2);
/// Lateness of a sleeping thread beyond this is the machine's fault: a quiet one stays below a millisecond or two.
const STALL: Duration = Duration::from_millis(8);
/// Times that a disturbed test is run.
const ATTEMPTS: u32 = 4;

/// A thread that does nothing but sleep, and notes how late it wakes.
#[derive(Debug)]
pub struct Watch {
    end: Sender<()>,
    thread: JoinHandle<Duration>,
}

impl Watch {
    /// Begins to watch.
    #[must_use]
    pub fn start() -> Self {
        let (end, ended) = channel::<()>();
        let thread = std::thread::spawn(move || {
            let (mut worst, mut last) = (Duration::ZERO, Instant::now());
            while ended.recv_timeout(STEP) == Err(RecvTimeoutError::Timeout) {
                worst = worst.max(last.elapsed().saturating_sub(STEP));
                last = Instant::now();
            }
            worst
        });
        Self { end, thread }
    }

    /// The longest that the machine stood still.
    #[must_use]
    pub fn worst(self) -> Duration {
        drop(self.end);
        self.thread.join().unwrap_or_default()
    }
}

/// What a failed assertion of timing carries up to [`timed`].
struct Late {
    name: &'static str,
    text: String,
}

/// Makes an assertion that holds only on a machine that runs: on loss, delay, or what came in time. Inside [`timed`] its failure
/// is judged; anywhere else it is one.
///
/// # Panics
/// As `check` does.
pub fn on_time(name: &'static str, check: impl FnOnce()) {
    if let Err(why) = catch_unwind(AssertUnwindSafe(check)) {
        let text = why.downcast_ref::<String>().cloned().or_else(|| why.downcast_ref::<&str>().map(|s| (*s).to_owned()));
        resume_unwind(Box::new(Late { name, text: text.unwrap_or_default() }));
    }
}

/// Runs a test that has assertions of timing ([`on_time`]). When one of them fails while the machine stood still, the test is
/// run again; when that happens each time, it is counted as not judged, in the file of the environment variable
/// `CHOIR_NOT_JUDGED`. Any other failure is one at once.
///
/// # Panics
/// As the test does.
pub fn timed(test: impl Fn() + RefUnwindSafe) {
    for attempt in 1..=ATTEMPTS {
        let watch = Watch::start();
        let result = catch_unwind(&test);
        let worst = watch.worst();
        let Err(why) = result else { return };
        let late = match why.downcast::<Late>() {
            Ok(late) => late,
            Err(other) => resume_unwind(other),
        };
        assert!(worst > STALL, "{}: {}", late.name, late.text);
        eprintln!("{}: the machine stood still for {worst:?}, attempt {attempt} of {ATTEMPTS}", late.name);
        if attempt == ATTEMPTS {
            note_not_judged(late.name, worst);
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
    use std::sync::atomic::{AtomicU32, Ordering};

    fn runs(test: impl Fn() + RefUnwindSafe) -> (bool, u32) {
        let tried = AtomicU32::new(0);
        let result = catch_unwind(|| {
            timed(|| {
                tried.fetch_add(1, Ordering::Relaxed);
                test();
            });
        });
        (result.is_ok(), tried.into_inner())
    }

    /// The machine stands still, as far as the watch can see.
    fn stand_still() {
        let begun = Instant::now();
        let spin = || while begun.elapsed() < STALL * 8 {};
        std::thread::scope(|s| {
            for _ in 0..4 * std::thread::available_parallelism().map_or(2, usize::from) {
                s.spawn(spin);
            }
        });
    }

    #[test]
    fn what_holds_is_run_once_and_what_is_no_timing_fails_at_once() {
        assert_eq!(runs(|| {}), (true, 1));
        // Also on a machine that stands still: a broken check must not be repeated until it is excused.
        let broken = || {
            stand_still();
            assert_eq!(1, 2, "a fault");
        };
        assert_eq!(runs(broken), (false, 1));
    }

    #[test]
    fn timing_fails_on_a_machine_that_runs_and_is_repeated_on_one_that_does_not() {
        let watch = Watch::start();
        let (ok, tried) = runs(|| on_time("never", || assert_eq!(1, 2)));
        // Only a stall during the run itself excuses it.
        assert!(!ok && tried == 1 || watch.worst() > STALL, "{ok} after {tried}");
    }
}
