//! A feed whose sound is not simply that of its picture: it comes from one fixed line, comes later,
//! or there is none. Then pictures and sound are put together unit by unit, and a transport stream
//! is made of them where somebody wants one.
//!
//! What arrives together is shown and heard together: how far the times of each source are ahead
//! of its arrival is followed, and the difference is what sound is moved by. A sound line with
//! pictures is moved as these would be, so that its own sound stays with its own picture.

use super::OwnClock;
use bytes::Bytes;
use choir_proto::{
    media::Media,
    mux::ToTs,
    ts::{AccessUnit, PTS_WRAP, SoundEnd, Timed, TimedUnit, UnitFormat, sound_after, wrapped_distance},
};
use std::{collections::VecDeque, sync::Arc};

/// Sound is moved anew when it is off by more than this (40 ms, 90 kHz).
const OFF_MOST: i64 = 3600;
/// µs.
const SECOND: i64 = 1_000_000;
/// A jump of times (2 s, 90 kHz).
const JUMP: i64 = 180_000;
/// Units of sound that may wait for their time.
const WAITING_MOST: usize = 1024;
/// Ticks by which the ends of sound units may be rounded.
const ROUNDING: i64 = 2;

/// Where a feed's sound comes from, and how much later.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SoundChoice {
    /// Where from.
    pub from: SoundFrom,
    /// µs.
    pub delay: i64,
}

/// Where a feed's sound comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SoundFrom {
    /// From the line that is on.
    #[default]
    Picture,
    /// From this line, whatever is on.
    Line(u32),
    /// From nowhere.
    Nothing,
}

impl SoundChoice {
    /// Nothing is to be put together.
    pub fn is_plain(&self) -> bool {
        *self == Self::default()
    }
}

/// How far the times of a source are ahead of their arrival: of the last seconds those count that
/// came with the least delay.
#[derive(Debug, Default)]
struct Lead {
    /// Of this second and of the one before, 90 kHz.
    best: [Option<u64>; 2],
    /// When this second began, µs.
    since: i64,
}

impl Lead {
    fn note(&mut self, time: u64, now: i64) {
        if now - self.since >= SECOND {
            (self.best, self.since) = ([None, self.best[0]], now);
        }
        let now = (now * 9 / 100).rem_euclid(PTS_WRAP as i64) as u64;
        let new = (time + PTS_WRAP - now) % PTS_WRAP;
        let far = |best: u64| wrapped_distance(new, best, PTS_WRAP).abs() > JUMP;
        if self.best.iter().flatten().any(|best| far(*best)) {
            self.best = [None; 2];
        }
        self.best[0] = Some(self.best[0].map_or(new, |best| later(best, new)));
    }

    fn get(&self) -> Option<u64> {
        self.best.into_iter().flatten().reduce(later)
    }
}

fn later(a: u64, b: u64) -> u64 {
    if wrapped_distance(b, a, PTS_WRAP) > 0 { b } else { a }
}

/// Puts pictures and sound together.
#[derive(Default)]
pub(super) struct Compose {
    choice: SoundChoice,
    format: Arc<UnitFormat>,
    /// Of pictures as they go out, and of the sound line.
    pictures: Lead,
    sound: Lead,
    /// Session of the sound line, and what is added to its times.
    moved: Option<(u32, u64)>,
    /// Where the sound that has gone out ends.
    end: Option<SoundEnd>,
    waiting: VecDeque<(i64, AccessUnit)>,
    clock: OwnClock,
    to_ts: ToTs,
}

impl Compose {
    pub fn new(choice: SoundChoice) -> Self {
        Self { choice, ..Self::default() }
    }

    pub fn choice(&self) -> SoundChoice {
        self.choice
    }

    /// Sound comes from this line, whatever is on.
    pub fn hears(&self, line: u32) -> bool {
        self.choice.from == SoundFrom::Line(line)
    }

    /// Takes what the splicer of pictures gives at `now`.
    pub fn spliced(&mut self, now: i64, unit: AccessUnit, out: &mut Vec<AccessUnit>) {
        if unit.kind.is_video() {
            if let Some(time) = unit.dts.or(unit.pts) {
                self.pictures.note(time, now);
            }
            self.give(unit, out);
        } else if self.choice.from == SoundFrom::Picture {
            let ticks = (self.choice.delay * 9 / 100) as u64;
            self.later(now, AccessUnit { pts: unit.pts.map(|t| (t + ticks) % PTS_WRAP), ..unit });
        }
        self.release(now, out);
    }

