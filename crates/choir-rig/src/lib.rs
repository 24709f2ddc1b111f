//! Ports and networks for tests. A port that was free a moment ago may be another's by the time it is used; one that is leased is not.

use std::{
    collections::hash_map::RandomState,
    fs::{self, File},
    hash::BuildHasher,
    net::{TcpListener, UdpSocket},
    sync::{Mutex, PoisonError},
};

/// Ports below those that the system gives out by itself.
const FIRST: u16 = 10_000;
const LAST: u16 = 32_000;
/// Ports of one lease: media comes with reports on the port beside it.
const BLOCK: u16 = 4;

/// Held until the process ends.
static LEASES: Mutex<Vec<File>> = Mutex::new(Vec::new());

/// A port that nobody else on this machine is given, and the three behind it, for TCP and UDP, until this process ends.
///
/// # Panics
/// There is none left, or no folder for temporary files.
#[must_use]
pub fn port() -> u16 {
    let folder = std::env::temp_dir().join("choir-ports");
    fs::create_dir_all(&folder).expect("a folder for temporary files");
    let blocks = (LAST - FIRST) / BLOCK;
    let start = RandomState::new().hash_one(std::process::id()) % u64::from(blocks);
    let leased = (0..blocks).map(|n| FIRST + (start as u16 + n) % blocks * BLOCK).find_map(|port| {
        // A file that belongs to another user is somebody else's lease.
        let file = File::options().create(true).truncate(false).write(true).open(folder.join(port.to_string())).ok()?;
        (file.try_lock().is_ok() && (port..port + BLOCK).all(is_free)).then_some((port, file))
    });
    let (port, file) = leased.expect("a port that is not leased");
    LEASES.lock().unwrap_or_else(PoisonError::into_inner).push(file);
    port
}

/// The first three octets of a loopback network that nobody else on this machine is given until this process ends: for stand-ins whose
/// ports are fixed, as those of real devices are.
#[must_use]
pub fn net() -> [u8; 3] {
    let lease = (port() - FIRST) / BLOCK;
    [127, 128 + (lease >> 8) as u8, lease as u8]
}

/// No program that knows nothing of leases has it.
fn is_free(port: u16) -> bool {
    UdpSocket::bind(("0.0.0.0", port)).is_ok() && TcpListener::bind(("0.0.0.0", port)).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn no_port_is_given_twice() {
        let threads: Vec<_> = (0..4).map(|_| std::thread::spawn(|| (0..50).map(|_| port()).collect::<Vec<_>>())).collect();
        let ports: Vec<u16> = threads.into_iter().flat_map(|t| t.join().expect("ports")).collect();
        let blocks: HashSet<u16> = ports.iter().map(|p| (p - FIRST) / BLOCK).collect();
        assert_eq!(blocks.len(), ports.len());
    }

    #[test]
    fn a_port_in_use_is_not_given() {
        let holder = UdpSocket::bind(("127.0.0.1", port())).expect("a leased port");
        assert!(!is_free(holder.local_addr().expect("its address").port()));
    }
}
