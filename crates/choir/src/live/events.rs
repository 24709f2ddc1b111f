//! Events, the newest at the foot.

use super::{app::App, columns::section};
use crate::output::sentences::wrap;
use choir_host::clock::time_of_day;
use ratatui::{
    Frame,
    layout::Rect,
    text::{Line, Span},
    widgets::Paragraph,
};

pub fn list(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let title = if app.scrolled > 0 { format!(" events, {} back ", app.scrolled) } else { " events ".into() };
    let block = section(app, title);
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let events = &app.view.events;
    let end = events.len().saturating_sub(app.scrolled);
    let mut rows: Vec<Line<'_>> = Vec::new();
    for e in events[..end].iter().rev() {
        let lead = format!(" {} ", time_of_day(e.at_ms));
        let text = format!("{}: {}", e.subject, e.text);
        let width = usize::from(inner.width).saturating_sub(lead.len() + 1).max(10);
        // From below: the last row of a long sentence first.
        for (i, part) in wrap(&text, width).into_iter().enumerate().rev() {
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
