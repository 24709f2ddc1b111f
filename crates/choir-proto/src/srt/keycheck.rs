//! Passphrase checks of callers, done outside the endpoint: each costs 2048 hash rounds, and wrong
//! ones may come by the thousand.
//!
//! A listener queues them, a few for each address, and hands out one after the other with pauses
//! between. Whoever was turned away for a full queue and asks again goes before those who ask for
//! the first time.

use super::{
    CipherKeys, Passphrase, RuleId,
    crypto::KeyError,
    wire::{Extension, Handshake},
};
use std::{
    collections::{HashMap, VecDeque, hash_map::Entry},
    net::{IpAddr, SocketAddr},
};

/// Checks that wait, in total and for one address.
const WAITING_MAX: usize = 64;
const WAITING_PER_ADDRESS: usize = 8;
/// Between the starts of two checks: a fifth of one core at most.
const EVERY_US: i64 = 4000;
/// Turned away and remembered: half a second of two thousand a second.
const REMEMBERED: usize = 1024;
/// Who has asked for so long in vain is told that there is no room.
const TOLD_AFTER_US: i64 = 2_000_000;

/// One check, to be run on a thread that may block for a millisecond.
#[derive(Debug)]
pub struct KeyCheck {
    of: Checked,
    message: Vec<u8>,
    passphrase: Passphrase,
}

/// Whose keys are checked: a caller's, by its number in the queue, or those of a peer that is met
/// in rendezvous, by our ID.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Checked {
    Caller(u64),
    Greeting(u32),
}

impl KeyCheck {
    /// The check of a request's key message.
    pub(super) fn of(of: Checked, h: &Handshake, passphrase: Passphrase) -> Self {
        let message = h.extensions.iter().find_map(|e| if let Extension::KmReq(m) = e { Some(m.clone()) } else { None });
        Self { of, message: message.unwrap_or_default(), passphrase }
    }

    /// Does the work.
    #[must_use]
    pub fn run(&self) -> KeyChecked {
        let mut keys = CipherKeys::default();
        KeyChecked { of: self.of, keys: keys.take_message(&self.message, &self.passphrase).map(|()| keys) }
    }
}

/// What a check came to.
#[derive(Debug)]
pub struct KeyChecked {
    pub(super) of: Checked,
    pub(super) keys: Result<CipherKeys, KeyError>,
}

/// A caller whose key message waits for its check.
#[derive(Debug)]
pub(super) struct Waiting {
    pub from: SocketAddr,
    pub handshake: Handshake,
    pub timestamp: u32,
    pub arrived: i64,
    pub rule: RuleId,
    passphrase: Passphrase,
    asked_before: bool,
}

impl Waiting {
    pub fn new(from: SocketAddr, handshake: Handshake, timestamp: u32, arrived: i64, rule: RuleId, passphrase: Passphrase) -> Self {
        Self { from, handshake, timestamp, arrived, rule, passphrase, asked_before: false }
    }

    fn caller(&self) -> Who {
        (self.from, self.handshake.socket_id)
    }
}

/// A caller: where it is, and its socket ID.
type Who = (SocketAddr, u32);

/// Those for whom there was no room, and since when they ask, µs. The oldest are forgotten.
#[derive(Debug, Default)]
struct TurnedAway {
    since: HashMap<Who, i64>,
    order: VecDeque<Who>,
}

impl TurnedAway {
    fn note(&mut self, who: Who, now: i64) {
        if self.order.len() == REMEMBERED
            && let Some(oldest) = self.order.pop_front()
        {
            self.since.remove(&oldest);
        }
        self.order.push_back(who);
        self.since.insert(who, now);
    }
}

/// Callers that wait for their checks.
#[derive(Debug, Default)]
pub(super) struct KeyQueue {
    waiting: VecDeque<Waiting>,
    /// How many of each address wait.
    counts: HashMap<IpAddr, usize>,
    running: Option<(u64, Waiting)>,
    turned_away: TurnedAway,
    /// Whose check ran last.
    last: Option<IpAddr>,
    next_id: u64,
    next_at: i64,
}

