//! RTP tracks of one source, as units in time, or as the transport stream that they carry.

use super::{
    Arrival, Intake,
    status::{Counters, LinkStatus},
};
use bytes::Bytes;
use choir_core::facts::{Misbehaviour, Notice};
use choir_proto::{
    media::Codec,
    rtp::{Damage, Feedback, PayloadFormat, Received, ReceiverConfig, RtpReceiver, SyncGroup, write_keyframe_request},
    rtsp::SdpTrack,
    sequence::{SequencedTrack, Sequencer},
    ts::{TS_PACKET, Timed},
};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

/// How long to wait for a missing packet, unless said.
pub(super) const REORDER: Duration = Duration::from_millis(50);
/// What the clock of the units runs behind, above that: a picture's own way through the network.
const LEAD: Duration = Duration::from_millis(70);

/// How RTP is to be taken.
#[derive(Debug, Clone, Copy)]
pub(super) struct ReceiveOptions {
    pub reorder: Duration,
    pub damage: Damage,
}

impl ReceiveOptions {
    pub fn new(reorder: Option<Duration>, pass_damaged: bool) -> Self {
        Self { reorder: reorder.unwrap_or(REORDER), damage: if pass_damaged { Damage::Pass } else { Damage::Wait } }
    }
}

enum Shape {
    /// Access units.
    Units(Box<Sequencer>),
    /// It is one already.
    Ts,
}

/// All tracks of one source.
pub(super) struct MediaIn {
    tracks: Vec<RtpReceiver>,
    group: SyncGroup,
    chosen: Vec<SequencedTrack>,
    shape: Shape,
    lead: Duration,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
    /// Counters of earlier sources on this way.
    before: Counters,
    timed: Vec<Timed>,
    arrivals: Vec<Arrival>,
    received: Vec<Received>,
    /// Number of the present session, once media has come.
    session: Option<u32>,
    name: String,
    own_ssrc: u32,
    /// The track of pictures, and what its sender takes.
    pictures: Option<(usize, Feedback)>,
    keyframes_asked: u8,
    damaged_told: u64,
    /// Corrected time stamps and moves of the clock that have been told.
    stamps_told: (u64, u64),
    /// Sentences about the sender that have been told.
    told: Vec<Misbehaviour>,
    pub last_packet: Option<Instant>,
    /// Sender reports have come: the way works, even if no media has.
    pub reported: bool,
}

impl MediaIn {
    /// For these tracks, in the order in which they are then named.
    pub fn new(tracks: &[(&SdpTrack, &PayloadFormat)], taking: ReceiveOptions, intake: Arc<dyn Intake>, status: Arc<LinkStatus>) -> Self {
        let codecs: Vec<Codec> = tracks.iter().map(|(_, f)| Codec::from(*f)).collect();
        let chosen: Vec<SequencedTrack> = codecs.iter().enumerate().map(|(track, c)| SequencedTrack { track, codec: c.clone() }).collect();
        let rates: Vec<u32> = tracks.iter().map(|(t, _)| t.clock_rate).collect();
        let leader = codecs.iter().position(Codec::is_video).unwrap_or(0);
        let own_ssrc = rand();
        let receivers = tracks.iter().enumerate().map(|(n, (track, format))| {
            RtpReceiver::new(
                n,
                ReceiverConfig {
                    format: (*format).clone(),
                    payload_type: track.payload_type,
                    clock_rate: track.clock_rate,
                    depth: taking.reorder,
                    damage: taking.damage,
                    own_ssrc,
                },
            )
        });
        let lead = taking.reorder + LEAD;
        let is_ts = codecs.contains(&Codec::Ts);
        let before = status.look().counters;
        Self {
            tracks: receivers.collect(),
            group: SyncGroup::new(&rates, leader),
            shape: if is_ts { Shape::Ts } else { Shape::Units(Box::new(Sequencer::new(&chosen, lead))) },
            chosen,
            lead,
            intake,
            status,
            before,
            timed: Vec::new(),
            arrivals: Vec::new(),
            received: Vec::new(),
            session: None,
            name: format!("choir-{own_ssrc:08x}"),
            own_ssrc,
            pictures: codecs.iter().position(Codec::is_video).map(|n| (n, tracks[n].0.feedback)),
            keyframes_asked: 0,
            damaged_told: 0,
            stamps_told: (0, 0),
            told: Vec::new(),
            last_packet: None,
            reported: false,
        }
    }

    /// Where a track starts, by the answer to PLAY.
    pub fn starts_at(&mut self, track: usize, timestamp: u32) {
        self.group.starts_at(track, timestamp);
    }

    /// Takes an RTP datagram of a track.
    pub fn rtp(&mut self, track: usize, now: Instant, data: &Bytes) {
        let Some(t) = self.tracks.get_mut(track) else { return };
        if t.handle_rtp(now, data, &mut self.group).is_ok() {
            self.last_packet = Some(now);
        }
        t.poll(&mut self.group, &mut self.received);
        self.hand_on(now);
    }

    /// Takes an RTCP datagram of a track.
    pub fn rtcp(&mut self, track: usize, now: Instant, data: &[u8]) {
        if let Some(t) = self.tracks.get_mut(track) {
            t.handle_rtcp(now, data, &mut self.group);
            self.reported |= t.stats().reports > 0;
        }
    }

    /// Gives up what is awaited for too long, and keeps the stream's clock running.
    pub fn handle_timeout(&mut self, now: Instant) {
        for t in &mut self.tracks {
            t.handle_timeout(now);
            t.poll(&mut self.group, &mut self.received);
        }
        self.hand_on(now);
        if let Shape::Units(units) = &mut self.shape {
            units.handle_timeout(now, &mut self.timed);
        }
        self.flush(now);
    }

