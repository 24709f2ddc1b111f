//! The live view: one owner of the state, one channel of events, drawing from a snapshot.
//!
//! ```text
//! show or control socket ──► View ┐
//! keyboard thread ─► Key, Mouse, Resize ┴─► App ──► draw
//! ```

mod aim;
mod alarms;
mod app;
mod charts;
mod columns;
mod detail;
mod draw;
mod events;
mod feeds;
mod graphics;
mod hits;
mod keys;
mod lines;
mod list;
mod picture;
pub mod ptz;
mod sixel;
mod take;
mod theme;
pub mod view;

use crate::{
    exit::{FAILED, Failure, SHOW},
    output::alarms::{Calls, call},
};
use app::{Act, App, Page};
use choir_core::{command::By, view::ShowView};
use choir_show::{
    Show, bus,
    control::{Answer, Client, Request, act},
    still::Still,
};
use crossterm::{
    event::{self, DisableMouseCapture, EnableMouseCapture, Event, KeyEvent, KeyEventKind, MouseEvent},
    execute,
    terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode},
};
use graphics::Graphics;
use list::Row;
use ratatui::{Terminal, backend::CrosstermBackend, layout::Rect};
use std::{
    io::{self, Write, stdout},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};
use tokio::sync::{mpsc, watch};

/// How often a show in another process is asked.
const ASK_EVERY: Duration = Duration::from_millis(200);
/// How often pictures are asked for.
const PICTURES_EVERY: Duration = Duration::from_secs(1);
/// How often the keyboard thread looks whether it is to end.
const KEY_PATIENCE: Duration = Duration::from_millis(200);

/// Where the numbers come from.
pub enum Source {
    /// A show in this process: leaving the view ends it.
    Here(Show),
    /// A show in another process: leaving the view leaves it running.
    There(Client),
}

enum LiveEvent {
    Key(KeyEvent),
    Mouse(MouseEvent),
    Resize,
    View(Box<ShowView>),
    /// Of these lines, as far as they have any.
    Pictures(Vec<String>, Vec<(String, Still)>),
    Answer(String),
    Lost(String),
}

/// Gives the terminal back on every way out, a panic included.
struct Screen;

impl Screen {
    fn enter() -> io::Result<Self> {
        let before = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            restore();
            before(info);
        }));
        enable_raw_mode()?;
        execute!(stdout(), EnterAlternateScreen, EnableMouseCapture)?;
        Ok(Self)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        restore();
    }
}

fn restore() {
    // Write errors mean that the terminal is gone: there is nobody to tell.
    let _ = disable_raw_mode();
    let _ = execute!(stdout(), DisableMouseCapture, LeaveAlternateScreen, crossterm::cursor::Show);
}

