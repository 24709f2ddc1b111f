//! What differs between a sheet that runs and the same sheet read again.

use super::{Feed, Line, Sheet, WayOut};
use crate::link::{Link, show_url};
use std::fmt;

/// One difference.
#[derive(Debug, Clone, PartialEq)]
pub enum Difference {
    /// A line is new.
    LineAdded(String),
    /// A line is gone.
    LineRemoved(String),
    /// A line comes from elsewhere, or by other settings: its link is closed and opened again.
    LineReopened {
        /// Name.
        line: String,
        /// The new link, without secrets.
        url: String,
    },
    /// Something of a line has changed that its link does not depend on.
    LineChanged(String),
    /// A feed is new.
    FeedAdded(String),
    /// A feed is gone.
    FeedRemoved(String),
    /// A way out of a feed is new.
    OutAdded {
        /// Feed.
        feed: String,
        /// It, with the latency that applies to its link.
        to: WayOut,
    },
    /// A way out of a feed is gone.
    OutRemoved {
        /// Feed.
        feed: String,
        /// It, with the latency that applies to its link.
        to: WayOut,
    },
    /// A feed starts with another line, which is taken.
    FeedLine {
        /// Feed.
        feed: String,
        /// Line.
        line: String,
    },
    /// Something of a feed has changed that its ways out do not depend on.
    FeedChanged(String),
    /// The devices have changed: tally lamps, keyframe requests and steering follow.
    Devices,
    /// What looking at pictures may take.
    Pictures,
    /// What rotas put on, or for how long.
    Rotas,
    /// What keys do.
    Keys,
    /// What is recorded by the sheet, or how.
    Recordings,
    /// When trouble becomes an alarm, or who is told.
    Alarms,
    /// Something has changed that holds from the next start only.
    NextStart(&'static str),
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::LineAdded(name) => write!(f, "line {name} added"),
            Self::LineRemoved(name) => write!(f, "line {name} removed"),
            Self::LineReopened { line, url } => write!(f, "line {line} reopened: {url}"),
            Self::LineChanged(name) => write!(f, "line {name} changed, link kept"),
            Self::FeedAdded(name) => write!(f, "feed {name} added"),
            Self::FeedRemoved(name) => write!(f, "feed {name} removed"),
            Self::OutAdded { feed, to } => write!(f, "feed {feed}: way out added: {}{}", show_url(&to.link), encoded(to)),
            Self::OutRemoved { feed, to } => write!(f, "feed {feed}: way out removed: {}{}", show_url(&to.link), encoded(to)),
            Self::FeedLine { feed, line } => write!(f, "feed {feed}: take of {line}"),
            Self::FeedChanged(name) => write!(f, "feed {name} changed, ways out kept"),
            Self::Devices => f.write_str("devices changed"),
            Self::Alarms => f.write_str("alarms changed"),
            Self::Rotas => f.write_str("rotas changed"),
            Self::Keys => f.write_str("keys changed"),
            Self::Recordings => f.write_str("recordings changed"),
            Self::Pictures => f.write_str("budget for pictures changed"),
            Self::NextStart(what) => write!(f, "{what} changed: applies at the next start"),
        }
    }
}

/// How a way out is encoded, behind its address.
fn encoded(to: &WayOut) -> String {
    to.encode.as_ref().map_or_else(String::new, |e| format!(" as {e}"))
}

/// All differences, in the order of the sheet.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Change(pub Vec<Difference>);

impl Change {
    /// Nothing differs.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl fmt::Display for Change {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_empty() {
            return f.write_str("nothing has changed");
        }
        for (n, d) in self.0.iter().enumerate() {
            write!(f, "{}{d}", if n > 0 { "; " } else { "" })?;
        }
        Ok(())
    }
}

impl Sheet {
    /// What must be done to a show that runs `self` so that it runs `new`.
    #[must_use]
    pub fn change_to(&self, new: &Self) -> Change {
        let mut all = Vec::new();
        for line in &new.lines {
            match self.line(&line.name) {
                None => all.push(Difference::LineAdded(line.name.clone())),
                Some(old) if self.effective(&old.from) != new.effective(&line.from) => {
                    all.push(Difference::LineReopened { line: line.name.clone(), url: show_url(&line.from) });
                }
                Some(old) if *old != *line || self.wanted(old) != new.wanted(line) => {
                    all.push(Difference::LineChanged(line.name.clone()));
                }
                Some(_) => {}
            }
        }
        for feed in &new.feeds {
            match self.feed(&feed.name) {
                None => all.push(Difference::FeedAdded(feed.name.clone())),
                Some(old) => self.feed_change(old, new, feed, &mut all),
            }
        }
        all.extend(self.feeds.iter().filter(|f| new.feed(&f.name).is_none()).map(|f| Difference::FeedRemoved(f.name.clone())));
        all.extend(self.lines.iter().filter(|l| new.line(&l.name).is_none()).map(|l: &Line| Difference::LineRemoved(l.name.clone())));
        if self.devices != new.devices {
            all.push(Difference::Devices);
        }
        if self.show.pictures != new.show.pictures {
            all.push(Difference::Pictures);
        }
        if self.alarm != new.alarm {
            all.push(Difference::Alarms);
        }
        if self.rotas != new.rotas {
            all.push(Difference::Rotas);
        }
        if self.keys != new.keys {
            all.push(Difference::Keys);
        }
        if self.record != new.record {
            all.push(Difference::Recordings);
        }
        if self.stave != new.stave {
            all.push(Difference::NextStart("[stave]"));
        }
        if self.show.name != new.show.name {
            all.push(Difference::NextStart("the name of the show"));
        }
        Change(all)
    }

