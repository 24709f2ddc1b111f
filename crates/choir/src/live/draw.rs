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
    alarms,
    app::{App, Page},
    columns::panel,
    detail, events, feeds,
    hits::Hit,
    keys::{Binding, Do, all},
    lines, picture, take,
};
use crate::output::{plural, recordings, rotas};
use choir_core::facts::State;
use choir_host::clock::time_of_day;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    text::{Line, Span},
    widgets::{Clear, Paragraph},
};

/// From this size on, chosen line and events stand side by side.
const WIDE: u16 = 120;

pub fn draw(frame: &mut Frame<'_>, app: &App) {
    app.hits.clear();
    app.graphics.begin();
    app.graphics.cover(app.taking.is_some() || app.help);
    let [header, body, foot] = Layout::vertical([Constraint::Length(1), Constraint::Min(0), Constraint::Length(1)]).areas(frame.area());
    draw_header(frame, app, header);
    if !app.loaded() {
        frame.render_widget(Paragraph::new("waiting for the show ..."), body);
        return;
    }
    match app.page {
        Page::Overview => overview(frame, app, body),
        Page::Wall => picture::wall(frame, app, body),
        Page::Events => events::list(frame, app, body),
        Page::Alarms => alarms::page(frame, app, body),
    }
    draw_foot(frame, app, foot);
    if let Some(taking) = &app.taking {
        app.graphics.cover(app.help);
        take::panel(frame, app, taking);
    }
    if app.help {
        draw_help(frame, app, body);
    }
}

fn overview(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let [lines_at, feeds_at, below] = Layout::vertical([
        Constraint::Length(lines::wanted(app).min(area.height / 2)),
        Constraint::Length(feeds::wanted(app).min(area.height / 3)),
        Constraint::Min(3),
    ])
    .areas(area);
    lines::table(frame, app, lines_at);
    feeds::table(frame, app, feeds_at);
    let right = if area.width >= WIDE {
        let [left, right] = Layout::horizontal([Constraint::Percentage(52), Constraint::Fill(1)]).areas(below);
        detail::detail(frame, app, left);
        right
    } else if app.detail {
        return detail::detail(frame, app, below);
    } else {
        below
    };
    let [alarms_at, events_at] =
        Layout::vertical([Constraint::Length(alarms::wanted(app).min(right.height / 2)), Constraint::Fill(1)]).areas(right);
    if alarms_at.height > 1 {
        alarms::short(frame, app, alarms_at);
    }
    events::list(frame, app, events_at);
}

/// All between header and keys.
pub fn wall_area(area: Rect) -> Rect {
    Rect { y: area.y + 1, height: area.height.saturating_sub(2), ..area }
}

