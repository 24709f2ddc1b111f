//! Snapshots of a running show: what the live view draws, `status` prints, and JSON carries.

use crate::{
    command::By,
    facts::{AlarmGrade, EventGrade, Fault, State},
};
use serde::{Deserialize, Serialize};

/// The whole show at one moment.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ShowView {
    /// Name of the show.
    pub show: String,
    /// Process that runs it.
    pub pid: u32,
    /// When it started, ms since 1970.
    pub started_ms: u64,
    /// Now, ms since 1970.
    pub now_ms: u64,
    /// Lines in sheet order.
    pub lines: Vec<LineView>,
    /// Feeds in sheet order.
    pub feeds: Vec<FeedView>,
    /// Alarms that are open, and those over that nobody has acknowledged; oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alarms: Vec<AlarmView>,
    /// How the live view tells of them.
    #[serde(default)]
    pub tell: TellView,
    /// Rotas in sheet order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rotas: Vec<RotaView>,
    /// What keys do, by the sheet.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<KeyView>,
    /// What is being recorded.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub recordings: Vec<RecordingView>,
    /// Latest events, oldest first.
    pub events: Vec<EventView>,
    /// What stand-ins at the far ends measured, in a demo.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub inputs: Vec<InputView>,
    /// Threads that serve SRT links.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub threads: Vec<ThreadView>,
}

impl ShowView {
    /// Alarms of a line, those of many that it is part of included.
    pub fn alarms_of<'a>(&'a self, line: &LineView) -> impl Iterator<Item = &'a AlarmView> {
        let subject = format!("line {}", line.name);
        self.alarms.iter().filter(move |a| a.subject == subject || a.members.contains(&subject))
    }
}

/// A thread that serves the SRT links of some lines and of the feeds that begin with them.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ThreadView {
    /// As the system calls it.
    pub name: String,
    /// Lines that it serves.
    pub lines: Vec<String>,
    /// Links that it serves, in and out.
    pub links: usize,
    /// Percent of a core that it took in the last second.
    pub cpu_percent: f64,
    /// How late packets left in the last second, ms: half of them no later than this.
    pub late_half_ms: f64,
    /// 99 of 100 no later than this.
    pub late_99_ms: f64,
    /// None later than this.
    pub late_most_ms: f64,
}

/// Numbers of one SRT connection or other way in or out.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct LinkView {
    /// Where it leads, without secrets.
    pub url: String,
    /// State.
    pub state: Option<State>,
    /// Why.
    pub reason: String,
    /// What is wrong, as far as it has a name: the one to fix first comes first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub causes: Vec<SinceView>,
    /// What keeps it from coming up, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<Fault>,
    /// The other end.
    pub peer: Option<String>,
    /// Where several ends are connected, each of them; what is said of the link is that of the
    /// worst.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ends: Vec<EndView>,
    /// Since when it is up, ms since 1970.
    pub up_since_ms: Option<u64>,
    /// Bits per second, now.
    pub rate_bps: u64,
    /// Round-trip time, ms.
    pub rtt_ms: Option<f64>,
    /// Packets missing at first, percent of the last seconds.
    pub lost_percent: f64,
    /// Packets missing after recovery, percent.
    pub missing_percent: f64,
    /// Totals since the link came up.
    pub packets: u64,
    /// Missing at first.
    pub lost: u64,
    /// Of those, recovered.
    pub recovered: u64,
    /// Missing after recovery.
    pub missing: u64,
    /// Sent again.
    pub resent: u64,
    /// Dropped before sending: too late, or no room.
    pub dropped: u64,
    /// Least headroom of the last second, ms.
    pub headroom_ms: Option<f64>,
    /// Latency in force, ms.
    pub latency_ms: Option<f64>,
    /// Who asked for what, as a sentence.
    pub latency_asked: Option<String>,
    /// How it travels, in words, where there is a choice: `RTP over TCP`, `2 viewers`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub how: Option<String>,
    /// The address that viewers of a served feed paste.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub paste: Vec<String>,
    /// Encryption in words.
    pub encryption: String,
    /// What the peer says it is: `SRT 1.5.4`, or what an RTSP server calls itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peer_version: Option<String>,
    /// What the path has room for, bits per second with all headers, as bursts that queued on it
    /// have shown; of a way out, as the peer says. None where no burst has queued.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capacity_bps: Option<u64>,
    /// Connections so far, beyond the first.
    #[serde(default)]
    pub reconnects: u32,
    /// The last second, the last ten, and all since the start; asked for by name alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub spans: Vec<SpanView>,
    /// Length of the AES key in force, bits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_bits: Option<u16>,
    /// Datagrams that the system dropped since its buffer was full.
    pub kernel_drops: u64,
    /// Pictures are encoded anew for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encoding: Option<EncodingView>,
}

