//! What the lines carry: codecs and sizes that the far side does not take, rates that do not go
//! together, keyframes, bitrates, sound.

use super::Whole;
use crate::{
    budget::H265_SHARE,
    device::{Keyframe, Sound},
    finding::Grade,
    link::Link,
    model::{Expect, SLATE, same_rate},
    sheet::reader::Reader,
    units::{Bitrate, say_rate, say_size},
};

/// Longest distance between keyframes, s: a take and a late joiner wait that long.
const KEYFRAME_MAX: f64 = 2.0;
/// The same for platforms that are published to.
const PLATFORM_KEYFRAME_MAX: f64 = 4.0;
/// Bits per pixel of H.264 at 1920x1080 and 25 frames per second: below it falls apart, above is
/// wasted.
const BITS_PER_PIXEL: (f64, f64) = (0.04, 0.32);

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole) {
    for (line, spot) in whole.lines() {
        let wanted = whole.sheet.wanted(line);
        let subject = format!("line \"{}\"", line.name);
        let place = |key: &str| spot.of_value(&format!("expect.{key}"));
        let source = whole.sheet.source_of(&line.name);
        // What the device's entry says is judged there.
        let (own, here) = (&line.expect, source.is_none());
        if own.rate.is_some() || here {
            rates(r, whole, place("rate"), &subject, &wanted);
        }
        if own.keyframe.is_some() || here {
            keyframes(r, place("keyframe"), &subject, &wanted);
        }
        if own.bitrate.is_some() || here {
            // Without a grade the best there is comes.
            let intra = matches!(&line.from, Link::Stave(s) if s.grade.as_deref().is_none_or(|g| g == "intra"));
            bitrate(r, place("bitrate"), &subject, &wanted, intra);
        }
        if let Some((device, stream, wish)) = source
            && line.expect.audio == Some(true)
            && wish.audio == Some(Sound::Off)
        {
            let what = format!("sound is expected, but device \"{}\" has it off in its {stream} stream.", device.name);
            r.add(Grade::Warning, place("audio"), &subject, what, "Write audio = \"on\" at the device, or expect none.");
        }
    }
    for (device, spot) in whole.devices() {
        let subject = format!("device \"{}\"", device.name);
        for (stream, wish) in &device.streams {
            let place = |key: &str| spot.of_value(&format!("{stream}.{key}"));
            let wanted = Expect::of(wish);
            rates(r, whole, place("rate"), &subject, &wanted);
            keyframes(r, place("keyframe"), &subject, &wanted);
            bitrate(r, place("bitrate"), &subject, &wanted, false);
            if wish.audio.as_ref().is_some_and(|a| *a != Sound::Off) && wish.audio_input.as_deref() == Some("none") {
                let what = format!("its {stream} stream has sound on, but nothing is plugged into its audio input.");
                r.add(Grade::Warning, place("audio"), &subject, what, "Plug it in and say so with audio-input, or write audio = \"off\".");
            }
        }
    }
    feeds(r, whole);
}

fn is_multiple(a: f64, b: f64) -> bool {
    let ratio = a.max(b) / a.min(b);
    (ratio - ratio.round()).abs() < 0.0005
}

fn rates(r: &mut Reader<'_>, whole: &Whole, at: usize, subject: &str, wanted: &Expect) {
    let Some(rate) = wanted.rate else { return };
    if let Some(show) = whole.sheet.show.rate.filter(|show| !is_multiple(rate, *show)) {
        let what = format!("{} frames per second do not go into the show's {}.", say_rate(rate), say_rate(show));
        let remedy = format!("Set the camera to {}, its half or its double: else frames are repeated or dropped.", say_rate(show));
        r.add(Grade::Warning, at, subject, what, remedy);
    }
    // Lamps flicker with twice the mains frequency; 59.94 drifts too slowly to be seen.
    if let Some(mains) = whole.sheet.show.mains.map(f64::from) {
        let flashes = 2.0 * mains / rate;
        if (flashes - flashes.round()).abs() > 0.005 * flashes {
            let what = format!("{} frames per second under lamps on {mains} Hz mains will flicker.", say_rate(rate));
            let good = if mains < 55.0 { "25 or 50" } else { "30 or 60" };
            r.add(Grade::Warning, at, subject, what, format!("Use {good} frames per second, or a shutter of 1/{} s.", 2.0 * mains));
        }
    }
}

