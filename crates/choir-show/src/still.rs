//! One picture of a line: decoded, scaled down, and whether it shows anything.

use choir_proto::ts::{AccessUnit, StreamKind};
use openh264::{decoder::Decoder as H264, formats::YUVSource};
use rust_h265::{DecodeLimits, Decoder as H265, Frame, PixelData, parse_annex_b};

/// Largest picture that is decoded, pixels: 8192x4320.
const PIXELS_MAX: u64 = 8192 * 4320;
/// Spread of brightness below which a picture shows nothing, of 255.
const SPREAD_MIN: f64 = 6.0;

/// A picture in RGB, 8 bits each, rows from the top.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Still {
    /// Pixels.
    pub width: usize,
    /// Pixels.
    pub height: usize,
    /// Three bytes per pixel.
    pub rgb: Vec<u8>,
}

impl Still {
    /// Decodes the first picture of these, of which the first is a keyframe. `None` when it cannot be.
    #[must_use]
    pub fn decode(units: &[AccessUnit]) -> Option<Self> {
        match units.first()?.kind {
            StreamKind::H265 => decode_h265(units),
            _ => decode_h264(units),
        }
    }

    /// As large as fits, by averaging; never larger than it is.
    #[must_use]
    pub fn fit(&self, width: usize, height: usize) -> Self {
        let scale = (width as f64 / self.width as f64).min(height as f64 / self.height as f64).min(1.0);
        let side = |n: usize| ((n as f64 * scale).round() as usize).max(1);
        let (w, h) = (side(self.width), side(self.height));
        let mut rgb = Vec::with_capacity(w * h * 3);
        for y in 0..h {
            let rows = (y * self.height / h)..((y + 1) * self.height / h).max(y * self.height / h + 1);
            for x in 0..w {
                let columns = (x * self.width / w)..((x + 1) * self.width / w).max(x * self.width / w + 1);
                let mut sum = [0_u32; 3];
                for row in rows.clone() {
                    for column in columns.clone() {
                        let at = (row * self.width + column) * 3;
                        sum.iter_mut().zip(&self.rgb[at..at + 3]).for_each(|(s, v)| *s += u32::from(*v));
                    }
                }
                let count = (rows.len() * columns.len()) as u32;
                rgb.extend(sum.map(|s| (s / count) as u8));
            }
        }
        Self { width: w, height: h, rgb }
    }

    /// Whether it shows more than one colour.
    #[must_use]
    pub fn shows_something(&self) -> bool {
        let luma: Vec<f64> =
            self.rgb.chunks_exact(3).map(|p| 0.21 * f64::from(p[0]) + 0.72 * f64::from(p[1]) + 0.07 * f64::from(p[2])).collect();
        let count = luma.len().max(1) as f64;
        let mean = luma.iter().sum::<f64>() / count;
        (luma.iter().map(|l| (l - mean).powi(2)).sum::<f64>() / count).sqrt() >= SPREAD_MIN
    }

    /// As a PNG file.
    #[must_use]
    pub fn png(&self) -> Vec<u8> {
        let mut out = Vec::new();
        let mut encoder = png::Encoder::new(&mut out, self.width as u32, self.height as u32);
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        // Writing into memory fails only for sizes that a still cannot have.
        let written = encoder.write_header().and_then(|mut w| w.write_image_data(&self.rgb));
        if written.is_err() {
            out.clear();
        }
        out
    }
}

fn decode_h264(units: &[AccessUnit]) -> Option<Still> {
    let mut decoder = H264::new().ok()?;
    for unit in units {
        if let Ok(Some(yuv)) = decoder.decode(&unit.data) {
            let (width, height) = yuv.dimensions();
            let mut rgb = vec![0; yuv.rgb8_len()];
            yuv.write_rgb8(&mut rgb);
            return Some(Still { width, height, rgb });
        }
    }
    None
}

