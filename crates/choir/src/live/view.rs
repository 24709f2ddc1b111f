//! One source that moves, with the levels of its sound.

use super::{KEY_PATIENCE, LiveEvent, Screen, graphics::Graphics, picture::Picture, read_keys, theme::Theme, until_silent};
use crate::{
    exit::{FAILED, Failure, SHOW},
    output::tables::picture as picture_words,
};
use choir_core::view::{LevelsView, LineView};
use choir_show::{
    Show,
    control::{Answer, Client, ControlError, Request},
    still::Still,
};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::{
    Frame, Terminal,
    backend::CrosstermBackend,
    layout::{Constraint, Layout, Rect},
    style::Modifier,
    text::{Line, Span},
    widgets::{Paragraph, Widget},
};
use std::{
    io::stdout,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};
use tokio::sync::mpsc;

/// Levels are drawn down to this, dBFS.
const LEAST_DB: f64 = -60.0;

/// Where the pictures come from.
pub enum Eye {
    /// A running show, and the names of its lines.
    There(Client, Vec<String>),
    /// A show of this source alone.
    Here(Show),
}

impl Eye {
    /// The lines that can be looked at.
    pub fn names(&self) -> Vec<String> {
        match self {
            Self::There(_, names) => names.clone(),
            Self::Here(_) => vec!["in".into()],
        }
    }

    /// The line as it is now, and its newest picture.
    pub async fn look(&mut self, line: &str, fit: (usize, usize)) -> Result<(Box<LineView>, Option<Still>), Failure> {
        match self {
            Self::There(client, _) => match client.ask(&Request::Live { line: line.to_owned(), fit }).await? {
                Answer::Live { line, picture } => Ok((line, picture.and_then(|p| p.still()))),
                Answer::Refused { why } => Err(Failure::new(SHOW, why)),
                _ => Err(ControlError::Strange.into()),
            },
            Self::Here(show) => show.live_look(line, fit).map_err(|e| Failure::new(SHOW, e.to_string())),
        }
    }
}

/// What is shown.
struct Seen {
    line: Box<LineView>,
    still: Option<Arc<Still>>,
}

/// What a key does: the number of lines to go on by, or `None` to leave.
fn key(key: KeyEvent) -> Option<isize> {
    match key.code {
        KeyCode::Char('q') | KeyCode::Esc => None,
        KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => None,
        KeyCode::Right | KeyCode::Down | KeyCode::Char('l' | 'j') => Some(1),
        KeyCode::Left | KeyCode::Up | KeyCode::Char('h' | 'k') => Some(-1),
        _ => Some(0),
    }
}

/// Shows it until the engineer leaves, or for so long.
pub async fn run(mut eye: Eye, mut name: String, every: Duration, lasts: Option<Duration>) -> Result<(), Failure> {
    let names = eye.names();
    // A wrong name is told before the screen is taken.
    let mut seen = Seen { line: eye.look(&name, (1, 1)).await?.0, still: None };
    let screen = Screen::enter().map_err(|e| Failure::new(FAILED, format!("the terminal cannot be used: {e}")))?;
    let theme = Theme::from_env();
    let graphics = if theme.has_colour() { Graphics::detect() } else { Graphics::default() };
    let (tx, mut events) = mpsc::channel(64);
    let done = Arc::new(AtomicBool::new(false));
    std::thread::spawn({
        let done = done.clone();
        move || read_keys(&tx, &done)
    });
    let mut terminal = Terminal::new(CrosstermBackend::new(stdout()))?;
    let mut grid = tokio::time::interval(every);
    grid.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Skip);
    let end = crate::commands::until_stopped(lasts);
    tokio::pin!(end);
    let result = loop {
        tokio::select! {
            () = &mut end => break Ok(()),
            _ = grid.tick() => {}
            event = events.recv() => match event {
                Some(LiveEvent::Key(pressed)) => match key(pressed) {
                    None => break Ok(()),
                    Some(by) => {
                        let at = names.iter().position(|n| *n == name).unwrap_or(0) as isize;
                        let next = (at + by).rem_euclid(names.len().max(1) as isize) as usize;
                        if let Some(other) = names.get(next).filter(|n| **n != name) {
                            (name, seen.still) = (other.clone(), None);
                        }
                    }
                },
                Some(LiveEvent::Resize) => graphics.forget(),
                Some(_) => {}
                None => break Ok(()),
            },
        }
        let area = layout(terminal.get_frame().area())[1];
        let fit = graphics.pixels((area.width, area.height)).unwrap_or((usize::from(area.width), usize::from(area.height) * 2));
        match eye.look(&name, (fit.0.max(1), fit.1.max(1))).await {
            Ok((line, still)) => {
                // The same picture is not drawn again.
                let same = |now: &Arc<Still>| still.as_ref().is_some_and(|new| new == now.as_ref());
                let kept = seen.still.take().filter(same);
                seen = Seen { line, still: kept.or_else(|| still.map(Arc::new)) };
            }
            Err(e) => break Err(e),
        }
        if let Err(e) = show(&mut terminal, &seen, &graphics, theme, names.len() > 1) {
            break Err(e.into());
        }
    };
    drop(screen);
    done.store(true, Ordering::Release);
    until_silent(&mut events, 2 * KEY_PATIENCE).await;
    result
}

fn show(
    terminal: &mut Terminal<CrosstermBackend<std::io::Stdout>>,
    seen: &Seen,
    graphics: &Graphics,
    theme: Theme,
    several: bool,
) -> std::io::Result<()> {
    terminal.draw(|frame| draw(frame, seen, graphics, theme, several))?;
    if graphics.leaves_something() {
        terminal.clear()?;
        terminal.draw(|frame| draw(frame, seen, graphics, theme, several))?;
    }
    graphics.finish(&mut stdout())
}

