//! PCM as it is handed on: interleaved signed samples of 24 bits, big-endian, 48 kHz.

/// Bytes of a sample.
pub const PCM_SAMPLE: usize = 3;
/// Most channels.
pub const PCM_CHANNELS: u8 = 16;

/// Brings blocks of `from` channels to `to`: one is heard on the first two, those that are not
/// there are silent, those that have no place are left out.
#[must_use]
pub fn fit_channels(pcm: &[u8], from: u8, to: u8) -> Vec<u8> {
    let (from, to) = (usize::from(from.max(1)), usize::from(to));
    let blocks = pcm.chunks_exact(from * PCM_SAMPLE);
    let mut out = Vec::with_capacity(blocks.len() * to * PCM_SAMPLE);
    for block in blocks {
        for channel in 0..to {
            let source = if from == 1 && channel == 1 { 0 } else { channel };
            match block.get(source * PCM_SAMPLE..(source + 1) * PCM_SAMPLE) {
                Some(sample) => out.extend_from_slice(sample),
                None => out.extend_from_slice(&[0; PCM_SAMPLE]),
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn channels_find_their_places() {
        let one: Vec<u8> = vec![1, 2, 3, 4, 5, 6];
        assert_eq!(fit_channels(&one, 1, 2), [1, 2, 3, 1, 2, 3, 4, 5, 6, 4, 5, 6]);
        assert_eq!(fit_channels(&one, 2, 4), [1, 2, 3, 4, 5, 6, 0, 0, 0, 0, 0, 0]);
        assert_eq!(fit_channels(&[7; 48], 16, 8), [7; 24]);
        assert!(fit_channels(&[7; 5], 2, 2).is_empty(), "no whole block");
    }
}
