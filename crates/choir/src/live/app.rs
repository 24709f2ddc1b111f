//! State of the live view, and what each key does to it.

use super::theme::Theme;
use choir_core::{facts::State, view::ShowView};
use choir_show::control::Request;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

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
    /// Leaving ends the show.
    pub here: bool,
    /// "End the show?" is being asked.
    pub asking: bool,
    /// Last answer to a command.
    pub said: Option<String>,
    loaded: bool,
    dirty: bool,
}

/// A key, what it does, as shown at the foot.
pub const KEYS: &[(&str, &str)] =
    &[("↑↓", "line"), ("1-9", "take on feed"), ("h", "hold"), ("d", "detail"), ("f", "freeze"), ("PgUp", "events"), ("q", "leave")];

impl App {
    pub fn new(here: bool, theme: Theme) -> Self {
        Self {
            view: ShowView::default(),
            chosen: 0,
            frozen: false,
            detail: false,
            scrolled: 0,
            theme,
            here,
            asking: false,
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

    pub fn loaded(&self) -> bool {
        self.loaded
    }

    fn chosen_line(&self) -> Option<&str> {
        self.view.lines.get(self.chosen).map(|l| l.name.as_str())
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
            KeyCode::Up | KeyCode::Char('k') => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down | KeyCode::Char('j') => self.chosen = (self.chosen + 1).min(last),
            KeyCode::PageUp => self.scrolled = (self.scrolled + 5).min(self.view.events.len().saturating_sub(1)),
            KeyCode::PageDown => self.scrolled = self.scrolled.saturating_sub(5),
            KeyCode::Char('f') => self.frozen = !self.frozen,
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
