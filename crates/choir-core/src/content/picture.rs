//! What one picture shows: black, one colour, colour bars, or a scene.

use super::{ContentFault, Says};

/// Share of pixels, of 1000, that may be brighter than the brightest or darker than the darkest
/// that counts: a lamp in the night is more.
const OUTLIERS: usize = 1;
/// Brightness, of 255, up to which all of the picture is black, and beyond which it is not.
const BLACK: (u8, u8) = (26, 34);
/// Spread of brightness and colour up to which a picture is of one colour, and beyond which it is
/// not.
const FLAT: (f64, f64) = (2.5, 5.0);
/// Bars: fields side by side.
const BARS_LEAST: usize = 5;
/// Of them so many coloured.
const COLOURED_LEAST: usize = 3;
/// Between the greatest and the least of red, green and blue, for a field to be coloured.
const COLOUR: i32 = 50;
/// Colours of neighbouring fields differ by so much at least.
const STEP: i32 = 24;
/// Within a column of a field colours differ by no more.
const EVEN: i32 = 14;
/// Share of columns that may be between fields.
const BETWEEN: f64 = 0.16;

/// A picture in RGB, 8 bits each, rows from the top.
#[derive(Debug, Clone, Copy)]
pub struct Pixels<'a> {
    /// Pixels.
    pub width: usize,
    /// Pixels.
    pub height: usize,
    /// Three bytes per pixel.
    pub rgb: &'a [u8],
}

impl Pixels<'_> {
    fn at(&self, x: usize, y: usize) -> [i32; 3] {
        let at = (y * self.width + x) * 3;
        self.rgb.get(at..at + 3).map_or([0; 3], |p| [p[0], p[1], p[2]].map(i32::from))
    }
}

/// What was measured of a picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PictureMeasure {
    /// Brightest red, green or blue that counts, of 255.
    pub brightest: u8,
    /// Standard deviation of the most varied of red, green and blue.
    pub spread: f64,
    /// It is colour bars.
    pub is_bars: bool,
}

impl PictureMeasure {
    /// Measures a picture.
    #[must_use]
    pub fn of(p: Pixels<'_>) -> Self {
        let mut histogram = [0usize; 256];
        let (mut sum, mut squares) = ([0.0; 3], [0.0; 3]);
        for pixel in p.rgb.chunks_exact(3) {
            // Deep blue is not black.
            histogram[usize::from(*pixel.iter().max().unwrap_or(&0))] += 1;
            for (n, value) in pixel.iter().enumerate() {
                let value = f64::from(*value);
                sum[n] += value;
                squares[n] += value * value;
            }
        }
        let count: usize = histogram.iter().sum::<usize>().max(1);
        let mut above = 0;
        let beyond = |(_, n): &(usize, &usize)| {
            above += **n;
            above * 1000 > count * OUTLIERS
        };
        let brightest = histogram.iter().enumerate().rev().find(beyond).map_or(0, |(value, _)| value as u8);
        let variance = |n: usize| squares[n] / count as f64 - (sum[n] / count as f64).powi(2);
        let spread = (0..3).map(variance).fold(0.0, f64::max).max(0.0).sqrt();
        Self { brightest, spread, is_bars: is_bars(p) }
    }

    pub(super) fn black(&self) -> Says {
        Says::of(ContentFault::Black, self.brightest <= BLACK.0, self.brightest > BLACK.1)
    }

    pub(super) fn flat(&self) -> Says {
        if self.brightest <= BLACK.1 {
            return Says::Good;
        }
        Says::of(ContentFault::Flat, self.spread <= FLAT.0, self.spread > FLAT.1)
    }

    pub(super) fn bars(&self) -> Says {
        Says::of(ContentFault::Bars, self.is_bars, true)
    }
}

