//! The fields of a link, wherever they were written, each checked; all problems at once.

use super::{FileLink, Link, Mode, SrtLink, split_authority};
use crate::{
    finding::Grade,
    secret::{Secret, SecretText, passphrase_length_problem},
    spelling::did_you_mean,
    units::{parse_bitrate, parse_duration, parse_share},
};
use std::{collections::BTreeMap, net::IpAddr, time::Duration};

/// Longest latency that the handshake can carry.
const LATENCY_MAX: Duration = Duration::from_millis(65_535);
/// Longest stream ID, bytes (SRT draft).
const STREAM_ID_MAX: usize = 512;

/// What a field holds.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Text, as in a URL or a TOML string.
    Text(String),
    /// A whole number.
    Number(i64),
    /// True or false.
    Flag(bool),
    /// A passphrase kept elsewhere.
    Secret(Secret),
}

/// A field with the places of its name and value, as byte offsets into whatever it was read from.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    /// Name as written.
    pub key: String,
    /// Offset of the name.
    pub key_at: usize,
    /// Value.
    pub value: Value,
    /// Offset of the value.
    pub value_at: usize,
}

/// Something wrong with a link, at a byte offset.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// Offset.
    pub at: usize,
    /// How bad.
    pub grade: Grade,
    /// What is the case.
    pub what: String,
    /// What to do.
    pub remedy: String,
}

/// Where the fields were written: names and units differ a little.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    Url,
    Sheet,
}

const SHEET_SRT: &[&str] =
    &["kind", "mode", "host", "port", "bind", "latency", "passphrase", "key-length", "stream-id", "overhead", "ceiling"];
const SHEET_FILE: &[&str] = &["kind", "path", "repeat"];
const URL_SRT: &[&str] =
    &["mode", "latency", "passphrase", "passphrase-env", "passphrase-file", "pbkeylen", "streamid", "bind", "overhead", "ceiling"];

/// Makes a link of a sheet's fields. `at` is where the whole is, for what is missing.
#[must_use]
pub fn from_fields(fields: Vec<Field>, at: usize) -> (Option<Link>, Vec<Problem>) {
    let mut c = Collector::new(fields, at, Form::Sheet);
    // A url is only ever one of these; the others are written as plain text.
    let default = if c.begins("url", "rtmp") {
        "rtmp"
    } else if c.has("url") {
        "rtsp"
    } else {
        "srt"
    };
    let kind = c.text("kind").map_or_else(|| default.to_owned(), |(k, _)| k);
    let link = match kind.as_str() {
        "srt" => {
            c.known(SHEET_SRT);
            let (host, port) = (c.host(), c.port());
            c.srt(host, port)
        }
        "udp" => c.udp(None),
        "rtp" => c.rtp(None),
        "rtsp" => c.rtsp(None),
        "rtmp" => c.rtmp(None, false),
        "stave" => c.stave(None),
        "wall" => c.wall(None),
        "file" => {
            c.known(SHEET_FILE);
            let path = c.text("path").map(|(p, _)| p);
            if path.is_none() {
                c.problem(at, "the path is missing.", "Add path = \"FILE.ts\".");
            }
            let repeat = matches!(c.take("repeat"), Some((Value::Flag(true), _)));
            let at_take = c.text("start").is_some_and(|(start, at)| {
                if !matches!(start.as_str(), "take" | "show") {
                    c.problem(at, format!("start \"{start}\" is unknown."), "Allowed: show, take.");
                }
                start == "take"
            });
            path.map(|p| Link::File(FileLink { path: Some(p.into()), repeat, at_take }))
        }
        other => {
            c.problem(
                at,
                format!("kind \"{other}\" is unknown."),
                did_you_mean(other, &["srt", "rtsp", "rtmp", "rtp", "udp", "stave", "wall", "file"]),
            );
            None
        }
    };
    c.finish(link)
}

/// Takes fields one by one and gathers what is wrong with them.
pub(super) struct Collector {
    fields: BTreeMap<String, Field>,
    problems: Vec<Problem>,
    at: usize,
    form: Form,
    host_given: bool,
}

