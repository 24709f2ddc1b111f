//! The table of lines, and the pane of the chosen one.

use super::{
    app::App,
    charts::{bar, columns, spark},
    columns::{Column, number, plain, section, tally, visible},
    picture,
};
use crate::output::{
    clock,
    sentences::wrap,
    tables::{digits, loss, picture as media},
};
use choir_core::{
    facts::State,
    limits,
    units::{Bitrate, say_duration},
    view::{LevelsView, LineView, LinkView},
};
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span},
    widgets::{Cell, Paragraph, Row, Table},
};
use std::time::Duration;

/// `▸ 96 of 120` with a bar: the time left before the picture breaks.
pub fn headroom(app: &App, l: &LinkView, bar_width: usize) -> (String, Style) {
    let Some(of) = l.latency_ms else { return ("-".into(), app.theme.quiet()) };
    let Some(left) = l.headroom_ms else { return (format!("   - of {of:.0}"), app.theme.quiet()) };
    let share = left / of.max(1.0);
    let style = if left < limits::headroom_ms(of) { app.theme.state(Some(State::Strained)) } else { Style::new() };
    let bar = if bar_width > 0 { format!(" {}", bar(share, bar_width)) } else { String::new() };
    (format!("{left:4.0} of {of:<4.0}{bar}"), style)
}

/// The name; where there is no room for a word, its look says what is on air.
fn name(app: &App, l: &LineView) -> (String, Style) {
    (l.name.clone(), l.tally.map_or_else(Style::new, |t| app.theme.tally(Some(t))))
}

const COLUMNS: &[Column<LineView>] = &[
    Column { head: "line", width: 17, from: 0, cell: name },
    Column {
        head: "state",
        width: 9,
        from: 0,
        cell: |a, l| (l.link.state.map_or_else(String::new, |s| s.to_string()), a.theme.state(l.link.state)),
    },
    Column { head: "tally", width: 6, from: 90, cell: |a, l| tally(a, l.tally) },
    Column { head: "     rate", width: 10, from: 0, cell: |_, l| plain(format!("{:>9}", Bitrate(l.link.rate_bps).to_string())) },
    Column { head: "last 10 s", width: 10, from: 120, cell: |a, l| (rate_spark(l, 10), a.theme.chart()) },
    Column { head: "rtt ms", width: 6, from: 0, cell: |_, l| plain(format!("{:>6}", number(l.link.rtt_ms))) },
    Column {
        head: "     loss %",
        width: 12,
        from: 0,
        cell: |a, l| (loss(&l.link), if l.link.missing_percent > 0.0 { a.theme.alarm() } else { Style::new() }),
    },
    Column {
        head: "missing",
        width: 7,
        from: 110,
        cell: |a, l| (format!("{:>7}", l.link.missing), if l.link.missing > 0 { a.theme.alarm() } else { Style::new() }),
    },
    Column { head: "repaired", width: 8, from: 130, cell: |_, l| plain(format!("{:>8}", l.link.recovered)) },
    Column { head: " headroom ms", width: 18, from: 100, cell: |a, l| headroom(a, &l.link, 6) },
    Column { head: " headroom ms", width: 12, from: 0, cell: |a, l| headroom(a, &l.link, 0) },
    Column { head: "delay ms", width: 8, from: 147, cell: |_, l| plain(format!("{:>8}", number(l.delay_ms))) },
    Column { head: "encryption", width: 15, from: 138, cell: |_, l| plain(l.link.encryption.clone()) },
    Column { head: "peer", width: 17, from: 166, cell: |a, l| (l.link.peer.clone().unwrap_or_else(|| "-".into()), a.theme.quiet()) },
    Column { head: "up", width: 9, from: 148, cell: |a, l| (up_for(a, &l.link), a.theme.quiet()) },
    Column { head: "up", width: 8, from: 76, cell: |a, l| (up_for(a, &l.link), a.theme.quiet()) },
];

fn up_for(app: &App, l: &LinkView) -> String {
    l.up_since_ms.map_or_else(
        || "-".into(),
        |t| say_duration(Duration::from_millis(app.view.now_ms.saturating_sub(t) / 1000 * 1000)).replace(".0 s", " s"),
    )
}

fn rates(l: &LineView) -> Vec<f64> {
    l.history.iter().map(|s| s.rate_bps as f64).collect()
}

