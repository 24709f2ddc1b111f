//! The other way to write H.264 and H.265 (ISO 14496-15): NAL units behind their lengths, and the
//! parameter sets beside them in a record.

use super::{HevcNal, NalKind, VideoFormat, nal_units, parse_hevc_sps, parse_sps, rbsp};

/// Parameter sets of one record; H.265 may have a few of each kind, nobody has hundreds.
const SETS_MAX: usize = 64;

/// What a record says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DecoderRecord {
    /// H.265, else H.264.
    pub hevc: bool,
    /// Bytes of a length.
    pub length: usize,
    /// VPS (H.265), SPS and PPS.
    pub sets: Vec<Vec<u8>>,
}

fn take<'a>(data: &mut &'a [u8], n: usize) -> Option<&'a [u8]> {
    let (taken, rest) = data.split_at_checked(n)?;
    *data = rest;
    Some(taken)
}

impl DecoderRecord {
    /// Reads `avcC` (5.3.3.1) or `hvcC` (8.3.3.1).
    #[must_use]
    pub fn parse(hevc: bool, mut data: &[u8]) -> Option<Self> {
        let data = &mut data;
        let mut sets = Vec::new();
        let mut set = |data: &mut &[u8]| {
            let size = take(data, 2)?;
            let set = take(data, usize::from(u16::from_be_bytes([size[0], size[1]])))?;
            if !set.is_empty() {
                sets.push(set.to_vec());
            }
            (sets.len() <= SETS_MAX).then_some(())
        };
        take(data, if hevc { 21 } else { 4 })?;
        let length = usize::from(take(data, 1)?[0] & 3) + 1;
        if hevc {
            for _ in 0..take(data, 1)?[0] {
                let head = take(data, 3)?;
                for _ in 0..u16::from_be_bytes([head[1], head[2]]) {
                    set(data)?;
                }
            }
        } else {
            for mask in [31, 255] {
                for _ in 0..take(data, 1)?[0] & mask {
                    set(data)?;
                }
            }
        }
        Some(Self { hevc, length, sets })
    }

    /// That of these parameter sets, with lengths of four bytes; `None` where the picture cannot be
    /// known by them.
    #[must_use]
    pub fn of(hevc: bool, sets: Vec<Vec<u8>>) -> Option<(Self, VideoFormat)> {
        let has_pps = sets.iter().any(|s| if hevc { HevcNal::of(s[0]) == HevcNal::Pps } else { NalKind::of(s[0]) == NalKind::Pps });
        let format = sets.iter().find_map(|s| if hevc { parse_hevc_sps(s) } else { parse_sps(s) }).filter(|_| has_pps)?;
        Some((Self { hevc, length: 4, sets }, format))
    }

    fn of_kind(&self, is: impl Fn(u8) -> bool) -> Vec<&[u8]> {
        self.sets.iter().filter(|s| is(s[0])).map(|s| &s[..]).collect()
    }

    /// Writes it, for 4:2:0.
    #[must_use]
    pub fn write(&self, bit_depth: u8) -> Vec<u8> {
        let deep = bit_depth.saturating_sub(8) & 7;
        let length = (self.length as u8).saturating_sub(1) & 3;
        let sized = |set: &[u8]| [&(set.len() as u16).to_be_bytes()[..], set].concat();
        if self.hevc {
            let groups: [(u8, HevcNal); 3] = [(32, HevcNal::Vps), (33, HevcNal::Sps), (34, HevcNal::Pps)];
            let sps = self.of_kind(|h| HevcNal::of(h) == HevcNal::Sps);
            let raw = sps.first().and_then(|s| rbsp(s, 2)).unwrap_or_default();
            // Profile, tier and level stand together in the SPS (ISO 23008-2, 7.3.3).
            let mut levels = raw.get(1..13).map_or_else(|| vec![0; 12], <[u8]>::to_vec);
            let mut out = vec![1];
            out.append(&mut levels);
            // No limits told of slices and parallel decoding.
            out.extend_from_slice(&[0xF0, 0, 0xFC, 0xFC | 1, 0xF8 | deep, 0xF8 | deep, 0, 0, 0x0C | length, 3]);
            for (number, kind) in groups {
                let all = self.of_kind(|h| HevcNal::of(h) == kind);
                out.push(0x80 | number);
                out.extend_from_slice(&(all.len() as u16).to_be_bytes());
                all.iter().for_each(|s| out.extend_from_slice(&sized(s)));
            }
            return out;
        }
        let (sps, pps) = (self.of_kind(|h| NalKind::of(h) == NalKind::Sps), self.of_kind(|h| NalKind::of(h) == NalKind::Pps));
        let head = sps.first().and_then(|s| s.get(1..4)).unwrap_or(&[100, 0, 31]);
        let mut out = [&[1], head, &[0xFC | length, 0xE0 | sps.len() as u8]].concat();
        sps.iter().for_each(|s| out.extend_from_slice(&sized(s)));
        out.push(pps.len() as u8);
        pps.iter().for_each(|s| out.extend_from_slice(&sized(s)));
        if matches!(head[0], 100 | 110 | 122 | 144) {
            // 4:2:0.
            out.extend_from_slice(&[0xFD, 0xF8 | deep, 0xF8 | deep, 0]);
        }
        out
    }

