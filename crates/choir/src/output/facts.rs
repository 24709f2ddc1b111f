//! What an inspected source is, one fact a line.

use super::tables::digits;
use choir_core::{
    units::{Bitrate, say_rate, say_size},
    view::{InspectView, PictureView},
};
use std::fmt::Write;

/// All of it. `line` is the line that it was compared with.
pub fn inspected(v: &InspectView, line: Option<&str>) -> String {
    let mut out = String::new();
    if !v.found {
        let _ = writeln!(out, "{}: nothing there", v.url);
        v.notes.iter().for_each(|n| fact(&mut out, "note", n));
        return out;
    }
    let _ = writeln!(out, "{}: looked at for {:.1} s\n", v.url, v.seconds);
    if let (Some(how), peer) = (&v.how, &v.peer) {
        let from = peer.as_ref().map_or_else(String::new, |p| format!(", from {p}"));
        fact(&mut out, "came by", &format!("{how}{from}"));
    }
    let streams: Vec<String> = v.streams.iter().map(|s| format!("{} {}", s.kind, Bitrate(s.rate_bps))).collect();
    fact(&mut out, "streams", &if streams.is_empty() { "not known".into() } else { streams.join(", ") });
    if let Some(p) = &v.picture {
        picture(&mut out, p);
    }
    fact(&mut out, "sound", v.sound.as_deref().unwrap_or("none"));
    let r = &v.rate_bps;
    let (mean, second, tenth) = (Bitrate(r.mean), Bitrate(r.peak_1s), Bitrate(r.peak_100ms));
    fact(&mut out, "bitrate", &format!("{mean} mean, {second} peak over 1 s, {tenth} over 100 ms"));
    let (interval, jitter) = (digits(v.pcr_interval_ms), digits(v.pcr_jitter_ms));
    fact(&mut out, "clock", &format!("references at most {interval} ms apart, arrival within {jitter} ms of it"));
    let delay = v.delay_ms.map(|(a, m, z)| format!("{} ms ({} to {}) from the camera's clock to here", digits(m), digits(a), digits(z)));
    fact(&mut out, "delay", delay.as_deref().unwrap_or("not known: the picture carries no time"));
    if v.problems.is_empty() && v.defects.iter().all(|d| d.minor) {
        fact(&mut out, "stream", "no problem");
    }
    for d in &v.defects {
        let place = format!("first at byte {}, {:.3} s", d.byte, d.ms as f64 / 1000.0);
        fact(&mut out, if d.minor { "remark" } else { "defect" }, &format!("{}; {place}; {}", d.text, d.clause));
    }
    v.problems.iter().for_each(|p| fact(&mut out, "problem", p));
    v.notes.iter().for_each(|n| fact(&mut out, "note", n));
    match (&v.differs, line) {
        (Some(d), Some(line)) if d.is_empty() => fact(&mut out, "expected", &format!("as line {line} has it")),
        (Some(d), _) => d.iter().for_each(|d| fact(&mut out, "differs", d)),
        _ => {}
    }
    out
}

fn fact(out: &mut String, name: &str, text: &str) {
    let _ = writeln!(out, "{name:<11} {text}");
}

fn picture(out: &mut String, p: &PictureView) {
    let mut parts = vec![p.codec.clone()];
    parts.extend(p.profile.as_ref().map(|n| format!("{n} {}", p.level.as_deref().unwrap_or_default()).trim().to_owned()));
    parts.extend(p.size.map(say_size));
    parts.extend(p.bit_depth.map(|b| format!("{b} bits")));
    fact(out, "picture", &parts.join(", "));
    let declared = p.declared_rate.map_or("no rate declared".to_owned(), |r| format!("{} a second declared", say_rate(r)));
    let measured = p.measured_rate.map_or("not measured".to_owned(), |r| format!("{r:.2} measured"));
    let missing = match p.frames_missing {
        Some(0) => ", none missing".to_owned(),
        Some(n) => format!(", {n} missing by their numbers"),
        None => String::new(),
    };
    fact(out, "frames", &format!("{declared}, {measured}, {} seen{missing}", p.frames));
    let keyframes = match (p.keyframe_frames, p.keyframe_seconds) {
        (Some((a, z)), Some((s, t))) if a == z && t - s < 0.005 => format!("each {a} frames, {s:.2} s"),
        (Some((a, z)), Some((s, t))) => format!("each {a} to {z} frames, {s:.2} to {t:.2} s"),
        _ => "fewer than two in this time".into(),
    };
    fact(out, "keyframes", &keyframes);
    fact(out, "B-pictures", if p.b_pictures { "yes: pictures are shown in another order than they come" } else { "none" });
    fact(out, "colour", p.colour.as_deref().unwrap_or("not said"));
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::view::{DefectView, RatesView, StreamView};

    #[test]
    fn every_fact_is_said() {
        let picture = PictureView {
            codec: "H.265".into(),
            profile: Some("main".into()),
            level: Some("3.1".into()),
            size: Some((960, 540)),
            bit_depth: Some(8),
            colour: Some("BT.709, limited range".into()),
            declared_rate: Some(25.0),
            measured_rate: Some(24.998),
            frames: 125,
            frames_missing: Some(2),
            keyframe_frames: Some((25, 50)),
            keyframe_seconds: Some((1.0, 2.0)),
            b_pictures: true,
        };
        let view = InspectView {
            url: "rtsp://127.20.0.13/main".into(),
            found: true,
            how: Some("RTP by UDP".into()),
            peer: Some("127.20.0.13:554".into()),
            seconds: 5.0,
            streams: vec![StreamView { pid: 256, kind: "H.265".into(), picture: true, rate_bps: 1_900_000 }],
            picture: Some(picture),
            rate_bps: RatesView { mean: 2_000_000, peak_1s: 2_400_000, peak_100ms: 9_000_000 },
            delay_ms: Some((10.0, 12.0, 15.0)),
            problems: vec!["arrival varies by 80 ms".into()],
            defects: vec![DefectView {
                name: "continuity".into(),
                text: "3 packets missing by the continuity counter; PID 256".into(),
                pid: Some(256),
                count: 3,
                byte: 18_800,
                ms: 1234,
                clause: "ISO 13818-1, 2.4.3.3".into(),
                minor: false,
            }],
            notes: vec!["track 3 is left aside".into()],
            differs: Some(vec!["h265 comes, h264 is expected".into()]),
            ..InspectView::default()
        };
        let text = inspected(&view, Some("umpire-launch"));
        for wanted in [
            "RTP by UDP, from 127.20.0.13:554",
            "H.265 1.9 Mbps",
            "main 3.1, 960x540, 8 bits",
            "25 a second declared, 25.00 measured, 125 seen, 2 missing",
            "each 25 to 50 frames, 1.00 to 2.00 s",
            "yes: pictures",
            "BT.709, limited range",
            "2.0 Mbps mean, 2.4 Mbps peak over 1 s, 9.0 Mbps over 100 ms",
            "12 ms (10 to 15)",
            "problem     arrival varies",
            "defect      3 packets missing by the continuity counter; PID 256; first at byte 18800, 1.234 s; ISO 13818-1, 2.4.3.3",
            "track 3",
            "h265 comes",
        ] {
            assert!(text.contains(wanted), "{wanted} in\n{text}");
        }
        let none = InspectView { url: "udp://:5004".into(), ..InspectView::default() };
        assert_eq!(inspected(&none, None), "udp://:5004: nothing there\n");
    }
}
