//! Links of the local network: RTSP, RTP, and transport streams over UDP, their settings and their
//! checks.

use super::{
    Link, RtpLink, RtspLink, RtspTransport, UdpLink,
    fields::{Collector, Form, Value},
    split_authority,
};
use crate::{
    secret::{Secret, SecretText},
    spelling::did_you_mean,
};
use std::{net::IpAddr, time::Duration};

const SHEET_UDP: &[&str] = &["kind", "host", "port", "source", "interface", "ttl"];
const SHEET_RTP: &[&str] = &["kind", "host", "port", "source", "interface", "ttl", "sdp", "reorder", "damaged"];
const SHEET_RTSP: &[&str] =
    &["kind", "url", "host", "port", "path", "user", "password", "transport", "reorder", "damaged", "interface", "group", "ttl"];
const URL_UDP: &[&str] = &["interface", "ttl"];
const URL_RTP: &[&str] = &["interface", "ttl", "sdp", "reorder", "damaged"];
const URL_RTSP: &[&str] = &["password-env", "password-file", "transport", "reorder", "damaged", "interface", "group", "ttl"];
/// Longest wait for a packet that is out of order.
const REORDER_MAX: Duration = Duration::from_secs(2);

/// What a URL says before its query or fragment.
#[derive(Debug, Default)]
pub(super) struct Place {
    pub source: Option<(String, usize)>,
    pub host: Option<String>,
    pub port: Option<u16>,
    pub path: String,
    pub user: Option<String>,
    pub password: Option<Secret>,
}

impl Collector {
    pub(super) fn udp(&mut self, place: Option<Place>) -> Option<Link> {
        self.known(if self.form() == Form::Url { URL_UDP } else { SHEET_UDP });
        let (host, port, source) = match place {
            Some(p) => (p.host, p.port, self.own_source(p.source)),
            None => (self.host(), self.port(), self.address("source")),
        };
        let (interface, ttl) = (self.address("interface"), self.ttl());
        if port.is_none() && self.form() == Form::Url {
            let at = self.at();
            self.problem(at, "the port is missing.", "Add it behind a colon: host:port.");
        }
        self.group_matters(host.as_deref(), source, interface);
        Some(Link::Udp(UdpLink { host, port: port?, source, interface, ttl }))
    }

    pub(super) fn rtp(&mut self, place: Option<Place>) -> Option<Link> {
        self.known(if self.form() == Form::Url { URL_RTP } else { SHEET_RTP });
        let sdp = self.text("sdp").map(|(p, _)| p.into());
        let (host, port, source) = match place {
            Some(p) => (p.host, p.port, self.own_source(p.source)),
            None => (self.host(), if sdp.is_some() && !self.has("port") { None } else { self.port() }, self.address("source")),
        };
        if port.is_none() && sdp.is_none() {
            let at = self.at();
            self.problem(at, "the port is missing.", "Add it behind a colon: host:port; or the session description: sdp=FILE.");
            return None;
        }
        let (interface, ttl) = (self.address("interface"), self.ttl());
        // With a description the group may stand there.
        if sdp.is_none() || host.is_some() {
            self.group_matters(host.as_deref(), source, interface);
        }
        let (reorder, damaged) = (self.reorder(), self.damaged());
        Some(Link::Rtp(RtpLink { host, port, source, interface, ttl, sdp, reorder, damaged }))
    }

    pub(super) fn rtsp(&mut self, place: Option<Place>) -> Option<Link> {
        self.known(if self.form() == Form::Url { URL_RTSP } else { SHEET_RTSP });
        let mut place = place.unwrap_or_default();
        if self.form() == Form::Sheet {
            match self.text("url") {
                Some((url, at)) => place = self.place_of(&url, at),
                None => {
                    let port = if self.has("port") { self.port() } else { None };
                    let path = self.text("path").map_or_else(String::new, |(p, _)| if p.starts_with('/') { p } else { format!("/{p}") });
                    place = Place { host: self.host(), port, path, ..Place::default() };
                }
            }
            if let Some((user, _)) = self.text("user") {
                place.user = Some(user);
            }
        }
        if let Some(password) = self.password() {
            place.password = Some(password);
        }
        let transport = self.transport();
        let group = self.text("group").and_then(|(text, at)| {
            let (host, port) = split_authority(&text);
            match (host.parse::<IpAddr>(), port.and_then(|p| p.parse::<u16>().ok())) {
                (Ok(ip), Some(port)) if ip.is_multicast() && port > 0 && port % 2 == 0 => Some((ip, port)),
                _ => {
                    self.problem(
                        at,
                        format!("\"{text}\" is not a multicast group with a port."),
                        "Write a multicast address and an even port: 239.1.2.3:6000.",
                    );
                    None
                }
            }
        });
        if place.password.is_some() && place.user.is_none() {
            let at = self.at();
            self.problem(at, "there is a password but no user.", "Add the user: rtsp://user@host/path.");
        }
        Some(Link::Rtsp(RtspLink {
            host: place.host,
            port: place.port,
            path: place.path,
            user: place.user,
            password: place.password,
            transport,
            reorder: self.reorder(),
            damaged: self.damaged(),
            interface: self.address("interface"),
            group,
            ttl: self.ttl(),
        }))
    }