    /// The parameter sets with start codes.
    #[must_use]
    pub fn start_coded(&self) -> Vec<u8> {
        self.sets.iter().flat_map(|s| [&[0, 0, 0, 1], &s[..]].concat()).collect()
    }
}

/// Appends those NAL units that are to be kept, with start codes in place of lengths of so many
/// bytes. `None` when a length reaches beyond the end: what comes before is there.
pub fn with_start_codes(length: usize, mut data: &[u8], out: &mut Vec<u8>, mut keep: impl FnMut(&[u8]) -> bool) -> Option<()> {
    let data = &mut data;
    while !data.is_empty() {
        let size = take(data, length)?.iter().fold(0usize, |n, b| n << 8 | usize::from(*b));
        let nal = take(data, size)?;
        if !nal.is_empty() && keep(nal) {
            out.extend_from_slice(&[0, 0, 0, 1]);
            out.extend_from_slice(nal);
        }
    }
    Some(())
}

/// NAL units of a byte stream behind lengths of four bytes, without parameter sets and delimiters,
/// and the parameter sets.
#[must_use]
pub fn with_lengths(hevc: bool, data: &[u8]) -> (Vec<u8>, Vec<Vec<u8>>) {
    let (mut out, mut sets) = (Vec::with_capacity(data.len() + 16), Vec::new());
    for nal in nal_units(data).filter(|n| !n.is_empty()) {
        let (is_set, is_delimiter) = if hevc {
            let kind = HevcNal::of(nal[0]);
            (matches!(kind, HevcNal::Vps | HevcNal::Sps | HevcNal::Pps), kind == HevcNal::Delimiter)
        } else {
            let kind = NalKind::of(nal[0]);
            (matches!(kind, NalKind::Sps | NalKind::Pps), kind == NalKind::Delimiter)
        };
        if is_set {
            sets.push(nal.to_vec());
        } else if !is_delimiter {
            out.extend_from_slice(&(nal.len() as u32).to_be_bytes());
            out.extend_from_slice(nal);
        }
    }
    sets.dedup();
    (out, sets)
}

#[cfg(test)]
mod tests {
    use super::*;

    const SPS: &[u8] = &[
        0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00, 0x80, 0x00,
        0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb,
    ];
    const PPS: &[u8] = &[0x68, 0xEE, 0x3C, 0x80];

    #[test]
    fn a_record_is_read_as_it_was_written_and_never_cut() {
        for hevc in [false, true] {
            let sets =
                if hevc { vec![vec![0x40, 1, 2], vec![0x42, 1, 1, 9, 9], vec![0x44, 1, 7]] } else { vec![SPS.to_vec(), PPS.to_vec()] };
            let record = DecoderRecord { hevc, length: 4, sets };
            let written = record.write(8);
            assert_eq!(DecoderRecord::parse(hevc, &written), Some(record.clone()));
            // What comes last in H.264 is not needed.
            let needed = if hevc { written.len() } else { written.len() - 4 };
            for cut in 0..needed {
                assert_eq!(DecoderRecord::parse(hevc, &written[..cut]), None, "{cut}");
            }
        }
        let (_, format) = DecoderRecord::of(false, vec![SPS.to_vec(), PPS.to_vec()]).expect("known");
        assert_eq!((format.width, format.height), (1280, 720));
        assert!(DecoderRecord::of(false, vec![SPS.to_vec()]).is_none(), "no PPS");
        let many = [&[1, 100, 0, 31, 0xFF, 0xE1, 0, 0, 200][..], &[0, 1, 0x68].repeat(200)].concat();
        assert_eq!(DecoderRecord::parse(false, &many), None, "nobody has so many");
    }

    #[test]
    fn lengths_become_start_codes_and_back() {
        let stream = [&[0, 0, 0, 1, 9, 0xF0, 0, 0, 0, 1][..], SPS, &[0, 0, 1], PPS, &[0, 0, 0, 1, 0x65, 1, 2, 3]].concat();
        let (data, sets) = with_lengths(false, &stream);
        assert_eq!((&data[..], sets), (&[0, 0, 0, 4, 0x65, 1, 2, 3][..], vec![SPS.to_vec(), PPS.to_vec()]));
        let mut out = Vec::new();
        assert_eq!(with_start_codes(4, &[&[0, 0, 0, 2, 9, 0xF0], &data[..]].concat(), &mut out, |nal| nal[0] != 9), Some(()));
        assert_eq!(out, [0, 0, 0, 1, 0x65, 1, 2, 3]);
        assert_eq!(with_start_codes(2, &[0, 1, 0x41, 0, 5, 1], &mut out, |_| true), None);
    }
}
