//! One UDP socket's worth of SRT: tells connections apart, greets, listens, and drives them all.

use super::{
    AcceptRule, CloseReason, ConnId, Delivery, EndpointStats, Event, Headroom, Joined, LinkConfig, LinkStats, RuleId, SendError, Transmit,
    connection::Connection,
    handshake::{Greeting, Step},
    listener::Listener,
    wire::{Control, Handshake, HandshakeType, Packet},
};
use bytes::Bytes;
use rand_chacha::ChaCha20Rng;
use rand_core::{RngCore, SeedableRng};
use std::{
    collections::{HashMap, VecDeque},
    net::{IpAddr, SocketAddr},
    time::{Duration, Instant},
};

/// Most connections and greetings on one endpoint.
pub const MAX_CONNECTIONS: usize = 4096;
const MAX_REPLIES: usize = 256;
const MAX_EVENTS: usize = 4096;

#[derive(Debug)]
pub(super) enum Phase {
    Greeting(Box<Greeting>),
    Up(Box<Connection>),
}

#[derive(Debug)]
pub(super) struct Entry {
    pub(super) id: u32,
    pub(super) peer: SocketAddr,
    pub(super) rule: Option<RuleId>,
    pub(super) phase: Phase,
    /// Handshake to repeat when the peer missed it: the conclusion response, or the agreement.
    pub(super) reply: Option<(Handshake, u32)>,
    pub(super) deadline: i64,
    pub(super) over: bool,
    /// When it was made.
    pub(super) since: i64,
    /// What a caller sent.
    pub(super) stream_id: Option<String>,
}

impl Entry {
    fn refresh_deadline(&mut self) {
        self.deadline = match &self.phase {
            Phase::Greeting(g) => g.poll_timeout(),
            Phase::Up(c) => c.poll_timeout().unwrap_or(i64::MAX),
        };
    }
}

/// Protocol state of one UDP socket.
#[derive(Debug)]
pub struct Endpoint {
    epoch: Instant,
    start_us: i64,
    pub(super) local: IpAddr,
    pub(super) rng: ChaCha20Rng,
    pub(super) listener: Option<Listener>,
    pub(super) entries: Vec<Entry>,
    index: HashMap<u32, usize>,
    cursor: usize,
    replies: VecDeque<(SocketAddr, Vec<u8>)>,
    events: VecDeque<Event>,
    deliveries: VecDeque<Delivery>,
    pub(super) stats: EndpointStats,
}

impl Endpoint {
    /// An endpoint on `local`, whose clock starts `now`. The seed makes ids, cookies and keys: it must
    /// come from the system's randomness, in tests from anywhere.
    #[must_use]
    pub fn new(local: IpAddr, now: Instant, seed: [u8; 32]) -> Self {
        Self::with_clock(local, now, seed, 0)
    }

    /// As `new`, with a clock that has run for `start_us` µs already. For tests of the timestamp wrap.
    #[must_use]
    pub fn with_clock(local: IpAddr, now: Instant, seed: [u8; 32], start_us: u64) -> Self {
        Self {
            epoch: now,
            start_us: i64::try_from(start_us).unwrap_or(0),
            local,
            rng: ChaCha20Rng::from_seed(seed),
            listener: None,
            entries: Vec::new(),
            index: HashMap::new(),
            cursor: 0,
            replies: VecDeque::new(),
            events: VecDeque::new(),
            deliveries: VecDeque::new(),
            stats: EndpointStats::default(),
        }
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
        let (id, now) = (self.draw_id(), self.us(now));
        let greeting = Greeting::caller(config, id, now, &mut self.rng);
        self.insert(id, peer, None, Phase::Greeting(Box::new(greeting)), None)
    }

    /// Meets a peer that does the same.
    pub fn meet(&mut self, now: Instant, peer: SocketAddr, config: LinkConfig) -> ConnId {
        let (id, now) = (self.draw_id(), self.us(now));
        let greeting = Greeting::rendezvous(config, id, now, &mut self.rng);
        self.insert(id, peer, None, Phase::Greeting(Box::new(greeting)), None)
    }

