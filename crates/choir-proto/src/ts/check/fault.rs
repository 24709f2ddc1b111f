//! What can be wrong with a transport stream, and the clause that says so.

/// A defect. ISO means ISO/IEC 13818-1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum TsFault {
    /// Bytes between packets; counted in bytes.
    Sync,
    /// The sender marked packets as damaged.
    TransportError,
    /// An adaptation field whose length or contents cannot be.
    AdaptationField,
    /// Packets missing by their counter; counted in packets, at least so many.
    Continuity,
    /// The same packet twice, which the standard allows once for each.
    Repeated,
    /// No programme association table.
    NoPat,
    /// No programme map table.
    NoPmt,
    /// Tables too far apart; worst in ms.
    TableInterval,
    /// Tables with a wrong checksum.
    TableChecksum,
    /// A table changed without a new version number.
    TableVersion,
    /// Packets on a PID that no table lists.
    UnlistedPid,
    /// A stream that the table lists sends nothing.
    SilentPid,
    /// The codec is not what the table says.
    StreamType,
    /// No clock references.
    NoPcr,
    /// Clock references too far apart; worst in ms.
    PcrInterval,
    /// A clock reference that is not later than the one before; worst in ms.
    PcrBack,
    /// The clock jumps ahead by more than a second; worst in ms.
    PcrJump,
    /// A decoding time that is not later than the one before; worst in ms.
    DtsBack,
    /// A decoding time more than a second after the one before; worst in ms.
    DtsJump,
    /// Units that are complete only after their decoding time; worst in ms.
    DtsLate,
    /// Units that come longer before their decoding time than a decoder keeps them; worst in ms.
    DtsEarly,
    /// To be shown before it is decoded.
    PtsBeforeDts,
    /// A PES packet begins without its header.
    PesHeader,
    /// A PES packet is longer or shorter than it says.
    PesLength,
    /// ADTS frames are not as long as they say.
    AdtsLength,
    /// Sound is missing between two units; worst in ms.
    SoundGap,
    /// Two units of sound overlap; worst in ms.
    SoundOverlap,
    /// Keyframes without parameter sets.
    NoParameterSets,
    /// Keyframes without the random access flag.
    NoRandomAccess,
    /// Pictures without an access unit delimiter.
    NoDelimiter,
    /// Pictures split over several PES packets.
    SplitPicture,
    /// Pictures before the first keyframe.
    MidGop,
    /// One keyframe and no second; worst in ms since then.
    OneKeyframe,
    /// No keyframe at all.
    NoKeyframe,
}

impl TsFault {
    /// Where it is written.
    #[must_use]
    pub const fn clause(self) -> &'static str {
        match self {
            Self::Sync | Self::TransportError | Self::Continuity | Self::Repeated => "ISO 13818-1, 2.4.3.3",
            Self::AdaptationField | Self::NoRandomAccess => "ISO 13818-1, 2.4.3.5",
            Self::PcrBack | Self::PcrJump => "ISO 13818-1, 2.4.3.5 (discontinuity_indicator)",
            Self::NoPat => "ISO 13818-1, 2.4.4.3",
            Self::NoPmt | Self::UnlistedPid | Self::SilentPid => "ISO 13818-1, 2.4.4.8",
            Self::TableVersion => "ISO 13818-1, 2.4.4.9",
            Self::StreamType => "ISO 13818-1, table 2-34",
            Self::TableInterval => "ETSI TR 101 290, 5.2.1 (1.3, 1.5)",
            Self::TableChecksum => "ISO 13818-1, annex A",
            Self::NoPcr | Self::PcrInterval => "ISO 13818-1, 2.7.2",
            Self::DtsBack | Self::DtsJump | Self::PtsBeforeDts => "ISO 13818-1, 2.7.5",
            Self::DtsLate => "ISO 13818-1, 2.4.2.3",
            Self::DtsEarly => "ISO 13818-1, 2.4.2.7",
            Self::PesHeader | Self::PesLength | Self::SplitPicture => "ISO 13818-1, 2.4.3.7",
            Self::AdtsLength => "ISO 14496-3, 1.A.2.2",
            Self::SoundGap | Self::SoundOverlap => "ISO 13818-1, 2.7.4",
            Self::NoParameterSets | Self::NoDelimiter => "ISO 13818-1, 2.14.1 and 2.17.1",
            Self::MidGop | Self::OneKeyframe | Self::NoKeyframe => "ITU-T H.264, 7.4.1.2.1; H.265, 7.4.2.4.4",
        }
    }
}

/// A defect of one stream: how often, and where it first was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TsFinding {
    /// What.
    pub fault: TsFault,
    /// The PID it is on, where it is on one.
    pub pid: Option<u16>,
    /// How often.
    pub count: u64,
    /// Greatest value, in the unit that the fault names; else 0.
    pub worst: u64,
    /// Offset of the first from the first byte, that of the packet it shows in.
    pub byte: u64,
    /// When the first was, by the stream's own clock from its first reference, ms.
    pub ms: u64,
    /// Worth knowing, but usual or allowed: no reason to call the stream defective.
    pub minor: bool,
}
