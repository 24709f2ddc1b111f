//! `[record]`: what is recorded from the start of the show on.

use super::{places::start, read::names_of, reader::Reader};
use crate::{
    model::{RecordPlan, RecordSettings},
    units::{UnitError, parse_duration},
};
use std::time::Duration;
use toml_edit::TableLike;

/// MB of one segment.
const SIZE: std::ops::RangeInclusive<i64> = 1..=1_000_000;

fn each(text: &str) -> Result<Duration, UnitError> {
    let time = parse_duration(text)?;
    let short = || UnitError { what: format!("\"{text}\" is too short."), allowed: "Allowed: 2 s and more.".into() };
    if time >= RecordSettings::EACH_LEAST { Ok(time) } else { Err(short()) }
}

impl Reader<'_> {
    pub(super) fn record_plan(&mut self, root: &dyn TableLike) -> RecordPlan {
        let mut plan = RecordPlan::default();
        let Some(item) = root.get("record") else { return plan };
        let at = start(item.span());
        let Some(table) = item.as_table_like() else {
            self.error(at, "record", "record must be a table.", "Write [record].");
            return plan;
        };
        self.known(table, "record", &["start", "folder", "each", "size"]);
        if let Some((folder, _)) = self.string(table, "record", "folder") {
            plan.settings.folder = folder.into();
        }
        if let Some(each) = self.parsed(table, "record", "each", each) {
            plan.settings.each = each;
        }
        if let Some(item) = table.get("size") {
            let mb = item.as_integer().filter(|mb| SIZE.contains(mb));
            plan.settings.bytes = mb.map(|mb| mb as u64 * 1_000_000);
            if mb.is_none() {
                self.error(start(item.span()), "record", "size is not a number of MB.", "Allowed: 1 to 1000000.");
            }
        }
        let all = [names_of(root, "line"), names_of(root, "feed")].concat();
        for (name, at) in self.texts(table, "record", "start") {
            if !all.contains(&name) {
                let names: Vec<&str> = all.iter().map(String::as_str).collect();
                self.error(at, "record", format!("there is no line and no feed \"{name}\"."), crate::spelling::did_you_mean(&name, &names));
            }
            plan.start.push(name);
        }
        plan
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    fn read(record: &str) -> Result<RecordPlan, Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n{record}\n[[line]]\nname = \"jury\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.map(|s| s.record).ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn what_is_recorded_and_how_is_read_and_mistakes_are_told() {
        assert_eq!(read(""), Ok(RecordPlan::default()));
        let all = "[record]\nstart = [\"jury\"]\nfolder = \"/media/stick\"\neach = \"5 min\"\nsize = 2000";
        let settings = RecordSettings { folder: "/media/stick".into(), each: Duration::from_secs(300), bytes: Some(2_000_000_000) };
        assert_eq!(read(all), Ok(RecordPlan { settings, start: vec!["jury".into()] }));
        for (text, says) in [
            ("[record]\nstart = \"jurry\"", "Did you mean \"jury\"?"),
            ("[record]\neach = \"1 s\"", "too short"),
            ("[record]\nsize = 0", "number of MB"),
            ("[record]\nsegment = 3", "segment"),
            ("[[record]]", "must be a table"),
        ] {
            let found = read(text).expect_err(text);
            assert!(found.iter().any(|f| f.contains(says)), "{text}: {found:?}");
        }
    }
}
