//! One socket, its protocol and its links. Has no thread and no clock of its own: a shard drives
//! it.
//!
//! The order of a turn: receive (bounded), deadlines, events and deliveries; then, once all ports
//! of the shard have done that, what is to be sent is taken, and sent.

use super::{gone::Gone, reading::counters_of};
use crate::{Arrival, Flow, LinkStatus, Outlet, PeerLive, datagrams, outlet::OnFill};
use bytes::Bytes;
use choir_core::facts::{Contact, Encryption, Fault, Loss, Notice, Refused, Waiting};
use choir_host::{
    clock::steady_us_at,
    udp::{BatchSocket, SEND_BATCH},
};
use choir_proto::{
    foreign::plain,
    srt::{
        AcceptRule, CallKeys, CloseReason, ConnId, Endpoint, Event, Glance, Joined, KeyCheck, KeyChecked, KeyLength, KeyState, LinkConfig,
        LinkStats, RejectReason, RuleId, StreamMatch, Transmit,
    },
};
use rustc_hash::FxHashMap;
use std::{
    collections::VecDeque,
    io,
    net::SocketAddr,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{sync::oneshot, task::JoinSet};

/// A link on any port, for as long as the program runs.
pub(super) type UserId = usize;

/// Receive batches per turn: bounds how long senders wait.
const BATCHES_PER_TURN: usize = 16;
/// Lines that come in by one socket of callers: its buffer then holds 150 ms of 8 Mbit/s each.
const LINES_MAX: usize = 32;
/// Longest stream ID of a stranger that is told.
const STREAM_ID_SHOWN: usize = 120;
/// When the system's buffer is full, it is tried again after this time.
const BLOCKED: Duration = Duration::from_millis(1);

/// Media keeps the time at which it was due, or was made, while it is no more than this late, µs:
/// then nobody behind a thread sees how it takes its turns. What is released later has come now,
/// and what has waited for longer goes out as if it were this old: better late than too late.
const EVENED_MOST_US: i64 = 5000;

/// One link on a port.
pub(super) struct User {
    pub(super) rule: RuleId,
    pub(super) listen: Option<(StreamMatch, LinkConfig, usize)>,
    pub(super) flow: Flow<Arc<Outlet>>,
    pub(super) status: Arc<LinkStatus>,
    pub(super) conns: Vec<(ConnId, u32)>,
    pub(super) held: bool,
    pub(super) finishing: bool,
    /// Of a listener, its port and the stream ID that callers must have.
    pub(super) port: u16,
    pub(super) stream_id: Option<String>,
    /// Of a caller, whom it calls: `host:port` as in its link.
    pub(super) peer: String,
    /// Of a caller, the address of its peer.
    pub(super) to: Option<SocketAddr>,
    /// Of a caller, told how it ended. Of a listener, dropped when everything of a finite source
    /// has been sent.
    pub(super) over: Option<oneshot::Sender<Outcome>>,
    /// Passes holding and releasing on to the shard.
    pub(super) relays: JoinSet<()>,
}

impl User {
    pub(super) fn new(
        rule: RuleId,
        listen: Option<(StreamMatch, LinkConfig, usize)>,
        flow: Flow<Arc<Outlet>>,
        status: Arc<LinkStatus>,
    ) -> Self {
        Self {
            rule,
            listen,
            flow,
            status,
            conns: Vec::new(),
            held: false,
            finishing: false,
            port: 0,
            stream_id: None,
            peer: String::new(),
            to: None,
            over: None,
            relays: JoinSet::new(),
        }
    }

    pub(super) fn is_in(&self) -> bool {
        matches!(self.flow, Flow::In(_))
    }

    /// What a listener waits for.
    fn waiting(&self, refused: Option<Refused>) -> Contact {
        Contact::Waiting(Waiting::Caller { port: self.port, stream_id: self.stream_id.clone(), refused })
    }
}

/// How a peer is called.
pub(super) struct Call {
    /// Whence; the port of it may be any.
    pub(super) local: SocketAddr,
    pub(super) peer: SocketAddr,
    /// Meets a peer that does the same.
    pub(super) rendezvous: bool,
    pub(super) config: LinkConfig,
    pub(super) keys: Option<CallKeys>,
}

/// How a call ended.
pub(super) enum Outcome {
    Stopped,
    Finished,
    Held,
    Ended { reason: CloseReason, was_up: bool },
    Failed(Option<Fault>, String),
}

/// What an end says of the link.
pub(super) fn fault_of(reason: CloseReason) -> Option<Fault> {
    let refused = |r: RejectReason| match r {
        RejectReason::BadSecret => Fault::Passphrase,
        RejectReason::Unsecure => Fault::OneSided,
        RejectReason::StreamIdUnknown | RejectReason::Mode | RejectReason::Other(2400 | 2404) => Fault::StreamId,
        RejectReason::Other(2401 | 2403) => Fault::Login,
        RejectReason::InUse | RejectReason::Backlog | RejectReason::Other(2407 | 2409) => Fault::Taken,
        _ => Fault::Refused,
    };
    match reason {
        CloseReason::RefusedByPeer(r) | CloseReason::RefusedHere(r) => Some(refused(r)),
        CloseReason::NoAnswer(_) => Some(Fault::Silent),
        CloseReason::PortClosed => Some(Fault::PortClosed),
        CloseReason::NotVersion5 => Some(Fault::WrongProtocol),
        CloseReason::PeerClosed | CloseReason::Silent(_) | CloseReason::Replaced | CloseReason::BegunAnew => Some(Fault::PeerLost),
        CloseReason::NotHeard => Some(Fault::Silent),
        CloseReason::Closed => None,
    }
}

fn encryption_of(length: Option<KeyLength>, state: KeyState) -> Encryption {
    match (length, state) {
        (Some(length), _) => Encryption::Secured { key_bits: length.bytes() as u16 * 8 },
        (None, KeyState::Clear) => Encryption::Clear,
        (None, other) => Encryption::Mismatch(other.to_string()),
    }
}

/// A socket, its protocol and its links.
pub(super) struct Port {
    pub(super) socket: BatchSocket,
    endpoint: Endpoint,
    users: FxHashMap<UserId, User>,
    by_conn: FxHashMap<ConnId, UserId>,
    /// Questions about peers that are silent.
    gone: FxHashMap<ConnId, Option<Gone>>,
    /// It is kept without links.
    pub(super) listens: bool,
    /// The system has said that something waits.
    pub(super) readable: bool,
    /// Something was done in this turn, so that there may be something to send.
    pub(super) touched: bool,
    /// When it has to be looked at again.
    pub(super) next_at: Option<Instant>,
    pending: VecDeque<(Transmit, Vec<u8>)>,
    spare: Vec<Vec<u8>>,
    taken: VecDeque<Bytes>,
    /// When each of those was made.
    made: VecDeque<i64>,
    arrivals: Vec<Arrival>,
    /// How late packets were released, until the turn ends.
    pub(super) released: Vec<Duration>,
    send_trouble: Option<io::ErrorKind>,
}

impl Port {
    pub(super) fn new(socket: BatchSocket, endpoint: Endpoint, listens: bool) -> Self {
        Self {
            socket,
            endpoint,
            users: FxHashMap::default(),
            by_conn: FxHashMap::default(),
            gone: FxHashMap::default(),
            listens,
            readable: true,
            touched: true,
            next_at: None,
            pending: VecDeque::new(),
            spare: Vec::new(),
            taken: VecDeque::new(),
            made: VecDeque::new(),
            arrivals: Vec::new(),
            released: Vec::new(),
            send_trouble: None,
        }
    }

    /// Nobody uses it, and nobody is awaited.
    pub(super) fn is_idle(&self) -> bool {
        !self.listens && self.users.is_empty()
    }

    /// Another call may go out from here: to a peer that no link calls from here, since many a
    /// listener tells its callers apart by their addresses; and not of too many lines, whose media
    /// waits in one buffer of the system.
    pub(super) fn may_call(&self, peer: SocketAddr, way_in: bool) -> bool {
        self.users.values().all(|u| u.to != Some(peer)) && (!way_in || self.users.values().filter(|u| u.is_in()).count() < LINES_MAX)
    }

    /// Takes a link in; `on_fill` is called when there is something to send on it.
    pub(super) fn add(&mut self, id: UserId, user: User, on_fill: OnFill) {
        let inode = self.socket.inode();
        user.status.update(|l| l.socket = inode);
        if let Flow::Out(outlet) = &user.flow {
            outlet.on_fill(Some(on_fill));
        }
        self.users.insert(id, user);
        self.listen(id);
        self.touched = true;
    }

    fn listen(&mut self, id: UserId) {
        let Some(user) = self.users.get(&id) else { return };
        if let Some((stream, config, max_callers)) = user.listen.clone() {
            self.endpoint.listen(AcceptRule { id: user.rule, stream, config, max_callers, held: user.held, callers_send: user.is_in() });
        }
    }

    /// Says goodbye on a link, and forgets it. A caller is told that it was stopped.
    pub(super) fn remove(&mut self, now: Instant, id: UserId) {
        let Some(rule) = self.users.get(&id).map(|u| u.rule) else { return };
        self.copy_stats(now);
        self.endpoint.stop_listening(rule);
        self.close_connections(id);
        self.transmit(now);
        self.deliver(now);
        self.end(id, Outcome::Stopped);
    }

    /// Closes what is up on a link, and a caller's greeting under way.
    fn close_connections(&mut self, id: UserId) {
        for (conn, _) in self.by_conn.iter().filter(|(_, of)| **of == id) {
            self.endpoint.close(*conn);
        }
    }

    /// A link has ended: its caller is told.
    fn end(&mut self, id: UserId, outcome: Outcome) {
        let Some(user) = self.users.remove(&id) else { return };
        if let Flow::Out(outlet) = &user.flow {
            outlet.on_fill(None);
        }
        self.by_conn.retain(|_, of| *of != id);
        if let Some(over) = user.over.filter(|_| user.listen.is_none()) {
            // Whoever called may have gone.
            let _ = over.send(outcome);
        }
    }

    pub(super) fn call(&mut self, now: Instant, id: UserId, call: Call) {
        let conn = self.endpoint.greet(now, call.peer, call.config, call.keys, call.rendezvous);
        self.by_conn.insert(conn, id);
        self.touched = true;
    }

    /// The system says that nobody listens where this link calls.
    pub(super) fn unreachable(&mut self, id: UserId) {
        if let Some(peer) = self.users.get(&id).and_then(|u| u.to) {
            self.endpoint.handle_unreachable(peer);
            self.touched = true;
        }
    }

    /// A link is here.
    pub(super) fn has(&self, id: UserId) -> bool {
        self.users.contains_key(&id)
    }

    /// Acts on what is due, and releases what is due within `ahead`.
    pub(super) fn release(&mut self, now: Instant, ahead: Duration) {
        self.endpoint.handle_timeout_ahead(now, ahead);
        self.touched = true;
    }

    /// Takes what is to be sent on a link, and whether it is held. Gives the datagrams taken.
    pub(super) fn take(&mut self, now: Instant, id: UserId) -> usize {
        self.touched = true;
        self.take_command(id);
        self.take_outlet(now, id)
    }

    /// Sends what is to be sent, and says when it has to be looked at again.
    pub(super) fn finish_turn(&mut self, now: Instant) {
        self.touched = false;
        self.transmit(now);
        self.take_events(now);
        self.next_at = self.endpoint.poll_timeout();
        if !self.pending.is_empty() {
            let again = now + BLOCKED;
            self.next_at = Some(self.next_at.map_or(again, |at| at.min(again)));
        }
    }

    /// The next passphrase check, which costs about a millisecond: to be run beside the media.
    pub(super) fn poll_key_check(&mut self, now: Instant) -> Option<KeyCheck> {
        self.endpoint.poll_key_check(now)
    }

    pub(super) fn handle_key_check(&mut self, now: Instant, checked: KeyChecked) {
        self.endpoint.handle_key_check(now, checked);
        self.touched = true;
    }

    /// Takes what has come; gives the datagrams.
    pub(super) fn receive(&mut self) -> usize {
        let mut received = 0;
        for _ in 0..BATCHES_PER_TURN {
            if !self.readable {
                break;
            }
            let endpoint = &mut self.endpoint;
            match self.socket.receive(|from, at, data| endpoint.handle_datagram(at, from, data)) {
                Ok(batch) => {
                    received += batch.datagrams;
                    self.readable = !batch.drained;
                }
                // The error was the socket's one pending word; there may be datagrams behind it.
                Err(e) => self.note_trouble(&e),
            }
        }
        received
    }

    fn note_trouble(&mut self, e: &io::Error) {
        if self.send_trouble.replace(e.kind()) != Some(e.kind()) {
            tracing::debug!(error = %e, "socket");
            for user in self.users.values() {
                user.status.note(Notice::Network(e.to_string()));
            }
        }
    }

    fn take_command(&mut self, id: UserId) {
        let Some(user) = self.users.get_mut(&id).filter(|u| u.status.control.is_held() != u.held) else { return };
        user.held = !user.held;
        if !user.held {
            let contact = if user.listen.is_some() { Some(user.waiting(None)) } else { None };
            contact.into_iter().for_each(|c| user.status.set_contact(c));
            self.listen(id);
            return;
        }
        user.status.set_contact(Contact::Held);
        let never_up = user.listen.is_none() && user.conns.is_empty();
        self.listen(id);
        self.close_connections(id);
        if never_up {
            self.end(id, Outcome::Held);
        }
    }

    fn take_outlet(&mut self, now: Instant, id: UserId) -> usize {
        let Some(user) = self.users.get_mut(&id) else { return 0 };
        let Flow::Out(outlet) = &user.flow else { return 0 };
        // Asked before the queue is taken, so that nothing queued before the end is left behind.
        let ended = outlet.has_ended();
        outlet.take_timed(&mut self.taken, &mut self.made);
        let (mut count, now_us) = (0, steady_us_at(now));
        for (payload, made) in self.taken.drain(..).zip(self.made.drain(..)) {
            // The peer releases it as far behind the one before as it was made.
            let age = (now_us - made).clamp(-EVENED_MOST_US, EVENED_MOST_US);
            for piece in datagrams(&payload) {
                for (conn, _) in &user.conns {
                    count += 1;
                    // A full window counts itself as dropped; a link that just ended drops it.
                    let _ = self.endpoint.send_from(now, age, *conn, piece.clone());
                }
            }
        }
        if ended && !user.finishing {
            user.finishing = true;
            for (conn, _) in &user.conns {
                self.endpoint.finish(now, *conn);
            }
            if user.conns.is_empty() {
                // Nobody was reached, so nothing is under way.
                match user.listen {
                    Some(_) => user.over = None,
                    None => self.end(id, Outcome::Finished),
                }
            }
        }
        count
    }

    /// The machine has slept for so long.
    pub(super) fn note_pause(&mut self, now: Instant, time: Duration) {
        self.endpoint.note_pause(time);
        self.next_at = Some(now);
    }

    fn transmit(&mut self, now: Instant) {
        while let Some((t, data)) = self.pending.pop_front() {
            if !self.send(&t, &data) {
                self.pending.push_front((t, data));
                return;
            }
            self.spare.push(data);
        }
        let mut buf = self.spare.pop().unwrap_or_default();
        buf.clear();
        let max = self.socket.max_segments().clamp(1, SEND_BATCH);
        while let Some(t) = self.endpoint.poll_transmit(now, max, &mut buf) {
            if !self.send(&t, &buf) {
                self.pending.push_back((t, buf));
                return;
            }
            buf.clear();
        }
        self.spare.push(buf);
    }

    /// False when the system's buffer is full.
    fn send(&mut self, t: &Transmit, data: &[u8]) -> bool {
        match self.socket.send(t.to, t.segment, data) {
            Ok(sent) => sent,
            Err(e) => {
                self.note_trouble(&e);
                true
            }
        }
    }

    /// What joined comes before its media, what closed behind its last.
    pub(super) fn take_events(&mut self, now: Instant) {
        let mut over = Vec::new();
        while let Some(event) = self.endpoint.poll_event() {
            match event {
                Event::Joined(joined) => self.joined(now, &joined),
                Event::Closed { conn, reason, key_state, stats, .. } => over.push((conn, reason, key_state, stats)),
                Event::Refused { from, rule, stream_id, reason, key_state } => self.refused(from, rule, stream_id, reason, key_state),
                Event::ClockJumped { conn, us } => {
                    if let Some(user) = self.by_conn.get(&conn).and_then(|id| self.users.get(id)) {
                        user.status.update(|l| {
                            let peer = l.peers.iter().find(|(id, _)| *id == u64::from(conn.0)).map(|(_, p)| p.addr);
                            peer.into_iter().for_each(|peer| l.note(Notice::PeerClockJumped { peer, ms: us / 1000 }));
                        });
                    }
                }
                Event::Unreachable { conn } => {
                    if let Some(user) = self.by_conn.get(&conn).and_then(|id| self.users.get(id)) {
                        let why = CloseReason::PortClosed;
                        user.status.tell_lost(Loss::Call { peer: user.peer.clone(), fault: fault_of(why), why: why.to_string() });
                    }
                }
            }
        }
        self.deliver(now);
        for (conn, reason, key_state, stats) in over {
            self.closed(conn, reason, key_state, stats.as_deref());
        }
    }

    /// A caller was turned away: told to the link that it wanted; where none is called so, to every
    /// link that still waits.
    fn refused(
        &self,
        from: SocketAddr,
        rule: Option<RuleId>,
        stream_id: Option<String>,
        reason: RejectReason,
        key_state: Option<KeyState>,
    ) {
        let stream_id = stream_id.map(|s| plain(&s, STREAM_ID_SHOWN));
        let refused = Refused { from, stream_id, fault: fault_of(CloseReason::RefusedHere(reason)), why: reason.here() };
        for user in self.users.values().filter(|u| rule.is_none_or(|r| u.rule == r)) {
            user.status.note(Notice::CallerRefused(refused.clone()));
            user.status.update(|l| {
                if l.peers.is_empty()
                    && let Contact::Waiting(_) | Contact::Lost(_) = l.contact
                {
                    if let Some(state) = key_state {
                        l.encryption = encryption_of(None, state);
                    }
                    l.contact = match rule {
                        Some(_) => Contact::Lost(Loss::Refused(refused.clone())),
                        // Perhaps it was not meant for this one.
                        None => user.waiting(Some(refused.clone())),
                    };
                }
            });
        }
    }

    fn joined(&mut self, now: Instant, joined: &Joined) {
        let found = match joined.rule {
            Some(rule) => self.users.iter().find(|(_, u)| u.rule == rule && u.listen.is_some()).map(|(id, _)| *id),
            None => self.by_conn.get(&joined.conn).copied(),
        };
        let Some((id, user)) = found.and_then(|id| Some((id, self.users.get_mut(&id)?))) else { return };
        self.by_conn.insert(joined.conn, id);
        let stats = self.endpoint.link_stats(joined.conn).unwrap_or_default();
        user.status.note(Notice::Connected {
            peer: joined.peer,
            cipher: stats.key_length.map(|length| length.to_string()),
            latency: stats.receive_latency.max(stats.send_latency),
        });
        let way_in = user.is_in();
        let mut session = 0;
        user.status.update(|l| {
            l.contact = Contact::Up;
            l.encryption = encryption_of(stats.key_length, stats.key_state);
            l.sessions += 1;
            session = l.sessions;
            let mut peer = PeerLive::new(joined.peer, now);
            peer.read_srt(now, way_in, &stats, &Glance::default());
            l.peers.push((joined.conn.0.into(), peer));
        });
        user.conns.push((joined.conn, session));
    }

    fn closed(&mut self, conn: ConnId, reason: CloseReason, key_state: Option<KeyState>, stats: Option<&LinkStats>) {
        let Some((id, user)) = self.by_conn.remove(&conn).and_then(|id| Some((id, self.users.get_mut(&id)?))) else { return };
        let was_up = user.conns.iter().any(|(c, _)| *c == conn);
        user.conns.retain(|(c, _)| *c != conn);
        let listening = user.listen.is_some();
        let (held, way_in, finishing) = (user.held, user.is_in(), user.finishing);
        let mut peer = None;
        user.status.update(|l| {
            if let Some((_, p)) = l.peers.iter().find(|(id, _)| *id == u64::from(conn.0)) {
                peer = Some(p.addr);
                let last = stats.map_or(p.counters, |s| counters_of(s, way_in));
                l.counters.add(&last);
            }
            l.peers.retain(|(id, _)| *id != u64::from(conn.0));
            if let Some(state) = key_state.filter(|_| !was_up) {
                l.encryption = encryption_of(None, state);
            }
            if !held && listening {
                let loss = Loss::Caller { peer, fault: fault_of(reason), why: reason.to_string() };
                if peer.is_some() {
                    l.note(Notice::Lost(loss.clone()));
                }
                if l.peers.is_empty() {
                    l.contact = Contact::Lost(loss);
                }
            }
        });
        if listening {
            user.over.take_if(|_| finishing && user.conns.is_empty());
        } else {
            let outcome = match () {
                () if finishing => Outcome::Finished,
                () if held => Outcome::Held,
                () => Outcome::Ended { reason, was_up },
            };
            self.end(id, outcome);
        }
    }

    fn deliver(&mut self, now: Instant) {
        let mut next = self.endpoint.poll_delivery();
        while let Some(first) = next.take() {
            let user = self.by_conn.get(&first.conn).and_then(|id| self.users.get(id));
            let of = user.and_then(|u| Some((u, u.conns.iter().find(|(c, _)| *c == first.conn)?.1)));
            let (conn, session) = (first.conn, of.map_or(0, |(_, session)| session));
            // What follows of the same connection goes with it.
            let mut same = Some(first);
            while let Some(d) = same {
                let late = now.saturating_duration_since(d.due);
                self.released.push(late);
                let at = if late.as_micros() as i64 <= EVENED_MOST_US { d.due } else { now };
                self.arrivals.push(Arrival::ts(session, at, d.payload));
                next = self.endpoint.poll_delivery();
                same = next.take_if(|d| d.conn == conn);
            }
            if let Some((User { flow: Flow::In(intake), .. }, _)) = of {
                intake.arrive(&mut self.arrivals);
            }
            self.arrivals.clear();
        }
    }

    /// Copies the counters of its links for the show.
    pub(super) fn copy_stats(&mut self, now: Instant) {
        for user in self.users.values() {
            let way_in = user.is_in();
            for (conn, _) in &user.conns {
                let (stats, glance) = (self.endpoint.link_stats(*conn), self.endpoint.take_glance(now, *conn));
                let Some((stats, glance)) = stats.zip(glance) else { continue };
                let mut read = None;
                user.status.update(|l| {
                    l.read_at = Some(now);
                    if let Some((_, peer)) = l.peers.iter_mut().find(|(id, _)| *id == u64::from(conn.0)) {
                        peer.read_srt(now, way_in, &stats, &glance);
                        read = Some((peer.addr, peer.port_closed));
                    }
                });
                let Some((addr, told)) = read else { continue };
                // Asked while nobody waits for the status.
                let closed = Gone::look(self.gone.entry(*conn).or_default(), addr, glance.silent_us);
                if closed != told {
                    user.status.update(|l| {
                        l.peers.iter_mut().filter(|(id, _)| *id == u64::from(conn.0)).for_each(|(_, p)| p.port_closed = closed)
                    });
                }
            }
        }
        self.gone.retain(|conn, _| self.by_conn.contains_key(conn));
    }

    /// Says goodbye to everybody, with whatever the socket takes at once.
    pub(super) fn close(&mut self, now: Instant) {
        self.copy_stats(now);
        let conns: Vec<ConnId> = self.endpoint.connections().collect();
        conns.into_iter().for_each(|c| self.endpoint.close(c));
        self.transmit(now);
        self.deliver(now);
        let users: Vec<UserId> = self.users.keys().copied().collect();
        users.into_iter().for_each(|id| self.end(id, Outcome::Stopped));
    }
}