impl KeyQueue {
    /// Queues a caller, unless it waits already or there is no room for it now. False when it has
    /// asked for so long in vain that it is to be told.
    pub fn push(&mut self, mut caller: Waiting) -> bool {
        let (who, now) = (caller.caller(), caller.arrived);
        if self.waiting.iter().chain(self.running.iter().map(|(_, w)| w)).any(|w| w.caller() == who) {
            return true;
        }
        caller.asked_before = self.turned_away.since.contains_key(&who);
        let same = |w: &Waiting| w.from.ip() == who.0.ip();
        let of_address = self.counts.get(&who.0.ip()).copied().unwrap_or(0);
        if of_address >= WAITING_PER_ADDRESS || self.waiting.len() >= WAITING_MAX {
            // Its own address makes room, if somebody there asks for the first time; else the one
            // that has the most, if that has more.
            let own = self.waiting.iter().rposition(|w| same(w) && !w.asked_before).filter(|_| caller.asked_before);
            let place = own.or_else(|| if of_address < WAITING_PER_ADDRESS { self.of_the_greediest(of_address + 1) } else { None });
            let Some(place) = place else { return self.turn_away(who, now) };
            self.take(place);
        }
        self.turned_away.since.remove(&who);
        // Those who come again stand before those who come for the first time.
        let place = if caller.asked_before { self.waiting.iter().take_while(|w| w.asked_before).count() } else { self.waiting.len() };
        self.insert(place, caller);
        true
    }

    fn insert(&mut self, place: usize, caller: Waiting) {
        *self.counts.entry(caller.from.ip()).or_default() += 1;
        self.waiting.insert(place, caller);
    }

    fn take(&mut self, place: usize) -> Option<Waiting> {
        let taken = self.waiting.remove(place)?;
        if let Entry::Occupied(mut count) = self.counts.entry(taken.from.ip()) {
            *count.get_mut() -= 1;
            if *count.get() == 0 {
                count.remove();
            }
        }
        Some(taken)
    }

    /// The last that waits of the address which has the most, if that is more than so many.
    fn of_the_greediest(&self, than: usize) -> Option<usize> {
        let most = self.counts.values().copied().max().filter(|most| *most > than)?;
        self.waiting.iter().rposition(|w| self.counts.get(&w.from.ip()) == Some(&most))
    }

    fn turn_away(&mut self, who: Who, now: i64) -> bool {
        match self.turned_away.since.get(&who) {
            Some(since) if now - since >= TOLD_AFTER_US => {
                self.turned_away.since.remove(&who);
                return false;
            }
            Some(_) => {}
            None => self.turned_away.note(who, now),
        }
        true
    }

    /// When `poll` may give the next one.
    pub fn poll_timeout(&self) -> Option<i64> {
        (self.running.is_none() && !self.waiting.is_empty()).then_some(self.next_at)
    }

    /// The next check, one at a time.
    pub fn poll(&mut self, now: i64) -> Option<KeyCheck> {
        if self.running.is_some() || now < self.next_at {
            return None;
        }
        // Addresses take turns.
        let place = self.waiting.iter().position(|w| Some(w.from.ip()) != self.last).unwrap_or(0);
        let next = self.take(place)?;
        self.last = Some(next.from.ip());
        self.next_at = now + EVERY_US;
        self.next_id += 1;
        let check = KeyCheck::of(Checked::Caller(self.next_id), &next.handshake, next.passphrase.clone());
        self.running = Some((self.next_id, next));
        Some(check)
    }

    /// The caller that a check was for.
    pub fn done(&mut self, checked: &KeyChecked) -> Option<Waiting> {
        self.running.take_if(|(id, _)| checked.of == Checked::Caller(*id)).map(|(_, w)| w)
    }
}

#[cfg(test)]
mod tests {
    use super::super::{LinkConfig, handshake, wire::HandshakeType};
    use super::*;

