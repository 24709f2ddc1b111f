//! `encode` and `overlay` of a way out.

use super::{places::start, reader::Reader};
use crate::{
    finding::Grade,
    model::{Corner, Encode, Overlay, Shows},
    units::{UnitError, parse_bitrate, parse_duration, parse_share, parse_size},
};
use std::time::Duration;
use toml_edit::{Item, TableLike, Value};

/// Keys of a way out that are not its link's.
pub(super) const KEYS: [&str; 2] = ["encode", "overlay"];

const TEXT_MOST: usize = 80;

fn size(text: &str) -> Result<(u32, u32), UnitError> {
    let ((least_w, least_h), (most_w, most_h)) = Encode::SIZES;
    let (w, h) = parse_size(text)?;
    let fits = (least_w..=most_w).contains(&w) && (least_h..=most_h).contains(&h) && w % 2 == 0 && h % 2 == 0;
    let allowed = || format!("Allowed: even numbers from {least_w}x{least_h} to {most_w}x{most_h}.");
    if fits { Ok((w, h)) } else { Err(UnitError { what: format!("\"{text}\" cannot be encoded."), allowed: allowed() }) }
}

fn keyframe(text: &str) -> Result<Duration, UnitError> {
    let time = parse_duration(text)?;
    let (least, most) = Encode::KEYFRAMES;
    let wrong = || UnitError { what: format!("\"{text}\" is out of range."), allowed: "Allowed: 500 ms to 10 s.".into() };
    if (least..=most).contains(&time) { Ok(time) } else { Err(wrong()) }
}

fn share(text: &str) -> Result<f64, UnitError> {
    let share = parse_share(text)?;
    let wrong =
        || UnitError { what: format!("\"{text}\" is out of range."), allowed: "Allowed: 1% to 100% of the picture's height.".into() };
    if (0.01..=1.0).contains(&share) { Ok(share) } else { Err(wrong()) }
}

impl Reader<'_> {
    /// How a way out is encoded, if it says so.
    pub(super) fn encode(&mut self, table: &dyn TableLike, subject: &str) -> Option<Encode> {
        let overlays = table.get("overlay").map(|item| self.overlays(item, subject)).unwrap_or_default();
        let Some(item) = table.get("encode") else {
            return (!overlays.is_empty()).then(|| Encode { overlays, ..Encode::default() });
        };
        let at = start(item.span());
        let Some(inside) = item.as_table_like() else {
            self.error(at, subject, "encode must be a table.", "Write encode = { size = \"1280x720\", bitrate = \"3 Mbps\" }.");
            return None;
        };
        self.known(inside, subject, &["codec", "size", "rate", "bitrate", "keyframe", "shape"]);
        if let Some((codec, at)) = self.string(inside, subject, "codec").filter(|(codec, _)| codec != "h264") {
            let what = format!("codec \"{codec}\" cannot be encoded here.");
            self.error(at, subject, what, "Write \"h264\", or leave encode out: then it goes on as the line brings it.");
        }
        Some(Encode {
            size: self.parsed(inside, subject, "size", size),
            rate: self.rate(inside, subject),
            bitrate: self.parsed(inside, subject, "bitrate", parse_bitrate),
            keyframe: self.parsed(inside, subject, "keyframe", keyframe).unwrap_or(Encode::KEYFRAME),
            stretch: self.one_of(inside, subject, "shape", &["bars", "stretch"]).is_some_and(|word| word == "stretch"),
            overlays,
        })
    }

    /// One, or a list of them.
    fn overlays(&mut self, item: &Item, subject: &str) -> Vec<Overlay> {
        if let Some(table) = item.as_table_like() {
            return self.overlay(table, start(item.span()), subject).into_iter().collect();
        }
        let Some(list) = item.as_array() else {
            self.error(
                start(item.span()),
                subject,
                "overlay must be a table.",
                "Write overlay = { text = \"...\", corner = \"top-left\" }.",
            );
            return Vec::new();
        };
        let mut overlays = Vec::new();
        for value in list {
            match value {
                Value::InlineTable(table) => overlays.extend(self.overlay(table, start(value.span()), subject)),
                _ => self.error(start(value.span()), subject, "an overlay must be a table.", "Write { text = \"...\" }."),
            }
        }
        overlays
    }

    fn overlay(&mut self, table: &dyn TableLike, at: usize, subject: &str) -> Option<Overlay> {
        self.known(table, subject, &["image", "text", "time", "corner", "size"]);
        let image = self.string(table, subject, "image").map(|(path, _)| Shows::Image(path.into()));
        let text = self.string(table, subject, "text").map(|(text, at)| {
            if text.is_empty() || text.chars().count() > TEXT_MOST {
                self.error(at, subject, "the text of an overlay has 1 to 80 letters.", "Shorten it.");
            }
            if text.chars().any(|c| !matches!(c, ' '..='~')) {
                let what = "the text of an overlay has letters that are not drawn here.";
                self.add(
                    Grade::Warning,
                    at,
                    subject,
                    what,
                    "Use letters without accents; others are shown as dots. An image shows anything.",
                );
            }
            Shows::Text(text)
        });
        let time = self.one_of(table, subject, "time", &["utc"]).map(|_| Shows::Time);
        let mut shown: Vec<Shows> = [image, text, time].into_iter().flatten().collect();
        if shown.len() != 1 {
            self.error(at, subject, "an overlay shows one thing.", "Write image = \"FILE.png\", text = \"...\" or time = \"utc\".");
        }
        let shows = shown.pop()?;
        let usual = if matches!(shows, Shows::Image(_)) { Overlay::IMAGE } else { Overlay::LETTERS };
        let words = Corner::ALL.map(Corner::word);
        let word = self.one_of(table, subject, "corner", &words);
        let corner = word.and_then(|word| Corner::ALL.into_iter().find(|c| c.word() == word)).unwrap_or_default();
        Some(Overlay { shows, corner, size: self.parsed(table, subject, "size", share).unwrap_or(usual) })
    }
}