fn keyframes(r: &mut Reader<'_>, at: usize, subject: &str, wanted: &Expect) {
    let (Some(keyframe), Some(rate)) = (wanted.keyframe, wanted.rate) else { return };
    let seconds = match keyframe {
        Keyframe::Seconds(s) => s,
        Keyframe::Frames(n) => f64::from(n) / rate,
    };
    if seconds > KEYFRAME_MAX * 1.001 {
        let what = format!("a keyframe comes every {seconds:.1} s: whoever joins, and every take, waits that long.");
        r.add(Grade::Warning, at, subject, what, format!("2 s or less: {} frames.", (2.0 * rate).round()));
    } else if let Keyframe::Frames(n) = keyframe
        && ((seconds * 2.0).round().max(1.0) / 2.0 - seconds).abs() > 0.01
    {
        let fitting = ((seconds * 2.0).round().max(1.0) / 2.0 * rate).round();
        let what = format!("{n} frames are {seconds:.2} s at {} frames per second, which is not a whole or half second.", say_rate(rate));
        r.add(Grade::Advice, at, subject, what, format!("Write \"{fitting} frames\", or seconds."));
    }
}

/// Bitrates that suit a picture, least and greatest. Small and fast pictures need more and less per
/// pixel.
fn band(codec: &str, (w, h): (u32, u32), rate: f64) -> (u64, u64) {
    let pixels = f64::from(w) * f64::from(h);
    let scale = pixels * rate * (2_073_600.0 / pixels).powf(0.25) * (25.0 / rate).powf(0.3);
    let share = if codec == "h265" { H265_SHARE } else { 1.0 };
    ((BITS_PER_PIXEL.0 * share * scale) as u64, (BITS_PER_PIXEL.1 * share * scale) as u64)
}

/// `intra`: every picture may stand by itself, which takes many times as much.
fn bitrate(r: &mut Reader<'_>, at: usize, subject: &str, wanted: &Expect, intra: bool) {
    let (Some(codec), Some(size), Some(rate), Some(bitrate)) = (&wanted.codec, wanted.size, wanted.rate, wanted.bitrate) else { return };
    let (least, most) = band(codec, size, rate);
    let (low, high) = (Bitrate(least), Bitrate(most));
    let picture = format!("{codec} at {} and {} frames per second", say_size(size), say_rate(rate));
    if bitrate < low {
        let what = format!("{bitrate} is little for {picture}: motion will break up.");
        r.add(Grade::Warning, at, subject, what, format!("Between {low} and {high}; or a smaller picture."));
    } else if bitrate > high && !intra {
        let what = format!("{bitrate} is more than {picture} can use.");
        r.add(Grade::Advice, at, subject, what, format!("Between {low} and {high}: the rest is better spent on retransmissions."));
    }
}

/// What servers that are published to by RTMP demand in general.
fn platforms(r: &mut Reader<'_>, subject: &str, at: usize, wanted: &[(&str, Expect)]) {
    for (name, w) in wanted {
        let rate = w.rate.unwrap_or(25.0);
        let keyframes = w.keyframe.map(|k| f64::from(k.frames(rate)) / rate).filter(|s| *s > PLATFORM_KEYFRAME_MAX);
        if let Some(seconds) = keyframes {
            let what = format!("line \"{name}\" has keyframes each {} s, and it is published by RTMP.", say_rate(seconds));
            r.add(
                Grade::Warning,
                at,
                subject,
                what,
                "Platforms want one each 4 s at most, most of them each 2 s: set it so at the encoder.",
            );
        }
        if w.audio == Some(false) {
            let what = format!("line \"{name}\" has no sound, and it is published by RTMP.");
            r.add(
                Grade::Advice,
                at,
                subject,
                what,
                "Many platforms refuse a stream without sound: switch it on, or take sound = \"LINE\".",
            );
        }
    }
}

