//! H.265 (ITU-T H.265 Annex B): NAL unit kinds and what the sequence parameter set says of the
//! picture.

use super::{Colour, VideoFormat, rbsp};
use h264_reader::rbsp::{BitRead, BitReader};

/// Kinds of NAL unit that matter to a link (table 7-1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HevcNal {
    /// Picture that others may need.
    Reference,
    /// Picture that none of the same layer needs.
    NonReference,
    /// Picture at which decoding can start (16 to 21).
    Irap,
    /// Video parameter set (32).
    Vps,
    /// Sequence parameter set (33).
    Sps,
    /// Picture parameter set (34).
    Pps,
    /// Access unit delimiter (35).
    Delimiter,
    /// Supplemental information before (39) or behind (40) the picture.
    Sei,
    /// Any other.
    Other(u8),
}

impl HevcNal {
    /// From the first byte of a NAL unit.
    #[must_use]
    pub const fn of(header: u8) -> Self {
        match header >> 1 & 0x3F {
            0 | 2 | 4 | 6 | 8 | 10 | 12 | 14 => Self::NonReference,
            1 | 3 | 5 | 7 | 9 | 11 | 13 | 15 => Self::Reference,
            16..=21 => Self::Irap,
            32 => Self::Vps,
            33 => Self::Sps,
            34 => Self::Pps,
            35 => Self::Delimiter,
            39 | 40 => Self::Sei,
            n => Self::Other(n),
        }
    }

    /// True for coded picture data.
    #[must_use]
    pub const fn is_picture(self) -> bool {
        matches!(self, Self::Reference | Self::NonReference | Self::Irap)
    }
}

/// Sub-layers that a stream may have.
const SUB_LAYERS_MAX: u32 = 7;
/// Reference picture sets that a parameter set may hold.
const SETS_MAX: u32 = 64;
const PICTURES_MAX: u32 = 16;

/// Reads an SPS NAL unit; `None` when it is damaged.
#[must_use]
pub fn parse_hevc_sps(nal: &[u8]) -> Option<VideoFormat> {
    if nal.len() > 4096 || HevcNal::of(*nal.first()?) != HevcNal::Sps {
        return None;
    }
    read(BitReader::new(rbsp(nal, 2)?.as_ref()))
}

fn read<R: BitRead>(mut r: R) -> Option<VideoFormat> {
    r.read::<u8>(4, "vps id").ok()?;
    let sub_layers = r.read::<u32>(3, "max sub-layers minus 1").ok()?;
    if sub_layers >= SUB_LAYERS_MAX {
        return None;
    }
    r.read_bool("nesting").ok()?;
    let (profile, level) = profile_tier_level(&mut r, sub_layers)?;
    r.read_ue("sps id").ok()?;
    let chroma = r.read_ue("chroma format").ok()?;
    let separate = chroma == 3 && r.read_bool("separate planes").ok()?;
    let (width, height) = (r.read_ue("width").ok()?, r.read_ue("height").ok()?);
    let mut crop = [0; 4];
    if r.read_bool("conformance window").ok()? {
        for side in &mut crop {
            *side = r.read_ue("offset").ok()?;
        }
    }
    let (sub_width, sub_height) = match chroma {
        1 if !separate => (2, 2),
        2 if !separate => (2, 1),
        _ => (1, 1),
    };
    let cut = |size: u32, unit: u32, a: u32, b: u32| size.checked_sub(a.checked_add(b)?.checked_mul(unit)?).filter(|s| *s > 0);
    let width = cut(width, sub_width, crop[0], crop[1])?;
    let height = cut(height, sub_height, crop[2], crop[3])?;
    let bit_depth = r.read_ue("bit depth").ok()?.checked_add(8)? as u8;
    r.read_ue("chroma bit depth").ok()?;
    let mut format = VideoFormat { profile, level, width, height, bit_depth, ..VideoFormat::default() };
    // What follows is worth having, but a picture can be named without it.
    let _ = rest(&mut r, sub_layers, &mut format);
    Some(format)
}

