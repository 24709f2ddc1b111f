//! One connection after its handshake: data, acknowledgements, loss reports, keys, silence.
//!
//! ```text
//!            finish()              peer's shutdown
//!   Open ─────────────► Finishing      Open ─────────► Draining
//!    │   (all acked, or too late)        (all released)   │
//!    └──── silence, close() ───────► Closed ◄─────────────┘
//! ```

use super::{
    CloseReason, Extent, Glance, Hole, KeyState, LinkConfig, LinkStats, PAYLOAD_MAX, SendError, Seq,
    acks::Acks,
    capacity::Bursts,
    crypto::CipherKeys,
    keys::{ReceiveKeys, SendKeys, no_secret},
    pacing::Pacer,
    path::{Gaps, IP_UDP, KEEP_ALIVE_US, ReceiveRate, Transit, on_wire},
    receive::{Arrival, Held, ReceiveBuffer, Released},
    send::SendBuffer,
    timebase::{Rtt, TimeBase, Timing},
    wire::{Ack, AckLink, AckRates, Control, DataHeader, HEADER, KeyFlag, LossList},
};
use crate::{arena::cut, ts::TS_PACKET};
use bytes::{Bytes, BytesMut};
use rand_chacha::ChaCha20Rng;
use std::{collections::VecDeque, time::Duration};

/// First byte of each packet of a transport stream.
const SYNC: u8 = 0x47;
/// Control packets waiting to be written; more means the driver does not drain.
const MAX_QUEUED_CONTROL: usize = 512;
/// What the estimate of the last moment for a repeat may be off.
const LATE_SPARE_US: i64 = 3000;
/// New packets wait behind repeats for at most this part of the latency.
const NEW_WAITS_SHARE: i64 = 4;
/// Between two repeats of a packet while no round trip has been measured.
const GUARD_UNMEASURED_US: i64 = 20_000;
/// No path has more; a peer may write anything.
const CAPACITY_MAX_BPS: u64 = 1_000_000_000_000;
/// Silence after which one whose address another has come from is gone. One that only pauses keeps
/// alive each second, and two of these may be lost.
const RIVAL_SILENCE_US: i64 = 3 * KEEP_ALIVE_US + 500_000;
/// Silence of one that waves anew besides: one sign of life may be lost.
const GONE_US: i64 = 2 * KEEP_ALIVE_US + 500_000;

/// What a handshake agreed on.
#[derive(Debug)]
pub(super) struct Agreed {
    pub peer_id: u32,
    pub local_isn: Seq,
    pub peer_isn: Seq,
    pub peer_window: u32,
    /// Most payload bytes that a packet to the peer may carry, by its MSS.
    pub payload_max: usize,
    /// Round trip of the greeting, µs, where this end asked.
    pub round_trip: Option<i64>,
    /// Local time at which the peer's HSREQ or HSRSP came, and its timestamp.
    pub arrived: i64,
    pub peer_timestamp: u32,
    pub receive_latency: Duration,
    pub send_latency: Duration,
    pub latency_there: (Duration, Duration),
    pub peer_version: u32,
    pub drop_late: bool,
    pub keys: Option<CipherKeys>,
    /// The keys are the peer's: what this end sends has one of its own.
    pub peers_keys: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Open,
    Finishing { until: i64 },
    Draining,
    Closed(CloseReason),
}

#[derive(Debug)]
pub(super) struct Connection {
    agreed: Agreed,
    state: State,
    idle_us: i64,
    send: SendBuffer,
    receive: ReceiveBuffer,
    base: TimeBase,
    rtt: Rtt,
    pacer: Pacer,
    control: VecDeque<Control>,
    send_keys: Option<SendKeys>,
    receive_keys: Option<ReceiveKeys>,
    arena: BytesMut,
    last_heard: i64,
    last_data: Option<i64>,
    last_spoke: i64,
    acks: Acks,
    /// Anything but greetings has come: the peer hears us.
    answered: bool,
    /// Something has come that looks like a transport stream.
    plausible: bool,
    /// Greetings that came after it was let in.
    greeted_again: u32,
    /// Another connection has come from the peer's address: what is sent to this one may reach a
    /// stranger.
    has_rival: bool,
    gaps: Gaps,
    since: i64,
    rate: ReceiveRate,
    bursts: Bursts,
    /// What the peer says of the path to it, bits per second.
    peer_capacity: Option<u64>,
    stats: LinkStats,
    glance: Glance,
    /// The longest hole since the last look: packets, and when.
    hole: Option<(u32, i64)>,
    transit: Transit,
    /// By how much the peer's clock has jumped, until it is told.
    jumped: Option<i64>,
}

