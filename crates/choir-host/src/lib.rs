//! This machine as the other crates use it: clocks and timers, sockets, interfaces, secrets, random
//! numbers.
//!
//! | module | holds |
//! |---|---|
//! | [`clock`] | wall clock, monotonic clock, a timer finer than a millisecond |
//! | [`udp`], [`multicast`], [`tcp`] | sockets with batches, groups, ports |
//! | [`mdns`] | services by DNS-SD |
//! | [`interfaces`], [`kernel`] | what the system says of its network |
//! | [`machine`] | what happens to it: network, sleep, clock, descriptors |
//! | [`secrets`] | passphrases and passwords from files and the environment |

mod backoff;
pub mod clock;
mod groups;
pub mod interfaces;
pub mod kernel;
pub mod machine;
pub mod mdns;
pub mod multicast;
pub mod secrets;
mod stamps;
mod stop;
pub mod tcp;
pub mod udp;

pub use backoff::Backoff;
pub use stop::{End, Stop};

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::{
    hash::{DefaultHasher, Hash, Hasher},
    io,
    sync::{
        Mutex, MutexGuard, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard,
        atomic::{AtomicU64, Ordering},
    },
};

/// Lets this program open as many files and sockets as the system allows it; many begin with 1024.
pub fn allow_many_files() {
    let limit = getrlimit(Resource::Nofile);
    if limit.current < limit.maximum {
        // Where it is refused, what was allowed before stays.
        let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, ..limit });
    }
}

/// Random bytes from the system, for keys and whatever else nobody may guess.
///
/// # Errors
/// The system gives none.
pub fn secret_random<const N: usize>() -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|e| io::Error::other(format!("the system gives no random numbers: {e}")))?;
    Ok(bytes)
}

/// Bytes for numbers that need only differ from those of others, as stream identifiers do: without
/// random numbers from the system, made from the clock, the process and a counter.
#[must_use]
pub fn random<const N: usize>() -> [u8; N] {
    secret_random().unwrap_or_else(|_| distinct())
}

fn distinct<const N: usize>() -> [u8; N] {
    static COUNT: AtomicU64 = AtomicU64::new(0);
    let mut hash = DefaultHasher::new();
    (clock::unix_us(), std::process::id(), COUNT.fetch_add(1, Ordering::Relaxed)).hash(&mut hash);
    let mut bytes = [0; N];
    for chunk in bytes.chunks_mut(8) {
        chunk.copy_from_slice(&hash.finish().to_be_bytes()[..chunk.len()]);
        hash.write_u8(0);
    }
    bytes
}

/// Locks; a panic elsewhere must not take the show down with it.
pub fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Locks to read; likewise.
pub fn read<T>(lock: &RwLock<T>) -> RwLockReadGuard<'_, T> {
    lock.read().unwrap_or_else(PoisonError::into_inner)
}

/// Locks to write; likewise.
pub fn write<T>(lock: &RwLock<T>) -> RwLockWriteGuard<'_, T> {
    lock.write().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    #[test]
    fn numbers_differ_without_the_systems_random_ones() {
        assert_ne!(super::distinct::<4>(), super::distinct::<4>());
        let long = super::distinct::<16>();
        assert_ne!(long[..8], long[8..]);
    }
}
