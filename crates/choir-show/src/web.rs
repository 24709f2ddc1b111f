//! Asking web servers, and what goes wrong with that in words; never the address.

use std::time::Duration;

/// Whoever asks, for so long in all; goes on to other addresses if it may.
pub(crate) fn agent(patience: Duration, redirects: u32) -> ureq::Agent {
    let config = ureq::Agent::config_builder()
        .timeout_global(Some(patience))
        .max_redirects(redirects)
        .max_redirects_will_error(redirects > 0)
        .http_status_as_error(false)
        .proxy(None);
    ureq::Agent::new_with_config(config.build())
}

/// What is wrong.
pub(crate) fn failure(e: ureq::Error, patience: Duration) -> String {
    match e {
        ureq::Error::Timeout(_) => format!("it does not answer within {} s", patience.as_secs()),
        ureq::Error::HostNotFound => "its host's name is not known: check the address and the network".into(),
        ureq::Error::Io(e) => e.to_string(),
        ureq::Error::ConnectionFailed => "no connection".into(),
        ureq::Error::Rustls(e) => e.to_string(),
        ureq::Error::BadUri(_) | ureq::Error::Http(_) => "its address is not one of http or https: check it".into(),
        ureq::Error::BodyExceedsLimit(most) => format!("its answer is larger than {} MiB", most >> 20),
        _ => "it does not answer as a web server does".into(),
    }
}

/// What is wrong with a status.
pub(crate) fn refusal(status: u16) -> String {
    format!("it answers with status {status}: check its address")
}