fn micros(d: Duration) -> i64 {
    i64::try_from(d.as_micros()).unwrap_or(i64::MAX / 4)
}

impl Connection {
    pub fn new(config: &LinkConfig, agreed: Agreed, now: i64, rng: ChaCha20Rng) -> Self {
        let receive_latency = micros(agreed.receive_latency);
        let reorder_limit = micros(config.reorder_limit).min(receive_latency / 6);
        let both = agreed.keys.clone().zip(config.passphrase.clone());
        let key_length = agreed.keys.as_ref().and_then(CipherKeys::length);
        let stats = LinkStats {
            receive_latency: agreed.receive_latency,
            send_latency: agreed.send_latency,
            latency_here: (config.receive_latency, config.send_latency),
            latency_there: agreed.latency_there,
            peer_version: agreed.peer_version,
            key_state: if both.is_some() { KeyState::Secured } else { KeyState::Clear },
            key_length,
            peer_window: agreed.peer_window,
            ..LinkStats::default()
        };
        Self {
            state: State::Open,
            idle_us: micros(config.idle_timeout),
            send: SendBuffer::new(agreed.local_isn, config.window(), agreed.peer_window),
            receive: ReceiveBuffer::new(agreed.peer_isn, config.window(), reorder_limit, agreed.drop_late),
            base: TimeBase::new(agreed.arrived, agreed.peer_timestamp, receive_latency),
            rtt: agreed.round_trip.map_or_else(Rtt::default, |rtt| Rtt::from_greeting(now, rtt)),
            pacer: Pacer::new(config.ceiling, now),
            control: VecDeque::new(),
            receive_keys: both.clone().map(|(keys, passphrase)| ReceiveKeys::new(keys, passphrase)),
            send_keys: both.map(|(keys, passphrase)| SendKeys::new(keys, passphrase, config.refresh, agreed.peers_keys, rng)),
            arena: BytesMut::new(),
            last_heard: now,
            last_data: None,
            last_spoke: now,
            acks: Acks::new(agreed.peer_isn),
            answered: false,
            plausible: false,
            greeted_again: 0,
            has_rival: false,
            gaps: Gaps::new(now),
            since: now,
            rate: ReceiveRate::new(now),
            bursts: Bursts::default(),
            peer_capacity: None,
            stats,
            glance: Glance::default(),
            hole: None,
            transit: Transit::default(),
            jumped: None,
            agreed,
        }
    }

    pub fn closed(&self) -> Option<CloseReason> {
        match self.state {
            State::Closed(reason) => Some(reason),
            _ => None,
        }
    }

    pub fn peer_id(&self) -> u32 {
        self.agreed.peer_id
    }

    /// By how much (µs) the peer's clock has jumped since the last call, if it has.
    pub fn take_jump(&mut self) -> Option<i64> {
        self.jumped.take()
    }

    /// A repeated greeting is a sign of life too: the answer to it was lost, not the peer.
    pub fn note_heard(&mut self, now: i64) {
        self.last_heard = now;
        self.greeted_again += 1;
    }

    /// When it came up.
    pub fn since(&self) -> i64 {
        self.since
    }

    /// The peer has been silent well beyond the gaps between its packets.
    pub fn is_silent(&self, now: i64) -> bool {
        self.gaps.is_silent(now)
    }

    /// The peer has been silent for longer than one that only pauses.
    pub fn seems_gone(&self, now: i64) -> bool {
        self.gaps.silent_for(now) > GONE_US
    }

    /// Nothing has come since it is up that could be media: who only replays a greeting, or sends
    /// what decrypts to noise, has none.
    pub fn brought_nothing(&self) -> bool {
        !self.plausible
    }

