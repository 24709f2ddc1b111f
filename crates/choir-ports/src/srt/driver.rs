//! One task per socket, which serves every link on it with one timer.
//!
//! Each turn of the loop goes in a fixed order: receive (bounded), take what is to be sent, deadlines,
//! transmit, events, deliveries. With few packets it wakes for each; with many it looks twice a
//! millisecond, so that one wake-up serves many packets of many links.

use crate::{Intake, LinkStatus, Outlet, PeerLive, datagrams, status::add_up};
use bytes::Bytes;
use choir_core::health::{Contact, Fault};
use choir_host::{
    Stop,
    clock::{Alarm, unix_ms},
    udp::{SEND_BATCH, UdpPort},
};
use choir_proto::srt::{
    AcceptRule, CloseReason, ConnId, Endpoint, Event, Joined, KeyChecked, KeyState, LinkConfig, LinkStats, RejectReason, RuleId,
    StreamMatch, Transmit,
};
use std::{
    collections::{HashMap, VecDeque},
    io,
    net::SocketAddr,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{Notify, mpsc},
    task::JoinHandle,
};

/// Receive batches per turn: bounds how long senders wait.
const BATCHES_PER_TURN: usize = 16;
/// How often counters are copied for the show.
const STATS_EVERY: Duration = Duration::from_millis(200);
/// From this many datagrams per second on, looking on a grid beats waking for each.
const BUSY_PER_SECOND: u64 = 4000;
const GRID: Duration = Duration::from_micros(500);
/// One link on a port.
pub(super) struct User {
    pub(super) rule: RuleId,
    pub(super) listen: Option<(StreamMatch, LinkConfig, usize)>,
    pub(super) intake: Option<Arc<dyn Intake>>,
    pub(super) outlet: Option<Arc<Outlet>>,
    pub(super) status: Arc<LinkStatus>,
    pub(super) conns: Vec<(ConnId, u32)>,
    pub(super) held: bool,
    pub(super) finishing: bool,
    /// What is awaited while nobody is there.
    pub(super) awaits: String,
    /// Of a caller, where it calls: `host:port`.
    pub(super) there: String,
}

/// How a run ended.
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
        _ => Fault::Refused,
    };
    match reason {
        CloseReason::RefusedByPeer(r) | CloseReason::RefusedHere(r) => Some(refused(r)),
        CloseReason::NoAnswer(_) => Some(Fault::Silent),
        CloseReason::PortClosed => Some(Fault::PortClosed),
        CloseReason::NotVersion5 => Some(Fault::Stranger),
        CloseReason::PeerClosed | CloseReason::Silent(_) | CloseReason::Replaced => Some(Fault::Gone),
        CloseReason::NotHeard => Some(Fault::Silent),
        CloseReason::Closed => None,
    }
}

/// An end of a call, with what to do about it.
pub(super) fn lost_sentence(there: &str, reason: CloseReason) -> String {
    match reason {
        CloseReason::NoAnswer(_) => format!("{there}: {reason}: is the other end on, and is the address right?"),
        CloseReason::PortClosed => format!("{there}: {reason}: start the other end, or check the port"),
        _ => format!("{there}: {reason}"),
    }
}

/// A socket, its protocol and its links.
pub(super) struct Driver {
    socket: UdpPort,
    endpoint: Endpoint,
    alarm: Alarm,
    users: Vec<User>,
    by_conn: HashMap<ConnId, usize>,
    /// Rung by outlets and by hold and release.
    wake: Arc<Notify>,
    /// Results of passphrase checks, which run on threads of their own.
    checked: (mpsc::UnboundedSender<KeyChecked>, mpsc::UnboundedReceiver<KeyChecked>),
    relays: Vec<JoinHandle<()>>,
    pending: VecDeque<(Transmit, Vec<u8>)>,
    spare: Vec<Vec<u8>>,
    next_stats: Instant,
    load: Load,
    taken: VecDeque<Bytes>,
    ended: Option<(CloseReason, bool)>,
    send_trouble: Option<io::ErrorKind>,
}

/// Datagrams per second, to choose between waking for each and looking on a grid.
struct Load {
    since: Instant,
    count: u64,
    busy: bool,
}

impl Load {
    fn note(&mut self, now: Instant, datagrams: usize) {
        self.count += datagrams as u64;
        let passed = now.duration_since(self.since);
        if passed >= Duration::from_millis(50) {
            self.busy = self.count as u128 * 1000 > u128::from(BUSY_PER_SECOND) * passed.as_millis();
            (self.since, self.count) = (now, 0);
        }
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        self.relays.iter().for_each(JoinHandle::abort);
    }
}

