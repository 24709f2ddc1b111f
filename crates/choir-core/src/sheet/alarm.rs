//! `[alarm]`, and `alarm` of a line or feed: when trouble becomes an alarm, and who is told.

use super::{places::start, reader::Reader};
use crate::{
    model::{AlarmSettings, AlarmWish, MEASURES, Measure},
    secret::{Secret, SecretText},
    units::{UnitError, parse_bitrate, parse_duration, parse_share},
};
use std::time::Duration;
use toml_edit::{Item, TableLike};

/// Longest hold.
const HOLD_MOST: Duration = Duration::from_secs(24 * 3600);
/// When.
const WISH_KEYS: &[&str] = &["waiting", "strained", "broken", "limits", "clear", "hysteresis"];
/// Who is told, and how.
const SHOW_KEYS: &[&str] = &["together", "webhook", "command", "tell"];
/// How the live view tells.
const TELL: &[&str] = &["bell", "desktop"];

/// `off`, or what `parse` reads.
fn or_off<T>(text: &str, parse: impl Fn(&str) -> Result<T, UnitError>) -> Result<Option<T>, UnitError> {
    if text.trim() == "off" { Ok(None) } else { parse(text).map(Some) }
}

fn parse_hold(text: &str) -> Result<Option<Duration>, UnitError> {
    or_off(text, |text| {
        let hold = parse_duration(text)?;
        let allowed = || "At most a day, or \"off\" for no alarm.".into();
        if hold <= HOLD_MOST { Ok(hold) } else { Err(UnitError { what: format!("\"{text}\" is too long."), allowed: allowed() }) }
    })
}

fn parse_ms(text: &str) -> Result<Option<f64>, UnitError> {
    or_off(text, |text| parse_duration(text).map(|d| d.as_secs_f64() * 1000.0))
}

const fn parser(measure: Measure) -> fn(&str) -> Result<Option<f64>, UnitError> {
    match measure {
        Measure::Loss | Measure::Missing => |text| or_off(text, parse_share),
        Measure::Headroom | Measure::Rtt | Measure::Jitter => parse_ms,
        Measure::Rate => |text| or_off(text, |text| parse_bitrate(text).map(|b| b.0 as f64)),
    }
}

/// An address that alarms can be posted to.
pub(super) fn is_web(url: &str) -> bool {
    url.split_once("://").is_some_and(|(scheme, rest)| matches!(scheme, "http" | "https") && !rest.is_empty())
}