fn profile_tier_level<R: BitRead>(r: &mut R, sub_layers: u32) -> Option<(String, String)> {
    r.read::<u8>(2, "profile space").ok()?;
    let high_tier = r.read_bool("tier").ok()?;
    let profile = r.read::<u8>(5, "profile").ok()?;
    r.read::<u32>(32, "compatibility").ok()?;
    r.read::<u32>(32, "constraints").ok()?;
    r.read::<u16>(16, "constraints").ok()?;
    let level = r.read::<u8>(8, "level").ok()?;
    let mut present = Vec::new();
    for _ in 0..sub_layers {
        present.push((r.read_bool("profile present").ok()?, r.read_bool("level present").ok()?));
    }
    if sub_layers > 0 {
        r.read::<u32>(2 * (8 - sub_layers), "reserved").ok()?;
    }
    for (has_profile, has_level) in present {
        if has_profile {
            r.read::<u64>(64, "sub-layer profile").ok()?;
            r.read::<u32>(24, "sub-layer profile").ok()?;
        }
        if has_level {
            r.read::<u8>(8, "sub-layer level").ok()?;
        }
    }
    let name = match profile {
        1 => "main",
        2 => "main 10",
        3 => "main still picture",
        4 => "range extensions",
        n => return Some((format!("profile {n}"), level_name(level, high_tier))),
    };
    Some((name.to_owned(), level_name(level, high_tier)))
}

fn level_name(level: u8, high_tier: bool) -> String {
    let (whole, tenth) = (level / 30, level % 30 / 3);
    format!("{whole}.{tenth}{}", if high_tier { " high tier" } else { "" })
}

fn rest<R: BitRead>(r: &mut R, sub_layers: u32, format: &mut VideoFormat) -> Option<()> {
    let poc_bits = r.read_ue("poc bits").ok()?.checked_add(4)?;
    let all = r.read_bool("ordering info").ok()?;
    for _ in 0..if all { sub_layers + 1 } else { 1 } {
        r.read_ue("dpb size").ok()?;
        // The highest sub-layer comes last and holds for the whole.
        format.reorder = Some(r.read_ue("reorder").ok()?.min(PICTURES_MAX) as u8);
        r.read_ue("latency").ok()?;
    }
    for _ in 0..6 {
        r.read_ue("block sizes and depths").ok()?;
    }
    if r.read_bool("scaling lists").ok()? && r.read_bool("scaling list data").ok()? {
        scaling_lists(r)?;
    }
    r.read::<u8>(2, "amp, sao").ok()?;
    if r.read_bool("pcm").ok()? {
        r.read::<u8>(8, "pcm depths").ok()?;
        r.read_ue("pcm size").ok()?;
        r.read_ue("pcm size").ok()?;
        r.read_bool("pcm filter").ok()?;
    }
    let sets = r.read_ue("sets").ok()?;
    if sets > SETS_MAX {
        return None;
    }
    let mut counts = Vec::new();
    for i in 0..sets {
        counts.push(reference_set(r, i, &counts)?);
    }
    if r.read_bool("long-term").ok()? {
        for _ in 0..r.read_ue("long-term count").ok()?.min(33) {
            r.read::<u32>(poc_bits.min(16), "poc").ok()?;
            r.read_bool("used").ok()?;
        }
    }
    r.read::<u8>(2, "temporal mvp, strong intra").ok()?;
    if r.read_bool("vui").ok()? {
        vui(r, format)?;
    }
    Some(())
}

fn scaling_lists<R: BitRead>(r: &mut R) -> Option<()> {
    for size in 0..4u32 {
        for _ in (0..6).step_by(if size == 3 { 3 } else { 1 }) {
            if r.read_bool("pred mode").ok()? {
                if size > 1 {
                    r.read_se("dc").ok()?;
                }
                for _ in 0..(1u32 << (4 + (size << 1))).min(64) {
                    r.read_se("coefficient").ok()?;
                }
            } else {
                r.read_ue("pred delta").ok()?;
            }
        }
    }
    Some(())
}

