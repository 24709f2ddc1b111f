//! The send buffer: what may have to be sent again, and what is to be sent next.

use super::{
    Seq,
    wire::{KeyFlag, LossList},
};
use bytes::Bytes;
use std::collections::VecDeque;

/// A peer without room is asked so with the least that can be under way: its acknowledgement says
/// how it stands now.
const ROOM_LEAST: u32 = 2;

#[derive(Debug)]
pub(super) struct Outgoing {
    /// In the clear, shared with whoever else has it; encrypted each time it goes.
    pub payload: Bytes,
    /// Origin time, µs.
    pub ts: i64,
    pub key: KeyFlag,
    pub message: u32,
    last_sent: Option<i64>,
    /// When it was sent again last.
    repeated: Option<i64>,
    queued: bool,
    /// The peer has reported it missing.
    reported: bool,
    /// Origin time of the packet behind the hole that it is in: the receiver skips the hole when
    /// that one is due.
    hole_ends: i64,
}

#[derive(Debug)]
pub(super) struct SendBuffer {
    /// Sequence number of `packets[0]`.
    first: Seq,
    packets: VecDeque<Outgoing>,
    /// How many from the front were sent at least once.
    sent: usize,
    again: VecDeque<Seq>,
    window: usize,
    peer_window: usize,
    /// What the peer has room for beyond what it has acknowledged.
    peer_free: usize,
    acked: Seq,
    /// Packets that were sent and given up, which may still take room there, until an
    /// acknowledgement reaches this number.
    given_up: usize,
    given_up_end: Seq,
    message: u32,
    /// Origin time of the newest packet.
    newest: i64,
}

/// What a loss report came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Reported {
    /// Packets that were not reported before.
    pub new: u64,
    /// Ranges that they are in, and the most in one.
    pub holes: u64,
    pub longest: u32,
    /// Of those, the ones that would come too late: they are not repeated.
    pub too_late: u64,
    /// The range that is no longer here.
    pub gone: Option<(Seq, Seq)>,
}

/// One packet to write.
pub(super) struct Pick<'a> {
    pub seq: Seq,
    pub packet: &'a Outgoing,
    pub resent: bool,
}

impl SendBuffer {
    pub fn new(first: Seq, window: u32, peer_window: u32) -> Self {
        Self {
            first,
            packets: VecDeque::new(),
            sent: 0,
            again: VecDeque::new(),
            window: window as usize,
            peer_window: peer_window.max(ROOM_LEAST) as usize,
            peer_free: usize::MAX,
            acked: first,
            given_up: 0,
            given_up_end: first,
            message: 1,
            newest: i64::MIN,
        }
    }

    pub fn is_empty(&self) -> bool {
        self.packets.is_empty()
    }
    pub fn is_full(&self) -> bool {
        self.packets.len() >= self.window
    }
    /// Key of the oldest packet that may still be sent again.
    pub fn oldest_key(&self) -> Option<KeyFlag> {
        self.packets.front().map(|p| p.key)
    }
    pub fn in_flight(&self) -> u32 {
        self.sent as u32
    }

    pub fn push(&mut self, ts: i64, key: KeyFlag, payload: Bytes) {
        // Origin times rise with the numbers.
        let ts = ts.max(self.newest);
        self.newest = ts;
        let message = self.message;
        self.message = if message >= 0x03FF_FFFF { 1 } else { message + 1 };
        self.packets.push_back(Outgoing {
            payload,
            ts,
            key,
            message,
            last_sent: None,
            repeated: None,
            queued: false,
            reported: false,
            hole_ends: ts,
        });
    }

    /// True when `next` would give a packet.
    pub fn has_work(&self) -> bool {
        !self.again.is_empty() || self.may_send_new()
    }

    fn may_send_new(&self) -> bool {
        self.sent < self.packets.len() && self.given_up + self.sent < self.peer_window.min(self.peer_free)
    }

    /// What the peer says it has room for, in packets beyond those it has acknowledged.
    pub fn set_peer_free(&mut self, packets: u32) {
        self.peer_free = packets.max(ROOM_LEAST) as usize;
    }

    /// Size of the payload that `next` would give.
    pub fn next_len(&self, new_first: bool) -> Option<usize> {
        if let Some(seq) = self.again.front().filter(|_| !new_first) {
            return self.index(*seq).map(|i| self.packets[i].payload.len());
        }
        self.may_send_new().then(|| self.packets[self.sent].payload.len())
    }

