//! What is in a clip, from its first to its last picture.

use crate::view::{codec_word, sound_words};
use bytes::Bytes;
use choir_core::{sheet::Expect, view::DefectView};
use choir_ports::{defects::defect, is_mp4, mp4_to_ts};
use choir_proto::ts::{Depth, MediaInfo, Origin, PTS_WRAP, TsChecker, TsReader, wrapped_distance};
use std::{fs::File, io::Read, path::Path, time::Duration};

/// Bytes that are read together.
const PIECE: usize = 64 << 10;

/// A clip.
#[derive(Debug)]
pub struct Clip {
    /// It is an MP4 file, of which a transport stream is made.
    pub is_mp4: bool,
    /// From the first picture to the end of the last.
    pub lasts: Duration,
    /// Pictures.
    pub frames: u64,
    /// Its first picture is a keyframe, so that it comes on with it.
    pub begins_with_keyframe: bool,
    /// `H.264 high 3.1`.
    pub codec: String,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub rate: Option<f64>,
    /// ms from keyframe to keyframe.
    pub keyframe_ms: Option<u32>,
    /// `AAC 48 kHz stereo`.
    pub sound: Option<String>,
    /// What is against the standard in its transport stream, minor ones left out.
    pub defects: Vec<DefectView>,
    info: MediaInfo,
}

impl Clip {
    /// Reads all of it, which may take a while.
    ///
    /// # Errors
    /// It cannot be read, or there is no picture in it.
    pub fn look(path: &Path) -> Result<Self, String> {
        let is_mp4 = is_mp4(path).map_err(|e| e.to_string())?;
        let (mut reader, mut checker) = (TsReader::new(Depth::Units), TsChecker::new(Origin::Start));
        let mut times = Times::default();
        let mut take = |bytes: &Bytes| {
            checker.push(bytes);
            // Fewer units than a reader keeps.
            for piece in bytes.chunks(PIECE / 4) {
                reader.push(0, &bytes.slice_ref(piece));
                times.note(&mut reader);
            }
        };
        if is_mp4 {
            mp4_to_ts(path, |bytes| {
                take(&bytes);
                true
            })
            .map_err(|e| e.to_string())?;
        } else {
            let mut file = File::open(path).map_err(|e| e.to_string())?;
            let mut buffer = vec![0; PIECE];
            loop {
                let got = file.read(&mut buffer).map_err(|e| e.to_string())?;
                if got == 0 {
                    break;
                }
                take(&Bytes::copy_from_slice(&buffer[..got]));
            }
        }
        reader.finish();
        times.note(&mut reader);
        checker.finish(true);
        let info = reader.info();
        let video = info.video.as_ref().filter(|_| times.frames > 0).ok_or("there is no picture in it")?;
        let kind = info.streams.iter().find(|s| s.kind.is_video()).map(|s| s.kind.to_string()).unwrap_or_default();
        let format = video.format.as_ref();
        let codec = format.map_or(kind.clone(), |f| format!("{kind} {} {}", f.profile, f.level));
        Ok(Self {
            is_mp4,
            lasts: times.lasts(),
            frames: times.frames,
            begins_with_keyframe: times.begins_with_keyframe,
            codec,
            size: format.map(|f| (f.width, f.height)),
            rate: video.measured_rate.or_else(|| times.rate()),
            keyframe_ms: video.keyframe_ms,
            sound: sound_words(&info),
            defects: checker.findings().iter().filter(|f| !f.minor).map(defect).collect(),
            info,
        })
    }

    /// How it differs from what a feed's own line brings.
    #[must_use]
    pub fn differs(&self, wanted: &Expect) -> Vec<String> {
        let kind = self.info.streams.iter().find(|s| s.kind.is_video()).map(|s| codec_word(s.kind));
        let mut found: Vec<String> = wanted.differences(kind, self.size, self.rate).iter().map(ToString::to_string).collect();
        if wanted.audio == Some(true) && self.sound.is_none() {
            found.push("it has no sound".into());
        }
        found
    }
}

/// Of pictures.
#[derive(Default)]
struct Times {
    first: Option<u64>,
    last: u64,
    /// From the first, 90 kHz.
    passed: i64,
    frames: u64,
    begins_with_keyframe: bool,
}

impl Times {
    fn note(&mut self, reader: &mut TsReader) {
        while let Some(unit) = reader.poll_unit() {
            let Some(time) = unit.dts.or(unit.pts).filter(|_| unit.kind.is_video()) else { continue };
            if self.first.is_none() {
                (self.first, self.last, self.begins_with_keyframe) = (Some(time), time, unit.keyframe);
            }
            // A jump in it takes no time.
            self.passed += Some(wrapped_distance(time, self.last, PTS_WRAP)).filter(|step| (0..900_000).contains(step)).unwrap_or(0);
            self.last = time;
            self.frames += 1;
        }
    }

    fn lasts(&self) -> Duration {
        let step = self.passed / (self.frames as i64 - 1).max(1);
        Duration::from_micros(((self.passed + step) * 100 / 9) as u64)
    }

    fn rate(&self) -> Option<f64> {
        (self.frames > 1 && self.passed > 0).then(|| (self.frames - 1) as f64 * 90_000.0 / self.passed as f64)
    }
}
