//! One track from datagrams to access units on the session's clock, with its receiver reports.

use super::{
    Damage, Depacketizer, PayloadFormat, RawUnit, Reorder, ReorderCounters, ReportBlock, Rtcp, RtpPacket, Step, SyncGroup,
    packet::RtpError, parse_rtcp, rtcp, write_receiver_report,
};
use crate::media::MediaUnit;
use bytes::Bytes;
use std::time::{Duration, Instant};

/// Between receiver reports (RFC 3550, 6.2: five seconds on average; some cameras end a session
/// without them).
const REPORT_EVERY: Duration = Duration::from_secs(4);

/// Packets of one undescribed payload type, with none of the described one, after which they are
/// taken as meant.
const ADOPT_AFTER: u32 = 16;

/// Settings of a track.
#[derive(Debug, Clone)]
pub struct ReceiverConfig {
    /// Payload format.
    pub format: PayloadFormat,
    /// Its payload type; packets of others are left aside.
    pub payload_type: u8,
    /// Ticks per second.
    pub clock_rate: u32,
    /// How long to wait for a missing packet.
    pub depth: Duration,
    /// What becomes of pictures with holes.
    pub damage: Damage,
    /// Our own identifier in reports.
    pub own_ssrc: u32,
}

/// What a track gives.
#[derive(Debug)]
pub enum Received {
    /// An access unit.
    Unit(MediaUnit),
    /// The sender has started anew; clocks and pictures before have nothing to do with those after.
    Restart,
}

/// How a track stands.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct TrackStats {
    /// Order and loss.
    pub order: ReorderCounters,
    /// Packets of which nothing could be made.
    pub malformed: u64,
    /// Access units left out.
    pub units_dropped: u64,
    /// Spread of arrival, ms (RFC 3550, 6.4.1).
    pub jitter_ms: f64,
    /// Packets of another payload type.
    pub foreign: u64,
    /// The payload type that comes in place of the described one, once it is taken as meant.
    pub adopted: Option<u8>,
    /// Sender reports.
    pub reports: u64,
}

/// One track.
#[derive(Debug)]
pub struct RtpReceiver {
    config: ReceiverConfig,
    track: usize,
    reorder: Reorder,
    depack: Depacketizer,
    raw: Vec<RawUnit>,
    stats: TrackStats,
    jitter: f64,
    transit: Option<(Instant, u32)>,
    last_sender: Option<(u32, Instant)>,
    next_report: Option<Instant>,
    reported: (u64, u64),
    /// The undescribed payload type that comes, and how often in a row.
    stranger: (u8, u32),
}

impl RtpReceiver {
    /// The `track`-th of its session.
    #[must_use]
    pub fn new(track: usize, config: ReceiverConfig) -> Self {
        Self {
            track,
            reorder: Reorder::new(config.depth),
            depack: Depacketizer::new(&config.format, config.damage),
            config,
            raw: Vec::new(),
            stats: TrackStats::default(),
            jitter: 0.0,
            transit: None,
            last_sender: None,
            next_report: None,
            reported: (0, 0),
            stranger: (0, 0),
        }
    }

    /// Who sends, once packets have come.
    #[must_use]
    pub fn sender(&self) -> Option<u32> {
        self.reorder.ssrc()
    }

    /// How it stands.
    #[must_use]
    pub fn stats(&self) -> TrackStats {
        TrackStats {
            order: self.reorder.counters(),
            malformed: self.stats.malformed + self.depack.malformed(),
            units_dropped: self.depack.dropped(),
            jitter_ms: self.jitter * 1000.0 / f64::from(self.config.clock_rate.max(1)),
            ..self.stats
        }
    }

    /// What is known of the payload by now.
    #[must_use]
    pub fn depacketizer(&self) -> &Depacketizer {
        &self.depack
    }

    /// Takes an RTP datagram (RTCP on the same channel is noticed and read as such).
    ///
    /// # Errors
    /// It is no RTP packet. It is counted, and nothing else happens.
    pub fn handle_rtp(&mut self, now: Instant, data: &Bytes, group: &mut SyncGroup) -> Result<(), RtpError> {
        if rtcp::is_rtcp(data) {
            self.handle_rtcp(now, data, group);
            return Ok(());
        }
        let packet = RtpPacket::parse(data).inspect_err(|_| self.stats.malformed += 1)?;
        if packet.payload_type != self.config.payload_type {
            self.stats.foreign += 1;
            if !self.adopts(packet.payload_type) {
                return Ok(());
            }
        }
        self.measure(now, &packet);
        self.next_report.get_or_insert(now + REPORT_EVERY);
        self.reorder.push(now, packet);
        Ok(())
    }

