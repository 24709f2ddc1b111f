//! What arrives for a line, by one network path or more, merged into one sequence.

use crate::{
    media::Media,
    ts::{Timed, UnitFormat},
};
use bytes::Bytes;
use std::{sync::Arc, time::Instant};

/// One piece of media as it arrived.
#[derive(Debug, Clone)]
pub struct Arrival {
    /// Which path it took, counted from 0.
    pub leg: u8,
    /// Counts the source's connections: a new number is a new start.
    pub session: u32,
    /// When it came out of its link, or was due to.
    pub at: Instant,
    /// What came.
    pub media: Media,
}

impl Arrival {
    /// By the only path that a line has.
    #[must_use]
    pub const fn new(session: u32, at: Instant, media: Media) -> Self {
        Self { leg: 0, session, at, media }
    }

    /// A piece of a transport stream, by the only path that a line has.
    #[must_use]
    pub const fn ts(session: u32, at: Instant, bytes: Bytes) -> Self {
        Self::new(session, at, Media::Ts(bytes))
    }

    /// Units of one format that are due, by the only path that a line has.
    pub fn units<'a>(session: u32, at: Instant, format: &'a Arc<UnitFormat>, timed: &'a mut Vec<Timed>) -> impl Iterator<Item = Self> + 'a {
        timed.drain(..).map(move |timed| Self::new(session, at, Media::Units(format.clone(), timed)))
    }
}

/// Merges the legs of one line. With one leg all goes through in the order in which it came, but
/// for what belongs to a connection that a later one has taken the place of.
#[derive(Debug, Default)]
pub struct LegMerge {
    /// The latest session.
    latest: Option<u32>,
    late: u64,
}

impl LegMerge {
    /// Takes what has arrived; what goes on stays in `arrivals`, in order.
    pub fn merge(&mut self, arrivals: &mut Vec<Arrival>) {
        arrivals.retain(|a| {
            let late = self.latest.is_some_and(|latest| a.session < latest);
            self.late += u64::from(late);
            if !late {
                self.latest = Some(a.session);
            }
            !late
        });
    }

    /// Pieces that came for a connection that is over.
    #[must_use]
    pub const fn late(&self) -> u64 {
        self.late
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]

    use super::*;

    #[test]
    fn one_leg_goes_through_but_for_what_is_over() {
        let (now, mut merge) = (Instant::now(), LegMerge::default());
        let piece = |session, n: u8| Arrival::ts(session, now, Bytes::copy_from_slice(&[n]));
        let told = |all: &[Arrival]| all.iter().map(|a| (a.session, a.media.size(), format!("{:?}", a.media))).collect::<Vec<_>>();
        let mut arrivals = vec![piece(1, 0), piece(1, 1), piece(2, 2), piece(1, 3), piece(2, 4)];
        merge.merge(&mut arrivals);
        assert_eq!(told(&arrivals), told(&[piece(1, 0), piece(1, 1), piece(2, 2), piece(2, 4)]));
        // Also over batches.
        let mut arrivals = vec![piece(1, 5), piece(3, 6)];
        merge.merge(&mut arrivals);
        assert_eq!((told(&arrivals), merge.late()), (told(&[piece(3, 6)]), 2));
    }
}
