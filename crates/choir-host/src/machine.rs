//! Watches what happens to this machine: its network, its sleep, its clock, its descriptors.

use crate::{
    clock::{ahead_of_start_us, sleep_until, slept},
    groups,
    interfaces::own_interfaces,
};
use choir_core::{facts::MachineChange, find::Interface};
use rustix::{
    net::{AddressFamily, RecvFlags, SocketFlags, SocketType, bind, netlink::SocketAddrNetlink, recv, socket_with},
    process::{Resource, getrlimit},
};
use std::{
    collections::VecDeque,
    fs, io,
    os::fd::{AsRawFd, OwnedFd},
    time::{Duration, Instant},
};
use tokio::{
    io::{Interest, unix::AsyncFd},
    time::{Interval, MissedTickBehavior, interval},
};

/// Groups of messages of NETLINK_ROUTE (rtnetlink(7)): links, addresses and routes of both
/// families.
const ROUTE_GROUPS: u32 = 0x1 | 0x10 | 0x40 | 0x100 | 0x400;
/// An interface that comes up is told of in several steps.
const SETTLES: Duration = Duration::from_millis(300);
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Shorter sleep is a hiccup; smaller steps of the clock are its correction.
const SLEEP_LEAST: Duration = Duration::from_millis(100);
const STEP_LEAST_MS: i64 = 250;
/// Descriptors kept for the show itself, where strangers take all others: this part of them, within
/// these bounds.
const KEPT_PART: u64 = 8;
const KEPT_LEAST: u64 = 16;
const KEPT_MOST: u64 = 128;

/// Descriptors that this program may have, and the number from which they are kept for itself.
fn files() -> (u64, u64) {
    let limit = getrlimit(Resource::Nofile).current.unwrap_or(u64::MAX);
    (limit, limit - (limit / KEPT_PART).clamp(KEPT_LEAST.min(limit), KEPT_MOST))
}

/// Whether a connection that a stranger has just made takes one of the last descriptors: the system
/// gives the lowest that is free.
#[must_use]
pub fn takes_the_last(connection: &impl AsRawFd) -> bool {
    u64::try_from(connection.as_raw_fd()).is_ok_and(|fd| fd >= files().1)
}

/// Whether an error says that this program may have no more descriptors.
#[must_use]
pub fn is_out_of_files(error: &io::Error) -> bool {
    error.raw_os_error() == Some(rustix::io::Errno::MFILE.raw_os_error())
}

/// Tells what changes, one after the other.
#[derive(Debug)]
pub struct Watch {
    netlink: Option<AsyncFd<OwnedFd>>,
    /// When what the network has told has settled.
    settled: Option<Instant>,
    tick: Interval,
    interfaces: Vec<Interface>,
    clock: ClockLook,
    files_short: bool,
    found: VecDeque<MachineChange>,
}

impl Watch {
    /// Begins.
    #[must_use]
    pub fn begin() -> Self {
        let mut tick = interval(LOOK_EVERY);
        tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let netlink = open().inspect_err(|e| tracing::debug!(error = %e, "changes of the network are not told")).ok();
        let clock = ClockLook { slept: slept(), ahead_us: ahead_of_start_us() };
        let interfaces = own_interfaces().unwrap_or_default();
        Self { netlink, settled: None, tick, interfaces, clock, files_short: false, found: VecDeque::new() }
    }

    /// Waits for the next change. Safe to cancel.
    pub async fn next(&mut self) -> MachineChange {
        loop {
            if let Some(change) = self.found.pop_front() {
                return change;
            }
            tokio::select! {
                alive = told(self.netlink.as_ref()) => {
                    self.settled = Some(Instant::now() + SETTLES);
                    if !alive {
                        self.netlink = None;
                    }
                }
                () = sleep_until(self.settled), if self.settled.is_some() => {
                    self.settled = None;
                    self.look_at_network();
                }
                _ = self.tick.tick() => {
                    self.found.extend(self.clock.look(slept(), ahead_of_start_us()));
                    self.look_at_files();
                }
            }
        }
    }

