//! Who asks, in RTSP and HTTP: Basic and Digest (RFC 7617, RFC 7616) with MD5 and SHA-256, both
//! ends of it.

use base64::{Engine, prelude::BASE64_STANDARD};
use md5::{Digest, Md5};
use sha2::Sha256;
use std::fmt;
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// A user and a password. The password is never shown, and wiped on drop.
#[derive(Clone, PartialEq, Eq)]
pub struct Credentials {
    /// User.
    pub user: String,
    password: Zeroizing<String>,
}

impl Credentials {
    /// A pair.
    #[must_use]
    pub fn new(user: impl Into<String>, password: impl Into<String>) -> Self {
        Self { user: user.into(), password: Zeroizing::new(password.into()) }
    }

    /// The proof that goes into an ONVIF message, made at the device's time (µs since 1970).
    #[must_use]
    pub fn token(&self, device_unix_us: i64, nonce: [u8; 16]) -> crate::onvif::Token {
        crate::onvif::Token::new(&self.user, &self.password, device_unix_us, nonce)
    }

    /// Whether an ONVIF message was made by this user, and when (µs since 1970).
    #[must_use]
    pub fn proved_by(&self, token: &crate::onvif::Token) -> Option<i64> {
        token.proves(&self.user, &self.password)
    }

    /// This user with another password.
    #[must_use]
    pub fn with_password(&self, password: &str) -> Self {
        Self::new(self.user.clone(), password)
    }
}

impl fmt::Debug for Credentials {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Credentials({}, hidden)", self.user)
    }
}

/// How to prove it, best last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Scheme {
    /// The password itself, encoded.
    Basic,
    /// Digest with MD5.
    Md5,
    /// Digest with MD5 over the session.
    Md5Session,
    /// Digest with SHA-256.
    Sha256,
    /// Digest with SHA-256 over the session.
    Sha256Session,
}

impl fmt::Display for Scheme {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Basic => "Basic",
            Self::Md5 => "Digest with MD5",
            Self::Md5Session => "Digest with MD5-sess",
            Self::Sha256 => "Digest with SHA-256",
            Self::Sha256Session => "Digest with SHA-256-sess",
        })
    }
}

/// One way that a server offers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Challenge {
    /// Scheme.
    pub scheme: Scheme,
    /// What the credentials are for.
    pub realm: String,
    /// The server's number.
    pub nonce: String,
    /// To be sent back.
    pub opaque: Option<String>,
    /// The proof covers a counter.
    pub qop: bool,
    /// Only the number was old; the credentials were right.
    pub stale: bool,
}

/// What a server finds in a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It is the user.
    Right,
    /// Right but for an old number.
    Stale,
    /// No proof at all.
    Absent,
    /// A wrong proof.
    Wrong,
}

/// All ways in these `WWW-Authenticate` headers that can be taken, best first.
pub fn challenges<'a>(headers: impl Iterator<Item = &'a str>) -> Vec<Challenge> {
    let mut found: Vec<Challenge> = headers.flat_map(split_challenges).filter_map(|(word, fields)| challenge(&word, &fields)).collect();
    found.sort_by_key(|c| std::cmp::Reverse(c.scheme));
    found
}

type Fields = Vec<(String, String)>;

/// Several challenges may stand in one header: a word without `=` begins the next.
fn split_challenges(header: &str) -> Vec<(String, Fields)> {
    let mut all: Vec<(String, Fields)> = Vec::new();
    for mut part in split_list(header) {
        let first = part.split([' ', '\t', '=']).next().unwrap_or_default();
        if let Some(rest) = part.strip_prefix(first).map(str::trim_start).filter(|r| !r.starts_with('=') || r.is_empty()) {
            all.push((first.to_owned(), Vec::new()));
            part = rest;
        }
        if let (Some((name, value)), Some((_, fields))) = (part.split_once('='), all.last_mut()) {
            fields.push((name.trim().to_ascii_lowercase(), unquote(value.trim())));
        }
    }
    all
}

