//! Links as URLs: `srt://host:port?mode=…&latency=…`, `rtsp://host/path`, `rtp://` and `udp://`,
//! and paths of files.

use super::{
    FileLink, Link, Problem, RtspLink, RtspTransport, SrtLink,
    fields::{Collector, Field, Form, Value},
    lan, split_authority,
};
use crate::{
    secret::{Secret, SecretText},
    spelling::did_you_mean,
};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use std::{fmt::Write, net::IpAddr, ops::Range, time::Duration};

/// Left readable in a query value: what stream IDs are made of.
const QUERY: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'_').remove(b'.').remove(b'/').remove(b':').remove(b',').remove(b'!');

/// Shown instead of a secret.
const HIDDEN: &str = "(hidden)";
/// What parts the settings of a URL.
const SIGNS: [char; 3] = ['?', '&', '#'];

/// Reads a URL, a file path, or `-`. Offsets in problems count from its first byte.
#[must_use]
pub fn parse_url(text: &str) -> (Option<Link>, Vec<Problem>) {
    let Some((scheme, rest)) = text.split_once("://") else {
        return (Some(file(text)), Vec::new());
    };
    let rest_at = scheme.len() + 3;
    let tls = scheme.eq_ignore_ascii_case("rtmps");
    if scheme.eq_ignore_ascii_case("rtsp") || scheme.eq_ignore_ascii_case("rtmp") || tls {
        // The query is the camera's or belongs to the key; our own settings stand behind a #, which
        // is never sent.
        let (place, own) = rest.split_once('#').unwrap_or((rest, ""));
        let fields = query_fields(own, rest_at + place.len() + 1);
        let mut c = Collector::new(fields, rest_at, Form::Url);
        let place = rtsp_place(&mut c, place, rest_at);
        let link = if scheme.eq_ignore_ascii_case("rtsp") { c.rtsp(Some(place)) } else { c.rtmp(Some(place), tls) };
        return c.finish(link);
    }
    let (place, query) = rest.split_once('?').unwrap_or((rest, ""));
    let place = place.trim_end_matches('/');
    let fields = query_fields(query, rest_at + rest.find('?').map_or(0, |i| i + 1));
    let mut c = Collector::new(fields, rest_at, Form::Url);
    let (source, authority) = place.rsplit_once('@').map_or((None, place), |(s, a)| (Some((s.to_owned(), rest_at)), a));
    let (source, authority) = if scheme == "srt" { (None, place) } else { (source, authority) };
    let (host, port) = split_authority(authority);
    let port_at = rest_at + place.len() - port.map_or(0, str::len);
    let host_text = (!host.is_empty()).then(|| host.to_owned());
    if !host.is_empty() && ["srt", "udp", "rtp"].contains(&scheme) {
        c.check_host(host, rest_at + place.len() - authority.len());
    }
    let lan = |c: &mut Collector| {
        let port = port.and_then(|p| c.check_port(p, port_at));
        lan::Place { source, host: host_text.clone(), port, ..lan::Place::default() }
    };
    let link = match scheme {
        "srt" => {
            c.known_url_srt();
            let port = match port {
                Some(p) => c.check_port(p, port_at),
                None => {
                    c.problem(port_at, format!("the port is missing in \"{scheme}://{place}\"."), "Add it behind a colon: host:port.");
                    None
                }
            };
            c.srt(host_text, port)
        }
        "udp" => {
            let place = lan(&mut c);
            c.udp(Some(place))
        }
        "rtp" => {
            let place = lan(&mut c);
            c.rtp(Some(place))
        }
        "stave" => {
            let decode = |t: &str| percent_decode_str(t).decode_utf8_lossy().into_owned();
            let (machine, name) = place.split_once('/').map_or((None, place), |(m, n)| (Some(decode(m)), n));
            c.stave(Some((machine, decode(name))))
        }
        "wall" => c.wall(Some(place)),
        "file" => return (Some(file(rest)), Vec::new()),
        "rtsps" => {
            c.problem(0, "encrypted RTSP (rtsps://) is not made here.", "Set the camera to rtsp:// and keep it on a network of its own.");
            None
        }
        other => {
            let known = ["srt", "rtsp", "rtmp", "rtmps", "rtp", "udp", "stave", "wall", "file"];
            c.problem(0, format!("\"{other}://\" is not a supported protocol."), did_you_mean(other, &known));
            None
        }
    };
    c.finish(link)
}