    /// Takes a unit of the sound line in its session.
    pub fn heard(&mut self, now: i64, session: u32, unit: &AccessUnit, out: &mut Vec<AccessUnit>) {
        let has_pictures = unit.format.video().is_some();
        if let Some(time) = unit.dts.or(unit.pts).filter(|_| unit.kind.is_video() || !has_pictures) {
            self.sound.note(time, now);
        }
        if let (true, Some(by), Some(pts)) = (unit.kind.is_audio(), self.moved_by(session), unit.pts) {
            self.later(now, AccessUnit { pts: Some((pts + by) % PTS_WRAP), dts: None, ..unit.clone() });
        }
        self.release(now, out);
    }

    /// What is added to the times of the sound line; none before a picture has gone out.
    fn moved_by(&mut self, session: u32) -> Option<u64> {
        let (pictures, sound) = (self.pictures.get()?, self.sound.get()?);
        let wanted = (pictures + PTS_WRAP - sound + (self.choice.delay * 9 / 100) as u64) % PTS_WRAP;
        let kept = self.moved.filter(|(of, by)| *of == session && wrapped_distance(wanted, *by, PTS_WRAP).abs() <= OFF_MOST);
        let (_, by) = *self.moved.insert(kept.unwrap_or((session, wanted)));
        Some(by)
    }

    fn later(&mut self, now: i64, unit: AccessUnit) {
        if self.waiting.len() == WAITING_MOST {
            self.waiting.pop_front();
        }
        self.waiting.push_back((now + self.choice.delay, unit));
    }

    /// Sound whose time has come: without overlap, and holes that no ear would miss are filled.
    fn release(&mut self, now: i64, out: &mut Vec<AccessUnit>) {
        while self.waiting.front().is_some_and(|(due, _)| *due <= now) {
            let Some((_, unit)) = self.waiting.pop_front() else { return };
            let Some(pts) = unit.pts else { continue };
            let hole = self.end.as_ref().map_or(0, |end| wrapped_distance(pts, end.at, PTS_WRAP));
            let joined: Vec<AccessUnit> = match &self.end {
                // What goes on, and what begins anew, goes as it is.
                Some(end) if !(-ROUNDING..=ROUNDING).contains(&hole) && hole > -JUMP => sound_after(end, &unit).collect(),
                _ => vec![unit],
            };
            if let Some((last, at)) = joined.last().and_then(|last| Some((last, last.pts?))) {
                self.end = SoundEnd::of(last.kind, at, &last.data);
            }
            joined.into_iter().for_each(|unit| self.give(unit, out));
        }
    }

    fn give(&mut self, unit: AccessUnit, out: &mut Vec<AccessUnit>) {
        if !self.format.streams.contains(&unit.kind) {
            // One stream of pictures, and one of sound behind it.
            let is_video = unit.kind.is_video();
            let mut streams: Vec<_> = self.format.streams.iter().copied().filter(|kind| kind.is_video() != is_video).collect();
            streams.insert(if is_video { 0 } else { streams.len() }, unit.kind);
            self.format = Arc::new(UnitFormat { streams });
        }
        out.push(AccessUnit { format: self.format.clone(), ..unit });
    }

