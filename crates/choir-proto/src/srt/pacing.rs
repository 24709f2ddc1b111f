//! The sender's ceiling: how fast packets may leave, retransmissions included.

use super::Ceiling;

const BUCKET_US: i64 = 100_000;
const BUCKETS: usize = 10;
/// Below this the measured ceiling does not go: a slow input must still be able to repair itself.
const FLOOR_BPS: u64 = 1_000_000;
/// Credit that may be saved up, as time at the ceiling: lets one wake-up send several packets.
const CREDIT_US: i64 = 5_000;

/// Time in which the input's rate is first measured.
const MEASURE_US: i64 = 300_000;

#[derive(Debug)]
pub(super) struct Pacer {
    ceiling: Ceiling,
    buckets: [u64; BUCKETS],
    bucket_index: i64,
    /// Time up to which the line is spoken for.
    busy_until: i64,
    first_input: Option<i64>,
    measuring: bool,
}

impl Pacer {
    pub fn new(ceiling: Ceiling, now: i64) -> Self {
        Self { ceiling, buckets: [0; BUCKETS], bucket_index: now / BUCKET_US, busy_until: now, first_input: None, measuring: true }
    }

    /// Counts input, headers included.
    pub fn note_input(&mut self, now: i64, bytes: usize) {
        // A rate cannot be told from the first packets: until there is one, they go as they come.
        self.measuring = now - *self.first_input.get_or_insert(now) < MEASURE_US;
        let index = now / BUCKET_US;
        let steps = (index - self.bucket_index).clamp(0, BUCKETS as i64);
        for step in 1..=steps {
            self.buckets[((self.bucket_index + step) as usize) % BUCKETS] = 0;
        }
        self.bucket_index = index;
        self.buckets[(index as usize) % BUCKETS] += bytes as u64;
    }

    /// Bits per second; `None` without a ceiling.
    pub fn ceiling_bps(&self) -> Option<u64> {
        match self.ceiling {
            Ceiling::Unlimited => None,
            Ceiling::Fixed(bps) => Some(bps.max(1)),
            Ceiling::Overhead(_) if self.measuring => None,
            Ceiling::Overhead(percent) => {
                let peak = self.buckets.iter().max().copied().unwrap_or(0) * 8 * 1_000_000 / BUCKET_US as u64;
                Some((peak * (100 + u64::from(percent)) / 100).max(FLOOR_BPS))
            }
        }
    }

    /// When the next packet may leave.
    pub fn ready_at(&self) -> i64 {
        self.busy_until
    }

    /// Books one packet.
    pub fn spend(&mut self, now: i64, bytes: usize) {
        let Some(bps) = self.ceiling_bps() else { return };
        let cost = (bytes as u64 * 8 * 1_000_000 / bps) as i64;
        self.busy_until = self.busy_until.max(now - CREDIT_US) + cost.max(1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fixed_ceiling_holds_over_a_second() {
        let mut pacer = Pacer::new(Ceiling::Fixed(8_000_000), 0);
        let (mut now, mut sent) = (0, 0usize);
        while now < 1_000_000 {
            now = now.max(pacer.ready_at());
            pacer.spend(now, 1000);
            sent += 1000;
        }
        assert!((995_000..=1_010_000).contains(&sent), "{sent} bytes in a second at 1 MB/s");
    }

    #[test]
    fn the_measured_ceiling_follows_the_peak_and_forgets_it() {
        let mut pacer = Pacer::new(Ceiling::Overhead(25), 0);
        for ms in 0..1000 {
            pacer.note_input(ms * 1000, 1000);
        }
        assert_eq!(pacer.ceiling_bps(), Some(10_000_000));
        pacer.note_input(5_000_000, 10);
        assert_eq!(pacer.ceiling_bps(), Some(FLOOR_BPS));
    }
}
