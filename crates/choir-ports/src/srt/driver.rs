//! One task per socket, which serves every link on it with one timer.
//!
//! Each turn of the loop goes in a fixed order: receive (bounded), take what is to be sent, deadlines,
//! transmit, events, deliveries. With few packets it wakes for each; with many it looks twice a
//! millisecond, so that one wake-up serves many packets of many links.

use crate::{Arrival, Counters, Gauges, HeadroomReading, LinkStatus, PeerLive, TsFlow, datagrams};
use bytes::Bytes;
use choir_core::facts::{Contact, Encryption, Fault, Loss, Notice, Refused, Waiting};
use choir_host::{
    Stop,
    clock::{Alarm, unix_ms},
    udp::{SEND_BATCH, UdpPort},
};
use choir_proto::srt::{
    AcceptRule, CloseReason, ConnId, Endpoint, Event, Joined, KeyChecked, KeyLength, KeyState, LinkConfig, LinkStats, RejectReason, RuleId,
    StreamMatch, Transmit,
};
use slotmap::SlotMap;
use std::{
    collections::{HashMap, VecDeque},
    io,
    net::SocketAddr,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{Notify, mpsc, oneshot},
    task::JoinSet,
};

slotmap::new_key_type! {
    /// One link on a port, for as long as it is there.
    struct UserKey;
}

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
    pub(super) flow: TsFlow,
    pub(super) status: Arc<LinkStatus>,
    pub(super) conns: Vec<(ConnId, u32)>,
    pub(super) held: bool,
    pub(super) finishing: bool,
    /// Of a listener, its port and the stream ID that callers must have.
    pub(super) port: u16,
    pub(super) stream_id: Option<String>,
    /// Of a caller, whom it calls: `host:port`.
    pub(super) peer: String,
    /// Of a listener: dropped when everything of a finite source has been sent.
    pub(super) over: Option<oneshot::Sender<()>>,
    /// Pass notifications on to the driver.
    pub(super) relays: JoinSet<()>,
}

impl User {
    pub(super) fn new(rule: RuleId, listen: Option<(StreamMatch, LinkConfig, usize)>, flow: TsFlow, status: Arc<LinkStatus>) -> Self {
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
            over: None,
            relays: JoinSet::new(),
        }
    }

    fn is_in(&self) -> bool {
        matches!(self.flow, TsFlow::In(_))
    }

    /// What a listener waits for.
    fn waiting(&self, refused: Option<Refused>) -> Contact {
        Contact::Waiting(Waiting::Caller { port: self.port, stream_id: self.stream_id.clone(), refused })
    }
}

/// A change of the links on a listening port.
pub(super) enum Change {
    Add(Box<User>),
    /// Confirmed once its callers have been told.
    Remove(RuleId, oneshot::Sender<()>),
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
        CloseReason::NotVersion5 => Some(Fault::WrongProtocol),
        CloseReason::PeerClosed | CloseReason::Silent(_) | CloseReason::Replaced => Some(Fault::PeerLost),
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

fn counters_of(s: &LinkStats, way_in: bool) -> Counters {
    if way_in {
        return Counters {
            packets: s.received,
            bytes: s.received_bytes,
            lost: s.lost.saturating_sub(s.reordered),
            recovered: s.recovered,
            missing: s.skipped,
            ..Counters::default()
        };
    }
    Counters {
        packets: s.sent,
        bytes: s.sent_bytes,
        lost: s.reported_lost,
        // As far as a sender knows: what it dropped, and what it was asked for too late.
        missing: s.send_dropped + s.given_up,
        resent: s.resent,
        dropped: s.send_dropped,
        window_dropped: s.window_dropped,
        ..Counters::default()
    }
}

fn gauges_of(s: &LinkStats, way_in: bool, unacknowledged: Duration) -> Gauges {
    let pick = |pair: (Duration, Duration)| if way_in { pair.0 } else { pair.1 };
    Gauges {
        rtt: Some(s.rtt).filter(|rtt| !rtt.is_zero()),
        latency: Some(if way_in { s.receive_latency } else { s.send_latency }),
        latency_asked: Some((pick(s.latency_here), pick(s.latency_there))),
        peer_window: Some(s.peer_window).filter(|_| !way_in),
        unacknowledged: Some(unacknowledged).filter(|_| !way_in),
    }
}

/// A socket, its protocol and its links.
pub(super) struct Driver {
    socket: UdpPort,
    endpoint: Endpoint,
    alarm: Alarm,
    users: SlotMap<UserKey, User>,
    by_conn: HashMap<ConnId, UserKey>,
    /// Of a listening port: links that come and go.
    changes: Option<mpsc::UnboundedReceiver<Change>>,
    /// Rung by outlets and by hold and release.
    wake: Arc<Notify>,
    /// Results of passphrase checks, which run on threads of their own.
    checked: (mpsc::UnboundedSender<KeyChecked>, mpsc::UnboundedReceiver<KeyChecked>),
    pending: VecDeque<(Transmit, Vec<u8>)>,
    spare: Vec<Vec<u8>>,
    next_stats: Instant,
    load: Load,
    taken: VecDeque<Bytes>,
    arrivals: Vec<Arrival>,
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

impl Driver {
    pub(super) fn new(socket: UdpPort, endpoint: Endpoint, changes: Option<mpsc::UnboundedReceiver<Change>>) -> io::Result<Self> {
        let now = Instant::now();
        Ok(Self {
            socket,
            endpoint,
            alarm: Alarm::new()?,
            users: SlotMap::with_key(),
            by_conn: HashMap::new(),
            changes,
            wake: Arc::default(),
            checked: mpsc::unbounded_channel(),
            pending: VecDeque::new(),
            spare: Vec::new(),
            arrivals: Vec::new(),
            next_stats: now,
            load: Load { since: now, count: 0, busy: false },
            taken: VecDeque::new(),
            ended: None,
            send_trouble: None,
        })
    }

