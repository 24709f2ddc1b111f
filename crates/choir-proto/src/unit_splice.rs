//! Joins the access units of several sources into one sequence that never jumps, for those who take
//! units as they are.
//!
//! A take waits for a keyframe of the wanted source. Pictures of the old one that are shown before
//! one that has gone out are still awaited; the times of the new one are moved so that they go on
//! from the old one's, and its sound begins where the old one's ends.

use crate::ts::{
    AccessUnit, Cut, PTS_WRAP, SoundEnd, SourceKey,
    limits::{BACK_MAX, CLOSE_MAX_US, FOLLOWS_MAX, SILENT_US, SOUND_MAX_US, SOUND_SPARE_REORDERED, SOUND_WAIT_US, STEP_MIN},
    sound_after, wrapped_distance,
};
use std::collections::VecDeque;

/// Units of sound that are kept: more than are sent in the time for which sound is kept.
const SOUND_MAX: usize = 512;
/// Units kept from the keyframe on while the old source ends.
const HELD_MAX: usize = 256;

/// What a source has sent just now, as far as one that comes on needs it.
#[derive(Debug, Clone, Default)]
pub struct UnitPreroll {
    /// It has begun with the take and comes on with its first keyframe, whatever its sound.
    whole: bool,
    /// When its first unit came, µs.
    since: Option<i64>,
    sound: VecDeque<(i64, AccessUnit)>,
}

impl UnitPreroll {
    /// Of a clip that begins with a take: nothing of it is to be missed.
    #[must_use]
    pub fn whole() -> Self {
        Self { whole: true, ..Self::default() }
    }

    /// Takes a unit that came at `now` (µs on a clock that never steps).
    pub fn push(&mut self, now: i64, unit: &AccessUnit) {
        self.since.get_or_insert(now);
        if unit.kind.is_audio() {
            self.sound.push_back((now, unit.clone()));
            while self.sound.len() > SOUND_MAX || self.sound.front().is_some_and(|(at, _)| now - at > SOUND_MAX_US) {
                self.sound.pop_front();
            }
        }
    }
}

/// How far what goes out reaches, 90 kHz.
#[derive(Debug, Default)]
struct Reach {
    dts: Option<u64>,
    /// When that went out, µs.
    at: i64,
    step: Option<i64>,
    pts: Option<u64>,
    /// Pictures are shown in another order than they come.
    reorders: bool,
    sound_end: Option<SoundEnd>,
}

impl Reach {
    fn note(&mut self, now: i64, leads: bool, unit: &AccessUnit) {
        let Some(pts) = unit.pts else { return };
        if unit.kind.is_audio() {
            self.sound_end = SoundEnd::of(unit.kind, pts, &unit.data).or(Some(SoundEnd { at: pts, ..SoundEnd::default() }));
        }
        if !leads {
            return;
        }
        let dts = unit.dts.unwrap_or(pts);
        self.step = self.dts.map(|last| wrapped_distance(dts, last, PTS_WRAP)).filter(|s| (1..BACK_MAX).contains(s));
        (self.dts, self.at) = (Some(dts), now);
        match self.pts {
            Some(last) if (-BACK_MAX..0).contains(&wrapped_distance(pts, last, PTS_WRAP)) => self.reorders = true,
            _ => self.pts = Some(pts),
        }
    }
}

#[derive(Debug)]
struct OnAir {
    key: SourceKey,
    has_video: bool,
    has_audio: bool,
    /// Added to its times, 90 kHz.
    shift: u64,
    /// Its sound begins here, after a cut.
    floor: Option<SoundEnd>,
}

impl OnAir {
    fn of(key: SourceKey, first: &AccessUnit, shift: u64, floor: Option<SoundEnd>) -> Self {
        Self { key, has_video: has_video(first), has_audio: has_audio(first), shift, floor }
    }
}

/// A source that has its keyframe, and what has come of it since.
#[derive(Debug)]
struct Next {
    key: SourceKey,
    since: i64,
    preroll: UnitPreroll,
    held: Vec<AccessUnit>,
}

/// One sequence of units made of one source at a time.
#[derive(Debug, Default)]
pub struct UnitSplicer {
    on: Option<OnAir>,
    next: Option<Next>,
    reach: Reach,
}

impl UnitSplicer {
    /// What is on.
    #[must_use]
    pub fn on(&self) -> Option<SourceKey> {
        self.on.as_ref().map(|o| o.key)
    }

