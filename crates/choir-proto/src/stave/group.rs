//! Units to a multicast group (section 8): RTP (RFC 3550), each packet sealed with AES-128-GCM as
//! SRTP does (RFC 7714), lost packets asked for over the control stream.

use super::{
    GroupOffer, Repair, UNIT_MAX,
    unit::{ADDITIONS_MAX, HEADER_LEN},
};
use aes_gcm::{
    Aes128Gcm, KeyInit, Nonce,
    aead::{AeadInPlace, generic_array::GenericArray},
};
use bytes::Bytes;
use std::{
    collections::{BTreeMap, VecDeque, btree_map::Entry},
    net::SocketAddr,
    time::{Duration, Instant},
};

/// RTP header, and the fragment's own.
const RTP: usize = 12;
const FRAGMENT: usize = 12;
const TAG: usize = 16;
/// Bytes of a unit in one packet: with all headers below 1400.
const CHUNK: usize = 1328;
/// Dynamic payload type (RFC 3551, 6).
const PAYLOAD_TYPE: u8 = 96;
/// Packets that can be sent again.
const KEPT: usize = 8192;
/// Packets that one request brings: whoever wants more asks again.
const AGAIN_MAX: usize = 512;
/// Missing packets that are asked for: of more the oldest are given up, since they would hardly
/// come in time.
const MISSING_MOST: usize = 1024;
/// Packets behind the newest that are still taken, and most that one gap may be.
const WINDOW: u64 = 8192;
/// Ranges in one request, and packets in all of them.
pub const REPAIR_MAX: usize = 64;
/// A packet is missing when one this much later has come, or after so long.
const REORDER: u64 = 8;
const REORDER_TIME: Duration = Duration::from_millis(2);
/// Between two requests for the same packet.
const ASK_AGAIN: Duration = Duration::from_millis(15);
/// Units put together at a time, and what all of them may take: a few of the largest.
const PARTS: usize = 64;
const HELD_MOST: usize = 3 * UNIT_MAX;
/// What a fragment takes beside its bytes.
const EACH: usize = 96;

/// Key and salt of a group.
#[derive(Clone)]
pub struct GroupKey {
    cipher: Aes128Gcm,
    salt: [u8; 12],
    ssrc: u32,
}

impl std::fmt::Debug for GroupKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "GroupKey(hidden, ssrc {:08x})", self.ssrc)
    }
}

impl GroupKey {
    fn new(key: [u8; 16], salt: [u8; 12], ssrc: u32) -> Self {
        Self { cipher: Aes128Gcm::new(&key.into()), salt, ssrc }
    }

    /// RFC 7714, 8.1: two zero bytes, SSRC, the 48-bit number; all of it by the salt.
    fn nonce(&self, number: u64) -> Nonce<aes_gcm::aead::consts::U12> {
        let mut iv = [0u8; 12];
        iv[2..6].copy_from_slice(&self.ssrc.to_be_bytes());
        iv[6..].copy_from_slice(&number.to_be_bytes()[2..]);
        iv.iter_mut().zip(self.salt).for_each(|(b, s)| *b ^= s);
        *GenericArray::from_slice(&iv)
    }
}

/// Sends units to a group.
#[derive(Debug)]
pub struct GroupWriter {
    key: GroupKey,
    text: (String, String),
    next: u64,
    unit: u32,
    kept: VecDeque<(u64, Bytes)>,
}

impl GroupWriter {
    /// With a random key, salt and synchronisation source.
    #[must_use]
    pub fn new(random: [u8; 32]) -> Self {
        let mut key = [0; 16];
        let mut salt = [0; 12];
        key.copy_from_slice(&random[..16]);
        salt.copy_from_slice(&random[16..28]);
        let ssrc = u32::from_be_bytes([random[28], random[29], random[30], random[31]]);
        Self { text: (hex::encode(key), hex::encode(salt)), key: GroupKey::new(key, salt, ssrc), next: 1, unit: 0, kept: VecDeque::new() }
    }

    /// What a receiver is told.
    #[must_use]
    pub fn offer(&self, to: SocketAddr, turn: u16) -> GroupOffer {
        let (key, salt) = self.text.clone();
        GroupOffer { to, turn, ssrc: self.key.ssrc, key, salt, next: self.next }
    }

