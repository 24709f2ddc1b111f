//! The scene: water, lanes, boats, the device's name, and the frame's number in digits and in
//! blocks.

use font8x8::{BASIC_FONTS, UnicodeFonts};

/// Blocks in the bottom row that spell the frame's number, highest bit first, and one for parity.
pub const BLOCKS: usize = 17;
/// The row's height is this part of the picture's.
const ROW: usize = 12;
const WHITE: u8 = 235;
const BLACK: u8 = 16;

/// How many times closer the stand-in's lens brings at its long end.
pub const LENS: f64 = 4.0;

/// Width of what is seen at this zoom (0 to 1), of what is seen at the wide end.
pub fn seen_at(zoom: f64) -> f64 {
    LENS.powf(-zoom.clamp(0.0, 1.0))
}

/// A picture in planes, 4:2:0.
#[derive(Debug, Clone)]
pub struct Scene {
    /// Pixels.
    pub width: usize,
    /// Pixels.
    pub height: usize,
    /// Luma.
    pub y: Vec<u8>,
    /// Blue difference.
    pub u: Vec<u8>,
    /// Red difference.
    pub v: Vec<u8>,
    background: (Vec<u8>, Vec<u8>, Vec<u8>),
}

/// A small hash, for water that looks alike in every run.
fn noise(x: usize, y: usize) -> u32 {
    let mut h = (x as u32).wrapping_mul(0x9E37_79B1) ^ (y as u32).wrapping_mul(0x85EB_CA77);
    h ^= h >> 13;
    h = h.wrapping_mul(0xC2B2_AE35);
    h ^ h >> 16
}

impl Scene {
    /// An empty scene of this size; each `tint` gives another water.
    #[must_use]
    pub fn new(width: usize, height: usize, tint: u8) -> Self {
        let (mut y, mut u, mut v) = (vec![0; width * height], vec![0; width * height / 4], vec![0; width * height / 4]);
        let horizon = height / 3;
        for row in 0..height {
            for col in 0..width {
                y[row * width + col] = if row < horizon {
                    (150 + row * 50 / horizon.max(1)) as u8
                } else {
                    let shade = 70 + (row - horizon) * 40 / (height - horizon).max(1);
                    (shade + (noise(col / 3, row) % 18) as usize) as u8
                };
            }
        }
        for row in 0..height / 2 {
            let sky = row * 2 < horizon;
            u[row * width / 2..(row + 1) * width / 2].fill(if sky { 145 } else { 138 + tint % 8 });
            v[row * width / 2..(row + 1) * width / 2].fill(if sky { 118 } else { 100 + tint % 16 });
        }
        Self { width, height, y: y.clone(), u: u.clone(), v: v.clone(), background: (y, u, v) }
    }

    /// Draws frame `n` of a loop of `total` frames: the last leads back to the first.
    pub fn draw(&mut self, n: usize, total: usize, name: &str) {
        self.view(n, total);
        self.mark(n, name);
    }

    /// Draws black.
    pub fn black(&mut self) {
        let (w, h) = (self.width, self.height);
        self.rect(0, 0, w, h, BLACK, Some((128, 128)));
    }

    /// Draws colour bars: 75 % of white, yellow, cyan, green, magenta, red, blue, and black
    /// (BT.709).
    pub fn bars(&mut self) {
        const BARS: [(u8, u8, u8); 8] = [
            (180, 128, 128),
            (168, 44, 136),
            (145, 147, 44),
            (133, 63, 52),
            (63, 193, 204),
            (51, 109, 212),
            (28, 212, 120),
            (16, 128, 128),
        ];
        let (w, h) = (self.width, self.height);
        for (n, (luma, u, v)) in BARS.into_iter().enumerate() {
            // Even, so that colour and brightness end at the same place.
            let edge = |n: usize| n * w / BARS.len() / 2 * 2;
            self.rect(edge(n), 0, edge(n + 1) - edge(n), h, luma, Some((u, v)));
        }
    }

    /// Name and number, over whatever is there.
    fn mark(&mut self, number: usize, name: &str) {
        let (w, h) = (self.width, self.height);
        let scale = (h / 180).max(1);
        self.rect(0, 0, w, 12 * scale, 30, Some((128, 128)));
        self.text(4 * scale, 2 * scale, scale, name);
        let digits = format!("{number:05}");
        self.text(w.saturating_sub(44 * scale), 2 * scale, scale, &digits);
        self.blocks(number as u16);
    }

