//! How one way in or out stands: written by its port, read by anybody, taken away by nobody.

use crate::control::WayControl;
use choir_core::facts::{Contact, Encryption, Loss, Notice, Piece, Waiting};
use choir_host::{clock::unix_ms, lock};
use std::{
    collections::VecDeque,
    net::SocketAddr,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Notify, watch};

/// Notices kept: a caller that is refused four times a second must not push out everything else, so
/// repeats are dropped.
const NOTICES_KEPT: usize = 32;
/// Pieces kept, one each 200 ms or so.
const PIECES_KEPT: usize = 64;

/// Totals of one link. They only grow.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counters {
    /// Packets received, or handed in for sending.
    pub packets: u64,
    /// Their payload bytes.
    pub bytes: u64,
    /// Packets lost on the path, each counted once.
    pub lost: u64,
    /// Of those, repaired (way in).
    pub recovered: u64,
    /// Packets that the picture misses: not repaired, or not sent, in time.
    pub missing: u64,
    /// Packets sent again (way out), or that came as repeats (way in).
    pub resent: u64,
    /// Packets dropped before sending: too late, or no room (way out).
    pub dropped: u64,
    /// Of those, the ones for which the peer's flow window had no room.
    pub window_dropped: u64,
    /// Runs of packets lost.
    pub holes: u64,
    /// Acknowledgements sent (way in).
    pub acks: u64,
    /// Of those, answered.
    pub answered: u64,
    /// Packets that could not be decrypted (way in).
    pub undecrypted: u64,
    /// Bytes of media on the wire, repeats and headers included: what came, or what left.
    pub wire_bytes: u64,
    /// Packets that came after their time (way in).
    pub late: u64,
}

impl Counters {
    /// Adds those of another link.
    pub fn add(&mut self, o: &Self) {
        self.packets += o.packets;
        self.bytes += o.bytes;
        self.lost += o.lost;
        self.recovered += o.recovered;
        self.missing += o.missing;
        self.resent += o.resent;
        self.dropped += o.dropped;
        self.window_dropped += o.window_dropped;
        self.holes += o.holes;
        self.acks += o.acks;
        self.answered += o.answered;
        self.undecrypted += o.undecrypted;
        self.wire_bytes += o.wire_bytes;
        self.late += o.late;
    }

    /// What has come on top since `before`.
    #[must_use]
    pub fn since(&self, before: &Self) -> Self {
        Self {
            packets: self.packets.saturating_sub(before.packets),
            bytes: self.bytes.saturating_sub(before.bytes),
            lost: self.lost.saturating_sub(before.lost),
            recovered: self.recovered.saturating_sub(before.recovered),
            missing: self.missing.saturating_sub(before.missing),
            resent: self.resent.saturating_sub(before.resent),
            dropped: self.dropped.saturating_sub(before.dropped),
            window_dropped: self.window_dropped.saturating_sub(before.window_dropped),
            holes: self.holes.saturating_sub(before.holes),
            acks: self.acks.saturating_sub(before.acks),
            answered: self.answered.saturating_sub(before.answered),
            undecrypted: self.undecrypted.saturating_sub(before.undecrypted),
            wire_bytes: self.wire_bytes.saturating_sub(before.wire_bytes),
            late: self.late.saturating_sub(before.late),
        }
    }
}

/// Present values of one link.
#[derive(Debug, Clone, Default)]
pub struct Gauges {
    /// Round-trip time, once measured.
    pub rtt: Option<Duration>,
    /// Latency in force.
    pub latency: Option<Duration>,
    /// Latency that this end and the other asked for.
    pub latency_asked: Option<(Duration, Duration)>,
    /// The peer's flow window, packets.
    pub peer_window: Option<u32>,
    /// Age of the oldest packet without acknowledgement (way out).
    pub unacknowledged: Option<Duration>,
    /// Version that the peer says it has (SRT), 0x00MMmmpp.
    pub peer_version: Option<u32>,
    /// What the path has room for, bits per second, as bursts that queued on it have shown.
    pub capacity_bps: Option<u64>,
    /// Variation of the transit from packet to packet (way in).
    pub jitter: Option<Duration>,
    /// Largest payload of late (way in).
    pub largest: Option<u32>,
    /// Time since anything came from the peer.
    pub silent: Option<Duration>,
    /// Time since a packet of media came from it (way in).
    pub data_silent: Option<Duration>,
    /// Time since the first of our acknowledgements that has no answer (way in).
    pub unanswered: Option<Duration>,
    /// Correction for the peer's clock, µs (way in).
    pub drift_us: Option<i64>,
    /// Room that the peer has left, packets (way out).
    pub peer_free: Option<u32>,
    /// Packets that reached it in its last second (way out).
    pub peer_packets: Option<u32>,
    /// Ceiling in force, bits per second (way out).
    pub ceiling_bps: Option<u64>,
    /// Longest wait for a first sending of late (way out).
    pub waited: Option<Duration>,
    /// Time since a new key was announced that has no confirmation (way out).
    pub key_unconfirmed: Option<Duration>,
}

