//! An access unit on its way (section 6): a head, additions, the payload. One QUIC stream carries
//! one.

use bytes::{Buf, BufMut};

/// Bytes before additions and payload.
pub const HEADER_LEN: usize = 36;
/// Largest payload: ten times a picture of 150 Mbit/s at 25 a second.
pub const UNIT_MAX: usize = 8 << 20;
/// Largest additions.
pub const ADDITIONS_MAX: usize = 4096;
const VERSION: u8 = 1;

/// What a unit is part of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Track {
    /// Pictures.
    Picture,
    /// Sound.
    Sound,
    /// Facts about the source, a JSON object.
    Facts,
}

impl Track {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Picture, Self::Sound, Self::Facts];

    const fn number(self) -> u8 {
        self as u8
    }
}

/// Time of day of a picture (SMPTE ST 12-1), frames counted from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Timecode {
    /// Hours, 0 to 23.
    pub hours: u8,
    /// Minutes.
    pub minutes: u8,
    /// Seconds.
    pub seconds: u8,
    /// Frames.
    pub frames: u8,
}

impl Timecode {
    /// Time of day (UTC) at a picture rate.
    #[must_use]
    pub fn of_day(unix_us: u64, rate: f64) -> Self {
        let second = unix_us / 1_000_000;
        let frames = ((unix_us % 1_000_000) as f64 / 1e6 * rate) as u64;
        Self {
            hours: (second / 3600 % 24) as u8,
            minutes: (second / 60 % 60) as u8,
            seconds: (second % 60) as u8,
            frames: frames.min(u64::from(u8::MAX)) as u8,
        }
    }
}

impl std::fmt::Display for Timecode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:02}:{:02}:{:02}:{:02}", self.hours, self.minutes, self.seconds, self.frames)
    }
}

/// Why bytes are no unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum UnitError {
    /// Too few.
    #[error("a unit of {0} bytes has no whole head")]
    Short(usize),
    /// Another version.
    #[error("units of version {0} are not known")]
    Version(u8),
    /// A track that this version does not know: skip it.
    #[error("track {0} is not known")]
    Track(u8),
    /// More than is taken.
    #[error("a unit of {0} bytes; at most {UNIT_MAX}")]
    TooLong(usize),
    /// Additions that do not fit.
    #[error("additions that do not fit")]
    Additions,
}

/// The head of a unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UnitHead {
    /// What it is part of.
    pub track: Track,
    /// Decoding can start here.
    pub keyframe: bool,
    /// Nothing before it may be used with it: another source or clock.
    pub fresh: bool,
    /// Lower 16 bits of the turn that it belongs to.
    pub turn: u16,
    /// Counts the track's units within a turn.
    pub number: u32,
    /// Presentation time, 90 kHz, 33 bits counted on.
    pub pts: i64,
    /// When the source had it whole, µs since 1970 by its clock; 0 when not known.
    pub made_us: u64,
    /// Bytes of payload.
    pub size: u32,
    /// Time code.
    pub timecode: Option<Timecode>,
}

impl UnitHead {
    /// Writes head and additions.
    #[must_use]
    pub fn write(&self) -> Vec<u8> {
        let additions = if self.timecode.is_some() { 7 } else { 0 };
        let mut out = Vec::with_capacity(HEADER_LEN + additions);
        out.put_u8(VERSION);
        out.put_u8(self.track.number());
        out.put_u8(u8::from(self.keyframe) | u8::from(self.fresh) << 1);
        out.put_u8(0);
        out.put_u16(self.turn);
        out.put_u16(additions as u16);
        out.put_u32(self.number);
        out.put_u32(0);
        out.put_i64(self.pts);
        out.put_u64(self.made_us);
        out.put_u32(self.size);
        if let Some(t) = self.timecode {
            out.put_u8(1);
            out.put_u16(4);
            out.put_slice(&[t.hours, t.minutes, t.seconds, t.frames]);
        }
        out
    }

    /// Reads the head of a unit; gives it and where the payload begins.
    ///
    /// # Errors
    /// It is no unit that this version knows.
    pub fn read(data: &[u8]) -> Result<(Self, usize), UnitError> {
        let mut d = data.get(..HEADER_LEN).ok_or(UnitError::Short(data.len()))?;
        let version = d.get_u8();
        if version != VERSION {
            return Err(UnitError::Version(version));
        }
        let track = d.get_u8();
        let flags = d.get_u8();
        d.advance(1);
        let turn = d.get_u16();
        let additions = usize::from(d.get_u16());
        let number = d.get_u32();
        d.advance(4);
        let (pts, made_us, size) = (d.get_i64(), d.get_u64(), d.get_u32());
        let track = Track::ALL.into_iter().find(|t| t.number() == track).ok_or(UnitError::Track(track))?;
        if size as usize > UNIT_MAX {
            return Err(UnitError::TooLong(size as usize));
        }
        let begins = HEADER_LEN + additions;
        if additions > ADDITIONS_MAX {
            return Err(UnitError::Additions);
        }
        let additions = data.get(HEADER_LEN..begins).ok_or(UnitError::Short(data.len()))?;
        let timecode = read_additions(additions)?;
        let (keyframe, fresh) = (flags & 1 != 0, flags & 2 != 0);
        Ok((Self { track, keyframe, fresh, turn, number, pts, made_us, size, timecode }, begins))
    }
}

/// Additions are type, length, value; those not known are skipped.
fn read_additions(mut d: &[u8]) -> Result<Option<Timecode>, UnitError> {
    let mut timecode = None;
    while !d.is_empty() {
        if d.len() < 3 {
            return Err(UnitError::Additions);
        }
        let (kind, len) = (d.get_u8(), usize::from(d.get_u16()));
        let value = d.get(..len).ok_or(UnitError::Additions)?;
        if let (1, [hours, minutes, seconds, frames]) = (kind, value)
            && *hours < 24
            && *minutes < 60
            && *seconds < 60
        {
            timecode = Some(Timecode { hours: *hours, minutes: *minutes, seconds: *seconds, frames: *frames });
        }
        d.advance(len);
    }
    Ok(timecode)
}
