//! One UDP socket's worth of SRT: tells connections apart, greets, listens, and drives them all.

use super::{
    AcceptRule, CloseReason, ConnId, Delivery, EndpointStats, Event, Glance, Joined, LinkConfig, LinkStats, RuleId, SendError, Transmit,
    connection::Connection,
    entries::{Entries, Entry, Phase, Slot},
    handshake::{CallKeys, Greeting, Step},
    listener::Listener,
    wire::{Control, Handshake, HandshakeType, Packet},
};
use bytes::Bytes;
use rand_chacha::ChaCha20Rng;
use rand_core::{RngCore, SeedableRng};
use std::{
    collections::VecDeque,
    net::{IpAddr, SocketAddr},
    time::{Duration, Instant},
};

/// Most connections and greetings on one endpoint.
pub const MAX_CONNECTIONS: usize = 4096;
const MAX_REPLIES: usize = 256;
const MAX_EVENTS: usize = 4096;

/// Protocol state of one UDP socket.
#[derive(Debug)]
pub struct Endpoint {
    epoch: Instant,
    start_us: i64,
    pub(super) local: IpAddr,
    pub(super) rng: ChaCha20Rng,
    pub(super) listener: Option<Listener>,
    pub(super) entries: Entries,
    due: Vec<Slot>,
    /// Entries that greet.
    greetings: usize,
    /// Those of them whose peer's keys are to be checked.
    pub(super) greeting_checks: VecDeque<u32>,
    /// Handshakes, to whom, and to which socket there.
    replies: VecDeque<(SocketAddr, Box<Handshake>, u32)>,
    events: VecDeque<Event>,
    deliveries: VecDeque<Delivery>,
    pub(super) stats: EndpointStats,
}

impl Endpoint {
    /// An endpoint on `local`, whose clock starts `now`. The seed makes ids, cookies and keys: it
    /// must come from the system's randomness, in tests from anywhere.
    #[must_use]
    pub fn new(local: IpAddr, now: Instant, seed: [u8; 32]) -> Self {
        Self::with_clock(local, now, seed, 0)
    }

    /// As `new`, with a clock that has run for `start_us` µs already. For tests of the timestamp
    /// wrap.
    #[must_use]
    pub fn with_clock(local: IpAddr, now: Instant, seed: [u8; 32], start_us: u64) -> Self {
        Self {
            epoch: now,
            start_us: i64::try_from(start_us).unwrap_or(0),
            local,
            rng: ChaCha20Rng::from_seed(seed),
            listener: None,
            entries: Entries::default(),
            due: Vec::new(),
            greetings: 0,
            greeting_checks: VecDeque::new(),
            replies: VecDeque::new(),
            events: VecDeque::new(),
            deliveries: VecDeque::new(),
            stats: EndpointStats::default(),
        }
    }

    /// The clock by which this endpoint is driven has stood still for so long, as that of a machine
    /// that sleeps does. The peers' have not: what was due meanwhile is due now.
    pub fn note_pause(&mut self, time: Duration) {
        self.start_us = self.start_us.saturating_add(i64::try_from(time.as_micros()).unwrap_or(i64::MAX / 4));
    }

    pub(super) fn us(&self, now: Instant) -> i64 {
        self.start_us + i64::try_from(now.saturating_duration_since(self.epoch).as_micros()).unwrap_or(i64::MAX / 4)
    }
    fn instant(&self, us: i64) -> Instant {
        self.epoch + Duration::from_micros(u64::try_from(us.saturating_sub(self.start_us)).unwrap_or(0))
    }

    // ---- commands

    /// Adds a rule, or replaces the one of the same number; the first one makes this a listener.
    pub fn listen(&mut self, rule: AcceptRule) {
        if self.listener.is_none() {
            let mut secret = [0; 32];
            self.rng.fill_bytes(&mut secret);
            let id = self.draw_id();
            self.listener = Some(Listener::new(id, secret));
        }
        if let Some(listener) = &mut self.listener {
            listener.rules.retain(|r| r.id != rule.id);
            listener.rules.push(rule);
        }
    }

    /// Lets no more callers in by a rule. Those who are in stay until they are closed.
    pub fn stop_listening(&mut self, id: RuleId) {
        if let Some(listener) = &mut self.listener {
            listener.rules.retain(|r| r.id != id);
        }
    }

