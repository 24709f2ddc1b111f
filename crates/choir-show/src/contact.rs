//! Pictures of several lines on one, with names, states and the clock.

use crate::{
    page::{INK, Page},
    still::Still,
};

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
const BLANK: [u8; 3] = [34, 40, 48];
const QUIET: [u8; 3] = [140, 150, 165];

/// A picture of all, with a head over it.
#[must_use]
pub fn sheet(head: &str, tiles: &[Tile]) -> Still {
    let columns = (1..=8).find(|c| c * c >= tiles.len()).unwrap_or(8).min(tiles.len()).max(1);
    let rows = tiles.len().div_ceil(columns);
    let cell = (TILE.0 + GAP, TILE.1 + 2 * LINE + GAP);
    let top = GAP + LINE + GAP;
    let mut page = Page::new(GAP + columns * cell.0, top + rows * cell.1);
    let width = page.still.width.saturating_sub(2 * GAP);
    page.text((GAP, GAP), SCALE, head, INK, width);
    for (n, tile) in tiles.iter().enumerate() {
        let (x, y) = (GAP + n % columns * cell.0, top + n / columns * cell.1);
        page.fill((x, y), TILE, BLANK);
        match &tile.still {
            Some(still) => {
                let small = still.fit(TILE.0, TILE.1);
                page.picture((x + (TILE.0 - small.width) / 2, y + (TILE.1 - small.height) / 2), &small);
            }
            None => page.text((x + GAP, y + TILE.1 / 2 - LINE / 2), SCALE, "no picture", QUIET, TILE.0 - 2 * GAP),
        }
        page.text((x, y + TILE.1 + 4), SCALE, &tile.name, INK, TILE.0);
        page.text((x, y + TILE.1 + 4 + LINE), SCALE, &tile.says, tile.colour, TILE.0);
    }
    page.still
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