    /// Another connection has come from the same address and port. If this one stays silent, its
    /// peer is gone, and what is sent to it would reach the other.
    pub fn set_rival(&mut self) {
        self.has_rival = true;
        self.idle_us = self.idle_us.min(RIVAL_SILENCE_US);
    }

    /// Ends it without a word to the peer.
    pub fn drop_quietly(&mut self, reason: CloseReason) {
        self.control.clear();
        self.state = State::Closed(reason);
    }

    pub fn stats(&self) -> LinkStats {
        let mut s = self.stats.clone();
        s.key_refreshes = self.send_keys.as_ref().map_or(0, |k| k.refreshes);
        s.in_flight = self.send.in_flight();
        s.skipped = self.receive.skipped_total;
        s.receive_buffer = self.receive.held();
        s.drift_us = self.base.drift_us();
        s.ceiling_bps = self.pacer.ceiling_bps().unwrap_or(0);
        if self.rtt.measured {
            s.rtt = Duration::from_micros(self.rtt.rtt as u64);
            s.rtt_var = Duration::from_micros(self.rtt.var as u64);
        }
        s
    }

    /// What happened since the last call.
    pub fn take_glance(&mut self, now: i64) -> Glance {
        let since = |at: Option<i64>| at.map_or(0, |at| (now - at).max(0));
        let seen = std::mem::take(&mut self.glance);
        Glance {
            jitter_us: self.transit.jitter_us(),
            hole: self.hole.take().map(|(packets, at)| Hole { packets, ago_us: now - at }),
            silent_us: since(Some(self.last_heard)),
            data_silent_us: self.last_data.map(|at| now - at),
            capacity_bps: self.bursts.capacity(now).or(self.peer_capacity),
            unacknowledged_us: since(self.send.oldest_unacknowledged()),
            unanswered_us: since(self.acks.unanswered_since()),
            key_unconfirmed_us: since(self.send_keys.as_ref().and_then(SendKeys::unconfirmed_since)),
            ..seen
        }
    }

    // ---- commands

    pub fn send(&mut self, now: i64, origin: i64, mut payload: Bytes) -> Result<(), SendError> {
        if self.state != State::Open {
            return Err(SendError::NotConnected);
        }
        if payload.len() > PAYLOAD_MAX {
            return Err(SendError::TooLarge { size: payload.len(), max: PAYLOAD_MAX });
        }
        let most = self.agreed.payload_max;
        while payload.len() > most {
            // Whole packets of a transport stream, if that is what it is.
            let part = if payload.len().is_multiple_of(TS_PACKET) && most >= TS_PACKET { most / TS_PACKET * TS_PACKET } else { most };
            self.send_one(now, origin, payload.split_to(part))?;
        }
        self.send_one(now, origin, payload)
    }

    fn send_one(&mut self, now: i64, origin: i64, payload: Bytes) -> Result<(), SendError> {
        if self.send.is_full() {
            self.stats.send_dropped += 1;
            return Err(SendError::WindowFull);
        }
        self.stats.sent += 1;
        self.stats.sent_bytes += payload.len() as u64;
        self.pacer.note_input(now, payload.len() + HEADER + IP_UDP);
        let key = self.send_keys.as_mut().map_or(KeyFlag::Clear, |keys| keys.next(now, self.send.oldest_key()));
        self.send.push(origin, key, payload);
        Ok(())
    }

    /// Lets what was sent arrive, then says goodbye.
    pub fn finish(&mut self, now: i64) {
        if self.state == State::Open {
            self.state = State::Finishing { until: now + self.horizon() };
        }
    }

    /// Says goodbye at once.
    pub fn close(&mut self, reason: CloseReason) {
        if !matches!(self.state, State::Closed(_)) {
            // Where another has come from the same address, that one would get the goodbye.
            if self.state != State::Draining && !self.has_rival {
                self.control.push_back(Control::Shutdown);
            }
            self.state = State::Closed(reason);
        }
    }