    /// Cuts a unit, head and payload, into sealed packets. `timestamp` is its presentation time.
    pub fn write(&mut self, head: &[u8], payload: &[u8], timestamp: u32) -> Vec<Bytes> {
        let total = head.len() + payload.len();
        let mut packets = Vec::with_capacity(total.div_ceil(CHUNK));
        let mut at = 0;
        while at < total {
            let end = total.min(at + CHUNK);
            let mut p = Vec::with_capacity(RTP + FRAGMENT + (end - at) + TAG);
            let marker = u8::from(end == total) << 7;
            p.extend_from_slice(&[0x80, marker | PAYLOAD_TYPE]);
            p.extend_from_slice(&(self.next as u16).to_be_bytes());
            p.extend_from_slice(&timestamp.to_be_bytes());
            p.extend_from_slice(&self.key.ssrc.to_be_bytes());
            p.extend_from_slice(&self.unit.to_be_bytes());
            p.extend_from_slice(&(at as u32).to_be_bytes());
            p.extend_from_slice(&(total as u32).to_be_bytes());
            if at < head.len() {
                p.extend_from_slice(&head[at..end.min(head.len())]);
            }
            if end > head.len() {
                p.extend_from_slice(&payload[at.saturating_sub(head.len())..end - head.len()]);
            }
            let (aad, body) = p.split_at_mut(RTP);
            if let Ok(tag) = self.key.cipher.encrypt_in_place_detached(&self.key.nonce(self.next), aad, body) {
                p.extend_from_slice(&tag);
                let packet = Bytes::from(p);
                self.kept.push_back((self.next, packet.clone()));
                packets.push(packet);
            }
            self.next += 1;
            at = end;
        }
        self.unit = self.unit.wrapping_add(1);
        while self.kept.len() > KEPT {
            self.kept.pop_front();
        }
        packets
    }

    /// Packets asked for that are still there.
    #[must_use]
    pub fn again(&self, repair: &Repair) -> Vec<Bytes> {
        let Some(first) = self.kept.front().map(|(n, _)| *n) else { return Vec::new() };
        let place = |number: u64| usize::try_from(number.saturating_sub(first)).map_or(self.kept.len(), |i| i.min(self.kept.len()));
        // However much a range names, it costs what is there of it.
        let there = repair.ranges.iter().take(REPAIR_MAX).flat_map(|(from, count)| {
            let end = from.saturating_add(u64::from(*count));
            self.kept.range(place(*from)..place(end)).map(|(_, p)| p.clone())
        });
        there.take(AGAIN_MAX).collect()
    }
}

/// A packet that did not come.
#[derive(Debug, Clone, Copy)]
pub struct Missing {
    noticed: Instant,
    asked: Option<Instant>,
}

/// What a group has brought.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct GroupStats {
    /// Packets taken.
    pub packets: u64,
    /// Packets that were missing.
    pub lost: u64,
    /// Of those, come after all.
    pub repaired: u64,
    /// Packets that are not the group's: damaged, of another key, doubles.
    pub refused: u64,
    /// Units given up.
    pub broken_units: u64,
    /// Memory that units take which are not whole yet, bytes.
    pub held: usize,
}

struct Part {
    /// By their places. A unit gets its room once all of it is there: a packet that names a place
    /// far behind costs no more than itself.
    fragments: BTreeMap<u32, Vec<u8>>,
    have: usize,
    since: Instant,
}

impl Part {
    fn cost(&self) -> usize {
        self.have + self.fragments.len() * EACH
    }

    /// The unit, if its fragments follow each other.
    fn joined(self) -> Option<Vec<u8>> {
        let mut unit = Vec::with_capacity(self.have);
        for (at, fragment) in self.fragments {
            if at as usize != unit.len() {
                return None;
            }
            unit.extend_from_slice(&fragment);
        }
        Some(unit)
    }
}

/// Puts the units of a group together.
pub struct GroupReader {
    key: GroupKey,
    /// Next number awaited.
    next: u64,
    missing: BTreeMap<u64, Missing>,
    parts: BTreeMap<u32, Part>,
    finished: VecDeque<u32>,
    units: VecDeque<Vec<u8>>,
    patience: Duration,
    stats: GroupStats,
}

impl std::fmt::Debug for GroupReader {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("GroupReader").field("next", &self.next).field("stats", &self.stats).finish_non_exhaustive()
    }
}

impl GroupReader {
    /// By what the source told; `None` when that is not usable. A packet is given up after
    /// `patience`.
    #[must_use]
    pub fn new(offer: &GroupOffer, patience: Duration) -> Option<Self> {
        let key = GroupKey::new(unhex(&offer.key)?, unhex(&offer.salt)?, offer.ssrc);
        Some(Self {
            key,
            next: offer.next,
            missing: BTreeMap::new(),
            parts: BTreeMap::new(),
            finished: VecDeque::new(),
            units: VecDeque::new(),
            patience,
            stats: GroupStats::default(),
        })
    }

