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
        // Nothing can be seen in it. Some encoders never set the flag, and a take must come to its
        // end.
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

/// Whether the first slice is that of a keyframe, once it has come, and whether parameter sets came
/// before it.
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

#[cfg(test)]
mod tests {
    use super::*;

    const SPS: &[u8] = &[0, 0, 0, 1, 0x67, 0x64];
    const IDR: &[u8] = &[0, 0, 0, 1, 0x65, 0x88];
    const OTHER: &[u8] = &[0, 0, 0, 1, 0x41, 0x9A];

    fn look(flagged: bool, data: &[&[u8]], ended: bool) -> Option<Picture> {
        Look::new(StreamKind::H264, flagged).push(&data.concat(), ended, false)
    }

    #[test]
    fn the_first_slice_says_what_a_picture_is() {
        let picture = |keyframe, with_sets| Some(Picture { keyframe, with_sets });
        assert_eq!(look(false, &[SPS, IDR], false), picture(true, Some(true)));
        assert_eq!(look(false, &[IDR], false), picture(true, Some(false)), "no decoder can begin with it alone");
        assert_eq!(look(false, &[SPS, OTHER], false), picture(false, Some(true)));
        // A recovery point is flagged, though it is no keyframe by its type.
        assert_eq!(look(true, &[OTHER], false), picture(true, None));
        assert_eq!(look(true, &[SPS, OTHER], false), picture(true, Some(true)));
        // Nothing yet; nothing at all; nothing that could be seen.
        assert_eq!(look(false, &[SPS], false), None);
        assert_eq!((look(false, &[SPS], true), look(true, &[SPS], true)), (picture(false, None), picture(true, None)));
        assert_eq!(Look::new(StreamKind::H264, false).push(IDR, false, true), picture(true, None));
        let irap = [0, 0, 0, 1, 0x26, 1, 0xAF];
        assert_eq!(Look::new(StreamKind::H265, false).push(&irap, false, false), picture(true, Some(false)));
    }

    #[test]
    fn a_picture_in_many_pieces_is_looked_at_as_far_as_needed() {
        let mut look = Look::new(StreamKind::H264, false);
        for piece in [&SPS[..3], &SPS[3..], &IDR[..4]] {
            assert_eq!(look.push(piece, false, false), None);
        }
        assert_eq!(look.push(&IDR[4..], false, false), Some(Picture { keyframe: true, with_sets: Some(true) }));
        let (mut look, mut pieces) = (Look::new(StreamKind::H264, true), 0);
        while look.push(&[0xA5; 184], false, false).is_none() {
            pieces += 1;
        }
        assert_eq!(pieces, HEAD_MAX / 184, "junk is not gathered for ever");
    }
}