    fn feed_change(&self, old: &Feed, new: &Self, feed: &Feed, all: &mut Vec<Difference>) {
        let before = all.len();
        let name = || feed.name.clone();
        let (had, has): (Vec<_>, Vec<_>) =
            (old.to.iter().map(|to| self.effective_out(to)).collect(), feed.to.iter().map(|to| new.effective_out(to)).collect());
        all.extend(had.iter().filter(|to| !has.contains(to)).map(|to| Difference::OutRemoved { feed: name(), to: to.clone() }));
        all.extend(has.iter().filter(|to| !had.contains(to)).map(|to| Difference::OutAdded { feed: name(), to: to.clone() }));
        if old.line != feed.line {
            all.push(Difference::FeedLine { feed: name(), line: feed.line.clone() });
        }
        if all.len() == before && old != feed {
            all.push(Difference::FeedChanged(name()));
        }
    }

    /// A link of this sheet with all that applies to it.
    #[must_use]
    pub fn effective(&self, link: &Link) -> Link {
        link.with_latency(self.show.latency)
    }

    /// A way out of this sheet with all that applies to its link.
    #[must_use]
    pub fn effective_out(&self, to: &WayOut) -> WayOut {
        WayOut { link: self.effective(&to.link), encode: to.encode.clone() }
    }

    /// The feed of this name.
    #[must_use]
    pub fn feed(&self, name: &str) -> Option<&Feed> {
        self.feeds.iter().find(|f| f.name == name)
    }
}

#[cfg(test)]
mod tests {
    use crate::sheet::read_sheet;

    const SHEET: &str = r#"
[show]
name = "Tarn Hollow Regatta"
[[line]]
name = "finish-tower"
from = "srt://:7101?mode=listener"
[[line]]
name = "start-pontoon"
from = "srt://:7102?mode=listener&latency=200"
[[feed]]
name = "boathouse-1"
line = "finish-tower"
to = ["srt://127.20.9.1:7201", "udp://127.20.9.1:7301"]
"#;

    fn changes(edit: impl Fn(String) -> String) -> Vec<String> {
        let read = |text: &str| read_sheet(text).0.unwrap_or_else(|| panic!("{text}: {:?}", read_sheet(text).1));
        read(SHEET).change_to(&read(&edit(SHEET.into()))).0.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn only_what_differs_is_named() {
        assert_eq!(changes(|s| s + "# a remark\n"), [] as [&str; 0]);
        assert_eq!(
            changes(|s| s.replace("7102?mode=listener", "7103?mode=listener")),
            ["line start-pontoon reopened: srt://:7103?mode=listener&latency=200"]
        );
        assert_eq!(
            changes(|s| s.replace("name = \"start-pontoon\"", "name = \"start-pontoon\"\ntitle = \"Start\"")),
            ["line start-pontoon changed, link kept"]
        );
        // The latency of the show counts where a link has none of its own.
        assert_eq!(
            changes(|s| s.replace("Regatta\"", "Regatta\"\nlatency = \"300ms\"")),
            [
                "line finish-tower reopened: srt://:7101?mode=listener",
                "feed boathouse-1: way out removed: srt://127.20.9.1:7201?mode=caller&latency=120",
                "feed boathouse-1: way out added: srt://127.20.9.1:7201?mode=caller&latency=300",
            ]
        );
        assert_eq!(changes(|s| s + "[alarm]\nbroken = \"1 s\"\n"), ["alarms changed"]);
        assert_eq!(
            changes(|s| s.replace("line = \"finish-tower\"", "line = \"start-pontoon\"")),
            ["feed boathouse-1: take of start-pontoon"]
        );
        assert_eq!(
            changes(|s| s.replace(", \"udp://127.20.9.1:7301\"", "")
                + "[[feed]]\nname = \"jury\"\nline = \"start-pontoon\"\nto = \"udp://127.20.9.2:7302\"\n"),
            ["feed boathouse-1: way out removed: udp://127.20.9.1:7301", "feed jury added"]
        );
    }
}
