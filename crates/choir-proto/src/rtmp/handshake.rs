//! The handshake (RTMP 1.0, 5.2), plain, and with the digests that some publishers ask for and some
//! servers demand: 1536 bytes with an HMAC-SHA256 at a place that the bytes themselves say.

use hmac::{Hmac, Mac};
use sha2::Sha256;

/// C1, S1, C2 and S2 each.
pub const SIZE: usize = 1536;
const VERSION: u8 = 3;
const DIGEST: usize = 32;

/// What both sides sign with: 30 bytes by the client, 36 by the server, with the same end.
const CLIENT: &[u8; 30] = &[
    0x47, 0x65, 0x6E, 0x75, 0x69, 0x6E, 0x65, 0x20, 0x41, 0x64, 0x6F, 0x62, 0x65, 0x20, 0x46, 0x6C, 0x61, 0x73, 0x68, 0x20, 0x50, 0x6C,
    0x61, 0x79, 0x65, 0x72, 0x20, 0x30, 0x30, 0x31,
];
const SERVER: &[u8; 36] = &[
    0x47, 0x65, 0x6E, 0x75, 0x69, 0x6E, 0x65, 0x20, 0x41, 0x64, 0x6F, 0x62, 0x65, 0x20, 0x46, 0x6C, 0x61, 0x73, 0x68, 0x20, 0x4D, 0x65,
    0x64, 0x69, 0x61, 0x20, 0x53, 0x65, 0x72, 0x76, 0x65, 0x72, 0x20, 0x30, 0x30, 0x31,
];
const END: &[u8; 32] = &[
    0xF0, 0xEE, 0xC2, 0x4A, 0x80, 0x68, 0xBE, 0xE8, 0x2E, 0x00, 0xD0, 0xD1, 0x02, 0x9E, 0x7E, 0x57, 0x6E, 0xEC, 0x5D, 0x2D, 0x29, 0x80,
    0x6F, 0xAB, 0x93, 0xB8, 0xE6, 0x36, 0xCF, 0xEB, 0x31, 0xAE,
];

fn sign(key: &[&[u8]], parts: &[&[u8]]) -> [u8; DIGEST] {
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(&key.concat()) else { return [0; DIGEST] };
    parts.iter().for_each(|p| mac.update(p));
    mac.finalize().into_bytes().into()
}

/// Where the digest is when its four bytes of place are at `base`.
fn place(block: &[u8; SIZE], base: usize) -> usize {
    base + 4 + block[base..base + 4].iter().map(|b| usize::from(*b)).sum::<usize>() % 728
}

fn digest_at(block: &[u8; SIZE], at: usize, key: &[u8]) -> [u8; DIGEST] {
    sign(&[key], &[&block[..at], &block[at + DIGEST..]])
}

/// The digest in it, where there is a right one: at the first place or the second.
fn find(block: &[u8; SIZE], key: &[u8]) -> Option<(usize, [u8; DIGEST])> {
    [8, 772].into_iter().find_map(|base| {
        let at = place(block, base);
        let there: [u8; DIGEST] = block.get(at..at + DIGEST)?.try_into().ok()?;
        (there == digest_at(block, at, key)).then_some((base, there))
    })
}

/// A block of one's own: random, with a time, a version, and a digest if it has one.
fn block(random: &[u8; SIZE], digest: Option<(usize, &[u8])>) -> [u8; SIZE] {
    let mut own = *random;
    own[..8].fill(0);
    if let Some((base, key)) = digest {
        // Any version but zero says that there is one.
        own[4..8].copy_from_slice(&[4, 5, 0, 1]);
        let at = place(&own, base);
        let made = digest_at(&own, at, key);
        own[at..at + DIGEST].copy_from_slice(&made);
    }
    own
}

/// What the answer to a digest ends with.
fn answer(random: &[u8; SIZE], digest: [u8; DIGEST], key: &[u8]) -> [u8; SIZE] {
    let mut own = *random;
    let made = sign(&[&sign(&[key, END], &[&digest])], &[&own[..SIZE - DIGEST]]);
    own[SIZE - DIGEST..].copy_from_slice(&made);
    own
}

/// Why it failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum HandshakeError {
    /// Not RTMP.
    #[error("what came first is no RTMP: version {0}, only 3 is spoken here")]
    Version(u8),
}

#[derive(Debug, PartialEq, Eq)]
enum Step {
    /// The client waits for S0 and S1, the server for C0 and C1.
    First,
    /// For S2 or C2.
    Second,
    Done,
}

/// Either side of it.
#[derive(Debug)]
pub struct Handshake {
    server: bool,
    step: Step,
    random: Box<[u8; SIZE]>,
    waiting: Vec<u8>,
}

impl Handshake {
    /// For a server, with random bytes.
    #[must_use]
    pub fn server(random: [u8; SIZE]) -> Self {
        Self { server: true, step: Step::First, random: Box::new(random), waiting: Vec::new() }
    }

