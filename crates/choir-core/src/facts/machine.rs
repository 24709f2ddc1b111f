//! What happens to the machine that a show runs on.

use std::time::Duration;

/// Something has changed that links feel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MachineChange {
    /// Addresses of its interfaces.
    Network {
        /// `eth1 10.77.0.5`, of those that are new.
        came: Vec<String>,
        /// Of those that are gone.
        gone: Vec<String>,
        /// Multicast groups that were joined again since their interface had gone and come back.
        rejoined: usize,
    },
    /// It was asleep, and all its links stood still.
    Slept(Duration),
    /// Its clock was set.
    ClockSet {
        /// By so many ms, forward or (negative) back.
        ms: i64,
    },
    /// Nearly all file descriptors are in use: strangers' connections are closed at once.
    FilesShort {
        /// That it may have.
        limit: u64,
    },
    /// There are enough of them again.
    FilesEnough,
}
