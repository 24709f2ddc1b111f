//! Pauses between attempts.

use backon::{BackoffBuilder, ExponentialBuilder};
use std::time::Duration;

/// Pauses that double from `first` up to `most`.
#[derive(Debug)]
pub struct Backoff {
    builder: ExponentialBuilder,
    most: Duration,
    pauses: <ExponentialBuilder as BackoffBuilder>::Backoff,
}

impl Backoff {
    /// From `first` on.
    #[must_use]
    pub fn new(first: Duration, most: Duration) -> Self {
        let builder = ExponentialBuilder::new().with_min_delay(first).with_max_delay(most).without_max_times();
        Self { builder, most, pauses: builder.build() }
    }

    /// Begins with the first pause again.
    pub fn reset(&mut self) {
        self.pauses = self.builder.build();
    }

    /// The next one.
    pub fn pause(&mut self) -> Duration {
        self.pauses.next().unwrap_or(self.most)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_the_longest_and_begin_anew() {
        let secs = Duration::from_secs;
        let mut backoff = Backoff::new(secs(1), secs(5));
        let pauses: Vec<Duration> = (0..5).map(|_| backoff.pause()).collect();
        assert_eq!(pauses, [1, 2, 4, 5, 5].map(secs));
        backoff.reset();
        assert_eq!(backoff.pause(), secs(1));
    }
}