    /// Calls a listener.
    pub fn call(&mut self, now: Instant, peer: SocketAddr, config: LinkConfig) -> ConnId {
        let keys = self.draw_keys(&config);
        self.greet(now, peer, config, keys, false)
    }

    /// Meets a peer that does the same.
    pub fn meet(&mut self, now: Instant, peer: SocketAddr, config: LinkConfig) -> ConnId {
        let keys = self.draw_keys(&config);
        self.greet(now, peer, config, keys, true)
    }

    fn draw_keys(&mut self, config: &LinkConfig) -> Option<CallKeys> {
        let mut seed = [0; 32];
        self.rng.fill_bytes(&mut seed);
        CallKeys::draw(config, seed)
    }

    /// Calls or meets a peer, with keys that were drawn elsewhere: on a thread that may take the
    /// time.
    pub fn greet(&mut self, now: Instant, peer: SocketAddr, config: LinkConfig, keys: Option<CallKeys>, rendezvous: bool) -> ConnId {
        let (id, now) = (self.draw_id(), self.us(now));
        let greeting = Greeting::new(config, keys, id, now, &mut self.rng, rendezvous);
        self.insert(Entry::new(id, peer, None, Phase::Greeting(Box::new(greeting)), None))
    }

    /// Hands in one payload of at most [`super::PAYLOAD_MAX`] bytes.
    ///
    /// # Errors
    /// Not connected, too large, or the window is full (then it counts as dropped).
    pub fn send(&mut self, now: Instant, conn: ConnId, payload: Bytes) -> Result<(), SendError> {
        self.send_from(now, 0, conn, payload)
    }

    /// The same for a payload whose time (its timestamp, by which the peer releases it) was so many
    /// µs before `now`; after it, if negative.
    ///
    /// # Errors
    /// As [`Self::send`].
    pub fn send_from(&mut self, now: Instant, age_us: i64, conn: ConnId, payload: Bytes) -> Result<(), SendError> {
        let now = self.us(now);
        match self.entry(conn).map(|e| &mut e.phase) {
            Some(Phase::Up(c)) => c.send(now, now.saturating_sub(age_us), payload),
            _ => Err(SendError::NotConnected),
        }
    }

    /// Closes after everything sent has arrived or is too late.
    pub fn finish(&mut self, now: Instant, conn: ConnId) {
        let now = self.us(now);
        self.end(conn, |c| c.finish(now));
    }

    /// Closes at once, saying goodbye.
    pub fn close(&mut self, conn: ConnId) {
        self.end(conn, |c| c.close(CloseReason::Closed));
    }

    fn end(&mut self, conn: ConnId, how: impl FnOnce(&mut Connection)) {
        let Some(slot) = self.entries.slot_of(conn.0) else { return };
        let Some(entry) = self.entries.touch(slot) else { return };
        match &mut entry.phase {
            Phase::Up(c) => how(c),
            Phase::Greeting(_) => entry.over = true,
        }
        self.entries.note_ending(slot);
        self.sweep();
    }

    // ---- getters

    /// Counters of one connection.
    #[must_use]
    pub fn link_stats(&self, conn: ConnId) -> Option<LinkStats> {
        self.connection(conn).map(Connection::stats)
    }

    /// What happened on a connection since the last call.
    pub fn take_glance(&mut self, now: Instant, conn: ConnId) -> Option<Glance> {
        let now = self.us(now);
        match &mut self.entry(conn)?.phase {
            Phase::Up(c) => Some(c.take_glance(now)),
            Phase::Greeting(_) => None,
        }
    }

    /// Counters of the socket.
    #[must_use]
    pub fn stats(&self) -> EndpointStats {
        self.stats
    }

    /// Connections that are up.
    pub fn connections(&self) -> impl Iterator<Item = ConnId> {
        self.entries.iter().filter(|(_, e)| matches!(e.phase, Phase::Up(_)) && !e.over).map(|(_, e)| e.conn())
    }

    fn connection(&self, conn: ConnId) -> Option<&Connection> {
        match &self.entries.get(self.entries.slot_of(conn.0)?)?.phase {
            Phase::Up(c) => Some(c),
            Phase::Greeting(_) => None,
        }
    }

