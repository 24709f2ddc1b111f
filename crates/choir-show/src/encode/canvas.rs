//! How pictures get another size.

use crate::{planes::Planes, still::filling};
use choir_scale::Scaler;

/// Gives pictures one size.
pub(crate) struct Canvas {
    size: (usize, usize),
    stretch: bool,
    scaler: Scaler,
}

impl Canvas {
    /// Of this size; pictures of another shape get bars, unless they are to be stretched.
    pub fn new(size: (usize, usize), stretch: bool) -> Self {
        Self { size, stretch, scaler: Scaler::default() }
    }

    /// The picture in this size; none where that cannot be.
    pub fn fit(&mut self, picture: Planes) -> Option<Planes> {
        if picture.size == self.size {
            return Some(picture);
        }
        let even = |n: usize, most: usize| (n.div_ceil(2) * 2).clamp(2, most);
        let (w, h) = if self.stretch { self.size } else { filling(picture.size, self.size) };
        let (w, h) = (even(w, self.size.0), even(h, self.size.1));
        // Colour has half the places.
        let (x, y) = ((self.size.0 - w) / 4 * 2, (self.size.1 - h) / 4 * 2);
        let mut to = Planes::black(self.size);
        for (n, (from, to)) in picture.parts.iter().zip(&mut to.parts).enumerate() {
            let part = |(x, y): (usize, usize)| if n == 0 { (x, y) } else { (x / 2, y / 2) };
            self.scaler.plane((from, part(picture.size)), (to, part(self.size)), (part((x, y)), part((w, h)))).ok()?;
        }
        Some(to)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::planes::{BLACK, GREY};

    fn plain(size: (usize, usize), y: u8) -> Planes {
        Planes { parts: [vec![y; size.0 * size.1], vec![90; size.0 * size.1 / 4], vec![160; size.0 * size.1 / 4]], size }
    }

    #[test]
    fn shape_is_kept_with_bars_in_the_middle_or_stretched() {
        let row = |p: &Planes, y: usize| p.parts[0][y * p.size.0..(y + 1) * p.size.0].to_vec();
        // 4:3 on 16:9: bars at the sides; 16:9 on 4:3: above and below.
        let narrow = Canvas::new((320, 180), false).fit(plain((640, 480), 200)).expect("fits");
        assert_eq!(row(&narrow, 90).iter().filter(|y| **y == BLACK).count(), 80);
        assert_eq!((row(&narrow, 0)[40], row(&narrow, 90)[39], row(&narrow, 90)[280]), (200, BLACK, BLACK));
        assert_eq!((narrow.parts[1][20], narrow.parts[1][19], narrow.parts[2][139], narrow.parts[2][140]), (90, GREY, 160, GREY));
        let wide = Canvas::new((320, 240), false).fit(plain((1280, 720), 200)).expect("fits");
        assert_eq!((0..240).filter(|y| row(&wide, *y)[160] == BLACK).count(), 60);
        let stretched = Canvas::new((320, 240), true).fit(plain((1280, 720), 200)).expect("fits");
        assert_eq!(stretched, plain((320, 240), 200));
        // A picture that is smaller is made larger.
        assert_eq!(Canvas::new((640, 360), false).fit(plain((64, 36), 77)), Some(plain((640, 360), 77)));
        for size in [(2, 2), (64, 2), (2, 64), (4096, 16)] {
            assert_eq!(
                Canvas::new((320, 180), false).fit(plain(size, 50)).map(|p| p.parts.map(|p| p.len())),
                Some([57_600, 14_400, 14_400])
            );
        }
    }
}
