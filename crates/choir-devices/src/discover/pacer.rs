//! Holds the sweep to a number of packets a second.

use std::{
    sync::Mutex,
    time::{Duration, Instant},
};

/// Packets a second that a sweep sends at most, handshakes counted: not to be noticed on a show's
/// network.
pub const PACKETS_PER_SECOND: u32 = 440;
/// Hosts that are asked at the same time; each has up to four sockets open.
pub const HOSTS_AT_ONCE: usize = 160;

/// Gives leave to send.
#[derive(Debug)]
pub struct Pacer {
    each: Duration,
    next: Mutex<Instant>,
}

impl Pacer {
    /// So many packets a second.
    #[must_use]
    pub fn new(packets_per_second: u32) -> Self {
        Self { each: Duration::from_secs(1) / packets_per_second.max(1), next: Mutex::new(Instant::now()) }
    }

    /// Waits for leave to send `packets`.
    pub async fn take(&self, packets: u32) {
        let at = {
            let mut next = choir_host::lock(&self.next);
            let at = (*next).max(Instant::now());
            *next = at + self.each * packets;
            at
        };
        tokio::time::sleep_until(at.into()).await;
    }
}
