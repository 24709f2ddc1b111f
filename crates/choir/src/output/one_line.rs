//! All that is known of one line.

use super::{
    clock,
    tables::{digits, picture, table},
};
use choir_core::{
    units::{Bitrate, say_duration},
    view::{LevelsView, LineView, LinkView, Sample},
};
use std::{fmt::Write, time::Duration};

/// Seconds that are summed up.
const SPANS: [usize; 3] = [1, 10, 60];

/// A fact a line, then the last seconds as a table.
pub fn line(l: &LineView, now_ms: u64) -> String {
    let (mut out, k) = (String::new(), &l.link);
    let _ = writeln!(out, "{}: {}\n", l.name, l.title);
    let mut fact = |name: &str, text: &str| {
        let _ = writeln!(out, "{name:<11} {text}");
    };
    fact("state", &format!("{}, {}", k.state.map_or("waiting", |s| s.word()), k.reason));
    for c in &k.causes {
        fact("cause", &format!("{} (since {})", c.text, clock(c.since_ms)));
    }
    for c in &l.content {
        fact("content", &format!("{} since {}", c.text, clock(c.since_ms)));
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
    let delay = l.delay_ms.map(|d| format!("{} ms from the camera's clock to here", digits(d)));
    fact("delay", delay.as_deref().unwrap_or("not known: the picture carries no time"));
    fact("packets", &packets(k));
    fact("on feeds", &if l.feeds.is_empty() { "none".to_owned() } else { l.feeds.join(", ") });
    let heads = ["", ">last second", ">10 s", ">minute"];
    let _ = write!(out, "\n{}", table(&heads, &history(&l.history)));
    out
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
    let how = k.how.as_ref().map_or_else(String::new, |h| format!(", {h}"));
    let up = k
        .up_since_ms
        .map_or_else(|| "not up".into(), |t| format!("up for {}", say_duration(Duration::from_millis(now_ms.saturating_sub(t)))));
    format!("{peer}{how}, encryption {}, {up}", k.encryption)
}

fn packets(k: &LinkView) -> String {
    let mut text = format!("{} came, {} lost on the path, {} repaired, {} missing", k.packets, k.lost, k.recovered, k.missing);
    if k.kernel_drops > 0 {
        let _ = write!(text, "; {} dropped by this machine's kernel", k.kernel_drops);
    }
    text
}

/// A number over each span: rows of the table.
fn history(all: &[Sample]) -> Vec<Vec<String>> {
    let over = |name: &str, cell: fn(&[Sample]) -> String| {
        let spans = SPANS.iter().map(|n| cell(&all[all.len().saturating_sub(*n)..]));
        std::iter::once(name.to_owned()).chain(spans).collect()
    };
    vec![
        over("rate, mean", |s| Bitrate(s.iter().map(|s| s.rate_bps).sum::<u64>() / s.len().max(1) as u64).to_string()),
        over("rate, least", |s| s.iter().map(|s| s.rate_bps).min().map_or_else(dash, |r| Bitrate(r).to_string())),
        over("rtt ms, least", |s| number(at(s.iter().filter_map(|s| s.rtt_least_ms), 0.0))),
        over("rtt ms, mean", |s| number(mean(s.iter().filter_map(|s| s.rtt_ms)))),
        over("rtt ms, 95 %", |s| number(at(s.iter().filter_map(|s| s.rtt_ms), 0.95))),
        over("headroom ms, least", |s| number(at(s.iter().filter_map(|s| s.headroom_ms), 0.0))),
        over("jitter ms, mean", |s| number(mean(s.iter().filter_map(|s| s.jitter_ms)))),
        over("lost", |s| s.iter().map(|s| s.lost).sum::<u64>().to_string()),
        over("lost in a row, mean", |s| {
            let (lost, holes) = s.iter().fold((0, 0), |(lost, holes), s| (lost + s.lost, holes + s.holes));
            number((holes > 0).then(|| lost as f64 / holes as f64))
        }),
        over("repaired", |s| s.iter().map(|s| s.recovered).sum::<u64>().to_string()),
        over("missing", |s| s.iter().map(|s| s.missing).sum::<u64>().to_string()),
    ]
}

fn dash() -> String {
    "-".into()
}

fn number(v: Option<f64>) -> String {
    v.map_or_else(dash, digits)
}

fn mean(values: impl Iterator<Item = f64>) -> Option<f64> {
    let (sum, count) = values.fold((0.0, 0u32), |(sum, n), v| (sum + v, n + 1));
    (count > 0).then(|| sum / f64::from(count))
}

/// The value below which this share is.
fn at(values: impl Iterator<Item = f64>, share: f64) -> Option<f64> {
    let mut sorted: Vec<f64> = values.collect();
    sorted.sort_by(f64::total_cmp);
    let last = sorted.len().checked_sub(1)?;
    sorted.get((last as f64 * share).ceil() as usize).copied()
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::{facts::State, view::SinceView};

    #[test]
    fn all_of_a_line_is_told_and_spans_are_summed_up() {
        let sample = |n: u64| Sample {
            rate_bps: 4_000_000 + n * 10_000,
            headroom_ms: Some(50.0 + n as f64),
            rtt_ms: Some(20.0 + n as f64),
            rtt_least_ms: Some(18.0 + n as f64),
            jitter_ms: Some(2.0),
            lost: 2,
            holes: 1,
            recovered: 2 - u64::from(n == 3),
            missing: u64::from(n == 3),
        };
        let link =
            LinkView { state: Some(State::Strained), reason: "picture frozen for 4.0 s: check the camera".into(), ..LinkView::default() };
        let cause = SinceView { name: "path-full".into(), text: "the path carries 3.2 Mbps, and more is sent".into(), since_ms: 3_600_000 };
        let link = LinkView { causes: vec![cause], ..link };
        let l = LineView {
            name: "jury-room".into(),
            title: "Jury room".into(),
            link,
            history: (0..60).map(sample).collect(),
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
            "from        nobody",
        ] {
            assert!(text.contains(wanted), "lacks {wanted}:\n{text}");
        }
        let rows: Vec<Vec<&str>> = text.lines().map(|l| l.split("  ").map(str::trim).filter(|c| !c.is_empty()).collect()).collect();
        for wanted in [
            ["rtt ms, mean", "79", "74", "50"],
            ["rtt ms, 95 %", "79", "79", "77"],
            ["headroom ms, least", "109", "100", "50"],
            ["rtt ms, least", "77", "68", "18"],
            ["lost", "2", "20", "120"],
            ["lost in a row, mean", "2.0", "2.0", "2.0"],
            ["repaired", "2", "20", "119"],
            ["missing", "0", "0", "1"],
        ] {
            assert!(rows.iter().any(|r| *r == wanted), "lacks {wanted:?}:\n{text}");
        }
        assert!(line(&LineView::default(), 0).contains("rate, least"), "nothing is known of it yet");
    }
}
