//! Access units in time: decoding times, stamps that cannot be corrected, sound that follows on,
//! and a clock that runs with the sender's. What comes out can be handed on as it is, or written as
//! a transport stream ([`crate::mux`]).

use crate::{
    audio::{PCM_SAMPLE, ST302_RATE, Upsampler, decode_g711, fit_channels, st302_channels, st302_frame},
    media::{Codec, MediaUnit},
    stamps::{Checked, StampGuard},
    ts::{LongPts, PCR_EVERY, PTS_WRAP, StreamKind, Timed, TimedUnit, UnitFormat, sound_ticks, wrapped_distance},
};
use bytes::Bytes;
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

/// Between clock references when no unit comes: 40 ms are allowed, the rest is for timers that ring
/// late.
const CLOCK_EVERY: Duration = Duration::from_millis(30);
/// The least delay of the last so many seconds is what the clock follows.
const WINDOW: Duration = Duration::from_secs(5);
/// One tick of correction for so many of time: 200 ppm, twice what crystals are off.
const SLEW: i64 = 5000;
/// Units behind the clock in a row after which it is set anew.
const LATE_MAX: u32 = 8;
/// How far units may run ahead of the clock (500 ms, 27 MHz), beyond the lead.
const AHEAD_MAX: i64 = 13_500_000;
/// Sound may overlap by this much for rounding (5 ms, 90 kHz); further back than the other (2 s) it
/// has a clock of its own.
const SOUND_ROUNDING: i64 = 450;
const SOUND_BACK_MAX: i64 = 180_000;
/// Pictures that may be shown in another order than they come.
const REORDER_MAX: usize = 16;
/// Pictures after which an order that has not been seen since is forgotten.
const ORDER_MEMORY: u32 = 100;

/// One track to take.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SequencedTrack {
    /// Its place in the session.
    pub track: usize,
    /// What it carries.
    pub codec: Codec,
}

/// Gives decoding times to pictures whose order of coming is that of decoding (ISO 13818-1,
/// 2.4.3.7).
#[derive(Debug, Default)]
struct DecodeOrder {
    /// Presentation times of the last pictures, in order.
    recent: Vec<i64>,
    depth: usize,
    /// Pictures since that depth was last needed.
    unneeded: u32,
    step: Option<i64>,
    last: Option<i64>,
}

impl DecodeOrder {
    /// The decoding time of the next picture: with pictures out of order by `n`, the presentation
    /// time that `n` of those seen come after, so that it grows and never passes its own. `None`
    /// when there is no such time: the first picture out of order in a stream that had not said
    /// there would be any.
    fn dts(&mut self, pts: i64, declared: Option<u8>) -> Option<i64> {
        let at = self.recent.partition_point(|p| *p < pts);
        let ahead = self.recent.len() - at;
        let needed = usize::from(declared.unwrap_or(0)).max(ahead).min(REORDER_MAX);
        self.unneeded = if needed >= self.depth { 0 } else { self.unneeded + 1 };
        if needed > self.depth || self.unneeded > ORDER_MEMORY {
            (self.depth, self.unneeded) = (needed, 0);
        }
        if let Some(before) = at.checked_sub(1).and_then(|i| self.recent.get(i)) {
            let step = pts - before;
            self.step = Some(self.step.map_or(step, |s| s.min(step))).filter(|s| *s > 0);
        }
        self.recent.insert(at, pts);
        if self.recent.len() > 2 * REORDER_MAX {
            self.recent.remove(0);
        }
        let dts = match self.recent.len().checked_sub(self.depth + 1) {
            Some(i) => self.recent[i],
            // The first pictures: as many steps before as are still to come.
            None => self.recent[0] - (self.depth + 1 - self.recent.len()) as i64 * self.step.unwrap_or(1500),
        };
        let dts = self.last.map_or(dts, |l| dts.max(l + 1));
        if dts > pts {
            return None;
        }
        self.last = Some(dts);
        Some(dts)
    }
}

