//! How long sound lasts, from its bytes, and how sound goes on from other sound: without overlap,
//! with silence where a little is missing, and without a click where it is PCM.

use super::{AccessUnit, PTS_WRAP, StreamKind, wrapped_distance};
use crate::{
    adts,
    audio::{ST302_RATE, aac_silence, st302_join, st302_last, st302_silence, st302_times},
};

/// Ticks by which the ends of sound units may be rounded.
const ROUNDING: i64 = 2;
/// A longer hole is not filled: it is no matter of how two sources are multiplexed (500 ms, 90
/// kHz).
const FILL_MAX: i64 = 45_000;
/// Silence is made in pieces of so many sample times of PCM: 10 ms.
const SILENT_TIMES: i64 = 480;

/// How long the sound in this PES payload lasts, 90 kHz ticks; `None` when its bytes do not tell.
#[must_use]
pub fn sound_ticks(kind: StreamKind, data: &[u8]) -> Option<u64> {
    match kind {
        StreamKind::AacAdts => adts::frames(data).map(|(h, _)| frame_ticks(&h)).reduce(|a, b| a + b).map(f64::round).map(|t| t as u64),
        StreamKind::St302 => Some(pcm_ticks(st302_times(data)? as i64) as u64),
        _ => None,
    }
}

/// So many sample times of PCM, 90 kHz ticks.
fn pcm_ticks(times: i64) -> i64 {
    times * 90_000 / i64::from(ST302_RATE)
}

/// Where sound that has gone out ends.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SoundEnd {
    /// 90 kHz.
    pub at: u64,
    /// Of PCM the values of its last sample time (see [`st302_last`]); else nothing.
    pub last: Vec<i32>,
}

impl SoundEnd {
    /// Of sound that goes out at `pts`; `None` when its bytes do not tell.
    #[must_use]
    pub fn of(kind: StreamKind, pts: u64, data: &[u8]) -> Option<Self> {
        let at = (pts + sound_ticks(kind, data)?) % PTS_WRAP;
        Some(Self { at, last: st302_last(data).filter(|_| kind == StreamKind::St302).unwrap_or_default() })
    }
}

/// One piece of sound with its time, 90 kHz.
pub(super) type Piece = (u64, Vec<u8>);

/// How sound that begins with `data` at `pts` goes on from where other sound ended: silence
/// between, if a little is missing, then what of it is behind that end. `None` when nothing is, or
/// when only a part would be and it cannot be cut; then more may be.
pub(super) fn follow(kind: StreamKind, pts: u64, data: &[u8], end: &SoundEnd) -> Option<(Vec<Piece>, Piece)> {
    let hole = wrapped_distance(pts, end.at, PTS_WRAP);
    if kind != StreamKind::St302 || st302_times(data).is_none() {
        return (hole >= -ROUNDING).then(|| (aac_between(kind, data, end.at, hole), (pts, data.to_vec())));
    }
    if hole <= ROUNDING {
        let skip = (-hole - ROUNDING).max(0) * i64::from(ST302_RATE) / 90_000;
        let rest = st302_join(data, skip as usize, &end.last)?;
        return Some((Vec::new(), ((pts + pcm_ticks(skip) as u64) % PTS_WRAP, rest)));
    }
    let times = if hole > FILL_MAX { 0 } else { hole * i64::from(ST302_RATE) / 90_000 };
    let mut from = &end.last[..];
    let silence = (0..times).step_by(SILENT_TIMES as usize).filter_map(|n| {
        let piece = st302_silence(data, (times - n).min(SILENT_TIMES) as usize, std::mem::take(&mut from))?;
        Some(((end.at + pcm_ticks(n) as u64) % PTS_WRAP, piece))
    });
    Some((silence.collect(), (pts, st302_join(data, 0, &[])?)))
}

/// Frames of silence that fill a hole of so many ticks from `start` to sound that begins with
/// `data`. Nothing where less than a frame is missing, and for sound that no silence is known of.
fn aac_between(kind: StreamKind, data: &[u8], start: u64, hole: i64) -> Vec<Piece> {
    let Some(h) = adts::parse(data).filter(|h| kind == StreamKind::AacAdts && h.samples == 1024 && (1..=2).contains(&h.channels)) else {
        return Vec::new();
    };
    let count = if hole > FILL_MAX { 0 } else { (hole.max(0) as f64 / frame_ticks(&h)) as u64 };
    let frame = aac_silence(h.sample_rate, h.channels);
    (0..count).map(|n| ((start + f64::round(n as f64 * frame_ticks(&h)) as u64) % PTS_WRAP, frame.clone())).collect()
}

