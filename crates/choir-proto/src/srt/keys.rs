//! The keys of a connection: what this end sends is encrypted with its own, announced, switched and
//! retired by the packets they have served; those of the peer are taken as they are announced (SRT
//! draft, 6.1.6).

use super::{
    Passphrase, Refresh, Seq,
    crypto::{CipherKeys, KeyError},
    wire::{Control, KeyFlag},
};
use rand_chacha::ChaCha20Rng;

/// Key messages are costly to unwrap (2048 rounds); more often than this they are junk.
const KEY_MESSAGE_EVERY_US: i64 = 100_000;
/// Packets wait so long for the peer to have the first own key, which is announced so often
/// meanwhile. A peer that never says so gets them then.
const KEY_WAITS_US: i64 = 1_000_000;
const FIRST_KEY_EVERY_US: i64 = 20_000;
/// A key serves so many times its packets at most while its successor is not confirmed: 2^30 as a
/// rule.
const UNCONFIRMED_MOST: u64 = 64;
/// What a key message is answered with that cannot be taken: there is no passphrase here, or
/// another one.
const NO_SECRET: u32 = 3;
const BAD_SECRET: u32 = 4;

/// Of what this end sends.
#[derive(Debug)]
pub(super) struct SendKeys {
    flag: KeyFlag,
    keys: CipherKeys,
    passphrase: Passphrase,
    refresh: Refresh,
    rng: ChaCha20Rng,
    /// Packets encrypted with the present key.
    used: u64,
    announced: Option<Announced>,
    /// The key in use is the peer's: who replays its greeting, or has the other direction, must not
    /// find two texts under it.
    borrowed: bool,
    old_until: Option<u64>,
    /// Keys switched to.
    pub refreshes: u64,
}

#[derive(Debug)]
struct Announced {
    message: Vec<u8>,
    since: i64,
    next_at: i64,
    confirmed: bool,
    /// It is in use already.
    first: bool,
}

impl SendKeys {
    /// Keys that are the peer's (`borrowed`) are used for nothing but to tell it the first own one.
    pub fn new(keys: CipherKeys, passphrase: Passphrase, refresh: Refresh, borrowed: bool, rng: ChaCha20Rng) -> Self {
        let flag = keys.first();
        Self { flag, keys, passphrase, refresh, rng, used: 0, announced: None, borrowed, old_until: None, refreshes: 0 }
    }

    /// The key of the next packet. `oldest` is that of the oldest packet that may be asked for
    /// again.
    pub fn next(&mut self, now: i64, oldest: Option<KeyFlag>) -> KeyFlag {
        self.turn(now, oldest);
        self.used += 1;
        self.flag
    }

    fn turn(&mut self, now: i64, oldest: Option<KeyFlag>) {
        let refresh = self.refresh;
        let other = if self.flag == KeyFlag::Even { KeyFlag::Odd } else { KeyFlag::Even };
        if std::mem::take(&mut self.borrowed) {
            self.flag = other;
            self.announce(now, other, true);
            return;
        }
        // A slot is free only when no packet of its key can be asked for any more.
        let free = oldest != Some(other);
        if free && self.old_until.is_some_and(|n| self.used >= n) {
            self.keys.retire(other);
            self.old_until = None;
        }
        // Numbers come round after 2^31 packets: no key may live for that long, confirmed or not.
        let overdue = self.used >= refresh.after.saturating_mul(UNCONFIRMED_MOST);
        if overdue {
            self.announced.take_if(|a| a.first);
        }
        if free && self.announced.is_none() && self.used + refresh.announce.min(refresh.after / 2) >= refresh.after {
            self.old_until = None;
            self.announce(now, other, false);
        }
        // An unconfirmed key is not switched to before that: the peer could not read a packet.
        if self.used >= refresh.after && self.announced.as_ref().is_some_and(|a| (a.confirmed || overdue) && !a.first) {
            self.flag = other;
            self.used = 0;
            self.announced = None;
            self.old_until = Some(refresh.announce.min(refresh.after / 4).max(1));
            self.refreshes += 1;
        }
    }

    fn announce(&mut self, now: i64, slot: KeyFlag, first: bool) {
        self.keys.renew(slot, &mut self.rng);
        if let Some(message) = self.keys.to_message(&self.passphrase) {
            self.announced = Some(Announced { message, since: now, next_at: now, confirmed: false, first });
        }
    }

    fn unconfirmed(&self) -> Option<&Announced> {
        self.announced.as_ref().filter(|a| !a.confirmed)
    }

