//! One clock for all tracks of a session: RTP timestamps become 90 kHz presentation times, sound is
//! tied to the picture by the sender's reports (RFC 3550, 6.4.1), and its drift is followed.

use super::NtpTime;
use std::time::{Duration, Instant};

/// Ticks of presentation time.
const CLOCK: i64 = 90_000;
/// A step of the timestamps this far (10 s) from the time that has passed is a new start; a pause
/// is none.
const STEP_MAX: i64 = 10 * CLOCK;
/// Differences above this (100 ms) are mended at once, smaller ones slowly.
const SLEW_MAX: i64 = CLOCK / 10;
/// One tick of correction for so many ticks of media: 0.2 %.
const SLEW: i64 = 500;
/// Reports, or an answer to PLAY, that put sound this far (600 ms) from where it comes beside the
/// picture are wrong: no network delays one of the two that much more for good.
const BELIEF: i64 = CLOCK * 6 / 10;
/// Time over which the leader's clock is held against arrival, and the share that it may be off:
/// network jitter stays below.
const RATE_WINDOW: Duration = Duration::from_secs(10);
const RATE_OFF: f64 = 0.02;

/// One track's clock.
#[derive(Debug, Clone)]
struct TrackClock {
    rate: i64,
    last: Option<(u32, i64)>,
    came: Option<Instant>,
    /// Added to unwrapped time in 90 kHz ticks.
    offset: Option<i64>,
    target: Option<i64>,
    report: Option<(i64, u32)>,
    info: Option<u32>,
    slewed_at: i64,
    /// Where its units come beside the leader's, smoothed: the offset that arrival alone would
    /// give.
    arrival: Option<i64>,
}

impl TrackClock {
    fn new(rate: u32) -> Self {
        Self {
            rate: i64::from(rate.max(1)),
            last: None,
            came: None,
            offset: None,
            target: None,
            report: None,
            info: None,
            slewed_at: 0,
            arrival: None,
        }
    }

    /// The timestamp without its wrap, in its own ticks.
    fn unwrap(&self, timestamp: u32) -> i64 {
        match self.last {
            None => i64::from(timestamp),
            Some((t, long)) => long + i64::from(timestamp.wrapping_sub(t) as i32),
        }
    }

    fn ticks(&self, long: i64) -> i64 {
        (i128::from(long) * i128::from(CLOCK) / i128::from(self.rate)) as i64
    }
}

/// The clocks of a session. The first video track leads, the others follow.
#[derive(Debug, Clone)]
pub struct SyncGroup {
    tracks: Vec<TrackClock>,
    leader: usize,
    /// Presentation time and arrival of the leader's last unit.
    lead: Option<(i64, Instant)>,
    /// Start of the window in which the leader's clock is measured.
    rate_from: Option<(i64, Instant)>,
    clock_off: Option<f64>,
    disbelieved: Option<i64>,
    /// The same of the answer to PLAY.
    info_disbelieved: Option<i64>,
}

/// Presentation times start here: 10 s, so that decoding times before the first are no wrap.
const START: i64 = 10 * CLOCK;

impl SyncGroup {
    /// For tracks with these clock rates; `leader` is the first video track, or 0.
    #[must_use]
    pub fn new(rates: &[u32], leader: usize) -> Self {
        Self {
            tracks: rates.iter().map(|r| TrackClock::new(*r)).collect(),
            leader,
            lead: None,
            rate_from: None,
            clock_off: None,
            disbelieved: None,
            info_disbelieved: None,
        }
    }

    /// Ticks per second of a track.
    #[must_use]
    pub fn rate(&self, track: usize) -> u32 {
        self.tracks.get(track).map_or(90_000, |t| t.rate as u32)
    }

    /// The track that the others follow.
    #[must_use]
    pub fn leader(&self) -> usize {
        self.leader
    }

    /// How far the leader's timestamps run from the time that passes, in percent (positive: fast),
    /// where that is more than 2 %.
    #[must_use]
    pub fn clock_off_percent(&self) -> Option<f64> {
        self.clock_off
    }

    /// How far sender reports put sound from where it comes, in ms, when they are not believed for
    /// that.
    #[must_use]
    pub fn disbelieved_ms(&self) -> Option<i64> {
        self.disbelieved
    }

