//! From TOML to a sheet. Nothing stops at the first mistake: all of them are told at once.

use super::{
    alarm::is_web,
    check, encode,
    places::{Spot, start},
    reader::Reader,
};
use crate::{
    finding::{Finding, Grade},
    link::{DEFAULT_LATENCY, Field, Link, Problem, Value, from_fields, parse_url},
    model::{Confirm, Feed, Line, Sheet, Show, WayOut},
    secret::Secret,
    spelling::did_you_mean,
    units::{UnitError, parse_duration},
};
use std::time::Duration;
use toml_edit::{ImDocument, Item, TableLike, Value as Toml};

/// What a link draws on settings by.
const LIKE: &str = "like";
/// Largest sheet that is read; a real one has some hundred lines.
const SHEET_MAX: usize = 1 << 20;

/// `50 Hz` or `60 Hz`.
fn parse_frequency(text: &str) -> Result<u8, UnitError> {
    match text.trim().to_ascii_lowercase().trim_end_matches("hz").trim() {
        "50" => Ok(50),
        "60" => Ok(60),
        _ => Err(UnitError { what: format!("\"{text}\" is not a mains frequency."), allowed: "Allowed: 50 Hz and 60 Hz.".into() }),
    }
}

/// Whether takes are made at once.
fn parse_cut(text: &str) -> Result<bool, UnitError> {
    match text {
        "keyframe" => Ok(false),
        "at-once" => Ok(true),
        _ => Err(UnitError { what: format!("\"{text}\" is unknown."), allowed: "Allowed: keyframe, at-once.".into() }),
    }
}

/// Reads a sheet and judges it. The sheet is there when no finding is an error.
#[must_use]
pub fn read_sheet(text: &str) -> (Option<Sheet>, Vec<Finding>) {
    let mut r = Reader::new(text);
    if text.len() > SHEET_MAX {
        r.error(0, "", "the sheet is larger than 1 MiB.", "A patch sheet is a short text.");
        return (None, r.findings);
    }
    let doc = match ImDocument::parse(text) {
        Ok(doc) => doc,
        Err(e) => {
            let at = e.span().map_or(0, |s| s.start);
            r.error(
                at,
                "",
                format!("not TOML: {}.", e.message().trim().replace('\n', ": ")),
                "Mend this first; the rest is read after it.",
            );
            return (None, r.findings);
        }
    };
    let sheet = r.sheet(doc.as_table());
    let mut findings = r.findings;
    findings.sort_by_key(|f| f.place);
    let failed = findings.iter().any(|f| f.grade == Grade::Error);
    (sheet.filter(|_| !failed), findings)
}

/// The names of all entries, also of those that are wrong otherwise.
pub(super) fn names_of(root: &dyn TableLike, key: &str) -> Vec<String> {
    let tables = root.get(key).and_then(Item::as_array_of_tables);
    tables.into_iter().flatten().filter_map(|t| t.get("name")?.as_str().map(str::to_owned)).collect()
}

