//! All that is known of one line, or of one feed.

use super::tables::{digits, picture, table};
use choir_core::{
    units::{Bitrate, say_duration},
    view::{ConfirmView, EncodingView, EndView, FeedView, LevelsView, LineView, LinkView, SpanView},
};
use choir_host::clock::time_of_day;
use std::{fmt::Write, time::Duration};

/// A fact a line, then the last seconds as a table.
pub fn line(l: &LineView, now_ms: u64) -> String {
    let (mut out, k) = (String::new(), &l.link);
    let _ = writeln!(out, "{}: {}\n", l.name, l.title);
    let mut fact = |name: &str, text: &str| {
        let _ = writeln!(out, "{name:<11} {text}");
    };
    fact("state", &format!("{}, {}", k.state.map_or("waiting", |s| s.word()), k.reason));
    for c in &k.causes {
        fact("cause", &format!("{} (since {})", c.text, time_of_day(c.since_ms)));
    }
    for c in &l.content {
        fact("content", &format!("{} since {}", c.text, time_of_day(c.since_ms)));
    }
    let seen =
        l.picture.map_or_else(String::new, |p| format!("; looked at {} ago", say_duration(Duration::from_millis(p.age_ms / 100 * 100))));
    fact("picture", &format!("{}{seen}", picture(&l.media)));
    if let Some(levels) = &l.levels {
        fact("sound", &sound(levels));
    }
    fact("from", &from(k, now_ms));
    fact("url", &k.url);
    if let Some(asked) = &k.latency_asked {
        fact("latency", &format!("{:.0} ms: {asked}", k.latency_ms.unwrap_or_default()));
    }
    if let Some(path) = room(k) {
        fact("bursts", &path);
    }
    let delay = l.delay_ms.map(|d| format!("{} ms from the camera's clock to here", digits(d)));
    fact("delay", delay.as_deref().unwrap_or("not known: the picture carries no time"));
    fact("packets", &packets(k));
    fact("on feeds", &if l.feeds.is_empty() { "none".to_owned() } else { l.feeds.join(", ") });
    let m = &l.media;
    if !m.streams.is_empty() {
        let faults = [
            (m.continuity_errors, "packets missing by their counters"),
            (m.pcr_faults, "clock faults"),
            (m.pts_faults, "time stamp faults"),
        ];
        let said: Vec<String> = faults.iter().map(|(n, what)| format!("{n} {what}")).collect();
        fact("stream", &format!("{}; clock references up to {} ms apart", said.join(", "), digits(m.pcr_interval_ms)));
    }
    let _ = write!(out, "\n{}", spans(k, true));
    out
}

/// A feed, way out by way out; `carried` is the line that is on, whose picture goes out as it is.
pub fn feed(f: &FeedView, carried: Option<&LineView>, now_ms: u64) -> String {
    let mut out = String::new();
    let next = f.next.as_ref().map_or_else(String::new, |n| format!(", {n} at its next keyframe"));
    let media = carried.map_or_else(String::new, |l| format!(": {}", picture(&l.media)));
    let _ = writeln!(out, "{}: {}\n\n{:<11} {}{next}{media}", f.name, f.title, "carries", f.line);
    let mut fact = |name: &str, text: &str| {
        let _ = writeln!(out, "{name:<11} {text}");
    };
    if let Some(s) = &f.stand_in {
        fact("stands in", &format!("for {} since {}: {}; it comes back {}", s.chosen, time_of_day(s.since_ms), s.why, s.returns));
    }
    if let Some(sound) = &f.sound {
        fact("sound", sound);
    }
    if let Some(behind) = f.behind_ms {
        fact("behind", &format!("its line by {behind:.0} ms: that came on at once, from its last keyframe"));
    }
    if let Some(next) = &f.preview {
        fact("next", next);
    }
    if let Some(c) = &f.confirm {
        fact("comes back", &comes_back(c, now_ms));
    }
    if !f.standby.is_empty() {
        fact("standby", &f.standby.join(", "));
    }
    for k in &f.outs {
        out.push('\n');
        let mut fact = |name: &str, text: &str| {
            let _ = writeln!(out, "{name:<11} {text}");
        };
        fact("to", &k.url);
        fact("state", &format!("{}, {}", k.state.map_or("waiting", |s| s.word()), k.reason));
        for c in &k.causes {
            fact("cause", &format!("{} (since {})", c.text, time_of_day(c.since_ms)));
        }
        if let Some(e) = &k.encoding {
            fact("encoded", &encoded(e));
        }
        fact("with", &from(k, now_ms));
        if let Some(asked) = &k.latency_asked {
            fact("latency", &format!("{:.0} ms: {asked}", k.latency_ms.unwrap_or_default()));
        }
        if let Some(path) = room(k) {
            fact("bursts", &path);
        }
        if !k.ends.is_empty() {
            let _ = write!(out, "\n{}", ends(&k.ends, now_ms));
        }
        let _ = write!(out, "\n{}", spans(k, false));
    }
    out
}

