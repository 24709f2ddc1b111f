//! How links come up, are refused, go quiet and end.

mod arrival;
mod joining;
mod keys;
mod rendezvous;
mod sessions;
mod upkeep;

use choir_path::Faults;
use choir_proto::srt::{
    AcceptRule, CloseReason, Endpoint, Event, KeyLength, KeyState, LinkConfig, Passphrase, Refresh, RejectReason, RuleId, StreamMatch,
    wire::{Control, Handshake, HandshakeType, Packet},
};
use choir_rig::{
    hand::{Hand, listener},
    pair::{A, B, Pair, ms, number, payload},
};
use std::time::{Duration, Instant};

fn clean(seed: u64) -> Pair {
    let f = Faults { delay: ms(10), ..Faults::default() };
    Pair::new(seed, f.clone(), f)
}

fn pass(text: &str) -> LinkConfig {
    LinkConfig { passphrase: Passphrase::new(text).ok(), ..LinkConfig::default() }
}

fn stream(text: &str) -> LinkConfig {
    LinkConfig { stream_id: Some(text.into()), ..LinkConfig::default() }
}

fn closed(pair: &Pair, end: usize) -> Option<(CloseReason, Option<KeyState>)> {
    pair.seen[end].events.iter().find_map(|e| match e {
        Event::Closed { reason, key_state, .. } => Some((*reason, *key_state)),
        _ => None,
    })
}

fn refused(pair: &Pair) -> Option<(RejectReason, Option<KeyState>)> {
    pair.seen[B].events.iter().find_map(|e| match e {
        Event::Refused { reason, key_state, .. } => Some((*reason, *key_state)),
        _ => None,
    })
}