    /// How long a packet is kept for resending: 1.25 times the latency, at least a second.
    fn horizon(&self) -> i64 {
        (micros(self.agreed.send_latency) * 5 / 4).max(1_000_000)
    }

    // ---- input

    fn heard(&mut self, now: i64) {
        self.last_heard = now;
        self.answered = true;
        self.gaps.note(now);
    }

    fn queue(&mut self, control: Control) {
        if self.control.len() < MAX_QUEUED_CONTROL {
            self.control.push_back(control);
        }
    }

    pub fn handle_data(&mut self, now: i64, header: &DataHeader, payload: &[u8]) {
        if !matches!(self.state, State::Open | State::Finishing { .. }) || payload.len() > PAYLOAD_MAX {
            return;
        }
        let ts = self.base.unwrap(now, header.timestamp);
        match self.base.judge(now, ts, self.agreed.drop_late) {
            Timing::Plausible => {}
            Timing::TooEarly => {
                self.stats.mistimed += 1;
                return;
            }
            Timing::Jumped(us) => self.jumped = Some(us),
        }
        self.heard(now);
        self.last_data = Some(now);
        let on_wire = payload.len() + HEADER + IP_UDP;
        self.stats.arrived_bytes += on_wire as u64;
        self.glance.largest = self.glance.largest.max(payload.len() as u32);
        if !header.resent {
            self.bursts.note(now, header.seq, ts, on_wire);
        }
        let wanted = self.receive.wants(header.seq);
        let data = match (header.key, &self.receive_keys) {
            _ if !wanted => Bytes::new(),
            (KeyFlag::Clear, None) => cut(&mut self.arena, payload).freeze(),
            (flag, Some(keys)) if flag != KeyFlag::Clear => {
                let mut data = cut(&mut self.arena, payload);
                if !keys.apply(flag, header.seq, &mut data) {
                    self.stats.undecrypted += 1;
                    return;
                }
                data.freeze()
            }
            // Clear data on a secured link, or the other way round: not from our peer.
            _ => {
                self.stats.undecrypted += 1;
                return;
            }
        };
        let size = payload.len();
        let is_ts = || data.first() == Some(&SYNC) && size.is_multiple_of(TS_PACKET) && data.chunks(TS_PACKET).all(|p| p[0] == SYNC);
        self.plausible = self.plausible || is_ts();
        self.stats.repeats += u64::from(header.resent);
        match self.receive.insert(now, header.seq, Held { ts, came: now, payload: data }, header.resent) {
            Arrival::New { gap } => self.note_gap(now, gap),
            Arrival::Recovered => self.stats.recovered += 1,
            Arrival::Reordered => self.stats.reordered += 1,
            Arrival::Duplicate => {
                self.stats.duplicates += 1;
                return;
            }
            Arrival::Late => {
                self.stats.came_late += 1;
                Extent::note(&mut self.glance.headroom, self.base.due(ts) - now);
                self.note_transit(now, ts, header.resent);
                return;
            }
            Arrival::Beyond => {
                self.stats.beyond_window += 1;
                return;
            }
        }
        self.stats.received += 1;
        self.stats.received_bytes += size as u64;
        self.rate.note(now, size);
        Extent::note(&mut self.glance.headroom, self.base.due(ts) - now);
        self.note_transit(now, ts, header.resent);
        if self.acks.note_packet(now)
            && let Some(next) = self.acks.light(self.receive.ack())
        {
            self.queue(Control::Ack(Ack { number: 0, next, link: None, rates: None }));
        }
    }

    fn note_gap(&mut self, now: i64, packets: u32) {
        if packets == 0 {
            return;
        }
        self.stats.lost += u64::from(packets);
        self.stats.holes += 1;
        self.note_hole(now, packets);
    }

    fn note_hole(&mut self, now: i64, packets: u32) {
        if packets > self.hole.map_or(0, |h| h.0) {
            self.hole = Some((packets, now));
        }
    }

    fn note_transit(&mut self, now: i64, ts: i64, resent: bool) {
        if !resent {
            let us = now - self.base.expected(ts);
            Extent::note(&mut self.glance.transit, us);
            self.transit.note(us);
        }
    }

