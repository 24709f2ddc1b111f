//! Picture, codec, size, rate, bitrate, keyframes, sound, delay, loss and headroom.

use super::{Items, Limits, Mark, Seen, Step};
use crate::{
    advice::say_share,
    facts::State,
    link::Link,
    model::Expect,
    units::{Bitrate, say_duration, say_rate, say_size},
    view::DefectView,
};
use std::time::Duration;

/// A bitrate may be this share off, measured over some seconds, sound and headers left out.
const BITRATE_TOLERANCE: f64 = 0.35;
/// Longest distance between keyframes, ms.
const KEYFRAME_MAX: u32 = 2100;

pub(super) fn judge(items: &mut Items, from: &Link, wanted: &Expect, latency: Duration, seen: &Seen, limits: &Limits, joined: bool) {
    let blank = Default::default();
    let media = seen.media.as_ref().unwrap_or(&blank);
    picture(items, from, seen, limits, joined);
    let there = seen.picture.is_some();
    let mut compare = |step, is: Option<String>, wants: Option<String>, same: bool, remedy: &str| match (is, wants) {
        _ if !there => items.open(step, "no picture yet"),
        (None, _) => items.open(step, "not known yet"),
        (Some(is), None) => items.passed(step, is),
        (Some(is), Some(_)) if same => items.passed(step, is),
        (Some(is), Some(wants)) => items.failed(step, format!("expected {wants}, receiving {is}"), remedy),
    };
    let codec = media.codec.as_deref();
    let same = media.encoding.as_deref().zip(wanted.codec.as_deref()).is_none_or(|(is, w)| is == w);
    compare(
        Step::Codec,
        codec.map(str::to_owned),
        wanted.codec.clone(),
        same,
        "Set the codec at the encoder, or change what the sheet expects.",
    );
    let same = media.size.zip(wanted.size).is_none_or(|(is, w)| is == w);
    compare(Step::Size, media.size.map(say_size), wanted.size.map(say_size), same, "Is it the main stream? Set the size at the encoder.");
    let same = media.rate.zip(wanted.rate).is_none_or(|(is, w)| (is - w).abs() <= w * crate::limits::RATE_TOLERANCE);
    compare(Step::Rate, media.rate.map(say_rate), wanted.rate.map(say_rate), same, "Set the frame rate at the encoder.");
    bitrate(items, wanted, seen, there);
    keyframes(items, media.keyframe_ms, media.keyframe_frames, there);
    sound(items, media.audio.as_deref(), wanted.audio, there);
    match seen.still {
        Some(true) => items.passed(Step::Still, "taken"),
        Some(false) => items.doubtful(Step::Still, "it shows one colour only", "Is the lens cap off, and the right input chosen?"),
        None if there && seen.decoded => {
            items.doubtful(Step::Still, "it cannot be decoded", "Look at it elsewhere: this decoder may not know its profile.")
        }
        None if there && seen.over => items.skipped(Step::Still, "none taken"),
        None => items.open(Step::Still, "no picture yet"),
    }
    stream(items, media.defects.as_deref(), there);
    delay(items, from, latency, seen, limits, there);
    loss(items, seen, limits, joined);
    headroom(items, seen, joined);
}

/// A way out: only the way itself can be judged here.
pub(super) fn judge_sent(items: &mut Items, to: &Link, seen: &Seen, limits: &Limits, joined: bool) {
    let sending = seen.link.rate_bps > 0;
    match to {
        _ if gone(seen).is_some() => items.failed(Step::Picture, gone(seen).unwrap_or_default(), GONE),
        Link::Srt(_) | Link::Rtsp(_) | Link::Rtmp(_) | Link::Stave(_) if !joined => items.open(Step::Picture, "nobody there yet"),
        _ if sending => items.passed(Step::Picture, format!("{} go out", Bitrate(seen.link.rate_bps))),
        _ if seen.over => items.failed(Step::Picture, "nothing goes out", "Its line is silent: solve that first."),
        _ => items.open(Step::Picture, "its line brings nothing yet"),
    }
    loss(items, seen, limits, joined);
    headroom(items, seen, joined);
}