/// Runs the view until the engineer leaves it or the show is gone.
pub async fn run(source: Source) -> Result<(), Failure> {
    let (tx, mut events) = mpsc::channel(64);
    let (requests_tx, requests) = mpsc::channel(8);
    let (wish_tx, wish) = watch::channel(Wish::default());
    let here = matches!(source, Source::Here(_));
    let feeder = match source {
        Source::Here(show) => tokio::spawn(feed_here(show, tx.clone(), requests, wish)),
        Source::There(client) => tokio::spawn(feed_there(client, tx.clone(), requests, wish)),
    };
    let screen = Screen::enter().map_err(|e| Failure::new(FAILED, format!("the terminal cannot be used: {e}")))?;
    let theme = theme::Theme::from_env();
    // Before anybody else reads what the terminal says.
    let graphics = if theme.has_colour() { Graphics::detect() } else { Graphics::default() };
    let done = Arc::new(AtomicBool::new(false));
    std::thread::spawn({
        let (tx, done) = (tx, done.clone());
        move || read_keys(&tx, &done)
    });
    let mut terminal = Terminal::new(CrosstermBackend::new(stdout()))?;
    let mut app = App::new(here, theme);
    app.graphics = graphics;
    let mut calls = Calls::default();
    let result = loop {
        if app.needs_drawing() {
            terminal.draw(|frame| draw::draw(frame, &app))?;
            if app.graphics.leaves_something() {
                terminal.clear()?;
                terminal.draw(|frame| draw::draw(frame, &app))?;
            }
            app.graphics.finish(&mut stdout())?;
            app.drawn();
            let area = terminal.get_frame().area();
            wish_tx.send_if_modified(|wish| {
                let new = Wish::of(&app, area);
                std::mem::replace(wish, new.clone()) != new
            });
        }
        let mut act = Act::None;
        match events.recv().await {
            Some(LiveEvent::Key(key)) => act = app.key(key),
            Some(LiveEvent::Mouse(mouse)) => act = app.mouse(mouse),
            Some(LiveEvent::Resize) => {
                app.graphics.forget();
                app.touch();
            }
            Some(LiveEvent::View(view)) => {
                let called: String = calls.new_of(&view.alarms).into_iter().map(|a| call(a, view.tell)).collect();
                // The screen is drawn on the same output; what it is sent here is drawn nowhere.
                stdout().write_all(called.as_bytes())?;
                app.show(*view);
            }
            Some(LiveEvent::Pictures(asked, pictures)) => app.pictures(&asked, pictures),
            Some(LiveEvent::Answer(text)) => app.say(text),
            Some(LiveEvent::Lost(why)) => break Err(Failure::new(SHOW, why)),
            None => break Ok(()),
        }
        match act {
            Act::None => {}
            Act::Leave => break Ok(()),
            Act::Ask(request) => {
                let _ = requests_tx.send(request).await;
            }
        }
    };
    drop(screen);
    done.store(true, Ordering::Release);
    feeder.abort();
    until_silent(&mut events, 2 * KEY_PATIENCE).await;
    result
}

/// Waits until the keyboard is let go of. On a terminal that is gone it is never silent again, and
/// left behind.
async fn until_silent<T>(events: &mut mpsc::Receiver<T>, patience: Duration) {
    let silent = async { while events.recv().await.is_some() {} };
    let _ = tokio::time::timeout(patience, silent).await;
}

fn read_keys(tx: &mpsc::Sender<LiveEvent>, done: &AtomicBool) {
    while !done.load(Ordering::Acquire) {
        let event = match event::poll(KEY_PATIENCE) {
            Ok(true) => event::read(),
            Ok(false) => continue,
            Err(_) => return,
        };
        let sent = match event {
            Ok(Event::Key(key)) if key.kind == KeyEventKind::Press => tx.blocking_send(LiveEvent::Key(key)),
            Ok(Event::Mouse(mouse)) => tx.blocking_send(LiveEvent::Mouse(mouse)),
            Ok(Event::Resize(..)) => tx.blocking_send(LiveEvent::Resize),
            Ok(_) => Ok(()),
            // The terminal is gone.
            Err(_) => return,
        };
        if sent.is_err() {
            return;
        }
    }
}

/// What is seen: pictures of which lines, and how large; and whose history.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Wish {
    lines: Vec<String>,
    fit: (usize, usize),
    histories: Vec<String>,
}

impl Wish {
    fn of(app: &App, area: Rect) -> Self {
        let seen = app.rows.iter().skip(app.first.get()).take(usize::from(area.height / 2));
        let line = |row: &Row| if let Row::Line(n) = row { app.view.lines.get(*n) } else { None };
        let histories = seen.filter_map(line).chain(app.chosen_line()).map(|l| l.name.clone()).collect();
        Self { histories, ..Self::pictures(app, area) }
    }

    fn pictures(app: &App, area: Rect) -> Self {
        let name = |n: usize| app.view.lines.get(n).map(|l| l.name.clone());
        if let Some(taking) = &app.taking {
            let on = app.view.feeds.get(taking.feed).map(|f| f.line.clone());
            return Self {
                lines: on.into_iter().chain([taking.line.clone()]).collect(),
                fit: Self::fit(app, area.width / 2),
                ..Self::default()
            };
        }
        if app.page == Page::Wall {
            let area = draw::wall_area(area);
            let width = picture::grid(area, app.listed().len()).2;
            return Self {
                lines: picture::page(app, area).into_iter().filter_map(name).collect(),
                fit: Self::fit(app, width),
                ..Self::default()
            };
        }
        Self { lines: app.chosen().and_then(name).into_iter().collect(), fit: Self::fit(app, area.width / 4), ..Self::default() }
    }