fn rate_spark(l: &LineView, width: usize) -> String {
    let rates = rates(l);
    spark(&rates, width, rates.iter().copied().fold(0.0, f64::max) * 1.1)
}

pub fn table(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let columns = visible(COLUMNS, area.width);
    let rows = app.view.lines.iter().enumerate().map(|(i, l)| {
        let cells = columns.iter().enumerate().map(|(n, c)| {
            let (text, style) = (c.cell)(app, l);
            let mark = if n == 0 { if i == app.chosen { "▸" } else { " " } } else { "" };
            Cell::from(Span::styled(format!("{mark}{text}"), style))
        });
        Row::new(cells).style(if i == app.chosen { app.theme.chosen() } else { Style::new() })
    });
    let widths = columns.iter().map(|c| Constraint::Length(c.width));
    let head =
        Row::new(columns.iter().enumerate().map(|(n, c)| format!("{}{}", if n == 0 { " " } else { "" }, c.head))).style(app.theme.head());
    let table = Table::new(rows, widths).header(head).column_spacing(1).block(section(app, " lines "));
    frame.render_widget(table, area);
}

/// Everything about the chosen line, with a minute of history.
pub fn detail(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let Some(line) = app.view.lines.get(app.chosen) else { return };
    let block = section(app, format!(" {}: {} ", line.name, line.title));
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let (inner, beside) = beside(inner);
    picture::show(frame, app, line, beside);
    let mut facts = facts(app, line, usize::from(inner.width).saturating_sub(1));
    // The history keeps at least three rows.
    facts.truncate(usize::from(inner.height.saturating_sub(3)));
    let [top, chart] = Layout::vertical([Constraint::Length((facts.len() as u16).min(inner.height)), Constraint::Min(0)]).areas(inner);
    frame.render_widget(Paragraph::new(facts), top);
    history(frame, app, line, chart);
}

/// Room for facts, and for a picture beside them where there is enough.
fn beside(inner: Rect) -> (Rect, Rect) {
    let width = (inner.width * 2 / 5).min(64);
    let height = picture::rows(width);
    if inner.width < 70 || inner.height < height {
        return (inner, Rect::default());
    }
    let [left, right] = Layout::horizontal([Constraint::Fill(1), Constraint::Length(width)]).areas(inner);
    (left, Rect { height, ..right })
}

/// Each channel's peak as a bar, from silence to full scale.
fn sound(l: &LevelsView) -> String {
    const WIDTH: usize = 8;
    let bars: Vec<String> = l.peak_dbfs.iter().map(|db| format!("{} {db:.0}", bar((db / 60.0 + 1.0).clamp(0.0, 1.0), WIDTH))).collect();
    let loudness = l.momentary_lufs.map_or_else(String::new, |m| format!(", {m:.0} LUFS"));
    let apart = l.apart_ms.filter(|ms| ms.abs() >= 100).map_or_else(String::new, |ms| format!(", {ms} ms behind the picture"));
    format!("{} dBFS{loudness}{apart}", bars.join("  "))
}

fn facts<'a>(app: &App, l: &'a LineView, width: usize) -> Vec<Line<'a>> {
    let k = &l.link;
    let mut rows = Vec::new();
    for (i, part) in wrap(&k.reason, width.saturating_sub(11)).into_iter().enumerate() {
        let head = if i == 0 { k.state.map_or_else(String::new, |s| s.to_string()) } else { String::new() };
        rows.push(Line::from(vec![Span::styled(format!(" {head:9}"), app.theme.state(k.state)), Span::raw(format!(" {part}"))]));
    }
    let mut fact = |name: &str, text: String| {
        for (i, part) in wrap(&text, width.saturating_sub(11)).into_iter().enumerate() {
            let head = if i == 0 { name } else { "" };
            rows.push(Line::from(vec![Span::styled(format!(" {head:9} "), app.theme.head()), Span::raw(part)]));
        }
    };
    for c in k.causes.iter().filter(|c| c.text != k.reason) {
        fact("also", c.text.clone());
    }
    for c in &l.content {
        fact("content", format!("{} since {}", c.text, clock(c.since_ms)));
    }
    let age = l.picture.map_or_else(String::new, |p| format!(", seen {} ago", say_duration(Duration::from_millis(p.age_ms / 100 * 100))));
    fact("picture", format!("{}{age}", media(&l.media)));
    if let Some(levels) = &l.levels {
        fact("sound", sound(levels));
    }
    let from = k.peer.clone().unwrap_or_else(|| "nobody".into());
    // What RTSP settles says more than that it is not encrypted.
    let how = k.how.clone().unwrap_or_else(|| k.encryption.clone());
    fact("from", format!("{from}, {how}, up {}", up_for(app, k)));
    let delay =
        l.delay_ms.map_or_else(|| "not carried in the picture".into(), |d| format!("{} ms from the camera's clock to here", digits(d)));
    fact("delay", delay);
    if let Some(asked) = &k.latency_asked {
        fact("latency", format!("{:.0} ms: {asked}", k.latency_ms.unwrap_or(0.0)));
    }
    fact("packets", format!("{} came, {} lost, {} recovered, {} missing", k.packets, k.lost, k.recovered, k.missing));
    let feeds = if l.feeds.is_empty() { "none".into() } else { l.feeds.join(", ") };
    fact("on feeds", l.tally.map_or_else(|| feeds.clone(), |t| format!("{feeds}; {} at a receiver", t.words())));
    rows
}

