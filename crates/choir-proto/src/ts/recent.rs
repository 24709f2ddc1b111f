//! What a source has sent since its last keyframe, for those who look now and then: pictures,
//! sound, stills. Keeps what came as it came, and copies nothing.

use super::{
    Piece,
    index::Raw,
    unit::{Timed, UnitFormat},
};
use bytes::Bytes;
use std::{collections::VecDeque, sync::Arc};

/// Most that is kept: two seconds of 32 Mbit/s.
const BYTES_MAX: usize = 8 << 20;
/// At least so much is kept, so that whoever looks every second misses no sound.
const LEAST_US: i64 = 1_500_000;

/// So many are looked at together for whether they may go.
const PASSED_AT_ONCE: u64 = 64;

/// One thing that a source has sent.
#[derive(Debug, Clone)]
pub enum Sent {
    /// Whole packets of a transport stream.
    Packets(Bytes),
    /// What comes of a source that comes in units.
    Unit(Arc<UnitFormat>, Timed),
}

impl Sent {
    fn size(&self) -> usize {
        match self {
            Self::Packets(bytes) => bytes.len(),
            Self::Unit(_, timed) => timed.unit.iter().flat_map(|u| &u.pieces).map(Bytes::len).sum(),
        }
    }
}

/// What has been sent since somebody looked last.
#[derive(Debug, Clone, Default)]
pub struct Since {
    /// When each came (µs on the clock that was handed in), and what it was.
    pub sent: Vec<(i64, Sent)>,
    /// Something is missing before the first: it begins with a keyframe where one is kept, and for
    /// transport streams with these tables.
    pub anew: Option<Option<Bytes>>,
    /// To be asked with the next time.
    pub next: u64,
}

/// Keeps the last group of pictures.
#[derive(Debug, Default)]
pub struct Recent {
    kept: VecDeque<(i64, Sent)>,
    /// Number of the first that is kept.
    first: u64,
    bytes: usize,
    /// Where the newest unit of pictures begins, and its PID.
    opened: Option<(u64, u16)>,
    /// Where the newest keyframe begins.
    keyframe: Option<u64>,
}

impl Recent {
    /// Takes what came at `now` (µs on a clock that never steps); true when a keyframe is in it.
    pub fn push(&mut self, now: i64, piece: &Piece<'_>) -> bool {
        if !piece.is_packets() {
            return false;
        }
        let (number, before) = (self.next(), self.keyframe);
        for i in piece.runs() {
            if i.may_enter {
                self.opened = Some((number, i.packet.pid));
            }
            if i.picture.is_some_and(|p| p.keyframe)
                && let Some((begins, _)) = self.opened.filter(|(_, pid)| *pid == i.packet.pid)
            {
                self.keyframe = Some(begins);
            }
        }
        let is_new = self.keyframe != before;
        self.keep(now, Sent::Packets(piece.bytes().clone()));
        is_new
    }

    /// Takes what came at `now` of a source that comes in units; true when it is a keyframe.
    pub fn push_unit(&mut self, now: i64, format: &Arc<UnitFormat>, timed: &Timed) -> bool {
        let is_new = timed.unit.as_ref().is_some_and(|u| u.keyframe && u.kind.is_video());
        if is_new {
            self.keyframe = Some(self.next());
        }
        self.keep(now, Sent::Unit(format.clone(), timed.clone()));
        is_new
    }

    fn next(&self) -> u64 {
        self.first + self.kept.len() as u64
    }

    fn keep(&mut self, now: i64, sent: Sent) {
        self.bytes += sent.size();
        self.kept.push_back((now, sent));
        // What is passed goes many at a time: one by one, each would be fetched from far for it.
        if !self.next().is_multiple_of(PASSED_AT_ONCE) && self.bytes <= BYTES_MAX {
            return;
        }
        while let Some((at, _)) = self.kept.front() {
            let wanted = self.keyframe.is_none_or(|k| self.first >= k) || now - at < LEAST_US;
            let over = self.bytes > BYTES_MAX || self.keyframe.is_none() && now - at >= LEAST_US;
            if wanted && !over || self.kept.len() == 1 {
                return;
            }
            self.bytes -= self.kept.pop_front().map_or(0, |(_, s)| s.size());
            self.first += 1;
            self.keyframe = self.keyframe.filter(|k| *k >= self.first);
            self.opened = self.opened.filter(|(k, _)| *k >= self.first);
        }
    }

