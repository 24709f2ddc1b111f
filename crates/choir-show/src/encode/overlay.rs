//! What is laid over pictures: drawn once in the picture's size, the time of day each second, and
//! blended into the planes.

use crate::planes::Planes;
use choir_core::model::{Corner, Overlay, Shows};
use choir_host::clock::{time_of_day, unix_ms};
use choir_scale::{ScaleError, Scaler};
use font8x8::{BASIC_FONTS, UnicodeFonts};
use std::{fs::File, io::BufReader, path::Path};

/// Largest image that is read, pixels: 4096x4096.
const PIXELS_MAX: u64 = 4096 * 4096;
/// From the edge of the picture, as a share of its height.
const MARGIN: f64 = 0.04;
/// Points of a letter.
const LETTER: usize = 8;
/// Of letters, and of what is behind them (with how much of it).
const INK: [u8; 4] = [235, 240, 245, 255];
const BEHIND: [u8; 4] = [10, 14, 20, 150];

/// Pixels with transparency, four bytes each.
struct Layer {
    size: (usize, usize),
    rgba: Vec<u8>,
}

/// One overlay, drawn for pictures of one size.
pub(crate) struct Drawn {
    overlay: Overlay,
    picture: (usize, usize),
    layer: Mask,
    /// Second of the time of day that is drawn.
    second: u64,
}

/// A layer as it is blended: brightness and colours with how much of each.
struct Mask {
    at: (usize, usize),
    size: (usize, usize),
    y: Vec<(u8, u8)>,
    /// Both colours, of each two by two pixels.
    colours: Vec<(u8, u8, u8)>,
}

impl Drawn {
    /// Draws it for pictures of this size.
    ///
    /// # Errors
    /// Its image cannot be read.
    pub fn new(overlay: &Overlay, picture: (usize, usize), base: &Path) -> Result<Self, String> {
        let second = unix_ms() / 1000;
        let layer = draw(overlay, picture, base, second)?;
        Ok(Self { overlay: overlay.clone(), picture, layer, second })
    }

    /// Lays it over a picture.
    pub fn lay(&mut self, picture: &mut Planes) {
        if self.overlay.shows == Shows::Time {
            let second = unix_ms() / 1000;
            // No file is read for the time of day.
            if second != self.second
                && let Ok(layer) = draw(&self.overlay, self.picture, Path::new(""), second)
            {
                (self.layer, self.second) = (layer, second);
            }
        }
        self.layer.blend(picture);
    }
}

/// For pictures of this size; an image is found from `base`.
fn draw(overlay: &Overlay, picture: (usize, usize), base: &Path, second: u64) -> Result<Mask, String> {
    let height = ((overlay.size * picture.1 as f64) as usize).clamp(LETTER, picture.1);
    let layer = match &overlay.shows {
        Shows::Image(path) => {
            let file = base.join(path);
            let read = read_png(&file).and_then(|image| scaled(&image, (picture.0, height)).map_err(|e| e.to_string()));
            read.map_err(|e| format!("the overlay {}: {e}", file.display()))?
        }
        Shows::Text(text) => letters(text, height, picture.0),
        Shows::Time => letters(&clock(second), height, picture.0),
    };
    Ok(Mask::new(&layer, overlay.corner, picture))
}

fn clock(second: u64) -> String {
    let text = time_of_day(second * 1000);
    format!("{} UTC", text.get(..8).unwrap_or(&text))
}

/// Reads a PNG file.
fn read_png(file: &Path) -> Result<Layer, String> {
    let bytes = BufReader::new(File::open(file).map_err(|e| e.to_string())?);
    let mut decoder = png::Decoder::new(bytes);
    decoder.set_transformations(png::Transformations::normalize_to_color8() | png::Transformations::ALPHA);
    let mut reader = decoder.read_info().map_err(|e| format!("not a PNG: {e}"))?;
    let info = reader.info();
    let size = (info.width as usize, info.height as usize);
    if u64::from(info.width) * u64::from(info.height) > PIXELS_MAX {
        return Err(format!("{}x{} pixels are too many, at most 4096x4096", size.0, size.1));
    }
    let mut data = vec![0; reader.output_buffer_size().ok_or("too large")?];
    let frame = reader.next_frame(&mut data).map_err(|e| format!("not a PNG: {e}"))?;
    data.truncate(frame.buffer_size());
    let rgba = match frame.color_type {
        png::ColorType::Rgba => data,
        png::ColorType::GrayscaleAlpha => data.chunks_exact(2).flat_map(|p| [p[0], p[0], p[0], p[1]]).collect(),
        other => return Err(format!("its colours ({other:?}) are not read here: save it as RGB with transparency")),
    };
    Ok(Layer { size, rgba })
}

