//! What is said on the control socket, and how it is read.

use crate::{LinePicture, still::Still};
use base64::{Engine as _, prelude::BASE64_STANDARD};
use choir_core::{
    model::RotaOrder,
    view::{LineView, ShowView},
};
use choir_proto::foreign::plain;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// Characters of a request that is not understood which are told.
const TOLD_MOST: usize = 300;

/// Version of the protocol: raised when an older program would misunderstand.
pub const VERSION: u32 = 1;

/// A message with its version, as it stands on the socket.
#[derive(Debug, Serialize, Deserialize)]
struct Envelope<T> {
    version: u32,
    #[serde(flatten)]
    message: T,
}

/// What may be asked. Lines and feeds are named as in the sheet.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "ask", rename_all = "kebab-case")]
pub enum Request {
    /// The whole show.
    View,
    /// The show, with the history and spans of these lines and feeds alone: hundreds are megabytes
    /// otherwise.
    Look {
        /// Lines and feeds.
        histories: Vec<String>,
    },
    /// Put another line on a feed.
    Take {
        /// Feed.
        feed: String,
        /// Line; without one, the line that comes next.
        #[serde(default)]
        line: Option<String>,
    },
    /// Put lines on feeds at the same moment.
    TakeTogether {
        /// Feeds and lines.
        takes: Vec<(String, String)>,
    },
    /// Tell a rota something.
    Rota {
        /// Its name.
        name: String,
        /// What.
        order: RotaOrder,
    },
    /// Show a line alone on a wall.
    Wall {
        /// The wall.
        wall: String,
        /// The line; without one, all that the wall has.
        #[serde(default)]
        line: Option<String>,
    },
    /// Do what the sheet gives a key to do.
    Key {
        /// `F1` to `F12`.
        key: String,
    },
    /// Say which line comes next on a feed.
    Next {
        /// Feed.
        feed: String,
        /// Line.
        line: String,
    },
    /// Stop a line, the ways out of a feed, or one of them (`NAME:2`).
    Hold {
        /// Its name.
        line: String,
    },
    /// Start it again.
    Release {
        /// Its name.
        line: String,
    },
    /// Compare a line's transport stream with the standard, or no more.
    Examine {
        /// Line.
        line: String,
        /// Begin or end.
        on: bool,
    },
    /// Newest pictures of lines.
    Pictures {
        /// Lines; all if there are none.
        lines: Vec<String>,
        /// No larger than this, pixels.
        fit: (usize, usize),
        /// Only what is there already: small, and without waiting.
        kept: bool,
    },
    /// A line as it is now, and its newest picture; asked again and again, its pictures move.
    Live {
        /// Line.
        line: String,
        /// No larger than this, pixels.
        fit: (usize, usize),
    },
    /// Change what the stand-in behind a line of the demo shows.
    StandIn {
        /// Line.
        line: String,
        /// A word of `choir sim show`.
        word: String,
    },
    /// Record lines and feeds.
    Record {
        /// Their names.
        what: Vec<String>,
        /// Where; relative to the sheet's folder.
        folder: PathBuf,
        /// A new file after so many seconds.
        each_s: u64,
        /// Or after so many bytes.
        #[serde(default)]
        bytes: Option<u64>,
    },
    /// End recordings.
    EndRecordings {
        /// Lines and feeds; all recordings if there are none.
        what: Vec<String>,
    },
    /// Say that alarms have been seen.
    Acknowledge {
        /// Numbers, or names of lines, feeds and networks; all alarms if there are none.
        what: Vec<String>,
    },
    /// Read the sheet again and apply what differs.
    Reload,
    /// End the run.
    Stop,
}

/// What is answered.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "answer", rename_all = "kebab-case")]
pub enum Answer {
    /// The show.
    View(Box<ShowView>),
    /// Pictures of those lines that have one.
    Pictures {
        /// In the order of the sheet.
        pictures: Vec<PictureAnswer>,
    },
    /// One line that moves.
    Live {
        /// As it is now.
        line: Box<LineView>,
        /// Its newest picture.
        picture: Option<PictureAnswer>,
    },
    /// It was done.
    Done {
        /// What, as a sentence.
        said: String,
    },
    /// It was not.
    Refused {
        /// Why, as a sentence.
        why: String,
    },
}