/// One connected peer of a way that has peers.
#[derive(Debug, Clone)]
pub struct PeerLive {
    /// Its address.
    pub addr: SocketAddr,
    /// Since when, here and ms since 1970.
    pub since: (Instant, u64),
    /// Its totals.
    pub counters: Counters,
    /// Its present values.
    pub gauges: Gauges,
    /// Its host says that nobody listens there any more.
    pub port_closed: bool,
    /// Its latest pieces, oldest first, with their ends; `ago` of a hole counts from there.
    pub pieces: VecDeque<(Instant, Piece)>,
}

impl PeerLive {
    /// One that has just come.
    #[must_use]
    pub fn new(addr: SocketAddr, now: Instant) -> Self {
        Self {
            addr,
            since: (now, unix_ms()),
            counters: Counters::default(),
            gauges: Gauges::default(),
            port_closed: false,
            pieces: VecDeque::new(),
        }
    }

    pub(crate) fn note_piece(&mut self, at: Instant, piece: Piece) {
        if self.pieces.len() == PIECES_KEPT {
            self.pieces.pop_front();
        }
        self.pieces.push_back((at, piece));
    }

    /// Pieces that ended after `after`, up to and with `until`, from where their times count.
    #[must_use]
    pub fn pieces_between(&self, after: Instant, until: Instant) -> Vec<Piece> {
        let within = self.pieces.iter().filter(|(at, _)| *at > after && *at <= until);
        let moved = |(at, p): &(Instant, Piece)| {
            let ago = until - *at;
            Piece { ago, hole: p.hole.map(|(packets, before)| (packets, before + ago)), ..*p }
        };
        within.map(moved).collect()
    }
}

/// The present state of a way in or out.
#[derive(Debug, Clone)]
pub struct Live {
    /// How it stands.
    pub contact: Contact,
    /// Its peers, where the protocol has several on one way.
    pub peers: Vec<(u64, PeerLive)>,
    /// Totals of a way without such peers, and of peers that have gone.
    pub counters: Counters,
    /// When the counters were read.
    pub read_at: Option<Instant>,
    /// The other end of a way without several peers.
    pub peer: Option<SocketAddr>,
    /// Its round-trip time, where it can be told.
    pub rtt: Option<Duration>,
    /// How it travels, in words.
    pub how: Option<String>,
    /// What the other end says it is, where the protocol has a word for it.
    pub software: Option<String>,
    /// Addresses that viewers use.
    pub paste: Vec<String>,
    /// Since when a way without several peers is up.
    pub since: Option<(Instant, u64)>,
    /// Connections so far.
    pub sessions: u32,
    /// Encryption, also as seen in a refused attempt.
    pub encryption: Encryption,
    /// Inode of the socket, to find its drops.
    pub socket: Option<u64>,
    notices: VecDeque<(u64, Notice)>,
    noticed: u64,
}

impl Live {
    /// All totals.
    #[must_use]
    pub fn totals(&self) -> Counters {
        let mut total = self.counters;
        self.peers.iter().for_each(|(_, p)| total.add(&p.counters));
        total
    }

    /// Notices after number `after`, with their numbers.
    pub fn notices_after(&self, after: u64) -> impl Iterator<Item = &(u64, Notice)> {
        self.notices.iter().filter(move |(n, _)| *n > after)
    }

    /// All notices that are kept.
    pub fn notices(&self) -> impl Iterator<Item = &Notice> {
        self.notices.iter().map(|(_, n)| n)
    }

    /// Says how it travels; another way to travel is told at once.
    pub(crate) fn set_how(&mut self, how: String) {
        if self.how.as_ref() != Some(&how) {
            self.how = Some(how);
            // As a notice without words.
            self.noticed += 1;
        }
    }

    pub(crate) fn note(&mut self, notice: Notice) {
        if self.notices.back().is_some_and(|(_, last)| *last == notice) {
            return;
        }
        if self.notices.len() == NOTICES_KEPT {
            self.notices.pop_front();
        }
        self.noticed += 1;
        self.notices.push_back((self.noticed, notice));
    }
}

/// One way in or out, shared between its port and the show.
#[derive(Debug)]
pub struct LinkStatus {
    /// What the show asks of the port.
    pub control: WayControl,
    live: Mutex<Live>,
    played_out: watch::Sender<bool>,
    /// Somebody has asked for what is served here.
    asked_for: AtomicBool,
    /// Notified when it stands otherwise, or has a notice.
    changed: Arc<Notify>,
}

impl LinkStatus {
    /// One whose port has not started yet.
    #[must_use]
    pub fn new() -> Arc<Self> {
        Self::notifying(Arc::default(), Arc::default())
    }

    /// As `new`; `changed` is notified whenever it stands otherwise or has a notice,
    /// `tally_changed` whenever its tally is another.
    #[must_use]
    pub fn notifying(changed: Arc<Notify>, tally_changed: Arc<Notify>) -> Arc<Self> {
        Arc::new(Self {
            control: WayControl::new(tally_changed),
            live: Mutex::new(Live {
                contact: Contact::Waiting(Waiting::Start),
                peers: Vec::new(),
                counters: Counters::default(),
                read_at: None,
                peer: None,
                rtt: None,
                how: None,
                software: None,
                paste: Vec::new(),
                since: None,
                sessions: 0,
                encryption: Encryption::Clear,
                socket: None,
                notices: VecDeque::new(),
                noticed: 0,
            }),
            played_out: watch::channel(false).0,
            asked_for: AtomicBool::new(false),
            changed,
        })
    }

