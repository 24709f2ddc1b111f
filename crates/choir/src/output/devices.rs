//! Devices as they are, what differs, and what was done to them.

use super::tables::digits;
use choir_core::{
    device::{DeviceView, Difference, Impossible, Measured, StreamOptions, StreamView},
    units::Bitrate,
};
use choir_net::device::{Plan, Report};
use std::fmt::Write;

/// A text over several lines of this width.
pub fn wrapped(out: &mut String, text: &str, indent: &str, width: usize) {
    let room = width.saturating_sub(indent.len()).clamp(40, 120);
    let mut line = String::new();
    for word in text.split(' ') {
        if !line.is_empty() && line.chars().count() + 1 + word.chars().count() > room {
            let _ = writeln!(out, "{indent}{line}");
            line.clear();
        }
        if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
    }
    let _ = writeln!(out, "{indent}{line}");
}

fn fact(out: &mut String, name: &str, text: &str) {
    if !text.is_empty() {
        let _ = writeln!(out, "{name:<12} {text}");
    }
}

fn join<T>(items: &[T], text: impl Fn(&T) -> String) -> String {
    items.iter().map(text).collect::<Vec<_>>().join(", ")
}

fn size((w, h): (u32, u32)) -> String {
    format!("{w}x{h}")
}

fn rate(r: f64) -> String {
    format!("{}", (r * 100.0).round() / 100.0)
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
        let signal = i.signal.map_or_else(|| "no signal".into(), |(w, h, r)| format!("{w}x{h} at {}", rate(r)));
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
    row("size", s.size.map(size), may(&|o| join(&o.sizes, |s| size(*s))));
    row(
        "rate",
        s.rate.map(rate),
        may(&|o| o.rate_range.map_or_else(|| join(&o.rates, |r| rate(*r)), |(a, z)| format!("{} to {}", rate(a), rate(z)))),
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
        let rates = o.rate_range.map_or_else(|| join(&o.rates, |r| rate(*r)), |(a, z)| format!("{} to {}", rate(a), rate(z)));
        let _ = writeln!(out, "  with {}: {} at {rates}", o.codec, join(&o.sizes, |s| size(*s)));
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
            let _ = writeln!(out, "{name}: nothing is wanted of it");
            return out;
        }
        let _ = writeln!(out, "{name}: set by hand, in the device's own menu:");
        p.by_hand.iter().for_each(|(what, value)| {
            let _ = writeln!(out, "  {what:<18} {value}");
        });
        return out;
    }
    if p.differs.is_empty() && p.impossible.is_empty() {
        let _ = writeln!(out, "{name}: as the sheet wants it");
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
        m.size.map(size),
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
        (None, true) => "as the sheet wants it",
        (None, false) => "NOT AS THE SHEET WANTS IT",
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
        let _ = writeln!(out, "  CHANGED   {}: {} was asked for and taken, but the device has {}", q.what, q.wanted, q.actual);
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
            let _ = writeln!(out, "  DIFFERS   {}: {} is wanted, {} comes", d.what, d.wanted, d.actual);
        }
    }
    if let Some(ip) = r.moved_to {
        let _ = writeln!(out, "  moved to  {ip}");
    }
    out
}
