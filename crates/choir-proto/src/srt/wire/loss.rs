//! Loss lists of NAK packets: single numbers and inclusive ranges.

use super::{Seq, WireError};
use crate::bits::be32;
use std::fmt;

/// Most ranges in one list: what fits into one datagram.
pub const MAX_LOSS_RANGES: usize = 180;
const TOP: u32 = 0x8000_0000;

/// Inclusive ranges of lost packets.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LossList(pub Vec<(Seq, Seq)>);

impl LossList {
    /// Parses the contents of a NAK.
    ///
    /// # Errors
    /// Cut in a word or range, or a range that ends before it starts.
    pub fn parse(body: &[u8]) -> Result<Self, WireError> {
        if body.is_empty() || !body.len().is_multiple_of(4) {
            return Err(WireError::Truncated);
        }
        let mut ranges = Vec::new();
        let mut at = 0;
        while let Some(word) = be32(body, at) {
            at += 4;
            let first = Seq::new(word);
            if word & TOP == 0 {
                ranges.push((first, first));
                continue;
            }
            let end = be32(body, at).ok_or(WireError::Truncated)?;
            at += 4;
            if end & TOP != 0 || Seq::new(end).distance_from(first) < 0 {
                return Err(WireError::Invalid("a loss range that does not end"));
            }
            ranges.push((first, Seq::new(end)));
        }
        Ok(Self(ranges))
    }

    pub(super) fn encode(&self, out: &mut Vec<u8>) {
        for &(first, last) in &self.0 {
            if first == last {
                out.extend_from_slice(&first.raw().to_be_bytes());
            } else {
                out.extend_from_slice(&(first.raw() | TOP).to_be_bytes());
                out.extend_from_slice(&last.raw().to_be_bytes());
            }
        }
    }

    /// Adds one number, joining it to the last range when it follows on.
    pub fn push(&mut self, seq: Seq) {
        match self.0.last_mut() {
            Some((_, last)) if last.add(1) == seq => *last = seq,
            _ => self.0.push((seq, seq)),
        }
    }
}

impl fmt::Display for LossList {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, (a, b)) in self.0.iter().enumerate() {
            let sep = if i == 0 { "" } else { ", " };
            if a == b { write!(f, "{sep}{a}")? } else { write!(f, "{sep}{a}..={b}")? }
        }
        Ok(())
    }
}