/// How pictures are encoded anew for a way out.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct EncodingView {
    /// As the sheet wants it.
    pub wanted: String,
    /// Size of its pictures.
    pub size: Option<String>,
    /// Pictures a second.
    pub rate: Option<f64>,
    /// Cores that it took in the last second.
    pub cores: Option<f64>,
    /// From a picture's arrival to its being sent on, the longest of the last second, ms.
    pub takes_ms: Option<f64>,
    /// Pictures left out for want of time.
    pub left_out: u64,
    /// Ways out that share it.
    pub shared_by: usize,
}

/// A way in or out over a span of time.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct SpanView {
    /// Length of the span, as far as the way was up in it, s.
    pub seconds: f64,
    /// Media, bits per second: mean and least of its seconds.
    pub rate_bps: (u64, u64),
    /// On the wire, repeats and headers included: mean, bits per second.
    pub wire_bps: u64,
    /// Round trips: least, mean, and what 95 of 100 do not exceed, ms.
    pub rtt_ms: Option<(f64, f64, f64)>,
    /// Variation of the time on the way: mean and greatest of its seconds, ms.
    pub jitter_ms: Option<(f64, f64)>,
    /// Headroom: least, and what 99 of 100 fifths of a second do not fall below, ms.
    pub headroom_ms: Option<(f64, f64)>,
    /// Packets.
    pub packets: u64,
    /// Lost on the path, before repair.
    pub lost: u64,
    /// The same as a share of all, percent.
    pub lost_percent: f64,
    /// Packets lost in a row: mean and longest run.
    pub burst: Option<(f64, u32)>,
    /// Sent again (way out), or that came as repeats (way in).
    pub resent: u64,
    /// Repaired in time (way in).
    pub recovered: u64,
    /// Came after their time (way in).
    pub late: u64,
    /// Missing after repair: of a way out, as far as its sender knows.
    pub missing: u64,
    /// The greatest that has come through in a second, bits per second on the wire: the path
    /// carries no less.
    pub carried_bps: u64,
}

/// One of several ends that are connected to a link.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct EndView {
    /// Its address.
    pub peer: String,
    /// Since when it is connected, ms since 1970.
    pub since_ms: u64,
    /// Round-trip time, ms.
    pub rtt_ms: Option<f64>,
    /// Latency in force, ms.
    pub latency_ms: Option<f64>,
    /// Packets since it came.
    pub packets: u64,
    /// Of those, missing at first.
    pub lost: u64,
    /// Sent again.
    pub resent: u64,
    /// Dropped before sending: too late, or no room.
    pub dropped: u64,
    /// What it says it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
}

