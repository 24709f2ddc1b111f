//! AAC in LATM as RTP carries it (RFC 6416, ISO 14496-3, 1.7.3): one programme, one layer.

use super::{AacConfig, aac::Bits};
use bytes::{Bytes, BytesMut};

/// Sub-frames of one element; the field has six bits.
const SUB_FRAMES_MAX: u32 = 64;

/// Why a stream cannot be taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LatmError {
    /// Ends too early.
    #[error("the LATM element ends too early")]
    Short,
    /// A layout that no camera uses.
    #[error("the LATM stream has several programmes or layers, or frames of fixed length")]
    Layout,
    /// The AAC inside is not one that ADTS can say.
    #[error("the LATM stream's AAC is of a kind that cannot be handed on")]
    Kind,
}

/// The layout of all that follows (StreamMuxConfig).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StreamMux {
    /// The AAC inside.
    pub config: AacConfig,
    /// Frames in one element.
    pub sub_frames: u32,
}

impl StreamMux {
    /// Reads it from the `config` of a session description.
    ///
    /// # Errors
    /// It is cut short or of a layout that is not taken.
    pub fn parse(data: &[u8]) -> Result<Self, LatmError> {
        Self::read(&mut Bits::new(data))
    }

    fn read(bits: &mut Bits<'_>) -> Result<Self, LatmError> {
        let mut field = |n| bits.read(n).ok_or(LatmError::Short);
        // audioMuxVersion, allStreamsSameTimeFraming
        if field(1)? != 0 || field(1)? != 1 {
            return Err(LatmError::Layout);
        }
        let sub_frames = field(6)? + 1;
        let (programs, layers) = (field(4)?, field(3)?);
        if programs != 0 || layers != 0 || sub_frames > SUB_FRAMES_MAX {
            return Err(LatmError::Layout);
        }
        let config = AacConfig::read(bits).ok_or(LatmError::Kind)?;
        let mut field = |n| bits.read(n).ok_or(LatmError::Short);
        if field(3)? != 0 {
            return Err(LatmError::Layout);
        }
        field(8)?;
        if field(1)? == 1 {
            // otherData: its length, eight bits at a time.
            while field(1)? == 1 {
                field(8)?;
            }
            field(8)?;
        }
        if field(1)? == 1 {
            field(8)?;
        }
        Ok(Self { config, sub_frames })
    }

    /// The bytes of a layout for one frame per element.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bits = String::from("01");
        bits += &format!("{:06b}{:04b}{:03b}", self.sub_frames - 1, 0, 0);
        let c = self.config.to_bytes();
        bits += &format!("{:08b}{:08b}", c[0], c[1]);
        bits += &format!("{:03b}{:08b}{}{}", 0, 0xFF, 0, 0);
        while !bits.len().is_multiple_of(8) {
            bits.push('0');
        }
        bits.as_bytes().chunks(8).map(|b| b.iter().fold(0, |v, c| v << 1 | (c - b'0'))).collect()
    }

    /// The frames of an element whose layout is known from outside. Slices, no copy.
    ///
    /// # Errors
    /// It ends too early.
    pub fn frames(&self, element: &Bytes) -> Result<Vec<Bytes>, LatmError> {
        let mut at = 0;
        let mut frames = Vec::new();
        for _ in 0..self.sub_frames {
            let mut size = 0;
            loop {
                let byte = *element.get(at).ok_or(LatmError::Short)?;
                at += 1;
                size += usize::from(byte);
                if byte != 255 {
                    break;
                }
            }
            if at + size > element.len() {
                return Err(LatmError::Short);
            }
            frames.push(element.slice(at..at + size));
            at += size;
        }
        Ok(frames)
    }

    /// The frames of an element that carries its layout, or says that the last one still holds.
    /// Such an element is not cut at bytes, so its frames are copied.
    ///
    /// # Errors
    /// It ends too early, or no layout has come yet.
    pub fn frames_in_band(known: &mut Option<Self>, element: &[u8]) -> Result<Vec<Bytes>, LatmError> {
        let mut bits = Bits::new(element);
        if bits.read(1).ok_or(LatmError::Short)? == 0 {
            *known = Some(Self::read(&mut bits)?);
        }
        let mux = known.ok_or(LatmError::Short)?;
        let mut frames = Vec::new();
        for _ in 0..mux.sub_frames {
            let mut size = 0;
            loop {
                let byte = bits.read(8).ok_or(LatmError::Short)? as usize;
                size += byte;
                if byte != 255 {
                    break;
                }
            }
            if size > element.len() - (bits.position() / 8).min(element.len()) {
                return Err(LatmError::Short);
            }
            let mut frame = BytesMut::with_capacity(size);
            for _ in 0..size {
                frame.extend_from_slice(&[bits.read(8).ok_or(LatmError::Short)? as u8]);
            }
            frames.push(frame.freeze());
        }
        Ok(frames)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mux() -> StreamMux {
        let config = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
        StreamMux { config, sub_frames: 1 }
    }

    #[test]
    fn a_layout_survives_and_cut_ones_are_refused() {
        let bytes = mux().to_bytes();
        assert_eq!(StreamMux::parse(&bytes), Ok(mux()));
        for end in 0..5 {
            assert!(StreamMux::parse(&bytes[..end]).is_err());
        }
        assert_eq!(StreamMux::parse(&[0xC0, 0, 0]), Err(LatmError::Layout));
    }

    #[test]
    fn frames_come_out_by_either_way() {
        let frame: Vec<u8> = (0..=255).chain(0..44).map(|n: u16| n as u8).collect();
        let mut element = vec![255, 45];
        element.extend_from_slice(&frame);
        assert_eq!(mux().frames(&element.clone().into()), Ok(vec![frame.clone().into()]));
        assert_eq!(mux().frames(&Bytes::from(element[..200].to_vec())), Err(LatmError::Short));
        // In band: one bit 0, the layout (not a whole number of bytes), then the same.
        let text = |data: &[u8]| data.iter().map(|b| format!("{b:08b}")).collect::<String>();
        let layout = text(&mux().to_bytes());
        let all = format!("0{}{}", &layout[..15 + 16 + 13], text(&element));
        let packed: Vec<u8> = all.as_bytes().chunks(8).map(|b| b.iter().fold(0, |v, c| v << 1 | (c - b'0')) << (8 - b.len())).collect();
        let mut known = None;
        assert_eq!(StreamMux::frames_in_band(&mut known, &packed), Ok(vec![frame.into()]));
        assert_eq!(known, Some(mux()));
        assert_eq!(StreamMux::frames_in_band(&mut None, &[0x80, 1, 2]), Err(LatmError::Short));
    }
}
