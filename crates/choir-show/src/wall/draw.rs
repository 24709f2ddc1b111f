//! What a wall looks like.
//!
//! ```text
//! ┌ show                              time ┐
//! │┌ picture ───────┐┌ picture ───────┐    │
//! ││              ▮▮││              ▮▮│    │  levels at the right of each
//! ││ name    state  ││ name    state  │    │
//! │└────────────────┘└────────────────┘    │  a frame in the colour of the tally
//! ```

use crate::{
    page::{INK, Page},
    palette::{BAD, GOOD, QUIET, Rgb, WARNING},
    still::{Still, filling},
};
use choir_core::{
    facts::State,
    view::{LineView, TallyView},
};

/// Behind pictures.
const BLACK: [u8; 3] = [0, 0, 0];
/// Behind names.
const BAND: [u8; 3] = [30, 42, 56];
/// Points of a letter.
const LETTER: usize = 8;
/// Peaks are drawn down to this, dBFS.
const LEAST_DB: f64 = -60.0;
/// From here on a peak is near the top, dBFS.
const LOUD_DB: f64 = -9.0;

/// One line on the wall.
#[derive(Debug, Clone, Default)]
pub(super) struct Cell {
    pub title: String,
    pub state: Option<State>,
    /// What is wrong with it.
    pub trouble: Option<String>,
    pub tally: Option<TallyView>,
    /// Peak of each channel, dBFS.
    pub levels: Vec<f64>,
    pub picture: Option<Still>,
}

impl Cell {
    /// What is written on it.
    pub fn of(line: &LineView) -> Self {
        Self {
            title: if line.title.is_empty() { &line.name } else { &line.title }.clone(),
            state: line.link.state,
            trouble: line.content.first().map(|c| c.name.clone()),
            tally: line.tally,
            levels: line.levels.as_ref().map(|l| l.peak_dbfs.clone()).unwrap_or_default(),
            picture: None,
        }
    }
}

/// Where things are on a wall of this size.
#[derive(Debug, Clone, Copy)]
pub(super) struct Layout {
    size: (usize, usize),
    grid: (usize, usize),
    /// Size of a letter's points.
    scale: usize,
}

impl Layout {
    pub fn new(size: (usize, usize), grid: (usize, usize)) -> Self {
        // Names must be read from across the truck: a letter is a 45th of the height.
        Self { size, grid, scale: (size.1 / (45 * LETTER)).max(1) }
    }

    /// Of the head, and of the name below a picture.
    fn band(&self) -> usize {
        LETTER * self.scale + 2 * self.scale + 2
    }

    fn frame(&self) -> usize {
        2 * self.scale + 1
    }

    fn cell(&self) -> (usize, usize) {
        (self.size.0 / self.grid.0, (self.size.1 - self.band()) / self.grid.1)
    }

    /// Room for a picture.
    pub fn picture(&self) -> (usize, usize) {
        let (w, h) = self.cell();
        (w - 2 * self.frame(), h - self.band() - 2 * self.frame())
    }
}

const fn rgb((r, g, b): Rgb) -> [u8; 3] {
    [r, g, b]
}

/// Draws all of it.
pub(super) fn draw(layout: &Layout, show: &str, time: &str, cells: &[Cell]) -> Page {
    let mut page = Page::new(layout.size.0, layout.size.1);
    let (scale, band) = (layout.scale, layout.band());
    let at = (2 * scale, scale + 1);
    let wide = time.chars().count() * LETTER * scale;
    page.text(at, scale, show, INK, layout.size.0.saturating_sub(wide + 6 * scale));
    page.text((layout.size.0.saturating_sub(wide + 2 * scale), at.1), scale, time, INK, wide);
    let (w, h) = layout.cell();
    for (n, cell) in cells.iter().take(layout.grid.0 * layout.grid.1).enumerate() {
        draw_cell(&mut page, layout, (n % layout.grid.0 * w, band + n / layout.grid.0 * h), cell);
    }
    page
}

