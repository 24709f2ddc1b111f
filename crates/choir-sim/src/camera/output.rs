//! What a camera shows and sounds like, which can be changed while it runs: as it should be, or
//! with one of the faults that a show must notice.

use choir_core::units::{parse_duration, say_duration};
use std::{fmt, time::Duration};

/// What is in the picture.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Shows {
    /// The scene.
    #[default]
    Scene,
    /// Black.
    Black,
    /// Colour bars.
    Bars,
    /// The scene as it was at one moment.
    Frozen,
}

/// What is in the sound.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Sounds {
    /// A tone in both channels at this level, dBFS, 0 to -60.
    Tone(i8),
    /// A tone in both channels at -18 dBFS.
    #[default]
    Usual,
    /// Nothing.
    Silent,
    /// Only the left channel.
    LeftOnly,
    /// Only the right channel.
    RightOnly,
    /// The channels are opposite to each other.
    OutOfPhase,
    /// Cut off at full scale.
    Clipped,
    /// A low tone left, a high one right.
    Stereo,
    /// A high tone left, a low one right.
    Swapped,
}

impl Sounds {
    /// Which frame of `sounds.adts`.
    pub(super) const fn frame(self) -> usize {
        match self {
            Self::Tone(db) => db.unsigned_abs() as usize,
            Self::Usual => 18,
            Self::Silent => 61,
            Self::LeftOnly => 62,
            Self::RightOnly => 63,
            Self::OutOfPhase => 64,
            Self::Clipped => 65,
            Self::Stereo => 66,
            Self::Swapped => 67,
        }
    }
}

/// All that a camera puts out.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Output {
    /// Picture.
    pub shows: Shows,
    /// Sound.
    pub sounds: Sounds,
    /// Sound comes so much later than the picture it belongs to.
    pub sound_late: Duration,
}

impl fmt::Display for Output {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let picture = match self.shows {
            Shows::Scene => "scene",
            Shows::Black => "black",
            Shows::Bars => "bars",
            Shows::Frozen => "frozen",
        };
        let sound = match self.sounds {
            Sounds::Tone(db) => format!("tone at {db} dBFS"),
            Sounds::Usual => "tone".into(),
            Sounds::Silent => "silent".into(),
            Sounds::LeftOnly => "left channel only".into(),
            Sounds::RightOnly => "right channel only".into(),
            Sounds::OutOfPhase => "channels out of phase".into(),
            Sounds::Clipped => "clipped sound".into(),
            Sounds::Stereo => "a tone for each channel".into(),
            Sounds::Swapped => "channels swapped".into(),
        };
        write!(f, "{picture}, {sound}")?;
        if self.sound_late.is_zero() { Ok(()) } else { write!(f, ", sound {} late", say_duration(self.sound_late)) }
    }
}

/// Words that change a camera; `tone:-30` is a tone at another level.
pub const OUTPUT_WORDS: [&str; 15] = [
    "normal",
    "scene",
    "black",
    "bars",
    "frozen",
    "tone",
    "silent",
    "left-only",
    "right-only",
    "out-of-phase",
    "clipped",
    "stereo",
    "swapped",
    "late:TIME",
    "in-time",
];

/// A word that changes nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownOutput(String);

impl fmt::Display for UnknownOutput {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "\"{}\" is not something that a camera can show. One of: {}", self.0, OUTPUT_WORDS.join(", "))
    }
}

impl std::error::Error for UnknownOutput {}

/// Longest delay of the sound.
const LATE_MOST: Duration = Duration::from_secs(8);

impl Output {
    /// What it is after this word.
    ///
    /// # Errors
    /// The word is none of [`OUTPUT_WORDS`].
    pub fn after(self, word: &str) -> Result<Self, UnknownOutput> {
        let unknown = || UnknownOutput(word.to_owned());
        let shows = |shows| Self { shows, ..self };
        let sounds = |sounds| Self { sounds, ..self };
        Ok(match word.trim().split_once(':') {
            Some(("tone", level)) => {
                let db = level.trim().trim_end_matches("dB").trim().parse::<i8>().ok().filter(|db| (-60..=0).contains(db));
                sounds(Sounds::Tone(db.ok_or_else(unknown)?))
            }
            Some(("late", time)) => {
                let late = parse_duration(time).ok().filter(|t| *t <= LATE_MOST).ok_or_else(unknown)?;
                Self { sound_late: late, ..self }
            }
            Some(_) => return Err(unknown()),
            None => match word.trim() {
                "normal" => Self::default(),
                "scene" => shows(Shows::Scene),
                "black" => shows(Shows::Black),
                "bars" => shows(Shows::Bars),
                "frozen" => shows(Shows::Frozen),
                "tone" => sounds(Sounds::Usual),
                "silent" => sounds(Sounds::Silent),
                "left-only" => sounds(Sounds::LeftOnly),
                "right-only" => sounds(Sounds::RightOnly),
                "out-of-phase" => sounds(Sounds::OutOfPhase),
                "clipped" => sounds(Sounds::Clipped),
                "stereo" => sounds(Sounds::Stereo),
                "swapped" => sounds(Sounds::Swapped),
                "in-time" => Self { sound_late: Duration::ZERO, ..self },
                _ => return Err(unknown()),
            },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_does_what_it_says_and_no_other_anything() {
        for word in OUTPUT_WORDS {
            let word = word.replace("TIME", "1500ms");
            assert!(Output::default().after(&word).is_ok(), "{word}");
        }
        let all = ["black", "tone:-30", "late:1500ms"].iter().try_fold(Output::default(), |o, w| o.after(w)).expect("words");
        assert_eq!(all, Output { shows: Shows::Black, sounds: Sounds::Tone(-30), sound_late: Duration::from_millis(1500) });
        assert_eq!(all.after("normal"), Ok(Output::default()));
        for word in ["", "blak", "tone:3", "tone:-61", "late:soon", "late:1h", "black:1"] {
            assert!(Output::default().after(word).is_err(), "{word}");
        }
    }
}
