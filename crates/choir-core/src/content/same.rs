//! Lines that carry the same picture: one camera patched twice, or the wrong one.

use super::Pixels;
use crate::id::LineId;
use std::{collections::HashMap, time::Duration};

const COLUMNS: usize = 16;
const ROWS: usize = 9;
/// Mean difference of two glimpses, of 255, up to which they are alike.
const ALIKE: f64 = 2.0;
/// Standard deviation of a glimpse below which it shows too little to be told from another.
const DETAIL: f64 = 10.0;
/// Pictures further apart in time are not compared.
const TOGETHER: Duration = Duration::from_secs(4);
/// Pictures that have to be alike, and those in a row that end it.
const IN_A_ROW: u32 = 4;

/// A picture made so small that noise and coding do not show.
#[derive(Debug, Clone, PartialEq)]
pub struct Glimpse([u8; COLUMNS * ROWS]);

impl Glimpse {
    /// Of this picture; `None` when it shows too little.
    #[must_use]
    pub fn of(p: Pixels<'_>) -> Option<Self> {
        if p.width < COLUMNS || p.height < ROWS || p.rgb.len() < p.width * p.height * 3 {
            return None;
        }
        let mut small = [0; COLUMNS * ROWS];
        for (n, cell) in small.iter_mut().enumerate() {
            let (column, row) = (n % COLUMNS, n / COLUMNS);
            let (x0, x1) = (column * p.width / COLUMNS, (column + 1) * p.width / COLUMNS);
            let (y0, y1) = (row * p.height / ROWS, (row + 1) * p.height / ROWS);
            let mut sum = 0u64;
            for y in y0..y1 {
                // Green is most of what is bright.
                sum += (x0..x1).map(|x| u64::from(p.rgb[(y * p.width + x) * 3 + 1])).sum::<u64>();
            }
            *cell = (sum / ((x1 - x0) * (y1 - y0)) as u64) as u8;
        }
        let mean = small.iter().map(|v| f64::from(*v)).sum::<f64>() / small.len() as f64;
        let deviation = (small.iter().map(|v| (f64::from(*v) - mean).powi(2)).sum::<f64>() / small.len() as f64).sqrt();
        (deviation >= DETAIL).then_some(Self(small))
    }

    fn is_like(&self, other: &Self) -> bool {
        let apart: u32 = self.0.iter().zip(&other.0).map(|(a, b)| u32::from(a.abs_diff(*b))).sum();
        f64::from(apart) <= ALIKE * self.0.len() as f64
    }
}

/// Compares the pictures of lines.
#[derive(Debug, Default)]
pub struct SamePictures {
    last: HashMap<LineId, (Duration, Option<Glimpse>)>,
    /// Pictures that were alike, and those since that were not; the lesser line first.
    alike: HashMap<(LineId, LineId), (u32, u32)>,
}

impl SamePictures {
    /// A line shows a new picture.
    pub fn note(&mut self, line: LineId, at: Duration, glimpse: Option<Glimpse>) {
        for (other, (other_at, shown)) in &self.last {
            if *other == line || at.abs_diff(*other_at) > TOGETHER {
                continue;
            }
            let pair = (line.min(*other), line.max(*other));
            let same = glimpse.as_ref().zip(shown.as_ref()).is_some_and(|(a, b)| a.is_like(b));
            if same {
                let (alike, others) = self.alike.entry(pair).or_default();
                (*alike, *others) = (*alike + 1, 0);
            } else if let Some((_, others)) = self.alike.get_mut(&pair) {
                // Where it moves, the last picture of the other may be of a moment before.
                *others += 1;
                if *others >= IN_A_ROW {
                    self.alike.remove(&pair);
                }
            }
        }
        self.last.insert(line, (at, glimpse));
    }

    /// Another line that has shown the same of late.
    #[must_use]
    pub fn twin_of(&self, line: LineId) -> Option<LineId> {
        let pairs = self.alike.iter().filter(|(_, (alike, _))| *alike >= IN_A_ROW).map(|(pair, _)| *pair);
        pairs.filter(|(a, b)| *a == line || *b == line).map(|(a, b)| if a == line { b } else { a }).min()
    }

    /// A line is no longer there.
    pub fn forget(&mut self, line: LineId) {
        self.last.remove(&line);
        self.alike.retain(|(a, b), _| *a != line && *b != line);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picture(shift: usize, noise: u8) -> Vec<u8> {
        let pixel = |x: usize, y: usize| {
            let v = ((x + shift) * 5 % 200) as u8 / 2 + (y * 3) as u8 % 90 + if (x * 7 + y).is_multiple_of(3) { noise } else { 0 };
            [v, v, v]
        };
        (0..90).flat_map(|y| (0..160).flat_map(move |x| pixel(x, y))).collect()
    }

    fn glimpse(shift: usize, noise: u8) -> Option<Glimpse> {
        Glimpse::of(Pixels { width: 160, height: 90, rgb: &picture(shift, noise) })
    }

    #[test]
    fn lines_that_show_the_same_are_found_and_others_are_not() {
        let (a, b, c) = (LineId(1), LineId(2), LineId(3));
        let mut same = SamePictures::default();
        for n in 0..6u64 {
            let (at, moves) = (Duration::from_secs(n), n as usize * 3);
            same.note(a, at, glimpse(moves, 0));
            same.note(b, at + Duration::from_millis(300), glimpse(moves, 3));
            same.note(c, at + Duration::from_millis(600), glimpse(moves + 17, 0));
        }
        assert_eq!((same.twin_of(a), same.twin_of(b), same.twin_of(c)), (Some(b), Some(a), None));
        (0..4).for_each(|n| same.note(b, Duration::from_secs(6 + n), glimpse(40 + n as usize * 3, 0)));
        assert_eq!(same.twin_of(a), None, "it shows something else now");
        (0..4).for_each(|n| same.note(a, Duration::from_secs(10 + n), glimpse(49, 0)));
        assert_eq!(same.twin_of(b), Some(a));
        same.forget(a);
        assert!(same.last.len() == 2 && same.twin_of(b).is_none() && same.alike.is_empty());
    }

    #[test]
    fn what_shows_too_little_is_like_nothing() {
        let flat = vec![90; 160 * 90 * 3];
        assert_eq!(Glimpse::of(Pixels { width: 160, height: 90, rgb: &flat }), None);
        assert_eq!(Glimpse::of(Pixels { width: 8, height: 4, rgb: &flat }), None);
        let mut same = SamePictures::default();
        (0..8).for_each(|n| same.note(LineId(n % 2), Duration::from_secs(u64::from(n)), None));
        assert_eq!(same.twin_of(LineId(0)), None);
    }
}
