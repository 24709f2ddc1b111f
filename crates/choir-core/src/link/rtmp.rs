//! RTMP: a publisher that calls, or a server that is published to; lines that are pulled, and feeds
//! that are served to players.

use super::{
    Link, Mode,
    fields::{Collector, Form},
    lan::Place,
};
use crate::{
    secret::{Secret, SecretText},
    spelling::did_you_mean,
};
use percent_encoding::percent_decode_str;
use std::path::PathBuf;

const SHEET_KEYS: &[&str] =
    &["kind", "url", "mode", "host", "port", "path", "key", "user", "password", "tls", "authority", "certificate", "certificate-key"];
const URL_KEYS: &[&str] = &["mode", "key-env", "key-file", "password-env", "password-file", "authority", "certificate", "certificate-key"];
const MODES: [&str; 2] = [Mode::Caller.word(), Mode::Listener.word()];

/// One end of an RTMP connection.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RtmpLink {
    /// This end waits to be called.
    pub listens: bool,
    /// Whom to call, or the own address to listen at; none listens at all.
    pub host: Option<String>,
    /// 1935, or 443 with TLS, unless given.
    pub port: Option<u16>,
    /// The application: the path before the stream key, without slashes at its ends.
    pub app: String,
    /// The stream key, or the name that is played.
    pub key: Option<Secret>,
    /// User, for servers that ask for one.
    pub user: Option<String>,
    /// The user's password.
    pub password: Option<Secret>,
    /// Within TLS (RTMPS).
    pub tls: bool,
    /// Certificates of the authority that the server's is to be signed by, in place of the usual
    /// ones: a PEM file.
    pub authority: Option<PathBuf>,
    /// What a port within TLS shows: the certificate with those that sign it, and its key, PEM
    /// files.
    pub certificate: Option<(PathBuf, PathBuf)>,
}

impl RtmpLink {
    /// The port unless given.
    pub const PORT: u16 = 1935;
    /// The port with TLS.
    pub const TLS_PORT: u16 = 443;

    /// Its port.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.port.unwrap_or(if self.tls { Self::TLS_PORT } else { Self::PORT })
    }

    /// The address that goes into the field for the server: without the stream key.
    #[must_use]
    pub fn server(&self, host: &str) -> String {
        let usual = if self.tls { Self::TLS_PORT } else { Self::PORT };
        let port = if self.port() == usual { String::new() } else { format!(":{}", self.port()) };
        let host = if host.contains(':') { format!("[{host}]") } else { host.to_owned() };
        format!("{}://{host}{port}/{}", self.scheme(), self.app)
    }

    fn scheme(&self) -> &'static str {
        if self.tls { "rtmps" } else { "rtmp" }
    }
}

/// A path's application and what stands behind it: the last part, with its query.
fn split(path: &str) -> (String, Option<String>) {
    let (place, query) = path.find('?').map_or((path, ""), |at| path.split_at(at));
    let place = place.trim_matches('/');
    match place.rsplit_once('/') {
        Some((app, name)) if !name.is_empty() => (app.to_owned(), Some(format!("{name}{query}"))),
        _ => (place.to_owned(), None),
    }
}

impl Collector {
    pub(super) fn rtmp(&mut self, place: Option<Place>, tls: bool) -> Option<Link> {
        self.known(if self.form() == Form::Url { URL_KEYS } else { SHEET_KEYS });
        let (mut place, mut tls) = (place.unwrap_or_default(), tls);
        if self.form() == Form::Sheet {
            match self.text("url") {
                Some((url, at)) => {
                    let rest = ["rtmp://", "rtmps://"].into_iter().find_map(|scheme| url.strip_prefix(scheme).map(|rest| (scheme, rest)));
                    match rest {
                        Some((scheme, rest)) => {
                            tls |= scheme == "rtmps://";
                            place = super::url::rtsp_place(self, rest, at + scheme.len());
                        }
                        None => self.problem(at, "the url does not start with rtmp:// or rtmps://.", "Write it as the platform shows it."),
                    }
                }
                None => {
                    let port = if self.has("port") { self.port() } else { None };
                    let path = self.text("path").map_or_else(String::new, |(p, _)| p);
                    place = Place { host: self.host(), port, path, ..Place::default() };
                }
            }
            tls |= self.flag("tls");
            if let Some((user, _)) = self.text("user") {
                place.user = Some(user);
            }
        }
        let at = self.at();
        let key = self.secret_of("key").filter(|k| !matches!(k, Secret::Literal(text) if text.reveal().is_empty()));
        // Without a key of its own the last part of the path is the key, as platforms join them.
        let (app, key) = match key {
            Some(key) => (place.path.trim_matches('/').to_owned(), Some(key)),
            None => {
                let (app, name) = split(&place.path);
                let decoded = name.map(|n| percent_decode_str(&n).decode_utf8_lossy().into_owned());
                (app, decoded.map(|n| Secret::Literal(SecretText::new(n))))
            }
        };
        if let Some(password) = self.password() {
            place.password = Some(password);
        }
        let listens = match self.text("mode") {
            None => place.host.is_none(),
            Some((word, _)) if word == MODES[1] => true,
            Some((word, _)) if word == MODES[0] => false,
            Some((word, at)) => {
                self.problem(at, format!("mode \"{word}\" is unknown."), did_you_mean(&word, &MODES));
                false
            }
        };
        if !listens && place.host.is_none() {
            self.problem(at, "a caller needs the host to call.", "Add the host, or make this end the listener.");
        }
        if app.is_empty() {
            self.problem(at, "the path is missing.", "Write rtmp://HOST/PATH and the stream key: the path is the first part, like live.");
        }
        if key.is_none() && !app.is_empty() {
            self.problem(at, "the stream key is missing.", "Write it behind the path (rtmp://HOST/PATH/KEY), or key = { env = \"NAME\" }.");
        }
        if place.password.is_some() != place.user.is_some() {
            self.problem(at, "a user needs a password, and a password a user.", "Write both, or neither.");
        }
        let certificate = match (self.text("certificate"), self.text("certificate-key")) {
            (Some((certificate, _)), Some((key, _))) => Some((PathBuf::from(certificate), PathBuf::from(key))),
            (None, None) => None,
            _ => {
                self.problem(at, "a certificate needs its key, and a key its certificate.", "Write both: certificate and certificate-key.");
                None
            }
        };
        if listens && tls && certificate.is_none() {
            self.problem(
                at,
                "a listener for RTMPS shows a certificate.",
                "Add certificate = \"FILE.pem\" and certificate-key = \"FILE.pem\".",
            );
        }
        if certificate.is_some() && !(listens && tls) {
            self.problem(at, "only a listener for RTMPS shows a certificate.", "Write tls = true, or leave it out.");
        }
        let authority = self.text("authority").map(|(path, _)| path.into());
        let Place { host, port, user, password, .. } = place;
        Some(Link::Rtmp(RtmpLink { listens, host, port, app, key, user, password, tls, authority, certificate }))
    }
}