    /// This line is on, or kept back until it is: what comes of it must not be left out.
    #[must_use]
    pub fn holds(&self, line: u32) -> bool {
        self.on.iter().map(|o| o.key).chain(self.next.iter().map(|n| n.key)).any(|key| key.line == line)
    }

    /// Takes a unit of a source that came at `now` (µs on a clock that never steps); appends what
    /// goes out, and gives the cut if one was made. `preroll` is what the source sent before.
    ///
    /// The line that is `wanted` comes on at its next keyframe, the first one at once.
    pub fn push(
        &mut self,
        wanted: Option<u32>,
        key: SourceKey,
        now: i64,
        unit: &AccessUnit,
        preroll: &UnitPreroll,
        out: &mut Vec<AccessUnit>,
    ) -> Option<Cut> {
        let Some(on) = &self.on else {
            if Some(key.line) != wanted {
                return None;
            }
            self.on = Some(OnAir::of(key, unit, 0, None));
            self.give(now, unit, out);
            return Some(Cut { to: key });
        };
        self.next.take_if(|n| !n.key.may_follow(on.key, wanted));
        if on.key == key {
            let ends = self.next.is_some() && unit.kind.is_video() && !self.is_behind(unit);
            if !ends {
                self.give(now, unit, out);
            }
            return self.next.take_if(|n| ends || now - n.since > CLOSE_MAX_US).map(|n| self.cut(now, n, out));
        }
        match &mut self.next {
            Some(next) if next.key == key => {
                if next.held.len() < HELD_MAX {
                    next.held.push(unit.clone());
                }
            }
            _ => {
                let enters = if has_video(unit) { unit.kind.is_video() && unit.keyframe } else { unit.kind.is_audio() };
                if enters && key.may_follow(on.key, wanted) && unit.pts.is_some_and(|pts| self.may_enter(key, now, pts, unit, preroll)) {
                    self.next = Some(Next { key, since: now, preroll: preroll.clone(), held: vec![unit.clone()] });
                }
            }
        }
        // An earlier session of the same line has ended, and pictures in order have nothing left to
        // come.
        let (at_once, on) = (!self.reach.reorders, on.key.line);
        self.next
            .take_if(|n| at_once || n.key.line == on || now - n.since > CLOSE_MAX_US || n.held.len() >= HELD_MAX)
            .map(|n| self.cut(now, n, out))
    }

    /// A source's keyframe goes by when its sound begins later than the old one's ends, and it is
    /// so young that it will have more.
    fn may_enter(&self, key: SourceKey, now: i64, pts: u64, unit: &AccessUnit, preroll: &UnitPreroll) -> bool {
        let Some((on, end)) = self.on.as_ref().zip(self.reach.sound_end.as_ref()) else { return true };
        let is_old = preroll.whole || now - preroll.since.unwrap_or(now) >= SOUND_WAIT_US;
        let dead = on.key.line == key.line || now - self.reach.at > SILENT_US;
        if is_old || dead || !on.has_audio || !has_video(unit) || !has_audio(unit) {
            return true;
        }
        let shift = self.place(now, now, unit.dts.unwrap_or(pts), pts, false);
        let spare = if self.reach.reorders { SOUND_SPARE_REORDERED } else { 0 };
        let start = preroll.sound.front().and_then(|(_, sound)| sound.pts);
        start.is_some_and(|start| wrapped_distance((start + shift) % PTS_WRAP, end.at, PTS_WRAP) <= -spare)
    }

    /// A picture of what is on that is shown before one that has gone out.
    fn is_behind(&self, unit: &AccessUnit) -> bool {
        let shift = self.on.as_ref().map_or(0, |o| o.shift);
        unit.pts.zip(self.reach.pts).is_some_and(|(pts, last)| wrapped_distance((pts + shift) % PTS_WRAP, last, PTS_WRAP) < 0)
    }

    fn cut(&mut self, now: i64, next: Next, out: &mut Vec<AccessUnit>) -> Cut {
        let old = self.on.take();
        let first = &next.held[0];
        let pts = first.pts.unwrap_or(0);
        let dts = first.dts.unwrap_or(pts);
        let follows = old.is_some_and(|old| old.key.line == next.key.line);
        let shift = self.place(now, next.since, dts, pts, follows);
        // Without sound so far the new one's may begin with its picture.
        let floor = self.reach.sound_end.clone().or(Some(SoundEnd { at: (pts + shift) % PTS_WRAP, ..SoundEnd::default() }));
        (self.reach.step, self.reach.reorders) = (None, false);
        self.on = Some(OnAir::of(next.key, first, shift, floor));
        let sound = next.preroll.sound.iter().map(|(_, unit)| unit);
        sound.chain(&next.held).for_each(|unit| self.give(now, unit, out));
        Cut { to: next.key }
    }

