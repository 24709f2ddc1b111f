//! Whether the picture changes, from how many bytes it takes to say so. An encoder that is fed the
//! same picture again and again writes next to nothing; noise of a camera on a still scene takes
//! more.

use std::time::Duration;

/// Bytes of a picture in which nothing changes: heads, and so many blocks of 16 by 16 pixels for
/// each further byte.
const NOTHING: usize = 48;
const BLOCKS_PER_BYTE: usize = 64;
/// After a keyframe an encoder makes the same picture better for so long.
const BETTER: Duration = Duration::from_millis(400);
/// Difference of two keyframes, of 255, up to which they may show the same: they are coded anew,
/// and not always as well.
const MOVED: f64 = 6.0;
/// The same, where all pictures are keyframes.
const SAME: f64 = 0.3;
/// Bytes by which keyframes of the same picture differ at most: some, and one in so many.
const WAVERS: usize = 8;
const WAVERS_PER: usize = 500;
/// Pixels of a block, across and down, in which pictures are compared: a digit of a clock is most
/// of one.
const BLOCK: usize = 16;

/// How much one picture took.
#[derive(Debug, Clone, Copy)]
pub struct UnitSize {
    /// It is a keyframe.
    pub keyframe: bool,
    /// Bytes of its slices.
    pub slices: usize,
    /// Pixels of the picture.
    pub pixels: usize,
}

/// Follows the pictures of one source.
#[derive(Debug, Clone, Default)]
pub struct Freeze {
    since: Option<Duration>,
    keyframe: Option<Duration>,
    /// Of the last keyframe, and since when they have all been as large.
    size: Option<(usize, Duration)>,
    /// Pictures that are no keyframes have come since the last keyframe, and since the last one
    /// that was decoded.
    behind: bool,
    between: bool,
    /// When the last decoded keyframe came.
    compared: Option<Duration>,
}

impl Freeze {
    /// Takes the size of a picture that came at `now`.
    pub fn unit(&mut self, now: Duration, size: UnitSize) {
        if size.keyframe {
            self.keyframe = Some(now);
            let as_before = self.size.filter(|(s, _)| s.abs_diff(size.slices) <= WAVERS + s / WAVERS_PER);
            self.size = Some((size.slices, as_before.map_or(now, |(_, since)| since)));
            // The same picture coded alone takes the same.
            if !std::mem::take(&mut self.behind) && as_before.is_none() {
                self.since = None;
            }
            return;
        }
        (self.behind, self.between) = (true, true);
        if size.slices <= NOTHING + size.pixels / 256 / BLOCKS_PER_BYTE {
            self.since.get_or_insert(now);
        } else if self.keyframe.is_none_or(|at| now.saturating_sub(at) > BETTER) {
            self.since = None;
        }
    }

    /// Takes how much a keyframe that came at `now` differs from the one compared before
    /// ([`difference`]); `None` for the first.
    pub fn keyframe(&mut self, now: Duration, difference: Option<f64>) {
        let between = std::mem::take(&mut self.between);
        let before = self.compared.replace(now);
        match difference {
            Some(d) if d > if between { MOVED } else { SAME } => self.since = None,
            // What repeats itself may look the same each time it is decoded, but not all the time.
            Some(_) if !between => self.since = self.since.or(before.filter(|b| self.size.is_some_and(|(_, since)| since <= *b))),
            _ => {}
        }
    }

    /// Since when nothing has changed.
    #[must_use]
    pub const fn since(&self) -> Option<Duration> {
        self.since
    }
}

