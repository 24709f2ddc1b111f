//! H.264 and H.265 byte streams (Annex B of either): NAL units, parameter sets, and time stamps
//! that travel in the picture itself.

mod h264;
mod h265;
mod record;
mod stamp;

pub use h264::{Colour, NalKind, VideoFormat, access_unit_delimiter, is_keyframe, nal_units, parse_sps, start_code};
pub use h265::{HevcNal, parse_hevc_sps};
pub use record::{DecoderRecord, with_lengths, with_start_codes};
pub use stamp::{Stamp, find_hevc_stamp, find_stamp, hevc_stamp_sei, stamp_sei};

use std::borrow::Cow;

/// The payload of a NAL unit behind a header of this many bytes, without emulation prevention;
/// `None` when it is damaged or empty.
pub(crate) fn rbsp(nal: &[u8], header: usize) -> Option<Cow<'_, [u8]>> {
    // The reader takes one byte of header away, and must have something behind it.
    let rest = nal.get(header.checked_sub(1)?..).filter(|r| r.len() > 1)?;
    h264_reader::rbsp::decode_nal(rest).ok()
}
