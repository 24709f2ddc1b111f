//! `watch` of a line: when its pictures and sound count as faulty; and the budget for looking.

use super::{places::start, reader::Reader};
use crate::{
    content::{ContentLimits, WATCHED, Watched},
    model::LookBudget,
    units::{UnitError, parse_duration},
};
use std::time::Duration;
use toml_edit::{Item, TableLike};

/// Longest time that a fault may last untold.
const HOLD_MOST: Duration = Duration::from_secs(3600);

/// `off`, or percent of one core.
pub(super) fn parse_budget(text: &str) -> Result<LookBudget, UnitError> {
    let number = text.trim().trim_end_matches('%').trim();
    match (text.trim(), number.parse::<u16>()) {
        ("off", _) => Ok(LookBudget::OFF),
        (_, Ok(percent @ 1..=100)) => Ok(LookBudget::percent(percent as u8)),
        _ => Err(UnitError {
            what: format!("\"{text}\" is not a share of a core."),
            allowed: "Allowed: \"off\" and \"1 %\" to \"100 %\" of one core.".into(),
        }),
    }
}

/// `off`, or how long a fault must last.
fn parse_hold(text: &str) -> Result<Option<Duration>, UnitError> {
    if text.trim() == "off" {
        return Ok(None);
    }
    let hold = parse_duration(text)?;
    if hold > HOLD_MOST {
        return Err(UnitError { what: format!("\"{text}\" is longer than an hour."), allowed: "Write \"off\" to watch nothing.".into() });
    }
    Ok(Some(hold))
}

/// `-50 dB`: full scale is 0.
fn parse_level(text: &str) -> Result<f64, UnitError> {
    let number = text.trim().trim_end_matches("dBFS").trim_end_matches("dB").trim();
    number.parse().ok().filter(|db| (-100.0..=-20.0).contains(db)).ok_or_else(|| UnitError {
        what: format!("\"{text}\" is not a level."),
        allowed: "Allowed: \"-100 dB\" to \"-20 dB\"; 0 dB is full scale.".into(),
    })
}

impl Reader<'_> {
    pub(super) fn watch(&mut self, item: &Item, subject: &str) -> ContentLimits {
        let mut limits = ContentLimits::default();
        let Some(table) = item.as_table_like() else {
            self.error(start(item.span()), subject, "watch must be a table.", "Write watch = { black = \"off\", frozen = \"10 s\" }.");
            return limits;
        };
        let keys = WATCHED.map(Watched::key);
        self.known(table, subject, &[&keys[..], &["silence-level", "apart-limit"]].concat());
        for what in WATCHED {
            if let Some(hold) = self.parsed(table, subject, what.key(), parse_hold) {
                limits.set_hold(what, hold);
            }
        }
        if let Some(level) = self.parsed(table, subject, "silence-level", parse_level) {
            limits.silence_dbfs = level;
        }
        if let Some(limit) = self.duration(table, subject, "apart-limit") {
            limits.apart_ms = i32::try_from(limit.as_millis()).unwrap_or(i32::MAX / 4).min(i32::MAX / 4);
        }
        limits
    }

    pub(super) fn look_budget(&mut self, table: &dyn TableLike) -> LookBudget {
        self.parsed(table, "show", "pictures", parse_budget).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    fn findings(show: &str, watch: &str) -> Result<(LookBudget, ContentLimits), Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n{show}\n[[line]]\nname = \"jury\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n{watch}\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.map(|s| (s.show.pictures, s.lines[0].watch)).ok_or_else(|| findings.iter().map(|f| f.what.clone()).collect())
    }

    #[test]
    fn limits_and_budget_are_read() {
        let (budget, limits) = findings("", "").expect("a sheet");
        assert_eq!((budget, limits), (LookBudget::percent(10), ContentLimits::default()));
        let watch = "watch = { black = \"off\", frozen = \"12 s\", silence-level = \"-48.5 dB\", apart-limit = \"2 s\" }";
        let (budget, limits) = findings("pictures = \"25 %\"", watch).expect("a sheet");
        assert_eq!((budget, limits.hold(Watched::Black)), (LookBudget::percent(25), None));
        assert_eq!(limits.hold(Watched::Frozen), Some(Duration::from_secs(12)));
        assert_eq!((limits.silence_dbfs, limits.apart_ms), (-48.5, 2000));
        assert_eq!(findings("pictures = \"off\"", "").map(|f| f.0), Ok(LookBudget::OFF));
    }

    #[test]
    fn what_cannot_be_is_told() {
        for (show, watch, wanted) in [
            ("pictures = \"200 %\"", "", "not a share of a core"),
            ("pictures = \"0\"", "", "not a share of a core"),
            ("", "watch = { black = \"soon\" }", "black"),
            ("", "watch = { frozen = \"2h\" }", "frozen"),
            ("", "watch = { silence-level = \"3 dB\" }", "is not a level"),
            ("", "watch = { hue = \"off\" }", "hue"),
            ("", "watch = \"off\"", "watch must be a table"),
        ] {
            let found = findings(show, watch).expect_err("refused");
            assert!(found.iter().any(|f| f.contains(wanted)), "{found:?}");
        }
    }
}