    /// The next packet: asked-for ones first, then new ones; or only new ones.
    pub fn next(&mut self, now: i64, new_first: bool) -> Option<Pick<'_>> {
        if let Some(seq) = if new_first { None } else { self.again.pop_front() } {
            let index = self.index(seq)?;
            let packet = &mut self.packets[index];
            (packet.last_sent, packet.repeated, packet.queued) = (Some(now), Some(now), false);
            return Some(Pick { seq, packet, resent: true });
        }
        if !self.may_send_new() {
            return None;
        }
        let index = self.sent;
        self.sent += 1;
        let seq = self.first.add(index as u32);
        let packet = &mut self.packets[index];
        packet.last_sent = Some(now);
        Some(Pick { seq, packet, resent: false })
    }

    /// Takes back what is asked for and whose hole ends before `oldest`: it would come too late.
    /// Gives how many were never repeated.
    pub fn give_up(&mut self, oldest: i64) -> u64 {
        let mut given_up = 0;
        while let Some(seq) = self.again.front().copied() {
            match self.index(seq) {
                Some(i) if self.packets[i].hole_ends >= oldest => break,
                Some(i) => {
                    let packet = &mut self.packets[i];
                    packet.queued = false;
                    given_up += u64::from(packet.repeated.is_none());
                }
                None => {}
            }
            self.again.pop_front();
        }
        given_up
    }

    /// Origin time of the new packet that may go next.
    pub fn next_new(&self) -> Option<i64> {
        self.may_send_new().then(|| self.packets[self.sent].ts)
    }

    /// Packets never sent since the peer's window has no room for them.
    pub fn is_held_by_peer(&self) -> bool {
        self.sent < self.packets.len() && !self.may_send_new()
    }

    fn index(&self, seq: Seq) -> Option<usize> {
        usize::try_from(seq.distance_from(self.first)).ok().filter(|&i| i < self.sent)
    }

    fn forget_front(&mut self, count: usize) {
        self.packets.drain(..count);
        self.first = self.first.add(count as u32);
        self.sent = self.sent.saturating_sub(count);
        // Others that are gone are passed over when their turn comes.
        while self.again.front().is_some_and(|s| s.distance_from(self.first) < 0) {
            self.again.pop_front();
        }
    }

    /// Takes an acknowledgement. One beyond what was sent is junk.
    pub fn handle_ack(&mut self, next: Seq) {
        let sent_end = self.first.add(self.sent as u32);
        if next.distance_from(sent_end) > 0 {
            return;
        }
        if next.distance_from(self.acked) > 0 {
            self.acked = next;
            if next.distance_from(self.given_up_end) >= 0 {
                self.given_up = 0;
            }
        }
        if let Ok(count) = usize::try_from(next.distance_from(self.first)) {
            self.forget_front(count);
        }
    }

    /// Queues reported packets whose hole ends after `oldest`, but none a second time within
    /// `guard` of its last repeat. Gives what it came to.
    pub fn handle_nak(&mut self, list: &LossList, now: i64, guard: i64, oldest: i64) -> Reported {
        let mut gone: Option<(Seq, Seq)> = None;
        let mut too_late = 0;
        // Overlapping ranges are junk: one report costs at most one window of work.
        let mut budget = self.window;
        let (mut reported, mut holes, mut longest) = (0, 0, 0);
        for &(first, last) in &list.0 {
            if first.distance_from(self.first) < 0 {
                let end = if last.distance_from(self.first) < 0 { last } else { self.first.sub(1) };
                gone = Some(gone.map_or((first, end), |(a, b)| {
                    (if first.distance_from(a) < 0 { first } else { a }, if end.distance_from(b) > 0 { end } else { b })
                }));
            }
            let from = first.distance_from(self.first).max(0) as usize;
            let Ok(to) = usize::try_from(last.distance_from(self.first)) else { continue };
            let hole_ends = self.packets.get(to + 1).map_or(i64::MAX, |p| p.ts);
            let before = reported;
            for index in from..=to.min(self.sent.wrapping_sub(1)) {
                if index >= self.sent || budget == 0 {
                    break;
                }
                budget -= 1;
                let packet = &mut self.packets[index];
                let is_new = !std::mem::replace(&mut packet.reported, true);
                reported += u64::from(is_new);
                too_late += u64::from(is_new && hole_ends < oldest);
                if !packet.queued && hole_ends >= oldest && packet.repeated.is_none_or(|t| now - t >= guard) {
                    (packet.queued, packet.hole_ends) = (true, hole_ends);
                    self.again.push_back(self.first.add(index as u32));
                }
            }
            holes += u64::from(reported > before);
            longest = longest.max((reported - before) as u32);
        }
        Reported { new: reported, holes, longest, too_late, gone }
    }

    /// Origin time of the oldest packet that was sent and is not acknowledged.
    pub fn oldest_unacknowledged(&self) -> Option<i64> {
        self.packets.front().filter(|_| self.sent > 0).map(|p| p.ts)
    }

    /// When the oldest packet is too old to be of use.
    pub fn forget_at(&self, horizon: i64) -> Option<i64> {
        self.packets.front().map(|p| p.ts + horizon)
    }

    /// Drops packets older than `horizon`; gives how many, the range of all that the peer cannot
    /// get any more (an earlier word of it may have been lost), and how many of them were never
    /// sent.
    pub fn forget_old(&mut self, now: i64, horizon: i64) -> Option<(u32, Seq, Seq, u32)> {
        let count = self.packets.iter().take_while(|p| p.ts + horizon <= now).count();
        if count == 0 {
            return None;
        }
        let unsent = count.saturating_sub(self.sent);
        if count > unsent {
            self.given_up += count - unsent;
            self.given_up_end = self.first.add((count - unsent) as u32);
        }
        self.forget_front(count);
        Some((count as u32, self.acked, self.first.sub(1), unsent as u32))
    }

    /// When the last packet sent, still unacknowledged, is to be sent again: a lost tail makes no
    /// gap that the receiver could see.
    pub fn tail_at(&self, patience: i64) -> Option<i64> {
        if self.sent == 0 || self.sent < self.packets.len() || !self.again.is_empty() {
            return None;
        }
        self.packets[self.sent - 1].last_sent.map(|t| t + patience + 20_000)
    }

    pub fn resend_tail(&mut self) {
        if let Some(packet) = self.packets.get_mut(self.sent.wrapping_sub(1)).filter(|p| !p.queued) {
            // Nothing behind it is known there, so nothing is skipped.
            (packet.queued, packet.hole_ends) = (true, i64::MAX);
            self.again.push_back(self.first.add(self.sent as u32 - 1));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filled(count: u32) -> SendBuffer {
        let mut b = SendBuffer::new(Seq::new(100), 64, 64);
        for n in 0..count {
            b.push(i64::from(n) * 1000, KeyFlag::Clear, Bytes::from_static(b"payload"));
        }
        b
    }

    fn send_all(b: &mut SendBuffer, now: i64) -> Vec<(u32, bool)> {
        std::iter::from_fn(|| b.next(now, false).map(|p| (p.seq.raw(), p.resent))).collect()
    }

    fn nak(ranges: &[(u32, u32)]) -> LossList {
        LossList(ranges.iter().map(|(a, b)| (Seq::new(*a), Seq::new(*b))).collect())
    }

    #[test]
    fn asked_for_packets_go_before_new_ones_and_not_twice_within_a_round_trip() {
        let mut b = filled(5);
        for n in 0..3 {
            assert_eq!(b.next(0, false).map(|p| p.seq.raw()), Some(100 + n));
        }
        assert_eq!(b.handle_nak(&nak(&[(100, 101)]), 50_000, 40_000, 0).new, 2);
        assert_eq!(
            b.handle_nak(&nak(&[(100, 101)]), 50_000, 40_000, 0),
            Reported { new: 0, holes: 0, longest: 0, too_late: 0, gone: None },
            "reported and queued already"
        );
        assert_eq!(send_all(&mut b, 50_000), [(100, true), (101, true), (103, false), (104, false)]);
        b.handle_nak(&nak(&[(100, 101)]), 70_000, 40_000, 0);
        assert_eq!(send_all(&mut b, 70_000), [], "may still be on its way");
        b.handle_nak(&nak(&[(100, 101)]), 90_000, 40_000, 0);
        assert_eq!(send_all(&mut b, 90_000), [(100, true), (101, true)]);
    }

    #[test]
    fn message_numbers_begin_again_at_one() {
        let mut b = SendBuffer::new(Seq::new(100), 64, 64);
        b.message = 0x03FF_FFFE;
        for n in 0..3 {
            b.push(n, KeyFlag::Clear, Bytes::from_static(b"x"));
        }
        let messages: Vec<u32> = std::iter::from_fn(|| b.next(0, false).map(|p| p.packet.message)).collect();
        assert_eq!(messages, [0x03FF_FFFE, 0x03FF_FFFF, 1], "26 bits (draft, 3.1); 0 is of no message");
    }

    #[test]
    fn the_first_repeat_waits_for_nothing() {
        let mut b = filled(3);
        send_all(&mut b, 5000);
        assert_eq!(b.handle_nak(&nak(&[(101, 101)]), 5001, 100_000, 0).new, 1);
        assert_eq!(send_all(&mut b, 5001), [(101, true)]);
        b.handle_nak(&nak(&[(101, 101)]), 9000, 100_000, 0);
        assert_eq!(send_all(&mut b, 9000), [], "but the second does");
    }

    #[test]
    fn what_would_come_too_late_is_not_repeated() {
        let mut b = filled(4);
        send_all(&mut b, 4000);
        // A hole is skipped when the packet behind it is due: that of 100 was made at 1000, that of
        // 102 at 3000.
        assert_eq!(
            b.handle_nak(&nak(&[(100, 100), (102, 102)]), 50_000, 1000, 1001),
            Reported { new: 2, holes: 2, longest: 1, too_late: 1, gone: None }
        );
        assert_eq!(send_all(&mut b, 50_000), [(102, true)]);
        b.handle_nak(&nak(&[(100, 100), (102, 102)]), 90_000, 1000, 0);
        assert_eq!(b.give_up(2000), 1, "its time came while it waited");
        assert_eq!(send_all(&mut b, 90_000), [(102, true)]);
    }

    #[test]
    fn acknowledged_packets_are_gone_and_junk_acknowledgements_change_nothing() {
        let mut b = filled(4);
        send_all(&mut b, 0);
        b.handle_ack(Seq::new(102));
        assert_eq!((b.in_flight(), b.oldest_unacknowledged()), (2, Some(2000)));
        b.handle_ack(Seq::new(101));
        b.handle_ack(Seq::new(9000));
        assert_eq!(b.in_flight(), 2, "an old one, and one of packets never sent");
        let got = b.handle_nak(&nak(&[(99, 102)]), 90_000, 1000, 0);
        assert_eq!(
            got,
            Reported { new: 1, holes: 1, longest: 1, too_late: 0, gone: Some((Seq::new(99), Seq::new(101))) },
            "what is gone is named"
        );
    }

    #[test]
    fn a_hostile_report_costs_one_window_of_work() {
        let mut b = filled(60);
        send_all(&mut b, 0);
        let ranges = vec![(100, 0x3FFF_FFFF); 180];
        assert_eq!(b.handle_nak(&nak(&ranges), 90_000, 1000, 0).new, 60, "each packet once");
    }

    #[test]
    fn old_packets_are_forgotten_sent_or_not() {
        let mut b = filled(4);
        b.next(0, false);
        assert_eq!(b.forget_at(1_000_000), Some(1_000_000));
        assert_eq!(b.forget_old(1_001_500, 1_000_000), Some((2, Seq::new(100), Seq::new(101), 1)));
        assert_eq!(send_all(&mut b, 1_001_500), [(102, false), (103, false)]);
        assert_eq!(b.forget_old(1_001_500, 1_000_000), None);
    }

    #[test]
    fn a_lost_tail_is_sent_again_once_nothing_else_is_to_be_sent() {
        let mut b = filled(2);
        b.next(5000, false);
        assert_eq!(b.tail_at(60_000), None, "there is more to send");
        b.next(6000, false);
        assert_eq!(b.tail_at(60_000), Some(6000 + 60_000 + 20_000));
        b.resend_tail();
        b.resend_tail();
        assert_eq!(send_all(&mut b, 90_000), [(101, true)]);
        b.handle_ack(Seq::new(102));
        assert_eq!(b.tail_at(60_000), None);
    }

    #[test]
    fn the_peer_s_window_holds_new_packets_back() {
        let mut b = SendBuffer::new(Seq::new(0), 64, 4);
        for n in 0..10 {
            b.push(n, KeyFlag::Clear, Bytes::new());
        }
        assert_eq!(send_all(&mut b, 0).len(), 4);
        assert!(!b.has_work());
        b.handle_ack(Seq::new(3));
        assert_eq!(send_all(&mut b, 0).len(), 3);
        // So does what is free of it.
        b.set_peer_free(3);
        b.handle_ack(Seq::new(6));
        assert_eq!(send_all(&mut b, 0), [(7, false), (8, false)], "one of three is under way");
        b.set_peer_free(0);
        b.handle_ack(Seq::new(8));
        assert_eq!(send_all(&mut b, 0), [(9, false)], "a peer is never given up");
    }
}
