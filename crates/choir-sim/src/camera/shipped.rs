//! The H.265 loop that is shipped: how it was made stands in `assets/make-loop.sh`.

use super::{Frame, Loop};
use choir_proto::h26x::{HevcNal, nal_units};

const LOOP: &[u8] = include_bytes!("../../assets/umpire-launch.h265");
/// Pixels of the shipped loop.
pub const SHIPPED_SIZE: (u32, u32) = (960, 540);
/// Frames per second of the shipped loop.
pub const SHIPPED_RATE: u32 = 25;

/// The loop, picture by picture: each begins with its delimiter.
#[must_use]
pub fn shipped_loop() -> Loop {
    let mut frames: Vec<Frame> = Vec::new();
    for nal in nal_units(LOOP) {
        match HevcNal::of(nal[0]) {
            HevcNal::Delimiter => {
                frames.push(Frame { data: Vec::new(), keyframe: false });
                continue;
            }
            kind => {
                if let Some(frame) = frames.last_mut() {
                    frame.keyframe |= kind == HevcNal::Irap;
                    frame.data.extend_from_slice(&[0, 0, 0, 1]);
                    frame.data.extend_from_slice(nal);
                }
            }
        }
    }
    Loop { frames }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::read_blocks;
    use rust_h265::{Decoder, PixelData, parse_annex_b};

    #[test]
    fn the_shipped_loop_closes_and_every_number_can_be_read() {
        let all = shipped_loop().frames;
        let keyframes: Vec<usize> = (0..all.len()).filter(|n| all[*n].keyframe).collect();
        assert_eq!((all.len(), keyframes), (50, vec![0, 25]));
        assert!(LOOP.len() < 1_500_000, "{} bytes", LOOP.len());
        let mut decoder = Decoder::new();
        let mut numbers = Vec::new();
        for frame in all.iter().chain(&all[..30]) {
            for nal in parse_annex_b(&frame.data) {
                if let Some(picture) = decoder.decode_nal(&nal).expect("decodes") {
                    let PixelData::U8(luma) = &picture.y else { panic!("8 bits") };
                    numbers.push(read_blocks(luma, picture.width as usize, picture.height as usize, picture.width as usize));
                }
            }
        }
        let expected: Vec<_> = (0..numbers.len()).map(|n| Some((n % 50) as u16)).collect();
        assert!(numbers.len() >= 79, "{}", numbers.len());
        assert_eq!(numbers, expected);
    }
}