    /// Two pixels to a cell, or as many as it has.
    fn fit(app: &App, width: u16) -> (usize, usize) {
        let rows = picture::rows(width);
        app.graphics.pixels((width, rows)).unwrap_or((usize::from(width).max(1), (usize::from(rows) * 2).max(1)))
    }

    fn request(&self) -> Request {
        Request::Pictures { lines: self.lines.clone(), fit: self.fit, kept: true }
    }

    fn answered(&self, answer: Answer) -> Option<LiveEvent> {
        let Answer::Pictures { pictures } = answer else { return None };
        let stills = pictures.iter().filter_map(|p| Some((p.line.clone(), p.still()?))).collect();
        Some(LiveEvent::Pictures(self.lines.clone(), stills))
    }
}

/// Asks for the pictures that are seen, each second and when they are others; `None` as long as
/// there are none to ask for.
async fn next_wish(wish: &mut watch::Receiver<Wish>, grid: &mut tokio::time::Interval) -> Option<Wish> {
    tokio::select! {
        _ = grid.tick() => {}
        changed = wish.changed() => if changed.is_err() { std::future::pending().await },
    }
    let wish = wish.borrow_and_update().clone();
    (!wish.lines.is_empty()).then_some(wish)
}

async fn feed_here(show: Show, tx: mpsc::Sender<LiveEvent>, mut requests: mpsc::Receiver<Request>, mut wish: watch::Receiver<Wish>) {
    let mut facts = show.facts();
    let mut grid = tokio::time::interval(PICTURES_EVERY);
    loop {
        let histories = wish.borrow().histories.clone();
        if tx.send(LiveEvent::View(Box::new(show.look(&histories)))).await.is_err() {
            return;
        }
        tokio::select! {
            more = bus::next(&mut facts) => if !more { return },
            wish = next_wish(&mut wish, &mut grid) => {
                let Some(wish) = wish else { continue };
                let event = wish.answered(act(By::LiveView, wish.request(), &show).await);
                if let Some(event) = event && tx.send(event).await.is_err() {
                    return;
                }
            }
            Some(request) = requests.recv() => {
                let (Answer::Done { said: text } | Answer::Refused { why: text }) = act(By::LiveView, request, &show).await else { continue };
                if tx.send(LiveEvent::Answer(text)).await.is_err() {
                    return;
                }
            }
        }
    }
}

async fn feed_there(
    mut client: Client,
    tx: mpsc::Sender<LiveEvent>,
    mut requests: mpsc::Receiver<Request>,
    mut wish: watch::Receiver<Wish>,
) {
    let mut tick = tokio::time::interval(ASK_EVERY);
    let mut grid = tokio::time::interval(PICTURES_EVERY);
    let mut wished = Wish::default();
    loop {
        let request = tokio::select! {
            _ = tick.tick() => Request::Look { histories: wish.borrow().histories.clone() },
            Some(request) = requests.recv() => request,
            next = next_wish(&mut wish, &mut grid) => {
                let Some(next) = next else { continue };
                wished = next;
                wished.request()
            }
        };
        let event = match client.ask(&request).await {
            Ok(Answer::View(view)) => LiveEvent::View(view),
            Ok(Answer::Done { said }) => LiveEvent::Answer(said),
            Ok(Answer::Refused { why }) => LiveEvent::Answer(why),
            // Not asked for here.
            Ok(Answer::Live { .. }) => continue,
            Ok(answer @ Answer::Pictures { .. }) => {
                let Some(event) = wished.answered(answer) else { continue };
                event
            }
            Err(e) => LiveEvent::Lost(format!("the show has ended ({e})")),
        };
        let last = matches!(event, LiveEvent::Lost(_));
        if tx.send(event).await.is_err() || last {
            return;
        }
    }
}
