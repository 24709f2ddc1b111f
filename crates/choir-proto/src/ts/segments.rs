//! Cuts a transport stream into segments that can each be played by itself: a segment begins with
//! its tables and a keyframe. Laid one behind the other, segments are the stream as it came, apart
//! from these tables.

use super::{
    Index, PacketAligner, Piece,
    index::{Indexed, Raw},
};
use bytes::Bytes;

/// Packets since the start of a picture that may be a keyframe (2 MB); more than that is no start
/// of a picture whose kind is still not known.
const HELD_MAX: usize = 11_000;
/// A stream that shows no keyframe for so long begins without one (µs).
const PATIENCE_US: i64 = 5_000_000;

/// What is to be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// A new segment begins with this.
    Begin(Bytes),
    /// It goes on with this.
    More(Bytes),
}

/// When a segment has been long enough: whichever comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SegmentLimit {
    /// µs.
    pub time_us: i64,
    /// Bytes.
    pub bytes: u64,
}

/// Cuts one stream.
#[derive(Debug)]
pub struct Segments {
    limit: SegmentLimit,
    aligner: PacketAligner,
    index: Index,
    /// The latest tables: programme association, programme map.
    tables: [Option<Raw>; 2],
    /// When the segment began, and its bytes; `None` before the first.
    segment: Option<(i64, u64)>,
    /// When it was first pushed.
    since: Option<i64>,
    /// A new segment is wanted at the next keyframe.
    wants: bool,
    /// From the start of a picture on, until it is known what it is.
    held: Vec<Raw>,
}

impl Segments {
    /// Nothing has begun.
    #[must_use]
    pub fn new(limit: SegmentLimit) -> Self {
        Self {
            limit,
            aligner: PacketAligner::default(),
            index: Index::default(),
            tables: [None; 2],
            segment: None,
            since: None,
            wants: true,
            held: Vec::new(),
        }
    }

    /// Begins a new segment at the next keyframe, whatever the limits say; nothing is given before
    /// it.
    pub fn begin_anew(&mut self) {
        (self.segment, self.since, self.wants) = (None, None, true);
        self.held.clear();
    }

    /// Takes what came at `now` (µs on a clock that never steps), and gives what is to be written.
    pub fn push(&mut self, now: i64, data: &Bytes, mut give: impl FnMut(Part)) {
        let since = *self.since.get_or_insert(now);
        let mut aligner = std::mem::take(&mut self.aligner);
        aligner.push(data, |aligned| {
            let mut index = std::mem::take(&mut self.index);
            let piece = index.push(&aligned);
            self.wants |= self.segment.is_some_and(|(began, bytes)| now - began >= self.limit.time_us || bytes >= self.limit.bytes);
            if self.segment.is_none() && now - since >= PATIENCE_US {
                self.begin(now, &mut give);
            }
            if self.wants {
                self.look(now, &piece, &mut give);
            } else if piece.is_packets() {
                piece.runs().iter().for_each(|i| self.keep_table(i));
                self.more(piece.bytes().clone(), &mut give);
            }
            drop(piece);
            self.index = index;
        });
        self.aligner = aligner;
    }

    /// Gives what is still held back: nothing more comes.
    pub fn finish(&mut self, mut give: impl FnMut(Part)) {
        self.release(&mut give);
    }

    /// Packet by packet, for a keyframe.
    fn look(&mut self, now: i64, piece: &Piece<'_>, give: &mut impl FnMut(Part)) {
        for i in piece.packets() {
            self.keep_table(&i);
            if !self.wants {
                self.more(Bytes::copy_from_slice(i.raw), give);
                continue;
            }
            if i.header.is_some() && i.may_enter {
                self.release(give);
                self.held.push(*i.raw);
                if i.stream.is_some_and(|(_, kind)| kind.is_audio()) {
                    self.begin(now, give);
                }
            } else if self.held.is_empty() {
                self.more(Bytes::copy_from_slice(i.raw), give);
            } else {
                self.held.push(*i.raw);
            }
            self.judge(now, &i, give);
        }
    }

    fn keep_table(&mut self, i: &Indexed<'_>) {
        if i.programme.is_some() && i.packet.unit_start {
            self.tables[usize::from(i.packet.pid != 0)] = Some(*i.raw);
        }
    }

    fn judge(&mut self, now: i64, i: &Indexed<'_>, give: &mut impl FnMut(Part)) {
        match i.picture {
            Some(picture) if picture.keyframe && !self.held.is_empty() => self.begin(now, give),
            Some(_) => self.release(give),
            None if self.held.len() > HELD_MAX => self.release(give),
            None => {}
        }
    }

    /// What is held back begins a segment.
    fn begin(&mut self, now: i64, give: &mut impl FnMut(Part)) {
        let head: Vec<u8> = self.tables.iter().flatten().chain(&self.held).flatten().copied().collect();
        self.held.clear();
        (self.segment, self.wants) = (Some((now, head.len() as u64)), false);
        give(Part::Begin(head.into()));
    }

    /// What is held back goes on with the segment.
    fn release(&mut self, give: &mut impl FnMut(Part)) {
        if !self.held.is_empty() {
            let held: Vec<u8> = self.held.drain(..).flatten().collect();
            self.more(held.into(), give);
        }
    }

    fn more(&mut self, bytes: Bytes, give: &mut impl FnMut(Part)) {
        if let Some((_, sum)) = &mut self.segment {
            *sum += bytes.len() as u64;
            give(Part::More(bytes));
        }
    }
}
