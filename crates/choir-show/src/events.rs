//! What happened, as sentences with a time. The latest few hundred are kept.

use choir_core::view::{EventGrade, EventView};
use choir_host::{clock::unix_ms, lock};
use std::{collections::VecDeque, sync::Mutex};
use tokio::sync::watch;

const KEPT: usize = 500;

pub(super) struct EventLog {
    events: Mutex<VecDeque<EventView>>,
    bell: watch::Sender<u64>,
}

impl EventLog {
    pub fn new() -> Self {
        Self { events: Mutex::default(), bell: watch::channel(0).0 }
    }

    pub fn add(&self, subject: &str, grade: EventGrade, text: String) {
        let mut events = lock(&self.events);
        let number = events.back().map_or(1, |e| e.number + 1);
        if events.len() == KEPT {
            events.pop_front();
        }
        events.push_back(EventView { number, at_ms: unix_ms(), subject: subject.to_owned(), text, grade });
        drop(events);
        let _ = self.bell.send_replace(number);
    }

    pub fn latest(&self) -> Vec<EventView> {
        lock(&self.events).iter().cloned().collect()
    }

    pub fn after(&self, number: u64) -> Vec<EventView> {
        lock(&self.events).iter().filter(|e| e.number > number).cloned().collect()
    }

    pub fn bell(&self) -> watch::Receiver<u64> {
        self.bell.subscribe()
    }
}
