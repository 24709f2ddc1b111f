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

/// Events kept for those who come later.
const KEPT: usize = 500;
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

pub(crate) struct Bus {
    events: Mutex<VecDeque<Arc<Event>>>,
    facts: broadcast::Sender<Fact>,
}

impl Bus {
    pub fn new() -> Self {
        Self { events: Mutex::default(), facts: broadcast::channel(BEHIND).0 }
    }

    pub fn listen(&self) -> broadcast::Receiver<Fact> {
        self.facts.subscribe()
    }

    pub fn event(&self, subject: Subject, kind: EventKind) {
        let mut events = lock(&self.events);
        let number = events.back().map_or(1, |e| e.number + 1);
        if events.len() == KEPT {
            events.pop_front();
        }
        let event = Arc::new(Event { number, at_ms: unix_ms(), subject, kind });
        events.push_back(event.clone());
        // Still locked: listeners get them in the order of their numbers. Nobody may be listening.
        let _ = self.facts.send(Fact::Event(event));
    }

    pub fn view(&self) {
        let _ = self.facts.send(Fact::View);
    }

    pub fn tick(&self, tick: Tick) {
        let _ = self.facts.send(Fact::Tick(Arc::new(tick)));
    }

    /// Events after number `after`, of those that are kept.
    pub fn after(&self, after: u64) -> Vec<Arc<Event>> {
        lock(&self.events).iter().filter(|e| e.number > after).cloned().collect()
    }
}