/// Splits at commas outside quotes.
fn split_list(text: &str) -> Vec<&str> {
    let (mut parts, mut start, mut quoted, mut escaped) = (Vec::new(), 0, false, false);
    for (i, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            '"' => quoted = !quoted,
            ',' if !quoted => {
                parts.push(text[start..i].trim());
                start = i + 1;
            }
            _ => {}
        }
    }
    parts.push(text[start..].trim());
    parts.retain(|p| !p.is_empty());
    parts
}

fn unquote(value: &str) -> String {
    match value.strip_prefix('"').and_then(|v| v.strip_suffix('"')) {
        Some(inner) => inner.replace("\\\"", "\"").replace("\\\\", "\\"),
        None => value.to_owned(),
    }
}

fn quote(value: &str) -> String {
    let plain: String = value.chars().filter(|c| !c.is_control()).collect();
    plain.replace('\\', "\\\\").replace('"', "\\\"")
}

fn field<'a>(fields: &'a Fields, name: &str) -> Option<&'a str> {
    fields.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
}

fn challenge(word: &str, fields: &Fields) -> Option<Challenge> {
    let realm = field(fields, "realm").unwrap_or_default().to_owned();
    if word.eq_ignore_ascii_case("basic") {
        return Some(Challenge { scheme: Scheme::Basic, realm, nonce: String::new(), opaque: None, qop: false, stale: false });
    }
    if !word.eq_ignore_ascii_case("digest") {
        return None;
    }
    let scheme = scheme(field(fields, "algorithm"))?;
    let qops = field(fields, "qop");
    let qop = qops.is_some_and(|q| q.split(',').any(|w| w.trim().eq_ignore_ascii_case("auth")));
    if qops.is_some_and(|q| !q.trim().is_empty()) && !qop {
        return None;
    }
    Some(Challenge {
        scheme,
        realm,
        nonce: field(fields, "nonce")?.to_owned(),
        opaque: field(fields, "opaque").map(str::to_owned),
        qop,
        stale: field(fields, "stale").is_some_and(|s| s.eq_ignore_ascii_case("true")),
    })
}

fn scheme(algorithm: Option<&str>) -> Option<Scheme> {
    Some(match algorithm.unwrap_or("MD5").to_ascii_uppercase().as_str() {
        "MD5" | "" => Scheme::Md5,
        "MD5-SESS" => Scheme::Md5Session,
        "SHA-256" => Scheme::Sha256,
        "SHA-256-SESS" => Scheme::Sha256Session,
        _ => return None,
    })
}

fn hash(scheme: Scheme, text: &str) -> String {
    match scheme {
        Scheme::Sha256 | Scheme::Sha256Session => hex::encode(Sha256::digest(text.as_bytes())),
        _ => hex::encode(Md5::digest(text.as_bytes())),
    }
}

/// What both ends compute.
struct Proof<'a> {
    scheme: Scheme,
    realm: &'a str,
    nonce: &'a str,
    /// Counter, with `qop`.
    count: Option<&'a str>,
    /// The client's number.
    cnonce: &'a str,
    method: &'a str,
    uri: &'a str,
}

impl Proof<'_> {
    fn compute(&self, c: &Credentials) -> String {
        let mut first = hash(self.scheme, &format!("{}:{}:{}", c.user, self.realm, *c.password));
        if matches!(self.scheme, Scheme::Md5Session | Scheme::Sha256Session) {
            first = hash(self.scheme, &format!("{first}:{}:{}", self.nonce, self.cnonce));
        }
        let second = hash(self.scheme, &format!("{}:{}", self.method, self.uri));
        let (nonce, cnonce) = (self.nonce, self.cnonce);
        match self.count {
            Some(count) => hash(self.scheme, &format!("{first}:{nonce}:{count}:{cnonce}:auth:{second}")),
            None => hash(self.scheme, &format!("{first}:{nonce}:{second}")),
        }
    }
}