impl DecodeOrder {
    /// The decoding time that came with a picture, as far as it can be: it grows, and does not pass
    /// the presentation's.
    fn given(&mut self, pts: i64, dts: i64) -> Option<i64> {
        let dts = self.last.map_or(dts, |l| dts.max(l + 1)).min(pts);
        if self.last.is_some_and(|l| dts <= l) {
            return None;
        }
        self.last = Some(dts);
        Some(dts)
    }
}

/// Follows the sender's clock by the least delayed units.
#[derive(Debug)]
struct Follower {
    start: Instant,
    /// Sender's 27 MHz time less ours.
    offset: i64,
    /// Greatest (that is: least delayed) difference of this and of the last window.
    best: (i64, i64),
    window: Instant,
    slewed: Instant,
}

impl Follower {
    fn new(now: Instant, media: i64) -> Self {
        Self { start: now, offset: media, best: (media, media), window: now, slewed: now }
    }

    fn ours(&self, now: Instant) -> i64 {
        (now.saturating_duration_since(self.start).as_nanos() as i128 * 27 / 1000) as i64
    }

    fn note(&mut self, now: Instant, media: i64) {
        let difference = media - self.ours(now);
        if now.saturating_duration_since(self.window) >= WINDOW {
            self.best = (difference, self.best.0);
            self.window = now;
        }
        self.best.0 = self.best.0.max(difference);
    }

    /// The sender's time now.
    fn at(&mut self, now: Instant) -> i64 {
        let passed = now.saturating_duration_since(self.slewed).as_nanos() as i64 * 27 / 1000;
        let step = passed / SLEW;
        if step > 0 {
            self.slewed = now;
            let target = self.best.0.max(self.best.1);
            self.offset += (target - self.offset).clamp(-step, step);
        }
        self.ours(now) + self.offset
    }
}

#[derive(Debug)]
enum Sound {
    Adts,
    G711 { law: crate::audio::Law, up: Upsampler, frame: u32 },
    Pcm { channels: u8, frame: u32 },
}

impl Sound {
    /// What goes as PCM, in the channels that ST 302 has.
    fn pcm(&mut self, pieces: &[bytes::Bytes]) -> Option<(Vec<u8>, u8, &mut u32)> {
        match self {
            Self::Adts => None,
            Self::G711 { law, up, frame } => {
                let samples = pieces.iter().flatten().map(|b| decode_g711(*law, *b));
                let wide = samples.flat_map(|s| up.push(s)).flat_map(|s| [s, s]);
                Some((wide.flat_map(|s| (i32::from(s) << 16).to_be_bytes()[..PCM_SAMPLE].to_vec()).collect(), 2, frame))
            }
            Self::Pcm { channels, frame } => {
                let carried = st302_channels(*channels);
                let all: Vec<u8> = pieces.iter().flatten().copied().collect();
                Some((fit_channels(&all, *channels, carried), carried, frame))
            }
        }
    }
}

/// Puts the units of one session in time.
#[derive(Debug)]
pub struct Sequencer {
    format: Arc<UnitFormat>,
    video: Option<(usize, Codec)>,
    audio: Option<(usize, Sound)>,
    order: DecodeOrder,
    reorder: Option<u8>,
    clock: Option<Follower>,
    lead: i64,
    late: u32,
    guards: [StampGuard; 2],
    mended: u64,
    moved: u64,
    last_pts: LongPts,
    /// What is handed on says that the clock jumps.
    jump: bool,
    /// The clock as it was last handed on, and at the last reference that a transport stream has of
    /// it.
    told: Option<u64>,
    referred: Option<u64>,
    /// When the sound that has gone out ends, 90 kHz.
    sound_end: Option<i64>,
    next: Option<Instant>,
}