    /// How far the answer to PLAY (RTP-Info) puts sound from where it comes, in ms, when it is not
    /// believed for that.
    #[must_use]
    pub fn info_disbelieved_ms(&self) -> Option<i64> {
        self.info_disbelieved
    }

    fn measure_rate(&mut self, pts: i64, arrived: Instant) {
        let Some((from, since)) = self.rate_from else { return self.rate_from = Some((pts, arrived)) };
        let passed = arrived.saturating_duration_since(since);
        if passed >= RATE_WINDOW {
            let off = (pts - from) as f64 / CLOCK as f64 / passed.as_secs_f64() - 1.0;
            // A pause is no slow clock.
            self.clock_off = Some(off * 100.0).filter(|_| off.abs() > RATE_OFF && off > -0.5);
            self.rate_from = Some((pts, arrived));
        }
    }

    /// The timestamp at which a track starts to play, as the answer to PLAY says.
    pub fn starts_at(&mut self, track: usize, timestamp: u32) {
        if let Some(t) = self.tracks.get_mut(track) {
            t.info = Some(timestamp);
        }
    }

    /// A sender's report: this timestamp is that time of day.
    pub fn report(&mut self, track: usize, ntp: NtpTime, timestamp: u32) {
        let Some(t) = self.tracks.get_mut(track).filter(|_| ntp.0 != 0) else { return };
        t.report = Some((ntp.micros(), timestamp));
        self.aim(track);
    }

    /// Where the reports put the followers.
    fn aim(&mut self, changed: usize) {
        let Some(lead) = self.tracks.get(self.leader) else { return };
        let (Some((lead_ntp, lead_at)), Some(lead_offset)) = (lead.report, lead.offset) else { return };
        let lead_pts = lead.ticks(lead.unwrap(lead_at)) + lead_offset;
        for (n, t) in self.tracks.iter_mut().enumerate() {
            if n == self.leader || (changed != self.leader && changed != n) {
                continue;
            }
            let (Some((ntp, at)), Some(offset)) = (t.report, t.offset) else { continue };
            let pts = lead_pts + (ntp - lead_ntp) * 9 / 100;
            let target = pts - t.ticks(t.unwrap(at));
            let from_arrival = target - t.arrival.unwrap_or(offset);
            if from_arrival.abs() >= BELIEF {
                self.disbelieved = Some(from_arrival / 90);
            } else {
                self.disbelieved = None;
                // The first report mends the guess at once, later ones follow the drift.
                if t.target.replace(target).is_none() {
                    t.offset = Some(target);
                }
            }
        }
    }

    /// The presentation time of a unit, 33 bits; `None` when the timestamps have jumped: start
    /// anew.
    pub fn pts(&mut self, track: usize, timestamp: u32, arrived: Instant) -> Option<u64> {
        let lead = self.lead;
        let leads = track == self.leader;
        let aligned = self.aligned(track, timestamp);
        let mut info_disbelieved = None;
        let t = self.tracks.get_mut(track)?;
        let long = t.unwrap(timestamp);
        let ticks = t.ticks(long);
        let first = t.offset.is_none();
        if let (Some((_, before)), Some(came)) = (t.last, t.came) {
            let step = ticks - t.ticks(before);
            let passed = arrived.saturating_duration_since(came).as_nanos() as i64 * 9 / 100_000;
            if step.abs() > STEP_MAX && (step - passed).abs() > STEP_MAX {
                return None;
            }
        }
        t.came = Some(arrived);
        t.last = Some((timestamp, long));
        let offset = match t.offset {
            Some(offset) => offset,
            None => {
                // The first of a follower: where the answer to PLAY puts it, or beside the picture
                // that came with it.
                let now = match (leads, lead) {
                    (false, Some((pts, came))) => {
                        let passed = arrived.saturating_duration_since(came).as_nanos() as i64 * 9 / 100_000;
                        let off = aligned.map(|a| ticks + a - pts - passed);
                        info_disbelieved = off.filter(|off| off.abs() >= BELIEF).map(|off| off / 90);
                        pts + passed + off.filter(|off| off.abs() < BELIEF).unwrap_or(0)
                    }
                    _ => START,
                };
                t.slewed_at = ticks;
                now - ticks
            }
        };
        if let (false, Some((pts, came))) = (leads, lead) {
            let passed = arrived.saturating_duration_since(came).as_nanos() as i64 * 9 / 100_000;
            let here = pts + passed - ticks;
            t.arrival = Some(t.arrival.map_or(here, |a| a + (here - a) / 16));
        }
        let offset = match t.target {
            Some(target) if (target - offset).abs() > SLEW_MAX => target,
            Some(target) => {
                let step = ((ticks - t.slewed_at) / SLEW).max(0);
                if step > 0 {
                    t.slewed_at = ticks;
                }
                offset + (target - offset).clamp(-step, step)
            }
            None => offset,
        };
        t.offset = Some(offset);
        self.info_disbelieved = info_disbelieved.or(self.info_disbelieved);
        if first {
            self.aim(track);
        }
        let offset = self.tracks.get(track)?.offset?;
        let pts = ticks + offset;
        if leads || self.lead.is_none() {
            self.lead = Some((pts, arrived));
        }
        if leads {
            self.measure_rate(pts, arrived);
        }
        Some(pts.rem_euclid(1 << 33) as u64)
    }