    /// Hands in one payload of at most [`super::PAYLOAD_MAX`] bytes.
    ///
    /// # Errors
    /// Not connected, too large, or the window is full (then it counts as dropped).
    pub fn send(&mut self, now: Instant, conn: ConnId, payload: Bytes) -> Result<(), SendError> {
        let now = self.us(now);
        let entry = self.index.get(&conn.0).and_then(|&i| self.entries.get_mut(i)).ok_or(SendError::NotConnected)?;
        let Phase::Up(c) = &mut entry.phase else { return Err(SendError::NotConnected) };
        let result = c.send(now, now, payload);
        entry.refresh_deadline();
        result
    }

    /// Closes after everything sent has arrived or is too late.
    pub fn finish(&mut self, now: Instant, conn: ConnId) {
        let now = self.us(now);
        if let Some(entry) = self.entry(conn) {
            match &mut entry.phase {
                Phase::Up(c) => c.finish(now),
                Phase::Greeting(_) => entry.over = true,
            }
            entry.refresh_deadline();
        }
        self.sweep();
    }

    /// Closes at once, saying goodbye.
    pub fn close(&mut self, conn: ConnId) {
        if let Some(entry) = self.entry(conn) {
            match &mut entry.phase {
                Phase::Up(c) => c.close(CloseReason::Closed),
                Phase::Greeting(_) => entry.over = true,
            }
            entry.refresh_deadline();
        }
        self.sweep();
    }

    // ---- getters

    /// Counters of one connection.
    #[must_use]
    pub fn link_stats(&self, conn: ConnId) -> Option<LinkStats> {
        self.connection(conn).map(Connection::stats)
    }

    /// Headroom since the last call, for one connection; `None` when nothing came.
    pub fn take_headroom(&mut self, conn: ConnId) -> Option<Headroom> {
        match &mut self.entry(conn)?.phase {
            Phase::Up(c) => c.take_headroom(),
            Phase::Greeting(_) => None,
        }
    }

    /// Age of the oldest packet that was sent on a connection and is not acknowledged; zero when there is none.
    #[must_use]
    pub fn unacknowledged(&self, now: Instant, conn: ConnId) -> Duration {
        let age = self.connection(conn).map_or(0, |c| c.unacknowledged(self.us(now)));
        Duration::from_micros(age as u64)
    }

    /// Counters of the socket.
    #[must_use]
    pub fn stats(&self) -> EndpointStats {
        self.stats
    }

    /// Connections that are up.
    pub fn connections(&self) -> impl Iterator<Item = ConnId> {
        self.entries.iter().filter(|e| matches!(e.phase, Phase::Up(_)) && !e.over).map(|e| ConnId(e.id))
    }

    fn connection(&self, conn: ConnId) -> Option<&Connection> {
        match &self.entries.get(*self.index.get(&conn.0)?)?.phase {
            Phase::Up(c) => Some(c),
            Phase::Greeting(_) => None,
        }
    }

    fn entry(&mut self, conn: ConnId) -> Option<&mut Entry> {
        self.entries.get_mut(*self.index.get(&conn.0)?)
    }

    // ---- bookkeeping

    pub(super) fn draw_id(&mut self) -> u32 {
        loop {
            let id = self.rng.next_u32() >> 2;
            let listening = self.listener.as_ref().is_some_and(|l| l.id == id);
            if id != 0 && !listening && !self.index.contains_key(&id) {
                return id;
            }
        }
    }

    pub(super) fn insert(
        &mut self,
        id: u32,
        peer: SocketAddr,
        rule: Option<RuleId>,
        phase: Phase,
        reply: Option<(Handshake, u32)>,
    ) -> ConnId {
        let since = match &phase {
            Phase::Up(c) => c.since(),
            Phase::Greeting(_) => 0,
        };
        let mut entry = Entry { id, peer, rule, phase, reply, deadline: 0, over: false, since, stream_id: None };
        entry.refresh_deadline();
        self.index.insert(id, self.entries.len());
        self.entries.push(entry);
        ConnId(id)
    }

    pub(super) fn push_event(&mut self, event: Event) {
        tracing::debug!(?event, "event");
        // Refusals are what a stranger can cause; they give way first.
        if self.events.len() < MAX_EVENTS || !matches!(event, Event::Refused { .. }) {
            self.events.push_back(event);
        }
    }