/// One second of a line's history.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
pub struct Sample {
    /// Bits per second.
    pub rate_bps: u64,
    /// ms; negative when packets came too late.
    pub headroom_ms: Option<f64>,
    /// ms.
    pub rtt_ms: Option<f64>,
    /// Shortest round trip, ms.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rtt_least_ms: Option<f64>,
    /// Variation of the time on the way from packet to packet, ms (RFC 3550, 6.4.1).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jitter_ms: Option<f64>,
    /// Packets missing at first.
    pub lost: u64,
    /// Runs of packets missing at first.
    #[serde(default)]
    pub holes: u64,
    /// Of those missing at first, repaired.
    #[serde(default)]
    pub recovered: u64,
    /// Packets missing after recovery.
    pub missing: u64,
}

/// What a line carries.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct MediaView {
    /// `H.264`.
    pub codec: Option<String>,
    /// The same as a sheet writes it: `h264`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// `high 3.1`.
    pub profile: Option<String>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second: measured, else declared.
    pub rate: Option<f64>,
    /// ms from keyframe to keyframe.
    pub keyframe_ms: Option<u32>,
    /// Frames from keyframe to keyframe.
    pub keyframe_frames: Option<u32>,
    /// `AAC 48 kHz stereo`.
    pub audio: Option<String>,
    /// Every stream of the programme.
    #[serde(default)]
    pub streams: Vec<StreamView>,
    /// Longest distance between clock references, ms.
    pub pcr_interval_ms: f64,
    /// Spread of arrival against the stream's clock, ms.
    pub pcr_jitter_ms: f64,
    /// Transport packets missing by their counters.
    pub continuity_errors: u64,
    /// Clock references more than 100 ms apart, or that jump.
    #[serde(default)]
    pub pcr_faults: u64,
    /// Pictures whose decoding time does not come after the one before, or more than 0.7 s after.
    #[serde(default)]
    pub pts_faults: u64,
    /// Frames so far.
    pub frames: u64,
    /// Last frame number, where the picture carries one.
    pub frame: Option<u64>,
    /// What is wrong with the transport stream, while it is examined.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub defects: Option<Vec<DefectView>>,
}

/// One stream of a programme.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct StreamView {
    /// Its packets.
    pub pid: u16,
    /// `H.264`.
    pub kind: String,
    /// It carries pictures.
    #[serde(default)]
    pub picture: bool,
    /// Bits per second, packet headers included.
    pub rate_bps: u64,
}

/// What receivers do with a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TallyView {
    /// It comes next.
    Next,
    /// It is on air.
    OnAir,
}

impl TallyView {
    /// As people say it.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Next => "next",
            Self::OnAir => "on air",
        }
    }
}

/// One line.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct LineView {
    /// Name.
    pub name: String,
    /// Title.
    pub title: String,
    /// Networks that it crosses, by the sheet.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<String>,
    /// The way in.
    pub link: LinkView,
    /// What it carries.
    pub media: MediaView,
    /// From the camera's clock to here, ms, where the picture carries its time.
    pub delay_ms: Option<f64>,
    /// Of a wall: the line that it shows alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub full: Option<String>,
    /// Feeds that carry it.
    pub feeds: Vec<String>,
    /// What receivers of these feeds do with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tally: Option<TallyView>,
    /// The last minute, oldest first.
    pub history: Vec<Sample>,
    /// The last decoded picture.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub picture: Option<PictureAgeView>,
    /// Levels of the sound, as far as it can be decoded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub levels: Option<LevelsView>,
    /// What is wrong with picture or sound.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub content: Vec<SinceView>,
}

/// The last decoded picture of a line.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
pub struct PictureAgeView {
    /// Time since it came, ms.
    pub age_ms: u64,
    /// Pixels, before it was made smaller.
    pub size: (u32, u32),
}

/// Levels of a line's sound over the last moment.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct LevelsView {
    /// Highest sample of each channel, dBFS.
    pub peak_dbfs: Vec<f64>,
    /// Loudness of the last 0.4 s (ITU-R BS.1770), LUFS; `None` below -70.
    pub momentary_lufs: Option<f64>,
    /// Loudness of the last 3 s, LUFS.
    pub short_term_lufs: Option<f64>,
    /// How much later sound comes than the picture it belongs to, ms.
    pub apart_ms: Option<i32>,
}

