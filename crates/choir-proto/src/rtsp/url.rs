//! RTSP addresses, without credentials: those travel apart.

use std::fmt;

/// `rtsp://host[:port]/path?query`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RtspUrl {
    /// Name or address; IPv6 without brackets.
    pub host: String,
    /// 554 when not given.
    pub port: u16,
    /// Begins with a slash, or is empty.
    pub path: String,
}

/// Why a text is no RTSP address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum UrlError {
    /// Another scheme.
    #[error("it does not start with rtsp://")]
    Scheme,
    /// No host.
    #[error("it has no host")]
    Host,
    /// Port out of range.
    #[error("its port is not a number from 1 to 65535")]
    Port,
}

/// The standard port.
pub(super) const PORT: u16 = 554;

impl RtspUrl {
    /// Reads an address; a user and password in it are left out.
    ///
    /// # Errors
    /// It is something else.
    pub fn parse(text: &str) -> Result<Self, UrlError> {
        let text = text.trim();
        let scheme = text.get(..7).filter(|s| s.eq_ignore_ascii_case("rtsp://")).ok_or(UrlError::Scheme)?;
        let rest = &text[scheme.len()..];
        let (authority, path) = rest.find(['/', '?']).map_or((rest, ""), |i| rest.split_at(i));
        let place = authority.rsplit_once('@').map_or(authority, |(_, p)| p);
        let (host, port) = match place.strip_prefix('[').and_then(|p| p.split_once(']')) {
            Some((host, after)) => (host, after.strip_prefix(':')),
            None => place.split_once(':').map_or((place, None), |(h, p)| (h, Some(p))),
        };
        if host.is_empty() {
            return Err(UrlError::Host);
        }
        let port = match port {
            None | Some("") => PORT,
            Some(p) => p.parse().ok().filter(|p| *p > 0).ok_or(UrlError::Port)?,
        };
        let path = if path.starts_with('?') { format!("/{path}") } else { path.to_owned() };
        Ok(Self { host: host.to_owned(), port, path })
    }

    /// `host:port`.
    #[must_use]
    pub fn authority(&self) -> String {
        if self.host.contains(':') { format!("[{}]:{}", self.host, self.port) } else { format!("{}:{}", self.host, self.port) }
    }

    /// Where a control attribute leads, from this base: absolute, `*`, or appended behind a slash,
    /// which is what devices mean even where the base has a query.
    #[must_use]
    pub fn control(base: &str, control: Option<&str>) -> String {
        match control.map(str::trim) {
            None | Some("" | "*") => base.to_owned(),
            Some(c) if c.get(..7).is_some_and(|s| s.eq_ignore_ascii_case("rtsp://")) => c.to_owned(),
            Some(c) => format!("{}/{}", base.trim_end_matches('/'), c.trim_start_matches('/')),
        }
    }
}

impl fmt::Display for RtspUrl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let host = if self.host.contains(':') { format!("[{}]", self.host) } else { self.host.clone() };
        if self.port == PORT { write!(f, "rtsp://{host}{}", self.path) } else { write!(f, "rtsp://{host}:{}{}", self.port, self.path) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_and_written() {
        for (text, host, port, path, shown) in [
            ("rtsp://127.20.0.11/main", "127.20.0.11", 554, "/main", "rtsp://127.20.0.11/main"),
            ("RTSP://u:p@w@cam:8554/s?a=1&b", "cam", 8554, "/s?a=1&b", "rtsp://cam:8554/s?a=1&b"),
            ("rtsp://[::1]:600?x", "::1", 600, "/?x", "rtsp://[::1]:600/?x"),
            ("rtsp://cam", "cam", 554, "", "rtsp://cam"),
        ] {
            let url = RtspUrl::parse(text).expect(text);
            assert_eq!((url.host.as_str(), url.port, url.path.as_str()), (host, port, path));
            assert_eq!(url.to_string(), shown);
        }
        assert_eq!(RtspUrl::parse("http://x"), Err(UrlError::Scheme));
        assert_eq!(RtspUrl::parse("rtsp:///x"), Err(UrlError::Host));
        assert_eq!(RtspUrl::parse("rtsp://h:99999/"), Err(UrlError::Port));
    }

    #[test]
    fn controls_lead_where_devices_mean() {
        for (base, control, leads) in [
            ("rtsp://h/main", Some("track1"), "rtsp://h/main/track1"),
            ("rtsp://h/main/", Some("track1"), "rtsp://h/main/track1"),
            ("rtsp://h/main?p=1", Some("trackID=2"), "rtsp://h/main?p=1/trackID=2"),
            ("rtsp://h/main", Some("rtsp://h:554/x/track1"), "rtsp://h:554/x/track1"),
            ("rtsp://h/main", Some("*"), "rtsp://h/main"),
            ("rtsp://h/main", None, "rtsp://h/main"),
        ] {
            assert_eq!(RtspUrl::control(base, control), leads);
        }
    }
}
