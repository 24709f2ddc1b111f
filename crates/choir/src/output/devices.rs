//! Devices as they are, what differs, and what was done to them.

use super::{sentences::hanging, tables::digits};
use choir_core::{
    device::{DeviceView, Difference, Impossible, Measured, StreamOptions, StreamView},
    units::{Bitrate, say_rate, say_size},
};
use choir_devices::device::{Plan, Report};
use std::fmt::Write;

/// A text over several lines of this width, which are easy to read.
pub fn wrapped(out: &mut String, text: &str, indent: &str, width: usize) {
    hanging(out, text, (indent, indent), width.clamp(40 + indent.len(), 120 + indent.len()));
}

fn fact(out: &mut String, name: &str, text: &str) {
    if !text.is_empty() {
        let _ = writeln!(out, "{name:<12} {text}");
    }
}

fn join<T>(items: &[T], text: impl Fn(&T) -> String) -> String {
    items.iter().map(text).collect::<Vec<_>>().join(", ")
}

/// Everything that a device says.
pub fn show(v: &DeviceView, width: usize) -> String {
    let mut out = String::new();
    let _ = writeln!(out, "{}: {}\n", v.name, v.title);
    fact(&mut out, "reached at", &format!("{} by {}", v.address, v.control));
    let serial = if v.serial.is_empty() { String::new() } else { format!(", serial number {}", v.serial) };
    fact(&mut out, "is", &format!("{} {}, firmware {}{serial}", v.maker, v.model, v.firmware));
    fact(&mut out, "login", &v.login);
    if let Some(ms) = v.clock_ahead_ms {
        let off = digits((ms as f64 / 1000.0).abs());
        let text = match ms {
            -1500..=1500 => "as this machine's, within 1.5 s".into(),
            1501.. => format!("{off} s ahead of this machine's"),
            _ => format!("{off} s behind this machine's"),
        };
        fact(&mut out, "clock", &text);
    }
    if let Some(n) = &v.network {
        let address = n.address.map_or_else(|| "no address".into(), |(ip, p)| format!("{ip}/{p}"));
        let how = if n.dhcp { "from DHCP" } else { "fixed" };
        let gateway = n.gateway.map_or_else(|| ", no gateway".into(), |g| format!(", gateway {g}"));
        let mac = n.mac.as_ref().map_or_else(String::new, |m| format!(", hardware {m}"));
        fact(&mut out, "network", &format!("{address} {how}{gateway}{mac}"));
    }
    fact(&mut out, "steering", if v.steered { "yes: choir ptz" } else { "" });
    for i in &v.inputs {
        let signal = i.signal.map_or_else(|| "no signal".into(), |(w, h, r)| format!("{} at {}", say_size((w, h)), say_rate(r)));
        fact(&mut out, &format!("input {}", i.name), &signal);
    }
    v.streams.iter().for_each(|s| stream(&mut out, s));
    for n in &v.notes {
        out.push('\n');
        wrapped(&mut out, &format!("note: {n}"), "", width);
    }
    out
}

fn stream(out: &mut String, s: &StreamView) {
    let title = if s.title.is_empty() || s.title == s.name { String::new() } else { format!(" (the device calls it {})", s.title) };
    let _ = writeln!(out, "\n{} stream{title}", s.name);
    let mut row = |name: &str, is: Option<String>, may: String| {
        let is = is.unwrap_or_else(|| "not said".into());
        let _ = writeln!(out, "  {}", format!("{name:<13} {is:<22} {may}").trim_end());
    };
    let options: Option<&StreamOptions> = s.options.iter().find(|o| Some(&o.codec) == s.codec.as_ref());
    let may = |text: &dyn Fn(&StreamOptions) -> String| {
        options.map(text).filter(|t| !t.is_empty()).map_or_else(String::new, |t| format!("allowed: {t}"))
    };
    let codecs = join(&s.options, |o| o.codec.clone());
    row("input", s.input.clone(), String::new());
    row("codec", s.codec.clone(), if codecs.is_empty() { String::new() } else { format!("allowed: {codecs}") });
    row("profile", s.profile.clone(), may(&|o| o.profiles.join(", ")));
    row("size", s.size.map(say_size), may(&|o| join(&o.sizes, |s| say_size(*s))));
    row(
        "rate",
        s.rate.map(say_rate),
        may(&|o| o.rate_range.map_or_else(|| join(&o.rates, |r| say_rate(*r)), |(a, z)| format!("{} to {}", say_rate(a), say_rate(z)))),
    );
    row("bitrate", s.bitrate_bps.map(|b| Bitrate(b).to_string()), may(&|o| range(o.bitrate_bps, |b| Bitrate(b).to_string())));
    row(
        "rate-control",
        s.rate_control.clone(),
        may(&|o| match o.constant {
            Some(true) => "cbr, vbr".into(),
            Some(false) => "vbr".into(),
            None => String::new(),
        }),
    );
    let seconds = |n: u32| s.rate.filter(|r| *r > 0.0).map_or_else(String::new, |r| format!(" ({:.1} s)", f64::from(n) / r));
    row("keyframe", s.keyframe_frames.map(|n| format!("{n} frames{}", seconds(n))), may(&|o| range(o.keyframe_frames, |n| format!("{n}"))));
    row("audio", Some(s.audio.clone().unwrap_or_else(|| "off".into())), String::new());
    row("multicast", Some(s.multicast.map_or_else(|| "off".into(), |(ip, p)| format!("{ip}:{p}"))), String::new());
    row("url", s.url.clone(), String::new());
    for o in s.options.iter().filter(|o| Some(&o.codec) != s.codec.as_ref()) {
        let rates = o.rate_range.map_or_else(|| join(&o.rates, |r| say_rate(*r)), |(a, z)| format!("{} to {}", say_rate(a), say_rate(z)));
        let _ = writeln!(out, "  with {}: {} at {rates}", o.codec, join(&o.sizes, |s| say_size(*s)));
    }
}

