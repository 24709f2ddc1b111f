//! The listening half: stateless until a caller has returned its cookie, then judged by rule.

use super::{
    LinkConfig,
    keycheck::KeyQueue,
    rules::{AcceptRule, StreamMatch},
    wire::{Handshake, HandshakeType, INDUCTION_MAGIC},
};
use hmac::{Hmac, Mac};
use std::net::{IpAddr, SocketAddr};

const MINUTE_US: i64 = 60_000_000;

#[derive(Debug)]
pub(super) struct Listener {
    pub id: u32,
    pub rules: Vec<AcceptRule>,
    secret: [u8; 32],
    /// Callers whose passphrase is to be checked.
    pub keys: KeyQueue,
}

impl Listener {
    pub fn new(id: u32, secret: [u8; 32]) -> Self {
        Self { id, rules: Vec::new(), secret, keys: KeyQueue::default() }
    }

    fn cookie(&self, from: SocketAddr, minute: i64) -> u32 {
        let Ok(mut mac) = Hmac::<sha1::Sha1>::new_from_slice(&self.secret) else { return 0 };
        match from.ip() {
            IpAddr::V4(ip) => mac.update(&ip.octets()),
            IpAddr::V6(ip) => mac.update(&ip.octets()),
        }
        mac.update(&from.port().to_be_bytes());
        mac.update(&minute.to_be_bytes());
        let tag = mac.finalize().into_bytes();
        u32::from_be_bytes([tag[0], tag[1], tag[2], tag[3]])
    }

    /// The induction response; keeps nothing.
    pub fn induction_response(&self, from: SocketAddr, request: &Handshake, now: i64, local: IpAddr) -> Handshake {
        let mut h = super::handshake::message(HandshakeType::Induction, self.id, &LinkConfig::default(), local);
        h.extension_field = INDUCTION_MAGIC;
        h.initial_seq = request.initial_seq;
        h.cookie = self.cookie(from, now / MINUTE_US);
        h
    }

    /// True for the cookie of this minute or the last.
    pub fn knows(&self, from: SocketAddr, cookie: u32, now: i64) -> bool {
        let minute = now / MINUTE_US;
        cookie == self.cookie(from, minute) || cookie == self.cookie(from, minute - 1)
    }

    pub fn rule_for(&self, stream_id: Option<&str>) -> Option<&AcceptRule> {
        let exact = self.rules.iter().filter(|r| r.stream != StreamMatch::Any).find(|r| r.stream.takes(stream_id));
        exact.or_else(|| self.rules.iter().find(|r| r.stream == StreamMatch::Any))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::srt::RuleId;

    #[test]
    fn a_cookie_holds_for_this_minute_and_the_next_and_for_one_address() {
        let listener = Listener::new(1, [7; 32]);
        let from: SocketAddr = ([127, 20, 0, 11], 5000).into();
        let cookie = listener.cookie(from, 3);
        assert!(listener.knows(from, cookie, 3 * MINUTE_US));
        assert!(listener.knows(from, cookie, 5 * MINUTE_US - 1));
        assert!(!listener.knows(from, cookie, 5 * MINUTE_US));
        assert!(!listener.knows(([127, 20, 0, 11], 5001).into(), cookie, 3 * MINUTE_US));
        assert!(!Listener::new(1, [8; 32]).knows(from, cookie, 3 * MINUTE_US));
    }

    #[test]
    fn exact_rules_come_before_any() {
        let mut listener = Listener::new(1, [7; 32]);
        let rule = |id, stream| AcceptRule {
            id: RuleId(id),
            stream,
            config: LinkConfig::default(),
            max_callers: 1,
            held: false,
            callers_send: true,
        };
        listener.rules = vec![rule(1, StreamMatch::Any), rule(2, StreamMatch::Exactly("launch".into()))];
        let of = |id: Option<&str>| listener.rule_for(id).map(|r| r.id.0);
        assert_eq!((of(None), of(Some("launch")), of(Some("#!::r=launch,u=me")), of(Some("x"))), (Some(1), Some(2), Some(2), Some(1)));
    }
}