impl Collector {
    pub fn new(fields: Vec<Field>, at: usize, form: Form) -> Self {
        let mut c = Self { fields: BTreeMap::new(), problems: Vec::new(), at, form, host_given: false };
        for field in fields {
            if let Some(earlier) = c.fields.get(&field.key) {
                let (what, at) = (format!("{} is given twice.", earlier.key), field.key_at);
                c.problem(at, what, "Keep one of them.");
            }
            c.fields.insert(field.key.clone(), field);
        }
        c
    }

    pub fn problem(&mut self, at: usize, what: impl Into<String>, remedy: impl Into<String>) {
        self.problems.push(Problem { at, grade: Grade::Error, what: what.into(), remedy: remedy.into() });
    }

    /// Reports the fields that are not among these.
    pub fn known(&mut self, known: &[&str]) {
        let strangers: Vec<_> = self.fields.values().filter(|f| !known.contains(&f.key.as_str())).cloned().collect();
        for field in strangers {
            self.fields.remove(&field.key);
            self.problem(field.key_at, format!("\"{}\" is not a setting of this link.", field.key), did_you_mean(&field.key, known));
        }
    }

    pub fn finish(mut self, link: Option<Link>) -> (Option<Link>, Vec<Problem>) {
        let failed = self.problems.iter().any(|p| p.grade == Grade::Error);
        self.problems.sort_by_key(|p| p.at);
        (link.filter(|_| !failed), self.problems)
    }

    pub fn form(&self) -> Form {
        self.form
    }

    pub fn at(&self) -> usize {
        self.at
    }

    pub fn has(&self, key: &str) -> bool {
        self.fields.contains_key(key)
    }

    /// A text that begins so.
    fn begins(&self, key: &str, with: &str) -> bool {
        self.fields.get(key).is_some_and(|f| matches!(&f.value, Value::Text(t) if t.starts_with(with)))
    }

    /// A field that is true or false.
    pub fn flag(&mut self, key: &str) -> bool {
        match self.take(key) {
            Some((Value::Flag(on), _)) => on,
            Some((_, at)) => {
                self.problem(at, format!("{key} must be true or false."), "Write it without quotes.");
                false
            }
            None => false,
        }
    }

    pub fn take(&mut self, key: &str) -> Option<(Value, usize)> {
        self.fields.remove(key).map(|f| (f.value, f.value_at))
    }

    pub fn text(&mut self, key: &str) -> Option<(String, usize)> {
        match self.take(key)? {
            (Value::Text(t), at) => Some((t, at)),
            (_, at) => {
                self.problem(at, format!("{key} must be a text."), "Write it in quotes.");
                None
            }
        }
    }

    pub fn host(&mut self) -> Option<String> {
        let (host, at) = self.text("host")?;
        self.check_host(&host, at).then_some(host).filter(|h| !h.is_empty())
    }

    /// A host field holds a name or an address and nothing else.
    pub fn check_host(&mut self, host: &str, at: usize) -> bool {
        self.host_given = true;
        if let Some((scheme, rest)) = host.split_once("://") {
            let only = split_authority(rest.split(['/', '?']).next().unwrap_or(rest)).0;
            self.problem(
                at,
                format!("the host \"{host}\" has the scheme {scheme}:// inside."),
                format!("Write only the address: \"{only}\"."),
            );
            return false;
        }
        let is_ip = host.parse::<IpAddr>().is_ok();
        if !is_ip && host.contains(':') {
            let (name, port) = split_authority(host);
            let port = port.unwrap_or_default();
            self.problem(at, format!("the host \"{host}\" has a port inside."), format!("Write \"{name}\" as host and {port} as port."));
            return false;
        }
        let fits = is_ip || host.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_'));
        if !fits {
            self.problem(at, format!("\"{host}\" is not a host name or address."), "Write a name or an address, nothing else.");
        }
        fits
    }

