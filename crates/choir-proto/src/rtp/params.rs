//! Parameter sets of a video track: from the session description, in band, or both; the latest
//! counts.

use crate::h26x::{HevcNal, NalKind, rbsp};
use bytes::Bytes;
use h264_reader::rbsp::{BitRead, BitReader};

/// Video by NAL units.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum VideoKind {
    H264,
    H265,
}

impl VideoKind {
    /// Bytes of a NAL unit's header.
    pub fn header(self) -> usize {
        match self {
            Self::H264 => 1,
            Self::H265 => 2,
        }
    }
}

/// Sets kept of one kind: far more than an encoder uses.
const SETS_MAX: usize = 8;
/// Largest set kept.
const SIZE_MAX: usize = 4096;

/// The parameter sets of one track, in the order in which a decoder wants them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ParameterSets {
    sets: Vec<((u8, u32), Bytes)>,
}

/// Place in the order (video, sequence, picture), if it is a parameter set.
fn rank(kind: VideoKind, nal: &[u8]) -> Option<u8> {
    let first = *nal.first()?;
    match kind {
        VideoKind::H264 => match NalKind::of(first) {
            NalKind::Sps => Some(1),
            NalKind::Pps => Some(2),
            _ => None,
        },
        VideoKind::H265 => match HevcNal::of(first) {
            HevcNal::Vps => Some(0),
            HevcNal::Sps => Some(1),
            HevcNal::Pps => Some(2),
            _ => None,
        },
    }
}

/// The set's own number, so that several of a kind can stand beside each other.
fn number(kind: VideoKind, rank: u8, nal: &[u8]) -> Option<u32> {
    let rbsp = rbsp(&nal[..nal.len().min(64)], kind.header())?;
    let mut bits = BitReader::new(rbsp.as_ref());
    match (kind, rank) {
        (VideoKind::H264, 1) => {
            bits.read::<u32>(24, "profile and level").ok()?;
            bits.read_ue("number").ok()
        }
        (VideoKind::H265, 0) => bits.read::<u32>(4, "number").ok(),
        // Behind the profile, whose length varies: cameras have one sequence parameter set.
        (VideoKind::H265, 1) => Some(0),
        _ => bits.read_ue("number").ok(),
    }
}

impl ParameterSets {
    /// Takes a NAL unit if it is a parameter set; says whether it was one.
    pub(super) fn learn(&mut self, kind: VideoKind, nal: &Bytes) -> bool {
        let Some(rank) = rank(kind, nal) else { return false };
        let Some(number) = number(kind, rank, nal).filter(|_| nal.len() <= SIZE_MAX) else { return true };
        let key = (rank, number);
        let many = self.sets.iter().filter(|(k, _)| k.0 == rank).count();
        match self.sets.iter_mut().find(|(k, _)| *k == key) {
            // A copy of its own: a slice would keep a whole receive buffer alive.
            Some((_, old)) if old != nal => *old = Bytes::copy_from_slice(nal),
            Some(_) => {}
            None if many < SETS_MAX => {
                self.sets.push((key, Bytes::copy_from_slice(nal)));
                self.sets.sort_by_key(|(k, _)| *k);
            }
            None => {}
        }
        true
    }

    /// All of them, without start codes.
    pub fn iter(&self) -> impl Iterator<Item = &Bytes> {
        self.sets.iter().map(|(_, s)| s)
    }

    /// Those of one rank: 0 video (H.265), 1 sequence, 2 picture.
    pub fn of_rank(&self, rank: u8) -> impl Iterator<Item = &Bytes> {
        self.sets.iter().filter(move |(k, _)| k.0 == rank).map(|(_, s)| s)
    }

    /// True when a decoder could start with them.
    #[must_use]
    pub fn complete(&self) -> bool {
        self.of_rank(1).next().is_some() && self.of_rank(2).next().is_some()
    }

    /// Takes sets from a session description; what is none of them is left aside.
    #[must_use]
    pub fn from_description<'a>(h265: bool, nals: impl Iterator<Item = &'a [u8]>) -> Self {
        let kind = if h265 { VideoKind::H265 } else { VideoKind::H264 };
        let mut sets = Self::default();
        for nal in nals {
            // Some write the start code along.
            let nal = nal.strip_prefix(&[0, 0, 0, 1]).or(nal.strip_prefix(&[0, 0, 1])).unwrap_or(nal);
            sets.learn(kind, &Bytes::copy_from_slice(nal));
        }
        sets
    }

    /// Takes the sets of an access unit in byte stream form.
    pub fn learn_from(&mut self, h265: bool, unit: &[u8]) {
        let kind = if h265 { VideoKind::H265 } else { VideoKind::H264 };
        for nal in crate::h26x::nal_units(unit) {
            if rank(kind, nal).is_some() {
                self.learn(kind, &Bytes::copy_from_slice(nal));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SPS: &[u8] = &[0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb];

    #[test]
    fn a_new_set_replaces_the_one_of_its_number() {
        let mut sets = ParameterSets::from_description(false, [&[0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80][..], SPS].into_iter());
        assert!(sets.complete());
        assert_eq!(sets.iter().map(|s| s[0]).collect::<Vec<_>>(), [0x67, 0x68]);
        let mut other = SPS.to_vec();
        other[3] = 0x28;
        assert!(sets.learn(VideoKind::H264, &other.clone().into()));
        assert_eq!(sets.iter().map(|s| s[3]).next(), Some(0x28));
        assert!(!sets.learn(VideoKind::H264, &Bytes::from_static(&[0x65, 1])));
        assert_eq!(sets.iter().count(), 2);
    }
}
