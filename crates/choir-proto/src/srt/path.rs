//! What the packets that come tell of the path and of the peer: jitter, rates, silence.

use super::wire::HEADER;

pub(super) const IP_UDP: usize = 28;
pub(super) const KEEP_ALIVE_US: i64 = 1_000_000;

/// Silence after which a newcomer may take a connection's place: eight times the usual gap, within
/// these bounds.
const SILENCE_LEAST_US: i64 = 250_000;
const SILENCE_MOST_US: i64 = 1_500_000;

/// How long packets are on the way.
#[derive(Debug, Default)]
pub(super) struct Transit {
    last: Option<i64>,
    /// µs, sixteenfold.
    jitter: i64,
}

impl Transit {
    pub fn note(&mut self, us: i64) {
        if let Some(last) = self.last.replace(us) {
            self.jitter += (us - last).abs() - (self.jitter + 8) / 16;
        }
    }

    /// RFC 3550, 6.4.1, µs.
    pub fn jitter_us(&self) -> i64 {
        self.jitter / 16
    }
}

/// Packets and bytes of the last full second.
#[derive(Debug)]
pub(super) struct ReceiveRate {
    started: i64,
    packets: u32,
    bytes: u32,
    shown: (u32, u32),
}

impl ReceiveRate {
    pub fn new(now: i64) -> Self {
        Self { started: now, packets: 0, bytes: 0, shown: (0, 0) }
    }

    pub fn note(&mut self, now: i64, bytes: usize) {
        if now - self.started >= 1_000_000 {
            self.shown = (self.packets, self.bytes);
            (self.started, self.packets, self.bytes) = (now, 0, 0);
        }
        self.packets = self.packets.saturating_add(1);
        self.bytes = self.bytes.saturating_add(bytes as u32);
    }

    pub fn shown(&self) -> (u32, u32) {
        self.shown
    }
}

/// Mean size of a packet with all headers, bytes.
pub(super) fn on_wire(packets: u32, bytes: u32) -> u64 {
    u64::from(bytes / packets.max(1)) + (HEADER + IP_UDP) as u64
}

/// How far apart the peer's packets come.
#[derive(Debug)]
pub(super) struct Gaps {
    last: i64,
    /// Smoothed, µs.
    usual: i64,
}

impl Gaps {
    pub fn new(now: i64) -> Self {
        Self { last: now, usual: 10_000 }
    }

    pub fn note(&mut self, now: i64) {
        self.usual += (now - self.last - self.usual) / 16;
        self.last = now;
    }

    /// µs since anything came.
    pub fn silent_for(&self, now: i64) -> i64 {
        now - self.last
    }

    /// Nothing has come for far longer than usual.
    pub fn is_silent(&self, now: i64) -> bool {
        self.silent_for(now) > (self.usual * 8).clamp(SILENCE_LEAST_US, SILENCE_MOST_US)
    }
}