    pub fn handle_control(&mut self, now: i64, control: Control, timestamp: u32) {
        if matches!(self.state, State::Closed(_)) {
            return;
        }
        if !matches!(control, Control::Shutdown) {
            self.heard(now);
        }
        match control {
            Control::Ack(ack) => self.handle_ack(now, &ack),
            Control::Nak(list) => self.handle_nak(now, &list),
            Control::AckAck(number) => self.handle_ackack(now, number, timestamp),
            Control::DropRequest { first, last, .. } => {
                self.receive.handle_drop(first, last);
                // A sender whose window is full sends nothing until it hears of it.
                self.acks.moved(now, self.receive.ack());
            }
            Control::KeyRequest(message) => {
                let answer = self.receive_keys.as_mut().map_or_else(|| Some(no_secret()), |k| k.handle_request(now, message));
                answer.into_iter().for_each(|a| self.queue(a));
            }
            Control::KeyResponse(message) => self.send_keys.iter_mut().for_each(|k| k.handle_response(&message)),
            Control::Shutdown => {
                if !self.answered && self.greeted_again >= 2 {
                    // It called again and again, gave up, and never took our answer for one.
                    self.drop_quietly(CloseReason::NotHeard);
                } else if self.state != State::Draining {
                    self.state = State::Draining;
                }
            }
            Control::Handshake(_) | Control::KeepAlive | Control::CongestionWarning | Control::PeerError(_) | Control::Unknown { .. } => {}
        }
    }

    fn handle_ack(&mut self, now: i64, ack: &Ack) {
        if ack.number != 0 {
            self.queue(Control::AckAck(ack.number));
        }
        if let Some(link) = ack.link {
            self.rtt.adopt(now, link.rtt_us, link.rtt_var_us);
            if self.rtt.measured {
                Extent::note(&mut self.glance.rtt, self.rtt.rtt);
            }
            self.stats.peer_free = Some(link.free_packets);
            self.send.set_peer_free(link.free_packets);
        }
        if let Some(r) = ack.rates {
            let estimated = r.capacity_packets_per_s != r.packets_per_s && r.packets_per_s > 0;
            let bits = 8 * on_wire(r.packets_per_s, r.bytes_per_s);
            let bps = u64::from(r.capacity_packets_per_s).saturating_mul(bits);
            self.peer_capacity = estimated.then_some(bps.min(CAPACITY_MAX_BPS));
        }
        self.stats.peer_packets_per_s = ack.rates.map(|r| r.packets_per_s).or(self.stats.peer_packets_per_s);
        self.send.handle_ack(ack.next);
    }

    fn handle_nak(&mut self, now: i64, list: &LossList) {
        // A repeat that left less than a round trip ago may still be on its way. The variation is
        // taken off, else a report that is right on time would be taken for an early one.
        let guard = if self.rtt.measured { (self.rtt.rtt - self.rtt.var.min(self.rtt.rtt / 8)).max(1_000) } else { GUARD_UNMEASURED_US };
        let reported = self.send.handle_nak(list, now, guard, now - self.useful());
        self.stats.reported_lost += reported.new;
        self.stats.reported_holes += reported.holes;
        self.note_hole(now, reported.longest);
        self.stats.given_up += reported.too_late;
        if let Some((first, last)) = reported.gone {
            self.request_drop(first, last);
        }
    }

    /// How old a packet may be to come in time if it leaves now: a way longer by its queues than at
    /// the handshake eats into the latency. A peer that waits for everything has no limit.
    fn useful(&self) -> i64 {
        if self.agreed.drop_late { (micros(self.agreed.send_latency) + LATE_SPARE_US - self.rtt.queued()).max(0) } else { i64::MAX / 4 }
    }

    fn request_drop(&mut self, first: Seq, last: Seq) {
        self.queue(Control::DropRequest { message: 0, first, last });
    }

    fn handle_ackack(&mut self, now: i64, number: u32, timestamp: u32) {
        let Some(sent) = self.acks.answered(number) else { return };
        self.stats.acks_answered += 1;
        // A time of day that was set a little while the answer waited can make it seem early.
        let rtt = (now - sent).max(0);
        self.rtt.sample(now, rtt);
        Extent::note(&mut self.glance.rtt, rtt);
        self.base.handle_sample(now, timestamp, rtt);
    }