impl Sequencer {
    /// For these tracks: the first of pictures and the first of sound are taken. `lead` is how far
    /// the clock runs behind the sender's pictures: what the network may delay one of them more
    /// than the others.
    #[must_use]
    pub fn new(tracks: &[SequencedTrack], lead: Duration) -> Self {
        let video = tracks.iter().find(|t| t.codec.is_video());
        let audio = tracks.iter().find(|t| matches!(t.codec, Codec::Aac(_) | Codec::G711(_) | Codec::Pcm(_)));
        let kind = |v: &SequencedTrack| if v.codec == Codec::H265 { StreamKind::H265 } else { StreamKind::H264 };
        let sound_kind = |a: &SequencedTrack| if matches!(a.codec, Codec::Aac(_)) { StreamKind::AacAdts } else { StreamKind::St302 };
        let format = UnitFormat { streams: video.map(kind).into_iter().chain(audio.map(sound_kind)).collect() };
        let sound = |a: &SequencedTrack| match a.codec {
            Codec::G711(law) => Sound::G711 { law, up: Upsampler::default(), frame: 0 },
            Codec::Pcm(channels) => Sound::Pcm { channels, frame: 0 },
            _ => Sound::Adts,
        };
        Self {
            format: Arc::new(format),
            video: video.map(|v| (v.track, v.codec.clone())),
            audio: audio.map(|a| (a.track, sound(a))),
            order: DecodeOrder::default(),
            reorder: None,
            clock: None,
            lead: lead.as_nanos() as i64 * 27 / 1000,
            late: 0,
            guards: Default::default(),
            mended: 0,
            moved: 0,
            last_pts: LongPts::default(),
            jump: false,
            told: None,
            referred: None,
            sound_end: None,
            next: None,
        }
    }

    /// What it hands on.
    #[must_use]
    pub fn format(&self) -> &Arc<UnitFormat> {
        &self.format
    }

    /// Units whose time stamp could not be and was corrected.
    #[must_use]
    pub fn mended_stamps(&self) -> u64 {
        self.mended
    }

    /// Times that the sender's clock has moved.
    #[must_use]
    pub fn clock_moves(&self) -> u64 {
        self.moved
    }

    /// Takes a unit that is complete `now`; appends what can be handed on.
    pub fn push(&mut self, now: Instant, unit: &MediaUnit, out: &mut Vec<Timed>) {
        let is_video = self.video.as_ref().is_some_and(|(t, _)| *t == unit.track);
        if !is_video && self.audio.as_ref().is_none_or(|(t, _)| *t != unit.track) {
            return;
        }
        // A wrap up front: what is decoded before the first picture is shown has a time too.
        let pts = self.last_pts.long(unit.pts) + PTS_WRAP as i64;
        if is_video && unit.keyframe {
            self.learn_order(unit);
        }
        let Some(pts) = self.check(now, pts, is_video) else { return };
        if !is_video && !self.sounds_on(pts, unit) {
            return;
        }
        let dts = match unit.dts {
            Some(dts) if is_video => self.order.given(pts, pts - wrapped_distance(unit.pts, dts, PTS_WRAP)),
            None if is_video => self.order.dts(pts, self.reorder),
            _ => Some(pts),
        };
        let Some(dts) = dts else { return };
        if !self.run_clock(now, dts, is_video) {
            return;
        }
        let wrap = |t: i64| t.rem_euclid(PTS_WRAP as i64) as u64;
        let dts = Some(wrap(dts)).filter(|d| *d != wrap(pts));
        if let Some((pcm, channels, frame)) = self.audio.as_mut().filter(|_| !is_video).and_then(|(_, sound)| sound.pcm(&unit.pieces)) {
            // A PES packet's length has 16 bits.
            let most = ST302_RATE as usize / 50 * usize::from(channels) * PCM_SAMPLE;
            let parts: Vec<Bytes> = pcm.chunks(most).map(|part| st302_frame(part, channels, frame).into()).collect();
            for (n, data) in parts.into_iter().enumerate() {
                let pts = wrap(pts + n as i64 * 90_000 / 50);
                self.hand_on(now, TimedUnit { kind: StreamKind::St302, pts, dts: None, keyframe: true, pieces: vec![data] }, out);
            }
        } else {
            let kind = if is_video { self.format.video() } else { self.format.audio() };
            let Some(kind) = kind else { return };
            let unit = TimedUnit { kind, pts: wrap(pts), dts, keyframe: unit.keyframe, pieces: unit.pieces.clone() };
            self.hand_on(now, unit, out);
        }
    }