    fn entry(&mut self, conn: ConnId) -> Option<&mut Entry> {
        self.entries.touch(self.entries.slot_of(conn.0)?)
    }

    // ---- bookkeeping

    pub(super) fn draw_id(&mut self) -> u32 {
        loop {
            let id = self.rng.next_u32() >> 2;
            let listening = self.listener.as_ref().is_some_and(|l| l.id == id);
            if id != 0 && !listening && self.entries.slot_of(id).is_none() {
                return id;
            }
        }
    }

    pub(super) fn insert(&mut self, entry: Entry) -> ConnId {
        self.greetings += usize::from(matches!(entry.phase, Phase::Greeting(_)));
        let conn = entry.conn();
        self.entries.insert(entry);
        conn
    }

    pub(super) fn push_event(&mut self, event: Event) {
        tracing::debug!(?event, "event");
        // Refusals are what a stranger can cause; they give way first.
        if self.events.len() < MAX_EVENTS || !matches!(event, Event::Refused { .. }) {
            self.events.push_back(event);
        }
    }

    /// Tells of what has ended, and removes what has said its goodbye.
    pub(super) fn sweep(&mut self) {
        for slot in self.entries.take_ending() {
            let Some(entry) = self.entries.touch(slot) else { continue };
            if let (Phase::Up(c), false) = (&entry.phase, entry.over)
                && let Some(reason) = c.closed()
            {
                entry.over = true;
                let stats = c.stats();
                let key_state = Some(stats.key_state);
                let (conn, rule) = (entry.conn(), entry.rule);
                self.push_event(Event::Closed { conn, rule, reason, key_state, stats: Some(Box::new(stats)) });
            }
            let Some(entry) = self.entries.get(slot).filter(|e| e.over) else { continue };
            let waits = match &entry.phase {
                Phase::Up(c) => c.wants_transmit(i64::MIN),
                Phase::Greeting(g) => g.has_farewell(),
            };
            if waits {
                self.entries.note_ending(slot);
            } else if let Some(gone) = self.entries.remove(slot) {
                self.greetings -= usize::from(matches!(gone.phase, Phase::Greeting(_)));
            }
        }
    }

    // ---- input

    /// Takes one datagram. Junk is counted and dropped.
    pub fn handle_datagram(&mut self, now: Instant, from: SocketAddr, data: &[u8]) {
        self.stats.datagrams += 1;
        let us = self.us(now);
        let taken = match Packet::parse(data) {
            Ok(Packet::Data(header, payload)) => match self.up(header.destination, from, us) {
                Some((_, c)) => {
                    c.handle_data(us, &header, payload);
                    if let Some(us) = c.take_jump() {
                        self.push_event(Event::ClockJumped { conn: ConnId(header.destination), us });
                    }
                    true
                }
                None => false,
            },
            Ok(Packet::Control { control: Control::Handshake(h), timestamp, destination }) => {
                self.handle_handshake(us, from, &h, timestamp, destination)
            }
            Ok(Packet::Control { control, timestamp, destination }) => match self.up(destination, from, us) {
                Some((slot, c)) => {
                    c.handle_control(us, control, timestamp);
                    if c.closed().is_some() {
                        self.entries.note_ending(slot);
                    }
                    true
                }
                None => false,
            },
            Err(_) => false,
        };
        if !taken {
            tracing::trace!(%from, bytes = data.len(), "junk");
            self.stats.junk += 1;
            if self.greetings > 0 {
                for (_, entry) in self.entries.iter_mut().filter(|(_, e)| e.peer == from) {
                    if let Phase::Greeting(g) = &mut entry.phase {
                        g.note_junk();
                    }
                }
            }
        }
    }

    /// The connection that a packet from this peer is for; an answering rendezvous end is joined by
    /// it.
    fn up(&mut self, id: u32, from: SocketAddr, now: i64) -> Option<(Slot, &mut Connection)> {
        let slot = self.entries.slot_of(id)?;
        let entry = self.entries.get(slot).filter(|e| e.peer == from && !e.over)?;
        if matches!(entry.phase, Phase::Greeting(_))
            && let Phase::Greeting(g) = &mut self.entries.touch(slot)?.phase
        {
            let step = g.handle_first_packet();
            self.apply(slot, step, now);
        }
        match &mut self.entries.touch(slot)?.phase {
            Phase::Up(c) => Some((slot, c)),
            Phase::Greeting(_) => None,
        }
    }