fn decode_h265(units: &[AccessUnit]) -> Option<Still> {
    let limits = DecodeLimits { max_picture_pixels: PIXELS_MAX, ..DecodeLimits::default() };
    let mut decoder = H265::with_limits(limits);
    for unit in units {
        for nal in parse_annex_b(&unit.data) {
            if let Ok(Some(frame)) = decoder.decode_nal(&nal) {
                return from_planes(&frame);
            }
        }
    }
    from_planes(&decoder.flush()?)
}

/// BT.709, limited range, of any depth and sampling.
fn from_planes(f: &Frame) -> Option<Still> {
    let (width, height) = (f.width as usize, f.height as usize);
    let (across, down) = match f.chroma_format_idc {
        1 => (2, 2),
        2 => (2, 1),
        _ => (1, 1),
    };
    let value = |plane: &PixelData, at: usize| match plane {
        PixelData::U8(v) => v.get(at).map(|v| f64::from(*v)),
        PixelData::U16(v) => v.get(at).map(|v| f64::from(*v) / f64::from(1_u32 << (f.bit_depth.clamp(8, 16) - 8))),
    };
    let grey = f.chroma_format_idc == 0;
    let chroma_width = width.div_ceil(across);
    let mut rgb = Vec::with_capacity(width * height * 3);
    for y in 0..height {
        for x in 0..width {
            let luma = 1.164 * (value(&f.y, y * width + x)? - 16.0);
            let at = (y / down) * chroma_width + x / across;
            let (u, v) = if grey { (0.0, 0.0) } else { (value(&f.u, at)? - 128.0, value(&f.v, at)? - 128.0) };
            let pixel = [luma + 1.793 * v, luma - 0.213 * u - 0.533 * v, luma + 2.112 * u];
            rgb.extend(pixel.map(|c| c.round().clamp(0.0, 255.0) as u8));
        }
    }
    Some(Still { width, height, rgb })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn still(width: usize, height: usize, at: impl Fn(usize, usize) -> [u8; 3]) -> Still {
        let rgb = (0..height).flat_map(|y| (0..width).map(move |x| (x, y))).flat_map(|(x, y)| at(x, y)).collect();
        Still { width, height, rgb }
    }

    #[test]
    fn a_still_is_made_smaller_by_averaging_and_never_larger() {
        let halves = still(400, 200, |x, _| if x < 200 { [0; 3] } else { [200, 100, 50] });
        let small = halves.fit(40, 40);
        assert_eq!((small.width, small.height), (40, 20));
        assert_eq!((&small.rgb[..3], &small.rgb[117..120]), (&[0, 0, 0][..], &[200, 100, 50][..]));
        assert_eq!(halves.fit(1000, 1000), halves);
        assert_eq!(still(3, 1, |x, _| [x as u8 * 90; 3]).fit(1, 1).rgb, [90, 90, 90]);
    }

    #[test]
    fn one_colour_shows_nothing_and_png_is_written() {
        assert!(!still(64, 64, |_, _| [16, 20, 18]).shows_something());
        let bars = still(64, 64, |x, _| [(x * 4) as u8; 3]);
        assert!(bars.shows_something());
        let png = bars.png();
        assert!(png.starts_with(b"\x89PNG"));
        let mut reader = png::Decoder::new(std::io::Cursor::new(png)).read_info().expect("a PNG");
        let mut back = vec![0; reader.output_buffer_size().expect("a size")];
        reader.next_frame(&mut back).expect("a frame");
        assert_eq!(back, bars.rgb);
    }

    #[test]
    fn junk_is_no_picture() {
        for kind in [StreamKind::H264, StreamKind::H265] {
            let data = vec![0, 0, 0, 1, 0x65, 0xff, 0, 1, 2, 3].into();
            let unit = AccessUnit { pid: 256, kind, pts: None, dts: None, keyframe: true, arrived: 0, data, format: Default::default() };
            assert_eq!(Still::decode(&[unit]), None);
        }
        assert_eq!(Still::decode(&[]), None);
    }
}
