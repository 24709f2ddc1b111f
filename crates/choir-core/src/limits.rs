//! Limits of the judgement, each defined once.

use std::time::Duration;

/// Silence of a connected line from which it is broken.
pub const SILENCE: Duration = Duration::from_secs(2);
/// Time that a fresh stream has to show its tables and first keyframe.
pub const FIRST_PICTURE: Duration = Duration::from_secs(5);
/// Share of packets missing after repair from which no picture can be shown.
pub const BROKEN_SHARE: f64 = 0.02;
/// Ticks over which that counts, and the share from which one tick is enough.
pub const BROKEN_TICKS: usize = 3;
/// See [`BROKEN_TICKS`].
pub const BROKEN_AT_ONCE: f64 = 0.05;
/// Loss on the path that leaves no reserve, share of 1.
pub const HEAVY_LOSS: f64 = 0.10;
/// Headroom below this part of the latency is little.
pub const HEADROOM_SHARE: f64 = 0.15;
/// Headroom below this is little at any latency, ms.
pub const HEADROOM_LEAST_MS: f64 = 5.0;
/// A frame rate this far from the expected one differs, share of 1.
pub const RATE_TOLERANCE: f64 = 0.02;
/// A bitrate outside of this share of the expected one differs: sound, headers and filling are in
/// what comes, and a simple scene takes less.
pub const BITRATE_SHARE: std::ops::RangeInclusive<f64> = 0.5..=1.6;
/// Keyframes this far from where they are expected differ, share of 1.
pub const KEYFRAME_TOLERANCE: f64 = 0.25;
/// Headroom from which it is little.
#[must_use]
pub fn headroom_ms(latency_ms: f64) -> f64 {
    (latency_ms * HEADROOM_SHARE).max(HEADROOM_LEAST_MS)
}
/// How long trouble is remembered, so that a state does not flicker.
pub const MEMORY: Duration = Duration::from_secs(5);
/// An idle SRT end speaks each second; a quarter more is for its timers, ms.
pub const SIGN_OF_LIFE_MS: f64 = 1250.0;
/// Time beyond latency and round trip after which an acknowledgement is overdue, ms.
pub const ACK_SPARE_MS: f64 = 500.0;
