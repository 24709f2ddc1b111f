//! A source that is to come on: waits for a keyframe, and keeps what goes out from there on.

use super::{
    limits::{SOUND_SPARE_REORDERED, SOUND_WAIT_US},
    preroll::Preroll,
    track::Tracks,
};
use crate::ts::{
    PTS_WRAP, TsPacket,
    index::{Indexed, Raw},
    pes::PesHeader,
    wrapped_distance,
};

/// While the old source closes its time goes on, and with it the sound that is needed: two pictures
/// (80 ms, 90 kHz) where they are shown in order.
const SOUND_SPARE: i64 = 7200;
/// Packets kept from the keyframe on while the old source ends its units (16 MB).
const HELD_MAX: usize = 85_000;

/// Where the keyframe begins.
#[derive(Debug, Clone, Copy)]
pub(super) struct Entry {
    /// When it began to come, µs.
    pub at: i64,
    /// The source's clock then, 27 MHz.
    pub clock: u64,
    /// Time stamps of the picture, if it is one.
    pub pts: Option<u64>,
    pub dts: Option<u64>,
}

#[derive(Debug, Default)]
pub(super) struct Waiting {
    /// What came before the keyframe.
    pub preroll: Preroll,
    /// Packets since the start of the unit that may be a keyframe, and from the keyframe on.
    pub held: Vec<Raw>,
    /// The unit whose picture is not known yet.
    candidate: Option<Entry>,
    pub entry: Option<Entry>,
    /// Keyframes that came without parameter sets.
    bare: u32,
}

impl Waiting {
    /// A source that has sent this so far.
    pub fn after(preroll: Preroll) -> Self {
        Self { preroll, ..Self::default() }
    }

    /// Takes one packet.
    pub fn push(&mut self, now: i64, i: &Indexed<'_>) {
        self.preroll.learn(now, i);
        if self.entry.is_some() {
            if self.held.len() < HELD_MAX {
                self.held.push(*i.raw);
            }
            return;
        }
        if i.may_enter {
            self.give_up();
            self.candidate = self.candidate_at(now, i);
        }
        if self.candidate.is_some() {
            self.held.push(*i.raw);
            if self.is_entered(i) {
                return;
            }
        }
        self.preroll.keep_table(i);
        self.preroll.note(now, &i.packet, i.raw, i.header.as_ref());
    }

    /// True when no more can be kept.
    pub fn is_full(&self) -> bool {
        self.held.len() >= HELD_MAX
    }

    /// Whether the sound that is kept, shifted by `shift`, follows the old source's without a hole.
    pub fn sound_reaches(&self, old: &Tracks, shift: u64) -> bool {
        let listed = self.preroll.programme.pmt.iter().flat_map(|m| &m.streams).filter(|s| s.kind.is_audio());
        let start = |pid: u16| {
            let packets = self.preroll.sound.iter().filter_map(|(_, raw)| TsPacket::parse(raw)).filter(|p| p.pid == pid && p.unit_start);
            packets.filter_map(|p| p.payload.and_then(PesHeader::parse)?.pts).next()
        };
        let spare = if old.reorders() { SOUND_SPARE_REORDERED } else { SOUND_SPARE };
        listed.zip(old.sounds()).all(|(stream, old)| {
            let Some(end) = &old.end else { return true };
            start(stream.pid).is_some_and(|pts| wrapped_distance((pts + shift) % PTS_WRAP, end.at, PTS_WRAP) <= -spare)
        })
    }

    /// Lets this keyframe go by and waits for one with more sound known by then; true unless there
    /// has been time enough for that.
    pub fn refuse(&mut self, now: i64) -> bool {
        let early = !self.preroll.whole && self.preroll.since.is_some_and(|since| now - since < SOUND_WAIT_US);
        if early {
            self.entry = None;
            // Its pictures go by, its sound may be needed.
            for raw in std::mem::take(&mut self.held) {
                if let Some(p) = TsPacket::parse(&raw) {
                    let header = p.payload.filter(|_| p.unit_start).and_then(PesHeader::parse);
                    self.preroll.note(now, &p, &raw, header.as_ref());
                }
            }
        }
        early
    }

    /// A unit begins with this packet at which the source might come on.
    fn candidate_at(&self, now: i64, i: &Indexed<'_>) -> Option<Entry> {
        let (clock, _) = (self.preroll.clock_at(now)?, self.preroll.tables()?);
        let header = i.header?;
        Some(Entry { at: now, clock, pts: header.pts, dts: header.dts.or(header.pts) })
    }

    /// With this packet the candidate has turned out to be a keyframe.
    fn is_entered(&mut self, i: &Indexed<'_>) -> bool {
        // Of other streams of pictures nothing is wanted.
        let Some(picture) = i.picture.filter(|_| self.preroll.programme.video().is_none_or(|v| v.pid == i.packet.pid)) else {
            return false;
        };
        let with_sets = picture.with_sets.unwrap_or(true);
        self.bare += u32::from(picture.keyframe && !with_sets);
        // A decoder needs the parameter sets. A source that sends them elsewhere shows it by its
        // next keyframe.
        if !picture.keyframe || !(with_sets || self.bare > 1) {
            self.give_up();
            return false;
        }
        self.entry = self.candidate.take();
        // Sound up to here goes out with what came before it.
        let programme = &self.preroll.programme;
        self.held.retain(|raw| TsPacket::parse(raw).is_none_or(|p| !programme.is_audio(p.pid)));
        true
    }

    fn give_up(&mut self) {
        self.candidate = None;
        self.held.clear();
    }
}
