//! G.711 to linear samples, and from its 8 kHz to 48.

/// Which of the two laws.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Law {
    /// RTP payload type 0.
    Mu,
    /// RTP payload type 8.
    A,
}

impl std::fmt::Display for Law {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(if *self == Self::Mu { "µ-law" } else { "A-law" })
    }
}

/// One sample (ITU-T G.711, tables 1 and 2), as 16 bits.
#[must_use]
pub const fn decode(law: Law, byte: u8) -> i16 {
    match law {
        Law::Mu => {
            let u = !byte;
            let magnitude = ((((u & 0x0F) as i16) << 3) + 0x84) << (u >> 4 & 7);
            if u & 0x80 != 0 { 0x84 - magnitude } else { magnitude - 0x84 }
        }
        Law::A => {
            let a = byte ^ 0x55;
            let (segment, step) = (a >> 4 & 7, ((a & 0x0F) as i16) << 4);
            let magnitude = if segment == 0 { step + 8 } else { (step + 0x108) << (segment - 1) };
            if a & 0x80 != 0 { magnitude } else { -magnitude }
        }
    }
}

/// Taps that one output sample is made of.
const TAPS: usize = 16;
/// From 8 to 48 kHz.
const FACTOR: usize = 6;

/// Makes six samples of one: a windowed sinc that keeps what is below 3.6 kHz.
#[derive(Debug, Clone)]
pub struct Upsampler {
    past: [f32; TAPS],
    filter: Vec<[f32; TAPS]>,
}

impl Default for Upsampler {
    fn default() -> Self {
        let centre = TAPS as f32 / 2.0;
        let mut filter = vec![[0.0; TAPS]; FACTOR];
        for (phase, taps) in filter.iter_mut().enumerate() {
            for (i, tap) in taps.iter_mut().enumerate() {
                let x = i as f32 + phase as f32 / FACTOR as f32 - centre + 1.0 / FACTOR as f32;
                let sinc = if x.abs() < 1e-6 { 1.0 } else { (std::f32::consts::PI * x).sin() / (std::f32::consts::PI * x) };
                let window = 0.5 + 0.5 * (std::f32::consts::PI * x / (centre + 1.0)).cos();
                *tap = sinc * window;
            }
            let sum: f32 = taps.iter().sum();
            taps.iter_mut().for_each(|t| *t /= sum);
        }
        Self { past: [0.0; TAPS], filter }
    }
}

impl Upsampler {
    /// The six samples that follow this one.
    pub fn push(&mut self, sample: i16) -> [i16; FACTOR] {
        self.past.rotate_right(1);
        self.past[0] = f32::from(sample);
        let mut out = [0; FACTOR];
        for (o, taps) in out.iter_mut().zip(&self.filter) {
            let sum: f32 = self.past.iter().zip(taps).map(|(p, t)| p * t).sum();
            *o = sum.round().clamp(f32::from(i16::MIN), f32::from(i16::MAX)) as i16;
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ends_of_both_laws_are_where_the_tables_have_them() {
        assert_eq!([0xFF, 0x7F, 0x80, 0x00].map(|b| decode(Law::Mu, b)), [0, 0, 32124, -32124]);
        assert_eq!([0xD5, 0x55, 0xAA, 0x2A].map(|b| decode(Law::A, b)), [8, -8, 32256, -32256]);
    }

    #[test]
    fn a_tone_keeps_its_pitch_and_level() {
        let mut up = Upsampler::default();
        let tone = |n: usize, rate: f32| (n as f32 * 1000.0 / rate * std::f32::consts::TAU).sin() * 10_000.0;
        let out: Vec<i16> = (0..800).flat_map(|n| up.push(tone(n, 8000.0) as i16)).collect();
        // After the filter has filled, the best match is a pure delay.
        let error =
            |delay: usize| -> f32 { (1000..4000).map(|n| (f32::from(out[n]) - tone(n - delay, 48_000.0)).powi(2)).sum::<f32>() / 3000.0 };
        let best = (0..96).map(error).fold(f32::MAX, f32::min).sqrt();
        assert!(best < 200.0, "{best} of 10000");
    }
}