/// As large as fits, with its shape.
fn scaled(layer: &Layer, fit: (usize, usize)) -> Result<Layer, ScaleError> {
    let size = crate::still::filling(layer.size, fit);
    Ok(Layer { size, rgba: Scaler::default().rgba(&layer.rgba, layer.size, size)? })
}

/// Words on a band of this height, as many letters as are as wide as `most`.
fn letters(text: &str, height: usize, most: usize) -> Layer {
    // Three quarters of the band are letters.
    let scale = (height * 3 / 4 / LETTER).max(1);
    let (pad, tall) = (scale * 2, LETTER * scale + scale * 3);
    let count = text.chars().count().min(most.saturating_sub(2 * pad) / (LETTER * scale));
    let wide = (count * LETTER * scale + 2 * pad).min(most);
    let mut rgba = BEHIND.repeat(wide * tall);
    for (n, c) in text.chars().take(count).enumerate() {
        let Some(glyph) = BASIC_FONTS.get(c).or_else(|| BASIC_FONTS.get('.')) else { continue };
        for (row, bits) in glyph.iter().enumerate() {
            for column in (0..LETTER).filter(|column| bits >> column & 1 == 1) {
                let (x, y) = (pad + (n * LETTER + column) * scale, scale * 2 + row * scale);
                for line in y..y + scale {
                    let at = (line * wide + x) * 4;
                    rgba[at..at + scale * 4].copy_from_slice(&INK.repeat(scale));
                }
            }
        }
    }
    Layer { size: (wide, tall), rgba }
}

/// Brightness and colours (BT.709, limited range).
fn yuv([r, g, b]: [f32; 3]) -> (f32, f32, f32) {
    let y = 16.0 + 0.1826 * r + 0.6142 * g + 0.0620 * b;
    (y, 128.0 - 0.1006 * r - 0.3386 * g + 0.4392 * b, 128.0 + 0.4392 * r - 0.3989 * g - 0.0403 * b)
}

impl Mask {
    fn new(layer: &Layer, corner: Corner, picture: (usize, usize)) -> Self {
        // Even, as colours are.
        let size = (layer.size.0.min(picture.0) & !1, layer.size.1.min(picture.1) & !1);
        let margin = (picture.1 as f64 * MARGIN) as usize & !1;
        let far = |whole: usize, own: usize| whole.saturating_sub(own + margin) & !1;
        let near = |whole: usize, own: usize| margin.min(whole - own) & !1;
        let (left, top) = (matches!(corner, Corner::TopLeft | Corner::BottomLeft), matches!(corner, Corner::TopLeft | Corner::TopRight));
        let x = if left { near(picture.0, size.0) } else { far(picture.0, size.0) };
        let y = if top { near(picture.1, size.1) } else { far(picture.1, size.1) };
        let pixel = |column: usize, row: usize| {
            let at = (row * layer.size.0 + column) * 4;
            let p = &layer.rgba[at..at + 4];
            (yuv([f32::from(p[0]), f32::from(p[1]), f32::from(p[2])]), p[3])
        };
        let mut mask = Self { at: (x, y), size, y: Vec::with_capacity(size.0 * size.1), colours: Vec::new() };
        for row in 0..size.1 {
            mask.y.extend((0..size.0).map(|column| {
                let (c, alpha) = pixel(column, row);
                (c.0 as u8, alpha)
            }));
        }
        for row in (0..size.1).step_by(2) {
            for column in (0..size.0).step_by(2) {
                let four = [(0, 0), (1, 0), (0, 1), (1, 1)].map(|(x, y)| pixel(column + x, row + y));
                let all: f32 = four.iter().map(|(_, a)| f32::from(*a)).sum();
                let mean = |of: fn((f32, f32, f32)) -> f32| four.iter().map(|(c, a)| of(*c) * f32::from(*a)).sum::<f32>() / all.max(1.0);
                mask.colours.push((mean(|c| c.1) as u8, mean(|c| c.2) as u8, (all / 4.0) as u8));
            }
        }
        mask
    }