    /// Counters.
    #[must_use]
    pub const fn stats(&self) -> GroupStats {
        self.stats
    }

    /// Takes a packet, from the group or sent again.
    pub fn handle_packet(&mut self, now: Instant, packet: &[u8]) {
        let Some((number, body)) = self.open(packet) else {
            self.stats.refused += 1;
            return;
        };
        if number >= self.next {
            self.stats.lost += number - self.next;
            for lost in self.next.max(number.saturating_sub(MISSING_MOST as u64))..number {
                self.missing.insert(lost, Missing { noticed: now, asked: None });
            }
            while self.missing.len() > MISSING_MOST {
                self.missing.pop_first();
            }
            self.next = number + 1;
        } else if self.missing.remove(&number).is_some() {
            self.stats.repaired += 1;
        } else {
            self.stats.refused += 1;
            return;
        }
        self.stats.packets += 1;
        self.fragment(now, body);
    }

    fn open(&self, packet: &[u8]) -> Option<(u64, Vec<u8>)> {
        if packet.len() <= RTP + FRAGMENT + TAG || packet.len() > RTP + FRAGMENT + CHUNK + TAG {
            return None;
        }
        let (aad, sealed) = packet.split_at(RTP);
        if aad[0] != 0x80 || aad[1] & 0x7F != PAYLOAD_TYPE || aad[8..12] != self.key.ssrc.to_be_bytes() {
            return None;
        }
        // The number nearest to the awaited one that has these lower bits (RFC 3711, 3.3.1).
        let low = u16::from_be_bytes([aad[2], aad[3]]);
        let ahead = i64::from(low.wrapping_sub(self.next as u16) as i16);
        let number = self.next.checked_add_signed(ahead)?;
        if ahead > WINDOW as i64 || -ahead > WINDOW as i64 {
            return None;
        }
        let (body, tag) = sealed.split_at(sealed.len() - TAG);
        let mut body = body.to_vec();
        self.key.cipher.decrypt_in_place_detached(&self.key.nonce(number), aad, &mut body, GenericArray::from_slice(tag)).ok()?;
        Some((number, body))
    }

    fn fragment(&mut self, now: Instant, mut body: Vec<u8>) {
        let word = |i: usize| u32::from_be_bytes([body[i], body[i + 1], body[i + 2], body[i + 3]]);
        let (unit, at, total) = (word(0), word(4) as usize, word(8) as usize);
        body.drain(..FRAGMENT);
        if total > HEADER_LEN + ADDITIONS_MAX + UNIT_MAX || at + body.len() > total || self.finished.contains(&unit) {
            return;
        }
        let part = self.parts.entry(unit).or_insert_with(|| Part { fragments: BTreeMap::new(), have: 0, since: now });
        let Entry::Vacant(place) = part.fragments.entry(at as u32) else { return };
        part.have += body.len();
        self.stats.held += body.len() + EACH;
        place.insert(body);
        if part.have >= total {
            let whole = self.give_up(unit).and_then(Part::joined).filter(|u| u.len() == total);
            self.stats.broken_units += u64::from(whole.is_none());
            self.units.extend(whole);
            self.finish(unit);
        }
        while self.parts.len() > PARTS || self.stats.held > HELD_MOST {
            let Some(oldest) = self.parts.keys().next().copied() else { break };
            self.give_up(oldest);
            self.finish(oldest);
            self.stats.broken_units += 1;
        }
    }

    fn give_up(&mut self, unit: u32) -> Option<Part> {
        let part = self.parts.remove(&unit)?;
        self.stats.held -= part.cost();
        Some(part)
    }

    fn finish(&mut self, unit: u32) {
        self.finished.push_back(unit);
        if self.finished.len() > PARTS {
            self.finished.pop_front();
        }
    }

    /// A whole unit: head and payload.
    pub fn poll_unit(&mut self) -> Option<Vec<u8>> {
        self.units.pop_front()
    }

    /// What is to be asked for now.
    pub fn poll_repair(&mut self, now: Instant) -> Option<Repair> {
        let mut ranges: Vec<(u64, u32)> = Vec::new();
        let next = self.next;
        for (number, m) in &mut self.missing {
            let overdue = next - number > REORDER || now.saturating_duration_since(m.noticed) >= REORDER_TIME;
            let again = m.asked.is_none_or(|a| now.saturating_duration_since(a) >= ASK_AGAIN);
            if !overdue || !again {
                continue;
            }
            let full = ranges.len() >= REPAIR_MAX;
            match ranges.last_mut() {
                Some((from, count)) if *from + u64::from(*count) == *number => *count += 1,
                _ if full => break,
                _ => ranges.push((*number, 1)),
            }
            m.asked = Some(now);
        }
        (!ranges.is_empty()).then_some(Repair { ranges })
    }

