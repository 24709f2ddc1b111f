//! Names the cause of trouble from what is measured: pure over ticks. Each rule is one file; it
//! looks at the course of a way and says what it sees, or nothing.

mod course;
mod order;
mod rules;
#[cfg(test)]
mod sample;

use crate::facts::{Cause, Contact, Reading};
use course::Course;
use std::time::Duration;

/// A cause, and for how long it is there.
#[derive(Debug, Clone, PartialEq)]
pub struct Diagnosis {
    /// The cause.
    pub cause: Cause,
    /// When it was first seen, on the clock of the ticks.
    pub since: Duration,
}

/// Follows one way, and names causes.
#[derive(Debug, Clone, Default)]
pub struct Diagnosing {
    course: Course,
    held: Vec<Held>,
}

#[derive(Debug, Clone)]
struct Held {
    cause: Cause,
    since: Duration,
    seen: Duration,
}

impl Diagnosing {
    /// Takes the tick that ended at `now` (any clock that only grows), and gives the causes: the
    /// one to fix first comes first.
    pub fn note(&mut self, now: Duration, reading: &Reading) -> Vec<Diagnosis> {
        self.course.note(now, reading);
        let mut found = of_moment(reading);
        found.extend(rules::OVER_TIME.iter().filter_map(|rule| rule(&mut self.course)));
        // Of a link that is gone nothing holds on but what keeps it away.
        let up = reading.contact == Contact::Up;
        self.take(now, found, |h| up && now.saturating_sub(h.seen) < h.cause.hold())
    }

    /// As `note`, between two ticks: only what can be told of the moment, so that it need not wait
    /// for the end of the second. What is judged by whole ticks stays.
    pub fn glance(&mut self, now: Duration, reading: &Reading) -> Vec<Diagnosis> {
        self.take(now, of_moment(reading), |h| !h.cause.is_of_moment())
    }

    fn take(&mut self, now: Duration, found: Vec<Cause>, stays: impl Fn(&Held) -> bool) -> Vec<Diagnosis> {
        self.held.retain(|h| stays(h) || found.iter().any(|f| f.is_like(&h.cause)));
        found.into_iter().for_each(|cause| self.hold(now, cause));
        self.named()
    }

    fn hold(&mut self, now: Duration, cause: Cause) {
        match self.held.iter_mut().find(|h| h.cause.is_like(&cause)) {
            Some(h) => (h.cause, h.seen) = (cause, now),
            None => self.held.push(Held { cause, since: now, seen: now }),
        }
    }

    fn named(&self) -> Vec<Diagnosis> {
        let explained = |h: &Held| self.held.iter().any(|o| !std::ptr::eq(o, h) && o.cause.explains(&h.cause));
        let mut left: Vec<&Held> = self.held.iter().filter(|h| !explained(h)).collect();
        left.sort_by_key(|h| (h.cause.rank(), h.since));
        left.into_iter().map(|h| Diagnosis { cause: h.cause.clone(), since: h.since }).collect()
    }
}

fn of_moment(reading: &Reading) -> Vec<Cause> {
    rules::AT_ONCE.iter().filter_map(|rule| rule(reading)).collect()
}
