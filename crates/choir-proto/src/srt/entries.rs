//! The connections and greetings of one socket: found by ID, by who is due next, and by who may
//! have something to send, so that a turn costs what is due and not what is there.

use super::{ConnId, RuleId, connection::Connection, deadlines::Deadlines, handshake::Greeting, wire::Handshake};
use rustc_hash::FxHashMap;
use slab::Slab;
use std::{collections::VecDeque, net::SocketAddr};

#[derive(Debug)]
pub(super) enum Phase {
    Greeting(Box<Greeting>),
    Up(Box<Connection>),
}

#[derive(Debug)]
pub(super) struct Entry {
    pub id: u32,
    pub peer: SocketAddr,
    pub rule: Option<RuleId>,
    pub phase: Phase,
    /// Handshake to repeat when the peer missed it: the conclusion response, or the agreement.
    pub reply: Option<(Handshake, u32)>,
    pub over: bool,
    /// When it was made.
    pub since: i64,
    /// What a caller sent.
    pub stream_id: Option<String>,
    /// Where it stands among the deadlines.
    due: i64,
    changed: bool,
    sending: bool,
    ending: bool,
}

impl Entry {
    pub fn new(id: u32, peer: SocketAddr, rule: Option<RuleId>, phase: Phase, reply: Option<(Handshake, u32)>) -> Self {
        let since = match &phase {
            Phase::Up(c) => c.since(),
            Phase::Greeting(_) => 0,
        };
        let (due, over) = (i64::MAX, false);
        Self { id, peer, rule, phase, reply, over, since, stream_id: None, due, changed: false, sending: false, ending: false }
    }

    pub fn conn(&self) -> ConnId {
        ConnId(self.id)
    }

    fn deadline(&self) -> i64 {
        match &self.phase {
            _ if self.over => i64::MAX,
            Phase::Greeting(g) => g.poll_timeout(),
            Phase::Up(c) => c.poll_timeout().unwrap_or(i64::MAX),
        }
    }
}

/// Place of an entry, for as long as it is there.
pub(super) type Slot = usize;

#[derive(Debug, Default)]
pub(super) struct Entries {
    slots: Slab<Entry>,
    /// The IDs are our own random ones, so a quick hash is safe.
    by_id: FxHashMap<u32, Slot>,
    deadlines: Deadlines,
    /// Their deadlines may be others by now.
    changed: Vec<Slot>,
    sending: VecDeque<Slot>,
    ending: Vec<Slot>,
}

impl Entries {
    pub fn insert(&mut self, entry: Entry) -> Slot {
        let id = entry.id;
        let slot = self.slots.insert(entry);
        self.by_id.insert(id, slot);
        self.touch(slot);
        slot
    }

    pub fn remove(&mut self, slot: Slot) -> Option<Entry> {
        let entry = self.slots.try_remove(slot)?;
        self.by_id.remove(&entry.id);
        // Another may come to stand here.
        self.sending.retain(|s| *s != slot);
        self.changed.retain(|s| *s != slot);
        self.ending.retain(|s| *s != slot);
        Some(entry)
    }

    pub fn len(&self) -> usize {
        self.slots.len()
    }

    pub fn slot_of(&self, id: u32) -> Option<Slot> {
        self.by_id.get(&id).copied()
    }

    pub fn get(&self, slot: Slot) -> Option<&Entry> {
        self.slots.get(slot)
    }

    pub fn iter(&self) -> impl Iterator<Item = (Slot, &Entry)> {
        self.slots.iter()
    }

    /// For what changes neither deadlines nor what is to be sent.
    pub fn iter_mut(&mut self) -> impl Iterator<Item = (Slot, &mut Entry)> {
        self.slots.iter_mut()
    }

    /// An entry to be changed: its deadline and what it has to send are looked at again.
    pub fn touch(&mut self, slot: Slot) -> Option<&mut Entry> {
        let entry = self.slots.get_mut(slot)?;
        if !entry.changed {
            entry.changed = true;
            self.changed.push(slot);
        }
        if !entry.sending {
            entry.sending = true;
            self.sending.push_back(slot);
        }
        Some(entry)
    }

    // ---- deadlines

    fn settle(&mut self) {
        for slot in self.changed.drain(..) {
            let Some(entry) = self.slots.get_mut(slot) else { continue };
            entry.changed = false;
            let due = entry.deadline();
            if due != entry.due {
                entry.due = due;
                if due < i64::MAX {
                    self.deadlines.put(due, slot);
                }
            }
        }
        let all = self.slots.iter().map(|(slot, e)| (e.due, slot));
        self.deadlines.tidy(self.slots.len(), all.filter(|(due, _)| *due < i64::MAX));
    }

    fn first_deadline(&mut self) -> Option<(i64, Slot)> {
        self.deadlines.first(|slot| self.slots.get(slot).map(|e| e.due))
    }

    pub fn next_deadline(&mut self) -> Option<i64> {
        self.settle();
        self.first_deadline().map(|(due, _)| due)
    }

    /// Puts those whose time has come into `due`, to be touched; and those that have changed, since
    /// to look at one costs no more than to find out when it is due.
    pub fn take_due(&mut self, now: i64, due: &mut Vec<Slot>) {
        due.extend_from_slice(&self.changed);
        while let Some((_, slot)) = self.first_deadline().filter(|(at, _)| *at <= now) {
            self.deadlines.pass_first();
            let entry = &mut self.slots[slot];
            // Wherever it stands next, it is put there anew.
            entry.due = i64::MAX;
            if !entry.changed {
                due.push(slot);
            }
        }
    }

    // ---- sending

    /// The first that may have something to send. Whoever has it send is to touch it.
    pub fn first_sending(&mut self) -> Option<(Slot, &mut Entry)> {
        let slot = *self.sending.front()?;
        Some((slot, self.slots.get_mut(slot)?))
    }

    /// The first has nothing more to send.
    pub fn has_sent(&mut self) {
        if let Some(entry) = self.sending.pop_front().and_then(|slot| self.slots.get_mut(slot)) {
            entry.sending = false;
        }
    }

    // ---- ending

    /// It has ended, or may have: it is given by the next [`Self::take_ending`].
    pub fn note_ending(&mut self, slot: Slot) {
        if let Some(entry) = self.slots.get_mut(slot).filter(|e| !e.ending) {
            entry.ending = true;
            self.ending.push(slot);
        }
    }

    pub fn has_ending(&self) -> bool {
        !self.ending.is_empty()
    }

    pub fn take_ending(&mut self) -> Vec<Slot> {
        let ending = std::mem::take(&mut self.ending);
        for slot in &ending {
            if let Some(entry) = self.slots.get_mut(*slot) {
                entry.ending = false;
            }
        }
        ending
    }
}