    fn view(&mut self, n: usize, total: usize) {
        let n = n % total.max(1);
        self.y.copy_from_slice(&self.background.0);
        self.u.copy_from_slice(&self.background.1);
        self.v.copy_from_slice(&self.background.2);
        let (w, h) = (self.width, self.height);
        let horizon = h / 3;
        // Waves: bands of light that walk down the water once per loop.
        let bands = 9;
        let depth = h - horizon;
        for band in 0..bands {
            let row = horizon + (band * depth / bands + n * depth / bands / total.max(1)) % depth;
            for col in 0..w {
                if !noise(col / 6, band).is_multiple_of(3) {
                    let pixel = &mut self.y[row * w + col];
                    *pixel = pixel.saturating_add(28);
                }
            }
        }
        for lane in 1..=4 {
            let row = horizon + lane * depth / 6;
            for buoy in 0..w / 24 {
                let col = (buoy * 24 + w - n * 24 / total.max(1)) % w;
                self.rect(col, row, 4, 4, 190, Some((110, 190)));
            }
            self.boat(n, total, lane, row);
        }
    }

    fn boat(&mut self, n: usize, total: usize, lane: usize, row: usize) {
        let (w, h) = (self.width, self.height);
        let length = w / 6;
        let at = (lane * w / 5 + n * w / total.max(1)) % w;
        let top = row + h / 24;
        for part in 0..length {
            let col = (at + part) % w;
            // Pointed at both ends.
            let end = part.min(length - part);
            let thick = (h / 60).min(end / 2 + 1);
            self.rect(col, top - thick / 2, 1, thick, 200, Some((if lane.is_multiple_of(2) { 90 } else { 170 }, 150)));
        }
        for seat in 1..=4 {
            let col = (at + seat * length / 5) % w;
            let stroke = ((n * 8 / total.max(1)) % 2) * 3;
            self.rect(col, top.saturating_sub(h / 40 + stroke), (w / 160).max(2), h / 40, 60, None);
        }
    }

    fn rect(&mut self, x: usize, y: usize, w: usize, h: usize, luma: u8, chroma: Option<(u8, u8)>) {
        let (right, bottom) = ((x + w).min(self.width), (y + h).min(self.height));
        for row in y..bottom {
            self.y[row * self.width + x.min(right)..row * self.width + right].fill(luma);
        }
        if let Some((cu, cv)) = chroma {
            for row in y / 2..bottom.div_ceil(2).min(self.height / 2) {
                let (a, b) = (row * self.width / 2 + x / 2, row * self.width / 2 + right.div_ceil(2).min(self.width / 2));
                if a < b {
                    self.u[a..b].fill(cu);
                    self.v[a..b].fill(cv);
                }
            }
        }
    }

    fn text(&mut self, x: usize, y: usize, scale: usize, text: &str) {
        for (i, c) in text.chars().enumerate() {
            let Some(glyph) = BASIC_FONTS.get(c) else { continue };
            for (row, bits) in glyph.iter().enumerate() {
                for col in 0..8 {
                    if bits >> col & 1 == 1 {
                        self.rect(x + (i * 8 + col) * scale, y + row * scale, scale, scale, WHITE, None);
                    }
                }
            }
        }
    }

    fn blocks(&mut self, n: u16) {
        let row = self.height / ROW;
        let parity = n.count_ones() % 2 == 1;
        for i in 0..BLOCKS {
            let bit = if i < 16 { n >> (15 - i) & 1 == 1 } else { parity };
            let (a, b) = (i * self.width / BLOCKS, (i + 1) * self.width / BLOCKS);
            self.rect(a, self.height - row, b - a, row, if bit { WHITE } else { BLACK }, Some((128, 128)));
        }
    }
}

/// A scene twice as wide and high as the picture, which is a window over it.
#[derive(Debug, Clone)]
pub struct WideScene {
    wide: Scene,
    /// The picture.
    pub picture: Scene,
}

