//! The line check: what was seen of a line or a way out, step by step, against what the sheet
//! wants.

mod media;
mod reach;

use crate::{
    link::Link,
    model::{Entry, Feed, Line, Sheet},
    view::{LinkView, MediaView},
};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// What is checked, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// The name has an address.
    Name,
    /// Something answers at the address.
    Host,
    /// Something answers at the port.
    Port,
    /// User and password are taken.
    Login,
    /// Both ends speak the same and have met.
    Handshake,
    /// Encrypted as the sheet wants it.
    Encryption,
    /// A picture has come, and in time.
    Picture,
    /// As expected.
    Codec,
    /// As expected.
    Size,
    /// As expected.
    Rate,
    /// Near to what is expected.
    Bitrate,
    /// Often enough.
    Keyframes,
    /// There, where it is expected.
    Sound,
    /// It shows something.
    Still,
    /// Its transport stream is as the standard wants it.
    Stream,
    /// From the camera to here.
    Delay,
    /// On the way, and after repair.
    Loss,
    /// What is left of the latency.
    Headroom,
}

impl Step {
    /// All, in order.
    pub const ALL: [Self; 18] = [
        Self::Name,
        Self::Host,
        Self::Port,
        Self::Login,
        Self::Handshake,
        Self::Encryption,
        Self::Picture,
        Self::Codec,
        Self::Size,
        Self::Rate,
        Self::Bitrate,
        Self::Keyframes,
        Self::Sound,
        Self::Still,
        Self::Stream,
        Self::Delay,
        Self::Loss,
        Self::Headroom,
    ];

    /// One word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Host => "host",
            Self::Port => "port",
            Self::Login => "login",
            Self::Handshake => "handshake",
            Self::Encryption => "encryption",
            Self::Picture => "picture",
            Self::Codec => "codec",
            Self::Size => "size",
            Self::Rate => "rate",
            Self::Bitrate => "bitrate",
            Self::Keyframes => "keyframes",
            Self::Sound => "sound",
            Self::Still => "still",
            Self::Stream => "stream",
            Self::Delay => "delay",
            Self::Loss => "loss",
            Self::Headroom => "headroom",
        }
    }
}

/// How a step stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Mark {
    /// Has nothing to say here.
    Skipped,
    /// Good.
    Passed,
    /// Not known yet.
    Open,
    /// Works, and somebody should look at it.
    Doubtful,
    /// Does not.
    Failed,
}

/// One step of one line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Item {
    /// Which.
    pub step: Step,
    /// How it stands.
    pub mark: Mark,
    /// What was seen.
    pub found: String,
    /// What to do.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

/// What was seen of a link so far.
#[derive(Debug, Clone, Default)]
pub struct Seen {
    /// How it stands now.
    pub link: LinkView,
    /// What it carries; none for a way out.
    pub media: Option<MediaView>,
    /// From the camera's clock to here, ms.
    pub delay_ms: Option<f64>,
    /// When the ends met, from the start of the check.
    pub joined: Option<Duration>,
    /// When the first picture was there, likewise.
    pub picture: Option<Duration>,
    /// Mean bits per second of the picture's stream since it was there.
    pub mean_bps: u64,
    /// The same of the whole link, with sound, filling and tables.
    pub mean_link_bps: u64,
    /// Share lost on the way, 0 to 1, and packets missing after repair, over the time looked at.
    pub lost: f64,
    /// See `lost`.
    pub missing: u64,
    /// Least headroom, ms.
    pub headroom_ms: Option<f64>,
    /// Pictures that somebody can look at: `Some(true)` when one shows something.
    pub still: Option<bool>,
    /// Decoding has been tried, or cannot be.
    pub decoded: bool,
    /// Nothing more will come: what is open has failed.
    pub over: bool,
}

/// What the check demands.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Longest time from joining to the first picture.
    pub first_picture: Duration,
    /// Greatest delay from the camera to here, beyond the link's latency.
    pub delay: Duration,
    /// Greatest share lost on the way, 0 to 1.
    pub loss: f64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { first_picture: Duration::from_secs(5), delay: Duration::from_millis(500), loss: 0.05 }
    }
}