    /// An RTSP URL in a field of a sheet.
    fn place_of(&mut self, url: &str, at: usize) -> Place {
        let rest = url.get(..7).filter(|s| s.eq_ignore_ascii_case("rtsp://")).map(|s| &url[s.len()..]);
        match rest {
            Some(rest) => super::url::rtsp_place(self, rest, at + 7),
            None => {
                self.problem(at, "the url does not start with rtsp://.", "Write the address as the camera shows it: rtsp://host/path.");
                Place::default()
            }
        }
    }

    fn own_source(&mut self, source: Option<(String, usize)>) -> Option<IpAddr> {
        let (text, at) = source?;
        let parsed = text.parse().ok();
        if parsed.is_none() {
            self.problem(at, format!("\"{text}\" is not a source and a group."), "Write SOURCE@GROUP:PORT with both as addresses.");
        }
        parsed
    }

    fn group_matters(&mut self, host: Option<&str>, source: Option<IpAddr>, interface: Option<IpAddr>) {
        let group = host.and_then(|h| h.parse::<IpAddr>().ok()).is_some_and(|ip| ip.is_multicast());
        if !group && source.is_some() {
            let at = self.at();
            self.problem(
                at,
                "a source can only be chosen for a multicast group.",
                "Leave it out, or write a group: 224.0.0.0 to 239.255.255.255.",
            );
        }
        if !group && interface.is_some() {
            let at = self.at();
            self.problem(
                at,
                "an interface can only be chosen for a multicast group.",
                "Leave it out; as FROM the host is the own address.",
            );
        }
    }

    fn address(&mut self, name: &str) -> Option<IpAddr> {
        let (text, at) = self.text(name)?;
        let parsed = text.parse().ok();
        if parsed.is_none() {
            self.problem(at, format!("{name} \"{text}\" is not an IP address."), "Write the address, like 192.168.1.20.");
        }
        parsed
    }

    fn ttl(&mut self) -> Option<u8> {
        let (value, at) = self.take("ttl")?;
        let number = match &value {
            Value::Number(n) => u8::try_from(*n).ok(),
            Value::Text(t) => t.parse().ok(),
            _ => None,
        };
        if number.is_none_or(|n| n == 0) {
            self.problem(at, "ttl is not a number of routers.", "Allowed: 1 to 255; 1 stays on this network.");
        }
        number.filter(|n| *n > 0)
    }

    fn reorder(&mut self) -> Option<Duration> {
        let over = ("reorder is longer than any path needs.", "At most 2 s.");
        self.time("reorder", "40 ms", REORDER_MAX, over).map(|(d, _)| d)
    }

    fn damaged(&mut self) -> bool {
        match self.text("damaged") {
            None => false,
            Some((word, _)) if word == "pass" => true,
            Some((word, _)) if word == "wait" => false,
            Some((word, at)) => {
                self.problem(at, format!("damaged \"{word}\" is unknown."), did_you_mean(&word, &["wait", "pass"]));
                false
            }
        }
    }

    fn transport(&mut self) -> RtspTransport {
        let Some((word, at)) = self.text("transport") else { return RtspTransport::Auto };
        RtspTransport::from_word(&word).unwrap_or_else(|| {
            self.problem(at, format!("transport \"{word}\" is unknown."), did_you_mean(&word, &RtspTransport::WORDS));
            RtspTransport::Auto
        })
    }

    pub(super) fn password(&mut self) -> Option<Secret> {
        self.secret_of("password")
    }

    /// A secret: written out, or where it is.
    pub(super) fn secret_of(&mut self, name: &str) -> Option<Secret> {
        match self.take(name) {
            Some((Value::Text(t), _)) => return Some(Secret::Literal(SecretText::new(t))),
            Some((Value::Secret(s), _)) => return Some(s),
            Some((_, at)) => self.problem(at, format!("the {name} must be a text."), "Or { env = \"NAME\" }, or { file = \"PATH\" }."),
            None => {}
        }
        let env = self.text(&format!("{name}-env")).map(|(n, _)| Secret::Env(n));
        env.or_else(|| self.text(&format!("{name}-file")).map(|(p, _)| Secret::File(p.into())))
    }
}