impl Challenge {
    /// The `Authorization` header that answers it. `count` counts uses of the nonce from 1,
    /// `cnonce` is random.
    #[must_use]
    pub fn answer(&self, c: &Credentials, method: &str, uri: &str, count: u32, cnonce: &str) -> String {
        if self.scheme == Scheme::Basic {
            return format!("Basic {}", BASE64_STANDARD.encode(format!("{}:{}", c.user, *c.password)));
        }
        let count = format!("{count:08x}");
        let counted = self.qop.then_some(count.as_str());
        let proof = Proof { scheme: self.scheme, realm: &self.realm, nonce: &self.nonce, count: counted, cnonce, method, uri };
        let response = proof.compute(c);
        let mut text = format!(
            "Digest username=\"{}\", realm=\"{}\", nonce=\"{}\", uri=\"{}\", response=\"{response}\"",
            quote(&c.user),
            quote(&self.realm),
            quote(&self.nonce),
            quote(uri)
        );
        let algorithm = match self.scheme {
            Scheme::Md5 | Scheme::Basic => None,
            Scheme::Md5Session => Some("MD5-sess"),
            Scheme::Sha256 => Some("SHA-256"),
            Scheme::Sha256Session => Some("SHA-256-sess"),
        };
        if let Some(a) = algorithm {
            text += &format!(", algorithm={a}");
        }
        if let Some(count) = counted {
            text += &format!(", qop=auth, nc={count}");
        }
        if self.qop || matches!(self.scheme, Scheme::Md5Session | Scheme::Sha256Session) {
            text += &format!(", cnonce=\"{cnonce}\"");
        }
        if let Some(opaque) = &self.opaque {
            text += &format!(", opaque=\"{}\"", quote(opaque));
        }
        text
    }

    /// The header that offers it.
    #[must_use]
    pub fn header(&self) -> String {
        if self.scheme == Scheme::Basic {
            return format!("Basic realm=\"{}\"", quote(&self.realm));
        }
        let algorithm = if matches!(self.scheme, Scheme::Sha256 | Scheme::Sha256Session) { "SHA-256" } else { "MD5" };
        let stale = if self.stale { ", stale=true" } else { "" };
        let qop = if self.qop { ", qop=\"auth\"" } else { "" };
        format!("Digest realm=\"{}\", nonce=\"{}\", algorithm={algorithm}{qop}{stale}", quote(&self.realm), self.nonce)
    }

    /// Judges an `Authorization` header by the credentials wanted; `old` tells numbers that have
    /// been ours.
    #[must_use]
    pub fn judge(&self, header: Option<&str>, c: &Credentials, method: &str, uri: &str, old: impl Fn(&str) -> bool) -> Verdict {
        let Some(header) = header else { return Verdict::Absent };
        if let Some(encoded) = header.strip_prefix("Basic ") {
            let expected = BASE64_STANDARD.encode(format!("{}:{}", c.user, *c.password));
            let right = self.scheme == Scheme::Basic && bool::from(expected.as_bytes().ct_eq(encoded.trim().as_bytes()));
            return if right { Verdict::Right } else { Verdict::Wrong };
        }
        let parts = split_challenges(header);
        let Some((_, f)) = parts.first().filter(|(w, _)| w.eq_ignore_ascii_case("digest")) else { return Verdict::Wrong };
        let get = |name| field(f, name).unwrap_or_default();
        if scheme(field(f, "algorithm")) != Some(self.scheme) {
            return Verdict::Wrong;
        }
        let count = field(f, "qop").filter(|q| *q == "auth").map(|_| get("nc"));
        let nonce = get("nonce");
        // A proof without the address asked for could be taken from another request; devices differ
        // in how they write it, so the path must end alike.
        let same = uri.trim_end_matches('/').ends_with(path_of(get("uri")).trim_end_matches('/'));
        let proof = Proof { scheme: self.scheme, realm: &self.realm, nonce, count, cnonce: get("cnonce"), method, uri: get("uri") };
        let right = bool::from(proof.compute(c).as_bytes().ct_eq(get("response").as_bytes()));
        let user = bool::from(get("username").as_bytes().ct_eq(c.user.as_bytes()));
        match (right && user && same, nonce == self.nonce) {
            (true, true) => Verdict::Right,
            (true, false) if old(nonce) => Verdict::Stale,
            _ => Verdict::Wrong,
        }
    }
}

