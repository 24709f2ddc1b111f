//! `standby` of a feed: what it falls back to, and when.

use super::{places::start, reader::Reader};
use crate::{
    model::Standby,
    units::{UnitError, parse_duration},
};
use std::time::Duration;
use toml_edit::{Item, TableLike};

const KEYS: &[&str] = &["lines", "no-media", "broken", "black", "frozen", "silent", "return"];
/// Nothing faster can be told from a stream's usual pauses.
const NO_MEDIA_LEAST: Duration = Duration::from_millis(200);
/// Longest time of any.
const MOST: Duration = Duration::from_secs(3600);

fn within(text: &str, least: Duration) -> Result<Duration, UnitError> {
    let time = parse_duration(text)?;
    if (least..=MOST).contains(&time) {
        return Ok(time);
    }
    let what = format!("\"{text}\" is too {}.", if time < least { "short" } else { "long" });
    Err(UnitError { what, allowed: format!("Allowed: {} ms to an hour.", least.as_millis()) })
}

/// A time, or this word for never.
fn or_word(text: &str, word: &str) -> Result<Option<Duration>, UnitError> {
    if text.trim() == word { Ok(None) } else { within(text, Duration::ZERO).map(Some) }
}

impl Reader<'_> {
    /// A line, a list of them, or a table with both lines and times.
    pub(super) fn standby(&mut self, table: &dyn TableLike, subject: &str) -> Option<Standby> {
        let item = table.get("standby")?;
        let Some(inside) = item.as_table_like() else {
            let lines = self.texts(table, subject, "standby").into_iter().map(|t| t.0).collect();
            return Some(Standby { lines, ..Standby::default() });
        };
        self.known(inside, subject, KEYS);
        let lines: Vec<String> = self.texts(inside, subject, "lines").into_iter().map(|t| t.0).collect();
        if lines.is_empty() {
            let remedy = "Write standby = { lines = [\"NAME\"], ... }.";
            self.error(start(Item::span(item)), subject, "its standby names no line.", remedy);
        }
        let usual = Standby::default();
        let off = |text: &str| or_word(text, "off");
        Some(Standby {
            lines,
            no_media: self.parsed(inside, subject, "no-media", |t| within(t, NO_MEDIA_LEAST)).unwrap_or(usual.no_media),
            broken: self.parsed(inside, subject, "broken", off).unwrap_or(usual.broken),
            black: self.parsed(inside, subject, "black", off).unwrap_or(usual.black),
            frozen: self.parsed(inside, subject, "frozen", off).unwrap_or(usual.frozen),
            silent: self.parsed(inside, subject, "silent", off).unwrap_or(usual.silent),
            back: self.parsed(inside, subject, "return", |t| or_word(t, "hand")).unwrap_or(usual.back),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    fn read(standby: &str) -> Result<Option<Standby>, Vec<String>> {
        let line = |name: &str, port: u16| format!("[[line]]\nname = \"{name}\"\nfrom = \"srt://127.0.0.1:{port}?mode=listener\"\n");
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n{}{}[[feed]]\nname = \"desk\"\nline = \"jury\"\nto = \"srt://127.0.0.1:7201\"\n{standby}\n",
            line("jury", 7101),
            line("dock", 7102)
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.map(|s| s.feeds[0].standby.clone()).ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn standby_is_a_line_a_list_or_a_table() {
        assert_eq!(read(""), Ok(None));
        let dock = || vec!["dock".to_owned()];
        assert_eq!(read("standby = \"dock\""), Ok(Some(Standby { lines: dock(), ..Standby::default() })));
        assert_eq!(read("standby = [\"dock\"]"), Ok(Some(Standby { lines: dock(), ..Standby::default() })));
        let all = "standby = { lines = \"dock\", no-media = \"800 ms\", broken = \"off\", black = \"5 s\", return = \"hand\" }";
        let wanted = Standby {
            lines: dock(),
            no_media: Duration::from_millis(800),
            broken: None,
            black: Some(Duration::from_secs(5)),
            back: None,
            ..Standby::default()
        };
        assert_eq!(read(all), Ok(Some(wanted)));
    }

    #[test]
    fn mistakes_in_a_standby_are_told() {
        for (text, says) in [
            ("standby = \"dok\"", "there is no line \"dok\""),
            ("standby = \"jury\"", "it stands in for itself"),
            ("standby = { lines = [] }", "names no line"),
            ("standby = { lines = \"dock\", no-media = \"20 ms\" }", "too short"),
            ("standby = { lines = \"dock\", back = \"5 s\" }", "return"),
            ("standby = { lines = \"dock\", return = \"never\" }", "never"),
        ] {
            let found = read(text).expect_err(text);
            assert!(found.iter().any(|f| f.contains(says)), "{text}: {found:?}");
        }
    }
}