    /// The offset at which a follower whose first unit has this timestamp starts together with the
    /// leader.
    fn aligned(&self, track: usize, first: u32) -> Option<i64> {
        let (lead, t) = (self.tracks.get(self.leader)?, self.tracks.get(track)?);
        let lead_start = lead.ticks(lead.last?.1 + i64::from(lead.info?.wrapping_sub(lead.last?.0) as i32)) + lead.offset?;
        // Its first unit may come on the other side of a wrap.
        let own = t.ticks(i64::from(first) + i64::from(t.info?.wrapping_sub(first) as i32));
        Some(lead_start - own)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]

    use super::*;

    /// Video at 90 kHz and sound at 48 kHz whose clock is off by `ppm`, reports each five seconds;
    /// gives the greatest distance in ms between picture and sound after ten seconds.
    fn worst(ppm: f64, seconds: u64, skew_ms: i64, reports: bool) -> f64 {
        let mut group = SyncGroup::new(&[90_000, 48_000], 0);
        let start = Instant::now();
        let ntp = |t: f64| NtpTime::from_unix_us(1_795_000_000_000_000 + (t * 1e6) as u64);
        let (v0, a0) = (u32::MAX - 90_000 * 7, u32::MAX - 48_000 * 20);
        let stamp = |base: u32, rate: f64, t: f64| base.wrapping_add((t * rate) as i64 as u32);
        let sound_rate = 48_000.0 * (1.0 + ppm / 1e6);
        let mut worst: f64 = 0.0;
        for n in 0..seconds * 25 {
            let t = n as f64 / 25.0;
            let came = start + Duration::from_secs_f64(t);
            let video = group.pts(0, stamp(v0, 90_000.0, t), came).expect("no jump");
            // Sound comes late over the network, but was taken at the same moment.
            let late = came + Duration::from_millis(skew_ms.unsigned_abs());
            let sound = group.pts(1, stamp(a0, sound_rate, t), late).expect("no jump");
            if reports && n % 125 == 20 {
                group.report(0, ntp(t), stamp(v0, 90_000.0, t));
                group.report(1, ntp(t), stamp(a0, sound_rate, t));
            }
            let off = crate::ts::wrapped_distance(video, sound, 1 << 33) as f64 / 90.0;
            if t > 10.0 {
                worst = worst.max(off.abs());
            }
        }
        worst
    }

    #[test]
    fn picture_and_sound_stay_in_step_through_wrap_skew_and_drift() {
        for ppm in [0.0, 200.0, -200.0] {
            for skew in [0, 60, 400] {
                let off = worst(ppm, 3600, skew, true);
                assert!(off < 5.0, "{off} ms at {ppm} ppm and {skew} ms");
            }
        }
        // Without reports nothing can follow the drift: the figure above is theirs.
        assert!(worst(200.0, 3600, 0, false) > 500.0);
    }