    // ---- time

    pub fn poll_timeout(&self) -> Option<i64> {
        if self.closed().is_some() {
            return None;
        }
        let mut at = self.last_heard + self.idle_us;
        let mut sooner = |t: Option<i64>| at = t.map_or(at, |t| at.min(t));
        sooner(self.receive.next_due(&self.base));
        if self.state == State::Draining {
            sooner(self.receive.is_empty().then_some(0));
            return Some(at);
        }
        sooner(self.receive.report_at());
        sooner(self.acks.at());
        sooner(Some(self.last_spoke + KEEP_ALIVE_US));
        sooner(self.send.has_work().then(|| self.ready_at()));
        sooner(self.send.tail_at(self.rtt.patience()));
        sooner(self.send.forget_at(self.horizon()));
        sooner(self.send_keys.as_ref().and_then(SendKeys::announce_at));
        if let State::Finishing { until } = self.state {
            sooner(Some(if self.send.is_empty() { 0 } else { until }));
        }
        Some(at)
    }

    /// Acts on every deadline that has passed; an extra call does nothing.
    pub fn handle_timeout(&mut self, now: i64) {
        if self.closed().is_some() {
            return;
        }
        if now - self.last_heard >= self.idle_us {
            let silence = Duration::from_micros(self.idle_us as u64);
            return self.close(CloseReason::Silent(silence));
        }
        let held_by_peer = self.send.is_held_by_peer();
        if let Some((count, first, last, unsent)) = self.send.forget_old(now, self.horizon()) {
            self.stats.send_dropped += u64::from(count);
            self.stats.window_dropped += if held_by_peer { u64::from(unsent) } else { 0 };
            self.request_drop(first, last);
        }
        match self.state {
            State::Finishing { until } if self.send.is_empty() || now >= until => return self.close(CloseReason::Closed),
            State::Draining if self.receive.is_empty() => {
                self.state = State::Closed(CloseReason::PeerClosed);
                return;
            }
            State::Draining => return,
            _ => {}
        }
        if let Some(list) = self.receive.poll_report(now, self.rtt.patience(), self.agreed.payload_max) {
            self.stats.naks_sent += 1;
            self.queue(Control::Nak(list));
        }
        if self.acks.is_due(now) {
            self.full_ack(now);
        }
        if self.send.tail_at(self.rtt.patience()).is_some_and(|t| now >= t) {
            self.send.resend_tail();
        }
        let announcement = self.send_keys.as_mut().and_then(|k| k.poll_announcement(now, self.rtt.rtt));
        announcement.into_iter().for_each(|a| self.queue(a));
        if now - self.last_spoke >= KEEP_ALIVE_US {
            self.queue(Control::KeepAlive);
        }
    }

    fn full_ack(&mut self, now: i64) {
        let next = self.receive.ack();
        let Some(number) = self.acks.full(now, next, self.rtt.patience()) else { return };
        self.stats.acks_sent += 1;
        let (packets_per_s, bytes_per_s) = self.rate.shown();
        // Without an estimate the field says no more than the one before it.
        let in_packets = |bps: u64| u32::try_from(bps / 8 / on_wire(packets_per_s, bytes_per_s)).unwrap_or(u32::MAX);
        let capacity = self.bursts.capacity(now).map_or(packets_per_s, in_packets);
        let ack = Ack {
            number,
            next,
            link: Some(AckLink { rtt_us: self.rtt.rtt as u32, rtt_var_us: self.rtt.var as u32, free_packets: self.receive.free().max(2) }),
            rates: Some(AckRates { packets_per_s, capacity_packets_per_s: capacity, bytes_per_s }),
        };
        self.queue(Control::Ack(ack));
    }

    // ---- output

    /// The next packet that is due for delivery, or will be within `ahead` µs.
    pub fn poll_release(&mut self, now: i64, ahead: i64) -> Option<Released> {
        let released = self.receive.release(now, ahead, &self.base)?;
        self.stats.delivered += 1;
        // A skipped hole moves the acknowledgement on.
        if released.skipped > 0 {
            self.acks.moved(now, self.receive.ack());
        }
        Some(released)
    }

