//! Ports and networks for tests, and how to await a state. A port that was free a moment ago may be
//! another's by the time it is used; one that is leased is not.

pub mod hand;
pub mod pair;

use std::{
    collections::hash_map::RandomState,
    fmt::{self, Debug},
    fs::{self, File},
    hash::BuildHasher,
    net::{Ipv4Addr, TcpListener, UdpSocket},
    sync::{Mutex, PoisonError},
    time::Duration,
};

/// Ports below those that the system gives out by itself.
const FIRST: u16 = 10_000;
const LAST: u16 = 32_000;
/// Ports of one lease: media comes with reports on the port beside it.
const BLOCK: u16 = 4;

/// Held until the process ends.
static LEASES: Mutex<Vec<File>> = Mutex::new(Vec::new());

/// A port that nobody else on this machine is given, and the three behind it, for TCP and UDP,
/// until this process ends.
///
/// # Panics
/// There is none left, or no folder for temporary files.
#[must_use]
pub fn port() -> u16 {
    let blocks = u64::from((LAST - FIRST) / BLOCK);
    let port = |n: u64| FIRST + (n % blocks) as u16 * BLOCK;
    port(lease(blocks, |n| port(n).to_string(), |n| (port(n)..port(n) + BLOCK).all(is_free)))
}

/// The first two octets of a loopback network that nobody else on this machine is given until this
/// process ends: for the demo, whose machines have networks and ports of their own.
///
/// # Panics
/// There is none left, or no folder for temporary files.
#[must_use]
pub fn wide_net() -> String {
    // Below are the demo itself and a range that tests of finding sweep; above, the small ones.
    let name = |n: u64| format!("127.{}", 72 + n % 56);
    name(lease(56, name, |_| true))
}

/// Leases the first of so many things that is free, beginning at a random one.
fn lease(of: u64, name: impl Fn(u64) -> String, is_free: impl Fn(u64) -> bool) -> u64 {
    let folder = std::env::temp_dir().join("choir-ports");
    fs::create_dir_all(&folder).expect("a folder for temporary files");
    let start = RandomState::new().hash_one(std::process::id()) % of;
    let leased = (start..start + of).find_map(|n| {
        // A file that belongs to another user is somebody else's lease.
        let file = File::options().create(true).truncate(false).write(true).open(folder.join(name(n))).ok()?;
        (file.try_lock().is_ok() && is_free(n)).then_some((n, file))
    });
    let (n, file) = leased.expect("something that is not leased");
    LEASES.lock().unwrap_or_else(PoisonError::into_inner).push(file);
    n
}

/// A loopback network of 256 addresses that nobody else on this machine is given until this process
/// ends: for stand-ins whose ports are fixed, as those of real devices are. Printed, it is the
/// first three octets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Net([u8; 3]);

/// A network of one's own.
#[must_use]
pub fn net() -> Net {
    let lease = (port() - FIRST) / BLOCK;
    Net([127, 128 + (lease >> 8) as u8, lease as u8])
}

impl Net {
    /// The network of this address.
    #[must_use]
    pub const fn of(ip: Ipv4Addr) -> Self {
        let [a, b, c, _] = ip.octets();
        Self([a, b, c])
    }

    /// One of its addresses.
    #[must_use]
    pub const fn at(self, n: u8) -> Ipv4Addr {
        let [a, b, c] = self.0;
        Ipv4Addr::new(a, b, c, n)
    }
}

impl fmt::Display for Net {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c] = self.0;
        write!(f, "{a}.{b}.{c}")
    }
}

/// Memory of a process, KiB: a number, or `self`.
#[must_use]
pub fn resident_kib(process: &str) -> f64 {
    let text = fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = text.lines().find(|l| l.starts_with("VmRSS")).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|n| n.parse().ok()).unwrap_or(0.0)
}

/// Looks each 5 ms until it is as wanted: for what has nothing that could be waited for.
///
/// # Panics
/// It is not after this time.
pub async fn until<T: Debug>(what: &str, patience: Duration, look: impl Fn() -> T, wanted: impl Fn(&T) -> bool) -> T {
    let mut tick = tokio::time::interval(Duration::from_millis(5));
    let (mut last, end) = (look(), tokio::time::Instant::now() + patience);
    while !wanted(&last) {
        assert!(tokio::time::Instant::now() < end, "never {what}: {last:?}");
        tick.tick().await;
        last = look();
    }
    last
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
