//! Pictures in a terminal that draws sixels (DEC STD 070, chapter 9), an old and open form: bands
//! of six rows, a colour at a time, in runs. With a fixed palette nothing has to be searched for in
//! a picture that lives for a second.

use choir_show::still::Still;
use std::fmt::Write;

/// Steps of each primary colour.
const STEPS: usize = 6;
/// Rows of a band.
const BAND: usize = 6;
/// Thresholds that spread what the palette cannot show over neighbours (Bayer, 4 by 4).
const DITHER: [[usize; 4]; 4] = [[0, 8, 2, 10], [12, 4, 14, 6], [3, 11, 1, 9], [15, 7, 13, 5]];

/// A picture of so many pixels, as the terminal takes it.
pub fn encode(still: &Still, width: usize, height: usize) -> String {
    let mut out = format!("\x1bP0;1;0q\"1;1;{width};{height}");
    for n in 0..STEPS.pow(3) {
        let share = |step: usize| step * 100 / (STEPS - 1);
        let _ = write!(out, "#{n};2;{};{};{}", share(n / STEPS / STEPS), share(n / STEPS % STEPS), share(n % STEPS));
    }
    let mut band = vec![0u8; width * BAND];
    for top in (0..height).step_by(BAND) {
        let rows = BAND.min(height - top);
        let mut used = [false; STEPS * STEPS * STEPS];
        for row in 0..rows {
            for x in 0..width {
                let colour = colour_at(still, (x, top + row), (width, height));
                used[usize::from(colour)] = true;
                band[row * width + x] = colour;
            }
        }
        for colour in (0..used.len()).filter(|c| used[*c]) {
            let _ = write!(out, "#{colour}");
            put_row(&mut out, &band, width, rows, colour as u8);
            out.push('$');
        }
        out.push('-');
    }
    out.push_str("\x1b\\");
    out
}

/// The colour of a pixel: the nearest pixel of the picture, in the palette.
fn colour_at(still: &Still, (x, y): (usize, usize), (width, height): (usize, usize)) -> u8 {
    let (from_x, from_y) = (x * still.width / width, y * still.height / height);
    let at = (from_y * still.width + from_x) * 3;
    let threshold = DITHER[y % 4][x % 4];
    let step = |value: u8| {
        let sixteenths = usize::from(value) * (STEPS - 1) * 16 / 255;
        (sixteenths / 16 + usize::from(sixteenths % 16 > threshold)).min(STEPS - 1)
    };
    let pixel = still.rgb.get(at..at + 3).unwrap_or(&[0; 3]);
    (step(pixel[0]) * STEPS * STEPS + step(pixel[1]) * STEPS + step(pixel[2])) as u8
}

/// The pixels of one colour in a band, in runs.
fn put_row(out: &mut String, band: &[u8], width: usize, rows: usize, colour: u8) {
    let sixel = |x: usize| (0..rows).filter(|row| band[row * width + x] == colour).fold(0u8, |bits, row| bits | 1 << row);
    let mut x = 0;
    while x < width {
        let bits = sixel(x);
        let run = (x..width).take_while(|n| sixel(*n) == bits).count();
        // What is empty up to the end need not be said.
        if bits == 0 && x + run == width {
            return;
        }
        let c = char::from(0x3f + bits);
        if run > 3 {
            let _ = write!(out, "!{run}{c}");
        } else {
            (0..run).for_each(|_| out.push(c));
        }
        x += run;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Reads what was written: pixels by their palette colour, in percent.
    fn decode(text: &str) -> Vec<Vec<[usize; 3]>> {
        let body = text.strip_prefix("\x1bP0;1;0q").and_then(|t| t.strip_suffix("\x1b\\")).expect("framed");
        let numbers = |rest: &mut std::iter::Peekable<std::str::Chars<'_>>| {
            let mut all = vec![0usize];
            while let Some(c) = rest.next_if(|c| c.is_ascii_digit() || *c == ';') {
                match c.to_digit(10) {
                    Some(d) => *all.last_mut().expect("one") = all.last().expect("one") * 10 + d as usize,
                    None => all.push(0),
                }
            }
            all
        };
        let (mut rest, mut palette) = (body.chars().peekable(), std::collections::HashMap::new());
        let (mut x, mut top, mut colour) = (0, 0, 0);
        let mut pixels: Vec<Vec<[usize; 3]>> = Vec::new();
        while let Some(c) = rest.next() {
            let mut run = 1;
            let mut sixel = Some(c);
            match c {
                '"' => {
                    let n = numbers(&mut rest);
                    pixels = vec![vec![[999; 3]; n[2]]; n[3]];
                    sixel = None;
                }
                '#' => {
                    let n = numbers(&mut rest);
                    if n.len() == 5 {
                        palette.insert(n[0], [n[2], n[3], n[4]]);
                    }
                    (colour, sixel) = (n[0], None);
                }
                '!' => {
                    run = numbers(&mut rest)[0];
                    sixel = rest.next();
                }
                '$' => (x, sixel) = (0, None),
                '-' => (x, top, sixel) = (0, top + BAND, None),
                _ => {}
            }
            let Some(bits) = sixel.map(|c| c as usize - 0x3f) else { continue };
            for _ in 0..run {
                (0..BAND).filter(|row| bits >> row & 1 == 1).for_each(|row| pixels[top + row][x] = palette[&colour]);
                x += 1;
            }
        }
        pixels
    }

    #[test]
    fn every_pixel_is_drawn_in_about_its_colour() {
        // Red above, a grey of 40 % below; scaled up, and not a multiple of a band.
        let rgb = (0..4 * 4).flat_map(|n| if n < 8 { [255, 0, 0] } else { [102, 102, 102] }).collect();
        let still = Still { width: 4, height: 4, rgb, source: (4, 4) };
        let pixels = decode(&encode(&still, 22, 20));
        assert_eq!((pixels.len(), pixels[0].len()), (20, 22));
        assert!(pixels[..10].iter().flatten().all(|p| *p == [100, 0, 0]), "{pixels:?}");
        let grey: usize = pixels[10..].iter().flatten().map(|p| p[0]).sum();
        assert!((grey as f64 / 220.0 - 40.0).abs() < 1.0, "{grey}");
        assert_eq!(decode(&encode(&still, 1, 1)).len(), 1);
    }

    #[test]
    fn what_lies_between_two_steps_is_dithered_to_its_mean() {
        let still = Still { width: 1, height: 1, rgb: vec![128, 64, 200], source: (1, 1) };
        let pixels = decode(&encode(&still, 64, 60));
        for (channel, wanted) in [(0, 50.2), (1, 25.1), (2, 78.4)] {
            let mean = pixels.iter().flatten().map(|p| p[channel]).sum::<usize>() as f64 / (64.0 * 60.0);
            assert!((mean - wanted).abs() < 2.0, "{channel}: {mean}");
        }
    }
}
