//! Measuring a path between two Cable Choirs: round trips, both ways' delay, loss and order, the
//! rate and the datagram size that fit. A protocol of our own over UDP; every datagram proves that
//! its sender has the token, and which of the two it is.
//!
//! ```text
//! asker                                  answerer
//!   Hello ─────────────────────────────►   (no token, no answer)
//!   ◄──────────────────────────── Welcome  its cookie, its limit
//!   Start(cookie, rate, time) ─────────►
//!   ◄─────────────────────────── Accepted  or Refused
//!   Stream ◄──────────────────────► Stream both ways at the rate; Ping ─► ◄─ Pong all the while
//!   Train ─► ◄─ Train                      some packets in one go: how far apart they arrive is the rate that fits
//!   Size ─►  ◄─ SizeSeen                   greatest datagram that comes through
//!   Ask ─►   ◄─ Report                     what the answerer saw
//! ```
//!
//! An answerer never sends more than its limit, never longer than it was asked for, and stops a
//! second after the asker falls silent.

mod answerer;
mod asker;
pub mod fuzz;
mod tally;
mod wire;

pub use answerer::Answerer;
pub use asker::{Asker, Failure, Phase, Plan, Survey};
pub use tally::{Percentiles, WayReport};
pub use wire::{HEADER, PORT, TOKEN_MIN};

/// One datagram to send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outgoing {
    /// To whom.
    pub to: std::net::SocketAddr,
    /// Its bytes.
    pub data: Vec<u8>,
}

/// Packets of one train.
const TRAIN: u32 = 40;
/// IPv4 and UDP headers.
const IP_UDP: usize = 28;
/// Bytes of a stream packet behind IP and UDP: what a link's packet has, 16 of header and 1316 of
/// media.
pub const STREAM_SIZE: usize = 1332;

/// µs from one packet to the next at this many bits of media per second.
fn spacing_us(rate_bps: u64) -> f64 {
    1316.0 * 8.0 * 1e6 / rate_bps.max(1) as f64
}

/// Sends at an even pace, and catches up at most a little when it was called late.
#[derive(Debug, Clone)]
struct Pace {
    from: i64,
    until: i64,
    spacing: f64,
    sent: u32,
}

impl Pace {
    /// Packets that one call may send.
    const CATCH_UP: u32 = 64;

    fn new(from: i64, lasts_us: i64, rate_bps: u64) -> Self {
        Self { from, until: from + lasts_us, spacing: spacing_us(rate_bps), sent: 0 }
    }

    fn next_at(&self) -> Option<i64> {
        let at = self.from + (f64::from(self.sent) * self.spacing) as i64;
        (at < self.until).then_some(at)
    }

    /// How many are due now.
    fn due(&mut self, now: i64) -> u32 {
        let mut count = 0;
        while count < Self::CATCH_UP && self.next_at().is_some_and(|at| at <= now) {
            self.sent += 1;
            count += 1;
        }
        count
    }
}