    fn hand_on(&mut self, now: Instant, unit: TimedUnit, out: &mut Vec<Timed>) {
        let clock = self.told.unwrap_or(0);
        // A transport stream has a reference with each picture, and otherwise when one is due.
        let leads = unit.kind.is_video() || self.video.is_none();
        let due = |last: u64| clock > last && (unit.kind.is_video() || clock >= last + PCR_EVERY);
        if leads && self.referred.is_none_or(due) {
            (self.referred, self.next) = (Some(clock), Some(now + CLOCK_EVERY));
        }
        out.push(Timed { clock, jump: std::mem::take(&mut self.jump), unit: Some(unit) });
    }

    /// Sets the clock on. It never goes back.
    fn clock_to(&mut self, clock: i64) {
        let clock = clock.max(0) as u64;
        self.told = Some(self.told.map_or(clock, |c| c.max(clock)));
    }

    /// Sets the clock to any time, and says so.
    fn jump_to(&mut self, clock: i64) {
        (self.told, self.referred, self.jump) = (Some(clock.max(0) as u64), None, true);
    }

    /// Keeps the clock coming while no unit does.
    pub fn handle_timeout(&mut self, now: Instant, out: &mut Vec<Timed>) {
        if self.next.is_some_and(|at| at <= now)
            && let Some(clock) = &mut self.clock
        {
            let time = clock.at(now) - self.lead;
            self.clock_to(time);
            self.next = Some(now + CLOCK_EVERY);
            self.referred = self.told;
            out.push(Timed { clock: self.told.unwrap_or(0), jump: std::mem::take(&mut self.jump), unit: None });
        }
    }

