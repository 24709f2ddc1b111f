//! The endpoint's listening half: from a caller's conclusion to a connection or a refusal.

use super::{
    AcceptRule, CloseReason, Endpoint, Event, Joined, KeyState, LinkConfig, MAX_CONNECTIONS, RejectReason, RuleId, Seq,
    connection::Connection,
    crypto::{CipherKeys, KeyError},
    entries::{Entry, Phase, Slot},
    handshake,
    keycheck::{Checked, KeyCheck, KeyChecked, Waiting},
    wire::{Extension, Handshake, HandshakeType},
};
use rand_chacha::ChaCha20Rng;
use rand_core::{RngCore, SeedableRng};
use std::{net::SocketAddr, time::Instant};

/// A caller that has sent nothing like media for this long gives way to another.
const NOTHING_SENT_US: i64 = 500_000;

fn stream_id_of(h: &Handshake) -> Option<String> {
    h.extensions.iter().find_map(|e| if let Extension::StreamId(s) = e { Some(s.clone()) } else { None })
}

impl Endpoint {
    /// A caller's induction or conclusion; false when it is not for the listener after all.
    pub(super) fn listen_to(&mut self, now: i64, from: SocketAddr, h: &Handshake, timestamp: u32) -> bool {
        let local = self.local;
        let Some(listener) = &self.listener else { return false };
        if h.kind == HandshakeType::Induction {
            let response = listener.induction_response(from, h, now, local);
            self.reply(from, response, h.socket_id);
            return true;
        }
        if !listener.knows(from, h.cookie, now) {
            return false;
        }
        let known = self.entries.iter_mut().find_map(|(_, e)| match &mut e.phase {
            Phase::Up(c) if !e.over && e.peer == from && c.peer_id() == h.socket_id => e.reply.clone().map(|reply| (c, reply)),
            _ => None,
        });
        if let Some((c, (reply, to))) = known {
            c.note_heard(now);
            self.reply(from, reply, to);
            return true;
        }
        let stream_id = stream_id_of(h);
        let Some(listener) = &mut self.listener else { return false };
        let Some(rule) = listener.rule_for(stream_id.as_deref()).cloned() else {
            self.refuse(from, h, None, stream_id, RejectReason::StreamIdUnknown, None);
            return true;
        };
        if rule.held {
            self.refuse(from, h, Some(rule.id), stream_id, RejectReason::Held, None);
            return true;
        }
        if !rule.fits_mode(stream_id.as_deref()) {
            self.refuse(from, h, Some(rule.id), stream_id, RejectReason::Mode, None);
            return true;
        }
        if self.entries.len() >= MAX_CONNECTIONS {
            self.refuse(from, h, Some(rule.id), stream_id, RejectReason::Backlog, None);
            return true;
        }
        let keyed = h.extensions.iter().any(|e| matches!(e, Extension::KmReq(_)));
        if let (true, Some(passphrase)) = (keyed, &rule.config.passphrase) {
            if !listener.keys.push(Waiting::new(from, h.clone(), timestamp, now, rule.id, passphrase.clone())) {
                self.refuse(from, h, Some(rule.id), stream_id, RejectReason::Backlog, None);
            }
            return true;
        }
        self.judge(now, from, h, (timestamp, now), &rule, None);
        true
    }

    /// A passphrase check to be run on another thread; its result comes back by
    /// [`Endpoint::handle_key_check`]. Of callers one at a time.
    pub fn poll_key_check(&mut self, now: Instant) -> Option<KeyCheck> {
        let now = self.us(now);
        // One that this end meets goes first: it is not any caller, and it comes once.
        while let Some(id) = self.greeting_checks.pop_front() {
            let entry = self.entries.slot_of(id).and_then(|slot| self.entries.get(slot));
            if let Some(Phase::Greeting(g)) = entry.filter(|e| !e.over).map(|e| &e.phase)
                && let Some(check) = g.key_check()
            {
                return Some(check);
            }
        }
        self.listener.as_mut()?.keys.poll(now)
    }

