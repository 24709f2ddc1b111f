//! What is wanted beside what there is; what cannot be; what comes on the wire.

use super::{
    Sound, StreamWish,
    view::{StreamOptions, StreamView},
};
use crate::limits;
use crate::units::{Bitrate, say_rate, say_size};
use serde::Serialize;

/// A constant bitrate may be this share off, measured over some seconds.
const CONSTANT_TOLERANCE: f64 = 0.25;
/// A variable one may exceed its limit by this share over some seconds.
const LIMIT_TOLERANCE: f64 = 0.15;

/// One setting that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// `main bitrate`, `network address`.
    pub what: String,
    /// As the sheet wants it.
    pub wanted: String,
    /// As it is.
    pub actual: String,
}

/// A wish that the device cannot fulfil.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Impossible {
    /// Setting.
    pub what: String,
    /// As the sheet wants it.
    pub wanted: String,
    /// What there is to choose from.
    pub possible: String,
}

fn or_unknown<T: ToString>(value: Option<T>) -> String {
    value.map_or_else(|| "not said".into(), |v| v.to_string())
}

/// To the kilobit, since devices round.
fn bitrate_text(bps: u64) -> String {
    if bps.is_multiple_of(100_000) { Bitrate(bps).to_string() } else { format!("{} kbps", bps / 1000) }
}

/// How a stream differs from what is wanted.
#[must_use]
pub fn differences(wish: &StreamWish, is: &StreamView) -> Vec<Difference> {
    let mut found = Vec::new();
    let mut differs = |what: &str, wanted: String, actual: String| {
        if wanted != actual {
            found.push(Difference { what: format!("{} {what}", is.name), wanted, actual });
        }
    };
    if let Some(input) = &wish.input {
        differs("input", input.clone(), or_unknown(is.input.clone()));
    }
    if let Some(codec) = &wish.codec {
        differs("codec", codec.clone(), or_unknown(is.codec.clone()));
    }
    if let Some(profile) = &wish.profile {
        differs("profile", profile.clone(), or_unknown(is.profile.clone()));
    }
    if let Some(size) = wish.size {
        differs("size", say_size(size), or_unknown(is.size.map(say_size)));
    }
    if let Some(rate) = wish.rate {
        // The first media service rounds 29.97 to 30.
        let same = is.rate.is_some_and(|r| (r - rate).abs() < 0.05 || r == rate.round());
        differs("rate", say_rate(rate), if same { say_rate(rate) } else { or_unknown(is.rate.map(say_rate)) });
    }
    if let Some(bitrate) = wish.bitrate {
        differs("bitrate", bitrate_text(bitrate.0), or_unknown(is.bitrate_bps.map(bitrate_text)));
    }
    if let Some(control) = wish.rate_control {
        // A device that cannot say is not asked.
        differs("rate-control", control.to_string(), is.rate_control.clone().unwrap_or_else(|| control.to_string()));
    }
    if let Some(keyframe) = wish.keyframe {
        let frames = keyframe.frames(wish.rate.or(is.rate).unwrap_or(25.0));
        let text = |n: u32| format!("{n} frames");
        differs("keyframe", text(frames), or_unknown(is.keyframe_frames.map(text)));
    }
    if let Some(sound) = &wish.audio {
        let actual = match (&is.audio, sound) {
            (Some(_), Sound::On) => "on".into(),
            (Some(codec), _) => codec.clone(),
            (None, _) => "off".into(),
        };
        differs("audio", sound.to_string(), actual);
    }
    if let Some(group) = wish.multicast {
        let text = |g: Option<(std::net::Ipv4Addr, u16)>| g.map_or_else(|| "off".into(), |(ip, port)| format!("{ip}:{port}"));
        differs("multicast", text(group), text(is.multicast));
    }
    found
}

/// Which wishes a stream cannot have. Where the device says nothing, nothing is judged.
#[must_use]
pub fn impossible(wish: &StreamWish, is: &StreamView, inputs: &[String]) -> Vec<Impossible> {
    let mut found = Vec::new();
    let mut add = |what: &str, wanted: String, possible: String| {
        found.push(Impossible { what: format!("{} {what}", is.name), wanted, possible });
    };
    if let Some(input) = wish.input.as_ref().filter(|i| !inputs.is_empty() && !inputs.contains(i)) {
        add("input", input.clone(), inputs.join(", "));
    }
    let codecs: Vec<&str> = is.options.iter().map(|o| o.codec.as_str()).collect();
    let Some(codec) = wish.codec.as_deref().or(is.codec.as_deref()) else { return found };
    if codecs.is_empty() {
        return found;
    }
    let Some(o) = is.options.iter().find(|o| o.codec == codec) else {
        add("codec", codec.to_owned(), codecs.join(", "));
        return found;
    };
    options(wish, is, o, &mut add);
    found
}

