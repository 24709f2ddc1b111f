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
    app::{App, KEYS, STAND_IN_KEY},
    columns::section,
    feeds, lines, picture,
};
use crate::output::{clock, sentences::wrap};
use choir_core::{facts::State, units::say_duration};
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    text::{Line, Span},
    widgets::Paragraph,
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
    if app.wall {
        picture::wall(frame, app, wall_area(area));
        return draw_foot(frame, app, foot);
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

/// All between header and keys.
pub fn wall_area(area: Rect) -> Rect {
    Rect { y: area.y + 1, height: area.height.saturating_sub(2), ..area }
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

fn draw_foot(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let line = if app.asking {
        Line::from(Span::styled(" End the show and leave? y ends it, any other key goes on ", app.theme.state(Some(State::Strained))))
    } else if let Some(said) = &app.said {
        Line::from(Span::styled(format!(" {said}"), app.theme.title()))
    } else {
        let mut spans = vec![Span::raw(" ")];
        for (key, what) in KEYS.iter().chain(app.is_demo().then_some(&STAND_IN_KEY)) {
            spans.push(Span::styled(*key, app.theme.title()));
            spans.push(Span::styled(format!(" {what}  "), app.theme.quiet()));
        }
        Line::from(spans)
    };
    frame.render_widget(Paragraph::new(line), area);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::live::theme::Theme;
    use choir_core::facts::EventGrade;
    use choir_core::view::{EventView, FeedView, LineView, LinkView, Sample, ShowView};
    use ratatui::{Terminal, backend::TestBackend};

    fn app() -> App {
        let link = |state| LinkView {
            state: Some(state),
            reason: "6.0 Mbps with 96 ms of 120 ms in hand".into(),
            rate_bps: 6_000_000,
            headroom_ms: Some(96.0),
            latency_ms: Some(120.0),
            encryption: "AES-256 secured".into(),
            ..LinkView::default()
        };
        let line = |name: &str, state| LineView {
            name: name.into(),
            title: name.into(),
            link: link(state),
            history: vec![Sample { rate_bps: 6_000_000, ..Sample::default() }; 60],
            ..LineView::default()
        };
        let mut app = App::new(false, Theme::plain());
        app.show(ShowView {
            show: "Tarn Hollow Regatta".into(),
            lines: vec![line("finish-tower", State::Steady), line("start-pontoon", State::Broken)],
            feeds: vec![FeedView {
                name: "boathouse-1".into(),
                line: "finish-tower".into(),
                outs: vec![link(State::Steady)],
                ..FeedView::default()
            }],
            events: vec![EventView {
                number: 1,
                at_ms: 0,
                subject: "line start-pontoon".into(),
                text: "broken: nothing heard".into(),
                grade: EventGrade::Trouble,
            }],
            ..ShowView::default()
        });
        app
    }

    fn screen(app: &App, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).expect("a terminal");
        terminal.draw(|f| draw(f, app)).expect("drawn");
        let buffer = terminal.backend().buffer().clone();
        let row = |y| (0..width).map(|x| buffer[(x, y)].symbol().to_owned()).collect::<String>();
        (0..height).map(row).collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn both_sizes_show_what_matters() {
        for (w, h) in [(80, 24), (158, 46)] {
            let text = screen(&app(), w, h);
            for wanted in
                ["Tarn Hollow Regatta", "1 broken", "finish-tower", "6.0 Mbps", "96 of 120", "boathouse-1", "nothing heard", "q leave"]
            {
                assert!(text.contains(wanted), "{w}x{h} lacks {wanted}:\n{text}");
            }
        }
        assert!(screen(&app(), 158, 46).contains("AES-256 secured"));
    }

    #[test]
    fn the_detail_draws_a_minute_of_history_on_the_small_screen_too() {
        let mut app = app();
        app.detail = true;
        let text = screen(&app, 80, 24);
        assert!(text.contains("picture") && text.contains("█████"), "{text}");
    }

    #[test]
    fn the_wall_names_every_line_and_says_what_is_wrong_with_its_picture() {
        let mut app = app();
        app.wall = true;
        app.view.lines[1].content =
            vec![choir_core::view::SinceView { name: "black".into(), text: "picture black".into(), since_ms: 52_000 }];
        let rgb = vec![200; 64 * 36 * 3];
        app.stills.insert("finish-tower".into(), choir_show::still::Still { width: 64, height: 36, rgb, source: (64, 36) });
        for (w, h) in [(80, 24), (158, 46), (250, 70)] {
            let text = screen(&app, w, h);
            for wanted in ["▸finish-tower", "start-pontoon", "picture black, since 00:00:52", "no picture", "▓▓▓▓▓▓▓▓▓▓", "q leave"]
            {
                assert!(text.contains(wanted), "{w}x{h} lacks {wanted}:\n{text}");
            }
        }
    }

    #[test]
    fn no_size_is_too_small() {
        let mut app = app();
        for wall in [false, true] {
            app.wall = wall;
            every_size(&app);
        }
    }

    fn every_size(app: &App) {
        for (w, h) in [(1, 1), (10, 3), (40, 8), (80, 5), (300, 100)] {
            screen(app, w, h);
        }
    }
}
