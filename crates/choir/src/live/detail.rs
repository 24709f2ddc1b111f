//! The pane of the chosen line: all that matters of it, and its last minute.

use super::{
    app::App,
    charts::{bar, columns},
    columns::section,
    lines::{rates, up_for},
    picture,
};
use crate::output::{
    alarms::standing,
    sentences::wrap,
    tables::{digits, picture as media},
};
use choir_core::{
    facts::EventGrade,
    units::{Bitrate, say_duration},
    view::{LevelsView, LineView, Sample},
};
use choir_host::clock::time_of_day;
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::Style,
    text::{Line, Span},
    widgets::Paragraph,
};
use std::time::Duration;

/// Everything about the chosen line, with a minute of history.
pub fn detail(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let Some(line) = app.chosen_line() else { return };
    let block = section(app, format!(" {}: {} ", line.name, line.title));
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let (left, beside) = beside(inner);
    picture::show(frame, app, line, beside);
    let mut facts = facts(app, line, usize::from(left.width).saturating_sub(1));
    // The history keeps a third of it.
    facts.truncate(usize::from(inner.height - (inner.height / 3).clamp(3, 8).min(inner.height)));
    let top = (facts.len() as u16).max(beside.height).min(inner.height);
    frame.render_widget(Paragraph::new(facts), Rect { height: top, ..left });
    history(frame, app, line, Rect { y: inner.y + top, height: inner.height - top, ..inner });
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
    for a in app.view.alarms_of(l).filter(|a| a.over_ms.is_none()) {
        fact("alarm", format!("{}: {}, {}", a.number, a.text, standing(a)));
    }
    for c in k.causes.iter().filter(|c| c.text != k.reason && l.content.iter().all(|x| x.name != c.name)) {
        fact("also", c.text.clone());
    }
    for c in &l.content {
        fact("content", format!("{} since {}", c.text, time_of_day(c.since_ms)));
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

/// One number over the last minute.
struct Chart {
    name: &'static str,
    values: Vec<f64>,
    /// The top of the scale, and how it is written.
    top: f64,
    says: String,
    style: Style,
}

/// What the last minute is shown of, the most important first.
fn charts(app: &App, l: &LineView) -> Vec<Chart> {
    let of = |value: fn(&Sample) -> f64| l.history.iter().map(value).collect::<Vec<f64>>();
    let greatest = |values: &[f64]| values.iter().copied().fold(0.0, f64::max);
    let chart = |name, values: Vec<f64>, says: fn(f64) -> String, style| {
        let most = greatest(&values);
        Chart { name, values, top: most.max(1.0), says: says(most), style }
    };
    let per_second: fn(f64) -> String = |n| format!("{n:.0}/s");
    let mut all =
        vec![Chart { top: greatest(&rates(l)) * 1.05, ..chart("rate", rates(l), |v| Bitrate(v as u64).to_string(), app.theme.chart()) }];
    // A link without a latency budget has no headroom to show.
    if let Some(latency) = l.link.latency_ms {
        let values = of(|s| s.headroom_ms.unwrap_or(0.0).max(0.0));
        all.push(Chart { name: "headroom", values, top: latency.max(1.0), says: format!("{latency:.0} ms"), style: app.theme.chart() });
    }
    if l.history.iter().any(|s| s.rtt_ms.is_some()) {
        all.push(chart("rtt", of(|s| s.rtt_ms.unwrap_or(0.0)), |v| format!("{} ms", digits(v)), app.theme.chart()));
    }
    all.push(chart("lost", of(|s| s.lost as f64), per_second, app.theme.event(EventGrade::Warning)));
    all.push(chart("missing", of(|s| s.missing as f64), per_second, app.theme.alarm()));
    all
}

/// The last minute on one time axis, a column for each second, as far as there is room.
fn history(frame: &mut Frame<'_>, app: &App, l: &LineView, area: Rect) {
    if area.height == 0 {
        return;
    }
    let mut charts = charts(app, l);
    let room = usize::from(area.height);
    let axis = usize::from(room >= 8);
    let count = charts.len().min(room - axis);
    if count < charts.len() {
        // The last ones say what was lost: they stay.
        charts.drain(2.min(count)..2.min(count) + charts.len() - count);
    }
    let each = ((room - axis) / count.max(1)).max(1);
    let width = 60.min(usize::from(area.width).saturating_sub(22));
    let mut rows = Vec::new();
    for chart in charts {
        for (i, row) in columns(&chart.values, width, if each > 2 { each - 1 } else { each }, chart.top).into_iter().enumerate() {
            let label = if i == 0 { format!(" {:9} ", chart.name) } else { " ".repeat(11) };
            let scale = if i == 0 { format!(" {}", chart.says) } else { String::new() };
            rows.push(Line::from(vec![
                Span::styled(label, app.theme.head()),
                Span::styled(row, chart.style),
                Span::styled(scale, app.theme.quiet()),
            ]));
        }
        if each > 2 {
            rows.push(Line::default());
        }
    }
    rows.truncate(room - axis);
    if axis > 0 {
        rows.push(Line::styled(format!("{}{}", " ".repeat(11), ticks(width)), app.theme.quiet()));
    }
    frame.render_widget(Paragraph::new(rows), area);
}

/// `60 s          40 s          20 s        now`, each at its place.
fn ticks(width: usize) -> String {
    let mut text = vec![' '; width];
    for ago in (20..=60).step_by(20).filter(|ago| *ago <= width) {
        let word = format!("╵{ago} s");
        word.chars().enumerate().for_each(|(n, c)| {
            if let Some(place) = text.get_mut(width - ago + n) {
                *place = c
            }
        });
    }
    "now".chars().rev().enumerate().for_each(|(n, c)| {
        if let Some(place) = width.checked_sub(n + 1).and_then(|at| text.get_mut(at)) {
            *place = c
        }
    });
    text.into_iter().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_time_axis_names_each_twenty_seconds() {
        let text = ticks(60);
        assert_eq!(text.chars().count(), 60);
        assert!(text.starts_with("╵60 s") && text.ends_with("now") && text.chars().nth(40) == Some('╵'), "{text}");
        assert_eq!(ticks(0), "");
        assert_eq!(ticks(2).chars().count(), 2);
    }
}
