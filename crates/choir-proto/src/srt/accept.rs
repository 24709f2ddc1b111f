//! The endpoint's listening half: from a caller's conclusion to a connection or a refusal.

use super::{
    AcceptRule, CloseReason, Endpoint, Event, Joined, KeyState, LinkConfig, MAX_CONNECTIONS, RejectReason, RuleId,
    connection::Connection,
    endpoint::Phase,
    handshake,
    wire::{Extension, Handshake, HandshakeType},
};
use rand_chacha::ChaCha20Rng;
use rand_core::{RngCore, SeedableRng};
use std::{net::SocketAddr, time::Duration};

/// A caller that comes back takes the place of its silent forerunner after this long.
const REPLACE_AFTER_US: i64 = 1_500_000;

impl Endpoint {
    /// A caller's induction or conclusion; false when it is not for the listener after all.
    pub(super) fn listen_to(&mut self, now: i64, from: SocketAddr, h: &Handshake, timestamp: u32) -> bool {
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
        if rule.held {
            self.refuse(now, from, h, Some(rule.id), stream_id, RejectReason::Held, None);
            return true;
        }
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
}
