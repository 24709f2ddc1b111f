//! Control messages (section 4). Each body is a JSON object; members that are not known are
//! ignored.

use super::{Grade, Tally};
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};

/// Who speaks.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hello {
    /// Versions understood.
    pub versions: Vec<u16>,
    /// Name of the machine.
    pub machine: String,
    /// Lasting number of the node.
    pub node: String,
    /// Another number at each start.
    pub boot: u64,
    /// Group.
    pub group: String,
    /// What is understood besides the least: `camera`, `group`, codec names.
    #[serde(default)]
    pub features: Vec<String>,
    /// Proof of the group key, 64 hexadecimal digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<String>,
}

/// Why somebody is sent away.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RefusalCode {
    /// No version in common.
    Version,
    /// Another group.
    Group,
    /// The group key differs, or one side has none.
    Key,
    /// The certificate is not among those allowed.
    Unknown,
    /// As many as can be served are here.
    Full,
    /// No such name.
    Name,
    /// Nothing that the receiver can decode.
    Codec,
    /// Something that a later version says.
    #[serde(other)]
    Other,
}

/// A refusal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refusal {
    /// Why.
    pub code: RefusalCode,
    /// As a sentence.
    pub why: String,
}

/// Sound of a stream.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SoundOffer {
    /// `aac` or `pcm`.
    pub codec: String,
    /// Hz.
    pub sample_rate: u32,
    /// Channels.
    pub channels: u8,
}

/// One stream of a source.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StreamOffer {
    /// Its number within the source.
    pub id: u8,
    /// Its grade.
    pub grade: Grade,
    /// `h264`, `h265` or `jpeg`.
    pub codec: String,
    /// Width and height.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<(u32, u32)>,
    /// Pictures per second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// Bits per second, measured.
    #[serde(default)]
    pub bitrate: u64,
    /// Sound, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sound: Option<SoundOffer>,
}

/// A named source.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SourceOffer {
    /// Its name, unique on its machine.
    pub name: String,
    /// What is on it, in words.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub carries: String,
    /// Its streams; none while nothing comes in.
    #[serde(default)]
    pub streams: Vec<StreamOffer>,
    /// Receivers now.
    #[serde(default)]
    pub viewers: u32,
    /// Camera orders are taken.
    #[serde(default)]
    pub camera: bool,
    /// Strongest tally of all receivers.
    #[serde(default)]
    pub tally: TallyWord,
    /// It can be had by a group too.
    #[serde(default)]
    pub multicast: bool,
}

/// Tally, as spoken.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TallyWord {
    /// On air.
    OnAir,
    /// On next.
    Next,
    /// Neither.
    #[default]
    #[serde(other)]
    Off,
}

impl From<Tally> for TallyWord {
    fn from(t: Tally) -> Self {
        match t {
            Tally::Off => Self::Off,
            Tally::Next => Self::Next,
            Tally::OnAir => Self::OnAir,
        }
    }
}

impl From<TallyWord> for Tally {
    fn from(t: TallyWord) -> Self {
        match t {
            TallyWord::Off => Self::Off,
            TallyWord::Next => Self::Next,
            TallyWord::OnAir => Self::OnAir,
        }
    }
}

/// All names of a machine.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Catalogue {
    /// The names.
    pub sources: Vec<SourceOffer>,
    /// `key`, `pinned`, both, or `open`.
    #[serde(default)]
    pub secured: String,
    /// Name of the machine, which may have changed since the greeting.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
}

/// How units travel.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Carriage {
    /// RTP to a group.
    Multicast,
    /// A QUIC stream each.
    #[default]
    #[serde(other)]
    Streams,
}

/// A receiver's wish.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ask {
    /// Name of the source.
    pub source: String,
    /// Highest grade wanted; none is the best there is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grade: Option<Grade>,
    /// Age at which a unit is of no use, ms.
    pub patience_ms: u32,
    /// Picture codecs that can be used.
    pub codecs: Vec<String>,
    /// How units are to travel.
    #[serde(default)]
    pub carriage: Carriage,
}

/// What a receiver is given.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Play {
    /// Counts up with each change; units carry its lower 16 bits.
    pub turn: u32,
    /// The source.
    pub source: String,
    /// The stream.
    pub stream: StreamOffer,
    /// `asked`, `slow`, `better` or `changed`.
    pub why: String,
    /// Where to hear it, when it goes to a group.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<GroupOffer>,
}

/// A group and its key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GroupOffer {
    /// Where.
    pub to: SocketAddr,
    /// Turn that the group's units carry.
    pub turn: u16,
    /// Synchronisation source (RFC 3550).
    pub ssrc: u32,
    /// AES-128 key, hexadecimal.
    pub key: String,
    /// 96-bit salt, hexadecimal.
    pub salt: String,
    /// Number of the next packet, with its wraps.
    pub next: u64,
}