fn range<T: Copy>(r: Option<(T, T)>, text: impl Fn(T) -> String) -> String {
    r.map_or_else(String::new, |(a, z)| format!("{} to {}", text(a), text(z)))
}

fn difference(out: &mut String, d: &Difference, is: &str) {
    let _ = writeln!(out, "  {:<18} {:<20} {is} {}", d.what, d.wanted, d.actual);
}

/// Wanted beside actual, or what is to be set by hand.
pub fn plan(p: &Plan) -> String {
    let mut out = String::new();
    let name = &p.device.name;
    if p.view.is_none() {
        if p.by_hand.is_empty() {
            let _ = writeln!(out, "{name}: the sheet has no settings for it");
            return out;
        }
        let _ = writeln!(out, "{name}: set by hand, in the device's own menu:");
        p.by_hand.iter().for_each(|(what, value)| {
            let _ = writeln!(out, "  {what:<18} {value}");
        });
        return out;
    }
    if p.differs.is_empty() && p.impossible.is_empty() {
        let _ = writeln!(out, "{name}: as in the sheet");
        return out;
    }
    let _ = writeln!(out, "{name}:");
    for d in p.differs.iter().filter(|d| !p.impossible.iter().any(|i| i.what == d.what)) {
        difference(&mut out, d, "is now");
    }
    p.impossible.iter().for_each(|i| cannot(&mut out, i));
    out
}

fn cannot(out: &mut String, i: &Impossible) {
    let _ = writeln!(out, "  {:<18} {:<20} CANNOT BE: possible are {}", i.what, i.wanted, i.possible);
}

