//! `sound` of a feed: where it comes from, and how much later.

use super::reader::Reader;
use crate::{
    model::{FeedSound, SoundOf},
    units::{UnitError, parse_duration},
};
use std::time::Duration;
use toml_edit::TableLike;

fn delay(text: &str) -> Result<Duration, UnitError> {
    let time = parse_duration(text)?;
    let long = || UnitError { what: format!("\"{text}\" is too long."), allowed: "Allowed: up to 2 s.".into() };
    if time <= FeedSound::DELAY_MOST { Ok(time) } else { Err(long()) }
}

impl Reader<'_> {
    /// `off`, `picture`, the name of a line, or a table with `from` and `delay`.
    pub(super) fn feed_sound(&mut self, table: &dyn TableLike, subject: &str) -> FeedSound {
        let of = |text: String| match text.as_str() {
            "off" => SoundOf::Off,
            "picture" => SoundOf::Picture,
            _ => SoundOf::Line(text),
        };
        let Some(item) = table.get("sound") else { return FeedSound::default() };
        let Some(inside) = item.as_table_like() else {
            let from = self.string(table, subject, "sound").map(|t| of(t.0)).unwrap_or_default();
            return FeedSound { from, ..FeedSound::default() };
        };
        self.known(inside, subject, &["from", "delay"]);
        FeedSound {
            from: self.string(inside, subject, "from").map(|t| of(t.0)).unwrap_or_default(),
            delay: self.parsed(inside, subject, "delay", delay).unwrap_or_default(),
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::sheet::read_sheet;

    fn read(sound: &str) -> Result<String, Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n\
             [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n\
             [[line]]\nname = \"commentary\"\nfrom = \"srt://127.0.0.1:7102?mode=listener\"\n\
             [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = \"srt://127.0.0.1:7201\"\n{sound}\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.map(|s| s.feeds[0].sound.to_string()).ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn sound_is_a_word_a_line_or_a_table() {
        for (text, says) in [
            ("", "of the picture"),
            ("sound = \"picture\"", "of the picture"),
            ("sound = \"off\"", "off"),
            ("sound = \"commentary\"", "of commentary"),
            ("sound = { from = \"commentary\", delay = \"120 ms\" }", "of commentary, 120 ms later"),
            ("sound = { delay = \"40 ms\" }", "of the picture, 40 ms later"),
        ] {
            assert_eq!(read(text).as_deref(), Ok(says), "{text}");
        }
        for (text, says) in [
            ("sound = \"comentary\"", "Did you mean \"commentary\"?"),
            ("sound = { delay = \"3 s\" }", "too long"),
            ("sound = { later = \"3 s\" }", "unknown here"),
            ("sound = 3", "must be a text"),
        ] {
            let found = read(text).expect_err(text);
            assert!(found.iter().any(|f| f.contains(says)), "{text}: {found:?}");
        }
    }
}