/// Something wrong, and since when.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SinceView {
    /// `black`, `silent`, `path-full` ...: fixed words, for scripts.
    pub name: String,
    /// What is wrong, in words.
    pub text: String,
    /// Since when, ms since 1970.
    pub since_ms: u64,
}

/// One feed.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct FeedView {
    /// Name.
    pub name: String,
    /// Title.
    pub title: String,
    /// Line that is on.
    pub line: String,
    /// Line that waits for its keyframe.
    pub next: Option<String>,
    /// Line that the engineer has said to come next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub preview: Option<String>,
    /// What stands in for the chosen line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stand_in: Option<StandInView>,
    /// What would stand in, in this order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub standby: Vec<String>,
    /// Takes made.
    pub takes: u64,
    /// How far it is behind its line, ms: that came on at once, from its last keyframe.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub behind_ms: Option<f64>,
    /// Where its sound comes from, where that is not simply its picture's line: `of commentary, 120
    /// ms later`, `off`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sound: Option<String>,
    /// What comes back of it from its viewers' side, where the sheet says how.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confirm: Option<ConfirmView>,
    /// What its receivers do with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tally: Option<TallyView>,
    /// Ways out.
    pub outs: Vec<LinkView>,
    /// From the camera's clock to the switching input, ms: delay to here, the way, and the latency
    /// there.
    pub delay_to_input_ms: Option<f64>,
}

/// Whether a picture of a feed comes back from its viewers' side.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConfirmView {
    /// Where from.
    pub from: String,
    /// When a picture came last, ms since 1970.
    pub seen_ms: Option<u64>,
    /// Its size.
    pub size: Option<String>,
    /// Why none came at the last look.
    pub failed: Option<String>,
}

/// A key that the sheet gives something to do.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeyView {
    /// `F1` to `F12`.
    pub key: String,
    /// What it does, in the words of the command line.
    pub order: String,
}

/// A rota.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RotaView {
    /// Name.
    pub name: String,
    /// Its feed.
    pub feed: String,
    /// `running`, `paused` or `stopped`.
    pub state: String,
    /// The present step, from 1; that at which it would start.
    pub step: usize,
    /// All steps, as the sheet has them.
    pub steps: Vec<RotaStepView>,
    /// How long the present step still lasts, ms; none while a clip plays once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left_ms: Option<u64>,
    /// The first comes again after the last.
    pub repeat: bool,
}

/// One step of a rota.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RotaStepView {
    /// Its line.
    pub line: String,
    /// How long it is on, ms; none for a clip that plays once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lasts_ms: Option<u64>,
}

/// A recording.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct RecordingView {
    /// `line dock`, `feed boathouse-1`.
    pub subject: String,
    /// Where.
    pub folder: String,
    /// The file that is being written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// When it began, ms since 1970.
    pub since_ms: u64,
    /// Files so far.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What is written now, bits per second.
    pub rate_bps: u64,
    /// How many hours the disk lasts at the rate of all recordings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours_left: Option<f64>,
    /// Why it cannot be written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}

/// A line that has failed, and for which another stands in.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StandInView {
    /// The line that the engineer chose.
    pub chosen: String,
    /// Why it failed.
    pub why: String,
    /// When it did, ms since 1970.
    pub since_ms: u64,
    /// How it comes back.
    pub returns: String,
}

/// How the live view tells of alarms.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TellView {
    /// By the terminal's bell.
    pub bell: bool,
    /// By a desktop notification of the terminal.
    pub desktop: bool,
}