/// What goes out of a unit of sound behind sound that ended there, with the silence before it.
/// Nothing of one that overlaps, unless it is PCM: that is cut.
pub fn sound_after(end: &SoundEnd, unit: &AccessUnit) -> impl Iterator<Item = AccessUnit> {
    let followed = unit.pts.and_then(|pts| follow(unit.kind, pts, &unit.data, end));
    let pieces = followed.into_iter().flat_map(|(silence, rest)| silence.into_iter().chain([rest]));
    pieces.map(move |(at, data)| AccessUnit { pts: Some(at), data: data.into(), ..unit.clone() })
}

/// One frame of AAC, 90 kHz ticks.
pub(super) fn frame_ticks(h: &adts::AdtsHeader) -> f64 {
    f64::from(h.samples) * 90_000.0 / f64::from(h.sample_rate)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{st302_frame, st302_samples};

    #[test]
    fn a_hole_is_filled_with_whole_frames_of_silence() {
        let sound = aac_silence(48_000, 2);
        let end = SoundEnd { at: PTS_WRAP - 1000, last: Vec::new() };
        let fill = |hole: u64| {
            let (silence, rest) = follow(StreamKind::AacAdts, (end.at + hole) % PTS_WRAP, &sound, &end).expect("nothing overlaps");
            assert_eq!((rest.0, &rest.1), ((end.at + hole) % PTS_WRAP, &sound));
            silence.iter().for_each(|(_, frame)| assert_eq!(adts::parse(frame), adts::parse(&sound)));
            silence.iter().map(|(at, _)| (at + 1000) % PTS_WRAP).collect::<Vec<_>>()
        };
        assert_eq!((fill(0), fill(1919), fill(1920), fill(5800)), (vec![], vec![], vec![0], vec![0, 1920, 3840]));
        assert!(fill(45_001).is_empty(), "too long");
        assert_eq!(follow(StreamKind::AacAdts, end.at - 50, &sound, &end), None);
        assert_eq!(follow(StreamKind::St302, 5, &[0; 3], &end), Some((vec![], (5, vec![0; 3]))), "what cannot be read goes as it is");
    }

    #[test]
    fn pcm_is_cut_at_samples_and_goes_on_without_a_click() {
        let loud = st302_frame(&vec![0x33; 960 * 2 * 3], 2, &mut 0);
        let end = SoundEnd::of(StreamKind::St302, PTS_WRAP - 900, &loud).expect("PCM");
        assert_eq!((end.at, end.last.len()), (900, 2));
        let times = |piece: &Piece| (piece.0, st302_times(&piece.1).unwrap_or(0));
        let at = |pts| follow(StreamKind::St302, pts, &loud, &end);
        // 10 ms of it overlap.
        let (silence, rest) = at(0).expect("half of it is left");
        assert!(silence.is_empty() && times(&rest) == (896, 482), "{:?}", times(&rest));
        assert_eq!(at(PTS_WRAP - 1000), None, "it has ended before");
        // 25 ms are missing.
        let (silence, rest) = at(900 + 2250).expect("all of it");
        assert_eq!(silence.iter().map(times).collect::<Vec<_>>(), [(900, 480), (1800, 480), (2700, 240)]);
        assert_eq!(times(&rest), (3150, 960));
        let first = |piece: &Piece| st302_samples(&piece.1).map(|(_, samples)| samples[..6].to_vec());
        assert_eq!((first(&silence[0]), first(&silence[1]), first(&rest)), (Some(vec![0x33; 6]), Some(vec![0; 6]), Some(vec![0; 6])));
        assert!(at(900 + 46_000).expect("all of it").0.is_empty(), "too long");
    }

    #[test]
    fn pcm_lasts_as_long_as_its_samples() {
        for (channels, samples) in [(2u8, 960usize), (4, 1920), (8, 48)] {
            let data = st302_frame(&vec![7; samples * usize::from(channels) * 3], channels, &mut 0);
            assert_eq!(sound_ticks(StreamKind::St302, &data), Some(samples as u64 * 90_000 / 48_000), "{channels} channels");
        }
        // 16 bits: ten bytes for two pairs of samples.
        assert_eq!(sound_ticks(StreamKind::St302, &[0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]), Some(2 * 90_000 / 48_000));
        assert_eq!(sound_ticks(StreamKind::St302, &[0, 10, 0]), None);
    }
}