fn measured(m: &Measured) -> String {
    let parts = [
        m.codec.clone(),
        m.size.map(say_size),
        m.rate.map(|r| format!("at {r:.2}")),
        m.keyframe_frames
            .map(|(a, z)| if a == z { format!("keyframe each {a} frames") } else { format!("keyframe each {a} to {z} frames") }),
        m.bitrate_bps.map(|b| Bitrate(b).to_string()),
        m.audio.map(|a| if a { "with sound" } else { "no sound" }.to_owned()),
    ];
    parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// What was done to a device, and what the wire says.
pub fn report(r: &Report) -> String {
    let mut out = String::new();
    let head = match (&r.failed, r.holds()) {
        (Some(_), _) => "NOT DONE",
        (None, true) => "as in the sheet",
        (None, false) => "NOT AS IN THE SHEET",
    };
    let _ = writeln!(out, "{}: {head}", r.name);
    for d in &r.done {
        let _ = writeln!(out, "  set       {d}");
    }
    if r.restarted {
        let _ = writeln!(out, "  restarted");
    }
    if let Some(f) = &r.failed {
        let _ = writeln!(out, "  FAILED    {}: {}", f.what, f.why);
    }
    for l in &r.left {
        let _ = writeln!(out, "  not sent  {l}");
    }
    for q in &r.quietly {
        let _ = writeln!(out, "  CHANGED   {}: asked for {}, but the device has {}", q.what, q.wanted, q.actual);
    }
    for p in &r.proofs {
        match (&p.measured, &p.reason) {
            (Some(m), _) => {
                let _ = writeln!(out, "  on wire   {}: {}", p.stream, measured(m));
            }
            (None, reason) => {
                let reason = reason.as_deref().unwrap_or("nothing came");
                let at = if p.url.is_empty() { String::new() } else { format!(" at {}", p.url) };
                let _ = writeln!(out, "  NO PROOF  {}{at}: {reason}", p.stream);
            }
        }
        for d in &p.differs {
            let _ = writeln!(out, "  DIFFERS   {}: expected {}, measured {}", d.what, d.wanted, d.actual);
        }
    }
    if let Some(ip) = r.moved_to {
        let _ = writeln!(out, "  moved to  {ip}");
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::device::{InputState, NetworkView};
    use choir_devices::device::{Failed, Proof};

    #[test]
    fn everything_a_device_says_is_shown() {
        let h264 = StreamOptions {
            codec: "h264".into(),
            sizes: vec![(1280, 720), (640, 360)],
            rate_range: Some((1.0, 50.0)),
            bitrate_bps: Some((256_000, 8_000_000)),
            keyframe_frames: Some((1, 100)),
            profiles: vec!["main".into()],
            constant: Some(false),
            ..StreamOptions::default()
        };
        let h265 = StreamOptions { codec: "h265".into(), sizes: vec![(960, 540)], rates: vec![25.0], ..StreamOptions::default() };
        let stream = StreamView {
            name: "main".into(),
            title: "Profile_1".into(),
            codec: Some("h264".into()),
            rate: Some(25.0),
            keyframe_frames: Some(50),
            multicast: Some(([239, 20, 0, 11].into(), 6000)),
            options: vec![h264, h265],
            ..StreamView::default()
        };
        let view = DeviceView {
            name: "launch".into(),
            title: "Umpire's launch".into(),
            clock_ahead_ms: Some(40_000),
            network: Some(NetworkView { dhcp: true, ..NetworkView::default() }),
            inputs: vec![InputState { name: "1".into(), signal: Some((1280, 720, 25.0)) }, InputState { name: "2".into(), signal: None }],
            streams: vec![stream],
            notes: vec!["it gives its services an address that it no longer has".into()],
            ..DeviceView::default()
        };
        let text = show(&view, 100);
        for wanted in [
            "40 s ahead of this machine's",
            "no address from DHCP, no gateway",
            "input 1      1280x720 at 25",
            "input 2      no signal",
            "main stream (the device calls it Profile_1)",
            "allowed: h264, h265",
            "allowed: 1 to 50",
            "allowed: 256 kbps to 8.0 Mbps",
            "50 frames (2.0 s)      allowed: 1 to 100",
            "239.20.0.11:6000",
            "with h265: 960x540 at 25",
            "note: it gives",
        ] {
            assert!(text.contains(wanted), "{wanted} in\n{text}");
        }
        let behind = show(&DeviceView { clock_ahead_ms: Some(-2000), ..view.clone() }, 100);
        assert!(behind.contains("2.0 s behind"), "{behind}");
        assert!(show(&DeviceView { clock_ahead_ms: Some(900), ..view }, 100).contains("within 1.5 s"));
    }

    #[test]
    fn a_report_says_what_holds_and_what_does_not() {
        let difference = |what: &str| Difference { what: what.into(), wanted: "a".into(), actual: "b".into() };
        let measured = Measured { codec: Some("h264".into()), keyframe_frames: Some((25, 50)), audio: Some(false), ..Measured::default() };
        let mut r = Report {
            name: "launch".into(),
            done: vec!["main: size".into()],
            proofs: vec![Proof { stream: "main".into(), measured: Some(measured), ..Proof::default() }],
            restarted: true,
            moved_to: Some([127, 20, 0, 13].into()),
            ..Report::default()
        };
        let good = report(&r);
        for wanted in
            ["launch: as in the sheet", "set       main: size", "keyframe each 25 to 50 frames, no sound", "moved to  127.20.0.13"]
        {
            assert!(good.contains(wanted), "{wanted} in\n{good}");
        }
        r.quietly.push(difference("main bitrate"));
        r.proofs[0].differs.push(difference("main rate"));
        r.proofs.push(Proof { stream: "sub".into(), url: "rtsp://x".into(), reason: Some("nobody there".into()), ..Proof::default() });
        let bad = report(&r);
        for wanted in [
            "NOT AS IN THE SHEET",
            "CHANGED   main bitrate: asked for a, but the device has b",
            "DIFFERS   main rate: expected a, measured b",
            "NO PROOF  sub at rtsp://x: nobody there",
        ] {
            assert!(bad.contains(wanted), "{wanted} in\n{bad}");
        }
        r.failed = Some(Failed { what: "main: size".into(), why: "it refuses".into() });
        r.left.push("sub: rate".into());
        let failed = report(&r);
        assert!(failed.contains("launch: NOT DONE") && failed.contains("not sent  sub: rate"), "{failed}");
    }

    #[test]
    fn long_texts_are_broken_between_words() {
        let mut out = String::new();
        wrapped(&mut out, &"oar ".repeat(40), "  ", 50);
        assert!(out.lines().count() > 2 && out.lines().all(|l| l.len() <= 50 && l.starts_with("  ")), "{out}");
    }
}