/// An alarm.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct AlarmView {
    /// Counts from 1.
    pub number: u64,
    /// `line finish-tower`, `network boat-radio`.
    pub subject: String,
    /// `silent-link`, `path-full`, `limit-loss` ...: fixed words, for scripts.
    pub kind: String,
    /// How bad.
    pub grade: AlarmGrade,
    /// What is wrong, as a sentence.
    pub text: String,
    /// When the trouble began, ms since 1970.
    pub since_ms: u64,
    /// When it became an alarm, ms since 1970.
    pub raised_ms: u64,
    /// How often it came back before anybody acknowledged it.
    #[serde(default)]
    pub again: u32,
    /// Who has acknowledged it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub acknowledged: Option<By>,
    /// When it was over, ms since 1970.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub over_ms: Option<u64>,
    /// Lines and ways out that are part of it, where there are several.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<String>,
}

impl AlarmView {
    /// It is open, and nobody has acknowledged it.
    #[must_use]
    pub fn calls(&self) -> bool {
        self.over_ms.is_none() && self.acknowledged.is_none()
    }
}

/// Something that happened.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct EventView {
    /// Counts from 1.
    pub number: u64,
    /// ms since 1970.
    pub at_ms: u64,
    /// `line finish-tower`.
    pub subject: String,
    /// A sentence.
    pub text: String,
    /// How bad.
    pub grade: EventGrade,
}

/// What a switching input measured of what reached it.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct InputView {
    /// Input's name.
    pub name: String,
    /// Frames received.
    pub frames: u64,
    /// Frames missing by their numbers.
    pub frames_missing: u64,
    /// Keyframes.
    pub keyframes: u64,
    /// From the camera's clock to here, ms: least, median and greatest of the last seconds.
    pub delay_ms: Option<(f64, f64, f64)>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Bits per second.
    pub rate_bps: u64,
    /// What the switcher does with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tally: Option<TallyView>,
}

/// What a timed probe found at a source.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct InspectView {
    /// The source, without secrets.
    pub url: String,
    /// Media came.
    pub found: bool,
    /// Why not, or how it stands.
    pub reason: String,
    /// How it travels, in words.
    pub how: Option<String>,
    /// The other end.
    pub peer: Option<String>,
    /// Length of the look, s.
    pub seconds: f64,
    /// Every stream, with its bits per second.
    pub streams: Vec<StreamView>,
    /// The picture.
    pub picture: Option<PictureView>,
    /// `AAC 48 kHz stereo`.
    pub sound: Option<String>,
    /// Bits per second of the whole: mean, and the greatest over 1 s and over 100 ms.
    pub rate_bps: RatesView,
    /// Longest distance between clock references, ms.
    pub pcr_interval_ms: f64,
    /// Spread of arrival against the stream's clock, ms.
    pub pcr_jitter_ms: f64,
    /// From the camera's clock to here, ms: least, median and greatest; where the picture carries
    /// its time.
    pub delay_ms: Option<(f64, f64, f64)>,
    /// What is wrong with arrival and rates, as sentences.
    pub problems: Vec<String>,
    /// What in the stream is against the standard, in order of place; minor ones last.
    #[serde(default)]
    pub defects: Vec<DefectView>,
    /// What the source said of itself, as sentences: tracks left aside, a transport that failed.
    pub notes: Vec<String>,
    /// How it differs from what its line expects, as sentences; `None` without a line to compare
    /// with.
    pub differs: Option<Vec<String>>,
}

/// A defect of a transport stream.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct DefectView {
    /// `continuity`, `pcr-interval` ...: fixed words, for scripts.
    pub name: String,
    /// What is wrong, as a sentence.
    pub text: String,
    /// The PID it is on.
    pub pid: Option<u16>,
    /// How often.
    pub count: u64,
    /// Offset of the first, in bytes from the first byte received.
    pub byte: u64,
    /// Time of the first by the stream's clock, ms from its first reference.
    pub ms: u64,
    /// The clause that it breaks.
    pub clause: String,
    /// Usual or allowed: no reason to call the stream defective.
    pub minor: bool,
}

