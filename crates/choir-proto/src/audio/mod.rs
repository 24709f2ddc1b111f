//! Sound: what AAC says of itself, LATM, G.711, and PCM in transport streams.

mod aac;
mod g711;
mod latm;
mod pcm;
mod st302;

pub use aac::{AacConfig, aac_silence};
pub use g711::{Law, Upsampler, decode as decode_g711};
pub use latm::{LatmError, StreamMux};
pub use pcm::{PCM_CHANNELS, PCM_SAMPLE, fit_channels};
pub use st302::{ST302_RATE, st302_channels, st302_frame, st302_join, st302_last, st302_samples, st302_silence, st302_times};
