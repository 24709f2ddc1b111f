//! What pictures and sound of a line show that they should not: black, frozen, bars, silence. Pure:
//! whoever decodes hands in measurements, and gets faults with the time since when.

mod freeze;
mod limits;
mod picture;
mod same;
mod sound;

pub use freeze::{Freeze, UnitSize, difference};
pub use limits::{ContentLimits, WATCHED, Watched};
pub use picture::{PictureMeasure, Pixels};
pub use same::{Glimpse, SamePictures};
pub use sound::{SILENT_DBFS, SoundMeasure};

use std::time::Duration;

/// What is wrong with the picture or the sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ContentFault {
    /// The picture is black.
    Black,
    /// The picture is of one colour.
    Flat,
    /// The picture is colour bars.
    Bars,
    /// The picture does not move at all, not even by noise.
    Frozen,
    /// No channel has sound.
    Silent,
    /// This channel, from 1, has no sound, and another has.
    ChannelSilent(u8),
    /// The sound is cut off at full scale.
    Clipped,
    /// The two channels cancel each other out in mono.
    OutOfPhase,
    /// Sound and picture that belong together come too far apart: by so many ms, sound later if
    /// positive.
    Apart(i32),
}

impl ContentFault {
    /// A fixed word, for scripts.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Black => "black",
            Self::Flat => "flat",
            Self::Bars => "bars",
            Self::Frozen => "frozen",
            Self::Silent => "silent",
            Self::ChannelSilent(_) => "channel-silent",
            Self::Clipped => "clipped",
            Self::OutOfPhase => "out-of-phase",
            Self::Apart(_) => "apart",
        }
    }

    /// It is in the sound.
    #[must_use]
    pub const fn is_sound(self) -> bool {
        matches!(self, Self::Silent | Self::ChannelSilent(_) | Self::Clipped | Self::OutOfPhase | Self::Apart(_))
    }

    /// The same fault, maybe with other numbers.
    #[must_use]
    pub fn is_like(self, other: Self) -> bool {
        std::mem::discriminant(&self) == std::mem::discriminant(&other)
    }
}

/// What one measurement says of one fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Says {
    /// It is there.
    Bad(ContentFault),
    /// Neither clearly there nor clearly gone: what held goes on.
    Between,
    /// It is not there.
    Good,
}

impl Says {
    /// Bad on one side of a limit, good beyond another.
    fn of(fault: ContentFault, bad: bool, good: bool) -> Self {
        match (bad, good) {
            (true, _) => Self::Bad(fault),
            (false, true) => Self::Good,
            (false, false) => Self::Between,
        }
    }
}

/// One kind of fault over time.
#[derive(Debug, Clone, Copy, Default)]
struct Hold {
    seen: Option<(ContentFault, Duration)>,
}

impl Hold {
    fn note(&mut self, since: Duration, says: Says) {
        match says {
            Says::Bad(fault) => self.seen = Some((fault, self.seen.map_or(since, |(_, first)| first.min(since)))),
            Says::Between => {}
            Says::Good => self.seen = None,
        }
    }
}

/// Follows the content of one line.
#[derive(Debug, Clone, Default)]
pub struct ContentWatch {
    limits: ContentLimits,
    holds: [Hold; WATCHED.len()],
}

impl ContentWatch {
    /// By these limits.
    #[must_use]
    pub fn new(limits: ContentLimits) -> Self {
        Self { limits, ..Self::default() }
    }

    /// Other limits from now on.
    pub fn set_limits(&mut self, limits: ContentLimits) {
        self.limits = limits;
    }

    /// Takes what was measured of a picture that was taken at `now` (any clock that only grows).
    pub fn picture(&mut self, now: Duration, m: &PictureMeasure) {
        self.note(Watched::Black, now, m.black());
        self.note(Watched::Flat, now, m.flat());
        self.note(Watched::Bars, now, m.bars());
    }

    /// Takes since when the picture has not changed; `None` while it moves.
    pub fn frozen(&mut self, since: Option<Duration>) {
        // A picture of one colour or of bars says so already.
        let plain = [Watched::Black, Watched::Flat, Watched::Bars].iter().any(|w| self.holds[*w as usize].seen.is_some());
        match since.filter(|_| !plain) {
            Some(since) => self.note(Watched::Frozen, since, Says::Bad(ContentFault::Frozen)),
            None => self.note(Watched::Frozen, Duration::ZERO, Says::Good),
        }
    }

