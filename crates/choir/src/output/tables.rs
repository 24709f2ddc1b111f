//! Tables of a show, for `status` and as closing words.

use super::alarms;
use choir_core::{
    facts::State,
    units::{Bitrate, say_duration, say_rate, say_size},
    view::{FeedView, InputView, LinkView, MediaView, ShowView, TallyView, ThreadView},
};
use std::{fmt::Write, io::IsTerminal, time::Duration};
use unicode_width::UnicodeWidthStr;

/// Columns of the terminal; without one nothing is left out.
pub fn width() -> usize {
    if !std::io::stdout().is_terminal() {
        return usize::MAX;
    }
    crossterm::terminal::size().map_or(160, |(w, _)| usize::from(w).max(60))
}

/// Rows with aligned columns. A column whose head starts with `>` is set flush right.
pub fn table(heads: &[&str], rows: &[Vec<String>]) -> String {
    let name = |h: &str| h.trim_start_matches('>').to_owned();
    let mut widths: Vec<usize> = heads.iter().map(|h| name(h).width()).collect();
    for row in rows {
        for (w, cell) in widths.iter_mut().zip(row) {
            *w = (*w).max(cell.width());
        }
    }
    let mut out = String::new();
    let mut put = |cells: &[String]| {
        let mut line = String::new();
        for ((cell, width), head) in cells.iter().zip(&widths).zip(heads) {
            let pad = " ".repeat(width.saturating_sub(cell.width()));
            let _ = if head.starts_with('>') { write!(line, "{pad}{cell}  ") } else { write!(line, "{cell}{pad}  ") };
        }
        out.push_str(line.trim_end());
        out.push('\n');
    };
    put(&heads.iter().map(|h| name(h)).collect::<Vec<_>>());
    rows.iter().for_each(|r| put(r));
    out
}

fn or_dash(value: Option<String>) -> String {
    value.unwrap_or_else(|| "-".into())
}

fn ms(value: Option<f64>) -> String {
    or_dash(value.map(digits))
}

/// As many digits as say something.
pub fn digits(v: f64) -> String {
    match v.abs() {
        a if a < 1.0 => format!("{v:.2}"),
        a if a < 10.0 => format!("{v:.1}"),
        _ => format!("{v:.0}"),
    }
}

/// `12 / 120`.
pub fn headroom(l: &LinkView) -> String {
    match (l.headroom_ms, l.latency_ms) {
        (Some(h), Some(of)) => format!("{h:.0} of {of:.0}"),
        (None, Some(of)) => format!("- of {of:.0}"),
        _ => "-".into(),
    }
}

/// `1.02 > 0.00`: loss before and after recovery.
pub fn loss(l: &LinkView) -> String {
    format!("{:.2} > {:.2}", l.lost_percent, l.missing_percent)
}

/// What is in the picture, in one line.
pub fn picture(m: &MediaView) -> String {
    let Some(codec) = &m.codec else { return "no picture yet".into() };
    let mut text = codec.clone();
    let mut add = |part: Option<String>| {
        if let Some(p) = part {
            let _ = write!(text, " {p}");
        }
    };
    add(m.profile.clone());
    add(m.size.map(say_size));
    add(m.rate.map(|r| format!("at {}", say_rate(r))));
    add(m.keyframe_ms.map(|k| match m.keyframe_frames {
        Some(1) => "all-intra".into(),
        _ => format!("keyframe each {:.1} s", f64::from(k) / 1000.0),
    }));
    add(m.audio.as_ref().map(|a| format!("+ {a}")));
    let rates: Vec<String> = m.streams.iter().filter(|s| s.rate_bps > 0).map(|s| Bitrate(s.rate_bps).to_string()).collect();
    add((rates.len() > 1).then(|| format!("({})", rates.join(" + "))));
    text
}

fn tally(t: Option<TallyView>) -> String {
    or_dash(t.map(|t| t.words().to_owned()))
}

fn since(l: &LinkView, now: u64) -> String {
    or_dash(l.up_since_ms.map(|t| say_duration(Duration::from_millis(now.saturating_sub(t)))))
}