    fn add(&mut self, mut user: User) -> UserKey {
        let inode = self.socket.inode();
        user.status.update(|l| l.socket = inode);
        let control = user.status.control.wake.clone();
        match &user.flow {
            // The only link of a port needs no relay for its media.
            TsFlow::In(_) if self.users.is_empty() => self.wake = control,
            TsFlow::Out(outlet) if self.users.is_empty() => {
                self.wake = outlet.wake.clone();
                user.relays.spawn(relay(control, self.wake.clone()));
            }
            TsFlow::In(_) => drop(user.relays.spawn(relay(control, self.wake.clone()))),
            TsFlow::Out(outlet) => {
                user.relays.spawn(relay(control, self.wake.clone()));
                user.relays.spawn(relay(outlet.wake.clone(), self.wake.clone()));
            }
        }
        let key = self.users.insert(user);
        self.listen(key);
        key
    }

    fn listen(&mut self, key: UserKey) {
        let Some(user) = self.users.get(key) else { return };
        if let Some((stream, config, max_callers)) = user.listen.clone() {
            self.endpoint.listen(AcceptRule { id: user.rule, stream, config, max_callers, held: user.held, callers_send: user.is_in() });
        }
    }

    /// Takes links in and out of a listening port.
    fn change(&mut self, change: Change) {
        match change {
            Change::Add(user) => {
                self.add(*user);
            }
            Change::Remove(rule, done) => {
                self.endpoint.stop_listening(rule);
                let found = self.users.iter().find(|(_, u)| u.rule == rule).map(|(key, _)| key);
                if let Some(user) = found.and_then(|key| self.users.remove(key)) {
                    for (conn, _) in &user.conns {
                        self.endpoint.close(*conn);
                        self.by_conn.remove(conn);
                    }
                }
                self.transmit(Instant::now());
                // Whoever asked may have gone.
                let _ = done.send(());
            }
        }
    }

    pub(super) fn call(&mut self, peer: SocketAddr, rendezvous: bool, config: LinkConfig, user: User) {
        let key = self.add(user);
        let now = Instant::now();
        let conn = if rendezvous { self.endpoint.meet(now, peer, config) } else { self.endpoint.call(now, peer, config) };
        self.by_conn.insert(conn, key);
    }

