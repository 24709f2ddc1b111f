//! H.264 byte streams (ITU-T H.264 Annex B): NAL units, parameter sets, and time stamps that travel in
//! the picture itself.

mod h264;
mod stamp;

pub use h264::{NalKind, VideoFormat, access_unit_delimiter, is_keyframe, nal_units, parse_sps};
pub use stamp::{Stamp, find_stamp, stamp_sei};