    /// When to call `handle_timeout`.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.next
    }

    /// Whether sound at `pts` follows on what was: where the clocks of picture and sound are
    /// brought together it may step back under what has gone out, and what lies there already is
    /// left out.
    fn sounds_on(&mut self, pts: i64, unit: &MediaUnit) -> bool {
        let overlaps = self.sound_end.is_some_and(|end| (end - SOUND_BACK_MAX..end - SOUND_ROUNDING).contains(&pts));
        if !overlaps {
            let aac = matches!(self.audio, Some((_, Sound::Adts)));
            let ticks = if aac { sound_ticks(StreamKind::AacAdts, &unit.joined()) } else { None };
            self.sound_end = Some(pts + ticks.map_or(1 + SOUND_ROUNDING, |t| t as i64));
        }
        !overlaps
    }

    /// The time of a unit, corrected if it cannot be; `None` for sound whose time cannot be.
    fn check(&mut self, now: Instant, pts: i64, is_video: bool) -> Option<i64> {
        let reorder = if is_video { self.reorder } else { Some(0) };
        match self.guards[usize::from(is_video)].check(now, pts, reorder) {
            Checked::Good(pts) => Some(pts),
            Checked::Mended(mended) => {
                self.mended += 1;
                is_video.then_some(mended)
            }
            Checked::Moved(pts) => {
                let leads = is_video || self.video.is_none();
                if leads {
                    // What comes has a clock of its own, which the next reference announces.
                    (self.order, self.moved) = (DecodeOrder::default(), self.moved + 1);
                    self.clock = Some(Follower::new(now, pts * 300));
                    self.jump_to(pts * 300 - self.lead);
                }
                Some(pts)
            }
        }
    }

    /// Sets the clock for a unit due at `dts`; false when the unit is of no use.
    fn run_clock(&mut self, now: Instant, dts: i64, is_video: bool) -> bool {
        let media = dts * 300;
        // The leader sets the pace; sound alone leads where there is no picture.
        let leads = is_video || self.video.is_none();
        if self.clock.is_none() && !leads {
            return false;
        }
        let clock = self.clock.get_or_insert_with(|| Follower::new(now, media));
        if leads {
            clock.note(now, media);
        }
        let time = clock.at(now) - self.lead;
        if time > media && leads {
            self.late += 1;
            if self.late >= LATE_MAX {
                // The way has become longer for good: begin anew from here, and say so in the
                // stream.
                *clock = Follower::new(now, media);
                self.late = 0;
                self.jump_to(media - self.lead);
                return true;
            }
        } else if leads {
            self.late = 0;
            // A sender's clock that runs fast is caught up with before a decoder would have to keep
            // too much.
            if media - time > self.lead + AHEAD_MAX {
                *clock = Follower::new(now, media);
                self.moved += 1;
                self.jump_to(media - self.lead);
                return true;
            }
        }
        self.clock_to(time);
        true
    }

    /// How deep pictures are reordered, from the parameter set of a keyframe.
    fn learn_order(&mut self, unit: &MediaUnit) {
        use crate::h26x::{HevcNal, NalKind, parse_hevc_sps, parse_sps};
        let Some((_, codec)) = &self.video else { return };
        // Parameter sets are pieces of their own; only fragments are shared among several.
        for piece in &unit.pieces {
            let format = match (codec, piece.first()) {
                (Codec::H264, Some(b)) if NalKind::of(*b) == NalKind::Sps => parse_sps(piece),
                (Codec::H265, Some(b)) if HevcNal::of(*b) == HevcNal::Sps => parse_hevc_sps(piece),
                _ => continue,
            };
            if let Some(format) = format {
                self.reorder = format.reorder;
                return;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]

    use super::*;

    #[test]
    fn decoding_times_grow_and_never_pass_their_pictures() {
        // I P B B P B B by decoding; shown I B B P B B P. What is not declared costs the first
        // ones.
        for (order, declared, lost) in [
            (vec![0i64, 3, 1, 2, 6, 4, 5, 9, 7, 8], Some(1), 0),
            (vec![0, 3, 1, 2, 6, 4, 5, 9, 7, 8], None, 2),
            (vec![0, 4, 2, 1, 3, 8, 6, 5, 7], Some(2), 0),
            ((0..90).collect(), Some(0), 0),
        ] {
            let mut o = DecodeOrder::default();
            let (mut last, mut none) = (i64::MIN, 0);
            for n in order {
                let pts = 900_000 + n * 3600;
                let Some(dts) = o.dts(pts, declared) else {
                    none += 1;
                    continue;
                };
                assert!(dts <= pts && dts > last, "{n}: {dts} after {last}, shown at {pts}");
                assert!(declared != Some(0) || dts == pts);
                last = dts;
            }
            assert_eq!(none, lost);
        }
    }

    #[test]
    fn the_clock_runs_with_the_sender() {
        let start = Instant::now();
        for ppm in [0.0, 80.0, -80.0] {
            let mut f = Follower::new(start, 27_000_000);
            let mut worst: f64 = 0.0;
            for n in 1..25 * 600u64 {
                let t = n as f64 / 25.0;
                let sender = 27_000_000 + (t * 27e6 * (1.0 + ppm / 1e6)) as i64;
                // Up to 12 ms of delay, in a pattern.
                let now = start + Duration::from_secs_f64(t + (n * 7 % 13) as f64 / 1000.0);
                f.note(now, sender);
                let off = (f.at(now) - sender) as f64 / 27_000.0;
                if n > 1000 {
                    worst = worst.max((off - (n * 7 % 13) as f64).abs());
                }
            }
            assert!(worst < 1.5, "{worst} ms at {ppm} ppm");
        }
    }
}
