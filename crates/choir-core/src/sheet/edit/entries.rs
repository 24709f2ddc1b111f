//! Lines and feeds: added, removed, renamed; and advice written into a line.

use super::{EditError, checked, parse, put};
use crate::{
    advice::PathFacts,
    model::Expect,
    units::{say_rate, say_size},
};
use std::fmt::Write;
use toml_edit::{Array, ArrayOfTables, DocumentMut, Formatted, InlineTable, Item, Table, Value, value};

/// A line to be written into a sheet.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct NewLine {
    /// Short name.
    pub name: String,
    /// For people.
    pub title: Option<String>,
    /// URL of its source.
    pub from: String,
    /// What is expected.
    pub expect: Expect,
    /// Networks that it crosses.
    pub via: Vec<String>,
}

/// A feed to be written into a sheet.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NewFeed {
    /// Short name.
    pub name: String,
    /// For people.
    pub title: Option<String>,
    /// Its line at the start.
    pub line: String,
    /// URLs of its destinations.
    pub to: Vec<String>,
    /// Other lines that will be taken on it.
    pub takes: Vec<String>,
}

fn entries<'a>(document: &'a mut DocumentMut, kind: &str) -> Result<&'a mut ArrayOfTables, EditError> {
    let item = document.entry(kind).or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    item.as_array_of_tables_mut().ok_or_else(|| EditError::Unreadable(format!("{kind} must be written as [[{kind}]]")))
}

fn texts(all: &[String]) -> Item {
    value(all.iter().map(String::as_str).collect::<Array>())
}

fn expect_table(e: &Expect) -> InlineTable {
    let mut table = InlineTable::new();
    let mut add = |key: &str, v: Option<Value>| {
        if let Some(v) = v {
            table.insert(key, v);
        }
    };
    add("codec", e.codec.as_deref().map(Value::from));
    add("size", e.size.map(|s| say_size(s).into()));
    add("rate", e.rate.map(|r| if r.fract() == 0.0 { Value::from(r as i64) } else { Value::Float(Formatted::new(r)) }));
    add("bitrate", e.bitrate.map(|b| say_bitrate(b.0).into()));
    table
}

/// Without loss: `8 Mbps`, `3.5 Mbps`, `2750 kbps`.
fn say_bitrate(bps: u64) -> String {
    if bps.is_multiple_of(100_000) { format!("{} Mbps", say_rate(bps as f64 / 1e6)) } else { format!("{} kbps", bps / 1000) }
}

/// Adds a line behind the last one.
///
/// # Errors
/// The sheet is not one, or the line makes it wrong.
pub fn add_line(text: &str, line: &NewLine) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let mut table = Table::new();
    table.insert("name", value(&line.name));
    if let Some(title) = &line.title {
        table.insert("title", value(title));
    }
    table.insert("from", value(&line.from));
    let expect = expect_table(&line.expect);
    if !expect.is_empty() {
        table.insert("expect", value(expect));
    }
    if !line.via.is_empty() {
        table.insert("via", texts(&line.via));
    }
    table.decor_mut().set_prefix("\n");
    entries(&mut document, "line")?.push(table);
    checked(text, &document)
}

/// Adds a feed behind the last one.
///
/// # Errors
/// The sheet is not one, or the feed makes it wrong.
pub fn add_feed(text: &str, feed: &NewFeed) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let mut table = Table::new();
    table.insert("name", value(&feed.name));
    if let Some(title) = &feed.title {
        table.insert("title", value(title));
    }
    table.insert("line", value(&feed.line));
    table.insert("to", texts(&feed.to));
    if !feed.takes.is_empty() {
        table.insert("takes", texts(&feed.takes));
    }
    table.decor_mut().set_prefix("\n");
    entries(&mut document, "feed")?.push(table);
    checked(text, &document)
}