    /// Takes what was measured of the sound that came up to `now`.
    pub fn sound(&mut self, now: Duration, m: &SoundMeasure) {
        let since = now.saturating_sub(m.length);
        let quiet = self.limits.silence_dbfs;
        self.note(Watched::Silence, since, m.silent(quiet));
        self.note(Watched::Channel, since, m.channel_silent(quiet));
        self.note(Watched::Clipping, since, m.clipped());
        self.note(Watched::Phase, since, m.out_of_phase());
    }

    /// Takes how much later sound comes than the picture it belongs to, ms.
    pub fn apart(&mut self, now: Duration, ms: i32) {
        let most = self.limits.apart_ms;
        let says = Says::of(ContentFault::Apart(ms), ms.abs() > most, ms.abs() < most * 3 / 4);
        self.note(Watched::Apart, now, says);
    }

    /// The line has begun anew: what was seen says nothing.
    pub fn restart(&mut self) {
        self.holds = <[Hold; WATCHED.len()]>::default();
    }

    fn note(&mut self, what: Watched, since: Duration, says: Says) {
        self.holds[what as usize].note(since, says);
    }

    /// What is wrong, and since when: the picture's first.
    #[must_use]
    pub fn faults(&self, now: Duration) -> Vec<(ContentFault, Duration)> {
        let told = |what: &Watched| {
            let (fault, since) = self.holds[*what as usize].seen?;
            let hold = self.limits.hold(*what)?;
            (now.saturating_sub(since) >= hold).then_some((fault, since))
        };
        WATCHED.iter().filter_map(told).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ms(n: u64) -> Duration {
        Duration::from_millis(n)
    }

    fn grey(value: u8) -> Vec<u8> {
        vec![value; 64 * 36 * 3]
    }

    fn of(rgb: &[u8]) -> PictureMeasure {
        PictureMeasure::of(Pixels { width: 64, height: 36, rgb })
    }

    fn noisy() -> Vec<u8> {
        (0..64 * 36 * 3).map(|n| ((n * 2_654_435_761_usize) >> 7) as u8).collect()
    }

    #[test]
    fn a_fault_is_told_after_its_hold_with_the_time_it_began() {
        let mut watch = ContentWatch::default();
        watch.picture(ms(1000), &of(&noisy()));
        watch.picture(ms(2000), &of(&grey(0)));
        assert_eq!(watch.faults(ms(2100)), [], "one black picture may be a cut");
        watch.picture(ms(3000), &of(&grey(0)));
        assert_eq!(watch.faults(ms(3000)), [(ContentFault::Black, ms(2000))]);
        // Between the two limits nothing changes: no flicker.
        watch.picture(ms(4000), &of(&grey(30)));
        assert_eq!(watch.faults(ms(4000)), [(ContentFault::Black, ms(2000))]);
        watch.picture(ms(5000), &of(&noisy()));
        assert_eq!(watch.faults(ms(9000)), []);
    }

    #[test]
    fn what_the_sheet_switches_off_is_not_told() {
        let mut limits = ContentLimits::default();
        limits.set_hold(Watched::Black, None);
        limits.set_hold(Watched::Frozen, Some(ms(10_000)));
        let mut watch = ContentWatch::new(limits);
        watch.picture(ms(0), &of(&grey(0)));
        assert_eq!(watch.faults(ms(60_000)), []);
        watch.picture(ms(0), &of(&noisy()));
        watch.frozen(Some(ms(1000)));
        assert_eq!(watch.faults(ms(10_900)), []);
        assert_eq!(watch.faults(ms(11_000)), [(ContentFault::Frozen, ms(1000))]);
        watch.frozen(None);
        assert_eq!(watch.faults(ms(20_000)), []);
    }

    #[test]
    fn a_plain_picture_is_not_called_frozen_as_well() {
        let mut watch = ContentWatch::default();
        watch.picture(ms(0), &of(&grey(0)));
        watch.frozen(Some(ms(0)));
        assert_eq!(watch.faults(ms(5000)), [(ContentFault::Black, ms(0))]);
    }

    #[test]
    fn sound_far_from_its_picture_is_told_with_how_far() {
        let mut watch = ContentWatch::default();
        watch.apart(ms(0), 1200);
        watch.apart(ms(2000), 1250);
        assert_eq!(watch.faults(ms(2000)), [(ContentFault::Apart(1250), ms(0))]);
        watch.apart(ms(3000), -60);
        assert_eq!(watch.faults(ms(3000)), []);
    }
}
