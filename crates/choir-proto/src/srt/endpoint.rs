//! One UDP socket's worth of SRT: tells connections apart, greets, listens, and drives them all.

use super::{
    AcceptRule, CloseReason, KeyState, LinkConfig, LinkStats, RejectReason, RuleId, SendError, Seq, Window,
    connection::Connection,
    handshake::{self, Greeting, Step},
    listener::Listener,
    wire::{Control, Extension, Handshake, HandshakeType, Packet},
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
/// A caller that comes back takes the place of its silent forerunner after this long.
const REPLACE_AFTER_US: i64 = 1_500_000;

/// A connection or greeting of one endpoint: its own socket id.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ConnId(pub u32);

/// What a new connection agreed on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Joined {
    /// The connection.
    pub conn: ConnId,
    /// The rule that let it in, at a listener.
    pub rule: Option<RuleId>,
    /// The peer.
    pub peer: SocketAddr,
    /// Stream ID that a caller sent.
    pub stream_id: Option<String>,
}

/// What the endpoint has to tell.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A connection is up.
    Joined(Joined),
    /// A connection or greeting is over.
    Closed {
        /// Which.
        conn: ConnId,
        /// The rule that had let it in.
        rule: Option<RuleId>,
        /// Why.
        reason: CloseReason,
        /// Encryption as it stood, when that was the trouble.
        key_state: Option<KeyState>,
        /// Counters at the end, if it had been up.
        stats: Option<Box<LinkStats>>,
    },
    /// The listener refused a caller.
    Refused {
        /// From where.
        from: SocketAddr,
        /// The rule that judged it, if its stream ID named one.
        rule: Option<RuleId>,
        /// What it asked for.
        stream_id: Option<String>,
        /// Why.
        reason: RejectReason,
        /// Encryption as it stood, when that was the trouble.
        key_state: Option<KeyState>,
    },
}

/// A payload whose time has come.
#[derive(Debug, Clone)]
pub struct Delivery {
    /// Connection it came by.
    pub conn: ConnId,
    /// Sequence number.
    pub seq: Seq,
    /// The bytes as they were sent.
    pub payload: Bytes,
    /// When it was due.
    pub due: Instant,
    /// Packets skipped just before it.
    pub skipped: u32,
}

/// Datagrams to send, all to one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[must_use]
pub struct Transmit {
    /// Destination.
    pub to: SocketAddr,
    /// Bytes appended to the buffer.
    pub size: usize,
    /// Size of each datagram when there are several; the last may be shorter.
    pub segment: Option<usize>,
}

/// Counters of the socket as a whole.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct EndpointStats {
    /// Datagrams handed in.
    pub datagrams: u64,
    /// Of those, not SRT, or for nobody here.
    pub junk: u64,
    /// Callers refused.
    pub refused: u64,
}

#[derive(Debug)]
enum Phase {
    Greeting(Box<Greeting>),
    Up(Box<Connection>),
}

#[derive(Debug)]
struct Entry {
    id: u32,
    peer: SocketAddr,
    rule: Option<RuleId>,
    phase: Phase,
    /// Handshake to repeat when the peer missed it: the conclusion response, or the agreement.
    reply: Option<(Handshake, u32)>,
    deadline: i64,
    over: bool,
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
    local: IpAddr,
    rng: ChaCha20Rng,
    listener: Option<Listener>,
    entries: Vec<Entry>,
    index: HashMap<u32, usize>,
    cursor: usize,
    replies: VecDeque<(SocketAddr, Vec<u8>)>,
    events: VecDeque<Event>,
    deliveries: VecDeque<Delivery>,
    stats: EndpointStats,
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

    fn us(&self, now: Instant) -> i64 {
        self.start_us + i64::try_from(now.saturating_duration_since(self.epoch).as_micros()).unwrap_or(i64::MAX / 4)
    }
    fn instant(&self, us: i64) -> Instant {
        self.epoch + Duration::from_micros(u64::try_from(us.saturating_sub(self.start_us)).unwrap_or(0))
    }

    // ---- commands

    /// Adds a rule; the first one makes this a listener.
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