    fn caller(ip: u8, port: u16) -> Waiting {
        let handshake = handshake::message(HandshakeType::Conclusion, u32::from(port), &LinkConfig::default(), [127, 0, 0, 1].into());
        let passphrase = Passphrase::new("rowing is made up").expect("fits");
        Waiting::new(SocketAddr::from(([127, 20, 0, ip], port)), handshake, 0, 0, RuleId(1), passphrase)
    }

    /// Runs everything that may start up to `now`; gives who was checked.
    fn run(queue: &mut KeyQueue, from: i64, to: i64) -> Vec<SocketAddr> {
        let mut checked = Vec::new();
        for now in (from..to).step_by(1000) {
            while let Some(check) = queue.poll(now) {
                checked.extend(queue.done(&KeyChecked { of: check.of, keys: Err(KeyError::BadSecret) }).map(|w| w.from));
            }
        }
        checked
    }

    #[test]
    fn checks_are_spread_over_time_and_one_at_a_time() {
        let mut queue = KeyQueue::default();
        (0..8).for_each(|n| assert!(queue.push(caller(n, 1))));
        let first = queue.poll(0).expect("one");
        assert!(queue.poll(1_000_000).is_none(), "while one runs");
        queue.done(&first.run());
        assert!(queue.poll(3999).is_none());
        assert_eq!(queue.poll_timeout(), Some(4000));
        assert_eq!(run(&mut queue, 4000, 20_000).len(), 4);
    }

    #[test]
    fn a_flood_from_one_address_leaves_the_others_their_turn() {
        let mut queue = KeyQueue::default();
        (0..2000).for_each(|port| assert!(queue.push(caller(1, port))));
        queue.push(caller(2, 7));
        assert_eq!(queue.waiting.len(), WAITING_PER_ADDRESS + 1);
        assert!(run(&mut queue, 0, 100_000).contains(&SocketAddr::from(([127, 20, 0, 2], 7))));
    }

    #[test]
    fn who_asks_again_goes_first_also_beside_a_flood_from_its_own_address() {
        let mut queue = KeyQueue::default();
        (0..500).for_each(|port| assert!(queue.push(caller(1, port))));
        // A good caller behind the same address repeats its request, the flood makes new ones.
        queue.push(caller(1, 60_000));
        (500..900).for_each(|port| assert!(queue.push(caller(1, port))));
        queue.push(caller(1, 60_000));
        assert_eq!(run(&mut queue, 0, 8000)[0].port(), 60_000);
        assert!(queue.turned_away.order.len() <= REMEMBERED && queue.turned_away.since.len() <= REMEMBERED);
    }

    #[test]
    fn floods_from_many_addresses_leave_another_its_turn() {
        let mut queue = KeyQueue::default();
        for ip in 0..32 {
            (0..8).for_each(|port| {
                queue.push(caller(ip, port));
            });
        }
        assert_eq!(queue.waiting.len(), WAITING_MAX);
        assert!(queue.push(caller(99, 7)));
        // The others keep asking.
        let checked = run(&mut queue, 0, 400_000);
        assert!(checked.contains(&SocketAddr::from(([127, 20, 0, 99], 7))), "{checked:?}");
        assert!(checked.windows(2).take(40).all(|w| w[0].ip() != w[1].ip()), "addresses take turns: {checked:?}");
    }

    #[test]
    fn who_asks_in_vain_for_long_is_told() {
        let mut queue = KeyQueue::default();
        (0..8).for_each(|port| {
            let mut waiting = caller(1, port);
            waiting.asked_before = true;
            queue.insert(0, waiting);
        });
        let asks = |at_ms: i64| Waiting { arrived: at_ms * 1000, ..caller(1, 60_000) };
        assert!([0, 250, 1900].into_iter().all(|at| queue.push(asks(at))));
        assert!(!queue.push(asks(2000)));
        assert!(queue.push(asks(2250)), "and not each time");
    }

    #[test]
    fn many_addresses_are_bounded_in_total() {
        let mut queue = KeyQueue::default();
        for ip in 0..200 {
            (0..20).for_each(|port| assert!(queue.push(caller(ip, port))));
        }
        assert_eq!(queue.waiting.len(), WAITING_MAX);
    }
}