    fn look_at_network(&mut self) {
        let rejoined = groups::join_again();
        let now = own_interfaces().unwrap_or_default();
        let name = |i: &Interface| format!("{} {}", i.name, i.ip);
        let others = |of: &[Interface], than: &[Interface]| of.iter().filter(|i| !than.contains(i)).map(name).collect::<Vec<_>>();
        let (came, gone) = (others(&now, &self.interfaces), others(&self.interfaces, &now));
        self.interfaces = now;
        if rejoined > 0 || !came.is_empty() || !gone.is_empty() {
            self.found.push_back(MachineChange::Network { came, gone, rejoined });
        }
    }

    fn look_at_files(&mut self) {
        let (limit, kept_from) = files();
        let used = fs::read_dir("/proc/self/fd").map_or(0, |d| d.count() as u64);
        match self.files_short {
            false if used >= kept_from => self.found.push_back(MachineChange::FilesShort { limit }),
            true if used < kept_from - kept_from / 8 => self.found.push_back(MachineChange::FilesEnough),
            _ => return,
        }
        self.files_short = !self.files_short;
    }
}

/// How the clocks stood at the last look.
#[derive(Debug, Clone, Copy)]
struct ClockLook {
    slept: Duration,
    /// The time of day beside all time since the start, asleep or awake.
    ahead_us: i64,
}

impl ClockLook {
    fn look(&mut self, slept: Duration, ahead_us: i64) -> Vec<MachineChange> {
        let (slept_more, ms) = (slept.saturating_sub(self.slept), (ahead_us - self.ahead_us) / 1000);
        *self = Self { slept, ahead_us };
        let asleep = (slept_more >= SLEEP_LEAST).then_some(MachineChange::Slept(slept_more));
        let set = (ms.abs() >= STEP_LEAST_MS).then_some(MachineChange::ClockSet { ms });
        asleep.into_iter().chain(set).collect()
    }
}

fn open() -> io::Result<AsyncFd<OwnedFd>> {
    let flags = SocketFlags::NONBLOCK | SocketFlags::CLOEXEC;
    let fd = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, None)?;
    bind(&fd, &SocketAddrNetlink::new(0, ROUTE_GROUPS))?;
    #[allow(deprecated, reason = "keeps this workspace free of unsafe code")]
    AsyncFd::with_interest(fd, Interest::READABLE)
}

/// Waits until something was told; false when nothing will be any more.
async fn told(netlink: Option<&AsyncFd<OwnedFd>>) -> bool {
    let Some(fd) = netlink else { return std::future::pending().await };
    match fd.readable().await {
        // What ends it is that there is nothing more.
        Ok(mut guard) => guard.try_io(|fd| drain(fd.get_ref())).is_err(),
        Err(_) => false,
    }
}

/// Only that something was told counts, also where it was more than the system keeps.
fn drain(fd: &OwnedFd) -> io::Result<()> {
    let mut buffer = [0_u8; 8192];
    loop {
        match recv(fd, &mut buffer, RecvFlags::empty()) {
            Ok(_) | Err(rustix::io::Errno::NOBUFS | rustix::io::Errno::INTR) => {}
            // Told to those who wait.
            Err(e) => return Err(e.into()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sleep_and_a_clock_that_is_set_are_told_apart() {
        let s = Duration::from_secs;
        let mut clock = ClockLook { slept: s(5), ahead_us: 1_000_000 };
        assert_eq!(clock.look(s(5), 1_000_400), [], "it is corrected all the time");
        assert_eq!(clock.look(s(65), 1_000_400), [MachineChange::Slept(s(60))], "which the time of day goes on through");
        assert_eq!(clock.look(s(65), -1_000_000), [MachineChange::ClockSet { ms: -2000 }]);
        assert_eq!(clock.look(s(66), 1_000_000), [MachineChange::Slept(s(1)), MachineChange::ClockSet { ms: 2000 }]);
        assert_eq!(clock.look(s(66), 1_000_000), []);
    }

    #[test]
    fn the_system_s_clocks_are_read_the_same_way_twice() {
        let mut clock = ClockLook { slept: slept(), ahead_us: ahead_of_start_us() };
        assert_eq!(clock.look(slept(), ahead_of_start_us()), []);
    }

    #[test]
    fn some_descriptors_are_kept_for_the_show() {
        let (limit, kept_from) = files();
        assert!(kept_from < limit && limit - kept_from <= KEPT_MOST);
        assert!(!takes_the_last(&fs::File::open("/proc/self/fd").expect("opened")));
    }
}
