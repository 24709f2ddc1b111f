//! The running show: lines, feeds and what belongs to them, without printing.
//!
//! | module | holds |
//! |---|---|
//! | [`Show`] | a running show: plan, states, events, commands |
//! | [`media`] | lines and feeds: metering, splicing, handing on; no task of their own |
//! | [`control`] | the local control socket of a running show, and its client |
//! | [`inspect`], [`prove`] | a timed look at one source; a device's stream measured against the sheet |
//! | [`ptz`] | steering a camera by ONVIF, VISCA or Stave name |
//! | [`linecheck`], [`still`] | the check of every line before the show, and its pictures |

mod cameras;
pub mod control;
mod events;
pub mod inspect;
mod keyframes;
pub mod linecheck;
pub mod media;
mod plan;
pub mod prove;
pub mod ptz;
mod sample;
mod show;
pub mod still;
mod tally;

pub use show::Show;