    /// Gives up what is too late.
    pub fn handle_timeout(&mut self, now: Instant) {
        let patience = self.patience;
        self.missing.retain(|_, m| now.saturating_duration_since(m.noticed) < patience);
        let old: Vec<u32> =
            self.parts.iter().filter(|(_, p)| now.saturating_duration_since(p.since) >= patience).map(|(u, _)| *u).collect();
        for unit in old {
            self.give_up(unit);
            self.finish(unit);
            self.stats.broken_units += 1;
        }
    }

    /// When to look again.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        let due = |m: &Missing| m.asked.map_or(m.noticed + REORDER_TIME, |a| (a + ASK_AGAIN).min(m.noticed + self.patience));
        let parts = self.parts.values().map(|p| p.since + self.patience);
        self.missing.values().map(due).chain(parts).min()
    }
}

fn unhex<const N: usize>(text: &str) -> Option<[u8; N]> {
    let mut bytes = [0; N];
    hex::decode_to_slice(text, &mut bytes).ok().map(|()| bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A packet of somebody who has the group's key and cuts units as it likes.
    fn sealed(key: &GroupKey, number: u64, place: [u32; 3], data: &[u8]) -> Vec<u8> {
        let mut p = vec![0x80, PAYLOAD_TYPE];
        p.extend_from_slice(&(number as u16).to_be_bytes());
        p.extend_from_slice(&[0; 4]);
        p.extend_from_slice(&key.ssrc.to_be_bytes());
        place.iter().for_each(|n| p.extend_from_slice(&n.to_be_bytes()));
        p.extend_from_slice(data);
        let (aad, body) = p.split_at_mut(RTP);
        let tag = key.cipher.encrypt_in_place_detached(&key.nonce(number), aad, body).expect("sealed");
        p.extend_from_slice(&tag);
        p
    }

    fn reader() -> (GroupReader, GroupKey, Instant) {
        let writer = GroupWriter::new([5; 32]);
        let reader = GroupReader::new(&writer.offer(([239, 20, 0, 9], 7350).into(), 1), Duration::from_secs(2)).expect("usable");
        #[allow(clippy::disallowed_methods, reason = "any time will do")]
        (reader, writer.key, Instant::now())
    }

    #[test]
    fn a_fragment_takes_the_room_of_what_it_brings() {
        let (mut reader, key, now) = reader();
        let total = UNIT_MAX as u32;
        for n in 1..=64 {
            reader.handle_packet(now, &sealed(&key, n, [n as u32, total - 100, total], &[7; 100]));
        }
        let room: usize = reader.parts.values().flat_map(|p| p.fragments.values()).map(Vec::capacity).sum();
        assert!(room < 64 * 2000 && reader.stats().held == 64 * (100 + EACH), "{room} bytes");
        // Nor do many small ones take more than a few of the largest units.
        for n in 65..600_000_u64 {
            reader.handle_packet(now, &sealed(&key, n, [1000 + (n / 50_000) as u32, n as u32 % 50_000 * 2, total], &[7]));
            assert!(reader.stats().held <= HELD_MOST);
        }
        reader.handle_timeout(now + Duration::from_secs(3));
        assert_eq!((reader.stats().held, reader.parts.len()), (0, 0));
    }

    #[test]
    fn fragments_that_do_not_follow_each_other_are_no_unit() {
        let (mut reader, key, now) = reader();
        for (n, at) in [(1, 0), (2, 50), (3, 60)] {
            reader.handle_packet(now, &sealed(&key, n, [9, at, 150], &[n as u8; 50]));
        }
        assert_eq!((reader.poll_unit(), reader.stats().broken_units), (None, 1));
        for (n, at) in [(4, 100), (5, 0), (6, 50)] {
            reader.handle_packet(now, &sealed(&key, n, [10, at, 150], &[n as u8; 50]));
        }
        assert_eq!(reader.poll_unit(), Some([[5; 50], [6; 50], [4; 50]].concat()));
    }

    #[test]
    fn numbers_that_jump_leave_a_bounded_list() {
        let (mut reader, key, now) = reader();
        for n in 1..200 {
            reader.handle_packet(now, &sealed(&key, n * 8000, [n as u32, 0, 10], &[7; 10]));
        }
        assert_eq!((reader.missing.len(), reader.stats().lost), (MISSING_MOST, 199 * 8000 - 199));
    }
}
