//! The steering panel: arrows turn, + and - zoom, numbers call presets. It moves only while a key
//! is held.
//!
//! A terminal that tells releases stops the move at once. One that does not repeats a held key:
//! when the repeats end, so does the move. Each order carries a time limit and is renewed while the
//! key is held, so that a lost stop, terminal or machine ends the move where the protocol can say
//! so.

use super::{Screen, aim::Aim, picture::Picture, theme::Theme, until_silent};
use crate::exit::{FAILED, Failure};
use choir_core::{device::PresetView, facts::EventGrade};
use choir_host::clock::sleep_until;
use choir_proto::visca::Drive;
use choir_show::{
    control::{Answer, Client, ControlError, Request},
    ptz::{PictureBox, Position, Ptz},
    still::Still,
};
use crossterm::{
    event::{
        self, DisableFocusChange, EnableFocusChange, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, KeyboardEnhancementFlags,
        MouseEvent, PopKeyboardEnhancementFlags, PushKeyboardEnhancementFlags,
    },
    execute, terminal,
};
use ratatui::{
    Frame, Terminal,
    backend::CrosstermBackend,
    layout::{Constraint, Layout, Rect},
    style::{Modifier, Style},
    text::{Line, Span},
    widgets::{
        Block, BorderType, Paragraph,
        canvas::{Canvas, Points, Rectangle},
    },
};
use std::{
    io::stdout,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{mpsc, watch};

/// Terminals wait this long before they repeat a key.
const FIRST_REPEAT: Duration = Duration::from_millis(650);
/// And then not longer than this between two.
const NEXT_REPEAT: Duration = Duration::from_millis(180);
/// Limit that each order carries.
const ORDER_LASTS: Duration = Duration::from_millis(1200);
/// An order is renewed before it runs out.
const RENEW: Duration = Duration::from_millis(500);
/// Between two looks at where it is.
const LOOK_EVERY: Duration = Duration::from_millis(400);
const KEY_PATIENCE: Duration = Duration::from_millis(50);

enum Input {
    Key(KeyEvent),
    Mouse(MouseEvent),
    Resize,
    /// The terminal or its window is gone.
    Lost,
}

/// What the panel wants of the camera beside moving.
enum Order {
    Goto(String),
    Store(String),
    Home,
    Frame(PictureBox),
    /// What the sheet of the running show gives this key to do.
    Key(String),
}

/// What the camera says.
enum News {
    At(Position),
    Presets(Vec<PresetView>),
    Said(String),
    Failed(String),
}

/// The panel's state.
pub(super) struct Panel {
    name: String,
    speed: f64,
    drive: Drive,
    /// When a held key counts as released.
    until: Option<Instant>,
    releases: bool,
    storing: bool,
    position: Option<Position>,
    picture: Option<Still>,
    aim: Aim,
    presets: Vec<PresetView>,
    said: String,
    failed: bool,
}

impl Panel {
    fn new(name: &str, releases: bool) -> Self {
        Self {
            name: name.into(),
            speed: 0.4,
            drive: Drive::default(),
            until: None,
            releases,
            storing: false,
            position: None,
            picture: None,
            aim: Aim::default(),
            presets: Vec::new(),
            said: String::new(),
            failed: false,
        }
    }

    /// Which way a key moves.
    fn way(&self, code: KeyCode) -> Option<Drive> {
        let s = self.speed;
        let d = Drive::default();
        Some(match code {
            KeyCode::Left => Drive { pan: -s, ..d },
            KeyCode::Right => Drive { pan: s, ..d },
            KeyCode::Up => Drive { tilt: s, ..d },
            KeyCode::Down => Drive { tilt: -s, ..d },
            KeyCode::Char('+' | '=') => Drive { zoom: s, ..d },
            KeyCode::Char('-') => Drive { zoom: -s, ..d },
            _ => return None,
        })
    }

    /// Takes a key: what to order, or `Err` to leave.
    fn key(&mut self, key: KeyEvent, now: Instant) -> Result<Option<Order>, ()> {
        if let Some(way) = self.way(key.code) {
            if key.kind == KeyEventKind::Release {
                self.still();
            } else {
                let held = self.drive == way;
                self.drive = way;
                self.until = (!self.releases).then(|| now + if held { NEXT_REPEAT } else { FIRST_REPEAT });
            }
            return Ok(None);
        }
        if key.kind != KeyEventKind::Press {
            return Ok(None);
        }
        let order = match key.code {
            KeyCode::Char('q') | KeyCode::Esc => return Err(()),
            KeyCode::Char('c') if key.modifiers.contains(KeyModifiers::CONTROL) => return Err(()),
            KeyCode::Char('[') => {
                self.speed = (self.speed - 0.1).max(0.1);
                None
            }
            KeyCode::Char(']') => {
                self.speed = (self.speed + 0.1).min(1.0);
                None
            }
            KeyCode::Char('s') => {
                self.storing = !self.storing;
                None
            }
            KeyCode::F(n) => Some(Order::Key(format!("F{n}"))),
            KeyCode::Char('h') => Some(Order::Home),
            KeyCode::Char(c @ '0'..='9') => {
                Some(if std::mem::take(&mut self.storing) { Order::Store(c.to_string()) } else { Order::Goto(c.to_string()) })
            }
            _ => None,
        };
        // Anything else ends a move: space is the natural one.
        self.still();
        Ok(order)
    }

    fn still(&mut self) {
        self.drive = Drive::default();
        self.until = None;
    }

    fn news(&mut self, news: News) {
        match news {
            News::At(p) => self.position = Some(p),
            News::Presets(p) => self.presets = p,
            News::Said(text) => (self.said, self.failed) = (text, false),
            News::Failed(text) => (self.said, self.failed) = (text, true),
        }
    }
}

/// Runs the panel until the engineer leaves it. Keys of the sheet are told to the show that runs
/// it, or to the only one.
pub async fn run(ptz: Ptz, sheet: Option<PathBuf>, mut pictures: Option<watch::Receiver<Option<Still>>>) -> Result<(), Failure> {
    let ptz = Arc::new(ptz);
    let screen = Screen::enter().map_err(|e| Failure::new(FAILED, format!("the terminal cannot be used: {e}")))?;
    let releases = terminal::supports_keyboard_enhancement().unwrap_or(false);
    if releases {
        let _ = execute!(stdout(), PushKeyboardEnhancementFlags(KeyboardEnhancementFlags::REPORT_EVENT_TYPES));
    }
    let _ = execute!(stdout(), EnableFocusChange);
    let (tx, mut inputs) = mpsc::channel(64);
    let done = Arc::new(AtomicBool::new(false));
    std::thread::spawn({
        let done = done.clone();
        move || read(&tx, &done)
    });
    let (drive_tx, drive) = watch::channel(Drive::default());
    let (orders_tx, orders) = mpsc::channel(8);
    let (news_tx, mut news) = mpsc::channel(32);
    let driving = tokio::spawn(steer(ptz.clone(), drive, news_tx.clone()));
    let asking = tokio::spawn(ask(ptz.clone(), sheet, orders, news_tx));
    let mut panel = Panel::new(ptz.name(), releases);
    let theme = Theme::from_env();
    let mut terminal = Terminal::new(CrosstermBackend::new(stdout()))?;
    // Listened for all the time: a signal that comes while the panel is drawn is not to be missed.
    let left = crate::commands::until_stopped(None);
    tokio::pin!(left);
    let result = loop {
        if let Err(e) = terminal.draw(|f| draw(f, &panel, &theme)) {
            break Err(Failure::from(e));
        }
        drive_tx.send_if_modified(|d| std::mem::replace(d, panel.drive) != panel.drive);
        let released = sleep_until(panel.until);
        tokio::select! {
            input = inputs.recv() => match input {
                Some(Input::Key(key)) => match panel.key(key, Instant::now()) {
                    Ok(Some(order)) => {
                        // The camera stands still before it goes somewhere.
                        drive_tx.send_if_modified(|d| std::mem::replace(d, panel.drive) != panel.drive);
                        let _ = orders_tx.try_send(order);
                    }
                    Ok(None) => {}
                    Err(()) => break Ok(()),
                },
                Some(Input::Mouse(mouse)) => if let Some(part) = panel.aim.mouse(mouse) {
                    panel.still();
                    drive_tx.send_if_modified(|d| std::mem::replace(d, panel.drive) != panel.drive);
                    let _ = orders_tx.try_send(Order::Frame(part));
                },
                Some(Input::Resize) => {}
                Some(Input::Lost) | None => break Ok(()),
            },
            Some(n) = news.recv() => panel.news(n),
            Some(still) = next_picture(&mut pictures) => panel.picture = Some(still),
            () = released => panel.still(),
            () = &mut left => break Ok(()),
        }
    };
    done.store(true, Ordering::Relaxed);
    drop(drive_tx);
    drop(orders_tx);
    // The last word to the camera is a stop, whatever ended the panel.
    let _ = driving.await;
    asking.abort();
    until_silent(&mut inputs, 4 * KEY_PATIENCE).await;
    if releases {
        let _ = execute!(stdout(), PopKeyboardEnhancementFlags);
    }
    let _ = execute!(stdout(), DisableFocusChange);
    drop(screen);
    let stopped = ptz.stop().await;
    result.and(stopped.map_err(Failure::from))
}

/// The next picture, where there are any to come.
async fn next_picture(pictures: &mut Option<watch::Receiver<Option<Still>>>) -> Option<Still> {
    let Some(rx) = pictures else { return std::future::pending().await };
    match rx.changed().await {
        Ok(()) => rx.borrow_and_update().clone(),
        Err(_) => std::future::pending().await,
    }
}

fn read(tx: &mpsc::Sender<Input>, done: &AtomicBool) {
    while !done.load(Ordering::Relaxed) {
        let input = match event::poll(KEY_PATIENCE).and_then(|some| if some { event::read().map(Some) } else { Ok(None) }) {
            Ok(Some(Event::Key(key))) => Input::Key(key),
            Ok(Some(Event::Mouse(mouse))) => Input::Mouse(mouse),
            Ok(Some(Event::Resize(..))) => Input::Resize,
            // Whoever looks elsewhere no longer steers.
            Ok(Some(Event::FocusLost)) => Input::Key(KeyEvent::new(KeyCode::Char(' '), KeyModifiers::NONE)),
            Ok(_) => continue,
            Err(_) => Input::Lost,
        };
        let lost = matches!(input, Input::Lost);
        if tx.blocking_send(input).is_err() || lost {
            return;
        }
    }
}

/// Keeps the camera moving as wanted: each order is renewed while it holds, and a stop is repeated.
async fn steer(ptz: Arc<Ptz>, mut wanted: watch::Receiver<Drive>, news: mpsc::Sender<News>) {
    let mut moving = false;
    loop {
        let d = *wanted.borrow_and_update();
        let result = match (d == Drive::default(), moving) {
            (true, false) => Ok(()),
            (true, true) => ptz.stop().await,
            (false, _) => ptz.drive(d, ORDER_LASTS).await,
        };
        moving = d != Drive::default();
        if let Err(e) = result {
            let _ = news.try_send(News::Failed(e.to_string()));
        }
        let renew = async { if moving { tokio::time::sleep(RENEW).await } else { std::future::pending().await } };
        tokio::select! {
            changed = wanted.changed() => if changed.is_err() { break },
            () = renew => {}
        }
    }
    if moving && let Err(e) = ptz.stop().await {
        let _ = news.try_send(News::Failed(e.to_string()));
    }
}

/// Carries out orders, and looks where the camera is.
async fn ask(ptz: Arc<Ptz>, sheet: Option<PathBuf>, mut orders: mpsc::Receiver<Order>, news: mpsc::Sender<News>) {
    let mut tick = tokio::time::interval(LOOK_EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    if let Ok(presets) = ptz.list().await {
        let _ = news.send(News::Presets(presets)).await;
    }
    loop {
        let order = tokio::select! {
            order = orders.recv() => match order {
                Some(order) => order,
                None => return,
            },
            _ = tick.tick() => {
                if let Ok(p) = ptz.position().await {
                    let _ = news.send(News::At(p)).await;
                }
                continue;
            }
        };
        let said = match order {
            Order::Goto(n) => ptz.goto(&n).await.map(|p| format!("going to preset {} {}", p.number, p.name)),
            Order::Store(n) => ptz.store(&n, None).await.map(|p| format!("stored as preset {} {}", p.number, p.name)),
            Order::Frame(part) => {
                ptz.frame(part).await.map(|()| if part.width > 0.0 { "framing the box" } else { "to the middle" }.to_owned())
            }
            Order::Home => ptz.home().await.map(|()| "going home".to_owned()),
            Order::Key(key) => {
                let _ = news.send(by_key(sheet.as_deref(), key).await).await;
                continue;
            }
        };
        let _ = news.send(said.map_or_else(|e| News::Failed(e.to_string()), News::Said)).await;
        if let Ok(presets) = ptz.list().await {
            let _ = news.send(News::Presets(presets)).await;
        }
    }
}

/// Lets the running show do what its sheet gives this key to do.
async fn by_key(sheet: Option<&Path>, key: String) -> News {
    let asked = async { Client::connect(sheet).await?.ask(&Request::Key { key }).await };
    match asked.await {
        Ok(Answer::Done { said }) => News::Said(said),
        Ok(Answer::Refused { why }) => News::Failed(why),
        Ok(_) => News::Failed(ControlError::Strange.to_string()),
        Err(e) => News::Failed(e.to_string()),
    }
}

/// ```text
/// ┌ where it looks ─────────┐┌ presets ───────┐
/// │  its picture, or its    ││ 1 Finish line  │
/// │  window of its range    ││ 2 Pontoon      │
/// └─────────────────────────┘└────────────────┘
///  moving / said            speed  keys
/// ```
fn draw(f: &mut Frame<'_>, p: &Panel, theme: &Theme) {
    let [top, middle, said, keys] =
        Layout::vertical([Constraint::Length(1), Constraint::Min(6), Constraint::Length(1), Constraint::Length(2)]).areas(f.area());
    let moving = if p.drive == Drive::default() { "still".into() } else { direction(&p.drive) };
    let head = Line::from(vec![
        Span::styled(format!(" {} ", p.name), theme.title().add_modifier(Modifier::BOLD)),
        Span::raw(format!("  {moving}   speed {:.0} %", p.speed * 100.0)),
    ]);
    f.render_widget(Paragraph::new(head), top);
    let [view, presets] = Layout::horizontal([Constraint::Min(30), Constraint::Length(32)]).areas(middle);
    window(f, p, view, theme);
    let rows: Vec<Line<'_>> = if p.presets.is_empty() {
        vec![Line::from("none yet: s and a number store one")]
    } else {
        p.presets.iter().map(|x| Line::from(format!("{:>3}  {}", x.number, x.name))).collect()
    };
    f.render_widget(Paragraph::new(rows).block(Block::bordered().title(" presets ").border_style(theme.quiet())), presets);
    let said_style = if p.failed { theme.event(EventGrade::Trouble) } else { Style::default() };
    let text = if p.storing { "store as which number? (s again: none)" } else { p.said.as_str() };
    f.render_widget(Paragraph::new(Line::styled(format!(" {text}"), said_style)), said);
    let help = vec![
        Line::styled(
            " arrows turn   + - zoom   [ ] speed   space stop   h home   0-9 preset   s then 0-9 store   F1-F12 as in the sheet   q leave",
            theme.quiet(),
        ),
        Line::styled(
            if p.releases { " moves while a key is held" } else { " moves while a key repeats; stops when it no longer does" }.to_owned()
                + "   click: that point to the middle   drag a box: it fills the picture",
            theme.quiet(),
        ),
    ];
    f.render_widget(Paragraph::new(help), keys);
}

fn direction(d: &Drive) -> String {
    let part = |v: f64, minus: &str, plus: &str| {
        if v == 0.0 { None } else { Some(if v < 0.0 { minus.to_owned() } else { plus.to_owned() }) }
    };
    [part(d.pan, "left", "right"), part(d.tilt, "down", "up"), part(d.zoom, "wide", "tele")]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>()
        .join(" ")
}

/// What the camera sees; without a picture its range, and the window that it sees of it.
fn window(f: &mut Frame<'_>, p: &Panel, area: Rect, theme: &Theme) {
    let title = match &p.position {
        Some(at) => format!(" pan {:.2}  tilt {:.2}  zoom {:.2} ", at.pan, at.tilt, at.zoom),
        None => " where it looks is not known ".into(),
    };
    let block = Block::bordered().title(title).border_style(theme.quiet());
    if let Some(still) = &p.picture {
        let inner = block.inner(area);
        f.render_widget(block, area);
        let picture = Picture { still, theme: *theme };
        p.aim.drawn_at(picture.place(inner));
        f.render_widget(picture, inner);
        if let Some(cells) = p.aim.drawing() {
            f.render_widget(Block::bordered().border_type(BorderType::Thick).border_style(theme.over_picture()), cells);
        }
        return;
    }
    let Some(at) = p.position.as_ref() else { return f.render_widget(block, area) };
    // A camera's own steps have no known ends; most turn this far.
    let scale = if at.unit == "steps" { 2448.0 } else { 1.0 };
    let (pan, tilt) = ((at.pan / scale).clamp(-1.0, 1.0), (at.tilt / scale).clamp(-1.0, 1.0));
    let half = 0.25 / (1.0 + 3.0 * at.zoom.clamp(0.0, 1.0)).sqrt();
    let (accent, dim) = (theme.title().fg.unwrap_or_default(), theme.quiet().fg.unwrap_or_default());
    let canvas = Canvas::default().block(block).x_bounds([-1.3, 1.3]).y_bounds([-1.3, 1.3]).paint(move |c| {
        let grid: Vec<(f64, f64)> = (-4..=4).flat_map(|x| (-4..=4).map(move |y| (f64::from(x) / 4.0, f64::from(y) / 4.0))).collect();
        c.draw(&Points { coords: &grid, color: dim });
        c.draw(&Rectangle { x: pan - half, y: tilt - half, width: half * 2.0, height: half * 2.0, color: accent });
    });
    f.render_widget(canvas, area);
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::backend::TestBackend;

    fn press(code: KeyCode) -> KeyEvent {
        KeyEvent::new(code, KeyModifiers::NONE)
    }

    #[test]
    fn a_move_ends_with_its_key() {
        let now = Instant::now();
        let mut p = Panel::new("finish-tower", false);
        assert!(p.key(press(KeyCode::Left), now).is_ok_and(|o| o.is_none()));
        assert_eq!((p.drive.pan, p.until), (-0.4, Some(now + FIRST_REPEAT)));
        let _ = p.key(press(KeyCode::Left), now);
        assert_eq!(p.until, Some(now + NEXT_REPEAT), "a repeat must come soon again");
        let _ = p.key(press(KeyCode::Char(' ')), now);
        assert_eq!((p.drive, p.until), (Drive::default(), None));
        // With releases told, only the release ends it.
        let mut p = Panel::new("finish-tower", true);
        let _ = p.key(press(KeyCode::Up), now);
        assert_eq!((p.drive.tilt, p.until), (0.4, None));
        let _ = p.key(KeyEvent::new_with_kind(KeyCode::Up, KeyModifiers::NONE, KeyEventKind::Release), now);
        assert_eq!(p.drive, Drive::default());
    }

    #[test]
    fn numbers_call_or_store_and_q_leaves() {
        let now = Instant::now();
        let mut p = Panel::new("finish-tower", true);
        assert!(matches!(p.key(press(KeyCode::Char('3')), now), Ok(Some(Order::Goto(n))) if n == "3"));
        let _ = p.key(press(KeyCode::Char('s')), now);
        assert!(matches!(p.key(press(KeyCode::Char('4')), now), Ok(Some(Order::Store(n))) if n == "4"));
        assert!(matches!(p.key(press(KeyCode::Char('4')), now), Ok(Some(Order::Goto(_)))));
        (0..20).for_each(|_| drop(p.key(press(KeyCode::Char(']')), now)));
        assert!((p.speed - 1.0).abs() < 1e-9);
        assert!(p.key(press(KeyCode::Char('q')), now).is_err());
    }

    #[test]
    fn the_panel_shows_where_it_looks_and_what_was_said() {
        let mut p = Panel::new("finish-tower", false);
        p.news(News::At(Position { pan: 0.5, tilt: -0.2, zoom: 0.1, unit: "range".into(), moving: None }));
        p.news(News::Presets(vec![PresetView { number: "3".into(), name: "Finish line".into() }]));
        p.news(News::Failed("the camera does not answer".into()));
        let mut terminal = Terminal::new(TestBackend::new(100, 24)).expect("a terminal");
        terminal.draw(|f| draw(f, &p, &Theme::from_env())).expect("drawn");
        let text: String = terminal.backend().buffer().content().iter().map(|c| c.symbol()).collect();
        p.picture = Some(Still { width: 32, height: 18, rgb: vec![250; 32 * 18 * 3], source: (32, 18) });
        terminal.draw(|f| draw(f, &p, &Theme::plain())).expect("drawn");
        let with_picture: String = terminal.backend().buffer().content().iter().map(|c| c.symbol()).collect();
        assert!(with_picture.contains("████████") && with_picture.contains("pan 0.50"));
        for wanted in ["finish-tower", "pan 0.50", "3  Finish line", "does not answer", "speed 40 %", "arrows turn"] {
            assert!(text.contains(wanted), "{wanted}");
        }
    }
}
