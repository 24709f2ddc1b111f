//! Units of a feed as a stream of a source, and what is said of them.

use bytes::Bytes;
use choir_host::clock::unix_us;
use choir_proto::{
    audio::{AacConfig, st302_samples},
    stave::{Grade, Offered, SoundOffer, StreamOffer, Timecode, Track},
    ts::{AccessUnit, Depth, LongPts, StreamKind, TsCounters, TsMeter},
};
use std::time::{Duration, Instant};

/// Pictures by which a stream is known to be intra or not.
const JUDGED: u32 = 3;
/// Pictures in a row that all decode by themselves, after which a stream that was not is intra.
const TURNED_INTRA: u32 = 50;
/// A stream that brings nothing for so long is offered no more.
const QUIET: Duration = Duration::from_secs(2);
/// Between two measurements of the bitrate.
const MEASURE: Duration = Duration::from_secs(1);

/// Measures what comes.
#[derive(Debug)]
pub(super) struct Gauge {
    bytes: u64,
    since: Instant,
    last: Instant,
}

impl Default for Gauge {
    fn default() -> Self {
        let now = Instant::now();
        Self { bytes: 0, since: now, last: now }
    }
}

impl Gauge {
    pub fn note(&mut self, bytes: usize) {
        self.bytes += bytes as u64;
        self.last = Instant::now();
    }

    /// Bits per second, once there is a new figure.
    pub fn measure(&mut self) -> Option<u64> {
        let now = Instant::now();
        let passed = now.saturating_duration_since(self.since);
        if passed < MEASURE {
            return None;
        }
        let bps = self.bytes as f64 * 8.0 / passed.as_secs_f64();
        (self.bytes, self.since) = (0, now);
        // To the nearest hundredth of a megabit: what flickers is not told to all twice a second.
        Some((bps / 10_000.0).round() as u64 * 10_000)
    }

    pub fn is_quiet(&self) -> bool {
        self.last.elapsed() > QUIET
    }
}

/// A unit, where it is one that is passed on.
pub(super) type Unit = Option<(Offered, Bytes)>;

/// Says of units what is offered.
pub(super) struct Offerer {
    id: u8,
    small: bool,
    meter: TsMeter,
    offer: Option<StreamOffer>,
    /// Pictures seen, and how many of the last in a row were keyframes.
    pictures: u32,
    keyframes: u32,
    leans: bool,
    last_pts: LongPts,
    gauge: Gauge,
}

impl Offerer {
    pub fn new(id: u8, small: bool) -> Self {
        Self {
            id,
            small,
            meter: TsMeter::new(Depth::Heads),
            offer: None,
            pictures: 0,
            keyframes: 0,
            leans: false,
            last_pts: LongPts::default(),
            gauge: Gauge::default(),
        }
    }

    /// What may be said of it, once enough has been seen.
    pub fn offer(&self) -> Option<StreamOffer> {
        self.offer.clone()
    }

    /// Takes a unit; gives what is passed on of it, and whether what is offered has changed with
    /// it.
    pub fn push(&mut self, unit: AccessUnit) -> (Unit, bool) {
        self.meter.joined(&unit);
        let changed = self.learn(&unit);
        (self.offer.is_some().then(|| self.unit(unit)).flatten(), changed)
    }

    /// Takes in what a unit tells of its stream.
    fn learn(&mut self, unit: &AccessUnit) -> bool {
        self.gauge.note(unit.data.len());
        if !unit.kind.is_video() {
            return false;
        }
        self.pictures = self.pictures.saturating_add(1);
        self.keyframes = if unit.keyframe { self.keyframes.saturating_add(1) } else { 0 };
        self.leans = !unit.keyframe || self.leans && self.keyframes < TURNED_INTRA;
        if self.pictures < JUDGED {
            return false;
        }
        let was = self.offer.as_ref().map(|o| (o.grade, o.codec.clone(), o.size, o.sound.clone()));
        // Only a keyframe says what is to come.
        if was.is_some() && !unit.keyframe && was.as_ref().is_some_and(|w| w.0 != Grade::Intra) {
            return false;
        }
        let info = self.meter.info(TsCounters::default());
        let format = info.video.as_ref().and_then(|v| v.format.clone());
        let Some(format) = format else { return false };
        let grade = match (self.small, self.leans) {
            (true, _) => Grade::Sub,
            (_, false) => Grade::Intra,
            (_, true) => Grade::LongGop,
        };
        let codec = if unit.kind == StreamKind::H265 { "h265" } else { "h264" };
        let pcm = info.streams.iter().any(|s| s.kind == StreamKind::St302);
        let sound_codec = if pcm { "pcm" } else { "aac" };
        let sound = info.audio.map(|(sample_rate, channels)| SoundOffer { codec: sound_codec.into(), sample_rate, channels });
        let rate = info.video.as_ref().and_then(|v| v.measured_rate);
        let bitrate = self.offer.as_ref().map_or(0, |o| o.bitrate);
        let new = StreamOffer { id: self.id, grade, codec: codec.into(), size: Some((format.width, format.height)), rate, bitrate, sound };
        let changed = was != Some((new.grade, new.codec.clone(), new.size, new.sound.clone()));
        if changed {
            self.offer = Some(new);
        } else if let Some(offer) = &mut self.offer {
            offer.rate = rate.map(|r| (r * 100.0).round() / 100.0);
        }
        changed
    }