    /// The system reported that nobody listens at `peer` (ICMP port unreachable).
    pub fn handle_unreachable(&mut self, peer: SocketAddr) {
        let at_peer: Vec<Slot> = self.entries.iter().filter(|(_, e)| e.peer == peer).map(|(slot, _)| slot).collect();
        for slot in at_peer {
            if let Some(entry) = self.entries.touch(slot)
                && let Phase::Greeting(g) = &mut entry.phase
                && g.note_unreachable()
            {
                let conn = entry.conn();
                self.push_event(Event::Unreachable { conn });
            }
        }
    }

    fn handle_handshake(&mut self, now: i64, from: SocketAddr, h: &Handshake, timestamp: u32, destination: u32) -> bool {
        let for_listener = self.listener.as_ref().is_some_and(|l| destination == 0 || destination == l.id);
        if for_listener && matches!(h.kind, HandshakeType::Induction | HandshakeType::Conclusion) && self.listen_to(now, from, h, timestamp)
        {
            return true;
        }
        let by_id = self.entries.slot_of(destination).filter(|&slot| self.entries.get(slot).is_some_and(|e| e.peer == from));
        // A peer that this end meets does not know our id at first. One that is called does.
        let meets = |e: &Entry| matches!(&e.phase, Phase::Greeting(g) if g.is_rendezvous());
        let unnamed = |what: &dyn Fn(&Entry) -> bool| {
            let found = self.entries.iter().find(|(_, e)| destination == 0 && e.peer == from && !e.over && what(e));
            found.map(|(slot, _)| slot)
        };
        let Some(slot) = by_id.or_else(|| unnamed(&meets)) else {
            let met = |e: &Entry| e.rule.is_none() && matches!(e.phase, Phase::Up(_));
            let met = if h.kind == HandshakeType::Waveahand { unnamed(&met) } else { None };
            met.into_iter().for_each(|slot| self.handle_wave(now, slot, h.socket_id));
            return met.is_some();
        };
        let Some(entry) = self.entries.touch(slot) else { return false };
        match &mut entry.phase {
            Phase::Greeting(g) => {
                let step = g.handle(now, h, timestamp);
                self.apply(slot, step, now);
            }
            Phase::Up(c) => {
                if let (HandshakeType::Conclusion, Some((reply, to))) = (h.kind, &entry.reply)
                    && c.peer_id() == h.socket_id
                {
                    c.note_heard(now);
                    let (reply, to) = (reply.clone(), *to);
                    self.reply(from, reply, to);
                }
            }
        }
        true
    }

    /// The peer of a connection waves. Under its old ID that has been under way for long; under
    /// another it has begun anew, if it is silent besides: anybody can send a wave.
    fn handle_wave(&mut self, now: i64, slot: Slot, peer_id: u32) {
        let Some(Phase::Up(c)) = self.entries.touch(slot).map(|e| &mut e.phase) else { return };
        if c.peer_id() != peer_id && c.closed().is_none() && c.seems_gone(now) {
            c.drop_quietly(CloseReason::BegunAnew);
            self.entries.note_ending(slot);
            self.sweep();
        }
    }

    /// Carries out what a greeting's step led to.
    pub(super) fn apply(&mut self, slot: Slot, step: Step, now: i64) {
        let mut seed = [0; 32];
        let Some(entry) = self.entries.touch(slot) else { return };
        let Phase::Greeting(g) = &mut entry.phase else { return };
        match step {
            Step::Stay => {}
            Step::Check => self.greeting_checks.push_back(g.id),
            Step::Joined(agreed) => {
                self.rng.fill_bytes(&mut seed);
                let peer_id = agreed.peer_id;
                let agreement = g.agreement(self.local);
                let c = Connection::new(&g.config, *agreed, now, ChaCha20Rng::from_seed(seed));
                let stream_id = g.config.stream_id.clone();
                entry.phase = Phase::Up(Box::new(c));
                self.greetings -= 1;
                entry.reply = agreement.clone().map(|a| (a, peer_id));
                let (conn, rule, peer) = (entry.conn(), entry.rule, entry.peer);
                if let Some(a) = agreement {
                    self.reply(peer, a, peer_id);
                }
                self.push_event(Event::Joined(Joined { conn, rule, peer, stream_id }));
            }
            Step::Failed(reason, key_state) => {
                entry.over = true;
                let (conn, rule) = (entry.conn(), entry.rule);
                self.entries.note_ending(slot);
                self.push_event(Event::Closed { conn, rule, reason, key_state, stats: None });
            }
        }
    }