/// Says that a line will be taken on a feed, unless it says so already.
///
/// # Errors
/// The sheet is not one, or has no such feed.
pub fn add_take(text: &str, feed: &str, line: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let all = entries(&mut document, "feed")?;
    let at = position(all, "feed", feed)?;
    let Some(table) = all.get_mut(at) else { return Err(EditError::NoSuch("feed", feed.to_owned())) };
    let takes = table.entry("takes").or_insert_with(|| texts(&[]));
    if takes.as_str() == Some(line) {
        return Ok(text.to_owned());
    }
    if let Some(one) = takes.as_str().map(str::to_owned) {
        *takes = texts(&[one]);
    }
    if let Some(list) = takes.as_array_mut()
        && !list.iter().any(|v| v.as_str() == Some(line))
    {
        list.push(line);
    }
    checked(text, &document)
}

fn position(entries: &ArrayOfTables, kind: &'static str, name: &str) -> Result<usize, EditError> {
    let found = entries.iter().position(|t| t.get("name").and_then(Item::as_str) == Some(name));
    found.ok_or_else(|| EditError::NoSuch(kind, name.to_owned()))
}

/// Removes a line that nothing uses, or a feed.
///
/// # Errors
/// The sheet is not one, it has no such entry, or something uses it.
pub fn remove_entry(text: &str, kind: &'static str, name: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    if kind == "line" {
        let mut users = Vec::new();
        each_use(&mut document, &mut |user, used| {
            if used.as_str() == Some(name) && !users.contains(&user) {
                users.push(user);
            }
        });
        if !users.is_empty() {
            return Err(EditError::InUse(name.to_owned(), users.join(", ")));
        }
    }
    let all = entries(&mut document, kind)?;
    let at = position(all, kind, name)?;
    all.remove(at);
    if all.is_empty() {
        document.remove(kind);
    }
    checked(text, &document)
}

/// Renames a line, wherever it is used, or a feed.
///
/// # Errors
/// The sheet is not one, it has no such entry, or the new name makes it wrong.
pub fn rename_entry(text: &str, kind: &'static str, name: &str, to: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let all = entries(&mut document, kind)?;
    let at = position(all, kind, name)?;
    if let Some(table) = all.get_mut(at) {
        put(table, "name", to);
    }
    if kind == "line" {
        each_use(&mut document, &mut |_, used| {
            if used.as_str() == Some(name) {
                let decor = used.decor().clone();
                *used = Value::from(to);
                *used.decor_mut() = decor;
            }
        });
    }
    checked(text, &document)
}

/// Every place in which feeds, devices and settings name a line.
fn each_use(document: &mut DocumentMut, found: &mut dyn FnMut(String, &mut Value)) {
    for feed in document.get_mut("feed").and_then(Item::as_array_of_tables_mut).into_iter().flat_map(ArrayOfTables::iter_mut) {
        let user = format!("feed \"{}\"", feed.get("name").and_then(Item::as_str).unwrap_or_default());
        if let Some(v) = feed.get_mut("line").and_then(Item::as_value_mut) {
            found(user.clone(), v);
        }
        each_of(feed.get_mut("takes"), &user, found);
        match feed.get_mut("standby") {
            Some(item) if item.is_table_like() => each_of(item.get_mut("lines"), &user, found),
            item => each_of(item, &user, found),
        }
        match feed.get_mut("sound") {
            Some(item) if item.is_table_like() => each_of(item.get_mut("from"), &user, found),
            item => each_of(item, &user, found),
        }
    }
    for rota in document.get_mut("rota").and_then(Item::as_array_of_tables_mut).into_iter().flat_map(ArrayOfTables::iter_mut) {
        let user = format!("rota \"{}\"", rota.get("name").and_then(Item::as_str).unwrap_or_default());
        let steps = rota.get_mut("steps").and_then(Item::as_array_mut).into_iter().flat_map(|a| a.iter_mut());
        for step in steps.filter_map(Value::as_inline_table_mut) {
            step.get_mut("line").into_iter().for_each(|v| found(user.clone(), v));
        }
    }
    for device in document.get_mut("device").and_then(Item::as_array_of_tables_mut).into_iter().flat_map(ArrayOfTables::iter_mut) {
        let user = format!("device \"{}\"", device.get("name").and_then(Item::as_str).unwrap_or_default());
        for stream in crate::device::STREAMS {
            each_stream(device.get_mut(stream), &user, found);
        }
    }
    if let Some(settings) = document.get_mut("settings").and_then(Item::as_table_like_mut) {
        for (name, item) in settings.iter_mut() {
            each_stream(Some(item), &format!("settings \"{name}\""), found);
        }
    }
}

