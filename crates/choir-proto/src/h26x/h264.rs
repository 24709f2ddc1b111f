//! NAL units of a byte stream, and what the sequence parameter set says of the picture.

use h264_reader::{
    nal::sps::{PicOrderCntType, ProfileIdc, SeqParameterSet},
    rbsp::BitReader,
};
use memchr::memmem::Finder;
use std::sync::LazyLock;

/// Kinds of NAL unit that matter to a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NalKind {
    /// Slice of a picture that needs others (types 1 to 4).
    Slice,
    /// Slice of a picture that can be shown without any other (type 5).
    Idr,
    /// Supplemental information (6).
    Sei,
    /// Sequence parameter set (7).
    Sps,
    /// Picture parameter set (8).
    Pps,
    /// Access unit delimiter (9).
    Delimiter,
    /// Any other.
    Other(u8),
}

impl NalKind {
    /// From the first byte of a NAL unit.
    #[must_use]
    pub const fn of(header: u8) -> Self {
        match header & 0x1F {
            1..=4 => Self::Slice,
            5 => Self::Idr,
            6 => Self::Sei,
            7 => Self::Sps,
            8 => Self::Pps,
            9 => Self::Delimiter,
            n => Self::Other(n),
        }
    }

    /// True for coded picture data.
    #[must_use]
    pub const fn is_picture(self) -> bool {
        matches!(self, Self::Slice | Self::Idr)
    }
}

/// The NAL units of a byte stream, without start codes and trailing zeros.
pub fn nal_units(data: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut rest = start_code(data).map_or(&[][..], |(_, after)| &data[after..]);
    std::iter::from_fn(move || {
        while !rest.is_empty() {
            let (mut unit, next) = match start_code(rest) {
                Some((at, after)) => (&rest[..at], &rest[after..]),
                None => (rest, &[][..]),
            };
            rest = next;
            while let Some((&0, shorter)) = unit.split_last() {
                unit = shorter;
            }
            if !unit.is_empty() {
                return Some(unit);
            }
        }
        None
    })
}

/// Where the next start code begins and ends.
#[must_use]
pub fn start_code(data: &[u8]) -> Option<(usize, usize)> {
    static FINDER: LazyLock<Finder<'static>> = LazyLock::new(|| Finder::new(&[0, 0, 1]));
    FINDER.find(data).map(|at| (at, at + 3))
}

/// True when the access unit holds an IDR picture.
#[must_use]
pub fn is_keyframe(data: &[u8]) -> bool {
    nal_units(data).any(|n| NalKind::of(n[0]) == NalKind::Idr)
}

/// A delimiter that allows any slice type, with its start code.
#[must_use]
pub const fn access_unit_delimiter() -> [u8; 6] {
    [0, 0, 0, 1, 0x09, 0xF0]
}

/// What a sequence parameter set says.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct VideoFormat {
    /// `baseline`, `main`, `high` ...
    pub profile: String,
    /// `4.1`.
    pub level: String,
    /// Pixels, after cropping.
    pub width: u32,
    /// Pixels, after cropping.
    pub height: u32,
    /// Frames per second, when the timing is given.
    pub declared_rate: Option<f64>,
    /// Bits per luma sample.
    pub bit_depth: u8,
    /// Pictures that may come before one that is shown earlier: above 0 there are B-pictures.
    /// `None` when not said.
    pub reorder: Option<u8>,
    /// How numbers become colours, when it is said.
    pub colour: Option<Colour>,
}

/// Colour description by the code points of ITU-T H.273; 2 is "unspecified".
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Colour {
    /// Primaries.
    pub primaries: u8,
    /// Transfer characteristics.
    pub transfer: u8,
    /// Matrix.
    pub matrix: u8,
    /// Luma from 0 to 255 instead of 16 to 235.
    pub full_range: bool,
}

impl Default for Colour {
    fn default() -> Self {
        Self { primaries: 2, transfer: 2, matrix: 2, full_range: false }
    }
}