    /// Removes what is over and has said its goodbye.
    pub(super) fn sweep(&mut self) {
        let mut i = 0;
        while i < self.entries.len() {
            let entry = &mut self.entries[i];
            if let (Phase::Up(c), false) = (&entry.phase, entry.over)
                && let Some(reason) = c.closed()
            {
                entry.over = true;
                let stats = c.stats();
                let key_state = Some(stats.key_state);
                let (conn, rule) = (ConnId(entry.id), entry.rule);
                self.push_event(Event::Closed { conn, rule, reason, key_state, stats: Some(Box::new(stats)) });
                continue;
            }
            let done = entry.over
                && match &entry.phase {
                    Phase::Up(c) => !c.wants_transmit(i64::MIN),
                    Phase::Greeting(g) => !g.has_farewell(),
                };
            if done {
                self.index.remove(&entry.id);
                self.entries.swap_remove(i);
                if let Some(moved) = self.entries.get(i) {
                    self.index.insert(moved.id, i);
                }
                self.cursor = 0;
            } else {
                i += 1;
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
                Some((c, deadline)) => {
                    c.handle_data(us, &header, payload);
                    *deadline = c.poll_timeout().unwrap_or(i64::MAX);
                    true
                }
                None => false,
            },
            Ok(Packet::Control { control: Control::Handshake(h), timestamp, destination }) => {
                self.handle_handshake(us, from, &h, timestamp, destination)
            }
            Ok(Packet::Control { control, timestamp, destination }) => match self.up(destination, from, us) {
                Some((c, deadline)) => {
                    let goodbye = matches!(control, Control::Shutdown);
                    c.handle_control(us, control, timestamp);
                    *deadline = if goodbye { us } else { c.poll_timeout().unwrap_or(i64::MAX) };
                    true
                }
                None => false,
            },
            Err(_) => false,
        };
        if !taken {
            tracing::trace!(%from, bytes = data.len(), "junk");
            self.stats.junk += 1;
        }
    }

    /// The connection that a packet from this peer is for; an answering rendezvous end is joined by it.
    fn up(&mut self, id: u32, from: SocketAddr, now: i64) -> Option<(&mut Connection, &mut i64)> {
        let &i = self.index.get(&id)?;
        if self.entries[i].peer != from || self.entries[i].over {
            return None;
        }
        if let Phase::Greeting(g) = &mut self.entries[i].phase {
            let step = g.handle_first_packet();
            self.apply(i, step, now);
        }
        let entry = self.entries.get_mut(i)?;
        match &mut entry.phase {
            Phase::Up(c) => Some((c, &mut entry.deadline)),
            Phase::Greeting(_) => None,
        }
    }

    /// The system reported that nobody listens at `peer` (ICMP port unreachable).
    pub fn handle_unreachable(&mut self, peer: SocketAddr) {
        let told = |e: &mut Entry| match &mut e.phase {
            Phase::Greeting(g) if e.peer == peer => g.note_unreachable().then_some(ConnId(e.id)),
            _ => None,
        };
        let told: Vec<ConnId> = self.entries.iter_mut().filter_map(told).collect();
        told.into_iter().for_each(|conn| self.push_event(Event::Unreachable { conn }));
    }

    fn handle_handshake(&mut self, now: i64, from: SocketAddr, h: &Handshake, timestamp: u32, destination: u32) -> bool {
        let for_listener = self.listener.as_ref().is_some_and(|l| destination == 0 || destination == l.id);
        if for_listener && matches!(h.kind, HandshakeType::Induction | HandshakeType::Conclusion) && self.listen_to(now, from, h, timestamp)
        {
            return true;
        }
        let by_id = self.index.get(&destination).copied().filter(|&i| self.entries[i].peer == from);
        // A rendezvous peer does not know our id at first.
        let found = by_id.or_else(|| (destination == 0).then(|| self.entries.iter().position(|e| e.peer == from && !e.over)).flatten());
        let Some(i) = found else { return false };
        let entry = &mut self.entries[i];
        match &mut entry.phase {
            Phase::Greeting(g) => {
                let step = g.handle(now, h, timestamp);
                self.apply(i, step, now);
            }
            Phase::Up(c) => {
                if let (HandshakeType::Conclusion, Some((reply, to))) = (h.kind, &entry.reply)
                    && c.peer_id() == h.socket_id
                {
                    c.note_heard(now);
                    let (reply, to) = (reply.clone(), *to);
                    self.reply(now, from, reply, to);
                }
            }
        }
        true
    }