/// `user:password@host:port/path?query` of an RTSP URL that begins at `at`.
pub(super) fn rtsp_place(c: &mut Collector, text: &str, at: usize) -> lan::Place {
    let (authority, path) = text.find(['/', '?']).map_or((text, ""), |i| text.split_at(i));
    let (login, address) = authority.rsplit_once('@').map_or((None, authority), |(l, a)| (Some(l), a));
    let (host, port) = split_authority(address);
    let address_at = at + authority.len() - address.len();
    if !host.is_empty() {
        c.check_host(host, address_at);
    }
    let port = port.filter(|p| !p.is_empty()).and_then(|p| match p.parse::<u16>() {
        // Low ports are usual here: 554 is the standard one.
        Ok(n) if n > 0 => Some(n),
        _ => c.check_port(p, address_at + address.len() - p.len()),
    });
    let decode = |t: &str| percent_decode_str(t).decode_utf8_lossy().into_owned();
    let (user, password) = login.map_or((None, None), |l| match l.split_once(':') {
        Some((u, p)) => (Some(decode(u)), Some(Secret::Literal(SecretText::new(decode(p))))),
        None => (Some(decode(l)), None),
    });
    let path = if path.starts_with('?') { format!("/{path}") } else { path.to_owned() };
    lan::Place { source: None, host: (!host.is_empty()).then(|| host.to_owned()), port, path, user, password }
}

/// What may follow a file's name.
const FILE_SETTINGS: [&str; 2] = ["repeat", "start=take"];

fn file(text: &str) -> Link {
    if text == "-" {
        return Link::File(FileLink::once(None));
    }
    // A question mark may be part of a file's name.
    let (path, how) = text.rsplit_once('?').filter(|(_, how)| how.split('&').all(|h| FILE_SETTINGS.contains(&h))).unwrap_or((text, ""));
    let has = |setting| how.split('&').any(|h| h == setting);
    Link::File(FileLink { path: Some(path.into()), repeat: has(FILE_SETTINGS[0]), at_take: has(FILE_SETTINGS[1]) })
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
        Link::Udp(u) => {
            let mut url = format!("udp://{}{}:{}", source_text(u.source), host_text(u.host.as_deref()), u.port);
            group_settings(&mut url, u.interface, u.ttl);
            url
        }
        Link::Rtp(r) => {
            let mut url = format!("rtp://{}{}", source_text(r.source), host_text(r.host.as_deref()));
            if let Some(port) = r.port {
                let _ = write!(url, ":{port}");
            }
            group_settings(&mut url, r.interface, r.ttl);
            if let Some(sdp) = &r.sdp {
                add(&mut url, '?', "sdp", &sdp.display().to_string());
            }
            receive_settings(&mut url, '?', r.reorder, r.damaged);
            url
        }
        Link::Rtsp(r) => show_rtsp(r),
        Link::Rtmp(r) => super::rtmp::show(r, &host_text(r.host.as_deref()), add),
        Link::Stave(s) => super::stave::show(s, add),
        Link::Wall(w) => super::wall::show(w, add),
        Link::File(FileLink { path: None, .. }) => "-".into(),
        Link::File(FileLink { path: Some(p), repeat, at_take }) => {
            let how: Vec<&str> = FILE_SETTINGS.into_iter().zip([*repeat, *at_take]).filter_map(|(text, on)| on.then_some(text)).collect();
            format!("{}{}{}", p.display(), if how.is_empty() { "" } else { "?" }, how.join("&"))
        }
    }
}

/// Where the password before the host of a typed URL lies. One with a slash, question mark or hash
/// that nobody encoded reaches up to the last `@`.
#[must_use]
pub fn typed_password(text: &str) -> Option<Range<usize>> {
    password_in(text, is_number)
}

fn is_number(text: &str) -> bool {
    text.bytes().all(|b| b.is_ascii_digit())
}

fn password_in(text: &str, is_port: impl Fn(&str) -> bool) -> Option<Range<usize>> {
    let from = text.find("://")? + 3;
    let rest = &text[from..];
    let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
    let login = rest[..end].rfind('@');
    let colon = rest[..login.unwrap_or(end)].find(':')?;
    let to = match login {
        Some(at) => at,
        None if rest.starts_with('[') || is_port(&rest[colon + 1..end]) => return None,
        None => rest.rfind('@')?,
    };
    Some(from + colon + 1..from + to)
}

