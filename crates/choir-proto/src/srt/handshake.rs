//! Handshake version 5: caller, listener and both roles of a rendezvous.
//!
//! ```text
//! caller:      Inducing ──induction response──► Concluding ──conclusion response──► joined
//! rendezvous:  Waving ──cookie contest──► Initiating ──HSRSP──► joined, sends agreement
//!                                    └──► Answering ──HSREQ──► Answered ──agreement or data──► joined
//! ```

use super::{
    CloseReason, KeyState, LinkConfig, RejectReason, Seq,
    connection::Agreed,
    crypto::{CipherKeys, KeyError},
    keycheck::{Checked, KeyCheck},
    path::IP_UDP,
    wire::{Control, Extension, HEADER, Handshake, HandshakeType, HsCaps, INDUCTION_MAGIC, flags},
};
use rand_chacha::ChaCha20Rng;
use rand_core::{RngCore, SeedableRng};
use std::{net::IpAddr, time::Duration};

const REPEAT_US: i64 = 250_000;
/// An end that has heard from its peer is given this long at least to finish: to leave in the midst
/// of it would leave the peer joined to nobody.
const FINISH_US: i64 = 6 * REPEAT_US;
/// Lowest version that speaks handshake version 5.
const SRT_VERSION: u32 = 0x01_03_00;
const MTU: u32 = 1500;
/// Least payload that a peer's MSS must leave: one packet of a transport stream.
const PAYLOAD_LEAST: usize = 188;

pub(super) fn millis(d: Duration) -> u16 {
    u16::try_from(d.as_millis()).unwrap_or(u16::MAX)
}
fn from_millis(ms: u16) -> Duration {
    Duration::from_millis(ms.into())
}

/// A bare handshake from this end.
pub(super) fn message(kind: HandshakeType, id: u32, config: &LinkConfig, local: IpAddr) -> Handshake {
    Handshake {
        version: 5,
        encryption: 0,
        extension_field: 0,
        initial_seq: Seq::new(0),
        mtu: MTU,
        window: config.window(),
        kind,
        socket_id: id,
        cookie: 0,
        peer_ip: Handshake::ip_field(local),
        extensions: Vec::new(),
    }
}

/// The extension list with its bits in the extension field.
fn attach(h: &mut Handshake, extensions: Vec<Extension>) {
    h.extension_field = extensions.iter().fold(0, |bits, e| {
        bits | match e {
            Extension::HsReq(_) | Extension::HsRsp(_) => 1,
            Extension::KmReq(_) | Extension::KmRsp(_) => 2,
            _ => 4,
        }
    });
    h.extensions = extensions;
}

fn request_extensions(config: &LinkConfig, keys: Option<&CallKeys>) -> Vec<Extension> {
    let mut list = vec![Extension::HsReq(HsCaps {
        version: SRT_VERSION,
        flags: flags::LIVE,
        receiver_delay: millis(config.receive_latency),
        sender_delay: millis(config.send_latency),
    })];
    list.extend(keys.map(|k| Extension::KmReq(k.message.clone())));
    list.extend(config.stream_id.clone().map(Extension::StreamId));
    list
}

/// What the responder made of a request.
pub(super) struct Answer {
    pub agreed: Agreed,
    pub extensions: Vec<Extension>,
    pub encryption: u16,
}

/// A refusal, with the key state to show when it is about encryption.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Refusal {
    pub reason: RejectReason,
    pub key_state: Option<KeyState>,
}

impl From<RejectReason> for Refusal {
    fn from(reason: RejectReason) -> Self {
        Self { reason, key_state: None }
    }
}

fn secret(reason: RejectReason, state: KeyState) -> Refusal {
    Refusal { reason, key_state: Some(state) }
}

fn check_flags(caps: &HsCaps) -> Result<(), Refusal> {
    if caps.version < SRT_VERSION {
        return Err(RejectReason::Version.into());
    }
    if caps.flags & flags::STREAM != 0 {
        return Err(RejectReason::MessageApi.into());
    }
    Ok(())
}

/// Most payload bytes of a packet to a peer with this MSS, which counts IP and UDP headers too.
fn payload_max(mss: u32) -> usize {
    (mss.min(MTU) as usize).saturating_sub(IP_UDP + HEADER)
}

