//! Pictures in planes of brightness and colour (4:2:0, 8 bits), as decoders give and encoders take
//! them.

use openh264::formats::YUVSource;
use rust_h265::{Frame, PixelData};

/// Black and no colour.
pub(crate) const BLACK: u8 = 16;
pub(crate) const GREY: u8 = 128;

/// A picture in planes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Planes {
    /// Pixels, even.
    pub size: (usize, usize),
    /// Brightness, and both colours with half of its size.
    pub parts: [Vec<u8>; 3],
}

impl Planes {
    /// Without any light.
    pub fn black(size: (usize, usize)) -> Self {
        let count = size.0 * size.1;
        Self { size, parts: [vec![BLACK; count], vec![GREY; count / 4], vec![GREY; count / 4]] }
    }

    /// Of what a decoder of H.264 has; an odd row or column at the edge is left out.
    pub fn of_yuv(yuv: &impl YUVSource) -> Option<Self> {
        let (width, height) = yuv.dimensions();
        let (size, strides) = ((width & !1, height & !1), yuv.strides());
        let plane = |from: &[u8], stride: usize, (w, h): (usize, usize)| {
            let mut to = Vec::with_capacity(w * h);
            (0..h).try_for_each(|row| from.get(row * stride..row * stride + w).map(|pixels| to.extend_from_slice(pixels)))?;
            Some(to)
        };
        let half = (size.0 / 2, size.1 / 2);
        let parts = [plane(yuv.y(), strides.0, size)?, plane(yuv.u(), strides.1, half)?, plane(yuv.v(), strides.2, half)?];
        (size.0 > 0 && size.1 > 0).then_some(Self { size, parts })
    }

    /// Of what a decoder of H.265 has, of any depth and sampling.
    pub fn of_frame(f: &Frame) -> Option<Self> {
        Self::of_parts((f.width as usize, f.height as usize), f.bit_depth, f.chroma_format_idc, [&f.y, &f.u, &f.v])
    }

    fn of_parts((width, height): (usize, usize), depth: u8, sampling: u32, [y, u, v]: [&PixelData; 3]) -> Option<Self> {
        let size = (width & !1, height & !1);
        let (across, down) = match sampling {
            1 => (2, 2),
            2 => (2, 1),
            _ => (1, 1),
        };
        let shift = depth.clamp(8, 16) - 8;
        // A plane with `stride`, of which each so many columns and rows count.
        let plane = |from: &PixelData, stride: usize, (x, y): (usize, usize), (w, h): (usize, usize)| {
            let mut to = Vec::with_capacity(w * h);
            for row in 0..h {
                let at = row * y * stride;
                match from {
                    PixelData::U8(v) => to.extend(v.get(at..at + (w - 1) * x + 1)?.iter().step_by(x)),
                    PixelData::U16(v) => to.extend(v.get(at..at + (w - 1) * x + 1)?.iter().step_by(x).map(|v| (v >> shift) as u8)),
                }
            }
            Some(to)
        };
        if size.0 == 0 || size.1 == 0 {
            return None;
        }
        let half = (size.0 / 2, size.1 / 2);
        let colour = |from: &PixelData| match sampling {
            0 => Some(vec![GREY; half.0 * half.1]),
            _ => plane(from, width.div_ceil(across), (2 / across, 2 / down), half),
        };
        Some(Self { size, parts: [plane(y, width, (1, 1), size)?, colour(u)?, colour(v)?] })
    }
}

impl YUVSource for Planes {
    fn dimensions(&self) -> (usize, usize) {
        self.size
    }

    fn strides(&self) -> (usize, usize, usize) {
        (self.size.0, self.size.0 / 2, self.size.0 / 2)
    }

    fn y(&self) -> &[u8] {
        &self.parts[0]
    }

    fn u(&self) -> &[u8] {
        &self.parts[1]
    }

    fn v(&self) -> &[u8] {
        &self.parts[2]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_of_any_depth_and_sampling_become_planes() {
        let planes = |sampling: u32, colours: usize| {
            let plane = |value: u16, count: usize| PixelData::U16(vec![value; count]);
            Planes::of_parts((16, 8), 10, sampling, [&plane(512, 128), &plane(256, colours), &plane(768, colours)])
        };
        for (sampling, colours) in [(1, 32), (2, 64), (3, 128)] {
            let p = planes(sampling, colours).expect("planes");
            assert_eq!((p.size, p.parts), ((16, 8), [vec![128; 128], vec![64; 32], vec![192; 32]]));
        }
        assert_eq!(planes(0, 0).map(|p| p.parts[1].clone()), Some(vec![GREY; 32]));
        assert_eq!(planes(3, 16), None, "planes that are too short");
    }
}