    pub fn port(&mut self) -> Option<u16> {
        match self.take("port") {
            Some((Value::Number(n), at)) => self.check_port(&n.to_string(), at),
            Some((Value::Text(t), at)) => self.check_port(&t, at),
            Some((_, at)) => {
                self.problem(at, "port must be a number.", "Allowed: 1 to 65535.");
                None
            }
            None => {
                let at = self.at;
                self.problem(at, "the port is missing.", "Add the port that both ends agreed on, 1 to 65535.");
                None
            }
        }
    }

    pub fn check_port(&mut self, text: &str, at: usize) -> Option<u16> {
        match text.parse::<u16>() {
            Ok(port) if port > 0 => {
                if port < 1024 {
                    self.problems.push(Problem {
                        at,
                        grade: Grade::Warning,
                        what: format!("port {port} is below 1024: only an administrator may listen on it."),
                        remedy: "Choose one from 1024 up.".into(),
                    });
                }
                Some(port)
            }
            _ => {
                self.problem(at, format!("\"{text}\" is not a port."), "Allowed: 1 to 65535.");
                None
            }
        }
    }

    pub fn known_url_srt(&mut self) {
        self.known(URL_SRT);
    }

    /// The SRT settings, `host` and `port` having been read.
    pub fn srt(&mut self, host: Option<String>, port: Option<u16>) -> Option<Link> {
        let (key_name, id_name) = if self.form == Form::Url { ("pbkeylen", "streamid") } else { ("key-length", "stream-id") };
        let mode = self.mode(host.as_deref());
        let bind = self.bind();
        let latency = self.latency();
        let passphrase = self.passphrase();
        let key_bits = self.key_bits(key_name);
        let stream_id = self.text(id_name);
        if let Some((id, at)) = &stream_id
            && id.len() > STREAM_ID_MAX
        {
            let (what, at) = (format!("the stream ID has {} bytes.", id.len()), *at);
            self.problem(at, what, "At most 512.");
        }
        let overhead = self.text("overhead").and_then(|(t, at)| match parse_share(&t) {
            Ok(share) if (0.05..=1.0).contains(&share) => Some((share * 100.0).round() as u16),
            Ok(_) => {
                self.problem(at, format!("overhead \"{t}\" is out of range."), "Allowed: 5% to 100%.");
                None
            }
            Err(e) => {
                self.problem(at, format!("overhead {}", e.what), e.allowed);
                None
            }
        });
        let ceiling = self.text("ceiling").and_then(|(t, at)| match parse_bitrate(&t) {
            Ok(rate) if rate.0 >= 100_000 => Some(rate),
            Ok(_) => {
                self.problem(at, format!("ceiling \"{t}\" is too low."), "At least 100 kbps.");
                None
            }
            Err(e) => {
                self.problem(at, format!("ceiling {}", e.what), e.allowed);
                None
            }
        });
        let mode = mode?;
        if mode != Mode::Listener && host.is_none() && !self.host_given {
            let at = self.at;
            self.problem(at, format!("a {} needs the host to call.", mode.word()), "Add the host, or make this end the listener.");
        }
        Some(Link::Srt(SrtLink {
            mode,
            host,
            port: port?,
            bind,
            latency,
            passphrase,
            key_bits,
            stream_id: stream_id.map(|s| s.0),
            overhead,
            ceiling,
        }))
    }

    fn mode(&mut self, host: Option<&str>) -> Option<Mode> {
        match self.text("mode") {
            None => Some(if host.is_none() { Mode::Listener } else { Mode::Caller }),
            Some((word, at)) => {
                let mode = Mode::from_word(&word);
                if mode.is_none() {
                    self.problem(at, format!("mode \"{word}\" is unknown."), did_you_mean(&word, &Mode::WORDS));
                }
                mode
            }
        }
    }

