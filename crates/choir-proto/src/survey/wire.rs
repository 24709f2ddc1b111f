//! Datagrams of a survey. All numbers are big-endian.
//!
//! | bytes | field |
//! |---|---|
//! | 0..4 | `C4 50 41 54` |
//! | 4 | version, 2 |
//! | 5 | kind |
//! | 6..8 | length of the body |
//! | 8..16 | session, drawn by the asker |
//! | 16..20 | number |
//! | 20..28 | sender's clock, µs |
//! | 28..44 | proof: the first half of HMAC-SHA-256 over a byte (0 of the asker, 1 of the answerer), all before it and the body; its key is PBKDF2-HMAC-SHA-256 of the token, salt `choir survey`, 20 000 rounds |
//! | 44.. | body, then filling up to the size that is to be measured |

use hmac::{Hmac, Mac};
use sha2::Sha256;
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// Port that an answerer waits at unless told otherwise.
pub const PORT: u16 = 7099;
/// Bytes before the body.
pub const HEADER: usize = 44;
/// Fewer characters are guessed.
pub const TOKEN_MIN: usize = 8;

pub(super) const MAGIC: [u8; 4] = [0xC4, 0x50, 0x41, 0x54];
pub(super) const VERSION: u8 = 2;
/// A token is hashed so often before it is a key: guessing one from a datagram takes that long for
/// each try. A fuzzer has no time for it.
const ROUNDS: u32 = if cfg!(fuzzing) { 1 } else { 20_000 };
const PROOF: usize = 16;
/// Largest body.
const BODY_MAX: usize = 256;

/// Whose datagrams they are: one that comes back to its sender proves nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    Asker,
    Answerer,
}

/// The shared token as a key of one side.
#[derive(Clone)]
pub struct Key {
    mac: Hmac<Sha256>,
    side: Side,
}

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Key(hidden)")
    }
}

impl Key {
    pub fn new(token: &str, side: Side) -> Self {
        let mut key = Zeroizing::new([0; 32]);
        pbkdf2::pbkdf2_hmac::<Sha256>(token.as_bytes(), b"choir survey", ROUNDS, key.as_mut());
        // HMAC takes a key of any length.
        let mac = Hmac::new_from_slice(&key[..]).unwrap_or_else(|_| Hmac::new(&Default::default()));
        Self { mac, side }
    }

    /// The proof of what a side sends.
    pub(super) fn proof(&self, of: Side, head: &[u8], body: &[u8]) -> [u8; PROOF] {
        let mut mac = self.mac.clone();
        mac.update(&[of as u8]);
        mac.update(head);
        mac.update(body);
        let full = mac.finalize().into_bytes();
        let mut proof = [0; PROOF];
        proof.copy_from_slice(&full[..PROOF]);
        proof
    }
}

/// What a datagram says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Message {
    Hello,
    Welcome {
        cookie: u64,
        limit_bps: u64,
    },
    Start {
        cookie: u64,
        rate_bps: u64,
        lasts_ms: u32,
    },
    Accepted,
    /// The greatest rate and time that are answered; zero when somebody else is being answered.
    Refused {
        limit_bps: u64,
        limit_ms: u32,
    },
    Stream,
    Ping,
    /// The asker's clock in the ping, the answerer's at its arrival.
    Pong {
        asked: i64,
        arrived: i64,
    },
    /// The number is that of the train; `of` counts within it.
    Train {
        index: u32,
    },
    TrainAsk,
    Size,
    SizeSeen {
        size: u16,
    },
    /// Packets that the asker has sent.
    Ask {
        sent: u32,
    },
    Report(Box<[u64; 12]>),
    Bye,
}

/// One datagram.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Datagram {
    pub session: u64,
    pub number: u32,
    pub clock: i64,
    pub message: Message,
}

impl Message {
    const fn kind(&self) -> u8 {
        match self {
            Self::Hello => 1,
            Self::Welcome { .. } => 2,
            Self::Start { .. } => 3,
            Self::Accepted => 4,
            Self::Refused { .. } => 5,
            Self::Stream => 6,
            Self::Ping => 7,
            Self::Pong { .. } => 8,
            Self::Train { .. } => 9,
            Self::TrainAsk => 10,
            Self::Size => 11,
            Self::SizeSeen { .. } => 12,
            Self::Ask { .. } => 13,
            Self::Report(_) => 14,
            Self::Bye => 15,
        }
    }

    fn body(&self) -> Vec<u8> {
        let mut out = Vec::new();
        match self {
            Self::Welcome { cookie, limit_bps } => {
                out.extend(cookie.to_be_bytes());
                out.extend(limit_bps.to_be_bytes());
            }
            Self::Start { cookie, rate_bps, lasts_ms } => {
                out.extend(cookie.to_be_bytes());
                out.extend(rate_bps.to_be_bytes());
                out.extend(lasts_ms.to_be_bytes());
            }
            Self::Refused { limit_bps, limit_ms } => {
                out.extend(limit_bps.to_be_bytes());
                out.extend(limit_ms.to_be_bytes());
            }
            Self::Pong { asked, arrived } => {
                out.extend(asked.to_be_bytes());
                out.extend(arrived.to_be_bytes());
            }
            Self::Train { index } => out.extend(index.to_be_bytes()),
            Self::SizeSeen { size } => out.extend(size.to_be_bytes()),
            Self::Ask { sent } => out.extend(sent.to_be_bytes()),
            Self::Report(values) => values.iter().for_each(|v| out.extend(v.to_be_bytes())),
            Self::Hello | Self::Accepted | Self::Stream | Self::Ping | Self::TrainAsk | Self::Size | Self::Bye => {}
        }
        out
    }

