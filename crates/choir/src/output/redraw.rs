//! A block of lines on stderr that is drawn over as it changes, where somebody can see it.

use crossterm::{cursor, execute, terminal};
use std::io::{IsTerminal, stderr};

/// The block; goes when it is dropped.
pub struct Redraw {
    live: bool,
    drawn: u16,
}

impl Redraw {
    pub fn new() -> Self {
        Self { live: stderr().is_terminal(), drawn: 0 }
    }

    /// Somebody can see it.
    pub fn is_live(&self) -> bool {
        self.live
    }

    /// Takes it away, for something that stays.
    pub fn clear(&mut self) {
        if self.drawn > 0 {
            let _ = execute!(stderr(), cursor::MoveToPreviousLine(self.drawn), terminal::Clear(terminal::ClearType::FromCursorDown));
        }
        self.drawn = 0;
    }

    /// Draws what `text` makes for this many columns, as much as fits, and a last line below it.
    pub fn draw(&mut self, text: impl FnOnce(usize) -> String, last: &str) {
        if !self.live {
            return;
        }
        self.clear();
        let (width, height) = terminal::size().unwrap_or((80, 24));
        for line in text(usize::from(width)).lines().take(usize::from(height.saturating_sub(2))) {
            eprintln!("{line}");
            self.drawn += 1;
        }
        eprintln!("{last}");
        self.drawn += 1;
    }
}

impl Drop for Redraw {
    fn drop(&mut self) {
        self.clear();
    }
}