/// The path of an address, or the whole of what is a path already.
fn path_of(uri: &str) -> &str {
    match uri.split_once("://") {
        Some((_, rest)) => rest.find('/').map_or("", |i| &rest[i..]),
        None if uri.starts_with('/') => uri,
        None => "",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The examples of RFC 7616, 3.9.1 (which are of HTTP).
    #[test]
    fn the_published_examples_come_out() {
        let header = "Digest realm=\"http-auth@example.org\", qop=\"auth, auth-int\", algorithm=SHA-256, \
            nonce=\"7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v\", opaque=\"FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS\", \
            Digest realm=\"http-auth@example.org\", qop=\"auth, auth-int\", algorithm=MD5, \
            nonce=\"7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v\", Basic realm=\"x\"";
        let found = challenges([header].into_iter());
        assert_eq!(found.iter().map(|c| c.scheme).collect::<Vec<_>>(), [Scheme::Sha256, Scheme::Md5, Scheme::Basic]);
        let c = Credentials::new("Mufasa", "Circle of Life");
        let cnonce = "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ";
        // Of those over the session it has none: these were computed by another program.
        let session = |scheme| Challenge { scheme, ..found[0].clone() };
        for (challenge, response) in [
            (&found[0], "753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"),
            (&found[1], "8ca523f5e9506fed4657c9700eebdbec"),
            (&session(Scheme::Sha256Session), "2fd51b3a77ad75bad6afad6003e818d767133c46d9e2749e7f5232ae1ea3efd7"),
            (&session(Scheme::Md5Session), "e783283f46242139c486a698fec7211d"),
        ] {
            let answer = challenge.answer(&c, "GET", "/dir/index.html", 1, cnonce);
            assert!(answer.contains(&format!("response=\"{response}\"")), "{answer}");
        }
    }

    #[test]
    fn what_cannot_be_proved_here_is_not_answered() {
        // The body too is to be proved; and a hash that is not known.
        let unknown = ["Digest realm=\"x\", nonce=\"n\", qop=\"auth-int\"", "Digest realm=\"x\", nonce=\"n\", algorithm=SHA-512-256"];
        assert_eq!(challenges(unknown.into_iter()), []);
        // An empty list is as good as none (RFC 2617, 3.2.1).
        let empty = challenges(["Digest realm=\"x\", nonce=\"n\", qop=\"\""].into_iter());
        assert_eq!(empty.iter().map(|c| c.qop).collect::<Vec<_>>(), [false]);
    }

    #[test]
    fn a_server_knows_its_user_and_nobody_else() {
        let c = Credentials::new("umpire", "three strokes \"back\"");
        for scheme in [Scheme::Basic, Scheme::Md5, Scheme::Sha256] {
            for qop in [false, true] {
                let offered = Challenge { scheme, realm: "Tarn Hollow".into(), nonce: "n1".into(), opaque: None, qop, stale: false };
                let read = challenges([offered.header().as_str()].into_iter()).remove(0);
                assert_eq!(read, Challenge { qop: qop && scheme != Scheme::Basic, nonce: read.nonce.clone(), ..offered.clone() });
                let judge = |header: Option<&str>, uri: &str| offered.judge(header, &c, "SETUP", uri, |n| n == "n0");
                let uri = "rtsp://127.20.0.11/main/track1";
                let answer = read.answer(&c, "SETUP", uri, 3, "abc");
                assert_eq!(judge(Some(&answer), uri), Verdict::Right, "{answer}");
                assert_eq!(judge(None, uri), Verdict::Absent);
                assert_eq!(judge(Some(&read.answer(&Credentials::new("umpire", "x"), "SETUP", uri, 1, "a")), uri), Verdict::Wrong);
                if scheme != Scheme::Basic {
                    assert_eq!(judge(Some(&answer), "rtsp://127.20.0.11/other"), Verdict::Wrong);
                    let old = Challenge { nonce: "n0".into(), ..read.clone() }.answer(&c, "SETUP", uri, 1, "a");
                    assert_eq!(judge(Some(&old), uri), Verdict::Stale);
                }
                for junk in ["", "Digest", "Digest username=\"", "Basic", "Basic ====", "Bearer x"] {
                    assert_eq!(judge(Some(junk), uri), Verdict::Wrong, "{junk}");
                }
            }
        }
        assert_eq!(format!("{c:?}"), "Credentials(umpire, hidden)");
    }
}
