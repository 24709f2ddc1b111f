//! Access units of H.264 and H.265 from NAL units and their fragments: whole ones only, unless
//! damaged ones are wanted.

use super::{
    params::{ParameterSets, VideoKind},
    payload::{Damage, RawUnit},
};
use crate::h26x::{HevcNal, NalKind};
use bytes::Bytes;
use std::time::{Duration, Instant};

const START_CODE: Bytes = Bytes::from_static(&[0, 0, 0, 1]);
/// Every byte once, so that a rebuilt header is a slice and no allocation.
static BYTES: [u8; 256] = {
    let mut all = [0; 256];
    let mut i = 0;
    while i < 256 {
        all[i] = i as u8;
        i += 1;
    }
    all
};
/// Largest access unit: a 150 Mbit/s intra frame is a tenth of it.
const UNIT_MAX: usize = 8 << 20;
/// Pieces of one, so that a flood of tiny packets stays small as well.
const PIECES_MAX: usize = 32 << 10;
/// A source that shows no keyframe for this long is passed on as it is: better a broken picture
/// than none.
const KEYFRAME_PATIENCE: Duration = Duration::from_secs(10);

/// What matters of a NAL unit's kind.
#[derive(Debug, Clone, Copy)]
struct Nature {
    picture: bool,
    keyframe: bool,
    reference: bool,
    delimiter: bool,
    /// Bit of the parameter set rank, 0 when it is none.
    set: u8,
    /// It can stand only at the start of an access unit, or is the picture's first slice.
    opens: bool,
}

fn nature(kind: VideoKind, nal: &[u8]) -> Nature {
    let byte = |i: usize| nal.get(i).copied().unwrap_or(0);
    match kind {
        VideoKind::H264 => {
            let k = NalKind::of(byte(0));
            Nature {
                picture: k.is_picture(),
                keyframe: k == NalKind::Idr,
                reference: byte(0) & 0x60 != 0,
                delimiter: k == NalKind::Delimiter,
                set: match k {
                    NalKind::Sps => 2,
                    NalKind::Pps => 4,
                    _ => 0,
                },
                // first_mb_in_slice is 0 when its first bit is set.
                opens: if k.is_picture() { byte(1) & 0x80 != 0 } else { true },
            }
        }
        VideoKind::H265 => {
            let k = HevcNal::of(byte(0));
            Nature {
                picture: k.is_picture(),
                keyframe: k == HevcNal::Irap,
                reference: k != HevcNal::NonReference,
                delimiter: k == HevcNal::Delimiter,
                set: match k {
                    HevcNal::Vps => 1,
                    HevcNal::Sps => 2,
                    HevcNal::Pps => 4,
                    _ => 0,
                },
                opens: if k.is_picture() { byte(2) & 0x80 != 0 } else { byte(0) >> 1 != 40 },
            }
        }
    }
}

#[derive(Debug)]
struct Open {
    timestamp: u32,
    arrived: Instant,
    pieces: Vec<Bytes>,
    size: usize,
    picture: bool,
    keyframe: bool,
    reference: bool,
    sets: u8,
    broken: bool,
}

impl Open {
    fn new(timestamp: u32, arrived: Instant) -> Self {
        Self { timestamp, arrived, pieces: Vec::new(), size: 0, picture: false, keyframe: false, reference: false, sets: 0, broken: false }
    }
}

/// Puts access units together.
#[derive(Debug)]
pub(super) struct Assembler {
    kind: VideoKind,
    damage: Damage,
    sets: ParameterSets,
    open: Option<Open>,
    fragment: bool,
    waits_since: Option<Instant>,
    started: bool,
    /// Something is missing before the packet that comes next.
    gap: bool,
    /// Timestamp of the unit that a marker ended last.
    ended: Option<u32>,
    markers_lie: bool,
    /// Units left out: broken, or waiting for a keyframe.
    pub dropped: u64,
}

impl Assembler {
    pub fn new(kind: VideoKind, sets: ParameterSets, damage: Damage) -> Self {
        Self {
            kind,
            damage,
            sets,
            open: None,
            fragment: false,
            waits_since: None,
            started: false,
            gap: false,
            ended: None,
            markers_lie: false,
            dropped: 0,
        }
    }

    pub fn kind(&self) -> VideoKind {
        self.kind
    }

    pub fn sets(&self) -> &ParameterSets {
        &self.sets
    }

    /// Packets are missing here.
    pub fn gap(&mut self) {
        self.gap = true;
        self.fragment = false;
        if let Some(open) = &mut self.open {
            open.broken = true;
        }
    }

    /// A packet of this time begins: ends the unit before it, if that has another time.
    pub fn at(&mut self, timestamp: u32, now: Instant, out: &mut Vec<RawUnit>) {
        if self.open.as_ref().is_some_and(|o| o.timestamp != timestamp) {
            self.close(out);
        }
        self.open.get_or_insert_with(|| Open::new(timestamp, now)).arrived = now;
    }

    /// The packet is through.
    pub fn packet_done(&mut self, marker: bool, out: &mut Vec<RawUnit>) {
        // A marker behind parameter sets alone ends nothing: the picture is still to come.
        let ends = marker && !self.markers_lie && !self.fragment && self.open.as_ref().is_some_and(|o| o.picture || o.broken);
        if ends {
            self.ended = self.open.as_ref().map(|o| o.timestamp);
            self.close(out);
        }
    }