/// A picture on its way.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PictureAnswer {
    /// Its line.
    pub line: String,
    /// When it came, ms since 1970.
    pub at_ms: u64,
    /// Pixels.
    pub size: (usize, usize),
    /// Pixels, before it was made smaller.
    pub source: (u32, u32),
    /// Three bytes per pixel, in Base64.
    rgb: String,
}

impl PictureAnswer {
    pub(super) fn of(line: String, picture: &LinePicture) -> Self {
        let Still { width, height, rgb, source } = &picture.still;
        Self { line, at_ms: picture.at_ms, size: (*width, *height), source: *source, rgb: BASE64_STANDARD.encode(rgb) }
    }

    /// The picture; nothing if its bytes are not those of its size.
    #[must_use]
    pub fn still(&self) -> Option<Still> {
        let rgb = BASE64_STANDARD.decode(&self.rgb).ok()?;
        let (width, height) = self.size;
        (rgb.len() == width.checked_mul(height)?.checked_mul(3)?).then_some(Still { width, height, rgb, source: self.source })
    }
}

/// A request as it stands on the socket.
///
/// # Errors
/// Why it is not one, as a sentence.
pub fn read_request(line: &str) -> Result<Request, String> {
    match serde_json::from_str::<Envelope<Request>>(line) {
        Ok(Envelope { version: VERSION, message }) => Ok(message),
        Ok(Envelope { version, .. }) => {
            Err(format!("protocol version {version} is not supported by the running show, which has version {VERSION}"))
        }
        Err(e) => Err(format!("request not understood: {}", plain(&e.to_string(), TOLD_MOST))),
    }
}

/// A message as it stands on the socket.
pub(super) fn line(message: &impl Serialize) -> Option<String> {
    serde_json::to_string(&Envelope { version: VERSION, message }).ok().map(|text| text + "\n")
}

/// What an answer is, without the rest of it.
#[derive(Deserialize)]
struct Head<'a> {
    version: u32,
    answer: &'a str,
}

/// A show of hundreds of lines is a megabyte, read again and again: it is not taken through the
/// general form, which would keep a copy of each part before it knows what that is.
#[must_use]
pub fn read_answer(line: &str) -> Option<Answer> {
    match serde_json::from_str(line).ok()? {
        Head { version: VERSION, answer: "view" } => serde_json::from_str(line).ok().map(Answer::View),
        Head { version: VERSION, .. } => serde_json::from_str::<Envelope<Answer>>(line).ok().map(|e| e.message),
        Head { .. } => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Requests with everything that they may have.
    fn requests() -> Vec<String> {
        let all = [
            Request::View,
            Request::Take { feed: "programme".into(), line: Some("finish-tower".into()) },
            Request::TakeTogether { takes: vec![("programme".into(), "finish-tower".into())] },
            Request::Pictures { lines: vec!["finish-tower".into()], fit: (320, 180), kept: true },
            Request::Record { what: vec!["programme".into()], folder: "takes".into(), each_s: 3600, bytes: Some(1 << 30) },
            Request::Stop,
        ];
        all.iter().filter_map(line).collect()
    }

    #[test]
    fn requests_are_read_as_they_were_written_and_others_are_told_shortly() {
        for text in requests() {
            assert_eq!(read_request(&text).as_ref().ok().and_then(line).as_ref(), Some(&text));
        }
        assert!(read_request("{\"version\":7,\"ask\":\"view\"}").expect_err("refused").contains("version 7"));
        let long = format!("{{\"version\":1,\"ask\":\"{}\\u001b[2J\"}}", "x".repeat(1 << 20));
        let why = read_request(&long).expect_err("refused");
        assert!(why.len() < 400 && !why.contains('\u{1b}'), "{why}");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        /// The same entry as the fuzzer's.
        #[test]
        fn no_text_is_more_than_refused(of in 0..6_usize, changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..8), cut in any::<prop::sample::Index>()) {
            let mut bytes = requests()[of].clone().into_bytes();
            changes.iter().for_each(|(at, byte)| { let at = at.index(bytes.len()); bytes[at] = *byte });
            bytes.truncate(cut.index(bytes.len() + 1));
            let text = String::from_utf8_lossy(&bytes);
            if let Err(why) = read_request(&text) {
                prop_assert!(why.len() < 1300);
            }
            let _ = read_answer(&text).map(|a| if let Answer::Pictures { pictures } = a { pictures.iter().filter_map(PictureAnswer::still).count() } else { 0 });
        }
    }
}