/// What a receiver has seen since it last said so.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Report {
    /// Units passed on.
    pub units: u64,
    /// Units that came too late or not at all.
    pub missing: u64,
    /// Bytes.
    pub bytes: u64,
}

/// What a camera is to do.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum CameraVerb {
    /// Moves until told otherwise, at most so long. Speeds are -1 to 1.
    Move {
        /// To the right.
        pan: f64,
        /// Upwards.
        tilt: f64,
        /// In.
        zoom: f64,
        /// Longest, ms.
        for_ms: u32,
    },
    /// Stops.
    Stop,
    /// Goes home.
    Home,
    /// Goes to a stored place.
    Preset {
        /// Its number.
        number: u8,
    },
}

/// An order to a source's camera.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CameraOrder {
    /// Told again in the answer.
    pub id: u32,
    /// The source.
    pub source: String,
    /// What to do.
    #[serde(flatten)]
    pub verb: CameraVerb,
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CameraAnswer {
    /// Of which order.
    pub id: u32,
    /// Done.
    pub done: bool,
    /// Otherwise why not.
    #[serde(default)]
    pub why: String,
}

/// Packets of a group that did not come.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Repair {
    /// First and count, numbers with their wraps.
    pub ranges: Vec<(u64, u32)>,
}

/// A node, as a directory tells of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeEntry {
    /// Machine.
    pub machine: String,
    /// Number of the node.
    pub node: String,
    /// Its start.
    pub boot: u64,
    /// Its group.
    pub group: String,
    /// Own addresses; an unspecified one stands for that from which the directory hears it.
    pub at: Vec<SocketAddr>,
}

impl NodeEntry {
    /// Puts the address that it is seen at for one that says nothing.
    #[must_use]
    pub fn seen_from(mut self, from: IpAddr) -> Self {
        for at in &mut self.at {
            if at.ip().is_unspecified() {
                at.set_ip(from);
            }
        }
        self
    }
}

macro_rules! messages {
    ($($(#[$doc:meta])* $name:ident = $kind:literal ($body:ty),)*) => {
        /// A control message.
        #[derive(Debug, Clone, PartialEq)]
        pub enum Message { $($(#[$doc])* $name($body),)* }

        impl Message {
            /// Its type number.
            #[must_use]
            pub const fn kind(&self) -> u16 {
                match self { $(Self::$name(_) => $kind,)* }
            }

            /// Its body.
            #[must_use]
            pub fn body(&self) -> Vec<u8> {
                match self { $(Self::$name(b) => serde_json::to_vec(b),)* }.unwrap_or_default()
            }

            /// Reads a body; `None` for a type that is not known.
            ///
            /// # Errors
            /// The body is not what its type needs.
            pub fn read(kind: u16, body: &[u8]) -> Result<Option<Self>, serde_json::Error> {
                match kind {
                    $($kind => serde_json::from_slice(body).map(|b| Some(Self::$name(b))),)*
                    _ => Ok(None),
                }
            }

            /// Its name.
            #[must_use]
            pub const fn name(&self) -> &'static str {
                match self { $(Self::$name(_) => stringify!($name),)* }
            }
        }
    };
}

/// A tally, as a message.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TallyNote {
    /// The source.
    pub source: String,
    /// The word.
    pub tally: TallyWord,
}

/// A source of which something is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OfSource {
    /// The source.
    pub source: String,
}

/// Nodes, as a message.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Nodes {
    /// The nodes.
    pub nodes: Vec<NodeEntry>,
}

/// A farewell.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Bye {
    /// As a sentence.
    pub why: String,
}

/// Empty body.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Empty {}

messages! {
    /// Who speaks; the first message of both.
    Hello = 1 (Hello),
    /// Sent away.
    Refuse = 2 (Refusal),
    /// What there is.
    Catalogue = 3 (Catalogue),
    /// A wish.
    Ask = 4 (Ask),
    /// What is given.
    Play = 5 (Play),
    /// No more of it.
    Enough = 6 (Empty),
    /// On air, next or neither.
    Tally = 7 (TallyNote),
    /// To the camera.
    Camera = 8 (CameraOrder),
    /// From the camera.
    CameraDone = 9 (CameraAnswer),
    /// What was seen.
    Report = 10 (Report),
    /// What is to be sent again.
    Repair = 11 (Repair),
    /// To a directory: here I am.
    Announce = 12 (NodeEntry),
    /// From a directory: who is there.
    Nodes = 13 (Nodes),
    /// The last message.
    Bye = 14 (Bye),
    /// Asks for a picture at which decoding can start.
    Keyframe = 15 (OfSource),
}
