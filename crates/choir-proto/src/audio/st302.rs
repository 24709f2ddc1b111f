//! PCM in transport streams: SMPTE ST 302, two to eight channels at 48 kHz.

use super::pcm::PCM_SAMPLE;

/// Samples per second that the format knows.
pub const ST302_RATE: u32 = 48_000;
/// Of a channel status block.
const BLOCK: u32 = 192;
/// Size, channels, identification, bits per sample, alignment.
const HEAD: usize = 4;
/// Sample times in which sound comes up from what was heard before: 5 ms.
const FADE: usize = 240;

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

/// What the head of a PES packet's payload says, and its samples.
struct Frame<'a> {
    head: [u8; 2],
    channels: usize,
    bits: u32,
    body: &'a [u8],
}

impl<'a> Frame<'a> {
    /// `None` when its head cannot be.
    fn parse(data: &'a [u8]) -> Option<Self> {
        let [s0, s1, a, b, body @ ..] = data else { return None };
        let size = usize::from(u16::from_be_bytes([*s0, *s1]));
        let bits = match b >> 4 & 3 {
            0 => 16,
            1 => 20,
            2 => 24,
            _ => return None,
        };
        Some(Self { head: [*a, *b], channels: usize::from(a >> 6) * 2 + 2, bits, body: body.get(..size)? })
    }

    /// Bytes of two samples.
    fn pair(&self) -> usize {
        (self.bits + 4) as usize / 4
    }

    /// Bytes of the samples of one time.
    fn time(&self) -> usize {
        self.pair() * self.channels / 2
    }

    /// The values of a pair, in the upper bits.
    fn values(&self, pair: &[u8]) -> [i32; 2] {
        let all = pair.iter().fold(0u64, |v, b| v << 8 | u64::from(*b));
        [self.bits + 8, 4].map(|shift| ((all >> shift) as u32 & ((1 << self.bits) - 1)).reverse_bits() as i32)
    }

    /// Sets the values of a pair; its other bits stay.
    fn set(&self, pair: &mut [u8], values: [i32; 2]) {
        let (mut all, mask) = (pair.iter().fold(0u64, |v, b| v << 8 | u64::from(*b)), (1u64 << self.bits) - 1);
        for (value, shift) in values.into_iter().zip([self.bits + 8, 4]) {
            all = all & !(mask << shift) | (u64::from((value as u32).reverse_bits()) & mask) << shift;
        }
        pair.copy_from_slice(&all.to_be_bytes()[8 - self.pair()..]);
    }

    /// A payload of this kind whose samples come from `from` (see [`st302_last`]) to their own.
    fn with(&self, mut body: Vec<u8>, from: &[i32]) -> Vec<u8> {
        let pairs = self.channels / 2;
        for (n, time) in body.chunks_exact_mut(self.time()).take(FADE).enumerate() {
            for (channel, pair) in time.chunks_exact_mut(self.pair()).enumerate().take(pairs) {
                let own = self.values(pair);
                let at = |c: usize| {
                    let from = i64::from(from.get(channel * 2 + c).copied().unwrap_or(0));
                    (from + (i64::from(own[c]) - from) * n as i64 / FADE as i64) as i32
                };
                self.set(pair, [at(0), at(1)]);
            }
        }
        [&(body.len() as u16).to_be_bytes()[..], &self.head, &body].concat()
    }
}

/// Channels and samples of a PES packet's payload, whatever their bits, as interleaved samples of
/// 24; `None` when its head cannot be.
#[must_use]
pub fn st302_samples(data: &[u8]) -> Option<(u8, Vec<u8>)> {
    let frame = Frame::parse(data)?;
    let mut out = Vec::with_capacity(frame.body.len() / frame.pair() * 2 * PCM_SAMPLE);
    for pair in frame.body.chunks_exact(frame.pair()) {
        frame.values(pair).iter().for_each(|value| out.extend_from_slice(&value.to_be_bytes()[..PCM_SAMPLE]));
    }
    // Whole sample times only.
    let time = frame.channels * PCM_SAMPLE;
    out.truncate(out.len() / time * time);
    Some((frame.channels as u8, out))
}