    /// What goes out as part of a transport stream.
    pub fn ts(&mut self, now: i64, unit: &AccessUnit) -> Bytes {
        let Some(pts) = unit.pts else { return Bytes::new() };
        let time = unit.dts.unwrap_or(pts);
        let (clock, jump) = self.clock.tick(now, time, unit.kind.is_video());
        let pieces = vec![unit.data.clone()];
        let made = TimedUnit { kind: unit.kind, pts, dts: unit.dts, keyframe: unit.keyframe, pieces };
        self.to_ts.push(&Media::Units(unit.format.clone(), Timed { clock, jump, unit: Some(made) }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_proto::{audio::aac_silence, ts::StreamKind};

    const SETS: &[u8] = &[0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];
    const FRAME: u64 = 3600;
    const AAC: u64 = 1920;

    fn unit(kind: StreamKind, pts: u64, streams: &[StreamKind]) -> AccessUnit {
        let picture = || [SETS, &[0, 0, 0, 1, 0x65, 0x88]].concat();
        let data = if kind.is_video() { picture() } else { aac_silence(48_000, 2) };
        let format = Arc::new(UnitFormat { streams: streams.to_vec() });
        AccessUnit { pid: 256, kind, pts: Some(pts % PTS_WRAP), dts: None, keyframe: true, arrived: 0, data: data.into(), format }
    }

    /// Ten seconds of pictures that begin at `pictures`, and of a sound line whose times begin at
    /// `sound` and that comes `late` µs after its time; gives all that goes out with its time.
    fn run(choice: SoundChoice, pictures: u64, sound: u64, late: impl Fn(u64) -> i64) -> Vec<(i64, AccessUnit)> {
        let both = [StreamKind::H264, StreamKind::AacAdts];
        let mut all: Vec<(i64, Option<u32>, AccessUnit)> = Vec::new();
        for n in 0..250 {
            all.push((n as i64 * 40_000, None, unit(StreamKind::H264, pictures + n * FRAME, &both)));
        }
        for n in 0..470 {
            let at = (n * AAC * 100 / 9) as i64;
            all.push((at, None, unit(StreamKind::AacAdts, pictures + n * AAC, &both)));
            all.push((at + late(n), Some(1), unit(StreamKind::AacAdts, sound + n * AAC, &both[1..])));
        }
        all.sort_by_key(|(at, ..)| *at);
        let (mut compose, mut out) = (Compose::new(choice), Vec::new());
        for (at, session, unit) in all {
            let mut given = Vec::new();
            match session {
                Some(session) if matches!(choice.from, SoundFrom::Line(_)) => compose.heard(at, session, &unit, &mut given),
                Some(_) => {}
                None => compose.spliced(at, unit, &mut given),
            }
            out.extend(given.into_iter().map(|u| (at, u)));
        }
        out
    }

    fn sounds(out: &[(i64, AccessUnit)]) -> Vec<(i64, u64)> {
        out.iter().filter(|(_, u)| u.kind.is_audio()).filter_map(|(at, u)| Some((*at, u.pts?))).collect()
    }

    #[test]
    fn sound_of_a_fixed_line_is_heard_with_what_is_shown_when_it_arrives() {
        // Times over the wrap, and arrival that spreads.
        for (pictures, sound) in [(900_000, 5_000_000), (PTS_WRAP - 100_000, 77), (4, PTS_WRAP - 200_000)] {
            let choice = SoundChoice { from: SoundFrom::Line(1), delay: 0 };
            let out = run(choice, pictures, sound, |n| (n as i64 * 7919) % 15_000);
            let heard = sounds(&out);
            assert!(heard.len() > 460, "{}", heard.len());
            for pair in heard.windows(2) {
                let step = wrapped_distance(pair[1].1, pair[0].1, PTS_WRAP);
                assert!((step - AAC as i64).abs() <= ROUNDING, "{step} ticks from one to the next");
            }
            for (at, pts) in &heard {
                let shown = (pictures + (*at * 9 / 100) as u64) % PTS_WRAP;
                let off = wrapped_distance(*pts, shown, PTS_WRAP);
                assert!(off.abs() < 2700, "off by {} ms at {at}", off / 90);
            }
        }
    }

    #[test]
    fn sound_that_is_late_on_its_way_or_missing_is_made_up_for() {
        let choice = SoundChoice { from: SoundFrom::Line(1), delay: 0 };
        // From the 200th frame on it comes 300 ms later: another path.
        let heard = sounds(&run(choice, 0, 0, |n| if n < 200 { 0 } else { 300_000 }));
        let mut end = heard[0].1;
        for (_, pts) in &heard {
            let hole = wrapped_distance(*pts, end, PTS_WRAP);
            assert!((-ROUNDING..AAC as i64).contains(&hole), "a hole of {hole} ticks");
            end = pts + AAC;
        }
        let (at, pts) = *heard.last().expect("sound");
        let off = wrapped_distance(pts, (at * 9 / 100) as u64, PTS_WRAP);
        assert!(off.abs() < 4500, "{} ms off in the end", off / 90);
    }

    #[test]
    fn it_comes_later_by_what_is_set_or_not_at_all() {
        let delayed = sounds(&run(SoundChoice { from: SoundFrom::Picture, delay: 400_000 }, 0, 0, |_| 0));
        assert_eq!(delayed[0].1, 36_000);
        assert!(delayed.iter().all(|(at, pts)| (*at * 9 / 100 - *pts as i64).abs() < 3700), "sent when it is due");
        let off = run(SoundChoice { from: SoundFrom::Nothing, delay: 0 }, 0, 0, |_| 0);
        assert!(sounds(&off).is_empty() && off.len() == 250 && off[0].1.format.audio().is_none());
    }

    #[test]
    fn the_transport_stream_made_of_it_is_legal() {
        use choir_proto::ts::{Origin, TsChecker};
        let choice = SoundChoice { from: SoundFrom::Line(1), delay: 120_000 };
        let out = run(choice, 900_000, 5_000_000, |n| (n as i64 * 7919) % 15_000);
        let (mut compose, mut checker) = (Compose::new(choice), TsChecker::new(Origin::Start));
        // The format is known once sound is there.
        for (at, unit) in out.iter().filter(|(_, u)| u.format.streams.len() == 2) {
            checker.push(&compose.ts(*at, unit));
        }
        checker.finish(false);
        let found: Vec<String> = checker.findings().iter().filter(|f| !f.minor).map(|f| format!("{f:?}")).collect();
        assert!(found.is_empty(), "{found:?}");
    }
}