impl Reader<'_> {
    pub(super) fn alarm_settings(&mut self, root: &dyn TableLike) -> AlarmSettings {
        let mut settings = AlarmSettings::default();
        let Some(item) = root.get("alarm") else { return settings };
        let Some(table) = item.as_table_like() else {
            self.error(start(item.span()), "alarm", "alarm must be a table.", "Write [alarm].");
            return settings;
        };
        let measures = MEASURES.map(Measure::key);
        self.known(table, "alarm", &[WISH_KEYS, &measures, SHOW_KEYS].concat());
        settings.wish = self.wish(table, "alarm");
        if let Some(item) = table.get("together") {
            let off = item.as_str() == Some("off");
            settings.together = item.as_integer().filter(|n| (2..=1000).contains(n)).map(|n| n as usize);
            if settings.together.is_none() && !off {
                self.error(start(item.span()), "alarm", "together is not a number of lines.", "Allowed: 2 to 1000, or \"off\".");
            }
        }
        settings.webhook = table.get("webhook").and_then(|item| self.webhook(item));
        settings.command = self.texts(table, "alarm", "command").into_iter().map(|c| c.0).collect();
        if table.get("tell").is_some() {
            let words = self.texts(table, "alarm", "tell");
            for (word, at) in words.iter().filter(|(w, _)| !TELL.contains(&w.as_str())) {
                self.error(*at, "alarm", format!("tell \"{word}\" is unknown."), crate::spelling::did_you_mean(word, TELL));
            }
            let has = |word: &str| words.iter().any(|(w, _)| w == word);
            (settings.bell, settings.desktop) = (has("bell"), has("desktop"));
        }
        settings
    }

    /// Of one line or feed: a table, or `off`.
    pub(super) fn alarm_wish(&mut self, item: &Item, subject: &str) -> AlarmWish {
        if item.as_str() == Some("off") {
            return AlarmWish::off();
        }
        let Some(table) = item.as_table_like() else {
            let remedy = "Write alarm = \"off\", or alarm = { broken = \"5 s\", loss = \"10 %\" }.";
            self.error(start(item.span()), subject, "alarm must be a table.", remedy);
            return AlarmWish::default();
        };
        let measures = MEASURES.map(Measure::key);
        self.known(table, subject, &[WISH_KEYS, &measures].concat());
        self.wish(table, subject)
    }

    fn wish(&mut self, table: &dyn TableLike, subject: &str) -> AlarmWish {
        let mut wish = AlarmWish {
            waiting: self.parsed(table, subject, "waiting", parse_hold),
            strained: self.parsed(table, subject, "strained", parse_hold),
            broken: self.parsed(table, subject, "broken", parse_hold),
            limits: self.parsed(table, subject, "limits", parse_hold),
            clear: self.duration(table, subject, "clear"),
            hysteresis: self.parsed(table, subject, "hysteresis", parse_share),
            ..AlarmWish::default()
        };
        for measure in MEASURES {
            wish.limit[measure as usize] = self.parsed(table, subject, measure.key(), parser(measure));
        }
        wish
    }

    fn webhook(&mut self, item: &Item) -> Option<Secret> {
        let at = start(item.span());
        let remedy = "Write webhook = \"https://HOST/PATH\", or { env = \"NAME\" } or { file = \"PATH\" } where it is secret.";
        if let Some(url) = item.as_str() {
            if !is_web(url) {
                self.error(at, "alarm", "webhook is not an address of http or https.", remedy);
            }
            return Some(Secret::Literal(SecretText::new(url)));
        }
        let Some(table) = item.as_table_like() else {
            self.error(at, "alarm", "webhook is not an address.", remedy);
            return None;
        };
        self.secret(table, "alarm").or_else(|| {
            self.error(at, "alarm", "webhook does not say where its address is.", remedy);
            None
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    fn read(alarm: &str, line: &str) -> Result<crate::sheet::Sheet, Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n{alarm}\n[[line]]\nname = \"jury\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n{line}\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn alarms_are_read_for_the_show_and_for_a_line() {
        let sheet = read("", "").expect("a sheet");
        assert_eq!(sheet.alarm, AlarmSettings::default());
        let alarm = r#"[alarm]
waiting = "5 min"
broken = "1 s"
loss = "5 %"
headroom = "30 ms"
rate = "500 kbps"
hysteresis = "10 %"
together = 6
webhook = "https://127.20.0.2/alarms/token"
command = ["./beacon", "on"]
tell = ["desktop"]
"#;
        let sheet = read(alarm, "alarm = { strained = \"off\", loss = \"off\", rtt = \"400 ms\" }").expect("a sheet");
        let s = &sheet.alarm;
        assert_eq!((s.together, s.command.len(), s.bell, s.desktop), (Some(6), 2, false, true));
        assert!(matches!(&s.webhook, Some(Secret::Literal(_))));
        assert!(!format!("{s:?}").contains("token"), "{s:?}");
        let secs = Duration::from_secs;
        let rules = sheet.alarm_rules(&sheet.lines[0].alarm);
        assert_eq!((rules.waiting, rules.broken, rules.strained), (Some(secs(300)), Some(secs(1)), None));
        assert_eq!((rules.passed(Measure::Loss, 1.0, false), rules.passed(Measure::Rtt, 401.0, false)), (None, Some(400.0)));
        assert_eq!(rules.passed(Measure::Rate, 540_000.0, true), Some(500_000.0));
        let off = read(alarm, "alarm = \"off\"").expect("a sheet");
        assert_eq!(off.alarm_rules(&off.lines[0].alarm).broken, None);
    }

    #[test]
    fn what_cannot_be_is_told() {
        for (alarm, line, wanted) in [
            ("[alarm]\nbroken = \"soon\"", "", "soon"),
            ("[alarm]\nbroken = 2", "", "has no unit"),
            ("[alarm]\nwaiting = \"30 h\"", "", "too long"),
            ("[alarm]\nloss = \"5\"", "", "has no unit"),
            ("[alarm]\nhue = \"5 s\"", "", "hue"),
            ("[alarm]\ntogether = 1", "", "together is not a number"),
            ("[alarm]\nwebhook = \"ftp://127.20.0.2\"", "", "not an address of http"),
            ("[alarm]\nwebhook = {}", "", "does not say where"),
            ("[alarm]\ntell = [\"bel\"]", "", "Did you mean"),
            ("[[alarm]]", "", "must be a table"),
            ("", "alarm = { webhook = \"http://127.20.0.2\" }", "webhook"),
            ("", "alarm = \"on\"", "alarm must be a table"),
        ] {
            let found = read(alarm, line).expect_err(wanted);
            assert!(found.iter().any(|f| f.contains(wanted)), "{wanted}: {found:?}");
        }
    }
}
