//! Passphrases and passwords that stand elsewhere, judged once somebody has fetched them. Never
//! says any.

use super::{Sheet, alarm::is_web};
use crate::{
    device::{Device, password_problem},
    finding::{Finding, Grade},
    secret::{Secret, SecretText, passphrase_length_problem, passphrase_weakness},
};

/// Judges what `fetch` can fetch, and gives the sources of what it cannot. Those written in the
/// sheet are judged there.
#[must_use]
pub fn judge_secrets(sheet: &Sheet, fetch: &dyn Fn(&Secret) -> Option<SecretText>) -> (Vec<Finding>, Vec<String>) {
    let (mut found, mut missing) = (Vec::new(), Vec::new());
    let mut add = |grade, subject: &str, what: String, remedy: &str| {
        found.push(Finding { grade, place: None, subject: subject.to_owned(), what, remedy: remedy.into() });
    };
    let kept = |s: &&Secret| !matches!(s, Secret::Literal(_));
    let mut phrases: Vec<(String, SecretText)> = Vec::new();
    let of_lines = sheet.lines.iter().map(|l| (format!("line \"{}\"", l.name), &l.from, true));
    let of_feeds = sheet.feeds.iter().flat_map(|f| f.to.iter().map(move |to| (format!("feed \"{}\"", f.name), &to.link, false)));
    for (subject, link, line) in of_lines.chain(of_feeds) {
        let mut fetched = None;
        for (_, secret) in link.secrets().filter(|(_, s)| kept(s)) {
            match fetch(secret) {
                Some(text) => fetched = Some(text),
                None => missing.push(source(secret)),
            }
        }
        let Some(text) = fetched.filter(|_| link.srt().is_some()) else { continue };
        if let Some(what) = passphrase_length_problem(text.reveal().len()) {
            add(Grade::Error, &subject, what, "It needs 10 to 79.");
        } else if let Some((what, remedy)) = weak_passphrase(&text) {
            add(Grade::Warning, &subject, what, remedy);
        }
        if line {
            // Two names for one passphrase are still one passphrase.
            if let Some((first, _)) = phrases.iter().find(|(_, p)| *p == text) {
                let what = format!("it has the same passphrase as {first}: whoever has one far end can read both.");
                add(Grade::Advice, &subject, what, "Give each line its own.");
            }
            phrases.push((subject, text));
        }
    }
    for device in &sheet.devices {
        let Some(secret) = device.password.as_ref().filter(kept) else { continue };
        let subject = format!("device \"{}\"", device.name);
        match fetch(secret) {
            None => missing.push(source(secret)),
            Some(text) => {
                if let Some((what, remedy)) = bad_password(device, &text) {
                    add(Grade::Warning, &subject, what, remedy);
                }
            }
        }
    }
    if let Some(secret) = sheet.stave.key.as_ref().filter(kept) {
        match fetch(secret) {
            None => missing.push(source(secret)),
            Some(text) => {
                if let Some((what, remedy)) = weak_passphrase(&text) {
                    add(Grade::Warning, "stave", what, remedy);
                }
            }
        }
    }
    if let Some(secret) = sheet.alarm.webhook.as_ref().filter(kept) {
        match fetch(secret) {
            None => missing.push(source(secret)),
            Some(text) if is_web(text.reveal()) => {}
            Some(_) => {
                let what = "its webhook is not an address of http or https.".to_owned();
                add(Grade::Error, "alarm", what, "Put the whole address there: https://HOST/PATH.");
            }
        }
    }
    missing.sort();
    missing.dedup();
    (found, missing)
}

/// What is the case with a passphrase that everybody could guess, and what to do; wherever it is
/// written.
pub(super) fn weak_passphrase(text: &SecretText) -> Option<(String, &'static str)> {
    let why = passphrase_weakness(text.reveal())?;
    Some((format!("its passphrase is weak: {why}."), "Use four or more words that do not belong together."))
}

/// The same of a device's password.
pub(super) fn bad_password(device: &Device, text: &SecretText) -> Option<(String, &'static str)> {
    let why = password_problem(device.user.as_deref().unwrap_or_default(), text.reveal())?;
    Some((why.into(), "\"choir device password\" changes it."))
}

fn source(secret: &Secret) -> String {
    match secret {
        Secret::Literal(_) => "the passphrase".into(),
        Secret::Env(name) => format!("the environment variable {name}"),
        Secret::File(path) => format!("the file {}", path.display()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    #[test]
    fn fetched_secrets_are_judged_and_never_told() {
        let sheet = read_sheet(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"a\"\nfrom = \"srt://:7101?passphrase-env=A\"\n[[line]]\nname = \"b\"\n\
             from = \"srt://:7102?passphrase-env=B\"\n[[line]]\nname = \"c\"\nfrom = \"srt://:7103?passphrase-env=C\"\n[[line]]\nname = \"d\"\n\
             from = \"srt://:7104?passphrase-env=D\"\n[[device]]\nname = \"tower\"\naddress = \"127.20.0.11\"\ncontrol = \"onvif\"\nuser = \"desk\"\n\
             password = { env = \"P\" }\n[alarm]\nwebhook = { env = \"H\" }\n",
        );
        let sheet = sheet.0.expect("a sheet");
        let fetch = |s: &Secret| {
            let Secret::Env(name) = s else { return None };
            let text = match name.as_str() {
                "A" | "B" => "cox and four",
                "C" => "password2026",
                "P" => "admin",
                _ => return None,
            };
            Some(SecretText::new(text))
        };
        let (found, missing) = judge_secrets(&sheet, &fetch);
        assert_eq!(missing, ["the environment variable D", "the environment variable H"]);
        let found: Vec<String> = found.iter().map(|f| format!("{}: {}: {}", f.grade, f.subject, f.what)).collect();
        assert_eq!(
            found,
            [
                "advice: line \"b\": it has the same passphrase as line \"a\": whoever has one far end can read both.",
                "warning: line \"c\": its passphrase is weak: it is a word that everybody tries, with little added.",
                "warning: device \"tower\": devices leave the factory with this password. Choose one of your own.",
            ]
        );
        assert_eq!(judge_secrets(&sheet, &|_| Some(SecretText::new("short"))).0.iter().filter(|f| f.grade == Grade::Error).count(), 5);
    }
}