/// Head, picture, levels, keys.
fn layout(area: Rect) -> [Rect; 4] {
    Layout::vertical([Constraint::Length(2), Constraint::Min(4), Constraint::Length(1), Constraint::Length(1)]).areas(area)
}

fn draw(frame: &mut Frame<'_>, seen: &Seen, graphics: &Graphics, theme: Theme, several: bool) {
    let [head, middle, sound, keys] = layout(frame.area());
    graphics.begin();
    let l = &seen.line;
    let state = l.link.state.map_or_else(String::new, |s| s.to_string());
    let title = Line::from(vec![
        Span::styled(format!(" {} ", if l.name == "in" { &l.link.url } else { &l.title }), theme.title().add_modifier(Modifier::BOLD)),
        Span::styled(format!("  {state}"), theme.state(l.link.state)),
        Span::raw(format!("  {}", l.link.reason)),
    ]);
    frame.render_widget(Paragraph::new(vec![title, Line::styled(format!(" {}", picture_words(&l.media)), theme.quiet())]), head);
    match &seen.still {
        Some(still) => {
            let picture = Picture { still, theme };
            let place = picture.place(middle);
            if !graphics.place(still, place, frame.buffer_mut()) {
                picture.render(middle, frame.buffer_mut());
            }
        }
        None => {
            let at = Rect { y: middle.y + middle.height / 2, height: 1, ..middle };
            frame.render_widget(Paragraph::new(Line::styled("no picture yet", theme.quiet())).centered(), at);
        }
    }
    frame.render_widget(Paragraph::new(levels(l.levels.as_ref(), sound.width, theme)), sound);
    let others = if several { "   ← → other lines" } else { "" };
    frame.render_widget(Paragraph::new(Line::styled(format!(" q leave{others}"), theme.quiet())), keys);
}

/// A bar for each channel.
fn levels(levels: Option<&LevelsView>, width: u16, theme: Theme) -> Line<'static> {
    let Some(levels) = levels.filter(|l| !l.peak_dbfs.is_empty()) else {
        return Line::styled(" no sound that can be heard here", theme.quiet());
    };
    let loudness = levels.momentary_lufs.map_or_else(String::new, |l| format!("  {l:.1} LUFS"));
    let count = levels.peak_dbfs.len();
    let room = (usize::from(width).saturating_sub(loudness.len() + 2) / count).saturating_sub(14).clamp(4, 40);
    let mut spans = Vec::new();
    for (n, peak) in levels.peak_dbfs.iter().enumerate() {
        let bar = (((peak - LEAST_DB) / -LEAST_DB).clamp(0.0, 1.0) * room as f64).round() as usize;
        spans.push(Span::styled(format!(" {} ", n + 1), theme.quiet()));
        spans.push(Span::styled("█".repeat(bar), theme.chart()));
        spans.push(Span::styled("·".repeat(room - bar), theme.quiet()));
        spans.push(Span::raw(format!(" {peak:>5.1} dB")));
    }
    spans.push(Span::raw(loudness));
    Line::from(spans)
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::view::{LinkView, MediaView};
    use ratatui::backend::TestBackend;

    fn screen(seen: &Seen, size: (u16, u16)) -> String {
        let mut terminal = Terminal::new(TestBackend::new(size.0, size.1)).expect("a terminal");
        let graphics = Graphics::default();
        terminal.draw(|f| draw(f, seen, &graphics, Theme::from_env(), true)).expect("drawn");
        let buffer = terminal.backend().buffer();
        let rows: Vec<String> = buffer.content.chunks(usize::from(size.0)).map(|r| r.iter().map(|c| c.symbol()).collect()).collect();
        rows.join("\n")
    }

    #[test]
    fn picture_state_levels_and_keys_are_seen_at_every_size() {
        let line = LineView {
            title: "Finish tower".into(),
            name: "finish-tower".into(),
            link: LinkView { reason: "6.0 Mbps".into(), state: Some(choir_core::facts::State::Steady), ..LinkView::default() },
            media: MediaView { codec: Some("H.264".into()), ..MediaView::default() },
            levels: Some(LevelsView { peak_dbfs: vec![-18.0, -60.0], momentary_lufs: Some(-23.1), ..LevelsView::default() }),
            ..LineView::default()
        };
        let still = Arc::new(Still { width: 32, height: 18, rgb: [200, 10, 20].repeat(32 * 18), source: (32, 18) });
        for size in [(60, 16), (80, 24), (200, 60)] {
            let text = screen(&Seen { line: Box::new(line.clone()), still: Some(still.clone()) }, size);
            for wanted in ["Finish tower", "steady", "H.264", "-18.0 dB", "-23.1 LUFS", "q leave", "▀"] {
                assert!(text.contains(wanted), "{wanted} at {size:?}:\n{text}");
            }
        }
        let text = screen(&Seen { line: Box::default(), still: None }, (80, 24));
        assert!(text.contains("no picture yet") && text.contains("no sound"), "{text}");
    }

    #[test]
    fn keys_go_to_other_lines_or_leave() {
        let press = |code| key(KeyEvent::new(code, KeyModifiers::NONE));
        assert_eq!([press(KeyCode::Right), press(KeyCode::Left), press(KeyCode::Char('x'))], [Some(1), Some(-1), Some(0)]);
        assert_eq!([press(KeyCode::Esc), key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL))], [None, None]);
    }
}