    /// Carries out what a greeting's step led to.
    fn apply(&mut self, i: usize, step: Step, now: i64) {
        let mut seed = [0; 32];
        let entry = &mut self.entries[i];
        let Phase::Greeting(g) = &mut entry.phase else { return };
        match step {
            Step::Stay => entry.refresh_deadline(),
            Step::Joined(agreed) => {
                self.rng.fill_bytes(&mut seed);
                let peer_id = agreed.peer_id;
                let agreement = g.agreement(self.local);
                let c = Connection::new(&g.config, *agreed, now, ChaCha20Rng::from_seed(seed));
                let stream_id = g.config.stream_id.clone();
                entry.phase = Phase::Up(Box::new(c));
                entry.reply = agreement.clone().map(|a| (a, peer_id));
                entry.refresh_deadline();
                let (conn, rule, peer) = (ConnId(entry.id), entry.rule, entry.peer);
                if let Some(a) = agreement {
                    self.reply(now, peer, a, peer_id);
                }
                self.push_event(Event::Joined(Joined { conn, rule, peer, stream_id }));
            }
            Step::Failed(reason, key_state) => {
                entry.over = true;
                entry.deadline = now;
                let (conn, rule) = (ConnId(entry.id), entry.rule);
                self.push_event(Event::Closed { conn, rule, reason, key_state, stats: None });
            }
        }
    }

    pub(super) fn reply(&mut self, now: i64, to: SocketAddr, h: Handshake, destination: u32) {
        if self.replies.len() < MAX_REPLIES {
            let mut data = Vec::with_capacity(256);
            Control::Handshake(Box::new(h)).encode(now as u32, destination, &mut data);
            self.replies.push_back((to, data));
        }
    }

    // ---- time

    /// Acts on every deadline that has passed and releases what is due; an extra call does nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        let us = self.us(now);
        let mut ended = false;
        for i in 0..self.entries.len() {
            if self.entries[i].deadline > us {
                continue;
            }
            let entry = &mut self.entries[i];
            match &mut entry.phase {
                Phase::Greeting(g) => {
                    if !entry.over {
                        let step = g.handle_timeout(us);
                        self.apply(i, step, us);
                    }
                    ended |= self.entries[i].over;
                }
                Phase::Up(c) => {
                    let conn = ConnId(entry.id);
                    while let Some(r) = c.poll_release(us) {
                        let due = self.epoch + Duration::from_micros(u64::try_from(r.due - self.start_us).unwrap_or(0));
                        self.deliveries.push_back(Delivery { conn, seq: r.seq, payload: r.held.payload, due, skipped: r.skipped });
                    }
                    c.handle_timeout(us);
                    ended |= c.closed().is_some();
                    entry.refresh_deadline();
                }
            }
        }
        if ended || self.entries.iter().any(|e| e.over) {
            self.sweep();
        }
    }

    // ---- output

    /// Appends the next datagrams to `buf`, at most `max` of them in one go. Call until it gives `None`.
    pub fn poll_transmit(&mut self, now: Instant, max: usize, buf: &mut Vec<u8>) -> Option<Transmit> {
        if let Some((to, data)) = self.replies.pop_front() {
            buf.extend_from_slice(&data);
            return Some(Transmit { to, size: data.len(), segment: None });
        }
        let us = self.us(now);
        while self.cursor < self.entries.len() {
            let entry = &mut self.entries[self.cursor];
            let start = buf.len();
            let segment = match &mut entry.phase {
                Phase::Greeting(g) => {
                    let wrote = (!entry.over || g.has_farewell()) && g.poll_transmit(us, self.local, buf);
                    wrote.then(|| buf.len() - start)
                }
                Phase::Up(c) if c.wants_transmit(us) => c.poll_transmit(us, max, buf),
                Phase::Up(_) => {
                    self.cursor += 1;
                    continue;
                }
            };
            entry.refresh_deadline();
            match segment {
                Some(segment) => {
                    let size = buf.len() - start;
                    return Some(Transmit { to: entry.peer, size, segment: (size > segment).then_some(segment) });
                }
                None => self.cursor += 1,
            }
        }
        self.cursor = 0;
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
    pub fn poll_timeout(&self) -> Option<Instant> {
        let keys = self.listener.as_ref().and_then(|l| l.keys.poll_timeout());
        let at = self.entries.iter().map(|e| e.deadline).chain(keys).min()?;
        (at < i64::MAX).then(|| self.instant(at))
    }
}
