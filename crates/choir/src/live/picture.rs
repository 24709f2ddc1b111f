//! Pictures in a terminal: two pixels to a cell, in true colour, or in shades where there is none.

use super::{app::App, hits::Hit, theme::Theme};
use choir_core::view::LineView;
use choir_host::clock::time_of_day;
use choir_show::still::{Still, luma};
use ratatui::{
    Frame,
    buffer::Buffer,
    layout::Rect,
    style::{Color, Style},
    text::{Line, Span},
    widgets::{Paragraph, Widget},
};

/// Least width of a picture on the wall, cells.
const TILE_LEAST: u16 = 26;
/// Rows below a picture of the wall.
const LABEL: u16 = 2;
/// From dark to bright, without colour.
const SHADES: [&str; 5] = [" ", "░", "▒", "▓", "█"];

/// Rows that a picture of 16:9 takes at this width: a cell is twice as high as wide.
pub const fn rows(width: u16) -> u16 {
    (width * 9).div_ceil(32)
}

/// A picture as large as fits, in the middle.
pub struct Picture<'a> {
    pub still: &'a Still,
    pub theme: Theme,
}

/// The cells of an area that a small picture takes, in the middle.
fn placed(small: &Still, area: Rect) -> Rect {
    let (width, height) = (small.width as u16, small.height.div_ceil(2) as u16);
    Rect::new(area.x + (area.width - width) / 2, area.y + (area.height - height) / 2, width, height)
}

impl Picture<'_> {
    /// As large as fits into the area.
    fn small(&self, area: Rect) -> Still {
        self.still.fit(usize::from(area.width), 2 * usize::from(area.height))
    }

    /// The cells that it takes of an area.
    pub fn place(&self, area: Rect) -> Rect {
        if area.is_empty() { Rect::default() } else { placed(&self.small(area), area) }
    }
}

impl Widget for Picture<'_> {
    fn render(self, area: Rect, buffer: &mut Buffer) {
        if area.is_empty() {
            return;
        }
        let small = self.small(area);
        let place = placed(&small, area);
        let pixel = |x: usize, y: usize| {
            let at = (y.min(small.height - 1) * small.width + x) * 3;
            [small.rgb[at], small.rgb[at + 1], small.rgb[at + 2]]
        };
        for row in 0..small.height.div_ceil(2) {
            for x in 0..small.width {
                let (above, below) = (pixel(x, 2 * row), pixel(x, 2 * row + 1));
                let Some(cell) = buffer.cell_mut((place.x + x as u16, place.y + row as u16)) else { continue };
                if self.theme.has_colour() {
                    let colour = |[r, g, b]: [u8; 3]| Color::Rgb(r, g, b);
                    cell.set_symbol("▀").set_style(Style::new().fg(colour(above)).bg(colour(below)));
                } else {
                    let shade = (usize::from(luma(above)) + usize::from(luma(below))) / 2 * SHADES.len() / 256;
                    cell.set_symbol(SHADES[shade]);
                }
            }
        }
    }
}

/// How the wall is divided: pictures in a row, rows of them, and the width of one.
pub fn grid(area: Rect, count: usize) -> (usize, usize, u16) {
    let fits = |columns: u16| {
        let width = area.width / columns;
        (usize::from(columns), usize::from((area.height / (rows(width) + LABEL)).max(1)), width)
    };
    let most = (area.width / TILE_LEAST).max(1);
    // The largest at which all are seen, else as many as there is room for.
    (1..=most).map(fits).find(|(columns, rows, _)| columns * rows >= count).unwrap_or_else(|| fits(most))
}

/// Numbers of the lines on that page of the wall which has the chosen one.
pub fn page(app: &App, area: Rect) -> Vec<usize> {
    let listed = app.listed();
    let (columns, rows, _) = grid(area, listed.len());
    let each = (columns * rows).max(1);
    let chosen = app.chosen().and_then(|c| listed.iter().position(|n| *n == c)).unwrap_or(0);
    listed.chunks(each).nth(chosen / each).unwrap_or_default().to_vec()
}

