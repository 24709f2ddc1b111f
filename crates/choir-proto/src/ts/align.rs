//! Cuts a byte stream at packet borders (ISO 13818-1, 2.4.3.2): whatever size the pieces come in,
//! what follows handles whole packets only.

use super::{TS_PACKET, packet::SYNC};
use bytes::{Bytes, BytesMut};

/// Pieces below this are too short to show two sync bytes one packet apart at any place.
const SHORT: usize = 2 * TS_PACKET;

/// What comes out of a [`PacketAligner`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Aligned {
    /// Whole packets, each starting with a sync byte.
    Packets(Bytes),
    /// Bytes outside any packet.
    Other(Bytes),
}

/// Keeps the start of a packet until the rest arrives. No byte is lost and the order stays.
#[derive(Debug, Default)]
pub struct PacketAligner {
    carry: BytesMut,
    in_sync: bool,
    /// It has been in sync: this is a transport stream, so the start of a packet is worth keeping.
    known: bool,
}

impl PacketAligner {
    /// Takes one piece and hands on what is complete. A piece of whole packets is not copied. Keeps
    /// less than two packets.
    pub fn push(&mut self, data: &Bytes, mut give: impl FnMut(Aligned)) {
        let mut rest = if self.carry.is_empty() {
            data.clone()
        } else {
            self.carry.extend_from_slice(data);
            std::mem::take(&mut self.carry).freeze()
        };
        while !rest.is_empty() {
            let whole = rest.chunks_exact(TS_PACKET).take_while(|p| p[0] == SYNC).count() * TS_PACKET;
            let tail = rest.get(whole);
            // One packet may be chance: out of sync, the next place must agree.
            let sure = self.in_sync || whole >= 2 * TS_PACKET || whole == rest.len() || tail == Some(&SYNC);
            if whole > 0 && sure {
                (self.in_sync, self.known) = (true, true);
                give(Aligned::Packets(rest.split_to(whole)));
                continue;
            }
            let keeps = self.known || data.len() < SHORT;
            if whole == 0 && tail == Some(&SYNC) && keeps {
                self.carry = BytesMut::from(&rest[..]);
                return;
            }
            self.in_sync = false;
            let next = next_sync(&rest, keeps);
            give(Aligned::Other(rest.split_to(next)));
        }
    }
}

/// Where packets may begin behind the first byte: two sync bytes a packet apart, or, where the
/// start of a packet is kept, one so near to the end that the other is still to come.
fn next_sync(data: &[u8], keeps: bool) -> usize {
    let begins = |at: usize| data[at] == SYNC && data.get(at + TS_PACKET).map_or(keeps, |b| *b == SYNC);
    (1..data.len()).find(|at| begins(*at)).unwrap_or(data.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packets(count: usize) -> Vec<u8> {
        (0..count).flat_map(|n| (0..TS_PACKET).map(move |i| if i == 0 { SYNC } else { (n * 7 + i) as u8 & 0x3F })).collect()
    }

    fn align(pieces: &[&[u8]]) -> Vec<Aligned> {
        let mut aligner = PacketAligner::default();
        let mut all = Vec::new();
        pieces.iter().for_each(|p| aligner.push(&Bytes::copy_from_slice(p), |a| all.push(a)));
        all
    }

    fn joined(parts: &[Aligned]) -> (Vec<u8>, Vec<u8>) {
        let (mut whole, mut other) = (Vec::new(), Vec::new());
        for part in parts {
            match part {
                Aligned::Packets(b) => {
                    assert_eq!(b.len() % TS_PACKET, 0);
                    whole.extend_from_slice(b);
                }
                Aligned::Other(b) => other.extend_from_slice(b),
            }
        }
        (whole, other)
    }

    #[test]
    fn whole_packets_are_handed_on_uncopied() {
        let data = Bytes::from(packets(7));
        let mut aligner = PacketAligner::default();
        aligner.push(&data, |a| assert!(matches!(&a, Aligned::Packets(b) if b.as_ptr() == data.as_ptr() && b.len() == data.len())));
    }

    #[test]
    fn pieces_of_any_size_lose_nothing() {
        let all = packets(60);
        for size in [1, 100, 187, 189, 200, 375, 376, 377, 1000, 1315, 1317, 1400, 5000] {
            let parts = align(&all.chunks(size).collect::<Vec<_>>());
            let (whole, other) = joined(&parts);
            assert!(other.is_empty(), "pieces of {size}");
            assert_eq!(whole, all, "pieces of {size}");
        }
    }

    #[test]
    fn damage_passes_by_and_packets_are_found_again() {
        let all = packets(20);
        let spoilt = [&all[..5 * TS_PACKET], &[1, 2, 3, SYNC, 4], &all[5 * TS_PACKET..]].concat();
        let (whole, other) = joined(&align(&spoilt.chunks(1000).collect::<Vec<_>>()));
        assert_eq!(whole, all);
        assert_eq!(other, [1, 2, 3, SYNC, 4]);
    }

    #[test]
    fn other_media_passes_piece_by_piece() {
        let pieces: Vec<Vec<u8>> = (0..50u8).map(|n| (0..1316usize).map(|i| (i * 31 + usize::from(n) * 17) as u8).collect()).collect();
        let parts = align(&pieces.iter().map(Vec::as_slice).collect::<Vec<_>>());
        let all: Vec<u8> = parts
            .iter()
            .flat_map(|a| match a {
                Aligned::Packets(b) | Aligned::Other(b) => b.to_vec(),
            })
            .collect();
        assert_eq!(all, pieces.concat(), "every byte in order, none kept back");
    }
}