    #[test]
    fn a_wrap_is_no_jump_and_hours_pass() {
        let mut group = SyncGroup::new(&[90_000], 0);
        let now = Instant::now();
        let mut last = None;
        // Thirty hours at one unit a second: 32 bits wrap twice, 33 bits once.
        for n in 0..108_000u64 {
            let pts = group.pts(0, (n * 90_000) as u32, now).expect("no jump");
            if let Some(last) = last {
                assert_eq!(crate::ts::wrapped_distance(pts, last, 1 << 33), 90_000);
            }
            last = Some(pts);
        }
        let last = last.expect("a time");
        let paused = group.pts(0, (108_000u64 * 90_000 + 90_000 * 60) as u32, now + Duration::from_secs(61)).expect("a pause is no jump");
        assert_eq!(crate::ts::wrapped_distance(paused, last, 1 << 33), 90_000 * 61);
        assert_eq!(group.pts(0, 5, now + Duration::from_secs(62)), None, "a jump is told");
    }

    #[test]
    fn the_answer_to_play_aligns_before_any_report() {
        let mut group = SyncGroup::new(&[90_000, 8000], 0);
        let now = Instant::now();
        group.starts_at(0, 1000);
        group.starts_at(1, 500);
        let video = group.pts(0, 1000 + 9000, now).expect("video");
        // Taken 100 ms after the start as well, but came 300 ms later.
        let sound = group.pts(1, 500 + 800, now + Duration::from_millis(300)).expect("sound");
        assert_eq!(video, sound);
    }

    #[test]
    fn an_answer_to_play_that_names_other_packets_is_not_believed_and_told() {
        for (wrong_ms, told) in [(870, Some(870)), (-2000, Some(-2000)), (200, None)] {
            let mut group = SyncGroup::new(&[90_000, 8000], 0);
            let now = Instant::now();
            group.starts_at(0, 1000);
            // Sound that comes now is said to have begun later or earlier.
            group.starts_at(1, 500u32.wrapping_sub((wrong_ms * 8) as u32));
            let video = group.pts(0, 1000, now).expect("video");
            let sound = group.pts(1, 500, now).expect("sound");
            let apart = crate::ts::wrapped_distance(sound, video, 1 << 33) / 90;
            assert_eq!((group.info_disbelieved_ms(), apart), (told, if told.is_some() { 0 } else { wrong_ms.into() }));
        }
    }

    #[test]
    fn reports_that_put_sound_elsewhere_than_it_comes_are_not_believed() {
        let mut group = SyncGroup::new(&[90_000, 48_000], 0);
        let start = Instant::now();
        let ntp = |ms: u64| NtpTime::from_unix_us(1_795_000_000_000_000 + ms * 1000);
        for n in 0..250u64 {
            let now = start + Duration::from_millis(40 * n);
            let video = group.pts(0, (n * 3600) as u32, now).expect("video");
            let sound = group.pts(1, (n * 1920) as u32, now).expect("sound");
            assert!((video as i64 - sound as i64).abs() < 900, "{n}");
            if n % 50 == 20 {
                group.report(0, ntp(n * 40), (n * 3600) as u32);
                // 900 ms off.
                group.report(1, ntp(n * 40 + 900), (n * 1920) as u32);
                assert!(group.disbelieved_ms().is_some_and(|ms| (850..950).contains(&ms)));
            }
        }
    }

    #[test]
    fn a_clock_that_runs_wrong_is_told() {
        for (rate, off) in [(94_500.0, Some(5.0)), (85_500.0, Some(-5.0)), (90_010.0, None)] {
            let mut group = SyncGroup::new(&[90_000], 0);
            let start = Instant::now();
            for n in 0..500u64 {
                let t = n as f64 / 25.0;
                group.pts(0, (t * rate) as u32, start + Duration::from_secs_f64(t));
            }
            assert_eq!(group.clock_off_percent().map(f64::round), off);
        }
    }

    #[test]
    fn reports_without_a_clock_change_nothing() {
        let mut group = SyncGroup::new(&[90_000, 48_000], 0);
        let now = Instant::now();
        let (video, sound) = (group.pts(0, 0, now), group.pts(1, 0, now));
        assert_eq!(video, sound);
        group.report(0, NtpTime(0), 0);
        // Days apart: somebody's clock was never set.
        group.report(0, NtpTime::from_unix_us(1_000_000), 0);
        group.report(1, NtpTime::from_unix_us(1_795_000_000_000_000), 0);
        assert_eq!(group.pts(1, 480, now), sound.map(|s| s + 900));
    }
}