    /// All that is kept, and which of it the last keyframe begins with; none before one has come.
    #[must_use]
    pub fn group(&self) -> Option<(Vec<(i64, Sent)>, usize)> {
        let keyframe = self.keyframe?.checked_sub(self.first)?;
        Some((self.kept.iter().cloned().collect(), keyframe as usize))
    }

    /// What has come since number `from`; where that is not kept any more, or it is a keyframe that
    /// is wanted, from the last keyframe on. Tables are those of the source now.
    #[must_use]
    pub fn since(&self, from: Option<u64>, tables: Option<&[Raw; 2]>) -> Since {
        let kept = from.filter(|n| (self.first..=self.next()).contains(n));
        let begin = kept.or(self.keyframe).unwrap_or(self.next());
        let anew = kept.is_none().then(|| tables.map(|t| t.concat().into()));
        Since { sent: self.kept.iter().skip((begin - self.first) as usize).cloned().collect(), anew, next: self.next() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ts::{Index, PacketAligner, StreamKind, TimedUnit, TsWriter, Unit, WriterConfig};

    /// Each call is a piece with one picture, 40 ms after the one before.
    fn pieces(recent: &mut Recent, count: u64, keyframe_every: u64, size: usize) -> Vec<Bytes> {
        let mut writer = TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() });
        let (mut aligner, mut index, mut all) = (PacketAligner::default(), Index::default(), Vec::new());
        for n in 0..count {
            let keyframe = n.is_multiple_of(keyframe_every);
            let mut data = vec![0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88];
            data.resize(size, 0xA5);
            let mut out = Vec::new();
            writer.write(&Unit { video: true, pts: 90_000 + n * 3600, dts: None, keyframe, data: &[&data] }, &mut out);
            let out = Bytes::from(out);
            let mut told = false;
            aligner.push(&out, |part| told |= recent.push(n as i64 * 40_000, &index.push(&part)));
            assert_eq!(told, keyframe, "picture {n}");
            all.push(out);
        }
        all
    }

    fn bytes(since: &Since) -> Vec<u8> {
        since.sent.iter().flat_map(|(_, s)| if let Sent::Packets(b) = s { b.to_vec() } else { Vec::new() }).collect()
    }

    #[test]
    fn it_begins_with_the_last_keyframe_and_goes_on_where_one_was() {
        let mut recent = Recent::default();
        let all = pieces(&mut recent, 130, 50, 2000);
        let since = recent.since(None, Some(&[[0x47; 188]; 2]));
        assert_eq!(bytes(&since), all[100..].concat());
        assert_eq!(since.anew.flatten().map(|t| t.len()), Some(376));
        let more = recent.since(Some(since.next), None);
        assert!(more.sent.is_empty() && more.anew.is_none());
        let last = recent.since(Some(since.next - 2), None);
        assert_eq!((bytes(&last), last.anew), (all[128..].concat(), None));
    }

    #[test]
    fn whoever_looks_each_second_misses_nothing_though_keyframes_come_often() {
        let mut recent = Recent::default();
        let all = pieces(&mut recent, 100, 5, 500);
        // 1.5 s are 37 pictures.
        let since = recent.since(Some(all.len() as u64 - 37), None);
        assert_eq!((since.sent.len(), since.anew), (37, None));
        assert!(recent.since(Some(3), None).anew.is_some(), "what is gone is told");
    }

    #[test]
    fn without_keyframes_and_with_huge_ones_it_stays_bounded() {
        let mut recent = Recent::default();
        pieces(&mut recent, 2000, 100_000, 60_000);
        assert!(recent.bytes <= BYTES_MAX && recent.keyframe.is_none(), "{} bytes", recent.bytes);
        assert!(recent.since(None, None).sent.is_empty(), "nothing can be decoded of it");
        let (mut recent, format) = (Recent::default(), Arc::<UnitFormat>::default());
        let unit = |keyframe: bool, kind, size: usize| {
            let unit = TimedUnit { kind, pts: 0, dts: None, keyframe, pieces: vec![vec![0; size].into()] };
            Timed { clock: 0, jump: false, unit: Some(unit) }
        };
        for n in 0..300 {
            recent.push_unit(n * 40_000, &format, &unit(n % 100 == 0, StreamKind::H264, 1000));
            recent.push_unit(n * 40_000, &format, &unit(true, StreamKind::AacAdts, 100));
        }
        assert_eq!(recent.since(None, None).sent.len(), 200, "sound is no keyframe");
        recent.push_unit(300 * 40_000, &format, &unit(true, StreamKind::H264, BYTES_MAX * 2));
        assert_eq!(recent.kept.len(), 1);
    }
}
