//! What happened and what was measured, for everybody who listens. The latest few hundred events
//! are kept.

use choir_core::{
    facts::{Event, EventKind, WayTick},
    id::Subject,
};
use choir_host::{clock::unix_ms, lock};
use std::{
    collections::VecDeque,
    sync::{Arc, Mutex},
    time::Duration,
};
use tokio::sync::broadcast;

/// Events kept for those who come later, and of those the ones that any stranger can cause.
const KEPT: usize = 500;
const STRANGERS_KEPT: usize = 100;
/// Such events a second; more say nothing new.
const STRANGERS_A_SECOND: u32 = 20;
/// Facts that a slow listener may be behind; then it misses some, and is told so.
const BEHIND: usize = 256;

/// One second of the show.
#[derive(Debug, Clone)]
pub struct Tick {
    /// Counts from 1.
    pub number: u64,
    /// ms since 1970, at its end.
    pub at_ms: u64,
    /// Length: one second, or more when the machine stood still.
    pub length: Duration,
    /// What was measured of every line and way out.
    pub ways: Vec<(Subject, WayTick)>,
}

/// A fact.
#[derive(Debug, Clone)]
pub enum Fact {
    /// Something happened.
    Event(Arc<Event>),
    /// A second has passed; the view has been made anew.
    Tick(Arc<Tick>),
    /// The view has been made anew within the second, since something changed.
    View,
}

/// Waits for the next fact; false when the show is gone. One that missed some may look at the view
/// and the kept events.
pub async fn next(facts: &mut broadcast::Receiver<Fact>) -> bool {
    !matches!(facts.recv().await, Err(broadcast::error::RecvError::Closed))
}

#[derive(Default)]
struct Log {
    events: VecDeque<Arc<Event>>,
    last: u64,
    /// Events of strangers that are kept.
    strangers: usize,
    /// The second in which they are counted, and how many there were in it.
    second: (u64, u32),
}

impl Log {
    /// Notes an event at this ms since 1970; none where it says nothing new.
    fn note(&mut self, at_ms: u64, subject: Subject, kind: EventKind) -> Option<Arc<Event>> {
        let by_stranger = kind.is_by_strangers();
        if by_stranger {
            if self.second.0 != at_ms / 1000 {
                self.second = (at_ms / 1000, 0);
            }
            self.second.1 += 1;
            if self.second.1 > STRANGERS_A_SECOND {
                return None;
            }
        }
        // Of what strangers cause the oldest gives way to more of it, and before anything else.
        if by_stranger && self.strangers == STRANGERS_KEPT || self.events.len() == KEPT {
            let of_stranger = self.events.iter().position(|e| e.kind.is_by_strangers());
            if let Some(gone) = self.events.remove(of_stranger.unwrap_or(0)) {
                self.strangers -= usize::from(gone.kind.is_by_strangers());
            }
        }
        self.last += 1;
        self.strangers += usize::from(by_stranger);
        let event = Arc::new(Event { number: self.last, at_ms, subject, kind });
        self.events.push_back(event.clone());
        Some(event)
    }
}

pub(crate) struct Bus {
    log: Mutex<Log>,
    facts: broadcast::Sender<Fact>,
}

impl Bus {
    pub fn new() -> Self {
        Self { log: Mutex::default(), facts: broadcast::channel(BEHIND).0 }
    }

    pub fn listen(&self) -> broadcast::Receiver<Fact> {
        self.facts.subscribe()
    }

    pub fn event(&self, subject: Subject, kind: EventKind) {
        let mut log = lock(&self.log);
        if let Some(event) = log.note(unix_ms(), subject, kind) {
            // Still locked: listeners get them in the order of their numbers. Nobody may be
            // listening.
            let _ = self.facts.send(Fact::Event(event));
        }
    }

    pub fn view(&self) {
        let _ = self.facts.send(Fact::View);
    }

    pub fn tick(&self, tick: Tick) {
        let _ = self.facts.send(Fact::Tick(Arc::new(tick)));
    }

    /// Events after number `after`, of those that are kept.
    pub fn after(&self, after: u64) -> Vec<Arc<Event>> {
        lock(&self.log).events.iter().filter(|e| e.number > after).cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::{
        facts::{Notice, Refused},
        id::LineId,
    };

    #[test]
    fn strangers_push_nothing_else_out_of_what_is_kept() {
        let mut log = Log::default();
        let line = Subject::Line(LineId(1));
        for n in 0..300 {
            assert!(log.note(n, line, EventKind::ReloadFailed(n.to_string())).is_some());
        }
        let refused = |n: u16| {
            let from = ([127, 20, 0, 9], n).into();
            EventKind::Notice(Notice::CallerRefused(Refused { from, stream_id: None, fault: None, why: "another passphrase".into() }))
        };
        let told = (0..20_000_u64).filter(|n| log.note(1000 + n / 10, line, refused(*n as u16)).is_some()).count();
        assert!(told <= 3 * STRANGERS_A_SECOND as usize, "{told} in two seconds");
        for second in 10..40 {
            (0..50).for_each(|n| drop(log.note(second * 1000, line, refused(n))));
        }
        let others = log.events.iter().filter(|e| !e.kind.is_by_strangers()).count();
        assert_eq!((others, log.events.len(), log.strangers), (300, 300 + STRANGERS_KEPT, STRANGERS_KEPT));
        // Real events push them out first.
        for n in 0..300 {
            log.note(100_000 + n, line, EventKind::ReloadFailed(n.to_string()));
        }
        assert_eq!((log.events.len(), log.strangers), (KEPT, 0));
        assert!(log.events.iter().zip(log.events.iter().skip(1)).all(|(a, b)| a.number < b.number));
    }
}