/// A name, or a list of them.
fn each_of(item: Option<&mut Item>, user: &str, found: &mut dyn FnMut(String, &mut Value)) {
    match item.and_then(Item::as_value_mut) {
        Some(Value::Array(lines)) => lines.iter_mut().for_each(|v| found(user.to_owned(), v)),
        Some(v) => found(user.to_owned(), v),
        None => {}
    }
}

fn each_stream(item: Option<&mut Item>, user: &str, found: &mut dyn FnMut(String, &mut Value)) {
    let line = item.and_then(Item::as_table_like_mut).and_then(|t| t.get_mut("line")).and_then(Item::as_value_mut);
    line.into_iter().for_each(|v| found(user.to_owned(), v));
}

fn path_table(path: &PathFacts) -> InlineTable {
    let mut table = InlineTable::new();
    let ms = |d: std::time::Duration| Value::from(format!("{} ms", d.as_millis().max(1)));
    let share = |s: f64| Value::from(format!("{}%", (s * 1e5).round() / 1e3));
    table.insert("rtt", ms(path.rtt));
    if !path.jitter.is_zero() {
        table.insert("jitter", ms(path.jitter));
    }
    if path.loss > 0.0 {
        table.insert("loss", share(path.loss));
        table.insert("burst", Value::Float(Formatted::new((path.burst * 10.0).round() / 10.0)));
    }
    if let Some(back) = path.loss_back {
        table.insert("loss-back", share(back));
    }
    table
}

/// Writes advice into an SRT line: its latency, its overhead, and the path it came from.
///
/// # Errors
/// The sheet is not one, it has no such line, or the line is not SRT.
pub fn write_advice(text: &str, line: &str, path: &PathFacts, latency_ms: u64, overhead: u16) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let all = entries(&mut document, "line")?;
    let at = position(all, "line", line)?;
    let Some(table) = all.get_mut(at) else { return Err(EditError::NoSuch("line", line.to_owned())) };
    let not_srt = || EditError::NotSrt(line.to_owned());
    let (latency, overhead) = (format!("{latency_ms} ms"), format!("{overhead}%"));
    match table.get_mut("from") {
        Some(Item::Value(Value::String(url))) => {
            let new = url.value().strip_prefix("srt://").ok_or_else(not_srt).map(|rest| {
                let rest = set_query(rest, "latency", &latency_ms.to_string());
                format!("srt://{}", set_query(&rest, "overhead", &overhead))
            })?;
            put(table, "from", new);
        }
        Some(item) => {
            let link = item.as_table_like_mut().ok_or_else(not_srt)?;
            let srt = link.get("kind").is_none_or(|k| k.as_str() == Some("srt")) && link.get("url").is_none();
            if !srt {
                return Err(not_srt());
            }
            put(link, "latency", latency);
            put(link, "overhead", overhead);
        }
        None => return Err(not_srt()),
    }
    put(table, "path", path_table(path));
    checked(text, &document)
}