/// Fields of even colours side by side, from a tenth to half of the height.
fn is_bars(p: Pixels<'_>) -> bool {
    if p.width < 32 || p.height < 18 {
        return false;
    }
    let rows: Vec<usize> = (1..6).map(|n| p.height * n / 10).collect();
    let (mut fields, mut between): (Vec<[i32; 3]>, usize) = (Vec::new(), 0);
    for x in 0..p.width {
        let colours: Vec<[i32; 3]> = rows.iter().map(|y| p.at(x, *y)).collect();
        let apart = |a: &[i32; 3], b: &[i32; 3]| a.iter().zip(b).map(|(a, b)| (a - b).abs()).max().unwrap_or(0);
        let even = colours.iter().all(|c| apart(c, &colours[0]) <= EVEN);
        let colour = colours[2];
        match fields.last() {
            Some(last) if even && apart(last, &colour) <= EVEN => {}
            // A field is as wide as a twentieth of the picture at least.
            _ if even && x + p.width / 20 < p.width && apart(&p.at(x + p.width / 20, rows[2]), &colour) <= EVEN => {
                if fields.last().is_some_and(|last| apart(last, &colour) < STEP) {
                    return false;
                }
                fields.push(colour);
            }
            _ => between += 1,
        }
    }
    let coloured = |c: &&[i32; 3]| c.iter().max().zip(c.iter().min()).is_some_and(|(a, b)| a - b >= COLOUR);
    fields.len() >= BARS_LEAST
        && fields.len() <= 16
        && fields.iter().filter(coloured).count() >= COLOURED_LEAST
        && between as f64 <= p.width as f64 * BETWEEN
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picture(at: impl Fn(usize, usize) -> [u8; 3]) -> Vec<u8> {
        (0..180).flat_map(|y| (0..320).map(move |x| (x, y))).flat_map(|(x, y)| at(x, y)).collect()
    }

    fn measure(at: impl Fn(usize, usize) -> [u8; 3]) -> PictureMeasure {
        PictureMeasure::of(Pixels { width: 320, height: 180, rgb: &picture(at) })
    }

    fn noise(x: usize, y: usize, of: u32) -> u8 {
        let mut h = (x as u32).wrapping_mul(0x9E37_79B1) ^ (y as u32).wrapping_mul(0x85EB_CA77);
        h ^= h >> 13;
        h = h.wrapping_mul(0xC2B2_AE35);
        ((h ^ h >> 16) % of) as u8
    }

    const BARS: [[u8; 3]; 8] =
        [[191, 191, 191], [191, 191, 0], [0, 191, 191], [0, 191, 0], [191, 0, 191], [191, 0, 0], [0, 0, 191], [0, 0, 0]];

    #[test]
    fn black_is_black_with_its_noise_and_a_dark_scene_is_not() {
        let black = measure(|x, y| [noise(x, y, 14); 3]);
        assert_eq!((black.black(), black.flat()), (Says::Bad(ContentFault::Black), Says::Good));
        // Night over the lake: a lamp of 10 by 10 pixels, the rest as dark as black.
        let night = measure(|x, y| if (100..110).contains(&x) && (50..60).contains(&y) { [90, 80, 40] } else { [noise(x, y, 14); 3] });
        assert_eq!(night.black(), Says::Good, "{night:?}");
        let dusk = measure(|x, y| [(20 + x / 16) as u8 + noise(x, y, 6); 3]);
        assert_eq!(dusk.black(), Says::Good, "{dusk:?}");
    }

    #[test]
    fn one_colour_is_flat_and_fog_is_not() {
        let blue = measure(|x, y| [10, 20, 180 + noise(x, y, 3)]);
        assert_eq!((blue.flat(), blue.black()), (Says::Bad(ContentFault::Flat), Says::Good));
        let fog = measure(|x, y| [(170 + y / 9) as u8 + noise(x, y, 5); 3]);
        assert_eq!(fog.flat(), Says::Good, "{fog:?}");
    }

    #[test]
    fn bars_are_known_with_soft_edges_and_noise_and_scenes_are_none() {
        assert!(measure(|x, _| BARS[x * 8 / 320]).is_bars);
        let soft = |x: usize, y: usize| {
            let (a, b) = (BARS[x * 8 / 320], BARS[((x + 3) * 8 / 320).min(7)]);
            [0, 1, 2].map(|n| ((u16::from(a[n]) + u16::from(b[n])) / 2) as u8 / 2 * 2 + noise(x, y, 5))
        };
        assert!(measure(soft).is_bars);
        // With a lower part of another pattern, as many have.
        assert!(measure(|x, y| if y > 120 { [noise(x, y, 200); 3] } else { BARS[x * 8 / 320] }).is_bars);
        // A grey staircase, stripes, a scene, one colour.
        assert!(!measure(|x, _| [(x * 8 / 320 * 30) as u8; 3]).is_bars);
        assert!(!measure(|x, _| if x / 2 % 2 == 0 { [200, 0, 0] } else { [0, 0, 200] }).is_bars);
        assert!(!measure(|x, y| [noise(x, y, 200), noise(y, x, 200), 90]).is_bars);
        assert!(!measure(|_, y| BARS[y * 8 / 180]).is_bars, "bars stand upright");
        assert!(!measure(|_, _| [9, 200, 9]).is_bars);
    }
}