/// As a URL, without its key where that is written out.
pub(super) fn show(r: &RtmpLink, host: &str, add: fn(&mut String, char, &str, &str)) -> String {
    let port = r.port.map_or_else(String::new, |p| format!(":{p}"));
    let user = r.user.as_ref().map_or_else(String::new, |u| format!("{u}@"));
    let mut url = format!("{}://{user}{host}{port}/{}", r.scheme(), r.app);
    if r.listens != r.host.is_none() {
        add(&mut url, '#', "mode", MODES[usize::from(r.listens)]);
    }
    for (word, secret) in [("key", &r.key), ("password", &r.password)] {
        match secret {
            Some(Secret::Env(name)) => add(&mut url, '#', &format!("{word}-env"), name),
            Some(Secret::File(path)) => add(&mut url, '#', &format!("{word}-file"), &path.display().to_string()),
            Some(Secret::Literal(_)) | None => {}
        }
    }
    if let Some((certificate, key)) = &r.certificate {
        add(&mut url, '#', "certificate", &certificate.display().to_string());
        add(&mut url, '#', "certificate-key", &key.display().to_string());
    }
    if let Some(path) = &r.authority {
        add(&mut url, '#', "authority", &path.display().to_string());
    }
    url
}

#[cfg(test)]
mod tests {
    use crate::link::{Link, parse_url, show_url};

    fn read(url: &str) -> Result<(bool, u16, String, String), Vec<String>> {
        match parse_url(url) {
            (Some(Link::Rtmp(r)), _) => {
                let key = if let Some(crate::secret::Secret::Literal(k)) = &r.key { k.reveal().to_owned() } else { format!("{:?}", r.key) };
                Ok((r.listens, r.port(), r.app, key))
            }
            (_, problems) => Err(problems.into_iter().map(|p| p.what).collect()),
        }
    }

    #[test]
    fn joined_and_separate_keys_are_read_and_written_out_ones_never_shown() {
        let own = |t: &str| t.to_owned();
        assert_eq!(read("rtmp://platform/live/abc?part=2"), Ok((false, 1935, own("live"), own("abc?part=2"))));
        assert_eq!(read("rtmps://platform:444/a/b/c"), Ok((false, 444, own("a/b"), own("c"))));
        assert_eq!(read("rtmps://platform/a/c").map(|r| r.1), Ok(443));
        assert_eq!(read("rtmp://:1940/in/regatta#key-env=K"), Ok((true, 1940, own("in/regatta"), own("Some(Env(\"K\"))"))));
        let shown = |url: &str| show_url(&parse_url(url).0.expect(url));
        assert_eq!(shown("rtmp://platform/live/abc"), "rtmp://platform/live");
        for url in [
            "rtmp://:1940/in#key-env=K",
            "rtmp://127.20.0.1/in#mode=listener&key-file=k.txt",
            "rtmps://desk@p/live#key-env=K&password-env=P",
            "rtmps://:1940/in#key-env=K&certificate=c.pem&certificate-key=k.pem",
        ] {
            assert_eq!(shown(url), url);
        }
    }

    #[test]
    fn what_is_missing_is_told() {
        for (url, says) in [
            ("rtmp://platform", "the path is missing."),
            ("rtmp://platform/live", "the stream key is missing."),
            ("rtmp:///live/key#mode=caller", "a caller needs the host to call."),
            ("rtmp://platform/live/key#mode=rendezvous", "mode \"rendezvous\" is unknown."),
            ("rtmps://:1935/live/key", "a listener for RTMPS shows a certificate."),
            ("rtmps://:1935/live/key#certificate=c.pem", "a certificate needs its key, and a key its certificate."),
            ("rtmp://:1935/live/key#certificate=c.pem&certificate-key=k.pem", "only a listener for RTMPS shows a certificate."),
            ("rtmp://desk@platform/live/key", "a user needs a password, and a password a user."),
        ] {
            let found = read(url).expect_err(url);
            assert!(found.iter().any(|f| f == says), "{url}: {found:?}");
        }
    }
}
