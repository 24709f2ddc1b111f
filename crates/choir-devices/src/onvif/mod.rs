//! Speaking ONVIF with a device: one session with its proof of the password, and what is read and
//! set by it.

mod keyframe;
mod read;
mod session;
mod set;

pub use keyframe::StreamProfile;
pub use read::{codec_of, read_device, read_streams};
pub use session::{Anyone, OnvifError, Session, Which, who_is_there};
pub use set::{Change, changes_of};
