//! What each key does: one table for handling, for the foot of the screen and for the help.

use crossterm::event::KeyCode;

/// What can be done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Do {
    Up,
    Down,
    PageUp,
    PageDown,
    First,
    Last,
    /// Fold a group, or show the line alone below the list.
    Open,
    Filter,
    Sort,
    Group,
    Wall,
    Events,
    Alarms,
    /// Put the chosen line on a feed: the first, or this one.
    Take(Option<usize>),
    Hold,
    Acknowledge,
    AcknowledgeAll,
    Freeze,
    Spoil,
    SpoilPath,
    Help,
    Leave,
    /// Out of what was begun, else leave.
    Back,
}

/// A key and what it does.
pub struct Binding {
    pub codes: &'static [KeyCode],
    /// The key as shown.
    pub key: &'static str,
    /// In a word, at the foot.
    pub word: &'static str,
    /// In the help.
    pub help: &'static str,
    pub action: Do,
}

const fn one(codes: &'static [KeyCode], key: &'static str, word: &'static str, help: &'static str, action: Do) -> Binding {
    Binding { codes, key, word, help, action }
}

use KeyCode::Char;

/// In the order of their use: what does not fit at the foot is only in the help.
const KEYS: &[Binding] = &[
    one(&[Char('?')], "?", "keys", "these keys", Do::Help),
    one(&[Char('w')], "w", "wall", "pictures of all lines", Do::Wall),
    one(&[Char('t')], "t", "take", "put the chosen line on a feed; 1 to 9 choose the feed", Do::Take(None)),
    one(&[Char('h')], "h", "hold", "stop the chosen line, or start it again", Do::Hold),
    one(&[Char('a')], "a", "acknowledge", "alarms of the chosen line, or the chosen alarm, have been seen", Do::Acknowledge),
    one(&[Char('/')], "/", "filter", "list only lines with these words; -word: without it", Do::Filter),
    one(&[Char('b')], "b", "alarms", "all alarms", Do::Alarms),
    one(&[Char('e')], "e", "events", "all events", Do::Events),
    one(&[Char('s')], "s", "sort", "as in the sheet, worst first, by name, by rate", Do::Sort),
    one(&[Char('g')], "g", "groups", "lines under the network that they cross; Enter folds one", Do::Group),
    one(&[Char('f')], "f", "freeze", "let the numbers stand still", Do::Freeze),
    one(&[KeyCode::Enter, Char('d')], "Enter", "detail", "the chosen line alone below the list, on a small screen; fold a group", Do::Open),
    one(&[Char('A')], "A", "acknowledge all", "all alarms have been seen", Do::AcknowledgeAll),
    one(&[KeyCode::Up, Char('k')], "↑", "", "up", Do::Up),
    one(&[KeyCode::Down, Char('j')], "↓", "", "down", Do::Down),
    one(&[KeyCode::PageUp], "PgUp", "", "a screen up", Do::PageUp),
    one(&[KeyCode::PageDown], "PgDn", "", "a screen down", Do::PageDown),
    one(&[KeyCode::Home], "Home", "", "to the first", Do::First),
    one(&[KeyCode::End], "End", "", "to the last", Do::Last),
    one(&[KeyCode::Esc], "Esc", "", "out of what was begun; on the overview, leave", Do::Back),
    one(&[Char('q')], "q", "leave", "leave the view", Do::Leave),
];

/// Of a demo alone.
const SPOIL: &[Binding] = &[
    one(&[Char('x')], "x", "spoil the picture", "the chosen camera goes black, frozen, silent, normal", Do::Spoil),
    one(&[Char('X')], "X", "spoil the path", "the path of the chosen line gets worse, is cut, is normal", Do::SpoilPath),
];

/// All keys; those of a demo come first, since it is there to be tried.
pub fn all(demo: bool) -> impl Iterator<Item = &'static Binding> + Clone {
    let spoil: &[Binding] = if demo { SPOIL } else { &[] };
    spoil.iter().chain(KEYS)
}

/// What a key does.
pub fn action(code: KeyCode, demo: bool) -> Option<Do> {
    if let Char(digit @ '1'..='9') = code {
        return Some(Do::Take(Some(digit as usize - '1' as usize)));
    }
    all(demo).find(|b| b.codes.contains(&code)).map(|b| b.action)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_does_two_things() {
        let all: Vec<KeyCode> = all(true).flat_map(|b| b.codes).copied().collect();
        for (n, code) in all.iter().enumerate() {
            assert!(!all[n + 1..].contains(code), "{code:?}");
            assert!(action(*code, true).is_some());
        }
        assert_eq!(action(Char('x'), false), None);
        assert_eq!(action(Char('3'), false), Some(Do::Take(Some(2))));
    }
}
