//! The list of lines.

use super::{
    app::App,
    charts::{bar, spark},
    columns::{Column, heads, number, part, plain, row, section, tally, visible},
    hits::Hit,
    list::{Row, window},
};
use crate::output::{plural, tables::loss};
use choir_core::{
    facts::State,
    limits,
    units::{Bitrate, say_duration},
    view::{LineView, LinkView},
};
use ratatui::{
    Frame,
    layout::Rect,
    style::Style,
    text::{Line, Span},
    widgets::Paragraph,
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

/// The state, and whether an alarm of the line waits for somebody.
fn state(app: &App, l: &LineView) -> (String, Style) {
    let waits = app.view.alarms_of(l).any(|a| a.acknowledged.is_none());
    let mark = if waits { "!" } else { "" };
    (l.link.state.map_or_else(String::new, |s| format!("{s}{mark}")), app.theme.state(l.link.state))
}

const COLUMNS: &[Column<LineView>] = &[
    Column { head: "line", width: 17, from: 0, cell: name },
    Column { head: "state", width: 9, from: 0, cell: state },
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
    Column { head: "up", width: 9, from: 148, cell: |a, l| (in_short(&up_for(a, &l.link)), a.theme.quiet()) },
    Column { head: "up", width: 8, from: 76, cell: |a, l| (in_short(&up_for(a, &l.link)), a.theme.quiet()) },
];

pub fn up_for(app: &App, l: &LinkView) -> String {
    l.up_since_ms.map_or_else(|| "-".into(), |t| whole_seconds(app.view.now_ms.saturating_sub(t)))
}

/// `5 min 02 s` as `5 min`, for a column that has no room for more.
fn in_short(time: &str) -> String {
    time.split(' ').take(2).collect::<Vec<_>>().join(" ")
}

/// `31 s`, `5 min 2 s`, of ms.
pub fn whole_seconds(ms: u64) -> String {
    say_duration(Duration::from_millis(ms / 1000 * 1000)).replace(".0 s", " s")
}

pub fn rates(l: &LineView) -> Vec<f64> {
    l.history.iter().map(|s| s.rate_bps as f64).collect()
}

fn rate_spark(l: &LineView, width: usize) -> String {
    let rates = rates(l);
    spark(&rates, width, rates.iter().copied().fold(0.0, f64::max) * 1.1)
}

/// Rows that they would like.
pub fn wanted(app: &App) -> u16 {
    app.rows.len().max(1) as u16 + 2
}

pub fn table(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let columns = visible(COLUMNS, area.width);
    let room = usize::from(area.height.saturating_sub(2));
    let first = window(app.first.get(), app.at, app.rows.len(), room);
    app.first.set(first);
    let shown = room.min(app.rows.len() - first);
    let block = section(app, title(app, &part(first, shown, app.rows.len())));
    let inner = block.inner(area);
    frame.render_widget(block, area);
    frame.render_widget(Paragraph::new(heads(&columns, app)), inner);
    for (y, (n, item)) in app.rows.iter().enumerate().skip(first).take(shown).enumerate() {
        let mark = if n == app.at { "▸" } else { " " };
        let line = match item {
            Row::Line(line) => app.view.lines.get(*line).map(|l| row(&columns, app, mark, l)),
            Row::Group { name, lines } => Some(group(app, mark, name, lines)),
        };
        let at = Rect { y: inner.y + 1 + y as u16, height: 1, ..inner }.intersection(inner);
        app.hits.add(at, Hit::Row(n));
        let style = if n == app.at { app.theme.chosen() } else { Style::new() };
        frame.render_widget(Paragraph::new(line.unwrap_or_default()).style(style), at);
    }
    if app.rows.is_empty() && !app.view.lines.is_empty() {
        let at = Rect { y: inner.y + 1, height: 1, ..inner }.intersection(inner);
        frame.render_widget(Paragraph::new(" no line has these words; Esc lists all").style(app.theme.quiet()), at);
    }
}

/// What the list is: how it is sorted, filtered, and which part of it is seen.
fn title(app: &App, part: &str) -> Line<'static> {
    let a = &app.arrangement;
    let mut spans = vec![Span::raw(format!(" lines{}{part} ", a.sort.words()))];
    if app.typing {
        spans.push(Span::styled(format!(" /{}▏ ", a.filter), app.theme.typed()));
    } else if !a.filter.is_empty() {
        spans.push(Span::styled(format!(" with \"{}\"; Esc lists all ", a.filter), app.theme.state(Some(State::Strained))));
    }
    Line::from(spans)
}

/// `▾ mobile: 12 lines   2 broken   10 steady`.
fn group(app: &App, mark: &str, name: &str, lines: &[usize]) -> Line<'static> {
    let fold = if app.arrangement.folded.contains(name) { "▸" } else { "▾" };
    let lead = format!("{mark}{fold} {name}: {}", plural(lines.len(), "line"));
    let mut spans = vec![Span::styled(lead, app.theme.title())];
    spans.extend(states(app, lines.iter().filter_map(|n| app.view.lines.get(*n))));
    Line::from(spans)
}

/// How many lines are in each state, the worst first.
pub fn states<'a>(app: &App, lines: impl Iterator<Item = &'a LineView> + Clone) -> Vec<Span<'static>> {
    let mut spans = Vec::new();
    for state in [State::Broken, State::Strained, State::Held, State::Waiting, State::Joining, State::Steady] {
        let n = lines.clone().filter(|l| l.link.state == Some(state)).count();
        if n > 0 {
            spans.push(Span::raw("   "));
            spans.push(Span::styled(format!("{n} {state}"), app.theme.state(Some(state))));
        }
    }
    spans
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