/// The responder's half: judges an HSREQ and its companions against our settings. `checked` is what
/// became of its key message, which has been looked at where both sides have a secret.
pub(super) fn answer(
    h: &Handshake,
    config: &LinkConfig,
    arrived: i64,
    timestamp: u32,
    local_isn: Seq,
    checked: Option<Result<CipherKeys, KeyError>>,
) -> Result<Answer, Refusal> {
    if payload_max(h.mtu) < PAYLOAD_LEAST {
        return Err(RejectReason::Rogue.into());
    }
    if h.version < 5 {
        return Err(RejectReason::Version.into());
    }
    let caps = h.extensions.iter().find_map(|e| if let Extension::HsReq(c) = e { Some(*c) } else { None });
    let caps = caps.ok_or(RejectReason::Rogue)?;
    check_flags(&caps)?;
    let mut km = None;
    for extension in &h.extensions {
        match extension {
            Extension::KmReq(m) => km = Some(m),
            Extension::Congestion(name) if name != "live" => return Err(RejectReason::Congestion.into()),
            Extension::Filter => return Err(RejectReason::Filter.into()),
            Extension::Group => return Err(RejectReason::Group.into()),
            _ => {}
        }
    }
    let keys = match (km, &config.passphrase) {
        (None, None) => None,
        (Some(_), None) => return Err(secret(RejectReason::Unsecure, KeyState::NoPassphraseHere)),
        (None, Some(_)) => return Err(secret(RejectReason::Unsecure, KeyState::NoPassphraseThere)),
        (Some(_), Some(_)) => match checked.unwrap_or(Err(KeyError::Malformed)) {
            Ok(keys) => Some(keys),
            Err(KeyError::BadSecret) => return Err(secret(RejectReason::BadSecret, KeyState::PassphraseDiffers)),
            Err(KeyError::Malformed) => return Err(RejectReason::Rogue.into()),
        },
    };
    let encryption = keys.as_ref().and_then(CipherKeys::length).map_or(0, |l| l.code());
    let agreed = Agreed { peers_keys: true, ..agree(h, config, &caps, (arrived, timestamp), local_isn, keys) };
    let mut extensions = vec![Extension::HsRsp(HsCaps {
        version: SRT_VERSION,
        flags: flags::LIVE,
        receiver_delay: millis(agreed.receive_latency),
        sender_delay: millis(agreed.send_latency),
    })];
    if let Some(m) = km {
        extensions.push(Extension::KmRsp(m.clone()));
    }
    Ok(Answer { agreed, extensions, encryption })
}

/// What both halves come to: each latency is the greater wish of the two ends.
fn agree(h: &Handshake, config: &LinkConfig, caps: &HsCaps, clock: (i64, u32), local_isn: Seq, keys: Option<CipherKeys>) -> Agreed {
    let there = (from_millis(caps.sender_delay), from_millis(caps.receiver_delay));
    Agreed {
        peer_id: h.socket_id,
        local_isn,
        peer_isn: h.initial_seq,
        peer_window: h.window,
        payload_max: payload_max(h.mtu),
        round_trip: None,
        arrived: clock.0,
        peer_timestamp: clock.1,
        receive_latency: config.receive_latency.max(there.0),
        send_latency: config.send_latency.max(there.1),
        latency_there: there,
        peer_version: caps.version,
        drop_late: caps.flags & flags::TLPKTDROP != 0,
        keys,
        peers_keys: false,
    }
}

/// The initiator's half: takes the HSRSP to its request.
fn accept_response(
    h: &Handshake,
    config: &LinkConfig,
    arrived: i64,
    timestamp: u32,
    local_isn: Seq,
    keys: Option<&CallKeys>,
) -> Result<Agreed, Refusal> {
    if payload_max(h.mtu) < PAYLOAD_LEAST {
        return Err(RejectReason::Rogue.into());
    }
    let caps = h.extensions.iter().find_map(|e| if let Extension::HsRsp(c) = e { Some(*c) } else { None });
    let caps = caps.ok_or(RejectReason::Rogue)?;
    check_flags(&caps)?;
    let km = h.extensions.iter().find_map(|e| if let Extension::KmRsp(m) = e { Some(m) } else { None });
    let keys = match (keys, km) {
        (None, None) => None,
        (None, Some(_)) => return Err(secret(RejectReason::Unsecure, KeyState::NoPassphraseHere)),
        (Some(_), None) => return Err(secret(RejectReason::Unsecure, KeyState::NoPassphraseThere)),
        (Some(own), Some(m)) => match m.len() {
            // One word is the refusal form: 3 no secret, 4 bad secret.
            4 if m[3] == 3 => return Err(secret(RejectReason::Unsecure, KeyState::NoPassphraseThere)),
            4 => return Err(secret(RejectReason::BadSecret, KeyState::PassphraseDiffers)),
            _ if own.message == *m => Some(own.keys.clone()),
            _ => return Err(secret(RejectReason::BadSecret, KeyState::PassphraseDiffers)),
        },
    };
    Ok(agree(h, config, &caps, (arrived, timestamp), local_isn, keys))
}