    /// One whole NAL unit.
    pub fn nal(&mut self, nal: Bytes) {
        let nal = match nal.as_ref() {
            // Some cameras leave the start code on.
            [0, 0, 0, 1, ..] => nal.slice(4..),
            [0, 0, 1, ..] => nal.slice(3..),
            _ => nal,
        };
        if nal.len() < self.kind.header() {
            return self.broken();
        }
        let nature = nature(self.kind, &nal);
        self.fragment = false;
        if nature.set != 0 {
            self.sets.learn(self.kind, &nal);
        }
        if self.begin(nature) {
            self.add(&[START_CODE, nal]);
        }
    }

    /// The first fragment of a NAL unit, with its header put together again.
    pub fn first_fragment(&mut self, header: [u8; 2], rest: Bytes) {
        let mut head = [0; 3];
        let length = self.kind.header();
        head[..length].copy_from_slice(&header[..length]);
        head[length] = rest.first().copied().unwrap_or(0);
        let nature = nature(self.kind, &head);
        if self.fragment {
            self.broken();
        }
        self.fragment = true;
        if self.begin(nature) {
            let byte = |b: u8| Bytes::from_static(&BYTES[usize::from(b)..=usize::from(b)]);
            match self.kind {
                VideoKind::H264 => self.add(&[START_CODE, byte(header[0]), rest]),
                VideoKind::H265 => self.add(&[START_CODE, byte(header[0]), byte(header[1]), rest]),
            }
        }
    }

    /// Any later fragment.
    pub fn next_fragment(&mut self, header: [u8; 2], rest: Bytes, last: bool) {
        if !self.fragment {
            // Its beginning is missing; what it would have been is known.
            let nature = nature(self.kind, &header);
            if let Some(open) = &mut self.open {
                open.reference |= nature.reference;
            }
            self.gap = false;
            return self.broken();
        }
        self.fragment = !last;
        self.add(&[rest]);
    }

    /// Nothing sensible can be made of this packet.
    pub fn broken(&mut self) {
        if let Some(open) = &mut self.open {
            open.broken = true;
        }
    }

    /// Notes what a NAL unit is; false when it is to be left out.
    fn begin(&mut self, nature: Nature) -> bool {
        let Some(open) = &mut self.open else { return false };
        if std::mem::take(&mut self.gap) {
            if open.pieces.is_empty() && nature.opens && !open.broken {
                // Whole pictures are missing before this one, which is whole itself.
                if self.damage == Damage::Wait && self.started {
                    self.waits_since.get_or_insert(open.arrived);
                }
            } else {
                open.broken = true;
            }
        }
        if nature.picture && !nature.opens && open.pieces.is_empty() && self.ended == Some(open.timestamp) {
            // More of a picture that a marker has ended: this sender's markers mean nothing.
            self.markers_lie = true;
            open.broken = true;
            open.reference = true;
        }
        if nature.delimiter {
            return false;
        }
        open.picture |= nature.picture;
        open.keyframe |= nature.keyframe;
        open.reference |= nature.picture && nature.reference;
        open.sets |= nature.set;
        true
    }

    fn add(&mut self, pieces: &[Bytes]) {
        let Some(open) = &mut self.open else { return };
        open.size += pieces.iter().map(Bytes::len).sum::<usize>();
        if open.size > UNIT_MAX || open.pieces.len() + pieces.len() > PIECES_MAX {
            open.broken = true;
            open.pieces.clear();
        }
        if !open.broken || self.damage == Damage::Pass {
            open.pieces.extend_from_slice(pieces);
        }
    }

    fn close(&mut self, out: &mut Vec<RawUnit>) {
        let Some(mut open) = self.open.take() else { return };
        self.fragment = false;
        if !open.picture {
            if open.broken {
                // What it was nobody knows, so it may have been needed.
                self.lose(&open, true);
            }
            return;
        }
        let mut damaged = open.broken;
        if open.broken {
            self.lose(&open, open.reference);
            if self.damage == Damage::Wait || open.pieces.is_empty() {
                return;
            }
        }
        let waits = self.waits_since.is_some() || !self.started;
        if waits && !damaged {
            let since = *self.waits_since.get_or_insert(open.arrived);
            let patient = open.arrived.saturating_duration_since(since) < KEYFRAME_PATIENCE;
            if open.keyframe {
                self.waits_since = None;
            } else if self.damage == Damage::Wait && patient {
                self.dropped += 1;
                return;
            } else {
                damaged = true;
            }
        }
        self.started = true;
        if open.keyframe {
            self.complete_sets(&mut open);
        }
        let Open { timestamp, arrived, keyframe, pieces, .. } = open;
        out.push(RawUnit { timestamp, keyframe, damaged, arrived, pieces });
    }

    fn lose(&mut self, open: &Open, reference: bool) {
        self.dropped += 1;
        if reference && self.damage == Damage::Wait {
            self.waits_since.get_or_insert(open.arrived);
        }
    }

    /// A keyframe carries its parameter sets, whether the sender repeats them or not.
    fn complete_sets(&self, open: &mut Open) {
        let absent = (0..3u8).filter(|rank| open.sets & 1 << rank == 0);
        let pieces: Vec<Bytes> = absent.flat_map(|rank| self.sets.of_rank(rank).flat_map(|s| [START_CODE, s.clone()])).collect();
        if !pieces.is_empty() {
            open.pieces.splice(0..0, pieces);
        }
    }
}