impl Driver {
    pub(super) fn new(socket: UdpPort, endpoint: Endpoint) -> io::Result<Self> {
        let now = Instant::now();
        Ok(Self {
            socket,
            endpoint,
            alarm: Alarm::new()?,
            users: Vec::new(),
            by_conn: HashMap::new(),
            wake: Arc::default(),
            checked: mpsc::unbounded_channel(),
            relays: Vec::new(),
            pending: VecDeque::new(),
            spare: Vec::new(),
            next_stats: now,
            load: Load { since: now, count: 0, busy: false },
            taken: VecDeque::new(),
            ended: None,
            send_trouble: None,
        })
    }

    /// Lets a bell of somebody else ring this driver's.
    fn relay(&mut self, bell: Arc<Notify>) {
        let wake = self.wake.clone();
        self.relays.push(tokio::spawn(async move {
            loop {
                bell.notified().await;
                wake.notify_one();
            }
        }));
    }

    pub(super) fn add(&mut self, user: User) {
        let inode = self.socket.inode();
        user.status.update(|l| l.socket = inode);
        if self.users.is_empty() && user.outlet.is_none() {
            // The common case, one way in on the port, needs no relay.
            self.wake = user.status.wake.clone();
        } else if self.users.is_empty()
            && let Some(outlet) = &user.outlet
        {
            self.wake = outlet.wake.clone();
            self.relay(user.status.wake.clone());
        } else {
            self.relay(user.status.wake.clone());
            if let Some(outlet) = &user.outlet {
                self.relay(outlet.wake.clone());
            }
        }
        self.users.push(user);
        self.listen(self.users.len() - 1);
    }

    fn listen(&mut self, i: usize) {
        let user = &self.users[i];
        if let Some((stream, config, max_callers)) = user.listen.clone() {
            self.endpoint.listen(AcceptRule {
                id: user.rule,
                stream,
                config,
                max_callers,
                held: user.held,
                callers_send: user.intake.is_some(),
            });
        }
    }

    pub(super) fn call(&mut self, peer: SocketAddr, rendezvous: bool, config: LinkConfig, user: User) {
        self.add(user);
        let now = Instant::now();
        let conn = if rendezvous { self.endpoint.meet(now, peer, config) } else { self.endpoint.call(now, peer, config) };
        self.by_conn.insert(conn, 0);
    }

    pub(super) async fn run(&mut self, mut stop: Stop) -> Outcome {
        let caller = self.users.iter().any(|u| u.listen.is_none());
        let outcome = loop {
            let received = self.turn();
            let now = Instant::now();
            self.load.note(now, received);
            if caller && let Some((reason, was_up)) = self.ended.take() {
                break if self.users.iter().all(|u| u.finishing) {
                    Outcome::Finished
                } else if self.users.iter().any(|u| u.held) {
                    Outcome::Held
                } else {
                    Outcome::Ended { reason, was_up }
                };
            }
            if !caller && self.users.iter().all(|u| u.finishing && u.conns.is_empty()) {
                break Outcome::Finished;
            }
            if self.wait(now, &mut stop).await {
                break Outcome::Stopped;
            }
        };
        self.goodbye();
        outcome
    }

    /// Waits for the next thing to do; true when it is to stop.
    async fn wait(&mut self, now: Instant, stop: &mut Stop) -> bool {
        let mut at = self.next_stats;
        if let Some(t) = self.endpoint.poll_timeout() {
            at = at.min(t);
        }
        if self.load.busy {
            at = at.max(now + GRID).min(now + GRID * 2);
        }
        if self.alarm.set(Some(at)).is_err() {
            return true;
        }
        let (blocked, busy) = (!self.pending.is_empty(), self.load.busy);
        tokio::select! {
            biased;
            () = stop.wait() => true,
            () = self.alarm.ring() => false,
            _ = self.socket.readable(), if !busy => false,
            _ = self.socket.writable(), if blocked => false,
            () = self.wake.notified(), if !busy => false,
            Some(checked) = self.checked.1.recv() => {
                self.endpoint.handle_key_check(Instant::now(), checked);
                false
            }
        }
    }

    /// One turn; gives the datagrams received.
    fn turn(&mut self) -> usize {
        let received = self.receive();
        let now = Instant::now();
        self.take_commands();
        self.take_outlets(now);
        self.check_keys(now);
        self.endpoint.handle_timeout(now);
        self.transmit(now);
        self.take_events(now);
        if now >= self.next_stats {
            self.next_stats = now + STATS_EVERY;
            self.copy_stats();
        }
        received
    }

    fn receive(&mut self) -> usize {
        let mut received = 0;
        for _ in 0..BATCHES_PER_TURN {
            let now = Instant::now();
            let endpoint = &mut self.endpoint;
            match self.socket.receive(|from, data| endpoint.handle_datagram(now, from, data)) {
                Ok(0) => break,
                Ok(n) => received += n,
                Err(e) => {
                    self.note_refusal(&e);
                    // The error was the socket's one pending word; there may be datagrams behind it.
                }
            }
        }
        received
    }

