//! What a source has sent just now, as far as one that comes on needs it: its tables, its clock and its sound.

use super::{
    packets,
    programme::{Programme, Raw},
    track::Decoded,
};
use crate::ts::{PCR_WRAP, TsPacket, pes::PesHeader};
use std::collections::VecDeque;

/// Sound is kept for as long as it may run ahead of or behind the pictures of its time (a second, ISO 13818-1, 2.4.2.7), and what
/// goes out while the old source ends its units.
const SOUND_MAX_US: i64 = 1_250_000;
/// Packets of sound that are kept (770 KB): more than any sound that is sent with pictures.
const SOUND_MAX: usize = 4096;

/// Follows a source that is not on, so that it can come on at its very next keyframe with the sound that belongs before it.
#[derive(Debug, Clone, Default)]
pub struct Lead {
    /// When its first packet came.
    pub(super) since: Option<i64>,
    pub(super) programme: Programme,
    /// Last clock reference and when it came.
    clock: Option<(u64, i64)>,
    /// When its pictures are decoded.
    pub(super) pictures: Decoded,
    /// Packets of sound with their time of arrival, oldest first.
    pub(super) sound: VecDeque<(i64, Raw)>,
}

impl Lead {
    /// Takes whole packets that came at `now` (µs on a clock that never steps).
    pub fn push(&mut self, now: i64, data: &[u8]) {
        for (p, raw) in packets(data) {
            self.note_clock(now, &p);
            self.note(now, &p, raw);
        }
    }

    pub(super) fn note_clock(&mut self, now: i64, p: &TsPacket<'_>) {
        self.since.get_or_insert(now);
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr).filter(|_| self.programme.has_clock(p.pid)) {
            self.clock = Some((pcr, now));
        }
    }

    pub(super) fn note(&mut self, now: i64, p: &TsPacket<'_>, raw: &Raw) {
        if self.programme.is_table(p.pid) {
            self.programme.learn(p, raw);
        } else if p.unit_start && self.programme.video().is_some_and(|v| v.pid == p.pid) {
            let header = p.payload.and_then(PesHeader::parse);
            if let Some(dts) = header.and_then(|h| h.dts.or(h.pts)) {
                self.pictures.note(dts);
            }
        } else if self.programme.is_audio(p.pid) {
            self.sound.push_back((now, *raw));
            while self.sound.len() > SOUND_MAX || self.sound.front().is_some_and(|(at, _)| now - at > SOUND_MAX_US) {
                self.sound.pop_front();
            }
        }
    }

    /// The source's clock at `now`.
    pub(super) fn clock_at(&self, now: i64) -> Option<u64> {
        self.clock.map(|(pcr, at)| (pcr + (now - at).max(0) as u64 * 27) % PCR_WRAP)
    }
}
