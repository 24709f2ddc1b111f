//! Stave links: a name on the LAN instead of an address.

use super::{
    Link,
    fields::{Collector, Form},
};
use crate::spelling::did_you_mean;
use std::{net::SocketAddr, time::Duration};

/// Longest name in bytes: it fits into a DNS label with a suffix.
const NAME_MAX: usize = 56;
const SHEET_KEYS: &[&str] = &["kind", "name", "machine", "grade", "patience", "carriage", "multicast"];
const URL_KEYS: &[&str] = &["grade", "patience", "carriage", "multicast"];
/// Longest age at which a picture is still of use.
const PATIENCE_MAX: Duration = Duration::from_secs(2);

/// Grades of picture, the costly first.
const GRADES: [&str; 3] = ["intra", "long-gop", "sub"];

/// A named source on the LAN, taken or offered.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StaveLink {
    /// Its name.
    pub name: String,
    /// Only of this machine: its name, or its address and port.
    pub machine: Option<String>,
    /// Highest grade to take; none is the best there is.
    pub grade: Option<String>,
    /// Age at which a picture is of no use.
    pub patience: Option<Duration>,
    /// Take it by its multicast group where there is one.
    pub by_group: bool,
    /// Group that it is also sent to.
    pub multicast: Option<SocketAddr>,
    /// Receivers may steer the camera behind it.
    pub steer: bool,
}

impl StaveLink {
    /// Offered under this name.
    #[must_use]
    pub fn named(name: &str) -> Self {
        Self { name: name.to_owned(), ..Self::default() }
    }

    /// The machine's address, where that is written instead of its name.
    #[must_use]
    pub fn at(&self) -> Option<SocketAddr> {
        self.machine.as_deref().and_then(|m| m.parse().ok())
    }
}

/// Why this cannot be the name of a source or machine.
#[must_use]
pub fn name_problem(name: &str) -> Option<String> {
    if name.trim().is_empty() {
        return Some("it is empty".into());
    }
    if name.trim() != name {
        return Some("it begins or ends with a space".into());
    }
    if name.len() > NAME_MAX {
        return Some(format!("it has {} bytes; at most {NAME_MAX}", name.len()));
    }
    name.chars().find(|c| c.is_control() || matches!(c, '/' | '?' | '#' | '%')).map(|c| format!("{c:?} is not allowed in it"))
}

/// A group to send to.
///
/// # Errors
/// It is none: what is the case, and what to do.
pub fn group_place(text: &str) -> Result<SocketAddr, (String, &'static str)> {
    let to = text.parse::<SocketAddr>().ok().filter(|to| to.ip().is_multicast() && to.port() > 0);
    to.ok_or_else(|| (format!("\"{text}\" is not a multicast group with a port."), "Write a multicast address and a port: 239.1.2.3:7350."))
}

impl Collector {
    /// With the name and the machine having been read from a URL, or from the fields.
    pub(super) fn stave(&mut self, place: Option<(Option<String>, String)>) -> Option<Link> {
        self.known(if self.form() == Form::Url { URL_KEYS } else { SHEET_KEYS });
        let at = self.at();
        let (machine, name) = match place {
            Some((machine, name)) => (machine, Some(name)),
            None => (self.text("machine").map(|m| m.0), self.text("name").map(|n| n.0)),
        };
        let Some(name) = name else {
            self.problem(at, "the name is missing.", "Add name = \"...\", as its machine offers it.");
            return None;
        };
        let of_machine = machine.as_deref().filter(|m| m.parse::<SocketAddr>().is_err()).and_then(name_problem);
        for (what, why) in [("name", name_problem(&name)), ("machine", of_machine)] {
            if let Some(why) = why {
                self.problem(at, format!("not a valid {what}: {why}."), "Write it as its machine offers it.");
            }
        }
        let grade = self.word("grade", &GRADES);
        let by_group = self.word("carriage", &["streams", "multicast"]).is_some_and(|c| c == "multicast");
        let over = ("a picture that old is of no use.", "At most 2 s.");
        let patience = self.time("patience", "100 ms", PATIENCE_MAX, over).map(|p| p.0);
        let multicast = self.text("multicast").and_then(|(text, at)| match group_place(&text) {
            Ok(to) => Some(to),
            Err((what, remedy)) => {
                self.problem(at, what, remedy);
                None
            }
        });
        // Only a feed can allow it.
        let steer = false;
        Some(Link::Stave(StaveLink { name, machine, grade, patience, by_group, multicast, steer }))
    }

    fn word(&mut self, key: &str, words: &[&str]) -> Option<String> {
        let (text, at) = self.text(key)?;
        if words.contains(&text.as_str()) {
            return Some(text);
        }
        self.problem(at, format!("{key} \"{text}\" is unknown."), did_you_mean(&text, words));
        None
    }
}

/// The link as a URL.
pub(super) fn show(s: &StaveLink, add: fn(&mut String, char, &str, &str)) -> String {
    let machine = s.machine.as_ref().map_or_else(String::new, |m| format!("{m}/"));
    let mut url = format!("stave://{machine}{}", s.name);
    let patience = s.patience.map(|p| p.as_millis().to_string());
    let multicast = s.multicast.map(|m| m.to_string());
    let settings = [
        ("grade", s.grade.as_deref()),
        ("patience", patience.as_deref()),
        ("carriage", s.by_group.then_some("multicast")),
        ("multicast", multicast.as_deref()),
    ];
    for (key, value) in settings {
        if let Some(value) = value {
            add(&mut url, '?', key, value);
        }
    }
    url
}

#[cfg(test)]
mod tests {
    use crate::link::{Link, parse_url, show_url};

    #[test]
    fn names_are_read_and_shown_as_they_are_written() {
        for url in [
            "stave://Finish Tower",
            "stave://boathouse/Finish Tower",
            "stave://127.20.0.1:7340/Finish Tower",
            "stave://Finish Tower?grade=sub&patience=80&carriage=multicast",
            "stave://Towpath Bicycle (2)?multicast=239.20.0.9:7350",
        ] {
            let (link, problems) = parse_url(url);
            assert_eq!((problems.len(), show_url(&link.expect(url))), (0, url.to_owned()));
        }
        let (link, _) = parse_url("stave://finish%20tower/");
        assert!(matches!(link, Some(Link::Stave(s)) if s.name == "finish tower" && s.machine.is_none()));
        assert!(matches!(parse_url("stave://127.20.0.1:7340/a").0, Some(Link::Stave(s)) if s.at().is_some()));
    }

    #[test]
    fn what_is_wrong_is_told() {
        for (url, what) in [
            ("stave://", "it is empty"),
            ("stave://a/b/c", "'/' is not allowed in it"),
            ("stave://Finish Tower?grade=best", "grade \"best\" is unknown"),
            ("stave://Finish Tower?patience=5s", "that old"),
            ("stave://Finish Tower?multicast=127.0.0.1:7350", "not a multicast group"),
            ("stave://Finish Tower?carriage=pigeon", "unknown"),
            ("stave://Finish Tower?latency=5", "not a setting"),
        ] {
            let (_, problems) = parse_url(url);
            assert!(problems.iter().any(|p| p.what.contains(what)), "{url}: {problems:?}");
        }
    }
}