/// What a step of a greeting led to.
#[derive(Debug)]
pub(super) enum Step {
    Stay,
    /// The peer's key message is to be checked first.
    Check,
    Joined(Box<Agreed>),
    Failed(CloseReason, Option<KeyState>),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Inducing,
    Concluding { cookie: u32, asked: u32 },
    Waving,
    Initiating,
    Answering,
    Answered,
}

/// The keys of a call, wrapped with its passphrase: that costs 2048 hash rounds, about a
/// millisecond.
#[derive(Debug, Clone)]
pub struct CallKeys {
    keys: CipherKeys,
    message: Vec<u8>,
}

impl CallKeys {
    /// Draws them for a call; none where it has no passphrase. The seed must come from the system's
    /// randomness, in tests from anywhere.
    #[must_use]
    pub fn draw(config: &LinkConfig, seed: [u8; 32]) -> Option<Self> {
        let passphrase = config.passphrase.as_ref()?;
        let mut keys = CipherKeys::generate(config.key_length, &mut ChaCha20Rng::from_seed(seed));
        let message = keys.to_message(passphrase)?;
        Some(Self { keys, message })
    }
}

/// A greeting under way from this end, as caller or in rendezvous.
#[derive(Debug)]
pub(super) struct Greeting {
    pub config: LinkConfig,
    pub id: u32,
    isn: Seq,
    phase: Phase,
    keys: Option<CallKeys>,
    give_up_at: i64,
    next_send: i64,
    own_cookie: u32,
    peer_cookie: Option<u32>,
    peer_id: u32,
    answered: Option<Box<(Agreed, Vec<Extension>, u16)>>,
    /// A request whose keys are being checked, its timestamp, and when it came.
    checking: Option<Box<(Handshake, u32, i64)>>,
    /// Refusal to send before the greeting ends.
    farewell: Option<RejectReason>,
    unreachable: bool,
    junk: bool,
    /// When the caller's conclusion left, as long as it left once only.
    concluded: Option<i64>,
}

impl Greeting {
    /// Begins one, as caller or to meet a peer that does the same.
    pub fn new(config: LinkConfig, keys: Option<CallKeys>, id: u32, now: i64, rng: &mut impl RngCore, rendezvous: bool) -> Self {
        let phase = if rendezvous { Phase::Waving } else { Phase::Inducing };
        let isn = config.initial_seq.unwrap_or_else(|| Seq::new(rng.next_u32()));
        let give_up_after = config.connect_timeout.as_micros() as i64;
        Self {
            config,
            id,
            isn,
            phase,
            keys,
            give_up_at: now + give_up_after,
            next_send: now,
            // Below 2^31, so that signed and unsigned comparison agree.
            own_cookie: rng.next_u32() >> 1,
            peer_cookie: None,
            peer_id: 0,
            answered: None,
            checking: None,
            farewell: None,
            unreachable: false,
            junk: false,
            concluded: None,
        }
    }

    pub fn is_rendezvous(&self) -> bool {
        !matches!(self.phase, Phase::Inducing | Phase::Concluding { .. })
    }

    /// The host said that nothing listens there; told apart from silence when we give up.
    /// True the first time.
    pub fn note_unreachable(&mut self) -> bool {
        !std::mem::replace(&mut self.unreachable, true)
    }

    /// Something came from the peer that is no SRT.
    pub fn note_junk(&mut self) {
        self.junk = true;
    }

    pub fn poll_timeout(&self) -> i64 {
        self.next_send.min(self.give_up_at)
    }

    /// The peer is there: what comes next is sent at once, and may take its time.
    fn met(&mut self, now: i64) {
        self.next_send = now;
        self.give_up_at = self.give_up_at.max(now + FINISH_US);
    }

