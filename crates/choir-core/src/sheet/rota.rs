//! `[[rota]]`: a timed list of what is on a feed.

use super::{places::start, reader::Reader};
use crate::{
    model::{Lasts, Rota, RotaStep},
    units::{UnitError, parse_duration},
};
use std::time::Duration;
use toml_edit::TableLike;

/// A step shorter than this could not be cut to in time.
const LEAST: Duration = Duration::from_secs(1);

fn lasts(text: &str) -> Result<Duration, UnitError> {
    let time = parse_duration(text)?;
    let short = || UnitError { what: format!("\"{text}\" is too short."), allowed: "Allowed: 1 s and more.".into() };
    if time >= LEAST { Ok(time) } else { Err(short()) }
}

impl Reader<'_> {
    pub(super) fn rota(&mut self, table: &dyn TableLike, at: usize) -> Option<Rota> {
        let (name, subject) = self.name(table, "rota", at);
        self.known(table, &subject, &["name", "feed", "steps", "repeat", "start"]);
        let feed = self.string(table, &subject, "feed");
        if table.get("feed").is_none() {
            self.error(at, &subject, "it does not say for which feed it is.", "Add feed = \"NAME\".");
        }
        let repeat = self.flag(table, &subject, "repeat").unwrap_or_default();
        let starts = self.flag(table, &subject, "start").unwrap_or_default();
        let steps = self.steps(table, &subject, at);
        Some(Rota { name: name?, feed: feed?.0, steps, repeat, starts })
    }

    fn steps(&mut self, table: &dyn TableLike, subject: &str, at: usize) -> Vec<RotaStep> {
        let remedy = "Write steps = [{ line = \"NAME\", for = \"20 s\" }, { line = \"CLIP\", once = true }].";
        let items = table.get("steps").and_then(|item| item.as_array());
        let Some(items) = items.filter(|items| !items.is_empty()) else {
            self.error(table.get("steps").map_or(at, |item| start(item.span())), subject, "it has no steps.", remedy);
            return Vec::new();
        };
        let mut steps = Vec::new();
        for value in items {
            let at = start(value.span());
            let Some(step) = value.as_inline_table() else {
                self.error(at, subject, "a step must be a table.", remedy);
                continue;
            };
            self.known(step, subject, &["line", "for", "once"]);
            let line = self.string(step, subject, "line");
            let time = self.parsed(step, subject, "for", lasts);
            let once = self.flag(step, subject, "once").unwrap_or_default();
            if step.get("line").is_none() || once == step.get("for").is_some() {
                self.error(at, subject, "a step needs a line, and either for or once.", remedy);
            }
            let lasts = time.map(Lasts::For).or(once.then_some(Lasts::Once));
            steps.extend(line.zip(lasts).map(|((line, _), lasts)| RotaStep { line, lasts }));
        }
        steps
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    fn read(rota: &str) -> Result<Vec<Rota>, Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n\
             [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n\
             [[line]]\nname = \"trailer\"\nfrom = \"trailer.ts?start=take\"\n\
             [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = \"srt://127.0.0.1:7201\"\n{rota}\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.map(|s| s.rotas).ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn a_rota_is_read_and_its_mistakes_are_told() {
        let text = "[[rota]]\nname = \"intervals\"\nfeed = \"desk\"\nrepeat = true\nsteps = [{ line = \"dock\", for = \"20 s\" }, { line = \"trailer\", once = true }]";
        let step = |line: &str, lasts| RotaStep { line: line.into(), lasts };
        let wanted = Rota {
            name: "intervals".into(),
            feed: "desk".into(),
            steps: vec![step("dock", Lasts::For(Duration::from_secs(20))), step("trailer", Lasts::Once)],
            repeat: true,
            starts: false,
        };
        assert_eq!(read(text), Ok(vec![wanted]));
        assert_eq!(read(""), Ok(Vec::new()));
        for (from, to, says) in [
            ("feed = \"desk\"", "feed = \"dsk\"", "Did you mean \"desk\"?"),
            ("feed = \"desk\"\n", "", "for which feed"),
            ("\"trailer\"", "\"trailor\"", "there is no line \"trailor\""),
            ("for = \"20 s\"", "once = true", "dock has no end"),
            ("20 s", "0.2 s", "too short"),
            (", for = \"20 s\"", "", "either for or once"),
            ("once = true", "once = 1", "true or false"),
            ("repeat = true", "loop = true", "\"loop\" is unknown here"),
            ("for = \"20 s\" }", "for = \"20 s\" }, \"dock\"", "must be a table"),
        ] {
            let found = read(&text.replace(from, to)).expect_err(to);
            assert!(found.iter().any(|f| f.contains(says)), "{to}: {found:?}");
        }
        let twice = format!("{text}\nstart = true\n{text}\nstart = true");
        let found = read(&twice).expect_err("twice");
        assert!(found.iter().any(|f| f.contains("has this name already")) && found.iter().any(|f| f.contains("with the show as well")));
    }
}