    /// Takes a rule back; its connections stay until closed.
    pub fn unlisten(&mut self, rule: RuleId) {
        if let Some(listener) = &mut self.listener {
            listener.rules.retain(|r| r.id != rule);
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

    /// What happened since the last call, for one connection.
    pub fn take_window(&mut self, conn: ConnId) -> Option<Window> {
        match &mut self.entry(conn)?.phase {
            Phase::Up(c) => Some(c.take_window()),
            Phase::Greeting(_) => None,
        }
    }

    /// True when `send` would take a payload.
    #[must_use]
    pub fn may_send(&self, conn: ConnId) -> bool {
        self.connection(conn).is_some_and(Connection::may_send)
    }

    /// True when everything handed in has been acknowledged or given up.
    #[must_use]
    pub fn all_sent(&self, conn: ConnId) -> bool {
        self.connection(conn).is_none_or(Connection::all_sent)
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

    fn draw_id(&mut self) -> u32 {
        loop {
            let id = self.rng.next_u32() >> 2;
            let listening = self.listener.as_ref().is_some_and(|l| l.id == id);
            if id != 0 && !listening && !self.index.contains_key(&id) {
                return id;
            }
        }
    }

    fn insert(&mut self, id: u32, peer: SocketAddr, rule: Option<RuleId>, phase: Phase, reply: Option<(Handshake, u32)>) -> ConnId {
        let mut entry = Entry { id, peer, rule, phase, reply, deadline: 0, over: false };
        entry.refresh_deadline();
        self.index.insert(id, self.entries.len());
        self.entries.push(entry);
        ConnId(id)
    }

    fn push_event(&mut self, event: Event) {
        tracing::debug!(?event, "event");
        // Refusals are what a stranger can cause; they give way first.
        if self.events.len() < MAX_EVENTS || !matches!(event, Event::Refused { .. }) {
            self.events.push_back(event);
        }
    }

    /// Removes what is over and has said its goodbye.
    fn sweep(&mut self) {
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
        for entry in self.entries.iter_mut().filter(|e| e.peer == peer) {
            if let Phase::Greeting(g) = &mut entry.phase {
                g.note_unreachable();
            }
        }
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

    fn reply(&mut self, now: i64, to: SocketAddr, h: Handshake, destination: u32) {
        if self.replies.len() < MAX_REPLIES {
            let mut data = Vec::with_capacity(256);
            Control::Handshake(Box::new(h)).encode(now as u32, destination, &mut data);
            self.replies.push_back((to, data));
        }
    }

    /// A caller's induction or conclusion; false when it is not for the listener after all.
    fn listen_to(&mut self, now: i64, from: SocketAddr, h: &Handshake, timestamp: u32) -> bool {
        let local = self.local;
        let Some(listener) = &self.listener else { return false };
        if h.kind == HandshakeType::Induction {
            let response = listener.induction_response(from, h, now, local);
            self.reply(now, from, response, h.socket_id);
            return true;
        }
        if !listener.knows(from, h.cookie, now) {
            return false;
        }
        for entry in self.entries.iter_mut().filter(|e| !e.over && e.peer == from) {
            if let (Phase::Up(c), Some((reply, to))) = (&mut entry.phase, &entry.reply)
                && c.peer_id() == h.socket_id
            {
                c.note_heard(now);
                let (reply, to) = (reply.clone(), *to);
                self.reply(now, from, reply, to);
                return true;
            }
        }
        let stream_id = h.extensions.iter().find_map(|e| if let Extension::StreamId(s) = e { Some(s.clone()) } else { None });
        let Some(listener) = &mut self.listener else { return false };
        let Some(rule) = listener.rule_for(stream_id.as_deref()).cloned() else {
            self.refuse(now, from, h, None, stream_id, RejectReason::StreamIdUnknown, None);
            return true;
        };
        let keyed = h.extensions.iter().any(|e| matches!(e, Extension::KmReq(_)));
        if keyed && rule.config.passphrase.is_some() && !listener.may_judge_keys(now) {
            return true;
        }
        if self.entries.len() >= MAX_CONNECTIONS {
            self.refuse(now, from, h, Some(rule.id), stream_id, RejectReason::Backlog, None);
            return true;
        }
        let id = self.draw_id();
        let answer = match handshake::answer(h, &rule.config, now, timestamp, h.initial_seq) {
            Ok(answer) => answer,
            Err(refusal) => {
                self.refuse(now, from, h, Some(rule.id), stream_id, refusal.reason, refusal.key_state);
                return true;
            }
        };
        if !self.make_room(now, from, &rule) {
            self.refuse(now, from, h, Some(rule.id), stream_id, RejectReason::InUse, None);
            return true;
        }
        let mut response = handshake::message(HandshakeType::Conclusion, id, &rule.config, local);
        response.cookie = h.cookie;
        response.initial_seq = h.initial_seq;
        response.encryption = answer.encryption;
        response.extension_field = 1 | if answer.extensions.len() > 1 { 2 } else { 0 };
        response.extensions = answer.extensions;
        let mut seed = [0; 32];
        self.rng.fill_bytes(&mut seed);
        let c = Connection::new(&rule.config, answer.agreed, now, ChaCha20Rng::from_seed(seed));
        let conn = self.insert(id, from, Some(rule.id), Phase::Up(Box::new(c)), Some((response.clone(), h.socket_id)));
        self.reply(now, from, response, h.socket_id);
        self.push_event(Event::Joined(Joined { conn, rule: Some(rule.id), peer: from, stream_id }));
        true
    }

    /// True when the rule has room for one more. A caller that was killed and comes back takes the place
    /// of its own silent connection.
    fn make_room(&mut self, now: i64, from: SocketAddr, rule: &AcceptRule) -> bool {
        let holders = self.entries.iter_mut().filter(|e| !e.over && e.rule == Some(rule.id));
        let mut count = 0;
        let mut silent = None;
        for entry in holders {
            let Phase::Up(c) = &mut entry.phase else { continue };
            if c.closed().is_some() {
                continue;
            }
            count += 1;
            if entry.peer.ip() == from.ip() && c.silent_for(now) > REPLACE_AFTER_US {
                silent = Some(c);
            }
        }
        if count < rule.max_callers {
            return true;
        }
        let Some(c) = silent else { return false };
        let silence = Duration::from_micros(c.silent_for(now).unsigned_abs());
        c.close(CloseReason::Silent(silence));
        self.sweep();
        true
    }

    #[allow(clippy::too_many_arguments, reason = "one refusal has this many sides, and one caller")]
    fn refuse(
        &mut self,
        now: i64,
        from: SocketAddr,
        h: &Handshake,
        rule: Option<RuleId>,
        stream_id: Option<String>,
        reason: RejectReason,
        key_state: Option<KeyState>,
    ) {
        self.stats.refused += 1;
        let mut answer = handshake::message(HandshakeType::Rejection(reason), h.socket_id, &LinkConfig::default(), self.local);
        answer.cookie = h.cookie;
        answer.initial_seq = h.initial_seq;
        self.reply(now, from, answer, h.socket_id);
        self.push_event(Event::Refused { from, rule, stream_id, reason, key_state });
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
        let at = self.entries.iter().map(|e| e.deadline).min()?;
        (at < i64::MAX).then(|| self.instant(at))
    }
}
