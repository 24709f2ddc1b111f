//! PCM in transport streams: SMPTE ST 302, two channels of 16 bits at 48 kHz.

/// Samples per second that the format knows.
pub const ST302_RATE: u32 = 48_000;
/// Of a channel status block.
const BLOCK: u32 = 192;

/// The payload of one PES packet. `frame` counts sample pairs since the start, for the block marks.
#[must_use]
pub fn st302_frame(pairs: &[[i16; 2]], frame: &mut u32) -> Vec<u8> {
    let size = (pairs.len() * 5) as u16;
    let mut out = Vec::with_capacity(4 + usize::from(size));
    out.extend_from_slice(&size.to_be_bytes());
    // Two channels (0), identification 0, 16 bits (0), alignment.
    out.extend_from_slice(&[0, 0]);
    for pair in pairs {
        let start = u64::from(frame.is_multiple_of(BLOCK));
        // Each sample least significant bit first, then its V, U, C and F bits; 40 bits a pair.
        let left = u64::from((pair[0] as u16).reverse_bits()) << 4 | start;
        let right = u64::from((pair[1] as u16).reverse_bits()) << 4;
        let bits = left << 20 | right;
        out.extend_from_slice(&bits.to_be_bytes()[3..]);
        *frame = frame.wrapping_add(1);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn samples_can_be_taken_out_again() {
        let pairs = [[1, -1], [i16::MAX, i16::MIN], [0x1234, -77]];
        let mut frame = 0;
        let data = st302_frame(&pairs, &mut frame);
        assert_eq!((data.len(), frame), (4 + 15, 3));
        assert_eq!(data[..4], [0, 15, 0, 0]);
        for (pair, five) in pairs.iter().zip(data[4..].chunks(5)) {
            let bits = five.iter().fold(0u64, |v, b| v << 8 | u64::from(*b));
            let sample = |shift: u32| ((bits >> shift) as u16).reverse_bits() as i16;
            assert_eq!([sample(24), sample(4)], *pair);
        }
        assert_eq!(data[6] >> 4 & 1, 1, "the block starts here");
        assert_eq!(data[11] >> 4 & 1, 0);
    }
}