/// Rate, headroom and loss of the last minute, as far as there is room.
fn history(frame: &mut Frame<'_>, app: &App, l: &LineView, area: Rect) {
    if area.height == 0 {
        return;
    }
    let charts: Vec<(&str, Vec<f64>, String, Style)> = vec![
        ("rate", rates(l), Bitrate(l.history.iter().map(|s| s.rate_bps).max().unwrap_or(0)).to_string(), app.theme.chart()),
        (
            "headroom",
            l.history.iter().map(|s| s.headroom_ms.unwrap_or(0.0).max(0.0)).collect(),
            l.link.latency_ms.map_or_else(|| "-".into(), |v| format!("{v:.0} ms")),
            app.theme.chart(),
        ),
        (
            "lost",
            l.history.iter().map(|s| s.lost as f64).collect(),
            peak(l.history.iter().map(|s| s.lost)),
            app.theme.event(choir_core::facts::EventGrade::Warning),
        ),
        ("missing", l.history.iter().map(|s| s.missing as f64).collect(), peak(l.history.iter().map(|s| s.missing)), app.theme.alarm()),
    ];
    // A link without a latency budget has no headroom to show.
    let charts: Vec<_> = charts.into_iter().filter(|c| c.0 != "headroom" || l.link.latency_ms.is_some()).collect();
    let room = area.height;
    let small = room < 8;
    let count = if small { room } else { room / 2 }.clamp(1, charts.len() as u16);
    let each = if small { 1 } else { room / count };
    let width = 60.min(usize::from(area.width).saturating_sub(22));
    let mut rows = Vec::new();
    for (name, values, top_text, style) in charts.into_iter().take(usize::from(count)) {
        let top = match name {
            "headroom" => l.link.latency_ms.unwrap_or(1.0),
            "rate" => values.iter().copied().fold(0.0, f64::max) * 1.05,
            _ => values.iter().copied().fold(1.0, f64::max),
        };
        let height = usize::from(each).saturating_sub(1).max(1);
        for (i, row) in columns(&values, width, height, top).into_iter().enumerate() {
            let label = if i == 0 { format!(" {name:9} ") } else { " ".repeat(11) };
            let scale = if i == 0 { format!(" {top_text}") } else { String::new() };
            rows.push(Line::from(vec![
                Span::styled(label, app.theme.head()),
                Span::styled(row, style),
                Span::styled(scale, app.theme.quiet()),
            ]));
        }
        if each > 1 {
            rows.push(Line::default());
        }
    }
    if small {
        return frame.render_widget(Paragraph::new(rows), area);
    }
    if rows.len() < usize::from(room) || rows.last().is_some_and(|l| l.spans.is_empty()) {
        rows.truncate(usize::from(room) - 1);
        let gap = " ".repeat(width.saturating_sub(7));
        rows.push(Line::from(Span::styled(
            format!("{}a minute ago{}now", " ".repeat(11), gap.get(8..).unwrap_or_default()),
            app.theme.quiet(),
        )));
    }
    frame.render_widget(Paragraph::new(rows), area);
}

fn peak(values: impl Iterator<Item = u64>) -> String {
    format!("{}/s", values.max().unwrap_or(0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::live::columns::overflow;

    #[test]
    fn whatever_the_width_columns_fit() {
        assert_eq!(overflow(COLUMNS), []);
    }
}