    fn unit(&mut self, unit: AccessUnit) -> Unit {
        let (track, data) = match unit.kind {
            k if k.is_video() => (Track::Picture, unit.data),
            StreamKind::AacAdts => (Track::Sound, AacConfig::of_adts(&unit.data).map(|_| unit.data)?),
            StreamKind::St302 => (Track::Sound, st302_samples(&unit.data)?.1.into()),
            _ => return None,
        };
        let pts = self.last_pts.long(unit.pts?);
        let made_us = unix_us().max(0) as u64;
        let rate = self.offer.as_ref().and_then(|o| o.rate).unwrap_or(25.0);
        let timecode = (track == Track::Picture).then(|| Timecode::of_day(made_us, rate));
        let keyframe = unit.keyframe || track == Track::Sound;
        Some((Offered { track, keyframe, pts, made_us, size: data.len() as u32, timecode }, data))
    }

    /// Looks at rates and silence.
    pub fn measure(&mut self) {
        if let (Some(bps), Some(offer)) = (self.gauge.measure(), &mut self.offer) {
            offer.bitrate = bps;
        }
        if self.gauge.is_quiet() && self.offer.is_some() {
            (self.offer, self.pictures, self.keyframes, self.leans) = (None, 0, 0, false);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_proto::{
        audio::st302_frame,
        ts::{PmtStream, TsReader, TsWriter, WriterConfig},
    };

    const SPS: &[u8] = &[
        0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00, 0x80, 0x00,
        0x00, 0x19, 0x07, 0x8c, 0x18, 0xcb,
    ];

    /// A parameter set, and a picture that decodes by itself or does not.
    fn picture(keyframe: bool) -> Vec<u8> {
        let mut data = if keyframe { [&[0, 0, 0, 1], SPS].concat() } else { Vec::new() };
        data.extend([0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88, 0x84, 0x21]);
        data
    }

    /// What comes of a transport stream with these pictures: grades as they are offered, and the
    /// units.
    fn through(keyframes: impl Iterator<Item = bool>, small: bool, pcm: bool) -> (Offerer, Vec<Grade>, Vec<(Offered, Bytes)>) {
        let kind = if pcm { StreamKind::St302 } else { StreamKind::AacAdts };
        let mut writer = TsWriter::new(WriterConfig { audio: Some(PmtStream { pid: 0x101, kind }), ..WriterConfig::default() });
        let (mut from, mut grades, mut units) = (Offerer::new(3, small), Vec::new(), Vec::new());
        let mut reader = TsReader::new(Depth::Units);
        for (n, keyframe) in keyframes.enumerate() {
            let (mut out, pts) = (Vec::new(), 90_000 + n as u64 * 3600);
            let data = picture(keyframe);
            writer.write(&choir_proto::ts::Unit { video: true, pts, dts: None, keyframe, data: &[&data] }, &mut out);
            if pcm {
                let sound = st302_frame(&[1, 2, 3, 4, 5, 6], 2, &mut 0);
                writer.write(&choir_proto::ts::Unit { video: false, pts, dts: None, keyframe: true, data: &[&sound] }, &mut out);
            }
            reader.push(0, &out.into());
            while let Some(unit) = reader.poll_unit() {
                let (unit, changed) = from.push(unit);
                if changed {
                    grades.extend(from.offer().map(|o| o.grade));
                }
                units.extend(unit);
            }
        }
        (from, grades, units)
    }

    #[test]
    fn a_stream_is_intra_while_every_picture_stands_by_itself() {
        let (from, grades, units) = through((0..20).map(|_| true), false, false);
        assert_eq!(grades, [Grade::Intra]);
        let offer = from.offer().expect("offered");
        assert_eq!((offer.id, offer.codec.as_str(), offer.sound), (3, "h264", None));
        assert!(units.iter().all(|(o, _)| o.keyframe && o.timecode.is_some()) && units.len() > 15);
        // One that leans is told with its next keyframe; one that leans no more after some time.
        let (_, grades, _) = through((0..100).map(|n| n == 0 || n % 25 == 0), false, false);
        assert_eq!(grades, [Grade::LongGop]);
        let (_, grades, _) = through((0..200).map(|n| n < 10 || (n < 40 && n % 10 == 0) || n > 60), false, false);
        assert_eq!(grades, [Grade::Intra, Grade::LongGop, Grade::Intra]);
        let (_, grades, _) = through((0..20).map(|_| true), true, false);
        assert_eq!(grades, [Grade::Sub]);
    }

    #[test]
    fn pcm_is_taken_out_of_its_wrapping_and_said() {
        let (from, _, units) = through((0..20).map(|n| n % 10 == 0), false, true);
        let sound = from.offer().and_then(|o| o.sound).expect("sound");
        assert_eq!((sound.codec.as_str(), sound.sample_rate, sound.channels), ("pcm", 48_000, 2));
        let samples: Vec<_> = units.iter().filter(|(o, _)| o.track == Track::Sound).collect();
        assert!(samples.len() > 10 && samples.iter().all(|(o, d)| d[..] == [1, 2, 3, 4, 5, 6] && o.size == 6 && o.keyframe));
    }

    #[test]
    fn a_gauge_says_nothing_before_it_knows() {
        let mut gauge = Gauge::default();
        gauge.note(1000);
        assert!(gauge.measure().is_none() && !gauge.is_quiet());
    }
}