    /// What is added to the times of a source whose first unit came at `came`.
    fn place(&self, now: i64, came: i64, dts: u64, pts: u64, follows: bool) -> u64 {
        let Some(last) = self.reach.dts else { return 0 };
        let passed = (came.min(now) - self.reach.at).max(0) * 9 / 100;
        let mut expected = last as i64 + passed;
        if let Some(step) = self.reach.step.filter(|step| follows && (passed - step).abs() <= FOLLOWS_MAX) {
            expected = last as i64 + step;
        }
        let shift = (expected - dts as i64).rem_euclid(PTS_WRAP as i64) as u64;
        let missing =
            |time: u64, last: Option<u64>| last.map_or(0, |last| wrapped_distance(last, (time + shift) % PTS_WRAP, PTS_WRAP) + STEP_MIN);
        (shift + missing(dts, self.reach.dts).max(missing(pts, self.reach.pts)).max(0) as u64) % PTS_WRAP
    }

    /// Hands a unit of what is on out, in the times of the output.
    fn give(&mut self, now: i64, unit: &AccessUnit, out: &mut Vec<AccessUnit>) {
        let Some(on) = &mut self.on else { return };
        let moved = |time: Option<u64>| time.map(|t| (t + on.shift) % PTS_WRAP);
        let unit = AccessUnit { pts: moved(unit.pts), dts: moved(unit.dts), ..unit.clone() };
        let leads = unit.kind.is_video() || !on.has_video;
        let floor = on.floor.take_if(|_| unit.kind.is_audio() && unit.pts.is_some());
        let Some(floor) = floor else {
            self.reach.note(now, leads, &unit);
            return out.push(unit);
        };
        let from = out.len();
        out.extend(sound_after(&floor, &unit));
        if out.len() == from {
            on.floor = Some(floor);
        }
        out[from..].iter().for_each(|unit| self.reach.note(now, leads, unit));
    }
}

/// Its source has sound.
fn has_audio(unit: &AccessUnit) -> bool {
    unit.format.streams.iter().any(|s| s.is_audio())
}