impl WideScene {
    /// For a picture of this size.
    #[must_use]
    pub fn new(width: usize, height: usize, tint: u8) -> Self {
        let mut wide = Scene::new(width * 2, height * 2, tint);
        // Light falls from the right, so that any two windows differ.
        for row in wide.background.0.chunks_mut(width * 2) {
            for (col, pixel) in row.iter_mut().enumerate() {
                *pixel = pixel.saturating_add((col * 60 / (width * 2)) as u8);
            }
        }
        Self { wide, picture: Scene::new(width, height, tint) }
    }

    /// Draws frame `n` as seen at this pan and tilt (-1 to 1) and zoom (0 to 1: once to
    /// four times).
    pub fn draw(&mut self, n: usize, total: usize, name: &str, (pan, tilt, zoom): (f64, f64, f64)) {
        self.wide.view(n, total);
        let (w, h) = (self.picture.width, self.picture.height);
        let sees = seen_at(zoom);
        let (view_w, view_h) = (w as f64 * sees, h as f64 * sees);
        let left = (pan.clamp(-1.0, 1.0) + 1.0) / 2.0 * (2.0 * w as f64 - view_w);
        let top = (1.0 - tilt.clamp(-1.0, 1.0)) / 2.0 * (2.0 * h as f64 - view_h);
        let column = |x: usize, of: usize| ((left + x as f64 * view_w / w as f64) as usize).min(2 * w - 1) / of;
        let columns: Vec<usize> = (0..w).map(|x| column(x, 1)).collect();
        let half: Vec<usize> = (0..w / 2).map(|x| column(2 * x, 2)).collect();
        for y in 0..h {
            let from = ((top + y as f64 * view_h / h as f64) as usize).min(2 * h - 1);
            let row = &self.wide.y[from * 2 * w..(from + 1) * 2 * w];
            for (to, x) in self.picture.y[y * w..(y + 1) * w].iter_mut().zip(&columns) {
                *to = row[*x];
            }
            if y % 2 == 0 {
                let (at, from) = (y / 2 * (w / 2), from / 2 * w);
                for (x, half) in half.iter().enumerate() {
                    self.picture.u[at + x] = self.wide.u[from + half];
                    self.picture.v[at + x] = self.wide.v[from + half];
                }
            }
        }
        self.picture.mark(n, name);
    }
}

/// Reads the frame's number back from decoded luma; `None` when a block is grey or the parity is
/// wrong.
#[must_use]
pub fn read_blocks(luma: &[u8], width: usize, height: usize, stride: usize) -> Option<u16> {
    let row = height / ROW;
    let mut bits = 0u32;
    for i in 0..BLOCKS {
        let (x, y) = ((2 * i + 1) * width / (2 * BLOCKS), height - row / 2);
        let mut sum = 0u32;
        for dy in 0..4 {
            for dx in 0..4 {
                sum += u32::from(*luma.get((y + dy - 2) * stride + x + dx - 2)?);
            }
        }
        bits = bits << 1
            | match sum / 16 {
                0..=90 => 0,
                160.. => 1,
                _ => return None,
            };
    }
    let number = (bits >> 1) as u16;
    (u32::from(number.count_ones() % 2 == 1) == bits & 1).then_some(number)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_number_can_be_read_from_the_picture() {
        for (w, h) in [(320, 180), (1280, 720)] {
            let mut scene = Scene::new(w, h, 3);
            for n in [0, 1, 49, 0x5555, 0xFFFF] {
                scene.draw(n, 50, "finish-tower");
                assert_eq!(read_blocks(&scene.y, w, h, w), Some(n as u16));
            }
        }
        assert_eq!(read_blocks(&[128; 320 * 180], 320, 180, 320), None);
    }

    #[test]
    fn a_window_over_the_wide_scene_shows_other_things_elsewhere() {
        let mut scene = WideScene::new(320, 180, 3);
        let mut seen = Vec::new();
        for place in [(0.0, 0.0, 0.0), (-1.0, 0.0, 0.0), (1.0, 1.0, 0.0), (0.0, -1.0, 0.0), (0.0, 0.0, 1.0), (9.0, -9.0, 9.0)] {
            scene.draw(7, 50, "finish-tower", place);
            assert_eq!(read_blocks(&scene.picture.y, 320, 180, 320), Some(7));
            assert!(!seen.contains(&scene.picture.y), "{place:?} looks like another place");
            seen.push(scene.picture.y.clone());
        }
    }
}
