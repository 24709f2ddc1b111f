//! The `Transport` header (RFC 2326, 12.39).

use std::net::IpAddr;

/// How packets travel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Delivery {
    /// UDP to one.
    Udp,
    /// UDP to a group.
    Multicast,
    /// Between the messages of the connection.
    Tcp,
}

/// One offer or answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Transport {
    /// How.
    pub delivery: Delivery,
    /// Ports of the receiver.
    pub client_port: Option<(u16, u16)>,
    /// Ports of the sender.
    pub server_port: Option<(u16, u16)>,
    /// Ports of a group.
    pub port: Option<(u16, u16)>,
    /// Channels of the connection.
    pub interleaved: Option<(u8, u8)>,
    /// Where to.
    pub destination: Option<IpAddr>,
    /// Where from.
    pub source: Option<IpAddr>,
    /// Routers to pass.
    pub ttl: Option<u8>,
    /// The sender.
    pub ssrc: Option<u32>,
}

impl Transport {
    /// One with nothing settled.
    #[must_use]
    pub const fn new(delivery: Delivery) -> Self {
        Self {
            delivery,
            client_port: None,
            server_port: None,
            port: None,
            interleaved: None,
            destination: None,
            source: None,
            ttl: None,
            ssrc: None,
        }
    }
}

impl std::fmt::Display for Transport {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self.delivery {
            Delivery::Udp => "RTP/AVP;unicast",
            Delivery::Multicast => "RTP/AVP;multicast",
            Delivery::Tcp => "RTP/AVP/TCP;unicast",
        })?;
        if let Some(d) = self.destination {
            write!(f, ";destination={d}")?;
        }
        if let Some(s) = self.source {
            write!(f, ";source={s}")?;
        }
        for (name, pair) in [("client_port", self.client_port), ("server_port", self.server_port), ("port", self.port)] {
            if let Some((a, b)) = pair {
                write!(f, ";{name}={a}-{b}")?;
            }
        }
        if let Some((a, b)) = self.interleaved {
            write!(f, ";interleaved={a}-{b}")?;
        }
        if let Some(ttl) = self.ttl {
            write!(f, ";ttl={ttl}")?;
        }
        if let Some(ssrc) = self.ssrc {
            write!(f, ";ssrc={ssrc:08X}")?;
        }
        Ok(())
    }
}

/// All transports of a header that can be understood, in order of preference.
#[must_use]
pub fn parse_transports(header: &str) -> Vec<Transport> {
    header.split(',').filter_map(parse_one).collect()
}

fn parse_one(text: &str) -> Option<Transport> {
    let mut fields = text.split(';').map(str::trim);
    let profile = fields.next()?.to_ascii_uppercase();
    let mut t = match profile.as_str() {
        "RTP/AVP" | "RTP/AVP/UDP" => Transport::new(Delivery::Udp),
        "RTP/AVP/TCP" => Transport::new(Delivery::Tcp),
        _ => return None,
    };
    // RFC 2326 makes multicast the default; devices mean unicast when they leave it out.
    for field in fields {
        let (name, value) = field.split_once('=').map_or((field, ""), |(n, v)| (n.trim(), v.trim().trim_matches('"')));
        match name.to_ascii_lowercase().as_str() {
            "multicast" if t.delivery == Delivery::Udp => t.delivery = Delivery::Multicast,
            "client_port" => t.client_port = pair(value),
            "server_port" => t.server_port = pair(value),
            "port" => t.port = pair(value),
            "interleaved" => t.interleaved = pair(value).and_then(|(a, b)| Some((a.try_into().ok()?, b.try_into().ok()?))),
            "destination" => t.destination = value.parse().ok(),
            "source" => t.source = value.parse().ok(),
            "ttl" => t.ttl = value.parse().ok(),
            "ssrc" => t.ssrc = u32::from_str_radix(value.trim_start_matches("0x"), 16).ok(),
            _ => {}
        }
    }
    Some(t)
}

/// `a-b`, or `a` alone, which means the next one as well.
fn pair(value: &str) -> Option<(u16, u16)> {
    let (a, b) = value.split_once('-').unwrap_or((value, ""));
    let a: u16 = a.trim().parse().ok()?;
    Some((a, b.trim().parse().unwrap_or(a.saturating_add(1))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_are_read_and_written() {
        let all = parse_transports(
            "RTP/AVP/UDP;unicast;client_port=5000-5001;ssrc=00C0FFEE, RTP/AVP/TCP;interleaved=2-3;mode=\"PLAY\",RTP/SAVP;x,\
             RTP/AVP;multicast;destination=239.20.0.1;port=6000-6001;ttl=4, RTP/AVP;client_port=9000",
        );
        let words: Vec<String> = all.iter().map(ToString::to_string).collect();
        assert_eq!(
            words,
            [
                "RTP/AVP;unicast;client_port=5000-5001;ssrc=00C0FFEE",
                "RTP/AVP/TCP;unicast;interleaved=2-3",
                "RTP/AVP;multicast;destination=239.20.0.1;port=6000-6001;ttl=4",
                "RTP/AVP;unicast;client_port=9000-9001",
            ]
        );
        assert!(parse_transports("junk;=;client_port=-,;;").is_empty());
    }
}