/// The whole show. Reasons and pictures go on lines of their own when `width` is small.
pub fn show(v: &ShowView, width: usize) -> String {
    let mut out = String::new();
    let ran = say_duration(Duration::from_millis(v.now_ms.saturating_sub(v.started_ms)));
    let _ = writeln!(out, "{}: running for {ran}, process {}\n", v.show, v.pid);
    if !v.alarms.is_empty() {
        let _ = writeln!(out, "alarms\n{}", alarms::list(&v.alarms, width));
    }
    let state = |l: &LinkView| or_dash(l.state.map(|s| s.to_string()));
    let heads = [
        "line",
        "state",
        "tally",
        ">rate",
        ">rtt ms",
        ">loss %",
        ">missing",
        ">repaired",
        ">headroom ms",
        ">delay ms",
        "encryption",
        "peer",
        "up for",
    ];
    let rows: Vec<Vec<String>> = v
        .lines
        .iter()
        .map(|l| {
            let k = &l.link;
            vec![
                l.name.clone(),
                state(k),
                tally(l.tally),
                Bitrate(k.rate_bps).to_string(),
                ms(k.rtt_ms),
                loss(k),
                k.missing.to_string(),
                k.recovered.to_string(),
                headroom(k),
                ms(l.delay_ms),
                k.encryption.clone(),
                or_dash(k.peer.clone()),
                since(k, v.now_ms),
            ]
        })
        .collect();
    out.push_str(&fit(&heads, &rows, width));
    out.push('\n');
    let name_width = v.lines.iter().map(|l| l.name.width()).max().unwrap_or(0);
    for l in &v.lines {
        let _ = writeln!(out, "{:name_width$}  {}", l.name, l.link.reason);
        let _ = writeln!(out, "{:name_width$}  {}", "", picture(&l.media));
        if let Some(how) = &l.link.how {
            let _ = writeln!(out, "{:name_width$}  {how}", "");
        }
    }
    let heads = ["feed", "state", "tally", ">rate", "carries", "to", ">rtt ms", ">loss %", ">resent", ">latency ms", ">to input ms", "how"];
    let rows: Vec<Vec<String>> = v
        .feeds
        .iter()
        .flat_map(|f| {
            f.outs.iter().map(|o| {
                vec![
                    f.name.clone(),
                    state(o),
                    tally(f.tally),
                    Bitrate(o.rate_bps).to_string(),
                    carries(f),
                    o.paste.first().cloned().unwrap_or_else(|| o.url.split(['?', '#']).next().unwrap_or_default().to_owned()),
                    ms(o.rtt_ms),
                    loss(o),
                    o.resent.to_string(),
                    ms(o.latency_ms),
                    ms(f.delay_to_input_ms),
                    o.how.clone().unwrap_or_else(|| o.encryption.clone()),
                ]
            })
        })
        .collect();
    if !rows.is_empty() {
        let _ = writeln!(out, "\n{}", fit(&heads, &rows, width).trim_end());
    }
    let troubled = |o: &&LinkView| matches!(o.state, Some(State::Broken | State::Strained));
    let reasons: Vec<String> =
        v.feeds.iter().flat_map(|f| f.outs.iter().filter(troubled).map(|o| format!("{}  {}\n", f.name, o.reason))).collect();
    if !reasons.is_empty() {
        let _ = write!(out, "\n{}", reasons.concat());
    }
    if !v.inputs.is_empty() {
        let _ = write!(out, "\n{}", inputs(&v.inputs));
    }
    out
}

/// What is on a feed, for what it stands in, and what is about to come on.
fn carries(f: &FeedView) -> String {
    let stands_in = f.stand_in.as_ref().filter(|s| s.chosen != f.line).map(|s| format!(" for {}", s.chosen));
    let coming = f.next.as_ref().map(|n| format!(" (cut to {n})"));
    let next = f.preview.as_ref().map(|n| format!(" (next: {n})"));
    let behind = f.behind_ms.map(|ms| format!(" ({} s behind)", digits(ms / 1000.0)));
    [Some(f.line.clone()), stands_in, behind, coming.or(next)].into_iter().flatten().collect()
}

/// The threads that serve SRT links, and which lines each of them serves.
pub fn threads(views: &[ThreadView], width: usize) -> String {
    let heads = ["thread", ">links", ">core %", ">late ms: half", ">99 %", ">most", "lines"];
    let row = |t: &ThreadView| {
        let late = [t.late_half_ms, t.late_99_ms, t.late_most_ms].map(digits);
        let lines = if t.lines.is_empty() { "-".into() } else { t.lines.join(", ") };
        [vec![t.name.clone(), t.links.to_string(), digits(t.cpu_percent)], late.to_vec(), vec![lines]].concat()
    };
    fit(&heads, &views.iter().map(row).collect::<Vec<_>>(), width)
}