    fn bind(&mut self) -> Option<(IpAddr, Option<u16>)> {
        let (text, at) = self.text("bind")?;
        if let Ok(ip) = text.parse::<IpAddr>() {
            return Some((ip, None));
        }
        let (host, port) = split_authority(&text);
        match (host.parse::<IpAddr>(), port.map(str::parse::<u16>)) {
            (Ok(ip), Some(Ok(port))) => Some((ip, Some(port))),
            _ => {
                self.problem(at, format!("bind \"{text}\" is not an address of this machine."), "Write IP or IP:PORT.");
                None
            }
        }
    }

    /// A field that holds a time, up to `most`; `like` shows how one is written, `over` is what is
    /// wrong and what to do when it is longer.
    pub fn time(&mut self, name: &str, like: &str, most: Duration, over: (&str, &str)) -> Option<(Duration, usize)> {
        let (value, at) = self.take(name)?;
        let parsed = match (&value, self.form) {
            // In a URL the trade writes plain milliseconds.
            (Value::Text(t), Form::Url) if t.parse::<u64>().is_ok() => parse_duration(&format!("{t}ms")),
            (Value::Text(t), _) => parse_duration(t),
            (Value::Number(n), _) => {
                self.problem(at, format!("{name} {n} has no unit."), format!("Write \"{n} ms\"."));
                return None;
            }
            _ => {
                self.problem(at, format!("{name} must be a time."), format!("Write it like \"{like}\"."));
                return None;
            }
        };
        match parsed {
            Ok(d) if d <= most => return Some((d, at)),
            Ok(_) => self.problem(at, over.0, over.1),
            Err(e) => self.problem(at, format!("{name} {}", e.what), e.allowed),
        }
        None
    }

    fn latency(&mut self) -> Option<Duration> {
        let over = ("the latency is longer than the handshake can say.", "At most 65535 ms.");
        let (latency, at) = self.time("latency", "120 ms", LATENCY_MAX, over)?;
        if latency < Duration::from_millis(20) {
            self.problems.push(Problem {
                at,
                grade: Grade::Warning,
                what: format!("a latency of {} ms leaves no time to repair a loss.", latency.as_millis()),
                remedy: "Three to four times the round-trip time, at least 20 ms.".into(),
            });
        }
        Some(latency)
    }

    fn key_bits(&mut self, name: &str) -> Option<u16> {
        let (value, at) = self.take(name)?;
        let number = match &value {
            Value::Number(n) => Some(*n),
            Value::Text(t) => t.parse().ok(),
            _ => None,
        };
        let (allowed, bits) = match (self.form, number) {
            (Form::Url, Some(n @ (16 | 24 | 32))) => return Some(n as u16 * 8),
            (Form::Sheet, Some(n @ (128 | 192 | 256))) => return Some(n as u16),
            (Form::Url, n) => ("16, 24 or 32 (bytes)", n),
            (Form::Sheet, n) => ("128, 192 or 256 (bits)", n),
        };
        let shown = bits.map_or_else(|| "that".into(), |n| n.to_string());
        self.problem(at, format!("{name} {shown}: invalid key length."), format!("Allowed: {allowed}."));
        None
    }

    fn passphrase(&mut self) -> Option<Secret> {
        let mut found = Vec::new();
        match self.take("passphrase") {
            Some((Value::Text(t), at)) => {
                let secret = SecretText::new(t);
                if let Some(what) = passphrase_length_problem(secret.reveal().len()) {
                    self.problem(at, what, "It needs 10 to 79.");
                }
                found.push((Secret::Literal(secret), at));
            }
            Some((Value::Secret(s), at)) => found.push((s, at)),
            Some((_, at)) => self.problem(at, "the passphrase must be a text.", "Or { env = \"NAME\" }, or { file = \"PATH\" }."),
            None => {}
        }
        if let Some((name, at)) = self.text("passphrase-env") {
            found.push((Secret::Env(name), at));
        }
        if let Some((path, at)) = self.text("passphrase-file") {
            found.push((Secret::File(path.into()), at));
        }
        if let Some(&(_, at)) = found.get(1) {
            self.problem(at, "the passphrase is given more than once.", "Keep one of them.");
        }
        found.into_iter().next().map(|f| f.0)
    }
}
