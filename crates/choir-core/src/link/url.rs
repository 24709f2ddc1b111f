//! Links as URLs: `srt://host:port?mode=…&latency=…`, `udp://host:port`, and paths of files.

use super::{
    FileLink, Link, Problem, SrtLink, UdpLink,
    fields::{Collector, Field, Form, Value},
    split_authority,
};
use crate::{secret::Secret, spelling::did_you_mean};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use std::fmt::Write;

/// Left readable in a query value: what stream IDs are made of.
const QUERY: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'/').remove(b':').remove(b',').remove(b'!');

/// Reads a URL, a file path, or `-`. Offsets in problems count from its first byte.
#[must_use]
pub fn parse_url(text: &str) -> (Option<Link>, Vec<Problem>) {
    let Some((scheme, rest)) = text.split_once("://") else {
        return (Some(file(text)), Vec::new());
    };
    let rest_at = scheme.len() + 3;
    let (place, query) = rest.split_once('?').unwrap_or((rest, ""));
    let place = place.trim_end_matches('/');
    let fields = query_fields(query, rest_at + rest.find('?').map_or(0, |i| i + 1));
    let mut c = Collector::new(fields, rest_at, Form::Url);
    let (host, port) = split_authority(place);
    let port_at = rest_at + place.len() - port.map_or(0, str::len);
    let host_text = (!host.is_empty()).then(|| host.to_owned());
    if !host.is_empty() {
        c.check_host(host, rest_at);
    }
    let read_port = |c: &mut Collector| match port {
        Some(p) => c.check_port(p, port_at),
        None => {
            c.problem(port_at, format!("the port is missing in \"{scheme}://{place}\"."), "Add it behind a colon: host:port.");
            None
        }
    };
    let link = match scheme {
        "srt" => {
            c.known_url_srt();
            let port = read_port(&mut c);
            c.srt(host_text, port)
        }
        "udp" => {
            c.known(&[]);
            read_port(&mut c).map(|port| Link::Udp(UdpLink { host: host_text, port }))
        }
        "file" => return (Some(file(rest)), Vec::new()),
        other => {
            c.problem(0, format!("\"{other}://\" is not a link this can make."), did_you_mean(other, &["srt", "udp", "file"]));
            None
        }
    };
    c.finish(link)
}

fn file(text: &str) -> Link {
    if text == "-" {
        return Link::File(FileLink { path: None, repeat: false });
    }
    let (path, repeat) = match text.strip_suffix("?repeat") {
        Some(path) => (path, true),
        None => (text, false),
    };
    Link::File(FileLink { path: Some(path.into()), repeat })
}

fn query_fields(query: &str, start: usize) -> Vec<Field> {
    let mut at = start;
    let mut fields = Vec::new();
    for part in query.split('&') {
        if !part.is_empty() {
            let (key, value) = part.split_once('=').unwrap_or((part, ""));
            let decoded = percent_decode_str(value).decode_utf8_lossy().into_owned();
            let value_at = at + part.len() - value.len();
            fields.push(Field { key: key.to_owned(), key_at: at, value: Value::Text(decoded), value_at });
        }
        at += part.len() + 1;
    }
    fields
}

/// The link as one URL, without its passphrase: to be shown, logged, pasted.
#[must_use]
pub fn show_url(link: &Link) -> String {
    match link {
        Link::Srt(s) => show_srt(s),
        Link::Udp(u) => format!("udp://{}:{}", host_text(u.host.as_deref()), u.port),
        Link::File(FileLink { path: None, .. }) => "-".into(),
        Link::File(FileLink { path: Some(p), repeat }) => format!("{}{}", p.display(), if *repeat { "?repeat" } else { "" }),
    }
}

/// A URL as somebody typed it, with the value of its passphrase hidden.
#[must_use]
pub fn redact(text: &str) -> String {
    let Some((place, query)) = text.split_once('?') else { return text.to_owned() };
    let hide = |p: &str| if p.starts_with("passphrase=") { "passphrase=(hidden)".to_owned() } else { p.to_owned() };
    format!("{place}?{}", query.split('&').map(hide).collect::<Vec<_>>().join("&"))
}

fn host_text(host: Option<&str>) -> String {
    match host {
        None => String::new(),
        Some(h) if h.contains(':') => format!("[{h}]"),
        Some(h) => h.to_owned(),
    }
}

fn show_srt(s: &SrtLink) -> String {
    let mut url = format!("srt://{}:{}?mode={}", host_text(s.host.as_deref()), s.port, s.mode.word());
    let mut add = |key: &str, value: String| {
        let _ = write!(url, "&{key}={}", utf8_percent_encode(&value, QUERY));
    };
    if let Some(l) = s.latency {
        add("latency", l.as_millis().to_string());
    }
    match &s.passphrase {
        Some(Secret::Env(name)) => add("passphrase-env", name.clone()),
        Some(Secret::File(path)) => add("passphrase-file", path.display().to_string()),
        Some(Secret::Literal(_)) | None => {}
    }
    if let Some(bits) = s.key_bits {
        add("pbkeylen", (bits / 8).to_string());
    }
    if let Some(id) = &s.stream_id {
        add("streamid", id.clone());
    }
    if let Some((ip, port)) = s.bind {
        add("bind", port.map_or_else(|| ip.to_string(), |p| std::net::SocketAddr::new(ip, p).to_string()));
    }
    if let Some(overhead) = s.overhead {
        add("overhead", format!("{overhead}%"));
    }
    if let Some(ceiling) = s.ceiling {
        add("ceiling", format!("{}bps", ceiling.0));
    }
    url
}
