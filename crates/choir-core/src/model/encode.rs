//! Another size, rate or bitrate for one way out, and what is laid over its pictures.

use super::{Accepts, Expect};
use crate::{
    device::Keyframe,
    link::Link,
    units::{Bitrate, say_duration, say_rate, say_size},
};
use std::{fmt, path::PathBuf, time::Duration};

/// One destination of a feed.
#[derive(Debug, Clone, PartialEq)]
pub struct WayOut {
    /// Where to.
    pub link: Link,
    /// Its pictures are encoded anew.
    pub encode: Option<Encode>,
}

impl From<Link> for WayOut {
    fn from(link: Link) -> Self {
        Self { link, encode: None }
    }
}

impl WayOut {
    /// What reaches it of a line that brings this.
    #[must_use]
    pub fn carries(&self, brings: &Expect) -> Expect {
        self.encode.as_ref().map_or_else(|| brings.clone(), |e| e.result(brings))
    }
}

/// How pictures are encoded anew, as H.264.
#[derive(Debug, Clone, PartialEq)]
pub struct Encode {
    /// Pixels; none keeps the size of the first picture that comes.
    pub size: Option<(u32, u32)>,
    /// The most pictures a second; none keeps all.
    pub rate: Option<f64>,
    /// Of the pictures; none is what suits size and rate.
    pub bitrate: Option<Bitrate>,
    /// From keyframe to keyframe.
    pub keyframe: Duration,
    /// Pictures of another shape are stretched instead of getting bars.
    pub stretch: bool,
    /// Laid over the pictures, the last one on top.
    pub overlays: Vec<Overlay>,
}

impl Default for Encode {
    fn default() -> Self {
        Self { size: None, rate: None, bitrate: None, keyframe: Self::KEYFRAME, stretch: false, overlays: Vec::new() }
    }
}

impl Encode {
    /// From keyframe to keyframe, unless said otherwise.
    pub const KEYFRAME: Duration = Duration::from_secs(2);
    /// Least and greatest distance of keyframes.
    pub const KEYFRAMES: (Duration, Duration) = (Duration::from_millis(500), Duration::from_secs(10));
    /// Least and greatest size, pixels.
    pub const SIZES: ((u32, u32), (u32, u32)) = ((64, 64), (3840, 2160));
    /// Bits per pixel of a usual bitrate at 1280x720 and 25 pictures a second.
    const BITS_PER_PIXEL: f64 = 0.13;

    /// The bitrate where none is set.
    #[must_use]
    pub fn usual_bitrate(size: (u32, u32), rate: f64) -> Bitrate {
        Bitrate((f64::from(size.0) * f64::from(size.1) * rate * Self::BITS_PER_PIXEL) as u64)
    }

    /// What comes of a line that brings this.
    #[must_use]
    pub fn result(&self, brings: &Expect) -> Expect {
        let size = self.size.or(brings.size);
        let rate = match (self.rate, brings.rate) {
            (Some(most), Some(rate)) => Some(most.min(rate)),
            (most, rate) => most.or(rate),
        };
        Expect {
            codec: Some("h264".into()),
            size,
            rate,
            bitrate: self.bitrate.or_else(|| Some(Self::usual_bitrate(size?, rate?))),
            keyframe: Some(Keyframe::Seconds(self.keyframe.as_secs_f64())),
            audio: brings.audio,
        }
    }

    /// Cores that it takes for a line that brings this, about, as measured on two common processor
    /// cores; none where size or rate is not known.
    #[must_use]
    pub fn cores(&self, brings: &Expect) -> Option<f64> {
        let pixels = |e: &Expect| e.size.zip(e.rate).map(|((w, h), rate)| f64::from(w) * f64::from(h) * rate);
        let made = self.result(brings);
        let decode = if brings.codec.as_deref() == Some("h265") { Self::DECODE_H265 } else { Self::DECODE_H264 };
        // A rate that is lower saves encoding, not decoding.
        Some(pixels(brings)? * decode + pixels(&made)? * Self::ENCODE)
    }

    /// Seconds of a core for each pixel.
    const DECODE_H264: f64 = 5e-9;
    const DECODE_H265: f64 = 18e-9;
    const ENCODE: f64 = 13e-9;
}

impl fmt::Display for Encode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("h264")?;
        if let Some(size) = self.size {
            write!(f, " {}", say_size(size))?;
        }
        if let Some(rate) = self.rate {
            write!(f, ", {} fps", say_rate(rate))?;
        }
        if let Some(bitrate) = self.bitrate {
            write!(f, ", {bitrate}")?;
        }
        write!(f, ", a keyframe each {}", say_duration(self.keyframe))?;
        match self.overlays.as_slice() {
            [] => Ok(()),
            [one] => write!(f, ", with {one}"),
            several => write!(f, ", with {} overlays", several.len()),
        }
    }
}

/// Something laid over pictures.
#[derive(Debug, Clone, PartialEq)]
pub struct Overlay {
    /// What.
    pub shows: Shows,
    /// Where.
    pub corner: Corner,
    /// Height of an image, or of letters, as a share of the picture's, 0.01 to 1.
    pub size: f64,
}

impl Overlay {
    /// Height of letters, unless said otherwise.
    pub const LETTERS: f64 = 0.05;
    /// Height of an image, unless said otherwise.
    pub const IMAGE: f64 = 0.15;
}

impl fmt::Display for Overlay {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.shows {
            Shows::Image(path) => write!(f, "{}", path.display()),
            Shows::Text(text) => write!(f, "\"{text}\""),
            Shows::Time => f.write_str("the time of day"),
        }?;
        write!(f, " at the {}", self.corner.word().replace('-', " "))
    }
}

/// What is laid over.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shows {
    /// A PNG file; what is transparent in it stays so.
    Image(PathBuf),
    /// These words.
    Text(String),
    /// The time of day, UTC.
    Time,
}

/// A corner of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Corner {
    /// Top left.
    TopLeft,
    /// Top right.
    #[default]
    TopRight,
    /// Bottom left.
    BottomLeft,
    /// Bottom right.
    BottomRight,
}

impl Corner {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::TopLeft, Self::TopRight, Self::BottomLeft, Self::BottomRight];

    /// As the sheet has it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::TopLeft => "top-left",
            Self::TopRight => "top-right",
            Self::BottomLeft => "bottom-left",
            Self::BottomRight => "bottom-right",
        }
    }
}

impl Accepts {
    /// What of this its list does not have: the key of the list, what it is, and what is taken.
    #[must_use]
    pub fn refuses(&self, e: &Expect) -> Vec<(&'static str, String, Vec<String>)> {
        let mut refused = Vec::new();
        if let Some(codec) = e.codec.as_ref().filter(|c| !self.codecs.is_empty() && !self.takes_codec(c)) {
            refused.push(("codec", codec.clone(), self.codecs.clone()));
        }
        if let Some(size) = e.size.filter(|s| !self.sizes.is_empty() && !self.takes_size(*s)) {
            refused.push(("size", say_size(size), self.sizes.iter().map(|s| say_size(*s)).collect()));
        }
        if let Some(rate) = e.rate.filter(|x| !self.rates.is_empty() && !self.takes_rate(*x)) {
            let rates = self.rates.iter().map(|x| say_rate(*x)).collect();
            refused.push(("rate", format!("{} frames per second", say_rate(rate)), rates));
        }
        refused
    }
}
