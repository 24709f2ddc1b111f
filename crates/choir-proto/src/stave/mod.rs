//! Stave, our own LAN video link: named sources, tally and camera control coming back.
//! `docs/stave.md` is its specification; section numbers here are of that page.
//!
//! ```text
//! receiver                                 source
//!   Hello ────────────────────────────────►   who I am, and my proof of the group key
//!   ◄──────────────────────────────── Hello   likewise
//!   ◄──────────────────────────── Catalogue   names, and again whenever they change
//!   Ask ──────────────────────────────────►   this name, this grade, this patient
//!   ◄───────────────────────────────── Play   this stream, from its next keyframe
//!   ◄═══════════════ one QUIC stream per access unit ═══════════════
//!   Tally, Camera, Keyframe, Report ──────►
//! ```
//!
//! A [`Speaker`] is the source's side of one connection, a [`Listener`] the receiver's; neither
//! knows a socket. Both take control bytes and the time, and are polled for bytes, events and the
//! next deadline.

mod frame;
pub mod fuzz;
mod group;
mod lane;
mod listener;
mod message;
mod names;
mod order;
mod proof;
mod speaker;
mod tally;
mod unit;

pub use frame::{Broken, FRAME_MAX, Framer, frame};
pub use group::{GroupKey, GroupReader, GroupStats, GroupWriter, Missing, REPAIR_MAX};
pub use lane::{Lane, Offered, Verdict};
pub use listener::{Listener, ListenerConfig, ListenerEvent, Wish};
pub use message::{
    Ask, Bye, CameraAnswer, CameraOrder, CameraVerb, Carriage, Catalogue, GroupOffer, Hello, Message, NodeEntry, Nodes, Play, Refusal,
    RefusalCode, Repair, Report, SoundOffer, SourceOffer, StreamOffer, TallyNote, TallyWord,
};
pub use names::{NAME_MAX, Unique, same_name};
pub use order::{Ordered, UnitOrder};
pub use proof::{EXPORTER_LABEL, EXPORTER_LEN, SharedKey, Side};
pub use speaker::{Speaker, SpeakerConfig, SpeakerEvent};
pub use tally::{Tally, TallyBook};
pub use unit::{HEADER_LEN, Timecode, Track, UNIT_MAX, UnitError, UnitHead};

/// The version spoken.
pub const VERSION: u16 = 1;
/// Said while QUIC is joined (RFC 7301), so that nothing else is taken for Stave.
pub const ALPN: &[u8] = b"stave/1";
/// DNS-SD service (RFC 6763).
pub const SERVICE: &str = "_stave._udp.local.";
/// Port that is tried first.
pub const PORT: u16 = 7340;
/// Port of a directory node.
pub const DIRECTORY_PORT: u16 = 7341;
/// Longest move that one order may ask for, ms.
pub const MOVE_MOST_MS: u32 = 10_000;
/// Group of those who name none.
pub const OPEN_GROUP: &str = "open";

/// Grades of picture, the costly first (section 5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Grade {
    /// Every picture decodes by itself.
    Intra,
    /// Pictures lean on each other.
    LongGop,
    /// A small one for monitors.
    Sub,
}

impl Grade {
    /// The words allowed.
    pub const WORDS: [&'static str; 3] = ["intra", "long-gop", "sub"];

    /// The word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Intra => "intra",
            Self::LongGop => "long-gop",
            Self::Sub => "sub",
        }
    }

    /// Reads the word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Intra, Self::LongGop, Self::Sub].into_iter().find(|g| g.word() == word)
    }
}

impl std::fmt::Display for Grade {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}
