//! What a line's stream shows, as it is read: the newest keyframe, sizes of pictures, and sound.

use super::{
    reader::{Follows, Reader},
    sound::SoundMeter,
};
use crate::{
    media::RecentSent,
    seen::{Seen, steady_time},
    still::Still,
};
use choir_core::content::{Freeze, UnitSize, difference};
use choir_host::clock::steady_us;
use choir_proto::{
    h26x::{HevcNal, NalKind, nal_units},
    ts::{AccessUnit, PTS_WRAP, StreamKind, wrapped_distance},
};

/// Pictures kept behind a keyframe: a decoder may hold some back.
const BEHIND: usize = 7;
/// Pictures are looked at in this size, where they are larger.
pub(super) const SMALL: (usize, usize) = (320, 180);
/// Of the sound's and the picture's time stamps, as far as they may be apart to belong together.
const APART_MOST: i64 = 90_000 * 10;

/// What is known of one line's stream.
#[derive(Default)]
pub(super) struct Follower {
    reader: Reader,
    /// The newest keyframe and some pictures behind it.
    group: Vec<AccessUnit>,
    /// It has been decoded, or cannot be.
    done: bool,
    pixels: usize,
    freeze: Freeze,
    luma: Vec<u8>,
    sound: Option<SoundMeter>,
    /// How much later than its time stamp the promptest unit came since the last time, 90 kHz:
    /// picture, sound.
    late: [Option<i64>; 2],
    /// Of the first picture: all are told against it.
    base: Option<(u64, i64)>,
    anew: bool,
}

impl Follower {
    pub fn place(&self) -> Option<(u32, u64)> {
        self.reader.place()
    }

    /// Takes what has come.
    fn take(&mut self, recent: RecentSent) {
        let (follows, units) = self.reader.follow(recent);
        if follows != Follows::On {
            let before = std::mem::take(self);
            (self.reader, self.anew) = (before.reader, before.anew || follows == Follows::Anew);
            if follows == Follows::Gap {
                (self.sound, self.luma, self.freeze, self.pixels) = (before.sound, before.luma, before.freeze, before.pixels);
            }
        }
        if units.iter().any(|u| u.keyframe && u.kind.is_video()) {
            self.pixels = self.reader.pixels().unwrap_or(self.pixels);
        }
        units.iter().for_each(|u| self.unit(u));
    }

    fn unit(&mut self, unit: &AccessUnit) {
        let place = usize::from(!unit.kind.is_video());
        if unit.kind.is_video() {
            if unit.keyframe {
                (self.group, self.done) = (vec![unit.clone()], false);
            } else if (1..=BEHIND).contains(&self.group.len()) {
                self.group.push(unit.clone());
            }
            let size = UnitSize { keyframe: unit.keyframe, slices: slices(unit), pixels: self.pixels };
            self.freeze.unit(steady_time(unit.arrived), size);
        } else if unit.kind.is_audio() {
            SoundMeter::push(&mut self.sound, unit);
        } else {
            return;
        }
        let Some(stamp) = unit.dts.or(unit.pts) else { return };
        let (base, base_at) = *self.base.get_or_insert((stamp, unit.arrived));
        let ahead = wrapped_distance(stamp, base, PTS_WRAP);
        let late = (unit.arrived - base_at) * 9 / 100 - ahead;
        if late.abs() > APART_MOST {
            // The clock has jumped.
            (self.base, self.late) = (Some((stamp, unit.arrived)), [None; 2]);
        } else {
            let promptest = &mut self.late[place];
            *promptest = Some(promptest.map_or(late, |l| l.min(late)));
        }
    }

    /// Takes what has come, and says what has been found.
    pub fn visit(&mut self, recent: RecentSent, seen: &Seen) {
        self.take(recent);
        let now = steady_us();
        if std::mem::take(&mut self.anew) {
            seen.restart();
        }
        if let Some((measure, levels)) = self.sound.as_mut().and_then(SoundMeter::measure) {
            seen.sound(now, &measure, levels);
        }
        if let [Some(picture), Some(sound)] = self.late {
            seen.apart(now, ((sound - picture) / 90) as i32);
            self.late = [None; 2];
        }
        seen.frozen(self.freeze.since());
    }

    /// There is a keyframe that has not been decoded.
    pub fn has_picture(&self) -> bool {
        !self.done && !self.group.is_empty()
    }

    /// Decodes the newest keyframe, and says what it shows.
    pub fn decode(&mut self, seen: &Seen) {
        self.done = true;
        let Some(at) = self.group.first().map(|u| u.arrived) else { return };
        let Some(still) = Still::decode(&self.group, Some(SMALL)) else { return };
        self.pixels = still.source.0 as usize * still.source.1 as usize;
        let luma = still.luma();
        let differs = (luma.len() == self.luma.len()).then(|| difference(&luma, &self.luma, still.width));
        self.luma = luma;
        self.freeze.keyframe(steady_time(at), differs);
        seen.picture(still, at);
        seen.frozen(self.freeze.since());
    }
}

/// Bytes of a unit's slices: what says something of the picture.
fn slices(unit: &AccessUnit) -> usize {
    let is_picture = |nal: &&[u8]| match unit.kind {
        StreamKind::H265 => HevcNal::of(nal[0]).is_picture(),
        _ => NalKind::of(nal[0]).is_picture(),
    };
    nal_units(&unit.data).filter(is_picture).map(<[u8]>::len).sum()
}

/// The newest keyframe and what came behind it, ready for a decoder.
pub(super) fn newest_pictures(recent: RecentSent) -> Vec<AccessUnit> {
    let mut follower = Follower::default();
    follower.take(recent);
    follower.group
}