    pub fn handle_timeout(&self, now: i64) -> Step {
        if now < self.give_up_at {
            return Step::Stay;
        }
        let reason = match () {
            () if self.unreachable => CloseReason::PortClosed,
            () if self.junk => CloseReason::NotVersion5,
            () => CloseReason::NoAnswer(self.config.connect_timeout),
        };
        Step::Failed(reason, None)
    }

    /// The message to send now, if one is due.
    pub fn poll_transmit(&mut self, now: i64, local: IpAddr, buf: &mut Vec<u8>) -> bool {
        if let Some(reason) = self.farewell.take() {
            let mut h = message(HandshakeType::Rejection(reason), self.id, &self.config, local);
            h.cookie = self.own_cookie;
            Control::Handshake(Box::new(h)).encode(now as u32, self.peer_id, buf);
            return true;
        }
        if now < self.next_send {
            return false;
        }
        self.next_send = now + REPEAT_US;
        if let Phase::Concluding { asked, .. } = &mut self.phase {
            *asked += 1;
            self.concluded = (*asked == 1).then_some(now);
        }
        let (h, destination) = self.current(local);
        Control::Handshake(Box::new(h)).encode(now as u32, destination, buf);
        true
    }

    fn current(&self, local: IpAddr) -> (Handshake, u32) {
        let mut h = message(HandshakeType::Conclusion, self.id, &self.config, local);
        h.initial_seq = self.isn;
        let key_code = self.config.passphrase.as_ref().map_or(0, |_| self.config.key_length.code());
        match self.phase {
            Phase::Inducing => {
                (h.version, h.kind, h.extension_field) = (4, HandshakeType::Induction, 2);
                return (h, 0);
            }
            Phase::Concluding { cookie, .. } => {
                (h.cookie, h.encryption) = (cookie, key_code);
                attach(&mut h, request_extensions(&self.config, self.keys.as_ref()));
                return (h, 0);
            }
            Phase::Waving => h.kind = HandshakeType::Waveahand,
            Phase::Initiating => {
                h.encryption = key_code;
                attach(&mut h, request_extensions(&self.config, self.keys.as_ref()));
            }
            Phase::Answering => {}
            Phase::Answered => {
                if let Some(a) = &self.answered {
                    h.encryption = a.2;
                    attach(&mut h, a.1.clone());
                }
            }
        }
        h.cookie = self.own_cookie;
        (h, self.peer_id)
    }

    /// Takes a handshake from the peer's address.
    pub fn handle(&mut self, now: i64, h: &Handshake, timestamp: u32) -> Step {
        if let HandshakeType::Rejection(reason) = h.kind {
            let state = match reason {
                RejectReason::BadSecret => Some(KeyState::PassphraseDiffers),
                RejectReason::Unsecure if self.config.passphrase.is_some() => Some(KeyState::NoPassphraseThere),
                RejectReason::Unsecure => Some(KeyState::NoPassphraseHere),
                _ => None,
            };
            return Step::Failed(CloseReason::RefusedByPeer(reason), state);
        }
        if self.is_rendezvous() { self.handle_rendezvous(now, h, timestamp) } else { self.handle_caller(now, h, timestamp) }
    }

    fn handle_caller(&mut self, now: i64, h: &Handshake, timestamp: u32) -> Step {
        match (self.phase, h.kind) {
            (Phase::Inducing, HandshakeType::Induction) => {
                if h.version < 5 || h.extension_field != INDUCTION_MAGIC {
                    return Step::Failed(CloseReason::NotVersion5, None);
                }
                self.phase = Phase::Concluding { cookie: h.cookie, asked: 0 };
                self.met(now);
                Step::Stay
            }
            (Phase::Concluding { .. }, HandshakeType::Conclusion) => {
                let round_trip = self.concluded.map(|at| now - at);
                let agreed = accept_response(h, &self.config, now, timestamp, self.isn, self.keys.as_ref());
                self.finish(agreed.map(|a| Agreed { round_trip, ..a }))
            }
            _ => Step::Stay,
        }
    }

    fn finish(&mut self, result: Result<Agreed, Refusal>) -> Step {
        match result {
            Ok(agreed) => Step::Joined(Box::new(agreed)),
            Err(refusal) => {
                self.farewell = Some(refusal.reason);
                Step::Failed(CloseReason::RefusedHere(refusal.reason), refusal.key_state)
            }
        }
    }