/// Its source has pictures, so that it can only come on with one of them.
fn has_video(unit: &AccessUnit) -> bool {
    unit.format.video().is_some()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        audio::AacConfig,
        ts::{StreamKind, UnitFormat},
    };
    use bytes::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    /// A source: when each unit comes, µs.
    #[derive(Debug, Clone)]
    struct Make {
        first: u64,
        frame: u64,
        gop: u64,
        /// Pictures that are shown before the one they follow.
        b: u64,
        sound_ahead: i64,
        phase: i64,
    }

    fn format() -> Arc<UnitFormat> {
        Arc::new(UnitFormat { streams: vec![StreamKind::H264, StreamKind::AacAdts] })
    }

    fn sound(pts: u64) -> AccessUnit {
        let config = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
        let data: Bytes = config.adts_header(4).expect("fits").into_iter().chain([0; 4]).collect::<Vec<u8>>().into();
        AccessUnit {
            pid: 0x101,
            kind: StreamKind::AacAdts,
            pts: Some(pts % PTS_WRAP),
            dts: None,
            keyframe: true,
            arrived: 0,
            data,
            format: format(),
        }
    }

    fn picture(dts: u64, pts: u64, keyframe: bool, mark: u8) -> AccessUnit {
        let data = Bytes::copy_from_slice(&[mark]);
        let (dts, pts) = (dts % PTS_WRAP, pts % PTS_WRAP);
        AccessUnit {
            pid: 0x100,
            kind: StreamKind::H264,
            pts: Some(pts),
            dts: Some(dts).filter(|d| *d != pts),
            keyframe,
            arrived: 0,
            data,
            format: format(),
        }
    }

    /// Three seconds and some, in order of arrival.
    fn units(make: &Make, mark: u8) -> Vec<(i64, AccessUnit)> {
        let mut all = Vec::new();
        for n in 0..300_000 / make.frame {
            // The first of each group is a reference that comes before those shown before it.
            let (group, place) = (make.b + 1, n % (make.b + 1));
            let shown = if make.b == 0 || n % make.gop == 0 {
                n
            } else if place == 1 % group {
                n + make.b - 1
            } else {
                n - 1
            };
            let at = (n * make.frame * 100 / 9) as i64 + make.phase;
            all.push((at, picture(make.first + n * make.frame, make.first + (shown + 1) * make.frame, n % make.gop == 0, mark)));
        }
        for n in 0..150u64 {
            let pts = make.first + n * 1920;
            all.push(((n * 1920 * 100 / 9) as i64 + make.phase - make.sound_ahead * 100 / 9, sound(pts)));
        }
        all.sort_by_key(|(at, _)| *at);
        all
    }

    fn make() -> impl Strategy<Value = Make> {
        (
            0..PTS_WRAP,
            prop::sample::select(vec![1800u64, 3600, 3003]),
            5u64..40,
            prop::sample::select(vec![0u64, 2]),
            -9000i64..20_000,
            0i64..200_000,
        )
            .prop_map(|(first, frame, gop, b, sound_ahead, phase)| Make {
                first,
                frame,
                gop: gop / (b + 1) * (b + 1) + (b + 1),
                b,
                sound_ahead,
                phase,
            })
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, cases: 300, ..ProptestConfig::default() })]

        #[test]
        fn whatever_is_taken_goes_on_in_time(makes in [make(), make()], takes in prop::collection::vec(0i64..3_000_000, 1..6)) {
            let mut all: Vec<(i64, usize, AccessUnit)> = Vec::new();
            for (line, make) in makes.iter().enumerate() {
                all.extend(units(make, line as u8).into_iter().map(|(at, u)| (at, line, u)));
            }
            all.sort_by_key(|(at, line, _)| (*at, *line));
            let mut takes: Vec<(i64, u32)> = takes.into_iter().map(|at| (at, 0)).collect();
            takes.sort_unstable();
            takes.iter_mut().enumerate().for_each(|(n, t)| t.1 = (n as u32 + 1) % 2);
            let mut takes = takes.into_iter().peekable();
            let (mut splicer, mut wanted, mut out, mut cuts) = (UnitSplicer::default(), Some(0), Vec::new(), 0);
            let mut prerolls = [UnitPreroll::default(), UnitPreroll::default()];
            for (at, line, unit) in &all {
                while let Some((_, to)) = takes.next_if(|(t, _)| t <= at) {
                    wanted = Some(to);
                }
                let key = SourceKey { line: *line as u32, session: 1 };
                let cut = splicer.push(wanted, key, *at, unit, &prerolls[*line], &mut out);
                prerolls[*line].push(*at, unit);
                cuts += u32::from(cut.is_some());
            }
            prop_assert!(cuts >= 1);
            let pictures: Vec<&AccessUnit> = out.iter().filter(|u| u.kind.is_video()).collect();
            for w in pictures.windows(2) {
                let time = |u: &AccessUnit| u.dts.or(u.pts).unwrap_or(0);
                prop_assert!((1..90_000).contains(&wrapped_distance(time(w[1]), time(w[0]), PTS_WRAP)), "{:?} after {:?}", w[1], w[0]);
                prop_assert!(w[0].data == w[1].data || w[1].keyframe, "another source begins with a keyframe");
            }
            let mut latest: Option<u64> = None;
            for (n, u) in pictures.iter().enumerate() {
                let pts = u.pts.unwrap_or(0);
                let ahead = latest.map_or(1, |l| wrapped_distance(pts, l, PTS_WRAP));
                prop_assert!(n == 0 || pictures[n - 1].data == u.data || ahead > 0, "another source begins {ahead} behind what was shown");
                latest = if ahead > 0 { Some(pts) } else { latest };
            }
            for w in out.iter().filter(|u| u.kind.is_audio()).collect::<Vec<_>>().windows(2) {
                let step = wrapped_distance(w[1].pts.unwrap_or(0), w[0].pts.unwrap_or(0), PTS_WRAP);
                prop_assert!(step >= 1920 - 2, "sound overlaps: {step}");
            }
        }
    }

    #[test]
    fn pictures_that_are_still_to_come_are_awaited() {
        let mut splicer = UnitSplicer::default();
        let key = |line, session| SourceKey { line, session };
        let preroll = UnitPreroll::default();
        let mut out = Vec::new();
        // I, P, then the two that are shown before it.
        for (n, shown) in [0u64, 3, 1, 2, 6].into_iter().enumerate() {
            splicer.push(
                Some(0),
                key(0, 1),
                n as i64 * 40_000,
                &picture(n as u64 * 3600, (shown + 1) * 3600, n == 0, 0),
                &preroll,
                &mut out,
            );
        }
        let first = picture(9_000_000, 9_003_600, true, 1);
        assert!(splicer.push(Some(1), key(1, 1), 170_000, &first, &preroll, &mut out).is_none(), "two of the old are still to be shown");
        assert!(splicer.push(Some(1), key(0, 1), 200_000, &picture(5 * 3600, 5 * 3600, false, 0), &preroll, &mut out).is_none());
        assert!(splicer.push(Some(1), key(0, 1), 240_000, &picture(6 * 3600, 6 * 3600, false, 0), &preroll, &mut out).is_none());
        assert_eq!(
            splicer.push(Some(1), key(0, 1), 280_000, &picture(7 * 3600, 10 * 3600, false, 0), &preroll, &mut out),
            Some(Cut { to: key(1, 1) })
        );
        assert_eq!(out.iter().map(|u| u.data[0]).collect::<Vec<_>>(), [0, 0, 0, 0, 0, 0, 0, 1]);
        // A line that starts again follows by itself, one picture on.
        let again = picture(77, 77 + 3600, true, 2);
        let last = out[7].dts.unwrap_or(0);
        assert_eq!(splicer.push(Some(1), key(1, 2), 330_000, &again, &preroll, &mut out), Some(Cut { to: key(1, 2) }));
        assert!(wrapped_distance(out[8].dts.unwrap_or(0), last, PTS_WRAP) > 0);
        // An older session and a line that is not wanted are not heard.
        for late in [key(1, 1), key(0, 1)] {
            assert_eq!(splicer.push(Some(1), late, 340_000, &first, &preroll, &mut out), None);
        }
        assert_eq!(out.len(), 9);
    }

    #[test]
    fn sound_alone_can_be_taken() {
        let (mut splicer, mut out) = (UnitSplicer::default(), Vec::new());
        let preroll = UnitPreroll::default();
        let alone = |pts| AccessUnit { format: Arc::new(UnitFormat { streams: vec![StreamKind::AacAdts] }), ..sound(pts) };
        for n in 0..10u64 {
            splicer.push(Some(0), SourceKey { line: 0, session: 1 }, n as i64 * 21_333, &alone(n * 1920), &preroll, &mut out);
        }
        for n in 10..20u64 {
            splicer.push(Some(1), SourceKey { line: 1, session: 1 }, n as i64 * 21_333, &alone(500_000 + n * 1920), &preroll, &mut out);
        }
        assert_eq!(splicer.on(), Some(SourceKey { line: 1, session: 1 }));
        let steps: Vec<i64> = out.windows(2).map(|w| wrapped_distance(w[1].pts.unwrap_or(0), w[0].pts.unwrap_or(0), PTS_WRAP)).collect();
        assert!(out.len() >= 19 && steps.iter().all(|s| (1918..4000).contains(s)), "{steps:?}");
    }

    #[test]
    fn a_young_source_comes_on_with_its_sound() {
        let old = Make { first: 0, frame: 3600, gop: 1000, b: 0, sound_ahead: 0, phase: 0 };
        // It begins at 1 s. Its sound comes 400 ms behind its pictures, and is not there yet at its
        // first keyframe.
        let new = Make { first: 7_000_000, gop: 10, sound_ahead: -36_000, phase: 1_000_000, ..old.clone() };
        let mut all: Vec<(i64, u32, AccessUnit)> = Vec::new();
        for (line, make) in [(0, &old), (1, &new)] {
            all.extend(units(make, line as u8).into_iter().map(|(at, unit)| (at, line, unit)));
        }
        all.sort_by_key(|(at, line, _)| (*at, *line));
        let (mut splicer, mut out, mut cuts) = (UnitSplicer::default(), Vec::new(), Vec::new());
        let mut prerolls = [UnitPreroll::default(), UnitPreroll::default()];
        for (at, line, unit) in &all {
            let (wanted, preroll) = (Some(u32::from(*at > 900_000)), &mut prerolls[*line as usize]);
            let cut = splicer.push(wanted, SourceKey { line: *line, session: 1 }, *at, unit, preroll, &mut out);
            cuts.extend(cut.filter(|_| *line == 1).map(|_| *at));
            preroll.push(*at, unit);
        }
        assert_eq!(cuts, [1_800_000], "the keyframes at 1.0 and 1.4 s go by");
        let sounds: Vec<u64> = out.iter().filter(|u| u.kind.is_audio()).filter_map(|u| u.pts).collect();
        let steps = sounds.windows(2).map(|w| wrapped_distance(w[1], w[0], PTS_WRAP));
        assert!(steps.clone().all(|s| (1918..2 * 1920).contains(&s)), "{:?}", steps.collect::<Vec<_>>());
    }
}
