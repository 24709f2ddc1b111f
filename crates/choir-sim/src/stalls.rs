//! Judging timing on a machine that is itself stopped now and then, as virtual ones are: for rehearsals and tests.

use std::{
    panic::{RefUnwindSafe, catch_unwind, resume_unwind},
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

/// Runs a test of timing. It may fail only while the machine runs; one that was disturbed is run again. A machine
/// that stands still each time cannot judge timing at all: that is said, and is no failure.
///
/// # Panics
/// As the test does.
pub fn undisturbed(test: impl Fn() + RefUnwindSafe) {
    for attempt in 1..=ATTEMPTS {
        let watch = Watch::start();
        let result = catch_unwind(&test);
        let worst = watch.worst();
        match result {
            Ok(()) => return,
            Err(_) if worst > STALL && attempt < ATTEMPTS => eprintln!("the machine stood still for {worst:?}: once more"),
            Err(_) if worst > STALL => eprintln!("not judged: the machine stood still for {worst:?} once more"),
            Err(e) => resume_unwind(e),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fault_on_a_running_machine_stays_a_fault() {
        // A machine that stands still right now hides it, and says so; one that runs does not.
        let tried = std::sync::atomic::AtomicU32::new(0);
        let watch = Watch::start();
        let result = catch_unwind(|| {
            undisturbed(|| {
                tried.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                assert_eq!(1, 2, "a fault");
            });
        });
        assert!(result.is_err() || watch.worst() > STALL);
        assert!(tried.into_inner() >= 1);
    }

    #[test]
    fn what_holds_is_run_once() {
        let tried = std::sync::atomic::AtomicU32::new(0);
        undisturbed(|| {
            tried.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        });
        assert_eq!(tried.into_inner(), 1);
    }
}
