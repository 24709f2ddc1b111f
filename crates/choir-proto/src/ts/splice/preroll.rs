//! What a source has sent just now, as far as one that comes on needs it: its tables, its clock and
//! its sound.

use super::{limits::SOUND_MAX_US, track::Decoded};
use crate::ts::{
    PCR_WRAP, Piece, TsPacket,
    index::{Indexed, Raw},
    pes::PesHeader,
    programme::Programme,
};
use std::collections::VecDeque;

/// Packets of sound that are kept (770 KB): more than any sound that is sent with pictures.
const SOUND_MAX: usize = 4096;

/// Follows a source that is not on, so that it can come on at its very next keyframe with the sound
/// that belongs before it.
#[derive(Debug, Clone, Default)]
pub struct Preroll {
    /// It has begun with the take and comes on with its first keyframe, whatever its sound.
    pub(super) whole: bool,
    /// When its first packet came.
    pub(super) since: Option<i64>,
    pub(super) programme: Programme,
    /// First packets of the latest PAT and PMT.
    tables: [Option<Raw>; 2],
    /// Last clock reference and when it came.
    clock: Option<(u64, i64)>,
    /// When its pictures are decoded.
    pub(super) pictures: Decoded,
    /// Packets of sound with their time of arrival, oldest first.
    pub(super) sound: VecDeque<(i64, Raw)>,
}

impl Preroll {
    /// Of a clip that begins with a take: nothing of it is to be missed.
    #[must_use]
    pub fn whole() -> Self {
        Self { whole: true, ..Self::default() }
    }

    /// Takes what came at `now` (µs on a clock that never steps).
    pub fn push(&mut self, now: i64, piece: &Piece<'_>) {
        for i in piece.runs() {
            self.learn(now, i);
            self.keep_table(i);
            self.note(now, &i.packet, i.raw, i.header.as_ref());
            if self.programme.is_audio(i.packet.pid) {
                i.more.iter().for_each(|raw| self.keep_sound(now, raw));
            }
        }
    }

    /// Notes the clock and what tables say.
    pub(super) fn learn(&mut self, now: i64, i: &Indexed<'_>) {
        self.since.get_or_insert(now);
        if let Some(pcr) = i.clock {
            self.clock = Some((pcr, now));
        }
        if let Some(programme) = &i.programme {
            self.programme = programme.clone();
        }
    }

    /// Keeps a packet that is a whole table.
    pub(super) fn keep_table(&mut self, i: &Indexed<'_>) {
        if i.programme.is_some() && i.packet.unit_start {
            self.tables[usize::from(i.packet.pid != 0)] = Some(*i.raw);
        }
    }

    /// Notes pictures and sound.
    pub(super) fn note(&mut self, now: i64, p: &TsPacket<'_>, raw: &Raw, header: Option<&PesHeader>) {
        if p.unit_start && self.programme.video().is_some_and(|v| v.pid == p.pid) {
            if let Some(dts) = header.and_then(|h| h.dts.or(h.pts)) {
                self.pictures.note(dts);
            }
        } else if self.programme.is_audio(p.pid) {
            self.keep_sound(now, raw);
        }
    }

    fn keep_sound(&mut self, now: i64, raw: &Raw) {
        self.sound.push_back((now, *raw));
        while self.sound.len() > SOUND_MAX || self.sound.front().is_some_and(|(at, _)| now - at > SOUND_MAX_US) {
            self.sound.pop_front();
        }
    }

    /// Both tables, once they have been seen.
    #[must_use]
    pub fn tables(&self) -> Option<[Raw; 2]> {
        self.tables[0].zip(self.tables[1]).map(|(a, b)| [a, b])
    }

    /// The source's clock at `now`.
    pub(super) fn clock_at(&self, now: i64) -> Option<u64> {
        self.clock.map(|(pcr, at)| (pcr + (now - at).max(0) as u64 * 27) % PCR_WRAP)
    }
}