    fn blend(&self, picture: &mut Planes) {
        let mix = |to: &mut u8, from: u8, alpha: u8| {
            let (a, b) = (u32::from(alpha), 255 - u32::from(alpha));
            *to = ((u32::from(from) * a + u32::from(*to) * b + 127) / 255) as u8;
        };
        let (wide, (x, y)) = (picture.size.0, self.at);
        let [luma, blue, red] = &mut picture.parts;
        for (row, pixels) in self.y.chunks_exact(self.size.0.max(1)).enumerate() {
            let at = (y + row) * wide + x;
            luma[at..at + pixels.len()].iter_mut().zip(pixels).for_each(|(to, (from, alpha))| mix(to, *from, *alpha));
        }
        for (row, pixels) in self.colours.chunks_exact((self.size.0 / 2).max(1)).enumerate() {
            let at = (y / 2 + row) * (wide / 2) + x / 2;
            for (n, (u, v, alpha)) in pixels.iter().enumerate() {
                mix(&mut blue[at + n], *u, *alpha);
                mix(&mut red[at + n], *v, *alpha);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn overlay(shows: Shows, corner: Corner, size: f64) -> Overlay {
        Overlay { shows, corner, size }
    }

    /// Where brightness differs from black: left, right, top, bottom.
    fn changed(p: &Planes) -> Option<[usize; 4]> {
        let lit: Vec<(usize, usize)> =
            (0..p.size.0 * p.size.1).filter(|n| p.parts[0][*n] != 16).map(|n| (n % p.size.0, n / p.size.0)).collect();
        let (first, rest) = lit.split_first()?;
        Some(rest.iter().fold([first.0, first.0, first.1, first.1], |b, (x, y)| [b[0].min(*x), b[1].max(*x), b[2].min(*y), b[3].max(*y)]))
    }

    #[test]
    fn words_stand_in_each_corner_within_the_picture_at_every_size() {
        for size in [(64, 64), (320, 180), (1280, 720), (1920, 1080)] {
            for corner in Corner::ALL {
                for share in [0.01, 0.05, 1.0] {
                    let mut p = Planes::black(size);
                    Drawn::new(&overlay(Shows::Text("Heat 3".into()), corner, share), size, Path::new("")).expect("drawn").lay(&mut p);
                    let [left, right, top, bottom] = changed(&p).expect("something");
                    if share == 0.05 && size.0 >= 320 {
                        assert_eq!(left < size.0 / 4, matches!(corner, Corner::TopLeft | Corner::BottomLeft), "{size:?} {corner:?}");
                        assert_eq!(bottom < size.1 / 4, matches!(corner, Corner::TopLeft | Corner::TopRight), "{size:?} {corner:?}");
                        assert!(left > 0 && top > 0 && right < size.0 - 1 && bottom < size.1 - 1);
                    }
                }
            }
        }
    }

    #[test]
    fn an_image_keeps_its_shape_and_what_is_transparent_in_it() {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join("logo.png");
        // Left half red, right half clear.
        let rgba: Vec<u8> = (0..40 * 20).flat_map(|n| if n % 40 < 20 { [200, 10, 20, 255] } else { [0, 255, 0, 0] }).collect();
        let mut encoder = png::Encoder::new(File::create(&file).expect("a file"), 40, 20);
        encoder.set_color(png::ColorType::Rgba);
        encoder.write_header().and_then(|mut w| w.write_image_data(&rgba)).expect("written");
        let size = (640, 360);
        let mut p = Planes::black(size);
        let drawn = |name: &str| Drawn::new(&overlay(Shows::Image(name.into()), Corner::TopLeft, 0.2), size, folder.path());
        drawn("logo.png").expect("drawn").lay(&mut p);
        let [left, right, top, bottom] = changed(&p).expect("something");
        assert_eq!((left, top, bottom - top + 1), (14, 14, 72));
        assert!((70..76).contains(&(right - left + 1)), "the left half of 144 pixels: {}", right - left + 1);
        let (y, u, v) = yuv([200.0, 10.0, 20.0]);
        assert_eq!((p.parts[0][20 * 640 + 20], p.parts[1][10 * 320 + 10], p.parts[2][10 * 320 + 10]), (y as u8, u as u8, v as u8));
        std::fs::write(folder.path().join("junk.png"), b"no picture").expect("written");
        for (name, says) in [("none.png", "No such file"), ("junk.png", "not a PNG")] {
            let error = drawn(name).err().expect(name);
            assert!(error.contains(says) && error.contains(name), "{error}");
        }
    }
}
