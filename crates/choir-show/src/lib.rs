//! The running show: lines, feeds and what belongs to them, without printing.
//!
//! | module | holds |
//! |---|---|
//! | [`Show`] | a running show: plan, states, events, commands |
//! | [`media`] | lines and feeds: metering, splicing, handing on; no task of their own |
//! | [`control`] | the local control socket of a running show, and its client |
//! | [`inspect`], [`prove`] | a timed look at one source; a device's stream measured against the sheet |
//! | [`ptz`] | steering a camera by ONVIF, VISCA or Stave name |
//! | [`load`] | how many links this machine carries |
//! | [`linecheck`], [`still`] | the check of every line before the show; pictures |
//! | [`clip`] | what is in a clip |
//! | [`record`] | recordings of lines and feeds, and what is wrong with those that are there |
//! | [`contact`] | pictures of several lines on one |

mod alarms;
mod aside;
mod behind;
mod build;
pub mod bus;
mod cameras;
pub mod clip;
mod confirm;
pub mod contact;
pub mod control;
mod encode;
mod feed;
mod follow;
mod hold;
mod inner;
pub mod inspect;
mod keyframes;
mod keys;
mod line;
pub mod linecheck;
pub mod load;
mod looks;
pub mod media;
mod meter;
mod names;
mod page;
pub mod palette;
mod pictures;
mod planes;
pub mod prove;
pub mod ptz;
pub mod record;
mod recordings;
mod reload;
mod rotas;
mod seen;
mod show;
mod side;
mod slate;
mod standby;
pub mod still;
mod view;
mod wall;
mod web;

pub use inner::{OpenError, Reports, StandIns};
pub use pictures::LinePicture;
pub use show::{Show, event_view};