/// How much two pictures of the same size differ, as rows of brightness: the mean of that block
/// which differs most, of 255.
#[must_use]
pub fn difference(a: &[u8], b: &[u8], width: usize) -> f64 {
    let blocks = width.div_ceil(BLOCK).max(1);
    let mut most = 0.0f64;
    let rows = (BLOCK * width).max(1);
    for (a, b) in a.chunks(rows).zip(b.chunks(rows)) {
        let mut sums = vec![(0u32, 0u32); blocks];
        for (n, (a, b)) in a.iter().zip(b).enumerate() {
            let sum = &mut sums[n % width.max(1) / BLOCK];
            *sum = (sum.0 + u32::from(a.abs_diff(*b)), sum.1 + 1);
        }
        most = sums.iter().map(|(sum, count)| f64::from(*sum) / f64::from((*count).max(1))).fold(most, f64::max);
    }
    most
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ms(n: u64) -> Duration {
        Duration::from_millis(n)
    }

    fn picture(slices: usize) -> UnitSize {
        UnitSize { keyframe: false, slices, pixels: 1280 * 720 }
    }

    #[test]
    fn pictures_that_say_nothing_are_frozen_since_the_first_of_them() {
        let mut f = Freeze::default();
        f.keyframe(ms(0), None);
        for n in 1..25 {
            f.unit(ms(n * 40), picture(if n < 10 { 4000 } else { 30 }));
        }
        assert_eq!(f.since(), Some(ms(400)));
        f.unit(ms(1000), UnitSize { keyframe: true, ..picture(60_000) });
        f.keyframe(ms(1000), Some(0.7));
        f.unit(ms(1040), picture(9000));
        f.unit(ms(1080), picture(30));
        assert_eq!(f.since(), Some(ms(400)), "a keyframe of the same is coded anew, and then better");
        f.unit(ms(1600), picture(700));
        assert_eq!(f.since(), None, "noise takes bytes");
    }

    #[test]
    fn another_keyframe_is_a_change() {
        let mut f = Freeze::default();
        f.keyframe(ms(0), None);
        f.unit(ms(40), picture(20));
        f.keyframe(ms(1000), Some(9.0));
        assert_eq!(f.since(), None);
    }

    #[test]
    fn one_digit_is_a_difference_and_another_quality_is_little() {
        let (w, h) = (320, 180);
        let scene: Vec<u8> = (0..w * h).map(|n| (n % w * 5 / 8) as u8).collect();
        let coarse: Vec<u8> = scene.iter().map(|v| v / 4 * 4).collect();
        let mut clock = scene.clone();
        for y in 100..110 {
            clock[y * w + 200..y * w + 208].fill(255);
        }
        assert_eq!(difference(&scene, &scene, w), 0.0);
        assert!(difference(&scene, &coarse, w) < MOVED, "{}", difference(&scene, &coarse, w));
        assert!(difference(&scene, &clock, w) > MOVED, "{}", difference(&scene, &clock, w));
        assert_eq!(difference(&[], &[], 0), 0.0);
    }

    #[test]
    fn a_scene_that_repeats_itself_is_not_frozen_though_each_decoded_picture_is_the_same() {
        let mut f = Freeze::default();
        f.keyframe(ms(0), None);
        for n in 1..=200u64 {
            f.unit(ms(n * 40), UnitSize { keyframe: true, ..picture(20_000 + (n as usize % 50) * 60) });
            if n % 50 == 0 {
                f.keyframe(ms(n * 40), Some(0.0));
                assert_eq!(f.since(), None, "after {n} pictures");
            }
        }
    }

    #[test]
    fn where_all_are_keyframes_the_pictures_themselves_are_compared() {
        let mut f = Freeze::default();
        f.unit(ms(0), UnitSize { keyframe: true, ..picture(20_000) });
        f.keyframe(ms(0), None);
        f.keyframe(ms(500), Some(1.2));
        assert_eq!(f.since(), None, "as much is noise");
        f.keyframe(ms(1000), Some(0.1));
        assert_eq!(f.since(), Some(ms(500)));
        f.keyframe(ms(1500), Some(0.0));
        assert_eq!(f.since(), Some(ms(500)));
        f.keyframe(ms(2000), Some(1.0));
        assert_eq!(f.since(), None);
    }
}
