//! AAC frames in ADTS (ISO 13818-7, 6.2): finding them and what each says of itself.

/// Header of one frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AdtsHeader {
    /// Bytes of the whole frame, header included.
    pub frame_bytes: usize,
    /// Samples per second.
    pub sample_rate: u32,
    /// 1 mono, 2 stereo ...
    pub channels: u8,
    /// Samples in the frame.
    pub samples: u32,
}

pub(crate) const RATES: [u32; 13] = [96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025, 8000, 7350];

/// Reads the header at the start of `data`; `None` when there is none.
#[must_use]
pub fn parse(data: &[u8]) -> Option<AdtsHeader> {
    let h: [u8; 7] = data.get(..7)?.try_into().ok()?;
    if h[0] != 0xFF || h[1] & 0xF6 != 0xF0 {
        return None;
    }
    let frame_bytes = usize::from(h[3] & 3) << 11 | usize::from(h[4]) << 3 | usize::from(h[5]) >> 5;
    let sample_rate = *RATES.get(usize::from(h[2] >> 2 & 15))?;
    (frame_bytes >= 7).then_some(AdtsHeader {
        frame_bytes,
        sample_rate,
        channels: (h[2] & 1) << 2 | h[3] >> 6,
        samples: 1024 * (u32::from(h[6] & 3) + 1),
    })
}

/// The frames at the start of `data`, as far as they are whole.
pub fn frames(mut data: &[u8]) -> impl Iterator<Item = (AdtsHeader, &[u8])> {
    std::iter::from_fn(move || {
        let header = parse(data)?;
        let frame = data.get(..header.frame_bytes)?;
        data = &data[header.frame_bytes..];
        Some((header, frame))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_header_says_size_rate_and_channels() {
        let mut frame = vec![0xFF, 0xF1, 0x4C, 0x80, 0x02, 0x5F, 0xFC];
        frame.resize(18, 0);
        let header = parse(&frame).expect("a header");
        assert_eq!((header.frame_bytes, header.sample_rate, header.channels, header.samples), (18, 48_000, 2, 1024));
        let two = [frame.clone(), frame.clone(), vec![0xFF]].concat();
        assert_eq!(frames(&two).count(), 2);
        assert_eq!(parse(&frame[..6]), None);
    }
}
