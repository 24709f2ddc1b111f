//! Lays out the screen.
//!
//! ```text
//! Tarn Hollow Regatta   14:32:07   4 steady                 ┐ header
//! ─ lines ────────────────────────────────────────────────  │ table of lines
//! ─ feeds ────────────────────────────────────────────────  │ table of feeds
//! ─ finish-tower ───────────────┬─ events ─────────────────  │ chosen line, events
//! ↑↓ choose a line  q leave                                 ┘ keys
//! ```

use super::{
    app::{App, KEYS},
    feeds, lines,
};
use crate::output::clock;
use choir_core::{health::State, units::say_duration};
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    text::{Line, Span},
    widgets::{Block, Borders, Paragraph},
};
use std::time::Duration;

/// From this size on, chosen line and events stand side by side.
const WIDE: u16 = 120;

pub fn draw(frame: &mut Frame<'_>, app: &App) {
    let area = frame.area();
    let view = &app.view;
    let line_rows = view.lines.len() as u16 + 2;
    let wide = area.width >= WIDE;
    let outs: usize = view.feeds.iter().map(|f| f.outs.len().max(1)).sum();
    let [header, lines_at, feeds_at, below, foot] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(line_rows.min(area.height / 2)),
        Constraint::Length((outs as u16 + 2).min(area.height / 3)),
        Constraint::Min(3),
        Constraint::Length(1),
    ])
    .areas(area);
    draw_header(frame, app, header);
    if !app.loaded() {
        frame.render_widget(Paragraph::new("waiting for the show ..."), lines_at);
        return;
    }
    lines::table(frame, app, lines_at);
    feeds::table(frame, app, feeds_at);
    if wide {
        let [left, right] = Layout::horizontal([Constraint::Percentage(52), Constraint::Fill(1)]).areas(below);
        lines::detail(frame, app, left);
        draw_events(frame, app, right);
    } else if app.detail {
        lines::detail(frame, app, below);
    } else {
        draw_events(frame, app, below);
    }
    draw_foot(frame, app, foot);
}

/// A block with a title and a line on top, to spend no columns on sides.
pub fn section<'a>(app: &App, title: impl Into<Line<'a>>) -> Block<'a> {
    Block::new().borders(Borders::TOP).border_style(app.theme.border()).title(title).title_style(app.theme.title())
}

fn draw_header(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let v = &app.view;
    let mut spans = vec![
        Span::styled(format!(" {} ", v.show), app.theme.title()),
        Span::raw(format!("  {} UTC", clock(v.now_ms))),
        Span::styled(
            format!("  running {}", say_duration(Duration::from_millis(v.now_ms.saturating_sub(v.started_ms)))),
            app.theme.quiet(),
        ),
    ];
    for state in [State::Broken, State::Strained, State::Held, State::Waiting, State::Joining, State::Steady] {
        let n = v.lines.iter().filter(|l| l.link.state == Some(state)).count();
        if n > 0 {
            spans.push(Span::raw("   "));
            spans.push(Span::styled(format!("{n} {state}"), app.theme.state(Some(state))));
        }
    }
    if app.frozen {
        spans.push(Span::styled("   FROZEN, f goes on ", app.theme.state(Some(State::Strained))));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

fn draw_events(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let title = if app.scrolled > 0 { format!(" events, {} back ", app.scrolled) } else { " events ".into() };
    let block = section(app, title);
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let events = &app.view.events;
    let end = events.len().saturating_sub(app.scrolled);
    let mut rows: Vec<Line<'_>> = Vec::new();
    // Newest at the foot; long sentences take a second row.
    for e in events[..end].iter().rev() {
        let lead = format!(" {} ", clock(e.at_ms));
        let text = format!("{}: {}", e.subject, e.text);
        let width = usize::from(inner.width).saturating_sub(lead.len() + 1).max(10);
        let mut parts = wrap(&text, width);
        for (i, part) in parts.drain(..).enumerate().collect::<Vec<_>>().into_iter().rev() {
            let head = if i == 0 { lead.clone() } else { " ".repeat(lead.len()) };
            rows.push(Line::from(vec![Span::styled(head, app.theme.head()), Span::styled(part, app.theme.event(e.grade))]));
        }
        if rows.len() >= usize::from(inner.height) {
            break;
        }
    }
    rows.truncate(usize::from(inner.height));
    rows.reverse();
    frame.render_widget(Paragraph::new(rows), inner);
}

/// Breaks a sentence at spaces.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut rows = vec![String::new()];
    for word in text.split(' ') {
        let last = rows.last_mut().map_or(0, |r| r.chars().count());
        if last > 0 && last + 1 + word.chars().count() > width {
            rows.push(word.to_owned());
        } else if let Some(row) = rows.last_mut() {
            if last > 0 {
                row.push(' ');
            }
            row.push_str(word);
        }
    }
    rows
}

fn draw_foot(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let line = if app.asking {
        Line::from(Span::styled(" End the show and leave? y ends it, any other key goes on ", app.theme.state(Some(State::Strained))))
    } else if let Some(said) = &app.said {
        Line::from(Span::styled(format!(" {said}"), app.theme.title()))
    } else {
        let mut spans = vec![Span::raw(" ")];
        for (key, what) in KEYS {
            spans.push(Span::styled(*key, app.theme.title()));
            spans.push(Span::styled(format!(" {what}  "), app.theme.quiet()));
        }
        Line::from(spans)
    };
    frame.render_widget(Paragraph::new(line), area);
}