/// Passes a short-term reference picture set (7.3.7); gives how many pictures it names.
fn reference_set<R: BitRead>(r: &mut R, index: u32, counts: &[u32]) -> Option<u32> {
    if index > 0 && r.read_bool("inter set").ok()? {
        r.read_bool("delta sign").ok()?;
        r.read_ue("delta").ok()?;
        let mut count = 0;
        for _ in 0..=*counts.last()? {
            let used = r.read_bool("used").ok()?;
            count += u32::from(used || r.read_bool("use delta").ok()?);
        }
        return (count <= PICTURES_MAX).then_some(count);
    }
    let (negative, positive) = (r.read_ue("negative").ok()?, r.read_ue("positive").ok()?);
    if negative > PICTURES_MAX || positive > PICTURES_MAX {
        return None;
    }
    for _ in 0..negative + positive {
        r.read_ue("poc").ok()?;
        r.read_bool("used").ok()?;
    }
    Some(negative + positive)
}

fn vui<R: BitRead>(r: &mut R, format: &mut VideoFormat) -> Option<()> {
    if r.read_bool("aspect").ok()? && r.read::<u8>(8, "aspect").ok()? == 255 {
        r.read::<u32>(32, "sample aspect").ok()?;
    }
    if r.read_bool("overscan").ok()? {
        r.read_bool("overscan").ok()?;
    }
    if r.read_bool("signal type").ok()? {
        r.read::<u8>(3, "video format").ok()?;
        let full_range = r.read_bool("full range").ok()?;
        let mut colour = Colour { full_range, ..Colour::default() };
        if r.read_bool("colour").ok()? {
            colour.primaries = r.read(8, "primaries").ok()?;
            colour.transfer = r.read(8, "transfer").ok()?;
            colour.matrix = r.read(8, "matrix").ok()?;
        }
        format.colour = Some(colour);
    }
    if r.read_bool("chroma location").ok()? {
        r.read_ue("top").ok()?;
        r.read_ue("bottom").ok()?;
    }
    r.read::<u8>(2, "neutral chroma, fields").ok()?;
    r.read_bool("frame field info").ok()?;
    if r.read_bool("display window").ok()? {
        for _ in 0..4 {
            r.read_ue("offset").ok()?;
        }
    }
    if r.read_bool("timing").ok()? {
        let (ticks, scale) = (r.read::<u32>(32, "units").ok()?, r.read::<u32>(32, "scale").ok()?);
        let rate = f64::from(scale) / f64::from(ticks.max(1));
        format.declared_rate = Some(rate).filter(|f| *f > 0.0 && *f < 1000.0);
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_told_apart() {
        for (header, kind) in [
            (0x02, HevcNal::Reference),
            (0x00, HevcNal::NonReference),
            (0x26, HevcNal::Irap),
            (0x40, HevcNal::Vps),
            (0x42, HevcNal::Sps),
            (0x44, HevcNal::Pps),
            (0x46, HevcNal::Delimiter),
            (0x4E, HevcNal::Sei),
        ] {
            assert_eq!(HevcNal::of(header), kind, "{header:#x}");
        }
    }

    #[test]
    fn nothing_that_is_cut_or_twisted_is_believed_beyond_its_end() {
        let sps = [0x42, 1, 1, 1, 0x60, 0, 0, 3, 0, 0x90, 0, 0, 3, 0, 0, 3, 0, 0x5D, 0xA0, 0x02, 0x80, 0x80, 0x2D, 0x16];
        for end in 0..sps.len() {
            let _ = parse_hevc_sps(&sps[..end]);
            for bit in 0..8 {
                let mut bad = sps;
                bad[end] ^= 1 << bit;
                let _ = parse_hevc_sps(&bad);
            }
        }
        let format = parse_hevc_sps(&sps).expect("as far as the bit depth");
        assert_eq!((format.width, format.height, format.profile.as_str()), (1280, 720, "main"));
        assert_eq!(format.level, "3.1");
    }
}