    pub(super) fn reply(&mut self, to: SocketAddr, h: Handshake, destination: u32) {
        if self.replies.len() < MAX_REPLIES {
            self.replies.push_back((to, Box::new(h), destination));
        }
    }

    // ---- time

    /// Acts on every deadline that has passed and releases what is due; an extra call does nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        self.handle_timeout_ahead(now, Duration::ZERO);
    }

    /// The same for a driver that looks only now and then: what would be due so soon behind `now`
    /// is released as well, unless something is missing before it.
    pub fn handle_timeout_ahead(&mut self, now: Instant, ahead: Duration) {
        let (us, ahead) = (self.us(now), i64::try_from(ahead.as_micros()).unwrap_or(0));
        let mut due = std::mem::take(&mut self.due);
        self.entries.take_due(us + ahead, &mut due);
        for slot in due.drain(..) {
            let Some(entry) = self.entries.touch(slot).filter(|e| !e.over) else { continue };
            match &mut entry.phase {
                Phase::Greeting(g) => {
                    let step = g.handle_timeout(us);
                    self.apply(slot, step, us);
                }
                // It may only have changed.
                Phase::Up(c) if c.closed().is_some() => {}
                Phase::Up(c) => {
                    let conn = ConnId(entry.id);
                    while let Some(r) = c.poll_release(us, ahead) {
                        let due = self.epoch + Duration::from_micros(u64::try_from(r.due - self.start_us).unwrap_or(0));
                        self.deliveries.push_back(Delivery { conn, seq: r.seq, payload: r.held.payload, due, skipped: r.skipped });
                    }
                    c.handle_timeout(us);
                    if c.closed().is_some() {
                        self.entries.note_ending(slot);
                    }
                }
            }
        }
        self.due = due;
        if self.entries.has_ending() {
            self.sweep();
        }
    }

    // ---- output

    /// Appends the next datagrams to `buf`, at most `max` of them in one go. Call until it gives
    /// `None`.
    pub fn poll_transmit(&mut self, now: Instant, max: usize, buf: &mut Vec<u8>) -> Option<Transmit> {
        let us = self.us(now);
        let start = buf.len();
        if let Some((to, h, destination)) = self.replies.pop_front() {
            // With the time at which it leaves: by that the peer reckons when media is due.
            Control::Handshake(h).encode(us as u32, destination, buf);
            return Some(Transmit { to, size: buf.len() - start, segment: None });
        }
        while let Some((slot, entry)) = self.entries.first_sending() {
            let to = entry.peer;
            let wants = match &entry.phase {
                Phase::Greeting(g) => !entry.over || g.has_farewell(),
                Phase::Up(c) => c.wants_transmit(us),
            };
            let phase = if wants { self.entries.touch(slot).map(|e| &mut e.phase) } else { None };
            let segment = match phase {
                Some(Phase::Greeting(g)) => g.poll_transmit(us, self.local, buf).then(|| buf.len() - start),
                Some(Phase::Up(c)) => c.poll_transmit(us, max, buf),
                None => None,
            };
            if let Some(segment) = segment {
                let size = buf.len() - start;
                return Some(Transmit { to, size, segment: (size > segment).then_some(segment) });
            }
            self.entries.has_sent();
        }
        if self.entries.has_ending() {
            self.sweep();
        }
        None
    }

    /// The next event.
    pub fn poll_event(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    /// The next payload, in order within its connection. Released by [`Self::handle_timeout`].
    pub fn poll_delivery(&mut self) -> Option<Delivery> {
        self.deliveries.pop_front()
    }

    /// When to call [`Self::handle_timeout`] next.
    #[must_use]
    pub fn poll_timeout(&mut self) -> Option<Instant> {
        if self.entries.has_ending() {
            return Some(self.epoch);
        }
        let keys = self.listener.as_ref().and_then(|l| l.keys.poll_timeout());
        let at = self.entries.next_deadline().into_iter().chain(keys).min()?;
        Some(self.instant(at))
    }
}
