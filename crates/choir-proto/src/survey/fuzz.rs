//! For fuzzers: datagrams of a peer that has the token and sends anything.

use super::wire::{HEADER, Key, MAGIC, Side, VERSION};

/// A datagram of this session from the asker or to it, with any message in it, and the proof of the
/// token. The first byte of the data is the kind.
#[must_use]
pub fn proved(token: &str, by_asker: bool, session: u64, data: &[u8]) -> Vec<u8> {
    let (kind, body) = data.split_first().map_or((0, data), |(kind, body)| (*kind, body));
    let body = &body[..body.len().min(1400)];
    let mut out = Vec::with_capacity(HEADER + body.len());
    out.extend(MAGIC);
    out.extend([VERSION, kind % 16]);
    out.extend((body.len() as u16).to_be_bytes());
    out.extend(session.to_be_bytes());
    out.extend([0; 12]);
    let side = if by_asker { Side::Asker } else { Side::Answerer };
    let proof = Key::new(token, side).proof(side, &out, body);
    out.extend(proof);
    out.extend(body);
    out
}
