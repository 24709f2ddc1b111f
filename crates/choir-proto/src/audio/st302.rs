//! PCM in transport streams: SMPTE ST 302, two to eight channels at 48 kHz.

use super::pcm::PCM_SAMPLE;

/// Samples per second that the format knows.
pub const ST302_RATE: u32 = 48_000;
/// Of a channel status block.
const BLOCK: u32 = 192;
/// Size, channels, identification, bits per sample, alignment.
const HEAD: usize = 4;

/// Channels that carry as many as these: 2, 4, 6 or 8.
#[must_use]
pub fn st302_channels(channels: u8) -> u8 {
    channels.next_multiple_of(2).clamp(2, 8)
}

/// The payload of one PES packet from interleaved samples of 24 bits, big-endian, in 2, 4, 6 or 8
/// channels. `frame` counts sample times since the start, for the block marks.
#[must_use]
pub fn st302_frame(pcm: &[u8], channels: u8, frame: &mut u32) -> Vec<u8> {
    let pairs = usize::from(channels / 2).max(1);
    let times = pcm.len() / (pairs * 2 * PCM_SAMPLE);
    // Seven bytes a pair: two samples of 24 bits with four bits each.
    let size = times * pairs * 7;
    let mut out = Vec::with_capacity(HEAD + size);
    out.extend_from_slice(&(size as u16).to_be_bytes());
    // Channels less two by twos, identification 0, 24 bits (2), alignment 0.
    out.extend_from_slice(&[(pairs as u8 - 1) << 6, 2 << 4]);
    for time in pcm.chunks_exact(pairs * 2 * PCM_SAMPLE) {
        let start = u64::from(frame.is_multiple_of(BLOCK));
        for pair in time.chunks_exact(2 * PCM_SAMPLE) {
            // Each sample least significant bit first, then its V, U, C and F bits.
            let sample = |b: &[u8]| u64::from(u32::from_be_bytes([0, b[0], b[1], b[2]]).reverse_bits() >> 8);
            let bits = (sample(pair) << 4 | start) << 28 | sample(&pair[PCM_SAMPLE..]) << 4;
            out.extend_from_slice(&bits.to_be_bytes()[1..]);
        }
        *frame = frame.wrapping_add(1);
    }
    out
}

/// Channels and samples of a PES packet's payload, whatever their bits, as interleaved samples of
/// 24; `None` when its head cannot be.
#[must_use]
pub fn st302_samples(data: &[u8]) -> Option<(u8, Vec<u8>)> {
    let [s0, s1, a, b, body @ ..] = data else { return None };
    let size = usize::from(u16::from_be_bytes([*s0, *s1]));
    let channels = (a >> 6) * 2 + 2;
    let bits = match b >> 4 & 3 {
        0 => 16u32,
        1 => 20,
        2 => 24,
        _ => return None,
    };
    let body = body.get(..size)?;
    let step = (bits + 4) as usize * 2 / 8;
    let mut out = Vec::with_capacity(body.len() / step * 2 * PCM_SAMPLE);
    for pair in body.chunks_exact(step) {
        let all = pair.iter().fold(0u64, |v, b| v << 8 | u64::from(*b));
        for shift in [bits + 8, 4] {
            let backwards = (all >> shift) as u32 & ((1 << bits) - 1);
            let value = backwards.reverse_bits();
            out.extend_from_slice(&value.to_be_bytes()[..PCM_SAMPLE]);
        }
    }
    // Whole sample times only.
    let time = usize::from(channels) * PCM_SAMPLE;
    out.truncate(out.len() / time * time);
    Some((channels, out))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pcm(channels: usize, times: usize) -> Vec<u8> {
        (0..channels * times).flat_map(|n| ((n as i32 * 654_321 - 7_000_000) << 8).to_be_bytes()[..3].to_vec()).collect()
    }

    #[test]
    fn samples_can_be_taken_out_again() {
        for channels in [2u8, 4, 6, 8] {
            let samples = pcm(channels.into(), 200);
            let mut frame = 0;
            let data = st302_frame(&samples, channels, &mut frame);
            assert_eq!((data.len(), frame), (4 + 200 * usize::from(channels) / 2 * 7, 200));
            assert_eq!(st302_samples(&data), Some((channels, samples)));
            let pair = usize::from(channels) / 2 * 7;
            assert_eq!(data[4 + 3] >> 4 & 1, 1, "a block starts here");
            assert_eq!((data[4 + 3 + pair] >> 4 & 1, data[4 + 3 + 192 * pair] >> 4 & 1), (0, 1), "and there");
        }
    }

    #[test]
    fn sixteen_and_twenty_bits_are_read_as_well() {
        // One pair of 16 bits: 0x1234 and -77, backwards, behind each its four bits.
        let bits = (u64::from(0x1234u16.reverse_bits()) << 4 | 1) << 20 | u64::from((-77i16 as u16).reverse_bits()) << 4;
        let mut data = vec![0, 5, 0, 0];
        data.extend_from_slice(&bits.to_be_bytes()[3..]);
        assert_eq!(st302_samples(&data), Some((2, vec![0x12, 0x34, 0, 0xFF, 0xB3, 0])));
        let twenty = |v: u32| u64::from((v << 12).reverse_bits());
        let bits = (twenty(0x12345) << 4) << 24 | twenty(0xFEDCB) << 4;
        let mut data = vec![0, 6, 0, 1 << 4];
        data.extend_from_slice(&bits.to_be_bytes()[2..]);
        assert_eq!(st302_samples(&data), Some((2, vec![0x12, 0x34, 0x50, 0xFE, 0xDC, 0xB0])));
    }

    #[test]
    fn heads_that_cannot_be_are_refused() {
        let whole = st302_frame(&pcm(2, 3), 2, &mut 0);
        for cut in 0..whole.len() {
            assert_eq!(st302_samples(&whole[..cut]), None, "{cut}");
        }
        assert_eq!(st302_samples(&[0, 0, 0, 3 << 4]), None, "bits that are reserved");
        assert_eq!(st302_samples(&[0, 0, 0, 0]), Some((2, vec![])));
        assert_eq!((st302_channels(1), st302_channels(3), st302_channels(16)), (2, 4, 8));
    }
}
