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

mod build;
pub mod bus;
mod cameras;
pub mod control;
mod feed;
mod follow;
mod inner;
pub mod inspect;
mod keyframes;
mod line;
pub mod linecheck;
pub mod media;
mod meter;
mod names;
pub mod prove;
pub mod ptz;
mod reload;
mod show;
mod side;
pub mod still;
mod view;

pub use inner::{OpenError, Reports};
pub use show::{Show, event_view};