#[cfg(test)]
mod tests {
    use crate::{model::Encode, sheet::read_sheet};

    fn read(to: &str) -> Result<Option<Encode>, Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n\
             [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n\
             [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = [{to}]\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.map(|s| s.feeds[0].to[0].encode.clone()).ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn an_encoding_and_what_is_laid_over_are_read() {
        let url = "url = \"rtmp://127.0.0.1/live/key\"";
        for (text, says) in [
            ("\"srt://127.0.0.1:7201\"".to_owned(), None),
            (format!("{{ {url} }}"), None),
            (format!("{{ {url}, encode = {{}} }}"), Some("h264, a keyframe each 2.0 s")),
            (
                format!(
                    "{{ {url}, encode = {{ codec = \"h264\", size = \"1280x720\", rate = 25, bitrate = \"3 Mbps\", keyframe = \"1 s\" }} }}"
                ),
                Some("h264 1280x720, 25 fps, 3.0 Mbps, a keyframe each 1.0 s"),
            ),
            (
                "{ host = \"127.0.0.1\", port = 7201, overlay = { text = \"Heat 3\" } }".into(),
                Some("h264, a keyframe each 2.0 s, with \"Heat 3\" at the top right"),
            ),
            (
                format!(
                    "{{ {url}, overlay = [{{ image = \"logo.png\", corner = \"bottom-left\", size = \"20%\" }}, {{ time = \"utc\" }}] }}"
                ),
                Some("h264, a keyframe each 2.0 s, with 2 overlays"),
            ),
        ] {
            let found = read(&text).unwrap_or_else(|e| panic!("{text}: {e:?}"));
            assert_eq!(found.map(|e| e.to_string()).as_deref(), says, "{text}");
        }
    }

    #[test]
    fn what_cannot_be_encoded_is_told() {
        for (inside, says) in [
            ("encode = { codec = \"h265\" }", "cannot be encoded here"),
            ("encode = { size = \"1281x720\" }", "even numbers"),
            ("encode = { size = \"9000x720\" }", "even numbers"),
            ("encode = { keyframe = \"20 s\" }", "500 ms to 10 s"),
            ("encode = { rate = 0 }", "not a frame rate"),
            ("encode = { shape = \"round\" }", "bars"),
            ("encode = 3", "must be a table"),
            ("encode = { sise = \"1280x720\" }", "size"),
            ("overlay = { text = \"a\", time = \"utc\" }", "one thing"),
            ("overlay = { corner = \"top-left\" }", "one thing"),
            ("overlay = { text = \"a\", corner = \"middle\" }", "unknown"),
            ("overlay = { text = \"a\", size = \"0%\" }", "1% to 100%"),
            ("overlay = [\"text\"]", "must be a table"),
        ] {
            let found = read(&format!("{{ host = \"127.0.0.1\", port = 7201, {inside} }}")).expect_err(inside);
            assert!(found.iter().any(|f| f.contains(says)), "{inside}: {found:?}");
        }
    }
}