    /// True when `poll_transmit` may have something.
    pub fn wants_transmit(&self, now: i64) -> bool {
        !self.control.is_empty() || self.wants_data(now)
    }

    fn wants_data(&self, now: i64) -> bool {
        matches!(self.state, State::Open | State::Finishing { .. }) && self.send.has_work() && self.ready_at() <= now
    }

    /// When the next packet may leave: as the pace has it, and not before the peer has the first
    /// own key.
    fn ready_at(&self) -> i64 {
        let until = self.send_keys.as_ref().and_then(SendKeys::held_until);
        until.map_or(self.pacer.ready_at(), |until| self.pacer.ready_at().max(until))
    }

    /// Appends one control packet, or up to `max` packets of the same size, the last of which may
    /// be shorter: data, and a control packet that waits alone behind it, since the system takes
    /// both in one go. Gives the size of each.
    pub fn poll_transmit(&mut self, now: i64, max: usize, buf: &mut Vec<u8>) -> Option<usize> {
        let start = buf.len();
        let rides = self.control.len() == 1 && max > 1;
        let data = (self.control.is_empty() || rides) && self.wants_data(now);
        let segment = if data { self.write_data(now, max - usize::from(rides), buf) } else { None };
        let Some(control) = self.control.front() else { return segment };
        let end = buf.len();
        control.encode(now as u32, self.agreed.peer_id, buf);
        let size = buf.len() - end;
        if segment.is_some_and(|s| size > s || !(end - start).is_multiple_of(s)) {
            // It goes by itself, the next time.
            buf.truncate(end);
            return segment;
        }
        self.control.pop_front();
        self.last_spoke = now;
        segment.or(Some(size))
    }

    /// Appends up to `max` data packets of the same size (the last may be shorter). Gives the size
    /// of each.
    fn write_data(&mut self, now: i64, max: usize, buf: &mut Vec<u8>) -> Option<usize> {
        let (oldest, waits_max) = (now - self.useful(), micros(self.agreed.send_latency) / NEW_WAITS_SHARE);
        let mut segment = None;
        for _ in 0..max {
            self.stats.given_up += self.send.give_up(oldest);
            // Repeats must not hold up new packets until these are late themselves.
            let new_first = self.send.next_new().is_some_and(|made| now - made > waits_max);
            if self.pacer.ready_at() > now {
                break;
            }
            let Some(len) = self.send.next_len(new_first) else {
                // An asked-for packet may have been acknowledged meanwhile: pass over it.
                if self.send.has_work() {
                    let _ = self.send.next(now, new_first);
                    continue;
                }
                break;
            };
            if segment.is_some_and(|s| len > s) {
                break;
            }
            let Some(pick) = self.send.next(now, new_first) else { break };
            let header = DataHeader {
                seq: pick.seq,
                in_order: false,
                position: 3,
                key: pick.packet.key,
                resent: pick.resent,
                message: pick.packet.message,
                timestamp: pick.packet.ts as u32,
                destination: self.agreed.peer_id,
            };
            let start = buf.len();
            header.encode(buf);
            let body = buf.len();
            buf.extend_from_slice(&pick.packet.payload);
            let mut encrypted = || self.send_keys.as_ref().is_some_and(|k| k.apply(header.key, header.seq, &mut buf[body..]));
            if header.key != KeyFlag::Clear && !encrypted() {
                // Its key is gone, which must not be: better lost than readable.
                buf.truncate(start);
                break;
            }
            self.stats.resent += u64::from(pick.resent);
            if !pick.resent {
                self.glance.waited_us = self.glance.waited_us.max(now - pick.packet.ts);
            }
            let on_wire = len + HEADER + IP_UDP;
            self.stats.left_bytes += on_wire as u64;
            self.pacer.spend(now, on_wire);
            self.last_spoke = now;
            let first = *segment.get_or_insert(len);
            if len < first {
                break;
            }
        }
        segment.map(|s| s + HEADER)
    }
}
