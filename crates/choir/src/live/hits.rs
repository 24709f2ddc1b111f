//! Where on the screen a click does something.

use super::keys::Do;
use ratatui::layout::{Position, Rect};
use std::cell::RefCell;

/// What a click means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hit {
    /// A row of the list.
    Row(usize),
    /// A line, by its number in the sheet.
    Line(usize),
    /// A feed, by its number from 0.
    Feed(usize),
    /// An alarm, by its place.
    Alarm(usize),
    /// A key.
    Key(Do),
    /// The take that is being prepared.
    Confirm,
    /// Not that.
    Cancel,
}

/// What was drawn last, and where.
#[derive(Debug, Default)]
pub struct Hits(RefCell<Vec<(Rect, Hit)>>);

impl Hits {
    /// Nothing is drawn yet.
    pub fn clear(&self) {
        self.0.borrow_mut().clear();
    }

    pub fn add(&self, area: Rect, hit: Hit) {
        self.0.borrow_mut().push((area, hit));
    }

    /// What is on top there.
    pub fn at(&self, column: u16, row: u16) -> Option<Hit> {
        let at = Position { x: column, y: row };
        self.0.borrow().iter().rev().find(|(area, _)| area.contains(at)).map(|(_, hit)| *hit)
    }
}
