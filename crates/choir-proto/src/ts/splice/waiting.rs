//! A source that is to come on: waits for a keyframe, and keeps what goes out from there on.

use super::{lead::Lead, programme::Raw, track::Tracks};
use crate::{
    h26x::{HevcNal, NalKind, nal_units},
    ts::{PTS_WRAP, TsPacket, pes::PesHeader, psi::StreamKind, wrapped_distance},
};

/// While the old source closes its time goes on, and with it the sound that is needed: two pictures (80 ms, 90 kHz), or the
/// pictures that are shown before one that has gone out (200 ms).
const SOUND_SPARE: i64 = 7200;
const SOUND_SPARE_REORDERED: i64 = 18_000;
/// A source that has too little sound this long after its first packet will not have more later.
const SOUND_WAIT_US: i64 = 1_000_000;
/// Bytes of a picture after which nothing more is expected before its first slice.
const HEAD_MAX: usize = 4096;
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
    pub lead: Lead,
    /// Packets since the start of the unit that may be a keyframe, and from the keyframe on.
    pub held: Vec<Raw>,
    /// The unit that is being looked at.
    candidate: Option<Candidate>,
    pub entry: Option<Entry>,
    /// Keyframes that came without parameter sets.
    bare: u32,
}

#[derive(Debug)]
struct Candidate {
    pid: u16,
    kind: StreamKind,
    flagged: bool,
    entry: Entry,
    head: Vec<u8>,
}

/// What the start of a picture shows.
#[derive(Debug, PartialEq, Eq)]
enum Picture {
    Unknown,
    Keyframe { with_sets: bool },
    Other,
}

impl Waiting {
    /// A source that has sent this so far.
    pub fn after(lead: Lead) -> Self {
        Self { lead, ..Self::default() }
    }

    /// Takes one packet.
    pub fn push(&mut self, now: i64, p: &TsPacket<'_>, raw: &Raw) {
        self.lead.note_clock(now, p);
        if self.entry.is_some() {
            if self.held.len() < HELD_MAX {
                self.held.push(*raw);
            }
            return;
        }
        if self.candidate.as_ref().is_some_and(|c| p.unit_start && c.pid == p.pid) {
            // The unit before ended without showing a keyframe.
            self.give_up();
        }
        if self.candidate.is_none() {
            self.candidate = self.candidate_at(now, p);
        }
        if self.candidate.is_some() {
            self.held.push(*raw);
            self.look(p);
            if self.entry.is_some() {
                return;
            }
        }
        self.lead.note(now, p, raw);
    }

    /// True when no more can be kept.
    pub fn is_full(&self) -> bool {
        self.held.len() >= HELD_MAX
    }

    /// Whether the sound that is kept, shifted by `shift`, follows the old source's without a hole.
    pub fn sound_reaches(&self, old: &Tracks, shift: u64) -> bool {
        let listed = self.lead.programme.pmt.iter().flat_map(|m| &m.streams).filter(|s| s.kind.is_audio());
        let start = |pid: u16| {
            let packets = self.lead.sound.iter().filter_map(|(_, raw)| TsPacket::parse(raw)).filter(|p| p.pid == pid && p.unit_start);
            packets.filter_map(|p| p.payload.and_then(PesHeader::parse)?.pts).next()
        };
        let spare = if old.reorders() { SOUND_SPARE_REORDERED } else { SOUND_SPARE };
        listed.zip(old.sounds()).all(|(stream, old)| {
            let Some(end) = old.end else { return true };
            start(stream.pid).is_some_and(|pts| wrapped_distance((pts + shift) % PTS_WRAP, end, PTS_WRAP) <= -spare)
        })
    }

