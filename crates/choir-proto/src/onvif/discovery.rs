//! WS-Discovery (April 2005), as ONVIF uses it: `Probe`, `ProbeMatches`, `Hello`, `Bye` over UDP.

use super::{
    device::plain,
    xml::{self, Element},
};
use percent_encoding::percent_decode_str;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

/// Where devices listen.
pub const GROUP: SocketAddr = SocketAddr::new(IpAddr::V4(Ipv4Addr::new(239, 255, 255, 250)), 3702);
/// Addresses and scopes that are kept of one device.
const KEPT_MAX: usize = 32;
/// Longest datagram that is read.
const DATAGRAM_MAX: usize = 32 * 1024;

const SPACES: &str = "xmlns:s=\"http://www.w3.org/2003/05/soap-envelope\" \
    xmlns:a=\"http://schemas.xmlsoap.org/ws/2004/08/addressing\" \
    xmlns:d=\"http://schemas.xmlsoap.org/ws/2005/04/discovery\" \
    xmlns:dn=\"http://www.onvif.org/ver10/network/wsdl\"";

/// A device that has spoken.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Announcement {
    /// Its lasting name, mostly a UUID.
    pub endpoint: String,
    /// Addresses of its device service.
    pub addresses: Vec<String>,
    /// What it says of itself: `onvif://www.onvif.org/name/...`.
    pub scopes: Vec<String>,
    /// It leaves.
    pub leaving: bool,
}

impl Announcement {
    /// What stands behind this word in the scopes: `name`, `hardware`, `location`.
    #[must_use]
    pub fn scope(&self, word: &str) -> Option<String> {
        let start = format!("onvif://www.onvif.org/{word}/");
        let value = self.scopes.iter().find_map(|s| s.strip_prefix(&start))?;
        Some(plain(&percent_decode_str(value).decode_utf8_lossy())).filter(|v| !v.is_empty())
    }
}

fn message(action: &str, id: &str, relates: Option<&str>, body: &str) -> String {
    let relates = relates.map_or_else(String::new, |r| format!("<a:RelatesTo>{}</a:RelatesTo>", xml::escape(r)));
    let to = if relates.is_empty() {
        "urn:schemas-xmlsoap-org:ws:2005:04:discovery"
    } else {
        "http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous"
    };
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?><s:Envelope {SPACES}><s:Header>\
         <a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/{action}</a:Action>\
         <a:MessageID>{id}</a:MessageID>{relates}<a:To>{to}</a:To></s:Header><s:Body>{body}</s:Body></s:Envelope>"
    )
}

/// `urn:uuid:` of 16 random bytes (RFC 9562, version 4).
#[must_use]
pub fn message_id(mut random: [u8; 16]) -> String {
    random[6] = random[6] & 0x0F | 0x40;
    random[8] = random[8] & 0x3F | 0x80;
    let hex = hex::encode(random);
    format!("urn:uuid:{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

/// Asks who is there.
#[must_use]
pub fn probe(id: &str) -> String {
    message("Probe", id, None, "<d:Probe><d:Types>dn:NetworkVideoTransmitter</d:Types></d:Probe>")
}

/// The number of a question, when this is one.
#[must_use]
pub fn read_probe(datagram: &[u8]) -> Option<String> {
    let envelope = read(datagram)?;
    envelope.at("Body/Probe")?;
    envelope.text_at("Header/MessageID").map(str::to_owned)
}

/// A device's answer to a question, or its word on arrival without one.
#[must_use]
pub fn announce(a: &Announcement, id: &str, relates: Option<&str>) -> String {
    let inside = format!(
        "<a:EndpointReference><a:Address>{}</a:Address></a:EndpointReference><d:Types>dn:NetworkVideoTransmitter</d:Types>\
         <d:Scopes>{}</d:Scopes><d:XAddrs>{}</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion>",
        xml::escape(&a.endpoint),
        xml::escape(&a.scopes.join(" ")),
        xml::escape(&a.addresses.join(" "))
    );
    match (relates, a.leaving) {
        (Some(_), _) => {
            message("ProbeMatches", id, relates, &format!("<d:ProbeMatches><d:ProbeMatch>{inside}</d:ProbeMatch></d:ProbeMatches>"))
        }
        (None, false) => message("Hello", id, None, &format!("<d:Hello>{inside}</d:Hello>")),
        (None, true) => message("Bye", id, None, &format!("<d:Bye>{inside}</d:Bye>")),
    }
}

fn read(datagram: &[u8]) -> Option<Element> {
    if datagram.len() > DATAGRAM_MAX { None } else { xml::read(datagram).ok() }
}

/// Reads what devices say; nothing from what is something else.
#[must_use]
pub fn read_announcements(datagram: &[u8]) -> Vec<Announcement> {
    let Some(envelope) = read(datagram) else { return Vec::new() };
    let Some(body) = envelope.child("Body").and_then(|b| b.children.first()) else { return Vec::new() };
    let list = |e: &Element, name: &str| -> Vec<String> {
        e.text_at(name).unwrap_or_default().split_whitespace().take(KEPT_MAX).map(|w| w.chars().take(300).collect()).collect()
    };
    let one = |e: &Element| Announcement {
        endpoint: e.text_at("EndpointReference/Address").map(plain).unwrap_or_default(),
        addresses: list(e, "XAddrs"),
        scopes: list(e, "Scopes"),
        leaving: body.name == "Bye",
    };
    match body.name.as_str() {
        "ProbeMatches" => body.all("ProbeMatch").take(KEPT_MAX).map(one).collect(),
        "Hello" | "Bye" => vec![one(body)],
        _ => Vec::new(),
    }
}
