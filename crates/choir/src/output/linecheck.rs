//! A line check: a grid that fills, what is wrong with its remedy, and stills.

use super::{
    halves::side_by_side,
    palette::{self, colours},
    sentences::hanging,
};
use choir_core::linecheck::{Item, Mark, Row, Step};
use choir_core::sheet::Entry;
use choir_show::{linecheck::Checked, still::Still};
use std::{fmt::Write, io::IsTerminal};
use unicode_width::UnicodeWidthStr;

/// Columns and half-rows of a still in the terminal.
const TERMINAL_STILL: (usize, usize) = (48, 28);

/// A word for the grid: it says what a colour would.
pub(super) const fn word(mark: Mark) -> &'static str {
    match mark {
        Mark::Skipped => "-",
        Mark::Passed => "ok",
        Mark::Open => "..",
        Mark::Doubtful => "?",
        Mark::Failed => "NO",
    }
}

/// The word and its colour, where there are colours.
fn painted(mark: Mark, text: &str, colour: bool) -> String {
    let (r, g, b) = match mark {
        Mark::Skipped | Mark::Open => palette::QUIET,
        Mark::Passed => palette::GOOD,
        Mark::Doubtful => palette::WARNING,
        Mark::Failed => palette::BAD,
    };
    if colour { format!("\x1b[38;2;{r};{g};{b}m{text}\x1b[0m") } else { text.to_owned() }
}

const fn short(step: Step) -> &'static str {
    match step {
        Step::Handshake => "meet",
        Step::Encryption => "encr",
        Step::Picture => "pict",
        Step::Bitrate => "bits",
        Step::Keyframes => "keys",
        Step::Stream => "strm",
        Step::Headroom => "room",
        other => other.word(),
    }
}

fn mark_of(row: &Row, step: Step) -> Option<Mark> {
    row.items.iter().find(|i| i.step == step).map(|i| i.mark)
}