    /// When to call `handle_timeout`.
    pub fn poll_timeout(&self) -> Option<Instant> {
        let units = match &self.shape {
            Shape::Units(r) => r.poll_timeout(),
            Shape::Ts => None,
        };
        self.tracks.iter().filter_map(RtpReceiver::poll_timeout).chain(units).min()
    }

    /// Receiver reports that are due: track and datagram.
    pub fn reports(&mut self, now: Instant) -> Vec<(usize, Vec<u8>)> {
        let name = self.name.clone();
        self.tracks.iter_mut().enumerate().filter_map(|(n, t)| Some((n, t.poll_report(now, &name)?))).collect()
    }

    /// The sender takes requests for keyframes.
    pub fn can_ask_keyframe(&self) -> bool {
        self.pictures.is_some_and(|(_, takes)| takes != Feedback::default())
    }

    /// A request for a keyframe: track and datagram.
    pub fn keyframe_request(&mut self) -> Option<(usize, Vec<u8>)> {
        let (track, takes) = self.pictures?;
        let sender = self.tracks.get(track)?.sender()?;
        self.keyframes_asked = self.keyframes_asked.wrapping_add(1);
        Some((track, write_keyframe_request(self.own_ssrc, &self.name, sender, takes, self.keyframes_asked)?))
    }

    fn hand_on(&mut self, now: Instant) {
        let mut received = std::mem::take(&mut self.received);
        for r in received.drain(..) {
            match (r, &mut self.shape) {
                (Received::Unit(unit), Shape::Units(units)) => units.push(now, &unit, &mut self.timed),
                (Received::Unit(unit), Shape::Ts) => {
                    // Whole packets in order: handed on as they are.
                    for piece in unit.pieces {
                        if piece.len().is_multiple_of(TS_PACKET) && piece.first() == Some(&0x47) {
                            let session = self.open_session();
                            self.arrivals.push(Arrival::ts(session, now, piece));
                        }
                    }
                }
                (Received::Restart, _) => self.restart(now),
            }
        }
        self.received = received;
        self.flush(now);
        self.count();
    }

    fn restart(&mut self, now: Instant) {
        self.flush(now);
        if let Shape::Units(units) = &mut self.shape {
            **units = Sequencer::new(&self.chosen, self.lead);
            self.stamps_told = (0, 0);
        }
        let rates: Vec<u32> = self.chosen.iter().map(|c| self.group.rate(c.track)).collect();
        self.group = SyncGroup::new(&rates, self.group.leader());
        if self.session.take().is_some() {
            self.status.note(Notice::SenderRestarted);
        }
    }

    fn open_session(&mut self) -> u32 {
        if let Some(session) = self.session {
            return session;
        }
        let session = self.status.begin_session();
        self.session = Some(session);
        session
    }

    fn flush(&mut self, now: Instant) {
        if let (false, Shape::Units(units)) = (self.timed.is_empty(), &self.shape) {
            let format = units.format().clone();
            let session = self.open_session();
            self.arrivals.extend(Arrival::units(session, now, &format, &mut self.timed));
        }
        if !self.arrivals.is_empty() {
            self.intake.arrive(&mut self.arrivals);
        }
    }

    fn count(&mut self) {
        let mut total = self.before;
        let mut dropped = 0;
        for t in &self.tracks {
            let s = t.stats();
            total.packets += s.order.received;
            total.bytes += s.order.bytes;
            total.lost += s.order.lost.saturating_sub(s.order.reordered);
            total.missing += s.order.missing;
            dropped += s.units_dropped;
        }
        let told = dropped > self.damaged_told && total.missing > self.before.missing;
        self.damaged_told = dropped;
        let read_at = Some(Instant::now());
        self.status.update(|l| (l.counters, l.read_at) = (total, read_at));
        if told {
            self.status.note(Notice::DroppingDamaged);
        }
        self.tell_stamps();
        self.report_misbehaviour();
    }

    /// What the sender gets wrong, once for each.
    fn report_misbehaviour(&mut self) {
        let mut found = Vec::new();
        for (t, c) in self.tracks.iter().zip(&self.chosen) {
            found.extend(t.stats().adopted.map(|arrives| Misbehaviour::PayloadType { codec: c.codec.to_string(), arrives }));
        }
        if let Some(off) = self.group.clock_off_percent() {
            found.push(Misbehaviour::ClockRate { percent: off.round() as i32 });
        }
        if let Some(ms) = self.group.disbelieved_ms() {
            // By half seconds, so that small changes are not told again.
            found.push(Misbehaviour::SenderReports { tenths: (ms.abs() as f64 / 500.0).round() as u32 * 5 });
        }
        if let Some(ms) = self.group.info_disbelieved_ms() {
            found.push(Misbehaviour::RtpInfo { tenths: (ms.abs() as f64 / 100.0).round() as u32 });
        }
        for what in found {
            if !self.told.contains(&what) {
                self.told.push(what.clone());
                self.status.note(Notice::Misbehaves(what));
            }
        }
    }

    /// What was wrong with the sender's time stamps since last told.
    fn tell_stamps(&mut self) {
        let Shape::Units(units) = &self.shape else { return };
        let (mended, moved) = (units.mended_stamps(), units.clock_moves());
        let told = std::mem::replace(&mut self.stamps_told, (mended, moved));
        if moved > told.1 {
            self.status.note(Notice::ClockJumped);
        } else if mended > told.0 {
            self.status.note(Notice::StampsCorrected { new: mended - told.0, total: mended });
        }
    }
}

/// A random number; predictable ones would only make two receivers look alike.
pub(super) fn rand() -> u32 {
    u32::from_be_bytes(choir_host::random())
}
