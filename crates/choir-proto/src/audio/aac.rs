//! AudioSpecificConfig (ISO 14496-3, 1.6.2.1) and the ADTS header made of it.

use crate::adts::RATES;

/// What a decoder must know before the first frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AacConfig {
    /// Audio object type of the core: 2 is AAC-LC.
    pub object_type: u8,
    /// Samples per second of the core.
    pub sample_rate: u32,
    /// 1 mono, 2 stereo ...
    pub channels: u8,
    /// 1024, or 960.
    pub frame_samples: u32,
}

/// Reads bits, highest first; `None` at the end.
#[derive(Debug, Clone, Copy)]
pub(super) struct Bits<'a> {
    data: &'a [u8],
    at: usize,
}

impl<'a> Bits<'a> {
    pub fn new(data: &'a [u8]) -> Self {
        Self { data, at: 0 }
    }
    pub fn read(&mut self, count: u32) -> Option<u32> {
        let mut value = 0;
        for _ in 0..count {
            let byte = self.data.get(self.at / 8)?;
            value = value << 1 | u32::from(byte >> (7 - self.at % 8) & 1);
            self.at += 1;
        }
        Some(value)
    }
    pub fn position(&self) -> usize {
        self.at
    }
}

impl AacConfig {
    /// Reads a configuration.
    #[must_use]
    pub fn parse(data: &[u8]) -> Option<Self> {
        Self::read(&mut Bits::new(data))
    }

    pub(super) fn read(bits: &mut Bits<'_>) -> Option<Self> {
        let mut object_type = object_type(bits)?;
        let mut sample_rate = rate(bits)?;
        let channels = bits.read(4)? as u8;
        // Explicit SBR or PS: the core follows, and is what ADTS can say; decoders find the rest by
        // themselves.
        if object_type == 5 || object_type == 29 {
            let core = sample_rate;
            rate(bits)?;
            object_type = self::object_type(bits)?;
            sample_rate = core;
        }
        if !(1..=4).contains(&object_type) || !(1..=7).contains(&channels) {
            return None;
        }
        let short = bits.read(1)? == 1;
        let depends = bits.read(1)? == 1;
        if depends {
            bits.read(14)?;
        }
        if bits.read(1)? == 1 {
            return None;
        }
        Some(Self { object_type, sample_rate, channels, frame_samples: if short { 960 } else { 1024 } })
    }

    /// The two bytes that describe it (for rates of the table).
    #[must_use]
    pub fn to_bytes(self) -> [u8; 2] {
        let index = rate_index(self.sample_rate);
        let short = u8::from(self.frame_samples == 960) << 2;
        [self.object_type << 3 | index >> 1, (index & 1) << 7 | self.channels << 3 | short]
    }

    /// From an ADTS header's bytes.
    #[must_use]
    pub fn of_adts(frame: &[u8]) -> Option<Self> {
        let header = crate::adts::parse(frame)?;
        let object_type = (frame.get(2)? >> 6) + 1;
        Some(Self { object_type, sample_rate: header.sample_rate, channels: header.channels, frame_samples: 1024 })
    }

    /// The ADTS header for a frame of `size` bytes; `None` when it does not fit its 13 bits.
    #[must_use]
    pub fn adts_header(&self, size: usize) -> Option<[u8; 7]> {
        let total = u16::try_from(size + 7).ok().filter(|t| *t < 1 << 13)?;
        let index = rate_index(self.sample_rate);
        Some([
            0xFF,
            0xF1,
            (self.object_type - 1) << 6 | index << 2 | self.channels >> 2,
            (self.channels & 3) << 6 | (total >> 11) as u8,
            (total >> 3) as u8,
            (total as u8) << 5 | 0x1F,
            0xFC,
        ])
    }
}

/// One frame of silence, AAC-LC, with its header: each channel says that it has no spectrum (ISO
/// 14496-3, 4.4.2). More than two channels become two, and an unknown rate 48 kHz.
#[must_use]
pub fn aac_silence(sample_rate: u32, channels: u8) -> Vec<u8> {
    let (mut bits, mut count) = (0u128, 0);
    let mut put = |value: u128, width: u32| {
        bits = bits << width | value;
        count += width;
    };
    let pair = channels >= 2;
    // A pair without a common window, or a single channel; then per channel a gain of 0, a long
    // window without bands, and no pulses, noise shaping or gain control.
    put(u128::from(pair), 3);
    put(0, 4);
    if pair {
        put(0, 1);
    }
    (0..1 + u8::from(pair)).for_each(|_| put(0, 8 + 1 + 2 + 1 + 6 + 1 + 3));
    // The end.
    put(7, 3);
    let padding = (8 - count % 8) % 8;
    let bytes = (count + padding) / 8;
    let data = &(bits << padding).to_be_bytes()[16 - bytes as usize..];
    let sample_rate = if RATES.contains(&sample_rate) { sample_rate } else { 48_000 };
    let config = AacConfig { object_type: 2, sample_rate, channels: 1 + u8::from(pair), frame_samples: 1024 };
    config.adts_header(data.len()).iter().flatten().chain(data).copied().collect()
}

fn object_type(bits: &mut Bits<'_>) -> Option<u8> {
    match bits.read(5)? {
        31 => Some(32 + bits.read(6)? as u8),
        n => Some(n as u8),
    }
}

fn rate(bits: &mut Bits<'_>) -> Option<u32> {
    match bits.read(4)? {
        15 => bits.read(24).filter(|r| *r > 0),
        n => RATES.get(n as usize).copied(),
    }
}

/// The table's nearest rate: ADTS can say no other.
fn rate_index(rate: u32) -> u8 {
    let nearest = RATES.iter().enumerate().min_by_key(|(_, r)| r.abs_diff(rate));
    nearest.map_or(3, |(i, _)| i as u8)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn configurations_are_read_with_their_extensions() {
        let lc = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
        assert_eq!(AacConfig::parse(&[0x11, 0x90]), Some(lc));
        assert_eq!(lc.to_bytes(), [0x11, 0x90]);
        // Explicit SBR: core of 24 kHz, 48 kHz at the output.
        assert_eq!(AacConfig::parse(&[0x2B, 0x11, 0x88, 0x00]).map(|c| (c.object_type, c.sample_rate)), Some((2, 24_000)));
        assert_eq!(AacConfig::parse(&[0x11]), None);
        assert_eq!(AacConfig::parse(&[0xF8, 0, 0, 0]), None);
    }

    #[test]
    fn silence_says_its_rate_and_channels() {
        for (rate, channels) in [(48_000, 2), (44_100, 1), (32_000, 2)] {
            let frame = aac_silence(rate, channels);
            let header = crate::adts::parse(&frame).expect("a header");
            assert_eq!((header.frame_bytes, header.sample_rate, header.channels, header.samples), (frame.len(), rate, channels, 1024));
        }
        assert_eq!(crate::adts::parse(&aac_silence(1, 6)).map(|h| (h.sample_rate, h.channels)), Some((48_000, 2)));
    }

    #[test]
    fn a_header_and_its_reading_agree() {
        let config = AacConfig { object_type: 2, sample_rate: 44_100, channels: 1, frame_samples: 1024 };
        let mut frame = config.adts_header(93).expect("fits").to_vec();
        frame.resize(100, 0);
        let header = crate::adts::parse(&frame).expect("a header");
        assert_eq!((header.frame_bytes, header.sample_rate, header.channels), (100, 44_100, 1));
        assert_eq!(AacConfig::of_adts(&frame), Some(config));
        assert_eq!(config.adts_header(9000), None);
    }
}