/// Sample times in a PES packet's payload.
#[must_use]
pub fn st302_times(data: &[u8]) -> Option<usize> {
    Frame::parse(data).map(|f| f.body.len() / f.time())
}

/// The values of the last sample time of a PES packet's payload by channel, in the upper bits.
#[must_use]
pub fn st302_last(data: &[u8]) -> Option<Vec<i32>> {
    let frame = Frame::parse(data)?;
    let last = frame.body.chunks_exact(frame.time()).next_back()?;
    Some(last.chunks_exact(frame.pair()).flat_map(|pair| frame.values(pair)).collect())
}

/// A PES packet's payload without its first `skip` sample times. Within 5 ms it comes up from
/// `from`, what was heard last (see [`st302_last`]; nothing is silence), so that it does not click.
/// `None` when nothing is left.
#[must_use]
pub fn st302_join(data: &[u8], skip: usize, from: &[i32]) -> Option<Vec<u8>> {
    let frame = Frame::parse(data)?;
    let body = frame.body.get(skip * frame.time()..).filter(|b| !b.is_empty())?;
    Some(frame.with(body.to_vec(), from))
}

/// So many sample times of silence of the kind of `data`, that come down from `from` within 5 ms.
#[must_use]
pub fn st302_silence(data: &[u8], times: usize, from: &[i32]) -> Option<Vec<u8>> {
    let frame = Frame::parse(data)?;
    Some(frame.with(vec![0; times * frame.time()], from))
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
    fn sound_comes_up_from_what_was_heard_and_keeps_its_other_bits() {
        let value = |n: i32| n << 8;
        let loud: Vec<u8> = (0..400 * 2).flat_map(|_| value(4_000_000).to_be_bytes()[..3].to_vec()).collect();
        let data = st302_frame(&loud, 2, &mut 0);
        assert_eq!(st302_last(&data), Some(vec![value(4_000_000); 2]));
        let joined = st302_join(&data, 100, &[value(-4_000_000)]).expect("300 times are left");
        assert_eq!((st302_times(&data), st302_times(&joined)), (Some(400), Some(300)));
        assert_eq!(joined[4 + 92 * 7 + 3] >> 4 & 1, 1, "the block that starts at 192 starts there still");
        let (_, samples) = st302_samples(&joined).expect("a head");
        let left: Vec<i32> = samples.chunks_exact(6).map(|t| i32::from_be_bytes([t[0], t[1], t[2], 0]) >> 8).collect();
        assert_eq!((left[0], left[120], left[240]), (-4_000_000, 0, 4_000_000));
        assert!(left.windows(2).all(|w| (0..40_000).contains(&(w[1] - w[0]))), "no step that is heard");
        let right = i32::from_be_bytes([samples[3], samples[4], samples[5], 0]);
        assert_eq!(right, 0, "what had no such channel comes up from silence");
        assert_eq!(st302_join(&data, 400, &[]), None);
        // 16 bits: nothing but the values changes.
        let bits = (u64::from(0x1234u16.reverse_bits()) << 4 | 5) << 20 | u64::from(0x4321u16.reverse_bits()) << 4 | 9;
        let short = [&[0, 5, 0, 0][..], &bits.to_be_bytes()[3..]].concat();
        let same = [0x1234 << 16, 0x4321 << 16];
        assert_eq!(st302_join(&short, 0, &same).as_deref(), Some(&short[..]));
        let silence = st302_silence(&short, 480, &same).expect("a head");
        assert_eq!((st302_times(&silence), st302_last(&silence)), (Some(480), Some(vec![0, 0])));
        assert_eq!(st302_samples(&silence).map(|(_, s)| s[..6].to_vec()), Some(vec![0x12, 0x34, 0, 0x43, 0x21, 0]));
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
