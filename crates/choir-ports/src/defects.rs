//! Defects of a transport stream in words.

use choir_core::view::DefectView;
use choir_proto::ts::{TsFault, TsFinding};

/// A finding as it is shown.
#[must_use]
pub fn defect(f: &TsFinding) -> DefectView {
    DefectView {
        name: name(f.fault).to_owned(),
        text: sentence(f),
        pid: f.pid,
        count: f.count,
        byte: f.byte,
        ms: f.ms,
        clause: f.fault.clause().to_owned(),
        minor: f.minor,
    }
}

/// A word for scripts and for scanning.
const fn name(fault: TsFault) -> &'static str {
    match fault {
        TsFault::Sync => "sync",
        TsFault::TransportError => "transport-error",
        TsFault::AdaptationField => "adaptation-field",
        TsFault::Continuity => "continuity",
        TsFault::Repeated => "duplicate-packet",
        TsFault::NoPat => "pat-missing",
        TsFault::NoPmt => "pmt-missing",
        TsFault::TableInterval => "psi-interval",
        TsFault::TableChecksum => "psi-crc",
        TsFault::TableVersion => "psi-version",
        TsFault::UnlistedPid => "pid-not-in-pmt",
        TsFault::SilentPid => "pid-silent",
        TsFault::StreamType => "stream-type",
        TsFault::NoPcr => "pcr-missing",
        TsFault::PcrInterval => "pcr-interval",
        TsFault::PcrBack => "pcr-back",
        TsFault::PcrJump => "pcr-jump",
        TsFault::DtsBack => "dts-back",
        TsFault::DtsJump => "dts-jump",
        TsFault::DtsLate => "dts-late",
        TsFault::DtsEarly => "dts-early",
        TsFault::PtsBeforeDts => "pts-before-dts",
        TsFault::PesHeader => "pes-header",
        TsFault::PesLength => "pes-length",
        TsFault::AdtsLength => "adts-length",
        TsFault::SoundGap => "audio-gap",
        TsFault::SoundOverlap => "audio-overlap",
        TsFault::NoParameterSets => "parameter-sets-missing",
        TsFault::NoRandomAccess => "random-access-flag-missing",
        TsFault::NoDelimiter => "delimiter-missing",
        TsFault::SplitPicture => "picture-split",
        TsFault::MidGop => "mid-gop-start",
        TsFault::OneKeyframe => "one-keyframe",
        TsFault::NoKeyframe => "keyframe-missing",
    }
}

fn sentence(f: &TsFinding) -> String {
    let (n, worst) = (f.count, f.worst);
    let many = |one: &str, many: &str| if n == 1 { format!("1 {one}") } else { format!("{n} {many}") };
    let what = match f.fault {
        TsFault::Sync => many("byte between packets: packet sync lost", "bytes between packets: packet sync lost"),
        TsFault::TransportError => many("packet marked as damaged", "packets marked as damaged"),
        TsFault::AdaptationField => many("adaptation field with a wrong length", "adaptation fields with a wrong length"),
        TsFault::Continuity => many("packet missing by the continuity counter", "packets missing by the continuity counter"),
        TsFault::Repeated => many("packet sent twice", "packets sent twice"),
        TsFault::NoPat => "no PAT: no receiver can find the programme".into(),
        TsFault::NoPmt => "no PMT: no receiver can find picture and sound".into(),
        TsFault::TableInterval => format!("{}, up to {worst} ms; limit 500 ms", many("gap between tables", "gaps between tables")),
        TsFault::TableChecksum => many("table with a wrong checksum", "tables with a wrong checksum"),
        TsFault::TableVersion => many("table changed without a new version", "tables changed without a new version"),
        TsFault::UnlistedPid => many("packet on a PID that is not in the PMT", "packets on a PID that is not in the PMT"),
        TsFault::SilentPid => "listed in the PMT, but no packet".into(),
        TsFault::StreamType => "wrong stream type in the PMT: the stream carries another codec".into(),
        TsFault::NoPcr => "no clock reference (PCR)".into(),
        TsFault::PcrInterval => format!(
            "{}, up to {worst} ms; limit {}",
            many("PCR gap", "PCR gaps"),
            if f.minor { "40 ms in broadcasting (ETSI TR 101 290)" } else { "100 ms" }
        ),
        TsFault::PcrBack => {
            format!("{}, by up to {worst} ms", many("PCR not later than the one before", "PCRs not later than the one before"))
        }
        TsFault::PcrJump => format!("{}, up to {worst} ms, not announced", many("PCR jump", "PCR jumps")),
        TsFault::DtsBack => {
            format!("{}, by up to {worst} ms", many("DTS not later than the one before", "DTS not later than the one before"))
        }
        TsFault::DtsJump => format!("{}, up to {worst} ms", many("DTS jump ahead", "DTS jumps ahead")),
        TsFault::DtsLate => format!("{} after the DTS, by up to {worst} ms", many("unit complete only", "units complete only")),
        TsFault::DtsEarly => format!("{}, by up to {worst} ms", many("unit too long before its DTS", "units too long before their DTS")),
        TsFault::PtsBeforeDts => format!("{}, by up to {worst} ms", many("PTS before its DTS", "PTS before their DTS")),
        TsFault::PesHeader => many("PES packet without a header", "PES packets without a header"),
        TsFault::PesLength => many("PES packet with a wrong length", "PES packets with a wrong length"),
        TsFault::AdtsLength => many("PES packet whose ADTS frame lengths are wrong", "PES packets whose ADTS frame lengths are wrong"),
        TsFault::SoundGap => format!("{}, up to {worst} ms", many("audio gap", "audio gaps")),
        TsFault::SoundOverlap => format!("{}, up to {worst} ms", many("audio overlap", "audio overlaps")),
        TsFault::NoParameterSets => many("keyframe without parameter sets (SPS, PPS)", "keyframes without parameter sets (SPS, PPS)"),
        TsFault::NoRandomAccess => many("keyframe without the random access flag", "keyframes without the random access flag"),
        TsFault::NoDelimiter => many("picture without an access unit delimiter", "pictures without an access unit delimiter"),
        TsFault::SplitPicture => many("PES packet that starts inside a picture", "PES packets that start inside a picture"),
        TsFault::MidGop => format!("starts inside a GOP: {} before the first keyframe", many("picture", "pictures")),
        TsFault::OneKeyframe => format!("one keyframe only: no other for {:.1} s", worst as f64 / 1000.0),
        TsFault::NoKeyframe => format!("no keyframe for {:.1} s", worst as f64 / 1000.0),
    };
    f.pid.map_or(what.clone(), |pid| format!("{what}; PID {pid}"))
}
