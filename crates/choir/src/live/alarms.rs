//! Alarms: those that nobody has seen on the overview, all on a page of their own.

use super::{
    app::App,
    columns::{part, section},
    hits::Hit,
    list::window,
};
use crate::output::{alarms::standing, sentences::wrap};
use choir_core::{
    facts::{AlarmGrade, EventGrade},
    view::AlarmView,
};
use choir_host::clock::time_of_day;
use ratatui::{
    Frame,
    layout::Rect,
    style::Style,
    text::{Line, Span},
    widgets::Paragraph,
};

/// Rows of an alarm in the short list.
const SHORT: usize = 2;

/// Rows that the short list would like; nothing when all have been seen.
pub fn wanted(app: &App) -> u16 {
    let n = app.unseen().count() * SHORT;
    if n == 0 { 0 } else { n as u16 + 1 }
}

fn style(app: &App, a: &AlarmView) -> Style {
    if a.over_ms.is_some() || a.acknowledged.is_some() {
        return app.theme.quiet();
    }
    app.theme.event(if a.grade == AlarmGrade::Trouble { EventGrade::Trouble } else { EventGrade::Warning })
}

/// One with at most this many rows of text.
fn rows(app: &App, a: &AlarmView, width: u16, most: usize, mark: &str) -> Vec<Line<'static>> {
    let head = format!("{mark}{:>3}  {}, {}, since {}, {}", a.number, a.subject, a.grade.word(), time_of_day(a.since_ms), standing(a));
    let mut rows = vec![Line::from(Span::styled(head, style(app, a)))];
    rows.extend(
        wrap(&a.text, usize::from(width.saturating_sub(7)).max(10)).into_iter().take(most).map(|t| Line::raw(format!("      {t}"))),
    );
    rows
}

/// Those that nobody has seen, the latest first.
pub fn short(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let unseen: Vec<&AlarmView> = app.unseen().collect();
    let room = usize::from(area.height.saturating_sub(1)) / SHORT;
    let more = unseen.len().saturating_sub(room);
    let more = if more > 0 { format!(", and {more} more") } else { String::new() };
    let block =
        section(app, Line::styled(format!(" {} not acknowledged{more} ", crate::output::plural(unseen.len(), "alarm")), app.theme.alarm()));
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let shown: Vec<Line<'_>> = unseen.iter().rev().take(room).flat_map(|a| rows(app, a, inner.width, SHORT - 1, "")).collect();
    frame.render_widget(Paragraph::new(shown), inner);
}

/// All, oldest first.
pub fn page(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let all = &app.view.alarms;
    let each = 3;
    let room = usize::from(area.height.saturating_sub(1)) / each;
    let first = window(0, app.alarm, all.len(), room);
    let shown = room.min(all.len() - first);
    let block = section(app, format!(" alarms{} ", part(first, shown, all.len())));
    let inner = block.inner(area);
    frame.render_widget(block, area);
    if all.is_empty() {
        return frame.render_widget(Paragraph::new(" no alarms").style(app.theme.quiet()), inner);
    }
    for (y, (n, a)) in all.iter().enumerate().skip(first).take(shown).enumerate() {
        let at = Rect { y: inner.y + (y * each) as u16, height: each as u16, ..inner }.intersection(inner);
        let mark = if n == app.alarm { "▸" } else { " " };
        let mut text = rows(app, a, inner.width, each - 1, mark);
        if !a.members.is_empty() {
            text.truncate(each - 1);
            text.push(Line::styled(format!("      part of it: {}", a.members.join(", ")), app.theme.quiet()));
        }
        app.hits.add(at, Hit::Alarm(n));
        frame.render_widget(Paragraph::new(text).style(if n == app.alarm { app.theme.chosen() } else { Style::new() }), at);
    }
}
