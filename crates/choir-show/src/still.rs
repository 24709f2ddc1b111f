//! One picture of a line: decoded, scaled down, and whether it shows anything.

use crate::planes::Planes;
use choir_proto::ts::{AccessUnit, StreamKind};
use openh264::{
    decoder::{DecodeOptions, Decoder as H264, Flush},
    formats::YUVSource,
};
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
    /// Pixels that it was decoded from.
    pub source: (u32, u32),
}

impl Still {
    /// Decodes the first picture of these, of which the first is a keyframe, as large as fits.
    /// `None` when it cannot be.
    #[must_use]
    pub fn decode(units: &[AccessUnit], fit: Option<(usize, usize)>) -> Option<Self> {
        let mut decoder = Decoder::new(units.first()?.kind);
        units.iter().find_map(|unit| decoder.decode(unit, fit)).or_else(|| decoder.flush(fit))
    }

    /// Brightness of each pixel.
    #[must_use]
    pub fn luma(&self) -> Vec<u8> {
        self.rgb.as_chunks().0.iter().map(|p| luma(*p)).collect()
    }

    /// As large as fits, by averaging; never larger than it is.
    #[must_use]
    pub fn fit(&self, width: usize, height: usize) -> Self {
        let (w, h) = fitted((self.width, self.height), (width, height));
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
        Self { width: w, height: h, rgb, source: self.source }
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

/// Brightness of red, green and blue (BT.709).
#[must_use]
pub fn luma([r, g, b]: [u8; 3]) -> u8 {
    ((u32::from(r) * 54 + u32::from(g) * 183 + u32::from(b) * 19) >> 8) as u8
}

/// Decodes pictures one after the other.
pub(crate) enum Decoder {
    H264(Option<H264>),
    H265(Box<H265>),
}

impl Decoder {
    /// For pictures of this kind.
    pub fn new(kind: StreamKind) -> Self {
        if kind == StreamKind::H265 {
            let limits = DecodeLimits { max_picture_pixels: PIXELS_MAX, ..DecodeLimits::default() };
            Self::H265(Box::new(H265::with_limits(limits)))
        } else {
            Self::H264(H264::new().ok())
        }
    }

    /// For all pictures of a stream, which are given in the order in which they are shown: each at
    /// once, unless that is another order than the one in which they come.
    pub fn of_stream(kind: StreamKind, reorders: bool) -> Self {
        match Self::new(kind) {
            Self::H265(decoder) if reorders => Self::H265(Box::new(decoder.with_display_order())),
            other => other,
        }
    }

    /// Takes a picture of a stream, and gives what is to be shown by now.
    ///
    /// # Errors
    /// It cannot be decoded.
    pub fn stream(&mut self, unit: &AccessUnit, reorders: bool, mut give: impl FnMut(Planes)) -> Result<(), String> {
        match self {
            Self::H264(decoder) => {
                let decoder = decoder.as_mut().ok_or("no decoder")?;
                // What is held back is shown later, and not out of turn.
                let options = DecodeOptions::new().flush_after_decode(if reorders { Flush::NoFlush } else { Flush::Flush });
                let shown = decoder.decode_with_options(&unit.data, options).map_err(|e| e.to_string())?;
                shown.and_then(|yuv| Planes::of_yuv(&yuv)).into_iter().for_each(give);
                Ok(())
            }
            Self::H265(decoder) => {
                let mut done = Ok(());
                let mut show = |frame: Frame| Planes::of_frame(&frame).into_iter().for_each(&mut give);
                for nal in parse_annex_b(&unit.data) {
                    match decoder.decode_nal(&nal) {
                        Ok(frame) => frame.into_iter().for_each(&mut show),
                        Err(e) => done = Err(e.to_string()),
                    }
                    std::iter::from_fn(|| decoder.next_output()).for_each(&mut show);
                }
                if !reorders {
                    // It is whole: the next one need not come first.
                    std::iter::from_fn(|| decoder.flush()).for_each(&mut show);
                }
                done
            }
        }
    }

    /// What comes out with this picture: it, or one before it.
    pub fn decode(&mut self, unit: &AccessUnit, fit: Option<(usize, usize)>) -> Option<Still> {
        match self {
            Self::H264(decoder) => from_yuv(&decoder.as_mut()?.decode(&unit.data).ok()??, fit),
            Self::H265(decoder) => {
                let frames = parse_annex_b(&unit.data).into_iter().filter_map(|nal| decoder.decode_nal(&nal).ok().flatten());
                frames.last().and_then(|frame| from_frame(&frame, fit))
            }
        }
    }

    /// Takes a picture that nobody looks at.
    pub fn pass(&mut self, unit: &AccessUnit) {
        match self {
            Self::H264(Some(decoder)) => drop(decoder.decode(&unit.data)),
            Self::H264(None) => {}
            Self::H265(decoder) => parse_annex_b(&unit.data).into_iter().for_each(|nal| drop(decoder.decode_nal(&nal))),
        }
    }

    /// What it still holds back.
    fn flush(&mut self, fit: Option<(usize, usize)>) -> Option<Still> {
        match self {
            Self::H264(decoder) => from_yuv(decoder.as_mut()?.flush_remaining().ok()?.first()?, fit),
            Self::H265(decoder) => from_frame(&decoder.flush()?, fit),
        }
    }
}

fn from_yuv(yuv: &openh264::decoder::DecodedYUV<'_>, fit: Option<(usize, usize)>) -> Option<Still> {
    let (width, height) = yuv.dimensions();
    let (strides, y, u, v) = (yuv.strides(), yuv.y(), yuv.u(), yuv.v());
    let luma = |x: usize, row: usize| y.get(row * strides.0 + x).map(|v| f32::from(*v));
    let chroma = |x: usize, row: usize| {
        let (x, row) = (x / 2, row / 2);
        Some((f32::from(*u.get(row * strides.1 + x)?), f32::from(*v.get(row * strides.2 + x)?)))
    };
    from_planes((width, height), fit, luma, chroma)
}

/// Of any depth and sampling.
fn from_frame(f: &Frame, fit: Option<(usize, usize)>) -> Option<Still> {
    let (width, height) = (f.width as usize, f.height as usize);
    let (across, down) = match f.chroma_format_idc {
        1 => (2, 2),
        2 => (2, 1),
        _ => (1, 1),
    };
    let value = |plane: &PixelData, at: usize| match plane {
        PixelData::U8(v) => v.get(at).map(|v| f32::from(*v)),
        PixelData::U16(v) => v.get(at).map(|v| f32::from(*v) / f32::from(1_u16 << (f.bit_depth.clamp(8, 16) - 8))),
    };
    let grey = f.chroma_format_idc == 0;
    let chroma_width = width.div_ceil(across);
    let luma = |x: usize, y: usize| value(&f.y, y * width + x);
    let chroma = |x: usize, y: usize| {
        let at = (y / down) * chroma_width + x / across;
        if grey { Some((128.0, 128.0)) } else { value(&f.u, at).zip(value(&f.v, at)) }
    };
    from_planes((width, height), fit, luma, chroma)
}

/// Places in so many pixels that one pixel of a smaller picture is made of, in each direction.
const SAMPLES: usize = 4;

/// BT.709, limited range; made smaller by averaging.
fn from_planes(
    (width, height): (usize, usize),
    fit: Option<(usize, usize)>,
    luma: impl Fn(usize, usize) -> Option<f32>,
    chroma: impl Fn(usize, usize) -> Option<(f32, f32)>,
) -> Option<Still> {
    if width == 0 || height == 0 {
        return None;
    }
    let (w, h) = fit.map_or((width, height), |f| fitted((width, height), f));
    // Evenly over the pixels that one is made of.
    let places = |n: usize, of: usize, from: usize| {
        let (begin, end) = (n * from / of, ((n + 1) * from / of).max(n * from / of + 1));
        let count = (end - begin).min(SAMPLES);
        (0..count).map(move |i| begin + (2 * i + 1) * (end - begin) / (2 * count))
    };
    let columns: Vec<Vec<usize>> = (0..w).map(|x| places(x, w, width).collect()).collect();
    let mut rgb = Vec::with_capacity(w * h * 3);
    for y in 0..h {
        let rows: Vec<usize> = places(y, h, height).collect();
        for columns in &columns {
            let mut sum = 0.0;
            for row in &rows {
                for column in columns {
                    sum += luma(*column, *row)?;
                }
            }
            let count = (rows.len() * columns.len()) as f32;
            let (mut u, mut v) = (0.0, 0.0);
            for (column, row) in [(columns[0], rows[0]), (columns[columns.len() - 1], rows[rows.len() - 1])] {
                let c = chroma(column, row)?;
                (u, v) = (u + c.0 / 2.0, v + c.1 / 2.0);
            }
            let (luma, u, v) = (1.164 * (sum / count - 16.0), u - 128.0, v - 128.0);
            let pixel = [luma + 1.793 * v, luma - 0.213 * u - 0.533 * v, luma + 2.112 * u];
            // The conversion stays within 0 to 255.
            rgb.extend(pixel.map(|c| (c + 0.5) as u8));
        }
    }
    Some(Still { width: w, height: h, rgb, source: (width as u32, height as u32) })
}

/// The largest size of this shape that fits, and never a larger one.
fn fitted((width, height): (usize, usize), (most_w, most_h): (usize, usize)) -> (usize, usize) {
    filling((width, height), (most_w.min(width), most_h.min(height)))
}

/// The largest size of this shape that fits.
#[must_use]
pub fn filling((width, height): (usize, usize), (most_w, most_h): (usize, usize)) -> (usize, usize) {
    let scale = (most_w as f64 / width as f64).min(most_h as f64 / height as f64);
    let side = |n: usize| ((n as f64 * scale).round() as usize).max(1);
    (side(width), side(height))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn still(width: usize, height: usize, at: impl Fn(usize, usize) -> [u8; 3]) -> Still {
        let rgb = (0..height).flat_map(|y| (0..width).map(move |x| (x, y))).flat_map(|(x, y)| at(x, y)).collect();
        Still { width, height, rgb, source: (width as u32, height as u32) }
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
            assert_eq!(Still::decode(&[unit], None), None);
        }
        assert_eq!(Still::decode(&[], None), None);
    }
}
