//! How long sound lasts, from its bytes.

use super::{AccessUnit, PTS_WRAP, StreamKind};
use crate::{
    adts,
    audio::{ST302_RATE, aac_silence},
};

/// A longer hole is not filled: it is no matter of how two sources are multiplexed (500 ms, 90
/// kHz).
const FILL_MAX: i64 = 45_000;

/// How long the sound in this PES payload lasts, 90 kHz ticks; `None` when its bytes do not tell.
#[must_use]
pub fn sound_ticks(kind: StreamKind, data: &[u8]) -> Option<u64> {
    match kind {
        StreamKind::AacAdts => adts::frames(data).map(|(h, _)| frame_ticks(&h)).reduce(|a, b| a + b).map(f64::round).map(|t| t as u64),
        StreamKind::St302 => {
            let head: [u8; 4] = data.get(..4)?.try_into().ok()?;
            let bytes = u64::from(head[0]) << 8 | u64::from(head[1]);
            let channels = u64::from(head[2] >> 6) * 2 + 2;
            // Two samples of 16, 20 or 24 bits with 4 bits of their own each.
            let pair = 5 + u64::from(head[3] >> 4 & 3);
            Some(bytes * 2 / (pair * channels) * 90_000 / u64::from(ST302_RATE))
        }
        _ => None,
    }
}

/// What fills a hole of so many ticks before sound that begins with `data`: frames of silence in
/// its format, and when each begins behind the hole's start. Empty where less than a frame is
/// missing, and for sound that no silence is known of.
pub(super) fn silence(kind: StreamKind, data: &[u8], hole: i64) -> Vec<(u64, Vec<u8>)> {
    let Some(h) = adts::parse(data).filter(|h| kind == StreamKind::AacAdts && h.samples == 1024 && (1..=2).contains(&h.channels)) else {
        return Vec::new();
    };
    let (ticks, hole) = (frame_ticks(&h), hole.min(FILL_MAX + 1));
    let count = if hole > FILL_MAX { 0 } else { (hole.max(0) as f64 / ticks) as u64 };
    let frame = aac_silence(h.sample_rate, h.channels);
    (0..count).map(|n| (f64::round(n as f64 * ticks) as u64, frame.clone())).collect()
}

/// Units of silence that fill a hole of so many ticks from `start` to this unit of sound.
pub fn silent_units(start: u64, hole: i64, unit: &AccessUnit) -> impl Iterator<Item = AccessUnit> {
    let made = move |(at, frame): (u64, Vec<u8>)| AccessUnit { pts: Some((start + at) % PTS_WRAP), data: frame.into(), ..unit.clone() };
    silence(unit.kind, &unit.data, hole).into_iter().map(made)
}

/// One frame of AAC, 90 kHz ticks.
pub(super) fn frame_ticks(h: &adts::AdtsHeader) -> f64 {
    f64::from(h.samples) * 90_000.0 / f64::from(h.sample_rate)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::st302_frame;

    #[test]
    fn a_hole_is_filled_with_whole_frames_of_silence() {
        let sound = aac_silence(48_000, 2);
        let fill = |hole| silence(StreamKind::AacAdts, &sound, hole).iter().map(|(at, _)| *at).collect::<Vec<_>>();
        assert_eq!((fill(-50), fill(1919), fill(1920), fill(5800)), (vec![], vec![], vec![0], vec![0, 1920, 3840]));
        assert!(fill(45_001).is_empty(), "too long");
        assert_eq!(adts::parse(&silence(StreamKind::AacAdts, &sound, 2000)[0].1), adts::parse(&sound));
        assert!(silence(StreamKind::St302, &[0; 64], 5800).is_empty() && silence(StreamKind::AacAdts, &[0; 64], 5800).is_empty());
    }

    #[test]
    fn pcm_lasts_as_long_as_its_samples() {
        for (channels, samples) in [(2u8, 960usize), (4, 1920), (8, 48)] {
            let data = st302_frame(&vec![7; samples * usize::from(channels) * 3], channels, &mut 0);
            assert_eq!(sound_ticks(StreamKind::St302, &data), Some(samples as u64 * 90_000 / 48_000), "{channels} channels");
        }
        // 16 bits: ten bytes for two pairs of samples.
        assert_eq!(sound_ticks(StreamKind::St302, &[0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]), Some(2 * 90_000 / 48_000));
        assert_eq!(sound_ticks(StreamKind::St302, &[0, 10, 0]), None);
    }
}
