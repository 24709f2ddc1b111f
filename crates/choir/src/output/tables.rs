//! Tables of a show, for `status` and as closing words.

use choir_core::{
    units::{Bitrate, say_duration},
    view::{InputView, LinkView, MediaView, ShowView},
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
fn table(heads: &[&str], rows: &[Vec<String>]) -> String {
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
    add(m.size.map(|(w, h)| format!("{w}x{h}")));
    add(m.rate.map(|r| format!("at {}", (r * 100.0).round() / 100.0)));
    add(m.keyframe_ms.map(|k| format!("keyframe each {:.1} s", f64::from(k) / 1000.0)));
    add(m.audio.as_ref().map(|a| format!("+ {a}")));
    text
}

fn since(l: &LinkView, now: u64) -> String {
    or_dash(l.up_since_ms.map(|t| say_duration(Duration::from_millis(now.saturating_sub(t)))))
}

/// The whole show. Reasons and pictures go on lines of their own when `width` is small.
pub fn show(v: &ShowView, width: usize) -> String {
    let mut out = String::new();
    let ran = say_duration(Duration::from_millis(v.now_ms.saturating_sub(v.started_ms)));
    let _ = writeln!(out, "{}: running for {ran}, process {}\n", v.show, v.pid);
    let state = |l: &LinkView| or_dash(l.state.map(|s| s.to_string()));
    let heads = [
        "line",
        "state",
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
    }
    let heads = ["feed", "carries", "to", "state", ">rate", ">rtt ms", ">loss %", ">resent", ">headroom ms", ">to input ms", "encryption"];
    let rows: Vec<Vec<String>> = v
        .feeds
        .iter()
        .flat_map(|f| {
            f.outs.iter().map(|o| {
                vec![
                    f.name.clone(),
                    f.next.as_ref().map_or_else(|| f.line.clone(), |n| format!("{} (next: {n})", f.line)),
                    o.url.split('?').next().unwrap_or_default().to_owned(),
                    state(o),
                    Bitrate(o.rate_bps).to_string(),
                    ms(o.rtt_ms),
                    loss(o),
                    o.resent.to_string(),
                    headroom(o),
                    ms(f.delay_to_input_ms),
                    o.encryption.clone(),
                ]
            })
        })
        .collect();
    if !rows.is_empty() {
        let _ = writeln!(out, "\n{}", fit(&heads, &rows, width).trim_end());
    }
    if !v.inputs.is_empty() {
        let _ = write!(out, "\n{}", inputs(&v.inputs));
    }
    out
}

/// Leaves out columns from the right until the table fits.
fn fit(heads: &[&str], rows: &[Vec<String>], width: usize) -> String {
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
    let heads = ["switcher input", ">rate", ">frames", ">missing", "size", ">delay ms: least", ">median", ">most"];
    let rows: Vec<Vec<String>> = views
        .iter()
        .map(|i| {
            vec![
                i.name.clone(),
                Bitrate(i.rate_bps).to_string(),
                i.frames.to_string(),
                i.frames_missing.to_string(),
                or_dash(i.size.map(|(w, h)| format!("{w}x{h}"))),
                ms(i.delay_ms.map(|d| d.0)),
                ms(i.delay_ms.map(|d| d.1)),
                ms(i.delay_ms.map(|d| d.2)),
            ]
        })
        .collect();
    table(&heads, &rows)
}