    /// Takes the result of a check: the caller is let in or refused.
    pub fn handle_key_check(&mut self, now: Instant, checked: KeyChecked) {
        let now = self.us(now);
        if let Checked::Greeting(id) = checked.of {
            let Some(slot) = self.entries.slot_of(id) else { return };
            if let Some(Phase::Greeting(g)) = self.entries.touch(slot).filter(|e| !e.over).map(|e| &mut e.phase) {
                let step = g.handle_checked(now, checked.keys);
                self.apply(slot, step, now);
            }
            return;
        }
        let Some(listener) = &mut self.listener else { return };
        let Some(caller) = listener.keys.done(&checked) else { return };
        // Meanwhile the rule may have been held.
        let Some(rule) = listener.rules.iter().find(|r| r.id == caller.rule && !r.held).cloned() else { return };
        self.judge(now, caller.from, &caller.handshake, (caller.timestamp, caller.arrived), &rule, Some(checked.keys));
    }

    /// Lets a caller in, or refuses it. `clock` is its timestamp and when that came.
    fn judge(
        &mut self,
        now: i64,
        from: SocketAddr,
        h: &Handshake,
        clock: (u32, i64),
        rule: &AcceptRule,
        checked: Option<Result<CipherKeys, KeyError>>,
    ) {
        let stream_id = stream_id_of(h);
        let local = self.local;
        let id = self.draw_id();
        let known = checked.as_ref().is_some_and(Result::is_ok);
        let own_seq = rule.config.initial_seq.unwrap_or_else(|| Seq::new(self.rng.next_u32()));
        let answer = match handshake::answer(h, &rule.config, clock.1, clock.0, own_seq, checked) {
            Ok(answer) => answer,
            Err(refusal) => return self.refuse(from, h, Some(rule.id), stream_id, refusal.reason, refusal.key_state),
        };
        if !self.make_room(now, from, rule, stream_id.as_deref(), known) {
            return self.refuse(from, h, Some(rule.id), stream_id, RejectReason::InUse, None);
        }
        let mut response = handshake::message(HandshakeType::Conclusion, id, &rule.config, local);
        response.cookie = h.cookie;
        response.initial_seq = own_seq;
        response.encryption = answer.encryption;
        response.extension_field = 1 | if answer.extensions.len() > 1 { 2 } else { 0 };
        response.extensions = answer.extensions;
        let mut seed = [0; 32];
        self.rng.fill_bytes(&mut seed);
        let c = Connection::new(&rule.config, answer.agreed, now, ChaCha20Rng::from_seed(seed));
        let mut entry = Entry::new(id, from, Some(rule.id), Phase::Up(Box::new(c)), Some((response.clone(), h.socket_id)));
        entry.stream_id.clone_from(&stream_id);
        let conn = self.insert(entry);
        self.reply(from, response, h.socket_id);
        self.push_event(Event::Joined(Joined { conn, rule: Some(rule.id), peer: from, stream_id }));
    }

    /// True when the rule has room for one more. The place is taken of a connection whose peer is
    /// gone or has nothing to send: the same sender (by its passphrase, its stream ID, or its
    /// address) from wherever it is now, when it has been silent well beyond its gaps; and of a
    /// stranger that has sent nothing that could be media.
    fn make_room(&mut self, now: i64, from: SocketAddr, rule: &AcceptRule, stream_id: Option<&str>, known: bool) -> bool {
        let mut count = 0;
        let mut gone = None;
        let of_rule = |(_, e): &(Slot, &Entry)| !e.over && e.rule == Some(rule.id);
        let slots: Vec<Slot> = self.entries.iter().filter(of_rule).map(|(slot, _)| slot).collect();
        for slot in slots {
            let Some(entry) = self.entries.touch(slot) else { continue };
            let Phase::Up(c) = &mut entry.phase else { continue };
            if c.closed().is_some() {
                continue;
            }
            count += 1;
            let same = known || entry.peer.ip() == from.ip() || (stream_id.is_some() && entry.stream_id.as_deref() == stream_id);
            let idle = rule.callers_send && c.brought_nothing() && now - entry.since > NOTHING_SENT_US;
            if entry.peer == from {
                c.set_rival();
            }
            if (same && c.is_silent(now)) || idle {
                gone = Some((entry.peer == from, slot));
            }
        }
        if count < rule.max_callers {
            return true;
        }
        let Some((rival, slot)) = gone else { return false };
        if let Some(Phase::Up(c)) = self.entries.touch(slot).map(|e| &mut e.phase) {
            // To a rival its goodbye would go.
            if rival { c.drop_quietly(CloseReason::Replaced) } else { c.close(CloseReason::Replaced) }
        }
        self.entries.note_ending(slot);
        self.sweep();
        true
    }

    fn refuse(
        &mut self,
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
        self.reply(from, answer, h.socket_id);
        self.push_event(Event::Refused { from, rule, stream_id, reason, key_state });
    }
}
