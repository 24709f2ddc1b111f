//! The networks that a show's streams cross: which addresses they hold, what they carry, what they
//! lose.

use crate::{advice::PathFacts, find::mask, units::Bitrate};
use std::net::{IpAddr, Ipv4Addr};

/// What sort of network it is: that decides how its capacity counts and who else is on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum NetworkKind {
    /// A wired port: both directions at once, only ours.
    Lan,
    /// The site's way to the Internet: each direction has its own capacity, other people's networks
    /// follow.
    Uplink,
    /// Radio: both directions share one capacity.
    Wireless,
    /// A gateway elsewhere that passes streams on.
    Relay,
}

impl NetworkKind {
    /// All with their words.
    pub const WORDS: [(&'static str, Self); 4] =
        [("lan", Self::Lan), ("uplink", Self::Uplink), ("wireless", Self::Wireless), ("relay", Self::Relay)];

    /// Its word in the sheet.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::WORDS.iter().find(|(_, k)| *k == self).map_or("", |(w, _)| w)
    }

    /// From its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|(w, _)| *w == word).map(|(_, k)| *k)
    }
}

/// A range of IPv4 addresses, first to last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    /// First.
    pub first: Ipv4Addr,
    /// Last.
    pub last: Ipv4Addr,
    /// Prefix length, when it was written as one.
    pub prefix: Option<u8>,
}

impl Span {
    /// The subnet that an address is in.
    #[must_use]
    pub fn around(ip: Ipv4Addr, prefix: u8) -> Self {
        let mask = mask(prefix);
        Self { first: (u32::from(ip) & mask).into(), last: (u32::from(ip) | !mask).into(), prefix: Some(prefix) }
    }

    /// Reads `127.20.0.0/16` or `127.20.0.100-127.20.0.199`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        if let Some((ip, prefix)) = text.split_once('/') {
            let (ip, prefix) = (ip.trim().parse().ok()?, prefix.trim().parse().ok()?);
            return (1..=32).contains(&prefix).then(|| Self::around(ip, prefix));
        }
        let (first, last) = text.split_once('-')?;
        let (first, last) = (first.trim().parse().ok()?, last.trim().parse().ok()?);
        (first <= last).then_some(Self { first, last, prefix: None })
    }

    /// Whether an address is within.
    #[must_use]
    pub fn holds(&self, ip: IpAddr) -> bool {
        matches!(ip, IpAddr::V4(ip) if (self.first..=self.last).contains(&ip))
    }
}

/// `[[network]]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Network {
    /// Short name.
    pub name: String,
    /// For people.
    pub title: String,
    /// What sort it is.
    pub kind: NetworkKind,
    /// Addresses on it.
    pub range: Vec<Span>,
    /// Capacity towards this machine.
    pub capacity_in: Option<Bitrate>,
    /// Capacity away from it.
    pub capacity_out: Option<Bitrate>,
    /// Part of the capacity that must stay free, 0 to 1.
    pub reserve: f64,
    /// Measured or stated path over it.
    pub path: Option<PathFacts>,
    /// Packets pass other people's networks.
    pub outside: bool,
    /// This machine stands behind address translation here.
    pub nat: bool,
    /// The address that the outside knows this machine by.
    pub public_address: Option<String>,
    /// Addresses that a server gives out.
    pub dhcp: Option<Span>,
    /// Addresses that devices here leave the factory with.
    pub factory: Vec<Ipv4Addr>,
}

impl Network {
    /// Part of the capacity that stays free unless the sheet says otherwise.
    pub const RESERVE: f64 = 0.2;

    /// Whether an address is on it.
    #[must_use]
    pub fn holds(&self, ip: IpAddr) -> bool {
        self.range.iter().any(|s| s.holds(ip))
    }
}

/// The networks that a link with these addresses crosses: those named in `via`, and those that hold
/// one of them. `only_unheld` keeps `via` for links that no network holds: a feed's destinations at
/// home do not leave it.
#[must_use]
pub fn crossed<'a>(networks: &'a [Network], via: &[String], addresses: &[IpAddr], only_unheld: bool) -> Vec<&'a Network> {
    let held: Vec<&Network> = networks.iter().filter(|n| addresses.iter().any(|a| n.holds(*a))).collect();
    if only_unheld && !held.is_empty() {
        return held;
    }
    networks.iter().filter(|n| via.contains(&n.name) || held.iter().any(|h| h.name == n.name)).collect()
}

/// The path over these networks, one behind the other; `None` when none of them says.
#[must_use]
pub fn path_over(networks: &[&Network]) -> Option<PathFacts> {
    networks.iter().filter_map(|n| n.path).reduce(|a, b| a.and(&b))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_read_both_forms() {
        let all = Span::parse("127.20.0.0/16").expect("a prefix");
        assert_eq!((all.first, all.last), (Ipv4Addr::new(127, 20, 0, 0), Ipv4Addr::new(127, 20, 255, 255)));
        assert!(all.holds([127, 20, 9, 9].into()) && !all.holds([127, 21, 0, 0].into()));
        let some = Span::parse("127.20.0.100 - 127.20.0.199").expect("a range");
        assert!(some.holds([127, 20, 0, 150].into()) && !some.holds([127, 20, 0, 200].into()));
        assert_eq!(Span::parse("127.20.0.9/32").map(|s| (s.first, s.last)), Some(([127, 20, 0, 9].into(), [127, 20, 0, 9].into())));
        for bad in ["", "127.20.0.0", "127.20.0.0/33", "127.20.0.0/0", "127.20.0.9-127.20.0.1", "a-b"] {
            assert_eq!(Span::parse(bad), None, "{bad}");
        }
        assert!(NetworkKind::WORDS.iter().all(|(w, k)| NetworkKind::from_word(w) == Some(*k) && k.word() == *w));
    }
}