/// Whether viewers see it.
fn comes_back(c: &ConfirmView, now_ms: u64) -> String {
    let ago = c.seen_ms.map(|at| say_duration(Duration::from_millis(now_ms.saturating_sub(at) / 100 * 100)));
    match (&c.failed, &c.size, ago) {
        (Some(why), _, Some(ago)) => format!("no: {why}; the last picture came {ago} ago, from {}", c.from),
        (Some(why), _, None) => format!("no: {why}; nothing has come yet, from {}", c.from),
        (None, Some(size), Some(ago)) => format!("a picture of {size}, {ago} ago, from {}", c.from),
        _ => format!("not seen yet, from {}", c.from),
    }
}

/// How pictures are encoded anew, and what that takes.
fn encoded(e: &EncodingView) -> String {
    let mut text = e.wanted.clone();
    let mut is: Vec<String> = Vec::new();
    is.extend(e.size.clone());
    is.extend(e.rate.map(|rate| format!("{rate:.1} fps")));
    is.extend(e.cores.map(|cores| format!("{cores:.2} of a core")));
    is.extend(e.takes_ms.map(|ms| format!("up to {} ms later", digits(ms))));
    if e.left_out > 0 {
        is.push(format!("{} pictures left out", e.left_out));
    }
    if e.shared_by > 1 {
        is.push(format!("shared by {} ways out", e.shared_by));
    }
    if !is.is_empty() {
        let _ = write!(text, ": {}", is.join(", "));
    }
    text
}

/// Each of several callers.
fn ends(all: &[EndView], now_ms: u64) -> String {
    let row = |e: &EndView| {
        let ms = |v: Option<f64>| v.map_or_else(|| "-".into(), digits);
        vec![
            e.peer.clone(),
            say_duration(Duration::from_millis(now_ms.saturating_sub(e.since_ms))),
            ms(e.rtt_ms),
            ms(e.latency_ms),
            e.packets.to_string(),
            format!("{:.2}", e.lost as f64 * 100.0 / e.packets.max(1) as f64),
            e.resent.to_string(),
            e.dropped.to_string(),
            e.version.clone().unwrap_or_else(|| "-".into()),
        ]
    };
    let heads = ["caller", "up for", ">rtt ms", ">latency ms", ">packets", ">lost %", ">resent", ">dropped", ""];
    table(&heads, &all.iter().map(row).collect::<Vec<_>>())
}

fn sound(l: &LevelsView) -> String {
    let peaks: Vec<String> = l.peak_dbfs.iter().map(|db| format!("{db:.0}")).collect();
    let lufs = |v: Option<f64>| v.map_or_else(|| "below -70".into(), |v| format!("{v:.0}"));
    let mut text =
        format!("peak {} dBFS, {} LUFS over 0.4 s, {} over 3 s", peaks.join(" and "), lufs(l.momentary_lufs), lufs(l.short_term_lufs));
    if let Some(ms) = l.apart_ms {
        let _ = write!(text, ", {} ms {} its picture", ms.abs(), if ms < 0 { "ahead of" } else { "behind" });
    }
    text
}

fn from(k: &LinkView, now_ms: u64) -> String {
    let peer = k.peer.as_deref().unwrap_or("nobody");
    let version = k.peer_version.as_ref().map_or_else(String::new, |v| format!(" ({v})"));
    let how = k.how.as_ref().map_or_else(String::new, |h| format!(", {h}"));
    let up = k
        .up_since_ms
        .map_or_else(|| "not up".into(), |t| format!("up for {}", say_duration(Duration::from_millis(now_ms.saturating_sub(t)))));
    let again = if k.reconnects > 0 { format!(", connected again {} times", k.reconnects) } else { String::new() };
    format!("{peer}{version}{how}, encryption {}, {up}{again}", k.encryption)
}

fn room(k: &LinkView) -> Option<String> {
    k.capacity_bps.map(|bps| format!("come through at about {}: what the path carries, or the sender's own pace", Bitrate(bps)))
}

fn packets(k: &LinkView) -> String {
    let mut text = format!("{} came, {} lost on the path, {} repaired, {} missing", k.packets, k.lost, k.recovered, k.missing);
    if k.kernel_drops > 0 {
        let _ = write!(text, "; {} dropped by this machine's kernel", k.kernel_drops);
    }
    text
}