    fn note_refusal(&mut self, e: &io::Error) {
        if e.kind() == io::ErrorKind::ConnectionRefused {
            if let Some(peer) = self.socket.peer() {
                self.endpoint.handle_unreachable(peer);
            }
        } else if self.send_trouble.replace(e.kind()) != Some(e.kind()) {
            tracing::debug!(error = %e, "socket");
            for user in &self.users {
                user.status.note(true, format!("the network says: {e}"));
            }
        }
    }

    fn take_commands(&mut self) {
        for i in 0..self.users.len() {
            let held = self.users[i].status.is_held();
            if held == self.users[i].held {
                continue;
            }
            self.users[i].held = held;
            if held {
                self.listen(i);
                for (conn, _) in self.users[i].conns.clone() {
                    self.endpoint.close(conn);
                }
                // A caller's greeting under way ends too.
                let calling: Vec<ConnId> = self.by_conn.iter().filter(|(_, u)| **u == i).map(|(c, _)| *c).collect();
                calling.into_iter().for_each(|c| self.endpoint.close(c));
                if self.users[i].listen.is_none() && self.users[i].conns.is_empty() {
                    self.ended = Some((CloseReason::Closed, false));
                }
                self.users[i].status.set_contact(Contact::Held);
            } else {
                self.users[i].status.set_contact(Contact::Awaited(self.users[i].awaits.clone()));
                self.listen(i);
            }
        }
    }

    /// Starts the next passphrase check, which costs about a millisecond, beside the media.
    fn check_keys(&mut self, now: Instant) {
        while let Ok(checked) = self.checked.1.try_recv() {
            self.endpoint.handle_key_check(now, checked);
        }
        if let Some(check) = self.endpoint.poll_key_check(now) {
            let done = self.checked.0.clone();
            tokio::task::spawn_blocking(move || {
                // The port may have been closed meanwhile.
                let _ = done.send(check.run());
            });
        }
    }