    /// Some cameras describe one payload type and send another: what comes alone is meant.
    fn adopts(&mut self, payload_type: u8) -> bool {
        let (last, count) = self.stranger;
        self.stranger = (payload_type, if last == payload_type { count + 1 } else { 1 });
        let adopted = self.reorder.counters().received == 0 && self.stranger.1 >= ADOPT_AFTER;
        if adopted {
            (self.config.payload_type, self.stats.adopted) = (payload_type, Some(payload_type));
        }
        adopted
    }

    fn measure(&mut self, now: Instant, packet: &RtpPacket) {
        if let Some((then, timestamp)) = self.transit
            && Some(packet.ssrc) == self.reorder.ssrc()
        {
            let passed = now.saturating_duration_since(then).as_secs_f64() * f64::from(self.config.clock_rate);
            let d = (passed - f64::from(packet.timestamp.wrapping_sub(timestamp) as i32)).abs();
            // A jump of the clock is no jitter.
            if d < f64::from(self.config.clock_rate) * 10.0 {
                self.jitter += (d - self.jitter) / 16.0;
            }
        }
        self.transit = Some((now, packet.timestamp));
    }

    /// Takes an RTCP datagram; what is wrong in it is counted and left.
    pub fn handle_rtcp(&mut self, now: Instant, data: &[u8], group: &mut SyncGroup) {
        let Ok(packets) = parse_rtcp(data) else {
            self.stats.malformed += 1;
            return;
        };
        for packet in packets {
            if let Rtcp::SenderReport { ssrc, ntp, timestamp, .. } = packet
                && self.reorder.ssrc().is_none_or(|s| s == ssrc)
            {
                self.stats.reports += 1;
                self.last_sender = Some((ntp.middle(), now));
                group.report(self.track, ntp, timestamp);
            }
        }
    }

    /// Hands out what is ready. To be called after each input and timeout, until it gives nothing.
    pub fn poll(&mut self, group: &mut SyncGroup, out: &mut Vec<Received>) {
        while let Some(step) = self.reorder.poll() {
            match step {
                Step::Gap(_) => self.depack.gap(),
                Step::Restart => {
                    self.depack = Depacketizer::new(&self.config.format, self.config.damage);
                    out.push(Received::Restart);
                }
                Step::Packet(packet, came) => self.depack.push(&packet, came, &mut self.raw),
            }
            for unit in self.raw.drain(..) {
                let Some(pts) = group.pts(self.track, unit.timestamp, unit.arrived) else {
                    out.push(Received::Restart);
                    continue;
                };
                out.push(Received::Unit(MediaUnit {
                    track: self.track,
                    pts,
                    dts: None,
                    keyframe: unit.keyframe,
                    damaged: unit.damaged,
                    arrived: unit.arrived,
                    pieces: unit.pieces,
                }));
            }
        }
    }

    /// Gives up packets that have been awaited for too long.
    pub fn handle_timeout(&mut self, now: Instant) {
        self.reorder.handle_timeout(now);
    }

    /// When to call `handle_timeout` or take a report.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.reorder.poll_timeout().into_iter().chain(self.next_report).min()
    }

    /// A receiver report, when one is due.
    pub fn poll_report(&mut self, now: Instant, cname: &str) -> Option<Vec<u8>> {
        self.next_report.filter(|at| *at <= now)?;
        self.next_report = Some(now + REPORT_EVERY);
        let (first, highest) = self.reorder.span();
        let counters = self.reorder.counters();
        let (expected, got) = (highest + 1 - first, counters.received - counters.duplicates);
        let (e, g) = (expected.saturating_sub(self.reported.0), got.saturating_sub(self.reported.1));
        self.reported = (expected, got);
        let (mark, since) =
            self.last_sender.map_or((0, 0), |(mark, at)| (mark, (now.saturating_duration_since(at).as_secs_f64() * 65_536.0) as u32));
        let block = ReportBlock {
            ssrc: self.reorder.ssrc()?,
            fraction: if e > g && e > 0 { (((e - g) << 8) / e).min(255) as u8 } else { 0 },
            lost: expected.saturating_sub(got).min(0x007F_FFFF) as u32,
            highest: highest as u32,
            jitter: self.jitter as u32,
            last_report: mark,
            since_report: since,
        };
        Some(write_receiver_report(self.config.own_ssrc, cname, Some(&block)))
    }
}