/// Replaces or adds one value of a query, as text: the rest stays as somebody typed it.
fn set_query(url: &str, key: &str, new: &str) -> String {
    let new = new.replace('%', "%25");
    let Some((place, query)) = url.split_once('?') else { return format!("{url}?{key}={new}") };
    let mut out = format!("{place}?");
    let mut found = false;
    for (n, part) in query.split('&').enumerate() {
        let this = part.split('=').next() == Some(key);
        let join = if n > 0 { "&" } else { "" };
        let _ = if this { write!(out, "{join}{key}={new}") } else { write!(out, "{join}{part}") };
        found |= this;
    }
    if !found {
        let _ = write!(out, "&{key}={new}");
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{sheet::read_sheet, units::Bitrate};
    use std::time::Duration;

    const SHEET: &str = "# ours\n[show]\nname = \"Tarn Hollow Regatta\"\n\n[[line]] # on the water\nname = \"launch\" # keep\n\
        from = \"srt://:7103?latency=120&streamid=a%20b\" # by the router\n\n[[line]]\nname = \"bicycle\"\n\
        [line.from] # fields\nmode = \"listener\"\nport = 7104\nlatency = \"120 ms\" # a guess\n\n[[feed]]\nname = \"desk\"\n\
        line = \"launch\"\ntakes = [\"launch\", \"bicycle\"]\nto = \"udp://127.20.0.31:7204\"\n";

    #[test]
    fn lines_and_feeds_come_and_go_and_the_rest_stays() {
        let line = NewLine {
            name: "drone".into(),
            title: Some("Not \"really\"".into()),
            from: "srt://:7105".into(),
            expect: Expect { codec: Some("h265".into()), rate: Some(59.94), bitrate: Some(Bitrate(3_500_000)), ..Expect::default() },
            via: Vec::new(),
        };
        let more = add_line(SHEET, &line).expect("added");
        let wanted = "[[line]]\nname = \"drone\"\ntitle = 'Not \"really\"'\nfrom = \"srt://:7105\"\nexpect = { codec = \"h265\", rate = 59.94, bitrate = \"3.5 Mbps\" }\n\n[[feed]]";
        assert!(more.contains(wanted), "{more}");
        let feed = NewFeed { name: "jury".into(), line: "drone".into(), to: vec!["udp://127.20.0.32:7206".into()], ..NewFeed::default() };
        let more = add_feed(&more, &feed).expect("added");
        assert_eq!(read_sheet(&more).0.map(|s| (s.lines.len(), s.feeds.len())), Some((3, 2)));
        assert_eq!(remove_entry(&more, "line", "drone"), Err(EditError::InUse("drone".into(), "feed \"jury\"".into())));
        let less = remove_entry(&remove_entry(&more, "feed", "jury").expect("removed"), "line", "drone").expect("removed");
        assert_eq!(less, SHEET);
        assert_eq!(remove_entry(SHEET, "feed", "jury"), Err(EditError::NoSuch("feed", "jury".into())));
        assert!(matches!(add_line(SHEET, &NewLine { from: "srt://:7103".into(), ..line }), Err(EditError::Unreadable(_))), "a clash");
    }

    #[test]
    fn a_rename_reaches_every_use() {
        let renamed = rename_entry(SHEET, "line", "launch", "umpire").expect("renamed");
        assert_eq!(renamed, SHEET.replace("\"launch\"", "\"umpire\""));
        assert!(rename_entry(SHEET, "line", "launch", "bicycle").is_err(), "taken");
        assert!(rename_entry(SHEET, "line", "launch", "Not A Name").is_err());
        assert_eq!(rename_entry(SHEET, "feed", "desk", "main").expect("renamed"), SHEET.replace("\"desk\"", "\"main\""));
    }

    #[test]
    fn advice_is_written_into_either_form_of_a_link() {
        let path = PathFacts { loss: 0.02, burst: 2.96, ..PathFacts::clean(Duration::from_millis(80)) };
        let url = write_advice(SHEET, "launch", &path, 240, 15).expect("written");
        let wanted = "from = \"srt://:7103?latency=240&streamid=a%20b&overhead=15%25\" # by the router\npath = { rtt = \"80 ms\", loss = \"2%\", burst = 3.0 }\n";
        assert!(url.contains(wanted), "{url}");
        let fields = write_advice(SHEET, "bicycle", &path, 240, 15).expect("written");
        assert!(fields.contains("latency = \"240 ms\" # a guess\noverhead = \"15%\"\n"), "{fields}");
        let sheet = read_sheet(&fields).0.expect("a sheet");
        assert_eq!(sheet.lines[1].path, Some(PathFacts { burst: 3.0, ..path }));
        assert_eq!(sheet.lines[1].from.srt().and_then(|s| s.overhead), Some(15));
        let pulled = SHEET.replace("srt://:7103?latency=120&streamid=a%20b", "rtsp://127.20.0.11/main");
        assert_eq!(write_advice(&pulled, "launch", &path, 240, 15), Err(EditError::NotSrt("launch".into())));
    }
}
