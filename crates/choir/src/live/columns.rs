//! What the tables of the live view have in common.

use super::app::App;
use crate::output::tables::digits;
use choir_core::view::TallyView;
use ratatui::{
    style::Style,
    text::{Line, Span},
    widgets::{Block, BorderType, Borders},
};

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// A column: head, width, least width of the screen, contents.
pub struct Column<T: ?Sized> {
    pub head: &'static str,
    pub width: u16,
    pub from: u16,
    pub cell: fn(&App, &T) -> (String, Style),
}

/// Text without a style.
pub fn plain(text: String) -> (String, Style) {
    (text, Style::new())
}

/// A number, or that there is none.
pub fn number(value: Option<f64>) -> String {
    value.map_or_else(|| "-".into(), digits)
}

/// What receivers show, in a word.
pub fn tally(app: &App, tally: Option<TallyView>) -> (String, Style) {
    (tally.map_or("-", TallyView::words).to_owned(), app.theme.tally(tally))
}

/// Cut or filled to this width.
fn fitted(text: &str, width: u16) -> String {
    let width = usize::from(width);
    let mut out = String::new();
    for c in text.chars() {
        if out.width() + c.width().unwrap_or(0) > width {
            break;
        }
        out.push(c);
    }
    let gap = width - out.width();
    out + &" ".repeat(gap)
}

/// A row of a table, one space between columns; `lead` stands before the first.
pub fn row<T: ?Sized>(columns: &[&Column<T>], app: &App, lead: &str, item: &T) -> Line<'static> {
    let mut spans = Vec::new();
    for (n, c) in columns.iter().enumerate() {
        let (text, style) = (c.cell)(app, item);
        let text = if n == 0 { format!("{lead}{text}") } else { text };
        spans.push(Span::styled(fitted(&text, c.width), style));
        spans.push(Span::raw(" "));
    }
    Line::from(spans)
}

/// The heads of a table.
pub fn heads<T: ?Sized>(columns: &[&Column<T>], app: &App) -> Line<'static> {
    let text: Vec<String> =
        columns.iter().enumerate().map(|(n, c)| fitted(&if n == 0 { format!(" {}", c.head) } else { c.head.into() }, c.width)).collect();
    Line::styled(text.join(" "), app.theme.head())
}

/// `1 to 20 of 400`, where not all fit.
pub fn part(first: usize, shown: usize, of: usize) -> String {
    if shown < of { format!(", {} to {} of {of}", first + 1, first + shown) } else { String::new() }
}

/// Of columns with the same head only the widest that the screen allows is shown.
pub fn visible<T: ?Sized>(columns: &'static [Column<T>], width: u16) -> Vec<&'static Column<T>> {
    let mut shown: Vec<&Column<T>> = Vec::new();
    for c in columns.iter().filter(|c| c.from <= width) {
        if shown.last().is_none_or(|l| l.head != c.head) {
            shown.push(c);
        }
    }
    shown
}

/// A block with a title and a line on top, to spend no columns on sides.
pub fn section<'a>(app: &App, title: impl Into<Line<'a>>) -> Block<'a> {
    Block::new().borders(Borders::TOP).border_style(app.theme.border()).title(title).title_style(app.theme.title())
}

/// A block that lies over others.
pub fn panel(app: &App, title: String) -> Block<'static> {
    let block = Block::bordered().border_type(BorderType::Rounded).border_style(app.theme.border());
    block.title(title).title_style(app.theme.title())
}

/// Columns that stand beside each other must fit, or the terminal cuts them as it likes.
#[cfg(test)]
pub fn overflow<T: ?Sized>(columns: &'static [Column<T>]) -> Vec<(u16, u16)> {
    let taken = |w: u16| visible(columns, w).iter().map(|c| c.width + 1).sum::<u16>() - 1;
    (80..260).map(|w| (w, taken(w))).filter(|(w, taken)| taken > w).collect()
}
