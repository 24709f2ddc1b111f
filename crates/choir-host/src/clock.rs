//! An alarm finer than tokio's millisecond: a timerfd, 15 to 30 µs late at the median.

use rustix::time::{
    ClockId, Itimerspec, TimerfdClockId, TimerfdFlags, TimerfdTimerFlags, Timespec, clock_gettime, timerfd_create, timerfd_settime,
};
use std::{
    io,
    os::fd::{AsRawFd, OwnedFd, RawFd},
    sync::OnceLock,
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};
use tokio::io::unix::AsyncFd;

/// µs since 1970 (UTC).
#[must_use]
pub fn unix_us() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_micros() as i64)
}

/// µs since the program first asked, on a clock that never steps: what media timing runs on.
#[must_use]
pub fn steady_us() -> i64 {
    steady_us_at(Instant::now())
}

/// `at` on the same clock.
#[must_use]
pub fn steady_us_at(at: Instant) -> i64 {
    static START: OnceLock<Instant> = OnceLock::new();
    let start = *START.get_or_init(|| at);
    let us = |d: Duration| d.as_micros() as i64;
    if at >= start { us(at - start) } else { -us(start - at) }
}

/// The time that was `us` on that clock.
#[must_use]
pub fn at_steady_us(us: i64) -> Instant {
    let now = Instant::now();
    let passed = steady_us_at(now) - us;
    let by = Duration::from_micros(passed.unsigned_abs());
    if passed >= 0 { now.checked_sub(by).unwrap_or(now) } else { now + by }
}

/// ms since 1970 (UTC).
#[must_use]
pub fn unix_ms() -> u64 {
    (unix_us() / 1000).max(0) as u64
}

/// How long this machine has slept since it was started: what the steady clock leaves out.
#[must_use]
pub fn slept() -> Duration {
    // In this order it is never too little.
    let awake = read(ClockId::Monotonic);
    read(ClockId::Boottime).saturating_sub(awake)
}

/// How far the time of day is ahead of all time since the start, asleep or awake: the same for as
/// long as nobody sets the clock.
#[must_use]
pub fn ahead_of_start_us() -> i64 {
    unix_us() - read(ClockId::Boottime).as_micros() as i64
}

fn read(clock: ClockId) -> Duration {
    let t = clock_gettime(clock);
    Duration::new(t.tv_sec as u64, t.tv_nsec as u32)
}

/// Date and time in UTC as part of a file's name, from ms since 1970.
#[must_use]
pub fn stamp(ms: u64) -> String {
    let at = time::OffsetDateTime::from_unix_timestamp((ms / 1000) as i64).unwrap_or(time::OffsetDateTime::UNIX_EPOCH);
    let (h, m, s) = at.to_hms();
    format!("{:04}{:02}{:02}-{h:02}{m:02}{s:02}", at.year(), u8::from(at.month()), at.day())
}

/// Time of day in UTC, from ms since 1970: `14:03:12`.
#[must_use]
pub fn time_of_day(ms: u64) -> String {
    let s = ms / 1000;
    format!("{:02}:{:02}:{:02}", s / 3600 % 24, s / 60 % 60, s % 60)
}

/// Waits until `at`, to tokio's millisecond; for ever without a time.
pub async fn sleep_until(at: Option<Instant>) {
    match at {
        Some(at) => tokio::time::sleep_until(at.into()).await,
        None => std::future::pending().await,
    }
}

/// CPU time that this thread has taken.
#[must_use]
pub fn thread_cpu() -> Duration {
    read(ClockId::ThreadCPUTime)
}

/// A timer that makes its descriptor readable, for whoever waits on several at once.
#[derive(Debug)]
pub struct Timer {
    fd: OwnedFd,
    set_for: Option<Instant>,
}

impl Timer {
    /// # Errors
    /// When the system is out of file descriptors.
    pub fn new() -> io::Result<Self> {
        let fd = timerfd_create(TimerfdClockId::Monotonic, TimerfdFlags::NONBLOCK | TimerfdFlags::CLOEXEC)?;
        Ok(Self { fd, set_for: None })
    }

    /// Sets it, or switches it off. Setting it to the same time to come costs nothing.
    ///
    /// # Errors
    /// Never in practice; returns the OS error.
    pub fn set(&mut self, at: Option<Instant>) -> io::Result<()> {
        let left = at.map_or(Duration::ZERO, |t| t.saturating_duration_since(Instant::now()));
        if self.set_for == at && (at.is_none() || !left.is_zero()) {
            return Ok(());
        }
        self.set_for = at;
        // All zero switches a timerfd off, so a time that has passed becomes one nanosecond.
        let left = if at.is_some() { left.max(Duration::from_nanos(1)) } else { left };
        let value = Timespec { tv_sec: left.as_secs() as i64, tv_nsec: left.subsec_nanos().into() };
        let zero = Timespec { tv_sec: 0, tv_nsec: 0 };
        timerfd_settime(&self.fd, TimerfdTimerFlags::empty(), &Itimerspec { it_interval: zero, it_value: value })?;
        Ok(())
    }
}

impl AsRawFd for Timer {
    fn as_raw_fd(&self) -> RawFd {
        self.fd.as_raw_fd()
    }
}

/// One alarm, set again and again.
#[derive(Debug)]
pub struct Alarm(AsyncFd<Timer>);

impl Alarm {
    /// # Errors
    /// When the system is out of file descriptors.
    pub fn new() -> io::Result<Self> {
        // Its replacement is unsafe for types that may change their descriptor; a timer never does.
        #[allow(deprecated, reason = "keeps this workspace free of unsafe code")]
        let timer = AsyncFd::new(Timer::new()?)?;
        Ok(Self(timer))
    }

    /// As [`Timer::set`].
    ///
    /// # Errors
    /// Never in practice; returns the OS error.
    pub fn set(&mut self, at: Option<Instant>) -> io::Result<()> {
        self.0.get_mut().set(at)
    }

    /// Waits until it rings. Safe to cancel.
    pub async fn ring(&mut self) {
        loop {
            let Ok(mut guard) = self.0.readable_mut().await else { return };
            let mut count = [0u8; 8];
            let rang = guard.try_io(|timer| rustix::io::read(&timer.get_ref().fd, &mut count).map_err(io::Error::from));
            if let Ok(Ok(_)) = rang {
                return;
            }
        }
    }

    /// Waits until `at`.
    pub async fn until(&mut self, at: Instant) {
        if self.set(Some(at)).is_ok() {
            self.ring().await;
        }
    }
}
