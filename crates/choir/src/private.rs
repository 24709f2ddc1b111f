//! Keeps passphrases out of the process list: a URL with `passphrase=` on the command line is handed to a
//! fresh copy of this process by the environment, which only its user can read.

use choir_net::secrets::TYPED_PREFIX;
use percent_encoding::percent_decode_str;
use std::{env, ffi::OsString, os::unix::process::CommandExt, process::Command};

const KEY: &str = "passphrase=";

/// Starts anew without the passphrases in the arguments; returns when there are none.
pub fn hide_passphrases() {
    let args: Vec<OsString> = env::args_os().collect();
    let mut secrets = Vec::new();
    let clean: Vec<OsString> = args.iter().map(|a| a.to_str().map_or_else(|| a.clone(), |t| hide(t, &mut secrets).into())).collect();
    if secrets.is_empty() {
        return;
    }
    let Some((program, rest)) = clean.split_first() else { return };
    let exe = env::current_exe().unwrap_or_else(|_| program.into());
    let error = Command::new(exe).args(rest).envs(secrets).exec();
    // Going on with the passphrase in sight would break the promise.
    eprintln!("choir: cannot hide the passphrase on the command line ({error}): use passphrase-env= or passphrase-file=");
    std::process::exit(i32::from(crate::exit::SYSTEM));
}

/// Replaces the value of `passphrase=` in a URL by the name of a variable.
fn hide(text: &str, secrets: &mut Vec<(String, String)>) -> String {
    let Some((place, query)) = text.split_once('?').filter(|(p, _)| p.contains("://")) else { return text.to_owned() };
    let parts: Vec<String> = query
        .split('&')
        .map(|part| match part.strip_prefix(KEY) {
            Some(value) => {
                let name = format!("{TYPED_PREFIX}{}", secrets.len() + 1);
                // What goes by a URL is percent-encoded; a variable is not.
                let decoded = percent_decode_str(value).decode_utf8_lossy().into_owned();
                secrets.push((name.clone(), decoded));
                format!("passphrase-env={name}")
            }
            None => part.to_owned(),
        })
        .collect();
    format!("{place}?{}", parts.join("&"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_passphrase_is_taken_out() {
        let mut secrets = Vec::new();
        let clean = hide("srt://h:1?mode=caller&passphrase=tarn%20hollow%2b1&latency=9", &mut secrets);
        assert_eq!(clean, "srt://h:1?mode=caller&passphrase-env=CHOIR_PASSPHRASE_1&latency=9");
        assert_eq!(secrets, [("CHOIR_PASSPHRASE_1".into(), "tarn hollow+1".into())]);
        let mut none = Vec::new();
        for same in ["srt://h:1?passphrase-env=X", "file.ts", "a?passphrase=b", "--for"] {
            assert_eq!(hide(same, &mut none), same);
        }
        assert!(none.is_empty());
    }
}