fn options(wish: &StreamWish, is: &StreamView, o: &StreamOptions, add: &mut impl FnMut(&str, String, String)) {
    let with = |list: String| format!("{list} (with {})", o.codec);
    if let Some(profile) = wish.profile.as_ref().filter(|p| !o.profiles.is_empty() && !o.profiles.contains(p)) {
        add("profile", profile.clone(), with(o.profiles.join(", ")));
    }
    // Another codec may not have the size and rate that are set now.
    let changed = wish.codec.is_some() && wish.codec != is.codec;
    let size = wish.size.or(is.size.filter(|_| changed));
    if let Some(size) = size.filter(|s| !o.sizes.is_empty() && !o.sizes.contains(s)) {
        add("size", say_size(size), with(o.sizes.iter().map(|s| say_size(*s)).collect::<Vec<_>>().join(", ")));
    }
    let rate = wish.rate.or(is.rate.filter(|_| changed));
    if let Some(rate) = rate {
        let listed = o.rates.is_empty() || o.rates.iter().any(|r| (r - rate).abs() < 0.05);
        let within = o.rate_range.is_none_or(|(a, z)| (a - 0.01..=z + 0.01).contains(&rate));
        if !listed {
            add("rate", say_rate(rate), with(o.rates.iter().map(|r| say_rate(*r)).collect::<Vec<_>>().join(", ")));
        } else if !within {
            let (a, z) = o.rate_range.unwrap_or_default();
            add("rate", say_rate(rate), with(format!("{} to {}", say_rate(a), say_rate(z))));
        }
    }
    if let (Some(bitrate), Some((a, z))) = (wish.bitrate, o.bitrate_bps)
        && !(a..=z).contains(&bitrate.0)
    {
        add("bitrate", bitrate.to_string(), with(format!("{} to {}", Bitrate(a), Bitrate(z))));
    }
    if let (Some(keyframe), Some((a, z))) = (wish.keyframe, o.keyframe_frames) {
        let frames = keyframe.frames(wish.rate.or(is.rate).unwrap_or(25.0));
        if !(a..=z).contains(&frames) {
            add("keyframe", format!("{frames} frames"), with(format!("{a} to {z} frames")));
        }
    }
    if wish.rate_control == Some(super::RateControl::Constant) && o.constant == Some(false) {
        add("rate-control", "cbr".into(), with("vbr".into()));
    }
}

/// What came on the wire.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Measured {
    /// `h264`, `h265`.
    pub codec: Option<String>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub rate: Option<f64>,
    /// Frames from keyframe to keyframe: fewest, most.
    pub keyframe_frames: Option<(u32, u32)>,
    /// Picture alone, bits per second.
    pub bitrate_bps: Option<u64>,
    /// Sound comes.
    pub audio: Option<bool>,
}