impl std::fmt::Display for Colour {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let space = match (self.primaries, self.matrix) {
            (1, _) | (2, 1) => "BT.709",
            (5..=7, _) | (2, 5 | 6) => "BT.601",
            (9, _) | (2, 9) => "BT.2020",
            _ => "colour not said",
        };
        let transfer = match self.transfer {
            16 => " PQ",
            18 => " HLG",
            _ => "",
        };
        write!(f, "{space}{transfer}, {} range", if self.full_range { "full" } else { "limited" })
    }
}

/// Reads an SPS NAL unit; `None` when it is damaged.
#[must_use]
pub fn parse_sps(nal: &[u8]) -> Option<VideoFormat> {
    // No SPS in the field comes near this; more is not worth decoding.
    if nal.len() > 1024 || NalKind::of(*nal.first()?) != NalKind::Sps {
        return None;
    }
    let rbsp = super::rbsp(nal, 1)?;
    let sps = SeqParameterSet::from_bits(BitReader::new(rbsp.as_ref())).ok()?;
    let (width, height) = sps.pixel_dimensions().ok()?;
    let level = nal.get(3)?;
    let declared_rate = sps.fps().filter(|f| f.is_finite() && *f > 0.0 && *f < 1000.0);
    Some(VideoFormat {
        profile: format!("{:?}", sps.profile()).to_lowercase(),
        level: format!("{}.{}", level / 10, level % 10),
        width,
        height,
        declared_rate,
        bit_depth: sps.chroma_info.bit_depth_luma_minus8.saturating_add(8),
        reorder: reorder(&sps),
        colour: sps.vui_parameters.as_ref().and_then(|v| v.video_signal_type.as_ref()).map(|t| {
            let full_range = t.video_full_range_flag;
            t.colour_description.as_ref().map_or(Colour { full_range, ..Colour::default() }, |c| Colour {
                primaries: c.colour_primaries,
                transfer: c.transfer_characteristics,
                matrix: c.matrix_coefficients,
                full_range,
            })
        }),
    })
}

/// Depth of reordering, where the parameter set settles it.
fn reorder(sps: &SeqParameterSet) -> Option<u8> {
    let restrictions = sps.vui_parameters.as_ref().and_then(|v| v.bitstream_restrictions.as_ref());
    // Baseline has no B-pictures; order type 2 means that pictures are shown as they come
    // (7.4.2.1.1).
    let none = sps.profile_idc == ProfileIdc::from(66) || matches!(sps.pic_order_cnt, PicOrderCntType::TypeTwo);
    if none { Some(0) } else { restrictions.map(|r| r.max_num_reorder_frames.min(16) as u8) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_start_code_is_found_wherever_it_is() {
        for n in 0..3u32.pow(8) {
            let data: Vec<u8> = (0..8).map(|i| (n / 3u32.pow(i) % 3) as u8).collect();
            for length in 0..=data.len() {
                let at = data[..length].windows(3).position(|w| w == [0, 0, 1]);
                assert_eq!(start_code(&data[..length]), at.map(|at| (at, at + 3)), "{:?}", &data[..length]);
            }
        }
    }

    #[test]
    fn units_are_split_at_both_start_codes() {
        let data = [9, 9, 0, 0, 0, 1, 7, 1, 2, 0, 0, 1, 8, 3, 0, 0, 0, 1, 5, 0, 0, 3, 1, 0];
        let units: Vec<_> = nal_units(&data).collect();
        assert_eq!(units, [&[7, 1, 2][..], &[8, 3], &[5, 0, 0, 3, 1]]);
        assert!(is_keyframe(&data));
        assert_eq!(nal_units(&[0, 0, 1]).count(), 0);
        assert_eq!(nal_units(&[]).count(), 0);
    }

    #[test]
    fn a_damaged_parameter_set_is_not_believed() {
        let sps = [0x67, 0x42, 0xC0, 0x1E, 0xD9, 0x00, 0xA0, 0x47, 0xFE, 0xC8];
        for end in 0..sps.len() {
            let _ = parse_sps(&sps[..end]);
        }
        assert!(parse_sps(&[0x67]).is_none());
        assert!(parse_sps(&[0x68, 1, 2, 3]).is_none());
    }
}