/// Leaves out columns from the right until the table fits.
pub fn fit(heads: &[&str], rows: &[Vec<String>], width: usize) -> String {
    for keep in (4..=heads.len()).rev() {
        let cut: Vec<Vec<String>> = rows.iter().map(|r| r[..keep.min(r.len())].to_vec()).collect();
        let text = table(&heads[..keep], &cut);
        if keep == 4 || text.lines().all(|l| l.width() <= width) {
            return text;
        }
    }
    String::new()
}

/// What a switcher's inputs measured.
pub fn inputs(views: &[InputView]) -> String {
    let heads = ["switcher input", "tally", ">rate", ">frames", ">missing", "size", ">delay ms: least", ">median", ">most"];
    let rows: Vec<Vec<String>> = views
        .iter()
        .map(|i| {
            vec![
                i.name.clone(),
                tally(i.tally),
                Bitrate(i.rate_bps).to_string(),
                i.frames.to_string(),
                i.frames_missing.to_string(),
                or_dash(i.size.map(say_size)),
                ms(i.delay_ms.map(|d| d.0)),
                ms(i.delay_ms.map(|d| d.1)),
                ms(i.delay_ms.map(|d| d.2)),
            ]
        })
        .collect();
    table(&heads, &rows)
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::{
        facts::State,
        view::{LineView, StreamView},
    };

    fn view() -> ShowView {
        let link = LinkView {
            url: "srt://127.20.0.31:7201?mode=caller&latency=60".into(),
            state: Some(State::Strained),
            reason: "only 6 ms of 120 ms latency left".into(),
            rate_bps: 6_000_000,
            rtt_ms: Some(0.04),
            lost_percent: 1.234,
            missing: 3,
            recovered: 45,
            headroom_ms: Some(6.2),
            latency_ms: Some(120.0),
            encryption: "AES-256 secured".into(),
            peer: Some("127.20.2.11:40000".into()),
            ..LinkView::default()
        };
        let stream = |kind: &str, rate_bps| StreamView { pid: 1, kind: kind.into(), picture: true, rate_bps };
        let media = MediaView {
            codec: Some("H.264".into()),
            size: Some((1280, 720)),
            rate: Some(25.0),
            streams: vec![stream("H.264", 4_700_000), stream("AAC", 96_000)],
            ..MediaView::default()
        };
        ShowView {
            show: "Tarn Hollow Regatta".into(),
            lines: vec![LineView { name: "finish-tower".into(), link: link.clone(), media, ..LineView::default() }],
            feeds: vec![FeedView {
                name: "boathouse-1".into(),
                line: "finish-tower".into(),
                next: Some("start-pontoon".into()),
                outs: vec![link],
                ..FeedView::default()
            }],
            ..ShowView::default()
        }
    }

    #[test]
    fn a_table_says_all_when_there_is_room_and_the_most_when_not() {
        let wide = show(&view(), usize::MAX);
        for wanted in [
            "strained",
            "6.0 Mbps",
            "0.04",
            "1.23 > 0.00",
            "45",
            "6 of 120",
            "AES-256 secured",
            "127.20.2.11:40000",
            "only 6 ms",
            "H.264 1280x720 at 25 (4.7 Mbps + 96 kbps)",
            "finish-tower (cut to start-pontoon)",
            "srt://127.20.0.31:7201",
        ] {
            assert!(wide.contains(wanted), "{wanted} in\n{wide}");
        }
        assert!(!wide.contains("mode=caller"), "settings of a URL are not for a table");
        let narrow = show(&view(), 80);
        assert!(narrow.contains("strained") && narrow.contains("only 6 ms") && !narrow.contains("127.20.2.11:40000"), "{narrow}");
        assert!(narrow.lines().filter(|l| l.starts_with("line") || l.starts_with("feed")).all(|l| l.width() <= 80), "{narrow}");
    }

    #[test]
    fn columns_line_up() {
        let text = table(&["name", ">n"], &[vec!["a".into(), "1".into()], vec!["längst".into(), "1000".into()]]);
        assert_eq!(text, "name       n\na          1\nlängst  1000\n");
    }

    #[test]
    fn numbers_have_as_many_digits_as_say_something() {
        for (value, text) in [(0.04, "0.04"), (2.34, "2.3"), (59.6, "60"), (-0.5, "-0.50"), (-12.0, "-12")] {
            assert_eq!(digits(value), text);
        }
        assert_eq!((ms(None), headroom(&LinkView::default())), ("-".into(), "-".into()));
    }
}