    /// Since when the peer has not confirmed a key.
    pub fn unconfirmed_since(&self) -> Option<i64> {
        self.unconfirmed().map(|a| a.since)
    }

    /// Nothing may leave before that: the peer does not have the first own key.
    pub fn held_until(&self) -> Option<i64> {
        self.unconfirmed().filter(|a| a.first).map(|a| a.since + KEY_WAITS_US)
    }

    /// The peer has answered a key message.
    pub fn handle_response(&mut self, message: &[u8]) {
        self.announced.iter_mut().for_each(|a| a.confirmed |= a.message == message);
        self.announced.take_if(|a| a.confirmed && a.first);
    }

    /// When a key is to be announced.
    pub fn announce_at(&self) -> Option<i64> {
        self.unconfirmed().map(|a| a.next_at)
    }

    /// The key message that is due.
    pub fn poll_announcement(&mut self, now: i64, rtt: i64) -> Option<Control> {
        let a = self.announced.as_mut().filter(|a| !a.confirmed && now >= a.next_at)?;
        let every = if a.first && now - a.since < KEY_WAITS_US { FIRST_KEY_EVERY_US } else { (rtt * 3 / 2).max(FIRST_KEY_EVERY_US) };
        a.next_at = now + every;
        Some(Control::KeyRequest(a.message.clone()))
    }

    /// Encrypts in place. False if the key is gone.
    #[must_use]
    pub fn apply(&self, key: KeyFlag, seq: Seq, data: &mut [u8]) -> bool {
        self.keys.apply(key, seq, data)
    }
}

/// Of what this end receives.
#[derive(Debug)]
pub(super) struct ReceiveKeys {
    keys: CipherKeys,
    passphrase: Passphrase,
    /// The last message, when it came, and what it was answered with.
    last: Option<(Vec<u8>, i64, Option<Control>)>,
}

impl ReceiveKeys {
    pub fn new(keys: CipherKeys, passphrase: Passphrase) -> Self {
        Self { keys, passphrase, last: None }
    }

    /// Decrypts in place. False where there is no such key.
    #[must_use]
    pub fn apply(&self, key: KeyFlag, seq: Seq, data: &mut [u8]) -> bool {
        self.keys.apply(key, seq, data)
    }

    /// Takes the keys of a message, and gives the answer.
    pub fn handle_request(&mut self, now: i64, message: Vec<u8>) -> Option<Control> {
        if let Some((last, at, answer)) = &self.last {
            if *last == message {
                return answer.clone();
            }
            if now - at < KEY_MESSAGE_EVERY_US {
                return None;
            }
        }
        let answer = match self.keys.take_message(&message, &self.passphrase) {
            Ok(()) => Some(Control::KeyResponse(message.clone())),
            Err(KeyError::BadSecret) => Some(refusal(BAD_SECRET)),
            Err(KeyError::Malformed) => None,
        };
        self.last = Some((message, now, answer.clone()));
        answer
    }
}

/// The answer of a link in the clear to a key message.
pub(super) fn no_secret() -> Control {
    refusal(NO_SECRET)
}

fn refusal(state: u32) -> Control {
    Control::KeyResponse(state.to_be_bytes().to_vec())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::srt::KeyLength;
    use rand_core::SeedableRng;

    fn pass(words: &str) -> Passphrase {
        Passphrase::new(words).expect("a passphrase")
    }

    #[test]
    fn a_message_that_was_refused_is_refused_again() {
        let mut rng = ChaCha20Rng::seed_from_u64(7);
        let keys = CipherKeys::generate(KeyLength::from_bytes(16).expect("a length"), &mut rng);
        let mut here = ReceiveKeys::new(keys.clone(), pass("eight oars and a cox"));
        let message = |words: &str| keys.clone().to_message(&pass(words)).expect("a message");
        let (wrong, right) = (message("seven oars and a cox"), message("eight oars and a cox"));
        for now in [0, 20_000, 500_000] {
            assert_eq!(here.handle_request(now, wrong.clone()), Some(refusal(BAD_SECRET)), "at {now}");
        }
        // Another one so soon may be junk.
        assert_eq!(here.handle_request(50_000, right.clone()), None);
        for now in [600_000, 620_000] {
            assert_eq!(here.handle_request(now, right.clone()), Some(Control::KeyResponse(right.clone())), "at {now}");
        }
        let junk = vec![0x12, 0x20];
        assert_eq!(here.handle_request(900_000, junk.clone()), None);
        assert_eq!(here.handle_request(920_000, junk), None);
    }
}