    /// Lets this keyframe go by and waits for one with more sound known by then; true unless there has been time enough for that.
    pub fn refuse(&mut self, now: i64) -> bool {
        let early = self.lead.since.is_some_and(|since| now - since < SOUND_WAIT_US);
        if early {
            self.entry = None;
            // Its pictures go by, its sound may be needed.
            for raw in std::mem::take(&mut self.held) {
                if let Some(p) = TsPacket::parse(&raw) {
                    self.lead.note(now, &p, &raw);
                }
            }
        }
        early
    }

    /// A unit begins with this packet at which the source might come on.
    fn candidate_at(&self, now: i64, p: &TsPacket<'_>) -> Option<Candidate> {
        let payload = p.payload.filter(|_| p.unit_start)?;
        let programme = &self.lead.programme;
        let (clock, _) = (self.lead.clock_at(now)?, programme.tables()?);
        let flagged = p.adaptation.is_some_and(|a| a.random_access);
        let kind = match programme.video() {
            Some(video) if video.pid == p.pid => video.kind,
            Some(_) => return None,
            // Without pictures any unit of sound will do, and the flag where the codec is not known.
            None => programme.pmt.as_ref()?.streams.iter().find(|s| s.pid == p.pid && (s.kind.is_audio() || flagged))?.kind,
        };
        let header = PesHeader::parse(payload)?;
        let entry = Entry { at: now, clock, pts: header.pts, dts: header.dts.or(header.pts) };
        Some(Candidate { pid: p.pid, kind, flagged, entry, head: Vec::new() })
    }

    /// Looks at one more packet of the candidate.
    fn look(&mut self, p: &TsPacket<'_>) {
        let Some(c) = self.candidate.as_mut().filter(|c| c.pid == p.pid) else { return };
        let Some(payload) = p.payload else { return };
        let skip = if p.unit_start { PesHeader::parse(payload).map_or(0, |h| h.header_bytes) } else { 0 };
        c.head.extend_from_slice(payload.get(skip..).unwrap_or_default());
        let ended = p.stuffed() || c.head.len() >= HEAD_MAX;
        let picture = match picture(c.kind, &c.head) {
            // Scrambled or unknown: only the flag can tell.
            _ if !c.kind.is_video() || p.scrambling != 0 => Picture::Keyframe { with_sets: true },
            Picture::Unknown if ended && c.flagged => Picture::Keyframe { with_sets: true },
            Picture::Unknown if ended => Picture::Other,
            Picture::Other if c.flagged => Picture::Keyframe { with_sets: true },
            picture => picture,
        };
        match picture {
            Picture::Unknown => {}
            Picture::Other => self.give_up(),
            Picture::Keyframe { with_sets } => {
                self.bare += u32::from(!with_sets);
                // A decoder needs the parameter sets. A source that sends them elsewhere shows it by its next keyframe.
                if with_sets || self.bare > 1 {
                    self.entry = self.candidate.take().map(|c| c.entry);
                    // Sound up to here goes out with what came before it.
                    let programme = &self.lead.programme;
                    self.held.retain(|raw| TsPacket::parse(raw).is_none_or(|p| !programme.is_audio(p.pid)));
                } else {
                    self.give_up();
                }
            }
        }
    }

    fn give_up(&mut self) {
        self.candidate = None;
        self.held.clear();
    }
}

/// What the head of an access unit shows, up to its first slice.
fn picture(kind: StreamKind, head: &[u8]) -> Picture {
    let mut with_sets = false;
    // The last unit may not be whole, but its first byte is.
    for nal in nal_units(head) {
        let (set, is_picture, keyframe) = match kind {
            StreamKind::H265 => {
                let nal = HevcNal::of(nal[0]);
                (nal == HevcNal::Sps, nal.is_picture(), nal == HevcNal::Irap)
            }
            _ => {
                let nal = NalKind::of(nal[0]);
                (nal == NalKind::Sps, nal.is_picture(), nal == NalKind::Idr)
            }
        };
        with_sets |= set;
        if is_picture {
            return if keyframe { Picture::Keyframe { with_sets } } else { Picture::Other };
        }
    }
    Picture::Unknown
}