fn draw_cell(page: &mut Page, layout: &Layout, (x, y): (usize, usize), cell: &Cell) {
    let ((w, h), frame, band, scale) = (layout.cell(), layout.frame(), layout.band(), layout.scale);
    let edge = match cell.tally {
        Some(TallyView::OnAir) => rgb(BAD),
        Some(TallyView::Next) => rgb(GOOD),
        None => BAND,
    };
    page.fill((x, y), (w, h), edge);
    let (room_w, room_h) = layout.picture();
    let inside = (x + frame, y + frame);
    page.fill(inside, (room_w, room_h), BLACK);
    if let Some(still) = &cell.picture {
        let (pw, ph) = filling((still.width, still.height), (room_w, room_h));
        page.stretched((inside.0 + (room_w - pw) / 2, inside.1 + (room_h - ph) / 2), (pw, ph), still);
    } else {
        let says = "no picture";
        let wide = says.len() * LETTER * scale;
        page.text((inside.0 + room_w.saturating_sub(wide) / 2, inside.1 + room_h / 2), scale, says, rgb(QUIET), room_w);
    }
    levels(page, (inside.0 + room_w, inside.1), room_h, scale, &cell.levels);
    let below = inside.1 + room_h;
    page.fill((inside.0, below), (room_w, band), BAND);
    let colour = match cell.state {
        Some(State::Steady) => rgb(GOOD),
        Some(State::Strained) => rgb(WARNING),
        Some(State::Broken) => rgb(BAD),
        _ => rgb(QUIET),
    };
    page.fill((inside.0, below), (3 * scale, band), colour);
    let word = cell.trouble.clone().or_else(|| cell.state.filter(|s| *s != State::Steady).map(|s| s.to_string())).unwrap_or_default();
    let room = room_w.saturating_sub(7 * scale);
    let wide = (word.chars().count() * LETTER * scale).min(room / 2);
    let text_at = below + scale + 1;
    page.text((inside.0 + 5 * scale, text_at), scale, &cell.title, INK, room.saturating_sub(wide + LETTER * scale));
    page.text((inside.0 + room_w - wide, text_at), scale, &word, colour, wide);
}

/// A bar for each channel, from the right.
fn levels(page: &mut Page, (right, top): (usize, usize), height: usize, scale: usize, peaks: &[f64]) {
    let width = 2 * scale + 1;
    for (n, peak) in peaks.iter().take(8).rev().enumerate() {
        let x = right.saturating_sub((n + 1) * (width + 1));
        let share = ((peak - LEAST_DB) / -LEAST_DB).clamp(0.0, 1.0);
        let bar = (share * height as f64) as usize;
        page.fill((x, top), (width, height), BAND);
        page.fill((x, top + height - bar), (width, bar), rgb(if *peak > LOUD_DB { WARNING } else { GOOD }));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn count(page: &Page, colour: Rgb) -> usize {
        page.still.rgb.chunks_exact(3).filter(|p| *p == rgb(colour)).count()
    }

    #[test]
    fn pictures_names_tally_and_levels_are_where_they_belong_at_every_size() {
        for size in [(320, 180), (1280, 720), (1920, 1080)] {
            for grid in [(1, 1), (2, 2), (5, 5)] {
                let layout = Layout::new(size, grid);
                let red = Still { width: 16, height: 9, rgb: [200, 10, 20].repeat(16 * 9), source: (16, 9) };
                let one = Cell { title: "Finish tower".into(), state: Some(State::Steady), picture: Some(red), ..Cell::default() };
                let pages = [None, Some(TallyView::OnAir), Some(TallyView::Next)].map(|tally| {
                    let cells = vec![Cell { tally, levels: vec![-20.0, -70.0], ..one.clone() }; grid.0 * grid.1];
                    draw(&layout, "Tarn Hollow Regatta", "14:03:12", &cells)
                });
                assert_eq!(pages[0].still.rgb.len(), size.0 * size.1 * 3);
                let shown = pages[0].still.rgb.chunks_exact(3).filter(|p| *p == [200, 10, 20]).count();
                // But for what the bars of the levels cover.
                let (w, h) = filling((16, 9), layout.picture());
                let whole = w * h * grid.0 * grid.1;
                assert!(shown <= whole && shown * 10 > whole * 8, "{shown} of {whole}: {size:?} {grid:?}");
                assert!(count(&pages[1], BAD) > count(&pages[0], BAD) && count(&pages[2], GOOD) > count(&pages[0], GOOD));
                assert!(count(&pages[0], GOOD) > 0, "levels and state");
            }
        }
    }
}