    fn take_outlets(&mut self, now: Instant) {
        for user in &mut self.users {
            let Some(outlet) = &user.outlet else { continue };
            // Asked before the queue is taken, so that nothing queued before the end is left behind.
            let ended = outlet.has_ended();
            outlet.take_into(&mut self.taken);
            for payload in self.taken.drain(..) {
                for piece in datagrams(&payload) {
                    for (conn, _) in &user.conns {
                        // A full window counts itself as dropped; a link that just ended drops it.
                        let _ = self.endpoint.send(now, *conn, piece.clone());
                    }
                }
            }
            if ended && !user.finishing {
                user.finishing = true;
                for (conn, _) in &user.conns {
                    self.endpoint.finish(now, *conn);
                }
                if user.conns.is_empty() && user.listen.is_none() {
                    // Nobody was reached, so nothing is under way.
                    self.ended = Some((CloseReason::Closed, false));
                }
            }
        }
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
                self.note_refusal(&e);
                true
            }
        }
    }

    /// What joined comes before its media, what closed behind its last.
    fn take_events(&mut self, now: Instant) {
        let mut over = Vec::new();
        while let Some(event) = self.endpoint.poll_event() {
            match event {
                Event::Joined(joined) => self.joined(now, &joined),
                Event::Closed { conn, reason, key_state, stats, .. } => over.push((conn, reason, key_state, stats)),
                Event::Refused { from, rule, stream_id, reason, key_state } => self.refused(from, rule, stream_id, reason, key_state),
                Event::Unreachable { conn } => {
                    if let Some(user) = self.by_conn.get(&conn).and_then(|i| self.users.get(*i)) {
                        let text = lost_sentence(&user.there, CloseReason::PortClosed);
                        user.status.note(true, text.clone());
                        user.status.set_lost(fault_of(CloseReason::PortClosed), text);
                    }
                }
            }
        }
        self.deliver();
        for (conn, reason, key_state, stats) in over {
            self.closed(conn, reason, key_state, stats.as_deref());
        }
    }

    /// A caller was turned away: told to the link that it wanted; where none is called so, to every link that still waits.
    fn refused(
        &self,
        from: SocketAddr,
        rule: Option<RuleId>,
        stream_id: Option<String>,
        reason: RejectReason,
        key_state: Option<KeyState>,
    ) {
        let id = stream_id.map_or_else(String::new, |s| format!(" with stream ID \"{s}\""));
        let text = format!("caller {from}{id} refused: {}", reason.here());
        for user in self.users.iter().filter(|u| rule.is_none_or(|r| u.rule == r)) {
            user.status.note(true, text.clone());
            user.status.update(|l| {
                if l.peers.is_empty()
                    && let Contact::Awaited(_) | Contact::Lost(_) = l.contact
                {
                    l.key_state = key_state.or(l.key_state);
                    l.fault = fault_of(CloseReason::RefusedHere(reason));
                    l.contact = match rule {
                        Some(_) => Contact::Lost(text.clone()),
                        // Perhaps it was not meant for this one.
                        None => Contact::Awaited(format!("{}; {text}", user.awaits)),
                    };
                }
            });
        }
    }

    fn joined(&mut self, now: Instant, joined: &Joined) {
        let found = match joined.rule {
            Some(rule) => self.users.iter().position(|u| u.rule == rule),
            None => self.by_conn.get(&joined.conn).copied(),
        };
        let Some(i) = found else { return };
        self.by_conn.insert(joined.conn, i);
        let stats = self.endpoint.link_stats(joined.conn).unwrap_or_default();
        let user = &mut self.users[i];
        let encryption = match stats.key_length {
            Some(length) => format!("secured with {length}"),
            None => "in the clear".into(),
        };
        let latency = stats.receive_latency.max(stats.send_latency).as_millis();
        user.status.note(false, format!("connected with {}, {encryption}, latency {latency} ms", joined.peer));
        let mut session = 0;
        user.status.update(|l| {
            l.contact = Contact::Up;
            l.key_state = Some(stats.key_state);
            l.sessions += 1;
            session = l.sessions;
            l.peers.push(PeerLive { conn: joined.conn, addr: joined.peer, since: (now, unix_ms()), stats, window: Default::default() });
        });
        user.conns.push((joined.conn, session));
    }

    fn closed(&mut self, conn: ConnId, reason: CloseReason, key_state: Option<KeyState>, stats: Option<&LinkStats>) {
        let Some(i) = self.by_conn.remove(&conn) else { return };
        // A caller's socket hears its peer alone: what came and was no SRT came from there.
        let answered = matches!(reason, CloseReason::NoAnswer(_)) && self.socket.peer().is_some() && self.endpoint.stats().junk > 0;
        let reason = if answered { CloseReason::NotVersion5 } else { reason };
        let user = &mut self.users[i];
        let was_up = user.conns.iter().any(|(c, _)| *c == conn);
        user.conns.retain(|(c, _)| *c != conn);
        let listening = user.listen.is_some();
        let held = user.held;
        let mut peer = None;
        user.status.update(|l| {
            if let Some(p) = l.peers.iter().find(|p| p.conn == conn) {
                peer = Some(p.addr);
                let stats = stats.unwrap_or(&p.stats).clone();
                add_up(&mut l.ended, &stats);
            }
            l.peers.retain(|p| p.conn != conn);
            if !was_up {
                l.key_state = key_state.or(l.key_state);
            }
            if l.peers.is_empty() && !held && listening {
                l.fault = fault_of(reason);
                l.contact = Contact::Lost(match peer {
                    Some(p) => format!("{p}: {reason}; waiting for it to call again"),
                    None => reason.to_string(),
                });
            }
        });
        if let Some(p) = peer.filter(|_| listening && !held) {
            user.status.note(true, format!("lost {p}: {reason}"));
        }
        if !listening {
            self.ended = Some((reason, was_up));
        }
    }

    fn deliver(&mut self) {
        while let Some(d) = self.endpoint.poll_delivery() {
            let Some(user) = self.by_conn.get(&d.conn).and_then(|i| self.users.get(*i)) else { continue };
            if let (Some(intake), Some((_, session))) = (&user.intake, user.conns.iter().find(|(c, _)| *c == d.conn)) {
                intake.push(*session, d.payload);
            }
        }
    }

    fn copy_stats(&mut self) {
        for user in &self.users {
            for (conn, _) in &user.conns {
                let (Some(stats), Some(window)) = (self.endpoint.link_stats(*conn), self.endpoint.take_window(*conn)) else { continue };
                user.status.update(|l| {
                    if let Some(p) = l.peers.iter_mut().find(|p| p.conn == *conn) {
                        p.stats = stats;
                        let least = |a: Option<i64>, b: Option<i64>| a.into_iter().chain(b).min();
                        p.window.headroom_us = least(p.window.headroom_us, window.headroom_us);
                        p.window.far_headroom_us = least(p.window.far_headroom_us, window.far_headroom_us);
                    }
                });
            }
        }
    }

    /// Says goodbye to everybody, with whatever the socket takes at once.
    fn goodbye(&mut self) {
        self.copy_stats();
        let conns: Vec<ConnId> = self.endpoint.connections().collect();
        conns.into_iter().for_each(|c| self.endpoint.close(c));
        let now = Instant::now();
        self.transmit(now);
        self.deliver();
    }
}
