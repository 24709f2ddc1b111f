//! Pictures of several lines on one, with names, states and the clock.

use crate::still::Still;
use font8x8::{BASIC_FONTS, UnicodeFonts};

/// One picture's place.
#[derive(Debug, Clone)]
pub struct Tile {
    /// Above the line below it.
    pub name: String,
    /// What is said of it: its state, the picture's age.
    pub says: String,
    /// Of what is said.
    pub colour: [u8; 3],
    /// The picture, if there is one.
    pub still: Option<Still>,
}

const TILE: (usize, usize) = (320, 180);
const GAP: usize = 12;
/// Pixels of a letter, which is 8 by 8 points.
const SCALE: usize = 2;
const LINE: usize = 8 * SCALE + 4;
const PAPER: [u8; 3] = [18, 22, 28];
const BLANK: [u8; 3] = [34, 40, 48];
const INK: [u8; 3] = [225, 230, 235];
const QUIET: [u8; 3] = [140, 150, 165];

/// A picture of all, with a head over it.
#[must_use]
pub fn sheet(head: &str, tiles: &[Tile]) -> Still {
    let columns = (1..=8).find(|c| c * c >= tiles.len()).unwrap_or(8).min(tiles.len()).max(1);
    let rows = tiles.len().div_ceil(columns);
    let cell = (TILE.0 + GAP, TILE.1 + 2 * LINE + GAP);
    let top = GAP + LINE + GAP;
    let mut page = Page::new(GAP + columns * cell.0, top + rows * cell.1);
    page.text((GAP, GAP), head, INK, page.still.width.saturating_sub(2 * GAP));
    for (n, tile) in tiles.iter().enumerate() {
        let (x, y) = (GAP + n % columns * cell.0, top + n / columns * cell.1);
        page.fill((x, y), TILE, BLANK);
        match &tile.still {
            Some(still) => {
                let small = still.fit(TILE.0, TILE.1);
                page.picture((x + (TILE.0 - small.width) / 2, y + (TILE.1 - small.height) / 2), &small);
            }
            None => page.text((x + GAP, y + TILE.1 / 2 - LINE / 2), "no picture", QUIET, TILE.0 - 2 * GAP),
        }
        page.text((x, y + TILE.1 + 4), &tile.name, INK, TILE.0);
        page.text((x, y + TILE.1 + 4 + LINE), &tile.says, tile.colour, TILE.0);
    }
    page.still
}

struct Page {
    still: Still,
}

impl Page {
    fn new(width: usize, height: usize) -> Self {
        Self { still: Still { width, height, rgb: PAPER.repeat(width * height), source: (width as u32, height as u32) } }
    }

    fn fill(&mut self, (x, y): (usize, usize), (w, h): (usize, usize), colour: [u8; 3]) {
        let (right, bottom) = ((x + w).min(self.still.width), (y + h).min(self.still.height));
        for row in y..bottom {
            for pixel in
                self.still.rgb[(row * self.still.width + x.min(right)) * 3..(row * self.still.width + right) * 3].chunks_exact_mut(3)
            {
                pixel.copy_from_slice(&colour);
            }
        }
    }

    fn picture(&mut self, (x, y): (usize, usize), of: &Still) {
        for (n, row) in of.rgb.chunks_exact(of.width * 3).enumerate() {
            let at = ((y + n) * self.still.width + x) * 3;
            if let Some(to) = self.still.rgb.get_mut(at..at + row.len()) {
                to.copy_from_slice(row);
            }
        }
    }

    /// Cut off at `width`; a letter that the font lacks is a dot.
    fn text(&mut self, (x, y): (usize, usize), text: &str, colour: [u8; 3], width: usize) {
        for (i, c) in text.chars().take(width / (8 * SCALE)).enumerate() {
            let Some(glyph) = BASIC_FONTS.get(c).or_else(|| BASIC_FONTS.get('.')) else { continue };
            for (row, bits) in glyph.iter().enumerate() {
                for column in (0..8).filter(|column| bits >> column & 1 == 1) {
                    self.fill((x + (i * 8 + column) * SCALE, y + row * SCALE), (SCALE, SCALE), colour);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tile(still: Option<Still>) -> Tile {
        Tile { name: "finish-tower".into(), says: "steady".into(), colour: [9, 200, 9], still }
    }

    #[test]
    fn every_tile_has_its_place_and_its_picture() {
        let red = Still { width: 640, height: 360, rgb: [200, 0, 0].repeat(640 * 360), source: (640, 360) };
        for count in [1_usize, 2, 5, 12, 70] {
            let tiles: Vec<Tile> = (0..count).map(|n| tile((n % 2 == 0).then(|| red.clone()))).collect();
            let page = sheet("Tarn Hollow Regatta", &tiles);
            assert_eq!(page.rgb.len(), page.width * page.height * 3);
            let pixels = page.rgb.chunks_exact(3).filter(|p| *p == [200, 0, 0]).count();
            assert_eq!(pixels, count.div_ceil(2) * 320 * 180);
            assert!(page.rgb.chunks_exact(3).filter(|p| *p == [9, 200, 9]).count() > count * 100, "what is said is written");
        }
        let none = sheet("A head that is far too long to fit over a page that has no picture on it", &[]);
        assert!(none.width > 0 && none.height > 0);
    }
}