/// A number over each span: the rows of a table.
fn spans(k: &LinkView, way_in: bool) -> String {
    let mut rows: Vec<Vec<String>> = Vec::new();
    let mut over = |name: &str, cell: &dyn Fn(&SpanView) -> String| {
        rows.push(std::iter::once(name.to_owned()).chain(k.spans.iter().map(cell)).collect());
    };
    over("rate, mean", &|s| Bitrate(s.rate_bps.0).to_string());
    over("rate, least", &|s| Bitrate(s.rate_bps.1).to_string());
    over("on the wire, mean", &|s| Bitrate(s.wire_bps).to_string());
    over("most in a second", &|s| Bitrate(s.carried_bps).to_string());
    over("rtt ms: least, mean, 95 %", &|s| s.rtt_ms.map_or_else(dash, |(least, mean, most)| [least, mean, most].map(digits).join(" ")));
    if way_in {
        over("jitter ms: mean, greatest", &|s| s.jitter_ms.map_or_else(dash, |(mean, most)| [mean, most].map(digits).join(" ")));
        over("headroom ms: least, 1 %", &|s| s.headroom_ms.map_or_else(dash, |(least, first)| [least, first].map(digits).join(" ")));
    }
    over("lost on the path", &|s| format!("{} of {}, {:.2} %", s.lost, s.packets + s.missing, s.lost_percent));
    over("lost in a row: mean, most", &|s| s.burst.map_or_else(dash, |(mean, most)| format!("{} {most}", digits(mean))));
    over(if way_in { "came as repeats" } else { "sent again" }, &|s| s.resent.to_string());
    if way_in {
        over("repaired", &|s| s.recovered.to_string());
        over("came too late", &|s| s.late.to_string());
    }
    over("missing", &|s| s.missing.to_string());
    let since = k.spans.last().map_or_else(String::new, |s| format!(">start, {}", say_duration(Duration::from_secs(s.seconds as u64))));
    table(&["", ">last second", ">10 s", &since], &rows)
}

fn dash() -> String {
    "-".into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::{facts::State, view::SinceView};

    #[test]
    fn all_of_a_line_is_told_and_spans_are_summed_up() {
        let span = |seconds: f64, missing| SpanView {
            seconds,
            rate_bps: (4_000_000, 3_500_000),
            rtt_ms: Some((18.0, 20.4, 31.0)),
            headroom_ms: Some((50.0, 61.5)),
            packets: 380,
            lost: 4,
            lost_percent: 1.05,
            burst: Some((2.0, 3)),
            missing,
            ..SpanView::default()
        };
        let link =
            LinkView { state: Some(State::Strained), reason: "picture frozen for 4.0 s: check the camera".into(), ..LinkView::default() };
        let cause = SinceView { name: "path-full".into(), text: "the path carries 3.2 Mbps, and more is sent".into(), since_ms: 3_600_000 };
        let spans = vec![span(1.0, 0), span(10.0, 0), span(75.0, 2)];
        let link = LinkView {
            causes: vec![cause],
            spans,
            peer_version: Some("SRT 1.5.4".into()),
            reconnects: 2,
            capacity_bps: Some(12_000_000),
            ..link
        };
        let l = LineView {
            name: "jury-room".into(),
            title: "Jury room".into(),
            link,
            levels: Some(LevelsView {
                peak_dbfs: vec![-18.2, -64.0],
                momentary_lufs: Some(-20.3),
                short_term_lufs: None,
                apart_ms: Some(-40),
            }),
            content: vec![SinceView { name: "frozen".into(), text: "picture frozen".into(), since_ms: 3_723_000 }],
            ..LineView::default()
        };
        let text = line(&l, 60_000);
        for wanted in [
            "jury-room: Jury room",
            "state       strained, picture frozen for 4.0 s: check the camera",
            "cause       the path carries 3.2 Mbps, and more is sent (since 01:00:00)",
            "content     picture frozen since 01:02:03",
            "sound       peak -18 and -64 dBFS, -20 LUFS over 0.4 s, below -70 over 3 s, 40 ms ahead of its picture",
            "from        nobody (SRT 1.5.4)",
            "connected again 2 times",
            "start, 1 min 15 s",
        ] {
            assert!(text.contains(wanted), "lacks {wanted}:\n{text}");
        }
        let rows: Vec<Vec<&str>> = text.lines().map(|l| l.split("  ").map(str::trim).filter(|c| !c.is_empty()).collect()).collect();
        for wanted in [
            ["rtt ms: least, mean, 95 %", "18 20 31", "18 20 31", "18 20 31"],
            ["headroom ms: least, 1 %", "50 62", "50 62", "50 62"],
            ["lost on the path", "4 of 380, 1.05 %", "4 of 380, 1.05 %", "4 of 382, 1.05 %"],
            ["lost in a row: mean, most", "2.0 3", "2.0 3", "2.0 3"],
            ["missing", "0", "0", "2"],
        ] {
            assert!(rows.iter().any(|r| *r == wanted), "lacks {wanted:?}:\n{text}");
        }
        assert!(line(&LineView::default(), 0).contains("rate, least"), "nothing is known of it yet");
        let out = l.link.clone();
        let text =
            feed(&FeedView { name: "jury".into(), line: "jury-room".into(), outs: vec![out], ..FeedView::default() }, Some(&l), 60_000);
        assert!(text.contains("carries     jury-room") && text.contains("sent again") && !text.contains("headroom"), "{text}");
        assert!(text.contains("bursts      come through at about 12.0 Mbps"), "{text}");
    }
}