    pub(super) async fn run(&mut self, mut stop: Stop) -> Outcome {
        let outcome = loop {
            let received = self.turn();
            let now = Instant::now();
            self.load.note(now, received);
            if self.changes.is_none()
                && let Some((reason, was_up)) = self.ended.take()
            {
                break if self.users.values().all(|u| u.finishing) {
                    Outcome::Finished
                } else if self.users.values().any(|u| u.held) {
                    Outcome::Held
                } else {
                    Outcome::Ended { reason, was_up }
                };
            }
            for user in self.users.values_mut().filter(|u| u.finishing && u.conns.is_empty()) {
                user.over = None;
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
            Some(change) = next_change(&mut self.changes) => {
                self.change(change);
                false
            }
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
            for user in self.users.values() {
                user.status.note(Notice::Network(e.to_string()));
            }
        }
    }

    fn take_commands(&mut self) {
        let changed: Vec<_> = self.users.iter().filter(|(_, u)| u.status.control.is_held() != u.held).map(|(key, _)| key).collect();
        for key in changed {
            let user = &mut self.users[key];
            user.held = !user.held;
            if !user.held {
                let contact = if user.listen.is_some() { Some(user.waiting(None)) } else { None };
                contact.into_iter().for_each(|c| user.status.set_contact(c));
                self.listen(key);
                continue;
            }
            user.status.set_contact(Contact::Held);
            if user.listen.is_none() && user.conns.is_empty() {
                self.ended = Some((CloseReason::Closed, false));
            }
            self.listen(key);
            // A caller's greeting under way ends too.
            let conns: Vec<ConnId> = self.by_conn.iter().filter(|(_, of)| **of == key).map(|(c, _)| *c).collect();
            conns.into_iter().for_each(|c| self.endpoint.close(c));
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
        for user in self.users.values_mut() {
            let TsFlow::Out(outlet) = &user.flow else { continue };
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
                    if let Some(user) = self.by_conn.get(&conn).and_then(|key| self.users.get(*key)) {
                        let why = CloseReason::PortClosed;
                        user.status.tell_lost(Loss::Call { peer: user.peer.clone(), fault: fault_of(why), why: why.to_string() });
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
            Some(rule) => self.users.iter().find(|(_, u)| u.rule == rule).map(|(key, _)| key),
            None => self.by_conn.get(&joined.conn).copied(),
        };
        let Some((key, user)) = found.and_then(|key| Some((key, self.users.get_mut(key)?))) else { return };
        self.by_conn.insert(joined.conn, key);
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
            l.peers.push((
                joined.conn.0.into(),
                PeerLive {
                    addr: joined.peer,
                    since: (now, unix_ms()),
                    counters: counters_of(&stats, way_in),
                    gauges: gauges_of(&stats, way_in, Duration::ZERO),
                    headroom: VecDeque::new(),
                },
            ));
        });
        user.conns.push((joined.conn, session));
    }

    fn closed(&mut self, conn: ConnId, reason: CloseReason, key_state: Option<KeyState>, stats: Option<&LinkStats>) {
        let Some(user) = self.by_conn.remove(&conn).and_then(|key| self.users.get_mut(key)) else { return };
        // A caller's socket hears its peer alone: what came and was no SRT came from there.
        let answered = matches!(reason, CloseReason::NoAnswer(_)) && self.socket.peer().is_some() && self.endpoint.stats().junk > 0;
        let reason = if answered { CloseReason::NotVersion5 } else { reason };
        let was_up = user.conns.iter().any(|(c, _)| *c == conn);
        user.conns.retain(|(c, _)| *c != conn);
        let listening = user.listen.is_some();
        let (held, way_in) = (user.held, user.is_in());
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
        if !listening {
            self.ended = Some((reason, was_up));
        }
    }

    fn deliver(&mut self) {
        let now = Instant::now();
        let mut next = self.endpoint.poll_delivery();
        while let Some(first) = next.take() {
            let user = self.by_conn.get(&first.conn).and_then(|key| self.users.get(*key));
            let of = user.and_then(|u| Some((u, u.conns.iter().find(|(c, _)| *c == first.conn)?.1)));
            let session = of.map_or(0, |(_, session)| session);
            self.arrivals.push(Arrival::ts(session, now, first.payload));
            // What follows of the same connection goes with it.
            while let Some(d) = self.endpoint.poll_delivery() {
                if d.conn != first.conn {
                    next = Some(d);
                    break;
                }
                self.arrivals.push(Arrival::ts(session, now, d.payload));
            }
            if let Some((User { flow: TsFlow::In(intake), .. }, _)) = of {
                intake.arrive(&mut self.arrivals);
            }
            self.arrivals.clear();
        }
    }

    fn copy_stats(&mut self) {
        let now = Instant::now();
        for user in self.users.values() {
            let way_in = user.is_in();
            for (conn, _) in &user.conns {
                let Some(stats) = self.endpoint.link_stats(*conn) else { continue };
                let (headroom, age) = (self.endpoint.take_headroom(*conn), self.endpoint.unacknowledged(now, *conn));
                user.status.update(|l| {
                    l.read_at = Some(now);
                    let Some((_, p)) = l.peers.iter_mut().find(|(id, _)| *id == u64::from(conn.0)) else { return };
                    (p.counters, p.gauges) = (counters_of(&stats, way_in), gauges_of(&stats, way_in, age));
                    if let Some(h) = headroom {
                        p.note_headroom(HeadroomReading { at: now, least_us: h.least_us, greatest_us: h.greatest_us });
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

/// Passes notifications on.
async fn relay(from: Arc<Notify>, to: Arc<Notify>) {
    loop {
        from.notified().await;
        to.notify_one();
    }
}

/// The next change of a listening port; a caller has none.
async fn next_change(changes: &mut Option<mpsc::UnboundedReceiver<Change>>) -> Option<Change> {
    match changes {
        Some(changes) => changes.recv().await,
        None => std::future::pending().await,
    }
}
