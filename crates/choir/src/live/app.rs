//! State of the live view, and what each key and click does to it.

use super::{
    graphics::Graphics,
    hits::{Hit, Hits},
    keys::{Do, action},
    list::{Arrangement, Row},
    theme::Theme,
};
use choir_core::{
    facts::State,
    view::{AlarmView, LineView, ShowView},
};
use choir_show::{control::Request, still::Still};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use std::{cell::Cell, collections::HashMap, sync::Arc};

/// What a key asks for.
#[derive(Debug)]
pub enum Act {
    None,
    Leave,
    Ask(Request),
}

/// What fills the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Page {
    /// Lines, feeds, the chosen line, alarms and events.
    Overview,
    /// Pictures.
    Wall,
    /// Events alone.
    Events,
    /// Alarms alone.
    Alarms,
}

/// A take that is being prepared: what is on and what comes next are shown beside each other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taking {
    /// Number of the feed.
    pub feed: usize,
    pub line: String,
}

/// Everything the view shows.
pub struct App {
    pub view: ShowView,
    pub page: Page,
    pub arrangement: Arrangement,
    /// What the list shows.
    pub rows: Vec<Row>,
    /// Chosen row.
    pub at: usize,
    /// First row that is seen, as drawn last.
    pub first: Cell<usize>,
    /// Words of the filter are being typed.
    pub typing: bool,
    pub help: bool,
    pub taking: Option<Taking>,
    /// Chosen alarm, on their page.
    pub alarm: usize,
    /// Numbers stand still.
    pub frozen: bool,
    /// The small screen shows the chosen line in place of the events.
    pub detail: bool,
    /// How many events back the list is scrolled.
    pub scrolled: usize,
    pub theme: Theme,
    pub graphics: Graphics,
    /// Last pictures, by line.
    pub stills: HashMap<String, Arc<Still>>,
    /// Leaving ends the show.
    pub here: bool,
    /// "End the show?" is being asked.
    pub asking: bool,
    /// Where a click does something, as drawn last.
    pub hits: Hits,
    /// How often the demo's key was pressed for this line.
    spoiled: usize,
    /// Last answer to a command.
    pub said: Option<String>,
    loaded: bool,
    dirty: bool,
}

/// What the key of a demo makes the chosen line's camera show, one after the other.
const STAND_IN: [&str; 4] = ["black", "frozen", "silent", "normal"];
/// And the path that it comes by.
const PATH: [&str; 3] = ["path-worse", "path-cut", "path-normal"];
/// Rows of one turn of the wheel.
const WHEEL: isize = 3;
/// Rows of a page, where the screen is not known.
const PAGE: isize = 10;
/// Longest filter.
const FILTER_MAX: usize = 100;

impl App {
    pub fn new(here: bool, theme: Theme) -> Self {
        Self {
            view: ShowView::default(),
            page: Page::Overview,
            arrangement: Arrangement::default(),
            rows: Vec::new(),
            at: 0,
            first: Cell::new(0),
            typing: false,
            help: false,
            taking: None,
            alarm: 0,
            frozen: false,
            detail: false,
            scrolled: 0,
            theme,
            graphics: Graphics::default(),
            stills: HashMap::new(),
            here,
            asking: false,
            hits: Hits::default(),
            spoiled: 0,
            said: None,
            loaded: false,
            dirty: true,
        }
    }

    pub fn needs_drawing(&self) -> bool {
        self.dirty
    }
    pub fn drawn(&mut self) {
        self.dirty = false;
    }
    pub fn touch(&mut self) {
        self.dirty = true;
    }

    /// Takes a new snapshot, unless frozen.
    pub fn show(&mut self, view: ShowView) {
        if !self.frozen || !self.loaded {
            self.view = view;
            self.loaded = true;
            self.alarm = self.alarm.min(self.view.alarms.len().saturating_sub(1));
            self.arrange();
            self.dirty = true;
        }
    }