    /// For a client, with random bytes; appends what it says first. With a digest: servers that do
    /// not know it take it for random bytes.
    #[must_use]
    pub fn client(random: [u8; SIZE], out: &mut Vec<u8>) -> Self {
        out.push(VERSION);
        out.extend_from_slice(&block(&random, Some((8, CLIENT))));
        Self { server: false, step: Step::First, random: Box::new(random), waiting: Vec::new() }
    }

    /// Takes what came and appends what is to be said; gives what came behind its end, once it has
    /// ended.
    ///
    /// # Errors
    /// The other side does not speak RTMP.
    pub fn push(&mut self, data: &[u8], out: &mut Vec<u8>) -> Result<Option<Vec<u8>>, HandshakeError> {
        self.waiting.extend_from_slice(data);
        if self.step == Step::First {
            if let Some(version) = self.waiting.first().filter(|v| **v != VERSION) {
                return Err(HandshakeError::Version(*version));
            }
            let Some(theirs) = self.waiting.get(1..=SIZE).and_then(|b| <[u8; SIZE]>::try_from(b).ok()) else { return Ok(None) };
            self.waiting.drain(..=SIZE);
            let found = find(&theirs, if self.server { CLIENT } else { SERVER });
            if self.server {
                out.push(VERSION);
                out.extend_from_slice(&block(&self.random, found.map(|(base, _)| (base, &SERVER[..]))));
            }
            // Without a digest the answer is what came (5.2.4).
            let key: &[u8] = if self.server { SERVER } else { CLIENT };
            out.extend_from_slice(&found.map_or(theirs, |(_, digest)| answer(&self.random, digest, key)));
            self.step = Step::Second;
        }
        // What the other side answers is not judged: many answer anything.
        if self.step == Step::Second && self.waiting.len() >= SIZE {
            self.step = Step::Done;
            return Ok(Some(self.waiting.split_off(SIZE)));
        }
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn random(seed: u8) -> [u8; SIZE] {
        std::array::from_fn(|i| (i as u8).wrapping_mul(31).wrapping_add(seed))
    }

    #[test]
    fn both_sides_end_it_in_any_pieces_and_what_follows_is_not_lost() {
        for size in [1, 7, 1535, 1536, 1537, 4000] {
            let (mut says, mut answers) = (Vec::new(), Vec::new());
            let (mut client, mut server) = (Handshake::client(random(1), &mut says), Handshake::server(random(2)));
            let mut ended = None;
            for part in says.clone().chunks(size) {
                assert_eq!(server.push(part, &mut answers), Ok(None), "C2 is still to come");
            }
            let mut second = Vec::new();
            for part in answers.chunks(size) {
                ended = client.push(part, &mut second).expect("RTMP").or(ended);
            }
            assert_eq!((answers.len(), second.len(), ended), (1 + 2 * SIZE, SIZE, Some(Vec::new())));
            second.extend_from_slice(b"more");
            let mut behind = None;
            for part in second.chunks(size) {
                if let Some(rest) = &mut behind {
                    Vec::extend_from_slice(rest, part);
                } else {
                    behind = server.push(part, &mut answers).expect("RTMP");
                }
            }
            assert_eq!(behind.as_deref(), Some(&b"more"[..]), "{size}");
        }
    }

    #[test]
    fn a_digest_is_answered_with_digests_and_a_plain_block_with_itself() {
        for base in [8, 772] {
            let asks = block(&random(3), Some((base, CLIENT)));
            let mut out = Vec::new();
            Handshake::server(random(4)).push(&[&[VERSION][..], &asks].concat(), &mut out).expect("RTMP");
            let s1: [u8; SIZE] = out[1..=SIZE].try_into().expect("S1");
            assert_eq!(find(&s1, SERVER).map(|(at, _)| at), Some(base), "where the client has it");
            let (_, asked) = find(&asks, CLIENT).expect("a digest");
            let s2 = &out[1 + SIZE..];
            let key = sign(&[SERVER, END], &[&asked]);
            assert_eq!(s2[SIZE - DIGEST..], sign(&[&key], &[&s2[..SIZE - DIGEST]]));
        }
        let (plain, mut out) = (block(&random(5), None), Vec::new());
        Handshake::server(random(6)).push(&[&[VERSION][..], &plain].concat(), &mut out).expect("RTMP");
        assert_eq!(&out[1 + SIZE..], plain);
        assert_eq!(out[5..9], [0; 4], "no digest of its own");
    }

    #[test]
    fn something_else_is_told_at_once() {
        let mut out = Vec::new();
        assert_eq!(Handshake::server(random(1)).push(b"GET / HTTP/1.1", &mut out), Err(HandshakeError::Version(b'G')));
        assert!(out.is_empty());
    }
}
