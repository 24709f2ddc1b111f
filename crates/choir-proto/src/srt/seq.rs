//! 31-bit packet sequence numbers and 32-bit microsecond timestamps, both of which wrap in normal
//! use.

use std::fmt;

/// A packet sequence number: 31 bits, all arithmetic modulo 2^31.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Seq(u32);

const MASK: u32 = 0x7FFF_FFFF;

impl Seq {
    /// Keeps the low 31 bits of `raw`.
    #[must_use]
    pub const fn new(raw: u32) -> Self {
        Self(raw & MASK)
    }
    /// The number as it goes on the wire.
    #[must_use]
    pub const fn raw(self) -> u32 {
        self.0
    }
    /// The number `n` places later.
    #[must_use]
    pub const fn add(self, n: u32) -> Self {
        Self(self.0.wrapping_add(n) & MASK)
    }
    /// The number `n` places earlier.
    #[must_use]
    pub const fn sub(self, n: u32) -> Self {
        Self(self.0.wrapping_sub(n) & MASK)
    }
    /// How far `self` is ahead of `other`: negative when it is behind.
    #[must_use]
    pub const fn distance_from(self, other: Self) -> i32 {
        let d = self.0.wrapping_sub(other.0) & MASK;
        if d >= 1 << 30 { (d | !MASK) as i32 } else { d as i32 }
    }
}

impl fmt::Debug for Seq {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0)
    }
}
impl fmt::Display for Seq {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0)
    }
}

/// Carries a 32-bit timestamp over its wrap (each 71.6 minutes): the 64-bit value closest to
/// `near`.
pub(crate) fn unwrap_timestamp(ts: u32, near: i64) -> i64 {
    near + i64::from(ts.wrapping_sub(near as u32) as i32)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn distance_wraps_at_31_bits() {
        assert_eq!(Seq::new(1).distance_from(Seq::new(0x7FFF_FFFF)), 2);
        assert_eq!(Seq::new(0x7FFF_FFFE).distance_from(Seq::new(1)), -3);
        assert_eq!(Seq::new(0x7FFF_FFFF).add(1), Seq::new(0));
        assert_eq!(Seq::new(0).sub(1), Seq::new(0x7FFF_FFFF));
        assert_eq!(Seq::new(1 << 30).distance_from(Seq::new(0)), -(1 << 30));
    }

    #[test]
    fn timestamps_carry_over_the_wrap_both_ways() {
        let wrap = 1i64 << 32;
        assert_eq!(unwrap_timestamp(5, wrap - 10), wrap + 5);
        assert_eq!(unwrap_timestamp(u32::MAX, wrap + 3), wrap - 1);
        assert_eq!(unwrap_timestamp(7, 0), 7);
        assert_eq!(unwrap_timestamp(7, 3 * wrap + 1), 3 * wrap + 7);
    }
}
