//! Events as lines on stderr, while there is no live view; alarms ring the terminal's bell, where
//! there is one.

use super::alarms::{Calls, call};
use choir_core::{facts::EventGrade, view::EventView};
use choir_host::clock::time_of_day;
use choir_show::{Show, bus};
use std::{
    cell::{Cell, RefCell},
    io::IsTerminal,
};

/// One event as one line.
pub fn line(e: &EventView) -> String {
    let mark = match e.grade {
        EventGrade::Note => ' ',
        EventGrade::Good => '+',
        EventGrade::Warning => '!',
        EventGrade::Trouble => '#',
    };
    format!("{} {mark} {}: {}", time_of_day(e.at_ms), e.subject, e.text)
}

/// Prints each event once.
pub struct Printer<'a> {
    show: &'a Show,
    last: Cell<u64>,
    calls: RefCell<Calls>,
}

impl<'a> Printer<'a> {
    /// From the first event on.
    pub fn new(show: &'a Show) -> Self {
        Self { show, last: Cell::new(0), calls: RefCell::default() }
    }

    /// Leaves out what has happened so far: it was shown elsewhere.
    pub fn skip(&self) {
        self.last.set(self.show.events_after(0).last().map_or(0, |e| e.number));
    }

    /// Prints what has happened since.
    pub fn print(&self) {
        for event in self.show.events_after(self.last.get()) {
            eprintln!("{}", line(&event));
            self.last.set(event.number);
        }
    }

    fn ring(&self) {
        let (alarms, tell) = self.show.alarms();
        for alarm in self.calls.borrow_mut().new_of(&alarms) {
            eprint!("{}", call(alarm, tell));
        }
    }

    /// Prints events as they happen, until the show is gone.
    pub async fn follow(&self) {
        let mut facts = self.show.facts();
        let terminal = std::io::stderr().is_terminal();
        loop {
            self.print();
            if terminal {
                self.ring();
            }
            if !bus::next(&mut facts).await {
                return;
            }
        }
    }
}