    pub fn say(&mut self, text: String) {
        self.said = Some(text);
        self.dirty = true;
    }

    /// Stand-ins tell what reaches them.
    pub fn is_demo(&self) -> bool {
        !self.view.inputs.is_empty()
    }

    /// Takes pictures; lines that have none any more lose theirs.
    pub fn pictures(&mut self, asked: &[String], pictures: Vec<(String, Still)>) {
        if self.frozen {
            return;
        }
        self.stills.retain(|line, _| !asked.contains(line));
        self.stills.extend(pictures.into_iter().map(|(line, still)| (line, Arc::new(still))));
        self.dirty = true;
    }

    pub fn loaded(&self) -> bool {
        self.loaded
    }

    /// Number of the chosen line; none while a group is chosen.
    pub fn chosen(&self) -> Option<usize> {
        match self.rows.get(self.at)? {
            Row::Line(n) => Some(*n),
            Row::Group { .. } => None,
        }
    }

    pub fn chosen_line(&self) -> Option<&LineView> {
        self.view.lines.get(self.chosen()?)
    }

    /// Numbers of the lines that are listed.
    pub fn listed(&self) -> Vec<usize> {
        let line = |r: &Row| match r {
            Row::Line(n) => Some(*n),
            Row::Group { .. } => None,
        };
        self.rows.iter().filter_map(line).collect()
    }

    /// Alarms that are open and that nobody has seen.
    pub fn unseen(&self) -> impl Iterator<Item = &AlarmView> {
        self.view.alarms.iter().filter(|a| a.calls())
    }

    /// Makes the rows anew; the chosen line or group stays chosen, wherever it stands now.
    fn arrange(&mut self) {
        let name = |view: &ShowView, row: &Row| match row {
            Row::Line(n) => (true, view.lines.get(*n).map(|l| l.name.clone()).unwrap_or_default()),
            Row::Group { name, .. } => (false, name.clone()),
        };
        let chosen = self.rows.get(self.at).map(|row| name(&self.view, row));
        self.rows = self.arrangement.rows(&self.view);
        let place = chosen.and_then(|chosen| self.rows.iter().position(|row| name(&self.view, row) == chosen));
        self.at = place.unwrap_or(self.at).min(self.rows.len().saturating_sub(1));
    }

    fn choose(&mut self, row: usize) {
        (self.at, self.spoiled) = (row.min(self.rows.len().saturating_sub(1)), 0);
    }