fn feeds(r: &mut Reader<'_>, whole: &Whole) {
    for (feed, spot) in whole.feeds() {
        let subject = format!("feed \"{}\"", feed.name);
        let wanted: Vec<(&str, Expect)> =
            whole.sheet.lines_of(feed).into_iter().map(|l| (l.name.as_str(), whole.sheet.wanted(l))).collect();
        let Some(((first, f), rest)) = wanted.split_first() else { continue };
        let a = &feed.accepts;
        let mut plain = feed.to.iter().filter(|to| to.encode.is_none()).peekable();
        for (name, w) in &wanted {
            for (key, has, takes) in plain.peek().map(|to| a.refuses(&to.carries(w))).unwrap_or_default() {
                let what = format!("line \"{name}\" brings {has}, which its destinations do not take.");
                let remedy = format!("They take {}: set the camera so, take another line, or encode it for them.", takes.join(", "));
                r.add(Grade::Error, spot.of_value(&format!("accepts.{key}")), &subject, what, remedy);
            }
        }
        for (n, to) in feed.to.iter().enumerate().filter(|(_, to)| to.encode.is_some()) {
            for (key, has, takes) in a.refuses(&to.carries(f)) {
                let what = format!("line \"{first}\" is encoded as {has}, which is not taken there.");
                let remedy = format!("Taken is {}.", takes.join(", "));
                r.add(Grade::Error, spot.of_value(&format!("to.{n}.encode.{key}")), &subject, what, remedy);
            }
        }
        // What is encoded anew goes on through a take.
        let rest = if plain.peek().is_some() { rest } else { &[] };
        for (name, w) in rest {
            let mut mixed = Vec::new();
            if let Some((f, w)) = f.codec.as_ref().zip(w.codec.as_ref()).filter(|(f, w)| !(f == w || a.takes_codec(f) && a.takes_codec(w)))
            {
                mixed.push(format!("{f} and {w}"));
            }
            if let Some((f, w)) = f.size.zip(w.size).filter(|(f, w)| !(f == w || a.takes_size(*f) && a.takes_size(*w))) {
                mixed.push(format!("{} and {}", say_size(f), say_size(w)));
            }
            if let Some((f, w)) = f.rate.zip(w.rate).filter(|(f, w)| !(same_rate(*f, *w) || a.takes_rate(*f) && a.takes_rate(*w))) {
                mixed.push(format!("{} and {} frames per second", say_rate(f), say_rate(w)));
            }
            if !mixed.is_empty() {
                let what = format!("line \"{name}\" does not match line \"{first}\": {}.", mixed.join("; "));
                let remedy =
                    "A take between them restarts the decoder at the far end: set both the same, or name all that it takes in accepts.";
                r.add(Grade::Warning, spot.of_value("takes"), &subject, what, remedy);
            }
        }
        if let Some(to) = feed.to.iter().find(|to| matches!(&to.link, Link::Rtmp(r) if !r.listens)) {
            let published: Vec<(&str, Expect)> = wanted.iter().map(|(name, w)| (*name, to.carries(w))).collect();
            platforms(r, &subject, spot.of_value("to"), &published);
        }
        let slate = feed.standby.as_ref().is_some_and(|s| s.lines.iter().any(|l| l == SLATE)) && whole.sheet.line(SLATE).is_none();
        if slate && plain.peek().is_some() && f.codec.as_deref() == Some("h265") && !a.takes_codec("h264") {
            let what = format!("the slate that stands in for line \"{first}\" is h264, the line is h265.");
            let remedy = "The decoder at the far end restarts: let a line or a clip in h265 stand in, or name both in accepts.codec.";
            r.add(Grade::Warning, spot.of_value("standby"), &subject, what, remedy);
        }
    }
}