impl Reader<'_> {
    fn sheet(&mut self, root: &dyn TableLike) -> Option<Sheet> {
        self.known(
            root,
            "",
            &["show", "line", "feed", "device", "settings", "network", "stave", "alarm", "record", "rota", "keys", "link", "pattern"],
        );
        let show = self.show(root);
        self.shared_links(root);
        self.read_patterns(root);
        let (networks, network_spots) = self.entries(root, "network", Self::network);
        let (lines, line_spots) = self.entries(root, "line", Self::line);
        let (feeds, feed_spots) = self.entries(root, "feed", Self::feed);
        let (devices, device_spots) = self.devices(root);
        let (rotas, rota_spots) = self.entries(root, "rota", Self::rota);
        let keys = self.key_orders(root);
        let stave = self.stave_settings(root);
        let alarm = self.alarm_settings(root);
        let record = self.record_plan(root);
        if root.get("line").is_none() && root.get("device").is_none() {
            self.error(0, "", "the sheet has no line and no device.", "Add a [[line]] with name and from, or a [[device]].");
        }
        let named = show.is_some();
        let patterns = self.patterns.values().cloned().collect();
        let whole = check::Whole {
            sheet: Sheet {
                show: show.unwrap_or_else(Show::blank),
                lines,
                feeds,
                devices,
                networks,
                rotas,
                keys,
                patterns,
                stave,
                alarm,
                record,
            },
            stave_at: root.get("stave").map_or(0, |item| start(item.span())),
            keys_at: root.get("keys").map_or(0, |item| start(item.span())),
            line_names: names_of(root, "line"),
            network_names: names_of(root, "network"),
            network_spots,
            line_spots,
            feed_spots,
            device_spots,
            rota_spots,
        };
        check::check(self, &whole);
        named.then_some(whole.sheet)
    }

    fn show(&mut self, root: &dyn TableLike) -> Option<Show> {
        let Some(item) = root.get("show") else {
            self.error(0, "", "[show] is missing.", "Start the sheet with [show] and name = \"...\".");
            return None;
        };
        let at = start(item.span());
        let Some(table) = item.as_table_like() else {
            self.error(at, "show", "show must be a table.", "Write [show].");
            return None;
        };
        self.known(table, "show", &["name", "latency", "latency-limit", "rate", "mains", "address", "pictures"]);
        let name = self.string(table, "show", "name").map(|n| n.0);
        if name.is_none() {
            self.error(at, "show", "the show has no name.", "Add name = \"...\".");
        }
        let latency = self.duration(table, "show", "latency").unwrap_or(DEFAULT_LATENCY);
        let latency_limit = self.duration(table, "show", "latency-limit");
        let rate = self.rate(table, "show");
        let mains = self.parsed(table, "show", "mains", parse_frequency);
        let address = self.string(table, "show", "address").map(|a| a.0);
        let pictures = self.look_budget(table);
        name.map(|name| Show { name, latency, latency_limit, rate, mains, address, pictures })
    }

    pub(super) fn duration(&mut self, table: &dyn TableLike, subject: &str, key: &str) -> Option<Duration> {
        if let Some(n) = table.get(key).and_then(Item::as_integer) {
            let at = start(table.get(key).and_then(Item::span));
            self.error(at, subject, format!("{key} {n} has no unit."), format!("Write \"{n} ms\"."));
            return None;
        }
        let (text, at) = self.string(table, subject, key)?;
        match parse_duration(&text) {
            Ok(d) => Some(d),
            Err(e) => {
                self.error(at, subject, format!("{key} {}", e.what), e.allowed);
                None
            }
        }
    }

    fn entries<T>(
        &mut self,
        root: &dyn TableLike,
        key: &str,
        read: fn(&mut Self, &dyn TableLike, usize) -> Option<T>,
    ) -> (Vec<T>, Vec<Spot>) {
        let Some(item) = root.get(key) else { return Default::default() };
        let Some(array) = item.as_array_of_tables() else {
            self.error(start(item.span()), key, format!("{key} must be written as [[{key}]]."), "With two brackets, once per entry.");
            return Default::default();
        };
        let mut entries = Vec::new();
        for table in array {
            let at = start(table.span());
            entries.extend(read(self, table, at).map(|item| (item, Spot::of(table, at))));
        }
        entries.into_iter().unzip()
    }

    /// The name of an entry, and how findings call it.
    pub(super) fn name(&mut self, table: &dyn TableLike, kind: &str, at: usize) -> (Option<String>, String) {
        let Some((name, name_at)) = self.string(table, kind, "name") else {
            if table.get("name").is_none() {
                self.error(at, kind, format!("this {kind} has no name."), "Add name = \"...\": lower-case letters, digits and dashes.");
            }
            return (None, kind.to_owned());
        };
        let subject = format!("{kind} \"{name}\"");
        let fits = (1..=32).contains(&name.len())
            && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
            && !name.starts_with('-');
        if !fits {
            self.error(
                name_at,
                &subject,
                "the name cannot be typed as a command's argument.",
                "Use 1 to 32 lower-case letters, digits and dashes.",
            );
        }
        (Some(name), subject)
    }

    fn line(&mut self, table: &dyn TableLike, at: usize) -> Option<Line> {
        let (name, subject) = self.name(table, "line", at);
        self.known(table, &subject, &["name", "title", "from", "expect", "far", "via", "path", "sub", "watch", "alarm"]);
        let title = self.string(table, &subject, "title").map(|t| t.0);
        let from = match table.get("from") {
            Some(item) => {
                for key in encode::KEYS {
                    if let Some(inside) = item.as_table_like().and_then(|t| t.get(key)) {
                        let what = format!("{key} belongs to a feed's destination.");
                        self.error(start(inside.span()), &subject, what, "Write it there: a line is taken as it comes.");
                    }
                }
                self.link(item, &subject)
            }
            None => {
                self.error(at, &subject, "it does not say where it comes from.", "Add from = \"srt://...\" or from = { ... }.");
                None
            }
        };
        let expect = table.get("expect").map(|item| self.expect(item, &subject)).unwrap_or_default();
        let far = table.get("far").and_then(|item| self.link(item, &subject));
        let via = self.texts(table, &subject, "via").into_iter().map(|v| v.0).collect();
        let path = table.get("path").and_then(|item| self.path(item, &subject));
        let sub = self.string(table, &subject, "sub").map(|s| s.0);
        let watch = table.get("watch").map(|item| self.watch(item, &subject)).unwrap_or_default();
        let alarm = table.get("alarm").map(|item| self.alarm_wish(item, &subject)).unwrap_or_default();
        let name = name?;
        Some(Line { title: title.unwrap_or_else(|| name.clone()), name, from: from?, expect, far, via, path, sub, watch, alarm })
    }

    fn feed(&mut self, table: &dyn TableLike, at: usize) -> Option<Feed> {
        let (name, subject) = self.name(table, "feed", at);
        self.known(
            table,
            &subject,
            &["name", "title", "line", "to", "takes", "standby", "cut", "sound", "accepts", "far", "via", "stave", "confirm", "alarm"],
        );
        let title = self.string(table, &subject, "title").map(|t| t.0);
        let line = self.string(table, &subject, "line").map(|l| l.0);
        if line.is_none() && table.get("line").is_none() {
            self.error(at, &subject, "it does not say which line it carries.", "Add line = \"NAME\".");
        }
        if table.get("to").is_none() && table.get("stave").is_none() {
            self.error(at, &subject, "it has no destination.", "Add to = [\"srt://...\"] or stave = \"NAME\".");
        }
        let (mut to, far) = (self.ways_out(table, &subject), self.links(table, "far", &subject));
        to.extend(self.feed_stave(table, &subject).map(WayOut::from));
        let takes = self.texts(table, &subject, "takes").into_iter().map(|t| t.0).collect();
        let standby = self.standby(table, &subject);
        let at_once = self.parsed(table, &subject, "cut", parse_cut).unwrap_or_default();
        let sound = self.feed_sound(table, &subject);
        let confirm = self.confirm(table, &subject);
        let accepts = table.get("accepts").map(|item| self.accepts(item, &subject)).unwrap_or_default();
        let via = self.texts(table, &subject, "via").into_iter().map(|v| v.0).collect();
        let alarm = table.get("alarm").map(|item| self.alarm_wish(item, &subject)).unwrap_or_default();
        let name = name?;
        Some(Feed {
            title: title.unwrap_or_else(|| name.clone()),
            name,
            line: line?,
            to,
            takes,
            standby,
            at_once,
            sound,
            accepts,
            far,
            via,
            confirm,
            alarm,
        })
    }

    /// Where a feed's picture can be had back from.
    fn confirm(&mut self, table: &dyn TableLike, subject: &str) -> Option<Confirm> {
        let item = table.get("confirm")?;
        let at = start(item.span());
        if let Some(url) = item.as_str().filter(|url| is_web(url)) {
            return Some(Confirm::Hls(url.to_owned()));
        }
        match self.link(item, subject)? {
            link if matches!(&link, Link::Rtmp(r) if !r.listens) => Some(Confirm::Played(link)),
            _ => {
                let remedy = "Write the address of a playlist (https://.../index.m3u8), or rtmp://HOST/PATH/NAME.";
                self.error(at, subject, "a picture cannot be had back from there.", remedy);
                None
            }
        }
    }

    /// One destination, or a list of them.
    fn ways_out(&mut self, table: &dyn TableLike, subject: &str) -> Vec<WayOut> {
        let links = self.links(table, "to", subject);
        let mut encoded = match table.get("to") {
            Some(item) if item.as_table_like().is_some() => vec![item.as_table_like().and_then(|t| self.encode(t, subject))],
            Some(item) => {
                let list = item.as_array().into_iter().flatten();
                list.map(|value| value.as_inline_table().and_then(|t| self.encode(t, subject))).collect()
            }
            None => Vec::new(),
        };
        // Where a link could not be read, nothing is opened.
        encoded.resize(links.len(), None);
        links.into_iter().zip(encoded).map(|(link, encode)| WayOut { link, encode }).collect()
    }

    /// One link, or a list of them.
    fn links(&mut self, table: &dyn TableLike, key: &str, subject: &str) -> Vec<Link> {
        match table.get(key) {
            Some(item) if item.as_array().is_some() => {
                item.as_array().into_iter().flatten().filter_map(|value| self.link_value(value, subject)).collect()
            }
            Some(item) => self.link(item, subject).into_iter().collect(),
            None => Vec::new(),
        }
    }

    fn link(&mut self, item: &Item, subject: &str) -> Option<Link> {
        match item {
            Item::Value(value) => self.link_value(value, subject),
            Item::Table(table) => self.link_table(table, start(table.span()), subject),
            _ => {
                self.error(start(item.span()), subject, "this is not a link.", "Write a URL in quotes, or { ... } with its fields.");
                None
            }
        }
    }

    fn link_value(&mut self, value: &Toml, subject: &str) -> Option<Link> {
        let at = start(value.span());
        match value {
            Toml::String(s) => {
                let (link, problems) = parse_url(s.value());
                // Behind the opening quote the URL stands as it is.
                self.problems(problems, at + 1, subject);
                link
            }
            Toml::InlineTable(table) => self.link_table(table, at, subject),
            _ => {
                self.error(at, subject, "this is not a link.", "Write a URL in quotes, or { ... } with its fields.");
                None
            }
        }
    }

    fn problems(&mut self, problems: Vec<Problem>, offset: usize, subject: &str) {
        for p in problems {
            self.add(p.grade, p.at + offset, subject, p.what, p.remedy);
        }
    }

    /// `[link.NAME]`, for links to draw on.
    fn shared_links(&mut self, root: &dyn TableLike) {
        let Some(item) = root.get("link") else { return };
        let Some(table) = item.as_table_like() else {
            return self.error(start(item.span()), "link", "link must be tables.", "Write [link.NAME].");
        };
        for (name, item) in table.iter() {
            let subject = format!("link \"{name}\"");
            let Some(inside) = item.as_table_like() else {
                self.error(start(item.span()), &subject, "it must be a table.", format!("Write [link.{name}]."));
                continue;
            };
            let fields = self.fields(inside, &subject);
            if let Some(like) = fields.iter().find(|f| f.key == LIKE) {
                self.error(like.key_at, &subject, "it cannot draw on another.", "Write its settings out.");
            }
            self.links.insert(name.to_owned(), fields);
        }
    }

    /// What a link says itself, and behind it what it draws on.
    fn link_table(&mut self, table: &dyn TableLike, at: usize, subject: &str) -> Option<Link> {
        let mut fields = self.fields(table, subject);
        if let Some(place) = fields.iter().position(|f| f.key == LIKE) {
            let like = fields.swap_remove(place);
            let shared = if let Value::Text(name) = &like.value { self.links.get(name).cloned() } else { None };
            match shared {
                Some(shared) => {
                    let own: Vec<String> = fields.iter().map(|f| f.key.clone()).collect();
                    fields.extend(shared.into_iter().filter(|f| !own.contains(&f.key)));
                }
                None => {
                    let names: Vec<String> = self.links.keys().cloned().collect();
                    let names: Vec<&str> = names.iter().map(String::as_str).collect();
                    let (name, remedy) = match &like.value {
                        Value::Text(name) if !names.is_empty() => (name.clone(), did_you_mean(name, &names)),
                        Value::Text(name) => (name.clone(), format!("The sheet has no [link.{name}] yet: add it.")),
                        _ => (String::new(), "Write like = \"NAME\".".into()),
                    };
                    self.error(like.value_at, subject, format!("there are no link settings \"{name}\"."), remedy);
                }
            }
        }
        let fields = self.by_pattern(fields, at, subject)?;
        let (link, problems) = from_fields(fields, at);
        self.problems(problems, 0, subject);
        link
    }

    fn fields(&mut self, table: &dyn TableLike, subject: &str) -> Vec<Field> {
        let all: Vec<&str> = table.iter().map(|(key, _)| key).filter(|key| !encode::KEYS.contains(key)).collect();
        self.link_settings(table, subject, &all)
    }

    /// Those of these keys that are there, as fields of a link.
    pub(super) fn link_settings(&mut self, table: &dyn TableLike, subject: &str, keys: &[&str]) -> Vec<Field> {
        let mut fields = Vec::new();
        for (key, item) in table.iter().filter(|(key, _)| keys.contains(key)) {
            let value_at = start(item.span());
            let key_at = table.get_key_value(key).and_then(|(k, _)| k.span()).map_or(value_at, |s| s.start);
            let value = if let Some(s) = item.as_str() {
                Value::Text(s.to_owned())
            } else if let Some(n) = item.as_integer() {
                Value::Number(n)
            } else if let Some(b) = item.as_bool() {
                Value::Flag(b)
            } else if let Some(secret) =
                item.as_table_like().filter(|_| ["passphrase", "password", "key"].contains(&key)).and_then(|t| self.secret(t, subject))
            {
                Value::Secret(secret)
            } else {
                self.error(
                    value_at,
                    subject,
                    format!("{key}: wrong type, expected a text in quotes or a number."),
                    "Write a text in quotes or a number.",
                );
                continue;
            };
            fields.push(Field { key: key.to_owned(), key_at, value, value_at });
        }
        fields
    }

    pub(super) fn secret(&mut self, table: &dyn TableLike, subject: &str) -> Option<Secret> {
        self.known(table, subject, &["env", "file"]);
        let env = self.string(table, subject, "env").map(|e| Secret::Env(e.0));
        env.or_else(|| self.string(table, subject, "file").map(|f| Secret::File(f.0.into())))
    }
}