/// What to do about a picture that was there.
const GONE: &str = "Pulled, switched off, or restarted there? Look at the other end, then check again.";

/// Why a picture that was there is not there any more.
fn gone(seen: &Seen) -> Option<String> {
    let lost = matches!(seen.link.state, Some(State::Broken | State::Waiting | State::Held));
    (lost && seen.picture.is_some()).then(|| format!("picture lost: {}", seen.link.reason))
}

fn picture(items: &mut Items, from: &Link, seen: &Seen, limits: &Limits, joined: bool) {
    let media = seen.link.packets > 0;
    if let Some(reason) = gone(seen) {
        return items.failed(Step::Picture, reason, GONE);
    }
    if let Some(after) = seen.picture {
        let took = after.saturating_sub(seen.joined.unwrap_or_default());
        if took > limits.first_picture {
            let found = format!("only after {}, {} is the limit", say_duration(took), say_duration(limits.first_picture));
            return items.doubtful(Step::Picture, found, "Set a shorter keyframe interval: a picture begins with a keyframe.");
        }
        return items.passed(Step::Picture, format!("after {}", say_duration(took)));
    }
    if !items.over {
        return items.open(Step::Picture, "waiting for the first picture");
    }
    match (joined, media) {
        (_, true) => {
            let remedy = "Is its video on, in H.264 or H.265, with keyframes? \"choir inspect\" says what comes.";
            items.failed(Step::Picture, "receiving media without a readable picture", remedy);
        }
        (true, false) => {
            items.failed(Step::Picture, "connected, no media", "Start the encoder there: it is connected, not sending.");
        }
        (false, false) if matches!(from, Link::Udp(_) | Link::Rtp(_)) => {
            let remedy = "Is it sent to this machine's address and this port, or to a group that the switch lets through?";
            items.failed(Step::Picture, "nothing comes", remedy);
        }
        (false, false) => items.open(Step::Picture, ""),
    }
}

fn bitrate(items: &mut Items, wanted: &Expect, seen: &Seen, there: bool) {
    if !there || seen.mean_bps == 0 {
        return items.open(Step::Bitrate, "no picture yet");
    }
    let (is, whole) = (Bitrate(seen.mean_bps), Bitrate(seen.mean_link_bps.max(seen.mean_bps)));
    // An encoder that holds its rate fills up what the picture does not need.
    let filled = whole.0 as f64 > is.0 as f64 * 1.2;
    let found = if filled { format!("{is} in {whole}") } else { is.to_string() };
    match wanted.bitrate.map(|w| (w, w.0 as f64)) {
        Some((w, n)) if n < is.0 as f64 * (1.0 - BITRATE_TOLERANCE) || n > whole.0 as f64 * (1.0 + BITRATE_TOLERANCE) => {
            items.doubtful(Step::Bitrate, format!("{found}, {w} is expected"), "Set the bitrate at the encoder, and cbr.");
        }
        _ => items.passed(Step::Bitrate, found),
    }
}

fn keyframes(items: &mut Items, ms: Option<u32>, frames: Option<u32>, there: bool) {
    match ms.filter(|_| there) {
        Some(ms) if ms > KEYFRAME_MAX => {
            let found = format!("every {:.1} s", f64::from(ms) / 1000.0);
            items.doubtful(Step::Keyframes, found, "Set 1 to 2 s: takes and late joiners wait for one.");
        }
        Some(ms) => {
            let every = format!("every {} s", say_rate(f64::from(ms) / 1000.0));
            items.passed(
                Step::Keyframes,
                match frames {
                    Some(1) => "with every picture".into(),
                    Some(n) => format!("{every}, {n} frames"),
                    None => every,
                },
            );
        }
        None if there && items.over => items.doubtful(Step::Keyframes, "no second one came in the time", "Set 1 to 2 s at the encoder."),
        None => items.open(Step::Keyframes, "not seen yet"),
    }
}