/// One line or way out with all its steps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Row {
    /// Which.
    pub entry: Entry,
    /// `line finish-tower`.
    pub subject: String,
    /// For people.
    pub title: String,
    /// Without secrets.
    pub url: String,
    /// In order.
    pub items: Vec<Item>,
}

impl Row {
    /// A line or feed that this machine cannot even open: a port, a file, a secret.
    #[must_use]
    pub fn unopened(entry: &Entry, title: &str, url: String, step: Step, why: String) -> Self {
        let remedy = Some("Fix this on this machine; everything else is checked without it.".to_owned());
        let item = |s: Step| match s == step {
            true => Item { step: s, mark: Mark::Failed, found: why.clone(), remedy: remedy.clone() },
            false => Item { step: s, mark: Mark::Skipped, found: "not reached".into(), remedy: None },
        };
        Self { subject: entry.to_string(), entry: entry.clone(), title: title.into(), url, items: Step::ALL.map(item).into() }
    }

    /// The worst mark.
    #[must_use]
    pub fn mark(&self) -> Mark {
        self.items.iter().map(|i| i.mark).max().unwrap_or(Mark::Skipped)
    }

    /// Nothing is open any more.
    #[must_use]
    pub fn is_settled(&self) -> bool {
        self.items.iter().all(|i| i.mark != Mark::Open)
    }

    /// The first step that failed, which the others hang on.
    #[must_use]
    pub fn first_failure(&self) -> Option<&Item> {
        self.items.iter().find(|i| i.mark == Mark::Failed)
    }
}

/// Gathers items.
struct Items {
    all: Vec<Item>,
    over: bool,
}

impl Items {
    fn add(&mut self, step: Step, mark: Mark, found: impl Into<String>, remedy: &str) {
        let remedy = Some(remedy.to_owned()).filter(|r| !r.is_empty());
        self.all.push(Item { step, mark, found: found.into(), remedy });
    }
    fn passed(&mut self, step: Step, found: impl Into<String>) {
        self.add(step, Mark::Passed, found, "");
    }
    fn skipped(&mut self, step: Step, found: impl Into<String>) {
        self.add(step, Mark::Skipped, found, "");
    }
    fn failed(&mut self, step: Step, found: impl Into<String>, remedy: &str) {
        self.add(step, Mark::Failed, found, remedy);
    }
    fn doubtful(&mut self, step: Step, found: impl Into<String>, remedy: &str) {
        self.add(step, Mark::Doubtful, found, remedy);
    }
    /// Waits for it, until waiting is over.
    fn open(&mut self, step: Step, waiting: &str) {
        let mark = if self.over { Mark::Skipped } else { Mark::Open };
        self.add(step, mark, if self.over { "not reached" } else { waiting }, "");
    }
}

/// Judges a line.
#[must_use]
pub fn judge_line(sheet: &Sheet, line: &Line, seen: &Seen, limits: &Limits) -> Row {
    let mut items = Items { all: Vec::new(), over: seen.over };
    let reached = reach::judge(&mut items, &line.from, &format!("choir card {}", line.name), seen, true);
    media::judge(&mut items, &line.from, &sheet.wanted(line), sheet.show.latency, seen, limits, reached);
    let entry = Entry::Line(line.name.clone());
    Row { subject: entry.to_string(), entry, title: line.title.clone(), url: crate::link::show_url(&line.from), items: items.all }
}

/// Judges one way out of a feed.
#[must_use]
pub fn judge_out(feed: &Feed, to: &Link, seen: &Seen, limits: &Limits) -> Row {
    let mut items = Items { all: Vec::new(), over: seen.over };
    let reached = reach::judge(&mut items, to, &format!("choir card {}", feed.name), seen, false);
    media::judge_sent(&mut items, to, seen, limits, reached);
    Row {
        entry: Entry::Feed(feed.name.clone()),
        subject: feed.way_out(to),
        title: feed.title.clone(),
        url: crate::link::show_url(to),
        items: items.all,
    }
}
