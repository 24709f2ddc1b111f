//! What the first bytes of a unit say about its picture: whether decoding can start there.

use super::psi::StreamKind;
use crate::h26x::{HevcNal, NalKind, nal_units};

/// Bytes of a picture after which nothing more is expected before its first slice.
const HEAD_MAX: usize = 4096;

/// The picture of a unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Picture {
    /// Decoding can start here.
    pub keyframe: bool,
    /// Parameter sets come with it, as far as that can be seen.
    pub with_sets: Option<bool>,
}

/// Looks at a unit until its first slice.
#[derive(Debug)]
pub(super) struct Look {
    kind: StreamKind,
    flagged: bool,
    head: Vec<u8>,
}

impl Look {
    /// At a unit of pictures, which may be flagged as one to start at.
    pub const fn new(kind: StreamKind, flagged: bool) -> Self {
        Self { kind, flagged, head: Vec::new() }
    }

    /// Takes more of the unit; gives its picture once it is known.
    pub fn push(&mut self, data: &[u8], ended: bool, scrambled: bool) -> Option<Picture> {
        let by_flag = Picture { keyframe: true, with_sets: None };
        // Nothing can be seen in it. Some encoders never set the flag, and a take must come to its end.
        if scrambled {
            return Some(by_flag);
        }
        self.head.extend_from_slice(data);
        match first_slice(self.kind, &self.head) {
            (Some(true), with_sets) => Some(Picture { keyframe: true, with_sets: Some(with_sets) }),
            // Decoding can also start at pictures that are no keyframe by their type.
            (Some(false), with_sets) => Some(Picture { keyframe: self.flagged, with_sets: with_sets.then_some(true) }),
            (None, _) if ended || self.head.len() >= HEAD_MAX => Some(Picture { keyframe: self.flagged, ..by_flag }),
            (None, _) => None,
        }
    }
}

/// Whether the first slice is that of a keyframe, once it has come, and whether parameter sets came before it.
pub(super) fn first_slice(kind: StreamKind, head: &[u8]) -> (Option<bool>, bool) {
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
            return (Some(keyframe), with_sets);
        }
    }
    (None, with_sets)
}
