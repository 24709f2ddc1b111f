//! Views of media.

use choir_core::{
    sheet::{Expect, Mismatch},
    view::{MediaView, StreamView},
};
use choir_proto::ts::{MediaInfo, StreamInfo, StreamKind};
use std::collections::HashMap;

/// How the media of a line differs from what the sheet expects.
pub(crate) fn mismatches(expect: &Expect, info: &MediaInfo) -> Vec<Mismatch> {
    let codec = info.streams.iter().find(|s| s.kind.is_video()).map(|s| codec_word(s.kind));
    let picture = info.video.as_ref();
    let size = picture.and_then(|p| p.format.as_ref()).map(|f| (f.width, f.height));
    expect.differences(codec, size, picture.and_then(|p| p.measured_rate))
}

/// As a sheet writes it.
pub(crate) fn codec_word(kind: StreamKind) -> &'static str {
    if kind == StreamKind::H265 { "h265" } else { "h264" }
}

/// The sound of a programme, in words.
pub(crate) fn sound_words(info: &MediaInfo) -> Option<String> {
    let kind = info.streams.iter().find(|s| !s.kind.is_video())?.kind.to_string();
    Some(match info.audio {
        Some((rate, channels)) => {
            let channels = match channels {
                1 => "mono".to_owned(),
                2 => "stereo".to_owned(),
                n => format!("{n} channels"),
            };
            format!("{kind} {} kHz {channels}", f64::from(rate) / 1000.0)
        }
        None => kind,
    })
}

/// Every stream with its rate, from bytes and bits per second by PID.
pub(crate) fn stream_views(info: &MediaInfo, rates: &HashMap<u16, (u64, u64)>) -> Vec<StreamView> {
    let rate = |pid: u16| rates.get(&pid).map_or(0, |r| r.1);
    let view = |s: &StreamInfo| StreamView { pid: s.pid, kind: s.kind.to_string(), picture: s.kind.is_video(), rate_bps: rate(s.pid) };
    info.streams.iter().map(view).collect()
}

pub(crate) fn media_view(info: &MediaInfo) -> MediaView {
    let video = info.video.as_ref();
    let format = video.and_then(|v| v.format.as_ref());
    MediaView {
        codec: info.streams.iter().find(|s| s.kind.is_video()).map(|s| s.kind.to_string()),
        encoding: info.streams.iter().find(|s| s.kind.is_video()).map(|s| codec_word(s.kind).to_owned()),
        profile: format.map(|f| format!("{} {}", f.profile, f.level)),
        size: format.map(|f| (f.width, f.height)),
        rate: video.and_then(|v| v.measured_rate).or(format.and_then(|f| f.declared_rate)),
        keyframe_ms: video.and_then(|v| v.keyframe_ms),
        keyframe_frames: video.and_then(|v| v.keyframe_frames),
        audio: sound_words(info),
        pcr_interval_ms: info.pcr.interval_max_us as f64 / 1000.0,
        pcr_jitter_ms: info.pcr.jitter_us as f64 / 1000.0,
        continuity_errors: info.counters.continuity_errors,
        pcr_faults: info.faults.pcr,
        pts_faults: info.faults.pts,
        frames: video.map_or(0, |v| v.frames),
        frame: video.and_then(|v| v.stamp).and_then(|s| s.0.frame),
        streams: Vec::new(),
        defects: None,
    }
}