fn draw_header(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let v = &app.view;
    let mut spans = vec![
        Span::styled(format!(" {} ", v.show), app.theme.title()),
        Span::raw(format!("  {} UTC", time_of_day(v.now_ms))),
        Span::styled(format!("  running {}", lines::whole_seconds(v.now_ms.saturating_sub(v.started_ms))), app.theme.quiet()),
    ];
    spans.extend(lines::states(app, v.lines.iter()));
    if app.frozen {
        spans.push(Span::styled("   FROZEN, f goes on ", app.theme.state(Some(State::Strained))));
    }
    let unseen = app.unseen().count();
    if unseen > 0 {
        spans.push(Span::raw("   "));
        spans.push(Span::styled(format!(" {} ", plural(unseen, "alarm")), app.theme.state(Some(State::Broken))));
    }
    if let Some(says) = rotas::short(&v.rotas) {
        spans.push(Span::styled(format!("   {says}"), app.theme.title()));
    }
    if let Some((says, fails)) = recordings::short(&v.recordings) {
        spans.push(Span::raw("   "));
        spans.push(Span::styled(says, if fails { app.theme.state(Some(State::Broken)) } else { app.theme.title() }));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

fn draw_foot(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let said = if app.asking {
        Some(Span::styled(" End the show and leave? y ends it, any other key goes on ", app.theme.state(Some(State::Strained))))
    } else if app.typing {
        Some(Span::styled(" lines with these words, -word: without it; Enter keeps it, Esc lists all", app.theme.title()))
    } else {
        app.said.as_ref().map(|said| Span::styled(format!(" {said}"), app.theme.title()))
    };
    if let Some(said) = said {
        return frame.render_widget(Paragraph::new(Line::from(said)), area);
    }
    let leave = all(app.is_demo()).filter(|b| b.action == Do::Leave);
    let others = all(app.is_demo()).filter(|b| b.action != Do::Leave && !b.word.is_empty());
    let width = |b: &Binding| (b.key.chars().count() + b.word.len() + 3) as u16;
    let end = area.right().saturating_sub(leave.clone().map(width).sum());
    let mut x = area.x + 1;
    let mut put = |b: &Binding, x: u16| {
        let at = Rect { x, width: width(b), ..area }.intersection(area);
        let line = Line::from(vec![Span::styled(b.key, app.theme.title()), Span::styled(format!(" {}", b.word), app.theme.quiet())]);
        app.hits.add(at, Hit::Key(b.action));
        frame.render_widget(Paragraph::new(line), at);
    };
    for b in others {
        if x + width(b) > end {
            break;
        }
        put(b, x);
        x += width(b);
    }
    leave.for_each(|b| put(b, x.min(end)));
}

fn draw_help(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let mut rows: Vec<Line<'_>> = all(app.is_demo())
        .map(|b| {
            let keys = if b.action == Do::Take(None) { "t, 1-9" } else { b.key };
            Line::from(vec![Span::styled(format!(" {keys:>7}  "), app.theme.title()), Span::raw(b.help)])
        })
        .collect();
    rows.extend(app.view.keys.iter().map(|k| {
        Line::from(vec![
            Span::styled(format!(" {:>7}  ", k.key), app.theme.title()),
            Span::raw(k.order.clone()),
            Span::styled("  by the sheet", app.theme.quiet()),
        ])
    }));
    rows.push(Line::styled("  mouse  chooses lines, opens them, presses the keys at the foot; Shift marks text", app.theme.quiet()));
    let height = (rows.len() as u16 + 2).min(area.height);
    let width = (rows.iter().map(Line::width).max().unwrap_or(0) as u16 + 3).min(area.width);
    let at = Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height };
    frame.render_widget(Clear, at);
    frame.render_widget(Paragraph::new(rows).block(panel(app, " keys; any of them closes this ".into())), at);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::live::{app::Taking, theme::Theme};
    use choir_core::facts::{AlarmGrade, EventGrade};
    use choir_core::view::{AlarmView, EventView, FeedView, LineView, LinkView, Sample, ShowView};
    use crossterm::event::KeyCode;
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

    fn alarm(number: u64, acknowledged: Option<choir_core::command::By>) -> AlarmView {
        AlarmView {
            number,
            subject: "line start-pontoon".into(),
            kind: "silent-link".into(),
            grade: AlarmGrade::Trouble,
            text: "nothing at all comes from the far end".into(),
            acknowledged,
            ..AlarmView::default()
        }
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
        app.page = Page::Wall;
        app.view.lines[1].content =
            vec![choir_core::view::SinceView { name: "black".into(), text: "picture black".into(), since_ms: 52_000 }];
        let rgb = vec![200; 64 * 36 * 3];
        app.stills.insert("finish-tower".into(), choir_show::still::Still { width: 64, height: 36, rgb, source: (64, 36) }.into());
        for (w, h) in [(80, 24), (158, 46), (250, 70)] {
            let text = screen(&app, w, h);
            for wanted in ["▸finish-tower", "start-pontoon", "picture black, since 00:00:52", "no picture", "▓▓▓▓▓▓▓▓▓▓", "q leave"]
            {
                assert!(text.contains(wanted), "{w}x{h} lacks {wanted}:\n{text}");
            }
        }
    }

    #[test]
    fn alarms_are_seen_until_somebody_has_and_on_their_page_all_of_them() {
        let mut app = app();
        app.view.alarms = vec![alarm(3, None), alarm(4, Some(choir_core::command::By::CommandLine))];
        for (w, h) in [(80, 24), (158, 46), (250, 70)] {
            let text = screen(&app, w, h);
            for wanted in [" 1 alarm ", "1 alarm not acknowledged", "3  line start-pontoon, trouble", "nothing at all comes", "broken!"] {
                assert!(text.contains(wanted), "{w}x{h} lacks {wanted}:\n{text}");
            }
            assert!(w > 120 || !text.contains("4  line"), "{text}");
        }
        app.page = Page::Alarms;
        let text = screen(&app, 80, 24);
        assert!(text.contains("▸  3  line start-pontoon") && text.contains("4  line start-pontoon"), "{text}");
    }

    #[test]
    fn a_take_shows_what_is_on_and_what_comes_next() {
        let mut app = app();
        app.taking = Some(Taking { feed: 0, line: "start-pontoon".into() });
        for (w, h) in [(80, 24), (158, 46), (250, 70)] {
            let text = screen(&app, w, h);
            for wanted in ["take on 1 boathouse-1", "on now: finish-tower", "comes next: start-pontoon", "broken: ", "Enter takes it"] {
                assert!(text.contains(wanted), "{w}x{h} lacks {wanted}:\n{text}");
            }
        }
    }

    #[test]
    fn hundreds_of_lines_are_listed_around_the_chosen_one() {
        let mut app = app();
        let line = |n: usize| LineView { name: format!("camera-{n}"), networks: vec![format!("site-{}", n % 4)], ..LineView::default() };
        app.show(ShowView { lines: (0..400).map(line).collect(), ..ShowView::default() });
        app.key(KeyCode::End.into());
        let text = screen(&app, 158, 46);
        assert!(text.contains("▸camera-399") && text.contains("of 400") && !text.contains("camera-3 "), "{text}");
        app.key(KeyCode::Char('g').into());
        app.key(KeyCode::Home.into());
        let text = screen(&app, 158, 46);
        assert!(text.contains("▸▾ site-0: 100 lines"), "{text}");
        app.key(KeyCode::Enter.into());
        let text = screen(&app, 158, 46);
        assert!(text.contains("▸▸ site-0: 100 lines") && text.contains("▾ site-1"), "{text}");
        // What is seen is what a click meets.
        assert_eq!(app.hits.at(5, 3), Some(Hit::Row(0)));
    }

    #[test]
    fn the_help_has_every_key() {
        let mut app = app();
        app.help = true;
        let text = screen(&app, 100, 30);
        assert!(all(false).all(|b| text.contains(b.help)), "{text}");
    }

    #[test]
    fn no_size_is_too_small() {
        let mut app = app();
        app.view.alarms = vec![alarm(3, None)];
        for page in [Page::Overview, Page::Wall, Page::Events, Page::Alarms] {
            app.page = page;
            for taking in [None, Some(Taking { feed: 0, line: "start-pontoon".into() })] {
                app.help = taking.is_none() && page == Page::Wall;
                app.taking = taking;
                every_size(&app);
            }
        }
    }

    fn every_size(app: &App) {
        for (w, h) in [(1, 1), (10, 3), (40, 8), (80, 5), (300, 100)] {
            screen(app, w, h);
        }
    }
}
