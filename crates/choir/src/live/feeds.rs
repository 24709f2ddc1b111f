//! The table of feeds: what each carries, to whom, and how well.

use super::{
    app::App,
    columns::{Column, heads, number, part, plain, row, section, tally, visible},
    hits::Hit,
    list::window,
};
use crate::output::tables::loss;
use choir_core::{
    units::Bitrate,
    view::{FeedView, LinkView},
};
use ratatui::{Frame, layout::Rect, style::Style, widgets::Paragraph};

/// One way out of a feed, with the number of its feed.
struct Out {
    number: usize,
    feed: FeedView,
    out: LinkView,
}

const COLUMNS: &[Column<Out>] = &[
    Column { head: "feed", width: 16, from: 0, cell: |_, o| plain(format!("{} {}", o.number, o.feed.name)) },
    Column {
        head: "state",
        width: 9,
        from: 0,
        cell: |a, o| (o.out.state.map_or_else(String::new, |s| s.to_string()), a.theme.state(o.out.state)),
    },
    Column { head: "tally", width: 6, from: 105, cell: |a, o| tally(a, o.feed.tally) },
    Column { head: "     rate", width: 10, from: 0, cell: |_, o| plain(format!("{:>9}", Bitrate(o.out.rate_bps).to_string())) },
    Column { head: "carries", width: 20, from: 168, cell: carries },
    Column { head: "carries", width: 16, from: 0, cell: carries },
    Column { head: "to", width: 35, from: 158, cell: |_, o| plain(to(&o.out)) },
    Column { head: "to", width: 22, from: 100, cell: |_, o| plain(to(&o.out)) },
    Column { head: "rtt ms", width: 6, from: 76, cell: |_, o| plain(format!("{:>6}", number(o.out.rtt_ms))) },
    Column { head: "     loss %", width: 12, from: 130, cell: |_, o| plain(loss(&o.out)) },
    Column { head: "latency ms", width: 10, from: 76, cell: |_, o| plain(format!("{:>10}", number(o.out.latency_ms))) },
    Column { head: "to input ms", width: 11, from: 145, cell: |_, o| plain(format!("{:>11}", number(o.feed.delay_to_input_ms))) },
    Column { head: "how", width: 15, from: 145, cell: |_, o| plain(o.out.how.clone().unwrap_or_else(|| o.out.encryption.clone())) },
];

fn carries(app: &App, o: &Out) -> (String, Style) {
    match &o.feed.next {
        Some(next) => (format!("{} → {next}", o.feed.line), app.theme.state(Some(choir_core::facts::State::Joining))),
        None => match &o.feed.stand_in {
            Some(s) => (format!("{} for {}", o.feed.line, s.chosen), app.theme.state(Some(choir_core::facts::State::Strained))),
            None => plain(o.feed.line.clone()),
        },
    }
}

fn to(out: &LinkView) -> String {
    // A served feed shows what to paste.
    if let Some(url) = out.paste.first() {
        return url.clone();
    }
    out.peer.clone().unwrap_or_else(|| out.url.split('?').next().unwrap_or_default().to_owned())
}

/// Rows that they would like.
pub fn wanted(app: &App) -> u16 {
    app.view.feeds.iter().map(|f| f.outs.len().max(1)).sum::<usize>() as u16 + 2
}

pub fn table(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let columns = visible(COLUMNS, area.width);
    let all: Vec<Out> = (app.view.feeds.iter().enumerate())
        .flat_map(|(n, feed)| feed.outs.iter().map(move |out| Out { number: n + 1, feed: feed.clone(), out: out.clone() }))
        .collect();
    // Where not all fit, those that carry the chosen line are seen.
    let carries = app.chosen_line().and_then(|l| all.iter().position(|o| o.feed.line == l.name)).unwrap_or(0);
    let room = usize::from(area.height.saturating_sub(2));
    let first = window(0, carries, all.len(), room);
    let shown = room.min(all.len() - first);
    let block = section(app, format!(" feeds{} ", part(first, shown, all.len())));
    let inner = block.inner(area);
    frame.render_widget(block, area);
    let mut rows = vec![heads(&columns, app)];
    for (y, out) in all.iter().skip(first).take(shown).enumerate() {
        rows.push(row(&columns, app, " ", out));
        app.hits.add(Rect { y: inner.y + 1 + y as u16, height: 1, ..inner }, Hit::Feed(out.number - 1));
    }
    frame.render_widget(Paragraph::new(rows), inner);
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
