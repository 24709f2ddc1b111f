//! Which lines are listed, in which order: filtered, sorted, grouped by network.

use choir_core::{
    facts::State,
    view::{AlarmView, LineView, ShowView},
};
use std::{cmp::Reverse, collections::BTreeSet};

/// By what lines are sorted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Sort {
    /// As the sheet has them.
    #[default]
    Sheet,
    /// What needs somebody first.
    Worst,
    /// By name.
    Name,
    /// The most bits first.
    Rate,
}

impl Sort {
    /// The next one.
    pub const fn next(self) -> Self {
        match self {
            Self::Sheet => Self::Worst,
            Self::Worst => Self::Name,
            Self::Name => Self::Rate,
            Self::Rate => Self::Sheet,
        }
    }

    /// In words, behind "lines".
    pub const fn words(self) -> &'static str {
        match self {
            Self::Sheet => "",
            Self::Worst => ", worst first",
            Self::Name => ", by name",
            Self::Rate => ", by rate",
        }
    }
}

/// One row of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Row {
    /// A network, with the numbers of its lines.
    Group { name: String, lines: Vec<usize> },
    /// A line, by its number in the sheet.
    Line(usize),
}

/// How the list is arranged.
#[derive(Debug, Clone, Default)]
pub struct Arrangement {
    /// Words that a line must have; one with a `-` before it, must not.
    pub filter: String,
    pub sort: Sort,
    pub grouped: bool,
    /// Groups of which only the head is shown.
    pub folded: BTreeSet<String>,
}

/// Where lines stand that cross no network of the sheet.
const NO_NETWORK: &str = "no network";

impl Arrangement {
    /// The rows, from top to bottom.
    pub fn rows(&self, view: &ShowView) -> Vec<Row> {
        let mut lines: Vec<usize> = (0..view.lines.len()).filter(|n| self.passes(&view.lines[*n])).collect();
        match self.sort {
            Sort::Sheet => {}
            Sort::Worst => lines.sort_by_cached_key(|n| urgency(view, &view.lines[*n])),
            Sort::Name => lines.sort_by(|a, b| view.lines[*a].name.cmp(&view.lines[*b].name)),
            Sort::Rate => lines.sort_by_key(|n| Reverse(view.lines[*n].link.rate_bps)),
        }
        if !self.grouped {
            return lines.into_iter().map(Row::Line).collect();
        }
        let mut rows = Vec::new();
        for (name, lines) in groups(view, &lines) {
            let folded = self.folded.contains(&name);
            rows.push(Row::Group { name, lines: lines.clone() });
            if !folded {
                rows.extend(lines.into_iter().map(Row::Line));
            }
        }
        rows
    }

    fn passes(&self, line: &LineView) -> bool {
        if self.filter.is_empty() {
            return true;
        }
        let text = searched(line);
        self.filter.to_lowercase().split_whitespace().all(|word| match word.strip_prefix('-') {
            Some("") => true,
            Some(without) => !text.contains(without),
            None => text.contains(word),
        })
    }
}

/// All words that a line can be found by.
fn searched(line: &LineView) -> String {
    let names = [&line.name, &line.title].into_iter().chain(&line.feeds).chain(&line.networks);
    let state = line.link.state.map_or("", State::word);
    let tally = line.tally.map_or("", |t| t.words());
    let wrong = line.link.causes.iter().chain(&line.content).map(|c| &c.name);
    let words: Vec<&str> = names.chain(wrong).map(String::as_str).chain([state, tally]).collect();
    words.join(" ").to_lowercase()
}

/// What needs somebody first: an open alarm that nobody has seen, then the state, then loss.
fn urgency(view: &ShowView, line: &LineView) -> impl Ord {
    let alarm = view.alarms_of(line).any(AlarmView::calls);
    let state = match line.link.state {
        Some(State::Broken) => 0,
        Some(State::Strained) => 1,
        Some(State::Joining) => 2,
        Some(State::Waiting) | None => 3,
        Some(State::Held) => 4,
        Some(State::Steady) => 5,
    };
    let share = |percent: f64| Reverse((percent * 1000.0) as u64);
    (!alarm, state, share(line.link.missing_percent), share(line.link.lost_percent))
}

