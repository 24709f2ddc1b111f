//! The table of feeds: what each carries, to whom, and how well.

use super::{
    app::App,
    columns::{Column, number, plain, section, tally, visible},
};
use crate::output::tables::loss;
use choir_core::{
    units::Bitrate,
    view::{FeedView, LinkView},
};
use ratatui::{
    Frame,
    layout::{Constraint, Rect},
    style::Style,
    text::Span,
    widgets::{Cell, Row, Table},
};

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
        None => plain(o.feed.line.clone()),
    }
}

fn to(out: &LinkView) -> String {
    // A served feed shows what to paste.
    if let Some(url) = out.paste.first() {
        return url.clone();
    }
    out.peer.clone().unwrap_or_else(|| out.url.split('?').next().unwrap_or_default().to_owned())
}

pub fn table(frame: &mut Frame<'_>, app: &App, area: Rect) {
    let columns = visible(COLUMNS, area.width);
    let mut rows = Vec::new();
    for (n, feed) in app.view.feeds.iter().enumerate() {
        for out in &feed.outs {
            let row = Out { number: n + 1, feed: feed.clone(), out: out.clone() };
            rows.push(Row::new(columns.iter().enumerate().map(|(i, c)| {
                let (text, style) = (c.cell)(app, &row);
                Cell::from(Span::styled(if i == 0 { format!(" {text}") } else { text }, style))
            })));
        }
    }
    let widths = columns.iter().map(|c| Constraint::Length(c.width));
    let head =
        Row::new(columns.iter().enumerate().map(|(n, c)| format!("{}{}", if n == 0 { " " } else { "" }, c.head))).style(app.theme.head());
    frame.render_widget(Table::new(rows, widths).header(head).column_spacing(1).block(section(app, " feeds ")), area);
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
