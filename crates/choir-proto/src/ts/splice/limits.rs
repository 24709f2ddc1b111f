//! What both splicers cut by: that of transport streams, and that of units.

/// How long the old source may take to end its units, µs: two pictures at five a second.
pub(crate) const CLOSE_MAX_US: i64 = 500_000;
/// An old source that has been silent this long is not waited for, µs.
pub(crate) const SILENT_US: i64 = 250_000;
/// Least distance of times at a cut, 90 kHz: 1 ms.
pub(crate) const STEP_MIN: i64 = 90;
/// A start that is off by no more than this (50 ms, 90 kHz) follows on what was.
pub(crate) const FOLLOWS_MAX: i64 = 4500;
/// While pictures that are shown before one that has gone out are awaited, the old source's time
/// goes on, and with it the sound that is needed (200 ms, 90 kHz).
pub(crate) const SOUND_SPARE_REORDERED: i64 = 18_000;
/// A source that has too little sound this long after it began will not have more later, µs.
pub(crate) const SOUND_WAIT_US: i64 = 1_000_000;
/// Sound is kept for as long as it may run ahead of or behind the pictures of its time (a second,
/// ISO 13818-1, 2.4.2.7), and what goes out while the old source ends its units, µs.
pub(crate) const SOUND_MAX_US: i64 = 1_250_000;
/// A time further back than this (2 s, 90 kHz) is a jump, not another order of pictures.
pub(crate) const BACK_MAX: i64 = 180_000;
