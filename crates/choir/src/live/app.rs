//! State of the live view, and what each key does to it.

use super::theme::Theme;
use choir_core::{facts::State, view::ShowView};
use choir_show::{control::Request, still::Still};
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use std::collections::HashMap;

/// What a key asks for.
#[derive(Debug)]
pub enum Act {
    None,
    Leave,
    Ask(Request),
}

/// Everything the view shows.
pub struct App {
    pub view: ShowView,
    /// Chosen line.
    pub chosen: usize,
    /// Numbers stand still.
    pub frozen: bool,
    /// The small screen shows the chosen line in place of the events.
    pub detail: bool,
    /// How many events back the list is scrolled.
    pub scrolled: usize,
    pub theme: Theme,
    /// Pictures in place of tables.
    pub wall: bool,
    /// Last pictures, by line.
    pub stills: HashMap<String, Still>,
    /// Leaving ends the show.
    pub here: bool,
    /// "End the show?" is being asked.
    pub asking: bool,
    /// How often the demo's key was pressed for this line.
    spoiled: usize,
    /// Last answer to a command.
    pub said: Option<String>,
    loaded: bool,
    dirty: bool,
}

/// A key, what it does, as shown at the foot.
pub const KEYS: &[(&str, &str)] =
    &[("↑↓", "line"), ("w", "wall"), ("1-9", "take"), ("h", "hold"), ("d", "detail"), ("f", "freeze"), ("PgUp", "events"), ("q", "leave")];

/// What the key of a demo makes the chosen line's camera show, one after the other.
const STAND_IN: [&str; 4] = ["black", "frozen", "silent", "normal"];
/// That key.
pub const STAND_IN_KEY: (&str, &str) = ("x", "spoil the picture");

impl App {
    pub fn new(here: bool, theme: Theme) -> Self {
        Self {
            view: ShowView::default(),
            chosen: 0,
            frozen: false,
            detail: false,
            scrolled: 0,
            theme,
            wall: false,
            stills: HashMap::new(),
            here,
            asking: false,
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
            self.chosen = self.chosen.min(self.view.lines.len().saturating_sub(1));
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
        self.stills.extend(pictures);
        self.dirty = true;
    }

    pub fn loaded(&self) -> bool {
        self.loaded
    }

    fn chosen_line(&self) -> Option<&str> {
        self.view.lines.get(self.chosen).map(|l| l.name.as_str())
    }

    fn choose(&mut self, line: usize) {
        (self.chosen, self.spoiled) = (line, 0);
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
        let last = self.view.lines.len().saturating_sub(1);
        match key.code {
            KeyCode::Up | KeyCode::Char('k') => self.choose(self.chosen.saturating_sub(1)),
            KeyCode::Down | KeyCode::Char('j') => self.choose((self.chosen + 1).min(last)),
            KeyCode::PageUp => self.scrolled = (self.scrolled + 5).min(self.view.events.len().saturating_sub(1)),
            KeyCode::PageDown => self.scrolled = self.scrolled.saturating_sub(5),
            KeyCode::Char('f') => self.frozen = !self.frozen,
            KeyCode::Char('w') => self.wall = !self.wall,
            KeyCode::Char('x') if self.is_demo() => {
                let Some(line) = self.chosen_line().map(str::to_owned) else { return Act::None };
                let word = STAND_IN[self.spoiled % STAND_IN.len()].to_owned();
                self.spoiled += 1;
                return Act::Ask(Request::StandIn { line, word });
            }
            KeyCode::Char('d') | KeyCode::Enter => self.detail = !self.detail,
            KeyCode::Char('q') | KeyCode::Esc if self.here => self.asking = true,
            KeyCode::Char('q') | KeyCode::Esc => return Act::Leave,
            KeyCode::Char('h') => {
                let Some(line) = self.view.lines.get(self.chosen) else { return Act::None };
                let name = line.name.clone();
                let held = line.link.state == Some(State::Held);
                return Act::Ask(if held { Request::Release { line: name } } else { Request::Hold { line: name } });
            }
            KeyCode::Char(digit @ '1'..='9') => {
                let feed = self.view.feeds.get(digit as usize - '1' as usize).map(|f| f.name.clone());
                match (feed, self.chosen_line()) {
                    (Some(feed), Some(line)) => return Act::Ask(Request::Take { feed, line: line.to_owned() }),
                    _ => self.said = Some(format!("there is no feed {digit}")),
                }
            }
            _ => {}
        }
        Act::None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::view::{FeedView, LineView};

    fn app() -> App {
        let mut app = App::new(true, Theme::plain());
        let line = |name: &str| LineView { name: name.into(), ..LineView::default() };
        let feed = FeedView { name: "boathouse-1".into(), ..FeedView::default() };
        app.show(ShowView { lines: vec![line("finish-tower"), line("start-pontoon")], feeds: vec![feed], ..ShowView::default() });
        app
    }

    fn press(app: &mut App, code: KeyCode) -> Act {
        app.key(KeyEvent::from(code))
    }

    #[test]
    fn a_digit_takes_the_chosen_line_on_that_feed() {
        let mut app = app();
        press(&mut app, KeyCode::Down);
        let act = press(&mut app, KeyCode::Char('1'));
        assert!(matches!(act, Act::Ask(Request::Take { feed, line }) if feed == "boathouse-1" && line == "start-pontoon"));
        assert!(matches!(press(&mut app, KeyCode::Char('2')), Act::None));
        assert!(app.said.is_some_and(|s| s.contains("no feed 2")));
    }

    #[test]
    fn a_demos_camera_is_spoiled_by_a_key_and_no_others() {
        let mut app = app();
        assert!(matches!(press(&mut app, KeyCode::Char('x')), Act::None), "a show has no stand-ins");
        app.view.inputs.push(choir_core::view::InputView::default());
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
    fn a_frozen_view_keeps_its_numbers_and_the_choice_stays_in_range() {
        let mut app = app();
        press(&mut app, KeyCode::Down);
        press(&mut app, KeyCode::Char('f'));
        app.show(ShowView::default());
        assert_eq!(app.view.lines.len(), 2);
        press(&mut app, KeyCode::Char('f'));
        app.show(ShowView::default());
        assert_eq!((app.view.lines.len(), app.chosen), (0, 0));
        for code in [KeyCode::Up, KeyCode::Down, KeyCode::Char('h'), KeyCode::Char('1'), KeyCode::PageUp, KeyCode::PageDown] {
            press(&mut app, code);
        }
    }
}