    fn handle_rendezvous(&mut self, now: i64, h: &Handshake, timestamp: u32) -> Step {
        if h.version < 5 {
            return Step::Failed(CloseReason::NotVersion5, None);
        }
        if self.peer_cookie.is_none() {
            self.peer_cookie = Some(h.cookie);
            self.peer_id = h.socket_id;
            if h.cookie == self.own_cookie {
                return self.finish(Err(RejectReason::RendezvousCookie.into()));
            }
            let greater = (self.own_cookie as i32) > (h.cookie as i32);
            self.phase = if greater { Phase::Initiating } else { Phase::Answering };
            self.met(now);
        }
        // A peer that started anew waves with another id: begin the contest again.
        if self.peer_id != h.socket_id {
            self.peer_cookie = None;
            self.answered = None;
            self.phase = Phase::Waving;
            return self.handle_rendezvous(now, h, timestamp);
        }
        let has_request = h.extensions.iter().any(|e| matches!(e, Extension::HsReq(_)));
        let has_response = h.extensions.iter().any(|e| matches!(e, Extension::HsRsp(_)));
        match (self.phase, h.kind) {
            (Phase::Initiating, HandshakeType::Conclusion) if has_response => {
                self.finish(accept_response(h, &self.config, now, timestamp, self.isn, self.keys.as_ref()))
            }
            // Its cookie is one of 2^31 and more, and it has compared them without a sign: so it
            // leads.
            (Phase::Initiating, HandshakeType::Conclusion) if has_request && h.cookie > i32::MAX as u32 => {
                self.phase = Phase::Answering;
                self.handle_rendezvous(now, h, timestamp)
            }
            (Phase::Initiating, HandshakeType::Conclusion) => {
                self.next_send = now;
                Step::Stay
            }
            (Phase::Answering, HandshakeType::Conclusion) if self.checking.is_some() => Step::Stay,
            (Phase::Answering, HandshakeType::Conclusion) if has_request => {
                let keyed = h.extensions.iter().any(|e| matches!(e, Extension::KmReq(_)));
                if keyed && self.config.passphrase.is_some() {
                    self.checking = Some(Box::new((h.clone(), timestamp, now)));
                    return Step::Check;
                }
                self.answer(now, h, timestamp, now, None)
            }
            (Phase::Answered, HandshakeType::Conclusion) => {
                self.next_send = now;
                Step::Stay
            }
            (Phase::Answered, HandshakeType::Agreement) => self.handle_first_packet(),
            _ => Step::Stay,
        }
    }

    fn answer(&mut self, now: i64, h: &Handshake, timestamp: u32, arrived: i64, checked: Option<Result<CipherKeys, KeyError>>) -> Step {
        match answer(h, &self.config, arrived, timestamp, self.isn, checked) {
            Ok(a) => {
                self.answered = Some(Box::new((a.agreed, a.extensions, a.encryption)));
                self.phase = Phase::Answered;
                self.next_send = now;
                Step::Stay
            }
            Err(refusal) => self.finish(Err(refusal)),
        }
    }

    /// The check that a peer's request waits for.
    pub fn key_check(&self) -> Option<KeyCheck> {
        let (h, ..) = self.checking.as_deref()?;
        Some(KeyCheck::of(Checked::Greeting(self.id), h, self.config.passphrase.clone()?))
    }

    /// Goes on with a request whose keys have been checked.
    pub fn handle_checked(&mut self, now: i64, keys: Result<CipherKeys, KeyError>) -> Step {
        match self.checking.take() {
            // Meanwhile the peer may have started anew.
            Some(request) if self.phase == Phase::Answering && request.0.socket_id == self.peer_id => {
                let (h, timestamp, arrived) = *request;
                self.answer(now, &h, timestamp, arrived, Some(keys))
            }
            _ => Step::Stay,
        }
    }

    /// Any packet of the connection tells an answering end that it is joined.
    pub fn handle_first_packet(&mut self) -> Step {
        match (self.phase, self.answered.take()) {
            (Phase::Answered, Some(a)) => Step::Joined(Box::new(a.0)),
            (_, other) => {
                self.answered = other;
                Step::Stay
            }
        }
    }

    /// The agreement that an initiator sends once joined, and again when the answer is repeated.
    pub fn agreement(&self, local: IpAddr) -> Option<Handshake> {
        (self.phase == Phase::Initiating).then(|| {
            let mut h = message(HandshakeType::Agreement, self.id, &self.config, local);
            (h.cookie, h.initial_seq) = (self.own_cookie, self.isn);
            h
        })
    }

    pub fn has_farewell(&self) -> bool {
        self.farewell.is_some()
    }
}