/// Rows against steps; where that does not fit, each row with what is not yet good.
pub fn grid(rows: &[Row], width: usize, colour: bool) -> String {
    let first = rows.iter().map(|r| r.subject.width()).max().unwrap_or(0) + 2;
    let columns: Vec<(Step, usize)> = Step::ALL.iter().map(|s| (*s, short(*s).len() + 1)).collect();
    let mut out = String::new();
    if first + columns.iter().map(|c| c.1).sum::<usize>() > width {
        for row in rows {
            let open: Vec<String> =
                row.items.iter().filter(|i| i.mark >= Mark::Open).map(|i| format!("{} {}", i.step.word(), word(i.mark))).collect();
            let what = if open.is_empty() { "ok".into() } else { open.join(", ") };
            let _ = writeln!(out, "{:first$}{what}", row.subject);
        }
        return out;
    }
    let _ = write!(out, "{:first$}", "");
    columns.iter().for_each(|(s, w)| {
        let _ = write!(out, "{:w$}", short(*s));
    });
    out.truncate(out.trim_end().len());
    out.push('\n');
    for row in rows {
        let mut line = format!("{:first$}", row.subject);
        for (step, w) in &columns {
            let mark = mark_of(row, *step);
            let cell = format!("{:w$}", mark.map_or("", word));
            line.push_str(&mark.map_or(cell.clone(), |m| painted(m, &cell, colour)));
        }
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}

pub(super) fn values(row: &Row) -> String {
    let told = [Step::Codec, Step::Size, Step::Rate, Step::Bitrate, Step::Keyframes, Step::Sound, Step::Delay, Step::Loss, Step::Headroom];
    let say = |i: &Item| match i.step {
        Step::Rate => format!("{} frames per second", i.found),
        Step::Keyframes => format!("keyframes {}", i.found),
        Step::Delay => format!("delay {}", i.found),
        Step::Headroom => format!("headroom {}", i.found),
        Step::Sound if i.found == "none" => "no sound".into(),
        _ => i.found.clone(),
    };
    let known = |i: &&Item| {
        told.contains(&i.step) && (i.mark == Mark::Passed || i.step == Step::Sound && i.mark == Mark::Skipped && i.found == "none")
    };
    row.items.iter().filter(known).map(say).collect::<Vec<_>>().join(", ")
}

/// The grid, what was measured, and what is wrong.
pub fn text(rows: &[Row], width: usize, colour: bool) -> String {
    let mut out = grid(rows, width, colour);
    out.push('\n');
    // A way out has been measured where it arrives.
    for row in rows.iter().filter(|r| matches!(r.entry, Entry::Line(_)) && !values(r).is_empty()) {
        hanging(&mut out, &format!("{}: {}", row.subject, values(row)), ("", "  "), width);
    }
    for row in rows {
        for i in row.items.iter().filter(|i| i.mark >= Mark::Doubtful) {
            out.push('\n');
            let what = format!("{} {}: {}: {}", word(i.mark), row.subject, i.step.word(), i.found);
            let (mut told, plain) = (String::new(), word(i.mark));
            hanging(&mut told, &what, ("", "    "), width);
            out.push_str(&told.replacen(plain, &painted(i.mark, plain, colour), 1));
            i.remedy.iter().for_each(|r| hanging(&mut out, r, ("    ", "    "), width));
        }
    }
    out.push('\n');
    out
}

/// `7 good, 1 doubtful, 2 failed`.
pub fn summary(rows: &[Row]) -> String {
    let count = |wanted: fn(Mark) -> bool| rows.iter().filter(|r| wanted(r.mark())).count();
    let (failed, doubtful) = (count(|m| m == Mark::Failed), count(|m| m == Mark::Doubtful));
    let open = count(|m| m == Mark::Open);
    let good = rows.len() - failed - doubtful - open;
    let mut all = vec![format!("{good} of {} good", rows.len())];
    for (n, what) in [(doubtful, "doubtful"), (failed, "failed"), (open, "not judged")] {
        if n > 0 {
            all.push(format!("{n} {what}"));
        }
    }
    all.join(", ")
}

/// Stills side by side in half blocks; nothing where there are no colours.
pub fn stills(checked: &Checked) -> String {
    if !colours(std::io::stdout().is_terminal()) || checked.stills.is_empty() {
        return String::new();
    }
    let per_row = (super::tables::width() / (TERMINAL_STILL.0 + 2)).max(1);
    let all: Vec<(&str, Still)> = in_order(checked).map(|(n, _, s)| (n, s.fit(TERMINAL_STILL.0, TERMINAL_STILL.1))).collect();
    let mut out = String::new();
    for group in all.chunks(per_row) {
        for (name, _) in group {
            let _ = write!(out, "{name:<w$}", w = TERMINAL_STILL.0 + 2);
        }
        out.push('\n');
        let stills: Vec<_> = group.iter().map(|(_, still)| Some(still)).collect();
        out.push_str(&side_by_side(&stills, TERMINAL_STILL.0 + 2));
        out.push('\n');
    }
    out
}

/// Name, title and still of each line, in the order of the sheet.
pub(super) fn in_order(checked: &Checked) -> impl Iterator<Item = (&str, &str, &Still)> {
    let named = checked.rows.iter().filter_map(|r| match &r.entry {
        Entry::Line(name) => Some((name.as_str(), r.title.as_str())),
        _ => None,
    });
    named.filter_map(|(name, title)| Some((name, title, checked.stills.get(name)?)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(name: &str, marks: &[(Step, Mark)]) -> Row {
        let item = |(step, mark): &(Step, Mark)| Item { step: *step, mark: *mark, found: "<b>".into(), remedy: Some("a & b".into()) };
        let entry = Entry::Line(name.into());
        Row {
            subject: entry.to_string(),
            entry,
            title: "Launch".into(),
            url: "srt://:7103".into(),
            items: marks.iter().map(item).collect(),
        }
    }

    #[test]
    fn the_grid_says_each_mark_in_a_word_at_any_width() {
        let rows = [row(
            "launch",
            &[(Step::Name, Mark::Skipped), (Step::Host, Mark::Passed), (Step::Port, Mark::Failed), (Step::Loss, Mark::Open)],
        )];
        let wide = grid(&rows, 200, false);
        assert_eq!(
            wide.lines().nth(1).map(|l| l.split_whitespace().collect::<Vec<_>>()),
            Some(vec!["line", "launch", "-", "ok", "NO", ".."])
        );
        assert_eq!(grid(&rows, 40, true), "line launch  port NO, loss ..\n");
        assert!(grid(&rows, 200, true).contains("\x1b[38;2;240;100;95mNO"));
        assert_eq!(summary(&rows), "0 of 1 good, 1 failed");
        assert!(text(&rows, 200, false).contains("NO line launch: port: <b>\n    a & b\n"));
    }
}
