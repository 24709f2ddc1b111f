//! Text and pictures drawn upon a picture, point by point.

use crate::still::Still;
use font8x8::{BASIC_FONTS, UnicodeFonts};

/// What nothing is drawn on.
pub(crate) const PAPER: [u8; 3] = [18, 22, 28];
/// Of text.
pub(crate) const INK: [u8; 3] = [225, 230, 235];

/// A picture that is drawn upon.
pub(crate) struct Page {
    pub still: Still,
}

impl Page {
    /// An empty one.
    pub fn new(width: usize, height: usize) -> Self {
        Self { still: Still { width, height, rgb: PAPER.repeat(width * height), source: (width as u32, height as u32) } }
    }

    pub fn fill(&mut self, (x, y): (usize, usize), (w, h): (usize, usize), colour: [u8; 3]) {
        let (right, bottom) = ((x + w).min(self.still.width), (y + h).min(self.still.height));
        for row in y..bottom {
            for pixel in
                self.still.rgb[(row * self.still.width + x.min(right)) * 3..(row * self.still.width + right) * 3].chunks_exact_mut(3)
            {
                pixel.copy_from_slice(&colour);
            }
        }
    }

    pub fn picture(&mut self, (x, y): (usize, usize), of: &Still) {
        for (n, row) in of.rgb.chunks_exact(of.width * 3).enumerate() {
            let at = ((y + n) * self.still.width + x) * 3;
            if let Some(to) = self.still.rgb.get_mut(at..at + row.len()) {
                to.copy_from_slice(row);
            }
        }
    }

    /// A picture in another size, each pixel that of the nearest one.
    pub fn stretched(&mut self, (x, y): (usize, usize), (w, h): (usize, usize), of: &Still) {
        if (w, h) == (of.width, of.height) {
            return self.picture((x, y), of);
        }
        let columns: Vec<usize> = (0..w).map(|column| column * of.width / w * 3).collect();
        for row in 0..h {
            let from = row * of.height / h * of.width * 3;
            let at = ((y + row) * self.still.width + x) * 3;
            let Some(to) = self.still.rgb.get_mut(at..at + w * 3) else { return };
            for (to, column) in to.chunks_exact_mut(3).zip(&columns) {
                to.copy_from_slice(&of.rgb[from + column..from + column + 3]);
            }
        }
    }

    /// Letters of 8 by 8 points of `scale` pixels, cut off at `width`; one that the font lacks is a
    /// dot.
    pub fn text(&mut self, (x, y): (usize, usize), scale: usize, text: &str, colour: [u8; 3], width: usize) {
        for (i, c) in text.chars().take(width / (8 * scale)).enumerate() {
            let Some(glyph) = BASIC_FONTS.get(c).or_else(|| BASIC_FONTS.get('.')) else { continue };
            for (row, bits) in glyph.iter().enumerate() {
                for column in (0..8).filter(|column| bits >> column & 1 == 1) {
                    self.fill((x + (i * 8 + column) * scale, y + row * scale), (scale, scale), colour);
                }
            }
        }
    }
}