/// The picture of an inspected source.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct PictureView {
    /// `H.264`.
    pub codec: String,
    /// `high`.
    pub profile: Option<String>,
    /// `3.1`.
    pub level: Option<String>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Bits per luma sample.
    pub bit_depth: Option<u8>,
    /// `BT.709, limited range`, where it is said.
    pub colour: Option<String>,
    /// Frames per second as the parameter set has it.
    pub declared_rate: Option<f64>,
    /// Frames per second by the time stamps.
    pub measured_rate: Option<f64>,
    /// Frames seen.
    pub frames: u64,
    /// Frames missing by their numbers, where they carry one.
    pub frames_missing: Option<u64>,
    /// Frames from keyframe to keyframe: least and greatest.
    pub keyframe_frames: Option<(u32, u32)>,
    /// Seconds from keyframe to keyframe: least and greatest.
    pub keyframe_seconds: Option<(f64, f64)>,
    /// Pictures that are shown in another order than they come.
    pub b_pictures: bool,
}

/// Bits per second.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
pub struct RatesView {
    /// Over the whole look.
    pub mean: u64,
    /// Greatest over any second.
    pub peak_1s: u64,
    /// Greatest over any tenth of a second.
    pub peak_100ms: u64,
}

/// A measured path.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct PathView {
    /// The other side.
    pub peer: String,
    /// Media bits per second that were sent each way.
    pub rate_bps: u64,
    /// For how long, s.
    pub seconds: f64,
    /// Round-trip time, ms: least, 50 %, 95 %, 99 %, greatest.
    pub rtt_ms: [f64; 5],
    /// The other clock minus ours, ms.
    pub clock_ahead_ms: Option<f64>,
    /// How far off that may be, ms.
    pub clock_error_ms: Option<f64>,
    /// From here to there.
    pub out: WayView,
    /// From there to here.
    pub back: WayView,
    /// Greatest datagram that came through, bytes with IP and UDP headers, of those tried (up to
    /// 1500).
    pub size: Option<u16>,
}

/// One way of a path.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct WayView {
    /// Packets sent.
    pub sent: u32,
    /// Packets that came.
    pub received: u32,
    /// Share lost, 0 to 1.
    pub loss: f64,
    /// Times that packets were missing in a row.
    pub bursts: u32,
    /// Mean number missing in a row.
    pub burst: f64,
    /// Most missing in a row.
    pub longest_burst: u32,
    /// Packets that came after a later one.
    pub reordered: u32,
    /// Packets that came again.
    pub doubled: u32,
    /// One-way delay above its least, ms: 50 %, 95 %, 99 %, 99.9 %, greatest.
    pub jitter_ms: [f64; 5],
    /// Bits per second that some packets in one go arrived with.
    pub rate_bps: Option<u64>,
}

/// A node on the LAN of names.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct NodeView {
    /// Its machine; empty before it has said its name.
    pub machine: String,
    /// Where it is.
    pub at: String,
    /// Its names are known.
    pub open: bool,
    /// Otherwise why not.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
    /// `key`, `pinned`, both, or `open`.
    pub secured: String,
    /// Its names.
    pub names: Vec<NameView>,
}

/// A name on the LAN.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct NameView {
    /// The name.
    pub name: String,
    /// What is on it at present, in words.
    pub carries: String,
    /// Receivers.
    pub viewers: u32,
    /// What they do with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tally: Option<TallyView>,
    /// Its camera may be steered by name.
    pub steered: bool,
    /// It goes to a group as well.
    pub multicast: bool,
    /// Its streams.
    pub streams: Vec<NamedStreamView>,
}

/// One stream of a name.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct NamedStreamView {
    /// `intra`, `long-gop` or `sub`.
    pub grade: String,
    /// `h264`.
    pub codec: String,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub rate: Option<f64>,
    /// Bits per second, measured.
    pub rate_bps: u64,
    /// `aac 2x48 kHz`: codec, channels, samples per second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sound: Option<String>,
}