/// Pictures of all lines.
pub fn wall(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let (columns, _, width) = grid(area, app.listed().len());
    let height = rows(width) + LABEL;
    for (n, index) in page(app, area).into_iter().enumerate() {
        let (x, y) = (area.x + (n % columns) as u16 * width, area.y + (n / columns) as u16 * height);
        let tile = Rect::new(x, y, width, height).intersection(area);
        if let Some(line) = app.view.lines.get(index) {
            app.hits.add(tile, Hit::Line(index));
            draw_tile(frame, app, line, index, tile);
        }
    }
}

fn draw_tile(frame: &mut Frame<'_>, app: &App, line: &LineView, index: usize, area: Rect) {
    let picture = Rect { width: area.width.saturating_sub(1), height: area.height.saturating_sub(LABEL), ..area };
    show(frame, app, line, picture);
    let style = if Some(index) == app.chosen() { app.theme.chosen() } else { Style::new() };
    let mark = if Some(index) == app.chosen() { "▸" } else { " " };
    let tally = line.tally.map(|t| Span::styled(format!(" {} ", t.words()), app.theme.tally(Some(t))));
    let mut name = vec![Span::styled(format!("{mark}{} ", line.name), style)];
    name.extend(tally);
    let state = line.link.state.map_or_else(String::new, |s| s.to_string());
    let says = line.content.first().map_or_else(|| format!(" {state}"), |c| format!(" {}, since {}", c.text, time_of_day(c.since_ms)));
    let label = Rect { y: area.y + picture.height, height: LABEL.min(area.height), ..area }.intersection(area);
    frame.render_widget(Paragraph::new(vec![Line::from(name), Line::styled(says, app.theme.state(line.link.state))]), label);
}

/// A line's picture, or why there is none.
pub fn show(frame: &mut Frame<'_>, app: &App, line: &LineView, area: Rect) {
    if area.is_empty() {
        return;
    }
    match app.stills.get(&line.name) {
        Some(still) if app.graphics.place(still, area, frame.buffer_mut()) => {}
        Some(still) => frame.render_widget(Picture { still, theme: app.theme }, area),
        None => {
            let middle = Rect { y: area.y + area.height / 2, height: 1, ..area };
            frame.render_widget(Paragraph::new("no picture").centered().style(app.theme.quiet()), middle);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn still() -> Still {
        let rgb =
            (0..180).flat_map(|y| (0..320).map(move |x| if x < 160 && y < 90 { [255, 255, 255] } else { [0, 0, 0] })).flatten().collect();
        Still { width: 320, height: 180, rgb, source: (320, 180) }
    }

    #[test]
    fn a_picture_keeps_its_shape_and_its_bright_quarter() {
        let area = Rect::new(0, 0, 40, 20);
        for (theme, bright) in [(Theme::plain(), "█"), (Theme::coloured(), "▀")] {
            let mut buffer = Buffer::empty(area);
            Picture { still: &still(), theme }.render(area, &mut buffer);
            // 40 wide is 11 rows high, in the middle of 20.
            let drawn: Vec<u16> = (0..20).filter(|y| buffer[(2, *y)].symbol() == bright).collect();
            assert!(drawn.first().is_some_and(|y| (3..=5).contains(y)), "{drawn:?}");
            if bright == "▀" {
                assert_eq!((buffer[(2, 5)].fg, buffer[(30, 5)].fg), (Color::Rgb(255, 255, 255), Color::Rgb(0, 0, 0)));
            } else {
                assert_eq!(buffer[(30, 5)].symbol(), " ");
            }
        }
        // No size is too small.
        for (w, h) in [(0, 0), (1, 1), (3, 40)] {
            let area = Rect::new(0, 0, w, h);
            Picture { still: &still(), theme: Theme::plain() }.render(area, &mut Buffer::empty(area));
        }
    }

    #[test]
    fn the_wall_shows_few_lines_large_and_many_in_pages() {
        assert_eq!(grid(Rect::new(0, 0, 158, 44), 1).0, 1);
        let (columns, rows, width) = grid(Rect::new(0, 0, 158, 44), 6);
        assert!(columns * rows >= 6 && width >= 50, "{columns} x {rows} of {width}");
        let (columns, rows, width) = grid(Rect::new(0, 0, 158, 44), 400);
        assert!(width >= TILE_LEAST && columns * rows >= 12, "{columns} x {rows} of {width}");
        assert!(grid(Rect::new(0, 0, 5, 2), 6).1 >= 1);
    }
}
