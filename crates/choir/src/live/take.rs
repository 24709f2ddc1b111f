//! A take before it is made: what is on, and what comes next.

use super::{
    app::{App, Taking},
    columns,
    hits::Hit,
    picture,
};
use choir_core::{facts::State, view::LineView};
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span},
    widgets::{Clear, Paragraph},
};

/// Widest.
const WIDTH: u16 = 110;
/// Rows below the pictures, and those of the frame.
const WORDS: u16 = 3;

pub fn panel(frame: &mut Frame<'_>, app: &App, taking: &Taking) {
    let area = frame.area();
    let width = WIDTH.min(area.width);
    let pictures = picture::rows((width - 2.min(width)) / 2).min(area.height.saturating_sub(WORDS + 3));
    let height = (pictures + WORDS + 3).min(area.height);
    let at = Rect { x: (area.width - width) / 2, y: (area.height - height) / 2, width, height };
    let Some(feed) = app.view.feeds.get(taking.feed) else { return };
    frame.render_widget(Clear, at);
    let title = format!(" take on {} {} ", taking.feed + 1, feed.name);
    let block = columns::panel(app, title);
    let inner = block.inner(at);
    frame.render_widget(block, at);
    let [top, foot] = Layout::vertical([Constraint::Min(0), Constraint::Length(1)]).areas(inner);
    let [now, next] = Layout::horizontal([Constraint::Percentage(50), Constraint::Fill(1)]).areas(top);
    let line = |name: &str| app.view.lines.iter().find(|l| l.name == name);
    side(frame, app, "on now", line(&feed.line), &feed.line, now);
    side(frame, app, "comes next", line(&taking.line), &taking.line, next);
    draw_foot(frame, app, foot);
}

fn side(frame: &mut Frame<'_>, app: &App, what: &str, line: Option<&LineView>, name: &str, area: Rect) {
    let [picture, words] = Layout::vertical([Constraint::Min(0), Constraint::Length(WORDS - 1)]).areas(area);
    let Some(line) = line else { return };
    picture::show(frame, app, line, Rect { width: picture.width.saturating_sub(1), ..picture });
    let state = line.link.state.map_or_else(String::new, |s| s.to_string());
    let reason = line.content.first().map_or(line.link.reason.as_str(), |c| c.text.as_str());
    let rows = vec![
        Line::from(vec![Span::styled(format!(" {what}: "), app.theme.head()), Span::styled(name.to_owned(), app.theme.title())]),
        Line::from(vec![
            Span::styled(format!(" {state}"), app.theme.state(line.link.state)),
            Span::styled(
                if line.link.state == Some(State::Steady) && line.content.is_empty() { String::new() } else { format!(": {reason}") },
                Style::new(),
            ),
        ]),
    ];
    frame.render_widget(Paragraph::new(rows), words);
}

fn draw_foot(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let parts = [
        ("Enter", "takes it at its next keyframe", Some(Hit::Confirm)),
        ("↑↓", "another feed", None),
        ("Esc", "does not", Some(Hit::Cancel)),
    ];
    let mut x = area.x + 1;
    for (key, word, hit) in parts {
        let line = Line::from(vec![Span::styled(key, app.theme.title()), Span::styled(format!(" {word}   "), app.theme.quiet())]);
        let at = Rect { x, y: area.y, width: line.width() as u16, height: area.height }.intersection(area);
        hit.into_iter().for_each(|hit| app.hits.add(at, hit));
        x += line.width() as u16;
        frame.render_widget(Paragraph::new(line), at);
    }
}