/// Whether the value of a setting is a secret, by its name in any case, misspelt too.
#[must_use]
pub fn names_secret(setting: &str) -> bool {
    let name = setting.to_ascii_lowercase();
    if name.ends_with("-env") || name.ends_with("-file") {
        return false;
    }
    let near = |word: &str| name.len() < 2 * word.len() && strsim::damerau_levenshtein(&name, word) <= word.len() / 3;
    name == "key" || name.contains("pass") || ["passphrase", "password", "secret", "token"].iter().any(|w| near(w))
}

/// A URL as somebody typed it, with what is or may be secret hidden: a password before the host, a
/// stream key, and settings that [`names_secret`] knows.
#[must_use]
pub fn redact(text: &str) -> String {
    let hide = |piece: &str| match piece.split_once('=') {
        Some((name, value)) if names_secret(name) => {
            let end = value.find(SIGNS).unwrap_or(value.len());
            format!("{name}={HIDDEN}{}", &value[end..])
        }
        _ => piece.to_owned(),
    };
    let mut pieces = text.split_inclusive(SIGNS);
    let place = pieces.next().unwrap_or_default().to_owned();
    let mut text = pieces.fold(place, |shown, piece| shown + &hide(piece));
    let scheme = text.split_once("://").map_or(String::new(), |(s, _)| s.to_ascii_lowercase());
    // Better a part of a camera's path too much than a password of digits.
    if let Some(password) = password_in(&text, |port| !scheme.starts_with("rt") && is_number(port)) {
        text.replace_range(password, HIDDEN);
    }
    if let Some((scheme, rest)) = text.split_once("://").filter(|_| scheme.starts_with("rtmp")) {
        // Behind the path comes the key.
        let (place, own) = rest.find('#').map_or((rest, ""), |at| rest.split_at(at));
        let path = place.split('?').next().unwrap_or_default().trim_end_matches('/');
        let hidden = path.rsplit_once('/').filter(|(before, _)| before.contains('/') && !own.contains("key-"));
        if let Some((before, _)) = hidden {
            return format!("{scheme}://{before}/{HIDDEN}{own}");
        }
    }
    text
}

fn add(url: &mut String, first: char, key: &str, value: &str) {
    let join = if url.contains(first) { '&' } else { first };
    let _ = write!(url, "{join}{key}={}", utf8_percent_encode(value, QUERY));
}

fn source_text(source: Option<IpAddr>) -> String {
    source.map_or_else(String::new, |s| format!("{s}@"))
}

fn group_settings(url: &mut String, interface: Option<IpAddr>, ttl: Option<u8>) {
    if let Some(i) = interface {
        add(url, '?', "interface", &i.to_string());
    }
    if let Some(t) = ttl {
        add(url, '?', "ttl", &t.to_string());
    }
}

fn receive_settings(url: &mut String, first: char, reorder: Option<Duration>, damaged: bool) {
    if let Some(r) = reorder {
        add(url, first, "reorder", &r.as_millis().to_string());
    }
    if damaged {
        add(url, first, "damaged", "pass");
    }
}

fn show_rtsp(r: &RtspLink) -> String {
    let user = r.user.as_ref().map_or_else(String::new, |u| format!("{}@", utf8_percent_encode(u, QUERY)));
    let port = r.port.map_or_else(String::new, |p| format!(":{p}"));
    let mut url = format!("rtsp://{user}{}{port}{}", host_text(r.host.as_deref()), r.path);
    match &r.password {
        Some(Secret::Env(name)) => add(&mut url, '#', "password-env", name),
        Some(Secret::File(path)) => add(&mut url, '#', "password-file", &path.display().to_string()),
        Some(Secret::Literal(_)) | None => {}
    }
    if r.transport != RtspTransport::Auto {
        add(&mut url, '#', "transport", r.transport.word());
    }
    receive_settings(&mut url, '#', r.reorder, r.damaged);
    if let Some(i) = r.interface {
        add(&mut url, '#', "interface", &i.to_string());
    }
    if let Some((ip, port)) = r.group {
        add(&mut url, '#', "group", &std::net::SocketAddr::new(ip, port).to_string());
    }
    if let Some(ttl) = r.ttl {
        add(&mut url, '#', "ttl", &ttl.to_string());
    }
    url
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