/// Each line under the narrowest network that it crosses, in the order in which they come up.
fn groups(view: &ShowView, lines: &[usize]) -> Vec<(String, Vec<usize>)> {
    let crossed_by = |network: &str| view.lines.iter().filter(|l| l.networks.iter().any(|n| n == network)).count();
    let mut groups: Vec<(String, Vec<usize>)> = Vec::new();
    let mut sizes = std::collections::HashMap::new();
    for n in lines {
        let narrowest = view.lines[*n].networks.iter().min_by_key(|name| *sizes.entry(name.as_str()).or_insert_with(|| crossed_by(name)));
        let name = narrowest.map_or(NO_NETWORK, String::as_str);
        match groups.iter_mut().find(|g| g.0 == name) {
            Some(group) => group.1.push(*n),
            None => groups.push((name.to_owned(), vec![*n])),
        }
    }
    groups
}

/// The first row to be shown, so that the chosen one is seen and the list does not jump.
pub fn window(first: usize, chosen: usize, rows: usize, room: usize) -> usize {
    let room = room.max(1);
    let first = if chosen < first { chosen } else { first.max((chosen + 1).saturating_sub(room)) };
    first.min(rows.saturating_sub(room))
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::view::{LinkView, TallyView};

    fn view() -> ShowView {
        let line = |name: &str, networks: &[&str], state, rate_bps| LineView {
            name: name.into(),
            networks: networks.iter().map(|n| (*n).to_owned()).collect(),
            link: LinkView { state: Some(state), rate_bps, ..LinkView::default() },
            ..LineView::default()
        };
        let mut view = ShowView {
            lines: vec![
                line("tower", &["site"], State::Steady, 6),
                line("launch", &["site", "mobile"], State::Broken, 0),
                line("bicycle", &["mobile", "site"], State::Strained, 2),
                line("clip", &[], State::Steady, 9),
            ],
            ..ShowView::default()
        };
        view.lines[0].tally = Some(TallyView::OnAir);
        view
    }

    fn names(view: &ShowView, a: &Arrangement) -> Vec<String> {
        let name = |r: &Row| match r {
            Row::Line(n) => view.lines[*n].name.clone(),
            Row::Group { name, lines } => format!("{name} {}", lines.len()),
        };
        a.rows(view).iter().map(name).collect()
    }

    #[test]
    fn a_filter_finds_by_any_word_and_leaves_out_by_a_dash() {
        let view = view();
        let find = |filter: &str| names(&view, &Arrangement { filter: filter.into(), ..Arrangement::default() });
        assert_eq!(find("MOBILE"), ["launch", "bicycle"]);
        assert_eq!(find("mobile broken"), ["launch"]);
        assert_eq!(find("-mobile"), ["tower", "clip"]);
        assert_eq!(find("on air"), ["tower"]);
        assert_eq!(find("- "), ["tower", "launch", "bicycle", "clip"]);
        assert_eq!(find("nobody"), [""; 0]);
    }

    #[test]
    fn lines_are_sorted_by_what_needs_somebody() {
        let mut view = view();
        let sorted = |view: &ShowView, sort| names(view, &Arrangement { sort, ..Arrangement::default() });
        assert_eq!(sorted(&view, Sort::Worst), ["launch", "bicycle", "tower", "clip"]);
        assert_eq!(sorted(&view, Sort::Name), ["bicycle", "clip", "launch", "tower"]);
        assert_eq!(sorted(&view, Sort::Rate), ["clip", "tower", "bicycle", "launch"]);
        view.alarms.push(AlarmView { number: 1, subject: "line clip".into(), kind: "frozen".into(), ..AlarmView::default() });
        assert_eq!(sorted(&view, Sort::Worst)[0], "clip");
        let mut sort = Sort::Sheet;
        (0..4).for_each(|_| sort = sort.next());
        assert_eq!(sort, Sort::Sheet);
    }

    #[test]
    fn lines_stand_under_the_narrowest_network_that_they_cross() {
        let view = view();
        let mut a = Arrangement { grouped: true, ..Arrangement::default() };
        assert_eq!(names(&view, &a), ["site 1", "tower", "mobile 2", "launch", "bicycle", "no network 1", "clip"]);
        a.folded.insert("mobile".into());
        assert_eq!(names(&view, &a), ["site 1", "tower", "mobile 2", "no network 1", "clip"]);
    }

    #[test]
    fn the_chosen_row_is_always_seen() {
        assert_eq!(window(0, 3, 400, 20), 0);
        assert_eq!(window(0, 20, 400, 20), 1);
        assert_eq!(window(50, 49, 400, 20), 49);
        assert_eq!(window(50, 60, 400, 20), 50);
        assert_eq!(window(390, 399, 400, 20), 380);
        assert_eq!(window(10, 2, 3, 20), 0);
        assert_eq!(window(0, 0, 0, 0), 0);
    }
}