    /// Its port has been closed, and another is to be opened, at once or later; totals and notices
    /// stay.
    pub fn reset(&self, contact: Contact) {
        self.update(|l| {
            for (_, peer) in std::mem::take(&mut l.peers) {
                l.counters.add(&peer.counters);
            }
            l.contact = contact;
            (l.peer, l.rtt, l.how, l.software, l.since, l.socket) = (None, None, None, None, None, None);
            l.paste.clear();
            l.encryption = Encryption::Clear;
        });
    }

    /// A copy of the present state.
    #[must_use]
    pub fn look(&self) -> Live {
        lock(&self.live).clone()
    }

    pub(crate) fn update(&self, change: impl FnOnce(&mut Live)) {
        let mut live = lock(&self.live);
        let mark = |l: &Live| (std::mem::discriminant(&l.contact), l.noticed);
        let before = mark(&live);
        change(&mut live);
        if mark(&live) != before {
            self.changed.notify_one();
        }
    }

    pub(crate) fn set_contact(&self, contact: Contact) {
        self.update(|l| l.contact = contact);
    }

    /// Says that it is lost.
    pub(crate) fn set_lost(&self, loss: Loss) {
        self.update(|l| {
            l.contact = Contact::Lost(loss);
            l.since = None;
        });
    }

    /// Says that it is lost, and tells it unless it was told.
    pub(crate) fn tell_lost(&self, loss: Loss) {
        self.update(|l| {
            if l.contact != Contact::Lost(loss.clone()) {
                l.note(Notice::Lost(loss.clone()));
            }
            l.contact = Contact::Lost(loss);
            l.since = None;
        });
    }

    /// While a link is joined again after a loss, the reason of the loss stays to be read.
    pub(crate) fn set_joining(&self, joining: choir_core::facts::Joining) {
        self.update(|l| {
            if !matches!(l.contact, Contact::Lost(_)) {
                l.contact = Contact::Joining(joining);
            }
        });
    }

    /// A new source has come up: gives the number of its session.
    pub(crate) fn begin_session(&self) -> u32 {
        let mut session = 0;
        self.update(|l| {
            l.sessions += 1;
            session = l.sessions;
            l.since = Some((Instant::now(), unix_ms()));
            l.contact = Contact::Up;
        });
        session
    }

    /// Reports something.
    pub fn note(&self, notice: Notice) {
        self.update(|l| l.note(notice));
    }

    /// Says that somebody has asked for what is served here.
    pub(crate) fn set_asked_for(&self) {
        self.asked_for.store(true, Ordering::Release);
    }

    /// True once somebody has asked for what is served here.
    #[must_use]
    pub fn is_asked_for(&self) -> bool {
        self.asked_for.load(Ordering::Acquire)
    }

    /// Says that a source has come to its end.
    pub(crate) fn set_played_out(&self) {
        self.played_out.send_replace(true);
    }

    /// Waits until a source has come to its end.
    pub async fn played_out(&self) {
        let _ = self.played_out.subscribe().wait_for(|done| *done).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::facts::Span;

    #[test]
    fn everybody_reads_the_same_and_no_dip_is_missed_or_told_twice() {
        let status = LinkStatus::new();
        status.note(Notice::SenderRestarted);
        status.note(Notice::SenderRestarted);
        status.note(Notice::DroppingDamaged);
        for _ in 0..2 {
            assert_eq!(status.look().notices().cloned().collect::<Vec<_>>(), [Notice::SenderRestarted, Notice::DroppingDamaged]);
        }
        assert_eq!(status.look().notices_after(1).map(|n| n.0).collect::<Vec<_>>(), [2]);
        let (t, ms) = (Instant::now(), Duration::from_millis);
        let mut peer = PeerLive::new(([127, 0, 0, 1], 1).into(), t);
        for (n, least) in [90.0, 20.0, 80.0, 85.0, 70.0, 88.0].into_iter().enumerate() {
            let headroom_ms = Some(Span { least, greatest: 100.0 + least });
            peer.note_piece(t + ms(200 * n as u64), Piece { headroom_ms, hole: Some((2, ms(50))), ..Piece::default() });
        }
        // Whoever looks once a second sees the dip, whatever others have read; the next second does
        // not have it.
        let headroom = |from, to| peer.pieces_between(t + ms(from), t + ms(to)).iter().filter_map(|p| p.headroom_ms).reduce(Span::with);
        assert_eq!(headroom(0, 800), Some(Span { least: 20.0, greatest: 185.0 }));
        assert_eq!(headroom(800, 1800), Some(Span { least: 88.0, greatest: 188.0 }));
        assert_eq!(headroom(1800, 2800), None);
        assert_eq!(peer.pieces_between(t, t + ms(300))[0].hole, Some((2, ms(150))), "its time counts from the end of the tick");
    }
}