fn sound(items: &mut Items, audio: Option<&str>, wanted: Option<bool>, there: bool) {
    match (audio, wanted) {
        _ if !there => items.open(Step::Sound, "no picture yet"),
        (Some(a), Some(false)) => items.doubtful(Step::Sound, format!("{a}, none is expected"), "Mute it at the encoder, or expect it."),
        (Some(a), _) => items.passed(Step::Sound, a),
        (None, Some(true)) if items.over => items.failed(Step::Sound, "none", "Switch sound on at the encoder, and choose its input."),
        (None, Some(true)) => items.open(Step::Sound, "none yet"),
        (None, _) => items.skipped(Step::Sound, "none"),
    }
}

fn stream(items: &mut Items, defects: Option<&[DefectView]>, there: bool) {
    let Some(defects) = defects.filter(|_| there) else {
        return if there && items.over { items.skipped(Step::Stream, "not examined") } else { items.open(Step::Stream, "no picture yet") };
    };
    let mut real = defects.iter().filter(|d| !d.minor);
    match (real.next(), real.count()) {
        (None, _) => items.passed(Step::Stream, "no defects"),
        (Some(first), more) => {
            let others = if more > 0 { format!("; and {more} more") } else { String::new() };
            let found = format!("{} ({}){others}", first.text, first.clause);
            items.doubtful(Step::Stream, found, "\"choir inspect\" lists every defect with its first place.");
        }
    }
}

fn delay(items: &mut Items, from: &Link, latency: Duration, seen: &Seen, limits: &Limits, there: bool) {
    if matches!(from, Link::File(_) | Link::Wall(_)) {
        return items.skipped(Step::Delay, "it is no camera's");
    }
    let Some(ms) = seen.delay_ms else {
        return if there {
            items.skipped(Step::Delay, "its pictures do not carry their time")
        } else {
            items.open(Step::Delay, "no picture yet")
        };
    };
    let latency = from.srt().map_or(Duration::ZERO, |s| s.latency.unwrap_or(latency));
    let most = (latency + limits.delay).as_secs_f64() * 1000.0;
    if ms > most {
        let found = format!("{ms:.0} ms, {most:.0} ms at most");
        items.doubtful(
            Step::Delay,
            found,
            "Use the encoder's low-delay setting; and compare both clocks: a delay is only as right as they are.",
        );
    } else {
        items.passed(Step::Delay, if ms < 1.0 { "under 1 ms".into() } else { format!("{ms:.0} ms") });
    }
}

fn loss(items: &mut Items, seen: &Seen, limits: &Limits, joined: bool) {
    if !joined && seen.link.packets == 0 {
        return items.open(Step::Loss, "nothing came yet");
    }
    if seen.missing > 0 {
        let found = format!("{} missing after repair, {} lost on the way", packets(seen.missing), say_share(seen.lost));
        let remedy = "More latency, fewer bits, or another path: \"choir path\" measures it, \"choir advise\" says how much.";
        return items.failed(Step::Loss, found, remedy);
    }
    if seen.lost > limits.loss {
        let found = format!("{} lost, all repaired", say_share(seen.lost));
        return items.doubtful(Step::Loss, found, "It works, with little in reserve: find out where it is lost.");
    }
    let found = if seen.lost > 0.0 { format!("{} lost, all repaired", say_share(seen.lost)) } else { "nothing lost".into() };
    items.passed(Step::Loss, found);
}

fn packets(n: u64) -> String {
    if n == 1 { "1 packet is".into() } else { format!("{n} packets are") }
}

fn headroom(items: &mut Items, seen: &Seen, joined: bool) {
    let Some((least, latency)) = seen.headroom_ms.zip(seen.link.latency_ms.filter(|l| *l > 0.0)) else {
        return match joined && seen.link.latency_ms.is_some() {
            true => items.open(Step::Headroom, "not measured yet"),
            false if joined || items.over => items.add(Step::Headroom, Mark::Skipped, "no latency to be measured", ""),
            false => items.open(Step::Headroom, "nothing came yet"),
        };
    };
    let found = format!("{least:.0} of {latency:.0} ms");
    if least < crate::limits::headroom_ms(latency) {
        items.doubtful(Step::Headroom, found, "More latency: \"choir path\" measures how much is needed.");
    } else {
        items.passed(Step::Headroom, found);
    }
}
