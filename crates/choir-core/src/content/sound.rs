//! What some sound shows: levels, clipping, phase.

use super::{ContentFault, Says};
use std::time::Duration;

/// Peaks below this are silence, dBFS: what a converter without a source gives.
pub const SILENT_DBFS: f64 = -60.0;
/// Once silent, a channel needs so much more to count as sound.
const SURE_DB: f64 = 6.0;
/// A channel is missed when another has so much more than silence.
const OTHER_DB: f64 = 20.0;
/// From this on a sample is at full scale.
const FULL: f32 = 0.999;
/// Samples in a row at full scale, for the sound to be cut off.
const RUN: u32 = 3;
/// Times in one second.
const CLIPS: f64 = 4.0;
/// Correlation of two channels: below, they cancel each other out; above, they do not.
const PHASE: (f64, f64) = (-0.7, -0.3);
/// Phase says something from this peak on, dBFS.
const PHASE_DBFS: f64 = -45.0;

/// What was measured of some sound.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SoundMeasure {
    /// How long it was.
    pub length: Duration,
    /// Highest sample of each channel, dBFS.
    pub peaks: Vec<f64>,
    /// Times that a channel stayed at full scale.
    pub clips: u32,
    /// Of two channels: 1 for the same, -1 for opposite, 0 for nothing in common.
    pub correlation: Option<f64>,
}

impl SoundMeasure {
    /// Measures samples of all channels in turn, from -1 to 1.
    #[must_use]
    pub fn of(samples: &[f32], channels: usize, rate: u32) -> Self {
        let channels = channels.max(1);
        let frames = samples.len() / channels;
        let (mut peaks, mut runs, mut clips) = (vec![0f32; channels], vec![0u32; channels], 0);
        let (mut ab, mut aa, mut bb) = (0f64, 0f64, 0f64);
        for frame in samples.chunks_exact(channels) {
            for (n, s) in frame.iter().enumerate() {
                peaks[n] = peaks[n].max(s.abs());
                runs[n] = if s.abs() >= FULL { runs[n] + 1 } else { 0 };
                clips += u32::from(runs[n] == RUN);
            }
            if let [a, b] = frame {
                let (a, b) = (f64::from(*a), f64::from(*b));
                (ab, aa, bb) = (ab + a * b, aa + a * a, bb + b * b);
            }
        }
        let db = |p: f32| if p > 0.0 { (20.0 * f64::from(p).log10()).max(-120.0) } else { -120.0 };
        let correlation = (channels == 2 && aa > 0.0 && bb > 0.0).then(|| ab / (aa * bb).sqrt());
        let length = Duration::from_secs_f64(frames as f64 / f64::from(rate.max(1)));
        Self { length, peaks: peaks.into_iter().map(db).collect(), clips, correlation }
    }

    pub(super) fn silent(&self, quiet: f64) -> Says {
        let most = self.peaks.iter().copied().fold(f64::MIN, f64::max);
        Says::of(ContentFault::Silent, most < quiet, most > quiet + SURE_DB)
    }

    pub(super) fn channel_silent(&self, quiet: f64) -> Says {
        let most = self.peaks.iter().copied().fold(f64::MIN, f64::max);
        // In a pause of all channels nothing is missing, nor found again.
        if most < quiet + OTHER_DB {
            return if most < quiet { Says::Good } else { Says::Between };
        }
        let missing = self.peaks.iter().position(|p| *p < quiet);
        let good = self.peaks.iter().all(|p| *p > quiet + SURE_DB);
        Says::of(ContentFault::ChannelSilent(missing.map_or(0, |n| n as u8 + 1)), missing.is_some(), good)
    }

    pub(super) fn clipped(&self) -> Says {
        let per_second = f64::from(self.clips) / self.length.as_secs_f64().max(0.1);
        Says::of(ContentFault::Clipped, per_second >= CLIPS, self.clips == 0)
    }

    pub(super) fn out_of_phase(&self) -> Says {
        let Some(c) = self.correlation else { return Says::Good };
        if self.peaks.iter().any(|p| *p < PHASE_DBFS) {
            return Says::Between;
        }
        Says::of(ContentFault::OutOfPhase, c < PHASE.0, c > PHASE.1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    fn sound(left: f64, right: f64) -> SoundMeasure {
        let samples: Vec<f32> = (0..48_000)
            .flat_map(|n| {
                let s = (TAU * 1000.0 * f64::from(n) / 48_000.0 + 0.1).sin();
                [(s * left).clamp(-1.0, 1.0) as f32, (s * right).clamp(-1.0, 1.0) as f32]
            })
            .collect();
        SoundMeasure::of(&samples, 2, 48_000)
    }

    fn faults(m: &SoundMeasure) -> Vec<ContentFault> {
        let all = [m.silent(SILENT_DBFS), m.channel_silent(SILENT_DBFS), m.clipped(), m.out_of_phase()];
        all.into_iter().filter_map(|s| if let Says::Bad(f) = s { Some(f) } else { None }).collect()
    }

    #[test]
    fn each_fault_of_sound_is_told_and_no_other() {
        for (left, right, wanted) in [
            (0.1, 0.1, vec![]),
            (0.1, 0.02, vec![]),
            (0.99, 0.99, vec![]),
            (0.0, 0.0, vec![ContentFault::Silent]),
            (0.0005, 0.0005, vec![ContentFault::Silent]),
            (0.1, 0.0, vec![ContentFault::ChannelSilent(2)]),
            (0.0002, 0.3, vec![ContentFault::ChannelSilent(1)]),
            (2.0, 2.0, vec![ContentFault::Clipped]),
            (0.3, -0.2, vec![ContentFault::OutOfPhase]),
            // Quiet in both: nothing to judge.
            (0.002, 0.0, vec![]),
        ] {
            assert_eq!(faults(&sound(left, right)), wanted, "{left} and {right}");
        }
    }

    #[test]
    fn levels_are_those_of_the_samples() {
        let m = sound(0.5, 0.05);
        assert!((m.peaks[0] + 6.02).abs() < 0.05 && (m.peaks[1] + 26.02).abs() < 0.05, "{:?}", m.peaks);
        assert_eq!((m.length, m.clips), (Duration::from_secs(1), 0));
        assert!(m.correlation.is_some_and(|c| (c - 1.0).abs() < 1e-6));
        assert_eq!(SoundMeasure::of(&[0.0; 480], 1, 48_000).peaks, [-120.0]);
        assert_eq!(SoundMeasure::of(&[], 2, 0).peaks, [-120.0, -120.0]);
    }
}