    pub fn key(&mut self, key: KeyEvent) -> Act {
        self.dirty = true;
        self.said = None;
        if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
            return Act::Leave;
        }
        if self.asking {
            self.asking = false;
            return if key.code == KeyCode::Char('y') { Act::Leave } else { Act::None };
        }
        if self.typing {
            self.type_filter(key.code);
            return Act::None;
        }
        if self.taking.is_some() {
            return self.prepare(key.code);
        }
        if self.help {
            self.help = false;
            return Act::None;
        }
        if let KeyCode::F(n) = key.code {
            return Act::Ask(Request::Key { key: format!("F{n}") });
        }
        action(key.code, self.is_demo()).map_or(Act::None, |what| self.act(what))
    }

    /// A click does what a key does.
    pub fn mouse(&mut self, mouse: MouseEvent) -> Act {
        let wheel = match mouse.kind {
            MouseEventKind::ScrollUp => -WHEEL,
            MouseEventKind::ScrollDown => WHEEL,
            MouseEventKind::Down(MouseButton::Left) => {
                self.dirty = true;
                let hit = self.hits.at(mouse.column, mouse.row);
                return hit.map_or(Act::None, |hit| self.click(hit));
            }
            _ => return Act::None,
        };
        self.dirty = true;
        if self.taking.is_none() && !self.help {
            self.go(wheel);
        }
        Act::None
    }

    fn click(&mut self, hit: Hit) -> Act {
        self.said = None;
        if self.help || self.asking {
            (self.help, self.asking) = (false, false);
            return Act::None;
        }
        match hit {
            Hit::Row(row) if row == self.at => return self.act(Do::Open),
            Hit::Row(row) => self.choose(row),
            Hit::Line(n) => {
                if let Some(row) = self.rows.iter().position(|r| *r == Row::Line(n)) {
                    self.choose(row);
                }
            }
            Hit::Alarm(n) => self.alarm = n,
            Hit::Feed(n) => return self.act(Do::Take(Some(n))),
            Hit::Confirm => return self.prepare(KeyCode::Enter),
            Hit::Cancel => self.taking = None,
            Hit::Key(what) => return self.act(what),
        }
        Act::None
    }

    fn act(&mut self, what: Do) -> Act {
        match what {
            Do::Up => self.go(-1),
            Do::Down => self.go(1),
            Do::PageUp => self.go(-PAGE),
            Do::PageDown => self.go(PAGE),
            Do::First => self.go(isize::MIN / 2),
            Do::Last => self.go(isize::MAX / 2),
            Do::Open => self.open(),
            Do::Filter => (self.typing, self.page) = (true, if self.page == Page::Wall { Page::Wall } else { Page::Overview }),
            Do::Sort => {
                self.arrangement.sort = self.arrangement.sort.next();
                self.arrange();
            }
            Do::Group => {
                self.arrangement.grouped = !self.arrangement.grouped;
                self.arrange();
            }
            Do::Wall => self.turn_to(Page::Wall),
            Do::Events => self.turn_to(Page::Events),
            Do::Alarms => self.turn_to(Page::Alarms),
            Do::Take(feed) => self.begin_take(feed),
            Do::Hold => {
                let Some(line) = self.chosen_line() else { return Act::None };
                let (name, held) = (line.name.clone(), line.link.state == Some(State::Held));
                return Act::Ask(if held { Request::Release { line: name } } else { Request::Hold { line: name } });
            }
            Do::Acknowledge => return self.acknowledge(),
            Do::AcknowledgeAll => return Act::Ask(Request::Acknowledge { what: Vec::new() }),
            Do::Freeze => self.frozen = !self.frozen,
            Do::Spoil => return self.spoil(&STAND_IN),
            Do::SpoilPath => return self.spoil(&PATH),
            Do::Help => self.help = true,
            Do::Back if self.page != Page::Overview => self.page = Page::Overview,
            Do::Back if !self.arrangement.filter.is_empty() => {
                self.arrangement.filter.clear();
                self.arrange();
            }
            Do::Back | Do::Leave if self.here => self.asking = true,
            Do::Back | Do::Leave => return Act::Leave,
        }
        Act::None
    }

    /// The next of these words for the chosen line's stand-in.
    fn spoil(&mut self, words: &[&str]) -> Act {
        let Some(line) = self.chosen_line().map(|l| l.name.clone()) else { return Act::None };
        let word = words[self.spoiled % words.len()].to_owned();
        self.spoiled += 1;
        Act::Ask(Request::StandIn { line, word })
    }

    fn turn_to(&mut self, page: Page) {
        self.page = if self.page == page { Page::Overview } else { page };
        self.scrolled = 0;
    }

    /// Up or down by rows, in whatever is shown.
    fn go(&mut self, by: isize) {
        let moved = |at: usize, len: usize| at.saturating_add_signed(by).min(len.saturating_sub(1));
        match self.page {
            Page::Overview | Page::Wall => self.choose(moved(self.at, self.rows.len())),
            Page::Alarms => self.alarm = moved(self.alarm, self.view.alarms.len()),
            // Upwards is back in time.
            Page::Events => self.scrolled = self.scrolled.saturating_add_signed(-by).min(self.view.events.len().saturating_sub(1)),
        }
    }

    fn open(&mut self) {
        match self.rows.get(self.at) {
            Some(Row::Group { name, .. }) => {
                let name = name.clone();
                let folded = &mut self.arrangement.folded;
                if !folded.remove(&name) {
                    folded.insert(name);
                }
                self.arrange();
            }
            _ if self.page == Page::Wall => self.page = Page::Overview,
            _ => self.detail = !self.detail,
        }
    }

    fn type_filter(&mut self, code: KeyCode) {
        let filter = &mut self.arrangement.filter;
        match code {
            KeyCode::Enter | KeyCode::Down | KeyCode::Up => self.typing = false,
            KeyCode::Esc => {
                filter.clear();
                self.typing = false;
            }
            KeyCode::Backspace => drop(filter.pop()),
            KeyCode::Char(c) if filter.len() < FILTER_MAX => filter.push(c),
            _ => {}
        }
        self.arrange();
    }

    fn begin_take(&mut self, feed: Option<usize>) {
        let Some(line) = self.chosen_line().map(|l| l.name.clone()) else { return };
        let feed = feed.unwrap_or(0);
        if feed < self.view.feeds.len() {
            self.taking = Some(Taking { feed, line });
        } else {
            self.said = Some(format!("there is no feed {}", feed + 1));
        }
    }

    /// A key while a take is being prepared.
    fn prepare(&mut self, code: KeyCode) -> Act {
        let last = self.view.feeds.len().saturating_sub(1);
        let Some(taking) = &mut self.taking else { return Act::None };
        let digit = if let KeyCode::Char(d @ '1'..='9') = code { Some(d as usize - '1' as usize) } else { None };
        match code {
            KeyCode::Up | KeyCode::Char('k') => taking.feed = taking.feed.saturating_sub(1),
            KeyCode::Down | KeyCode::Char('j' | 't') => taking.feed = (taking.feed + 1).min(last),
            KeyCode::Enter => return self.take(),
            _ if digit == Some(taking.feed) => return self.take(),
            _ => match digit.filter(|d| *d <= last) {
                Some(other) => taking.feed = other,
                None => self.taking = None,
            },
        }
        Act::None
    }

    fn take(&mut self) -> Act {
        let Some(taking) = self.taking.take() else { return Act::None };
        let feed = self.view.feeds.get(taking.feed).map(|f| f.name.clone());
        feed.map_or(Act::None, |feed| Act::Ask(Request::Take { feed, line: Some(taking.line) }))
    }

    fn acknowledge(&mut self) -> Act {
        let numbers: Vec<String> = if self.page == Page::Alarms {
            self.view.alarms.get(self.alarm).map(|a| a.number.to_string()).into_iter().collect()
        } else {
            let Some(line) = self.chosen_line() else { return Act::None };
            self.view.alarms_of(line).filter(|a| a.acknowledged.is_none()).map(|a| a.number.to_string()).collect()
        };
        if numbers.is_empty() {
            self.said = Some("no alarm of the chosen line is unseen; A acknowledges all, b lists them".into());
            return Act::None;
        }
        Act::Ask(Request::Acknowledge { what: numbers })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::view::{FeedView, InputView, LineView};
    use ratatui::layout::Rect;

    fn app() -> App {
        let mut app = App::new(true, Theme::plain());
        let line = |name: &str| LineView { name: name.into(), networks: vec!["site".into()], ..LineView::default() };
        let feed = |name: &str| FeedView { name: name.into(), line: "finish-tower".into(), ..FeedView::default() };
        app.show(ShowView {
            lines: vec![line("finish-tower"), line("start-pontoon")],
            feeds: vec![feed("boathouse-1"), feed("boathouse-2")],
            ..ShowView::default()
        });
        app
    }

    fn press(app: &mut App, code: KeyCode) -> Act {
        app.key(KeyEvent::from(code))
    }

    fn keys(app: &mut App, text: &str) {
        text.chars().for_each(|c| drop(press(app, KeyCode::Char(c))));
    }

    #[test]
    fn a_take_is_prepared_and_then_made() {
        let mut app = app();
        press(&mut app, KeyCode::Down);
        assert!(matches!(press(&mut app, KeyCode::Char('1')), Act::None), "first it is shown what comes");
        assert_eq!(app.taking, Some(Taking { feed: 0, line: "start-pontoon".into() }));
        let act = press(&mut app, KeyCode::Char('1'));
        assert!(matches!(act, Act::Ask(Request::Take { feed, line: Some(line) }) if feed == "boathouse-1" && line == "start-pontoon"));
        press(&mut app, KeyCode::Char('t'));
        press(&mut app, KeyCode::Down);
        let act = press(&mut app, KeyCode::Enter);
        assert!(matches!(act, Act::Ask(Request::Take { feed, .. }) if feed == "boathouse-2"));
        press(&mut app, KeyCode::Char('2'));
        press(&mut app, KeyCode::Esc);
        assert_eq!(app.taking, None);
        press(&mut app, KeyCode::Char('3'));
        assert!(app.taking.is_none() && app.said.is_some_and(|s| s.contains("no feed 3")));
    }

    #[test]
    fn a_demos_camera_is_spoiled_by_a_key_and_no_others() {
        let mut app = app();
        assert!(matches!(press(&mut app, KeyCode::Char('x')), Act::None), "a show has no stand-ins");
        app.view.inputs.push(InputView::default());
        press(&mut app, KeyCode::Down);
        for wanted in ["black", "frozen", "silent", "normal", "black"] {
            let act = press(&mut app, KeyCode::Char('x'));
            assert!(matches!(act, Act::Ask(Request::StandIn { line, word }) if line == "start-pontoon" && word == wanted));
        }
    }

    #[test]
    fn a_line_that_has_no_picture_any_more_loses_it() {
        let mut app = app();
        let still = || Still { width: 1, height: 1, rgb: vec![0; 3], source: (1, 1) };
        let all = ["finish-tower", "start-pontoon"].map(str::to_owned);
        app.pictures(&all, vec![(all[0].clone(), still()), (all[1].clone(), still())]);
        app.pictures(&all[..1], Vec::new());
        assert_eq!(app.stills.keys().collect::<Vec<_>>(), ["start-pontoon"]);
    }

    #[test]
    fn leaving_a_show_of_ones_own_asks_first() {
        let mut app = app();
        assert!(matches!(press(&mut app, KeyCode::Char('q')), Act::None));
        assert!(matches!(press(&mut app, KeyCode::Char('n')), Act::None));
        press(&mut app, KeyCode::Char('q'));
        assert!(matches!(press(&mut app, KeyCode::Char('y')), Act::Leave));
        let mut other = App::new(false, Theme::plain());
        assert!(matches!(press(&mut other, KeyCode::Char('q')), Act::Leave));
    }

    #[test]
    fn escape_goes_one_step_back_each_time() {
        let mut app = app();
        keys(&mut app, "/start");
        press(&mut app, KeyCode::Enter);
        keys(&mut app, "w?");
        for back in ["help", "wall", "filter"] {
            assert!(!app.asking, "{back}");
            press(&mut app, KeyCode::Esc);
        }
        assert!(!app.help && app.page == Page::Overview && app.rows.len() == 2);
        press(&mut app, KeyCode::Esc);
        assert!(app.asking);
    }

    #[test]
    fn a_filter_is_typed_and_the_chosen_line_stays_chosen() {
        let mut app = app();
        press(&mut app, KeyCode::Down);
        keys(&mut app, "/q");
        assert_eq!((app.rows.len(), app.chosen()), (0, None), "q is a letter here");
        press(&mut app, KeyCode::Backspace);
        keys(&mut app, "pontoon");
        assert_eq!(app.chosen(), Some(1));
        press(&mut app, KeyCode::Esc);
        keys(&mut app, "gs");
        assert_eq!((app.rows.len(), app.chosen()), (3, Some(1)), "below its group");
        press(&mut app, KeyCode::Home);
        assert_eq!(app.chosen(), None);
        for code in [KeyCode::Char('h'), KeyCode::Char('1'), KeyCode::Char('a')] {
            assert!(matches!(press(&mut app, code), Act::None), "of a group");
        }
        press(&mut app, KeyCode::Enter);
        assert_eq!(app.rows.len(), 1, "folded");
    }

    #[test]
    fn alarms_of_the_chosen_line_are_acknowledged_and_those_of_its_network() {
        let mut app = app();
        let alarm = |number, subject: &str, members: &[&str]| AlarmView {
            number,
            subject: subject.into(),
            kind: "state".into(),
            members: members.iter().map(|m| (*m).to_owned()).collect(),
            ..AlarmView::default()
        };
        assert!(matches!(press(&mut app, KeyCode::Char('a')), Act::None));
        assert!(app.said.is_some());
        app.view.alarms =
            vec![alarm(3, "line start-pontoon", &[]), alarm(4, "network site", &["line finish-tower"]), alarm(5, "this machine", &[])];
        let act = press(&mut app, KeyCode::Char('a'));
        assert!(matches!(act, Act::Ask(Request::Acknowledge { what }) if what == ["4"]));
        keys(&mut app, "b");
        press(&mut app, KeyCode::End);
        let act = press(&mut app, KeyCode::Char('a'));
        assert!(matches!(act, Act::Ask(Request::Acknowledge { what }) if what == ["5"]));
        assert!(matches!(press(&mut app, KeyCode::Char('A')), Act::Ask(Request::Acknowledge { what }) if what.is_empty()));
    }

    #[test]
    fn clicks_choose_open_and_press_keys_and_the_wheel_scrolls() {
        let mut app = app();
        app.hits.add(Rect::new(0, 5, 80, 1), Hit::Row(1));
        app.hits.add(Rect::new(10, 23, 6, 1), Hit::Key(Do::Freeze));
        app.hits.add(Rect::new(0, 12, 80, 1), Hit::Feed(1));
        let click = |app: &mut App, column, row| {
            app.mouse(MouseEvent { kind: MouseEventKind::Down(MouseButton::Left), column, row, modifiers: KeyModifiers::NONE })
        };
        click(&mut app, 40, 5);
        assert_eq!(app.chosen(), Some(1));
        click(&mut app, 40, 5);
        assert!(app.detail, "once more opens it");
        click(&mut app, 12, 23);
        assert!(app.frozen);
        click(&mut app, 30, 12);
        assert_eq!(app.taking, Some(Taking { feed: 1, line: "start-pontoon".into() }));
        app.taking = None;
        let wheel = MouseEvent { kind: MouseEventKind::ScrollUp, column: 0, row: 0, modifiers: KeyModifiers::NONE };
        app.mouse(wheel);
        assert_eq!(app.at, 0);
        click(&mut app, 70, 20);
        assert_eq!(app.at, 0, "nothing is there");
    }

    #[test]
    fn a_frozen_view_keeps_its_numbers_and_the_choice_stays_in_range() {
        let mut app = app();
        press(&mut app, KeyCode::Down);
        press(&mut app, KeyCode::Char('f'));
        app.show(ShowView::default());
        assert_eq!(app.view.lines.len(), 2);
        press(&mut app, KeyCode::Char('f'));
        app.show(ShowView::default());
        assert_eq!((app.view.lines.len(), app.at), (0, 0));
        for page in ["", "w", "e", "b"] {
            keys(&mut app, page);
            for code in [KeyCode::Up, KeyCode::Down, KeyCode::Char('h'), KeyCode::Char('1'), KeyCode::PageUp, KeyCode::End, KeyCode::Enter]
            {
                press(&mut app, code);
            }
        }
    }
}