/// How what comes differs from what is wanted. `constant` says how the bitrate is to be judged.
#[must_use]
pub fn on_the_wire(name: &str, wish: &StreamWish, constant: bool, is: &Measured) -> Vec<Difference> {
    let mut found = Vec::new();
    let mut differs = |what: &str, wanted: String, actual: String| {
        found.push(Difference { what: format!("{name} {what}"), wanted, actual });
    };
    if let Some(codec) = wish.codec.as_ref().filter(|c| is.codec.as_ref() != Some(c)) {
        differs("codec", codec.clone(), or_unknown(is.codec.clone()));
    }
    if let Some(size) = wish.size.filter(|s| is.size != Some(*s)) {
        differs("size", say_size(size), or_unknown(is.size.map(say_size)));
    }
    if let Some(rate) = wish.rate.filter(|w| is.rate.is_none_or(|r| (r - w).abs() > w * limits::RATE_TOLERANCE)) {
        differs("rate", say_rate(rate), or_unknown(is.rate.map(say_rate)));
    }
    if let (Some(keyframe), Some((a, z))) = (wish.keyframe, is.keyframe_frames) {
        let wanted = keyframe.frames(wish.rate.or(is.rate).unwrap_or(25.0));
        if a != wanted || z != wanted {
            differs("keyframe", format!("{wanted} frames"), if a == z { format!("{a} frames") } else { format!("{a} to {z} frames") });
        }
    }
    if let (Some(wanted), Some(bps)) = (wish.bitrate, is.bitrate_bps) {
        let share = bps as f64 / wanted.0.max(1) as f64 - 1.0;
        if share > LIMIT_TOLERANCE.max(if constant { CONSTANT_TOLERANCE } else { 0.0 }) || (constant && share < -CONSTANT_TOLERANCE) {
            differs("bitrate", wanted.to_string(), Bitrate(bps).to_string());
        }
    }
    if let (Some(sound), Some(comes)) = (&wish.audio, is.audio) {
        let wanted = *sound != Sound::Off;
        if wanted != comes {
            let word = |on: bool| if on { "on" } else { "off" }.to_owned();
            differs("audio", word(wanted), word(comes));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::{
        super::{Keyframe, RateControl},
        *,
    };

    fn stream() -> StreamView {
        StreamView {
            name: "main".into(),
            input: Some("1".into()),
            codec: Some("h264".into()),
            profile: Some("main".into()),
            size: Some((1280, 720)),
            rate: Some(25.0),
            bitrate_bps: Some(4_000_000),
            rate_control: Some("vbr".into()),
            keyframe_frames: Some(50),
            audio: Some("aac".into()),
            options: vec![
                StreamOptions {
                    codec: "h264".into(),
                    sizes: vec![(1280, 720), (640, 360)],
                    rate_range: Some((1.0, 50.0)),
                    bitrate_bps: Some((256_000, 8_000_000)),
                    keyframe_frames: Some((1, 100)),
                    profiles: vec!["main".into(), "high".into()],
                    constant: Some(false),
                    ..StreamOptions::default()
                },
                StreamOptions { codec: "h265".into(), sizes: vec![(960, 540)], rates: vec![25.0], ..StreamOptions::default() },
            ],
            ..StreamView::default()
        }
    }

    #[test]
    fn only_what_differs_is_told() {
        assert!(differences(&StreamWish::default(), &stream()).is_empty());
        let wish = StreamWish {
            input: Some("2".into()),
            codec: Some("h264".into()),
            size: Some((640, 360)),
            rate: Some(25.0),
            bitrate: Some(Bitrate(2_500_000)),
            rate_control: Some(RateControl::Constant),
            keyframe: Some(Keyframe::Seconds(2.0)),
            audio: Some(Sound::Off),
            multicast: Some(Some(([239, 20, 0, 1].into(), 6000))),
            ..StreamWish::default()
        };
        let told: Vec<String> = differences(&wish, &stream()).iter().map(|d| format!("{}: {} / {}", d.what, d.wanted, d.actual)).collect();
        assert_eq!(
            told,
            [
                "main input: 2 / 1",
                "main size: 640x360 / 1280x720",
                "main bitrate: 2.5 Mbps / 4.0 Mbps",
                "main rate-control: cbr / vbr",
                "main audio: off / aac",
                "main multicast: 239.20.0.1:6000 / off"
            ]
        );
    }

    #[test]
    fn an_impossible_wish_gets_what_is_possible() {
        let tell = |wish: StreamWish| -> Vec<String> {
            let all = impossible(&wish, &stream(), &["1".into(), "2".into()]);
            all.iter().map(|i| format!("{} {}: {}", i.what, i.wanted, i.possible)).collect()
        };
        let wish = StreamWish {
            input: Some("5".into()),
            profile: Some("baseline".into()),
            size: Some((1920, 1080)),
            rate: Some(60.0),
            bitrate: Some(Bitrate(20_000_000)),
            keyframe: Some(Keyframe::Seconds(10.0)),
            rate_control: Some(RateControl::Constant),
            ..StreamWish::default()
        };
        assert_eq!(
            tell(wish),
            [
                "main input 5: 1, 2",
                "main profile baseline: main, high (with h264)",
                "main size 1920x1080: 1280x720, 640x360 (with h264)",
                "main rate 60: 1 to 50 (with h264)",
                "main bitrate 20.0 Mbps: 256 kbps to 8.0 Mbps (with h264)",
                "main keyframe 600 frames: 1 to 100 frames (with h264)",
                "main rate-control cbr: vbr (with h264)",
            ]
        );
        // Another codec brings the size of today into question.
        assert_eq!(tell(StreamWish { codec: Some("h265".into()), ..StreamWish::default() }), ["main size 1280x720: 960x540 (with h265)"]);
        assert_eq!(tell(StreamWish { codec: Some("av1".into()), ..StreamWish::default() }), ["main codec av1: h264, h265"]);
    }

    #[test]
    fn the_wire_is_judged_with_the_tolerance_that_it_needs() {
        let wish = StreamWish {
            codec: Some("h264".into()),
            size: Some((640, 360)),
            rate: Some(25.0),
            bitrate: Some(Bitrate(2_000_000)),
            keyframe: Some(Keyframe::Seconds(1.0)),
            audio: Some(Sound::On),
            ..StreamWish::default()
        };
        let good = Measured {
            codec: Some("h264".into()),
            size: Some((640, 360)),
            rate: Some(25.1),
            keyframe_frames: Some((25, 25)),
            bitrate_bps: Some(1_700_000),
            audio: Some(true),
        };
        assert!(on_the_wire("main", &wish, true, &good).is_empty());
        let low = Measured { bitrate_bps: Some(800_000), ..good.clone() };
        assert_eq!((on_the_wire("main", &wish, true, &low).len(), on_the_wire("main", &wish, false, &low).len()), (1, 0));
        let bad = Measured {
            codec: Some("h265".into()),
            size: None,
            rate: Some(30.0),
            keyframe_frames: Some((25, 50)),
            bitrate_bps: Some(2_600_000),
            audio: Some(false),
        };
        assert_eq!(on_the_wire("main", &wish, true, &bad).len(), 6);
    }
}
