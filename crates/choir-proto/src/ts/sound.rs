//! How long sound lasts, from its bytes.

use super::StreamKind;
use crate::{adts, audio::ST302_RATE};

/// How long the sound in this PES payload lasts, 90 kHz ticks; `None` when its bytes do not tell.
pub(crate) fn sound_ticks(kind: StreamKind, data: &[u8]) -> Option<u64> {
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

/// One frame of AAC, 90 kHz ticks.
pub(super) fn frame_ticks(h: &adts::AdtsHeader) -> f64 {
    f64::from(h.samples) * 90_000.0 / f64::from(h.sample_rate)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::st302_frame;

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