    fn read(kind: u8, body: &[u8]) -> Option<Self> {
        let mut at = 0;
        let mut take = |n: usize| {
            let part = body.get(at..at + n)?;
            at += n;
            Some(part.iter().fold(0_u64, |v, b| v << 8 | u64::from(*b)))
        };
        let message = match kind {
            1 => Self::Hello,
            2 => Self::Welcome { cookie: take(8)?, limit_bps: take(8)? },
            3 => Self::Start { cookie: take(8)?, rate_bps: take(8)?, lasts_ms: take(4)? as u32 },
            4 => Self::Accepted,
            5 => Self::Refused { limit_bps: take(8)?, limit_ms: take(4)? as u32 },
            6 => Self::Stream,
            7 => Self::Ping,
            8 => Self::Pong { asked: take(8)? as i64, arrived: take(8)? as i64 },
            9 => Self::Train { index: take(4)? as u32 },
            10 => Self::TrainAsk,
            11 => Self::Size,
            12 => Self::SizeSeen { size: take(2)? as u16 },
            13 => Self::Ask { sent: take(4)? as u32 },
            14 => {
                let mut values = [0; 12];
                for v in &mut values {
                    *v = take(8)?;
                }
                Self::Report(Box::new(values))
            }
            15 => Self::Bye,
            _ => return None,
        };
        (at == body.len()).then_some(message)
    }
}

impl Datagram {
    /// Writes it, filled up to `size` bytes.
    pub fn write(&self, key: &Key, size: usize) -> Vec<u8> {
        let body = self.message.body();
        let mut out = Vec::with_capacity(size.max(HEADER + body.len()));
        out.extend(MAGIC);
        out.extend([VERSION, self.message.kind()]);
        out.extend((body.len() as u16).to_be_bytes());
        out.extend(self.session.to_be_bytes());
        out.extend(self.number.to_be_bytes());
        out.extend(self.clock.to_be_bytes());
        let proof = key.proof(key.side, &out, &body);
        out.extend(proof);
        out.extend(body);
        if out.len() < size {
            out.resize(size, 0);
        }
        out
    }

    /// Reads one; `None` for anything that is not ours or does not prove the token.
    pub fn read(key: &Key, data: &[u8]) -> Option<Self> {
        let head = data.get(..HEADER)?;
        if head[..4] != MAGIC || head[4] != VERSION {
            return None;
        }
        let number = |range: std::ops::Range<usize>| head[range].iter().fold(0_u64, |v, b| v << 8 | u64::from(*b));
        let length = number(6..8) as usize;
        if length > BODY_MAX {
            return None;
        }
        let body = data.get(HEADER..HEADER + length)?;
        let other = if key.side == Side::Asker { Side::Answerer } else { Side::Asker };
        let proof = key.proof(other, &head[..HEADER - PROOF], body);
        if !bool::from(proof.ct_eq(&head[HEADER - PROOF..])) {
            return None;
        }
        let message = Message::read(head[5], body)?;
        Some(Self { session: number(8..16), number: number(16..20) as u32, clock: number(20..28) as i64, message })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all() -> Vec<Message> {
        vec![
            Message::Hello,
            Message::Welcome { cookie: u64::MAX, limit_bps: 20_000_000 },
            Message::Start { cookie: 7, rate_bps: 8_000_000, lasts_ms: 6000 },
            Message::Accepted,
            Message::Refused { limit_bps: 1, limit_ms: 2 },
            Message::Stream,
            Message::Ping,
            Message::Pong { asked: -5, arrived: i64::MAX },
            Message::Train { index: 39 },
            Message::TrainAsk,
            Message::Size,
            Message::SizeSeen { size: 1500 },
            Message::Ask { sent: 4000 },
            Message::Report(Box::new([1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, u64::MAX])),
            Message::Bye,
        ]
    }

    #[test]
    fn every_message_reads_as_it_was_written_and_only_with_the_token() {
        let (key, other) = (Key::new("four oars and a cox", Side::Asker), Key::new("four oars and a cax", Side::Answerer));
        let there = Key::new("four oars and a cox", Side::Answerer);
        for (n, message) in all().into_iter().enumerate() {
            let datagram = Datagram { session: 0x0102_0304_0506_0708, number: n as u32, clock: -1, message };
            for size in [0, 200, 1472] {
                let bytes = datagram.write(&key, size);
                assert!(bytes.len() >= size.max(HEADER));
                assert_eq!(Datagram::read(&there, &bytes), Some(datagram.clone()));
                assert_eq!(Datagram::read(&key, &bytes), None, "one's own, come back");
                assert_eq!(Datagram::read(&other, &bytes), None);
            }
            let bytes = datagram.write(&key, 0);
            for at in 0..bytes.len() {
                let mut bent = bytes.clone();
                bent[at] ^= 1;
                assert_eq!(Datagram::read(&there, &bent), None, "byte {at} of message {n}");
                assert_eq!(Datagram::read(&there, &bytes[..at]), None, "cut at {at}");
            }
        }
        assert_eq!(format!("{key:?}"), "Key(hidden)");
    }
}
