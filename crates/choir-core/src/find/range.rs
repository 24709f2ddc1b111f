//! Which addresses to ask: this machine's subnets, an interface, a CIDR, a range.

use std::net::Ipv4Addr;

/// Addresses that are asked without a yes.
pub const RANGE_MAX: usize = 4096;
/// Widest range that is asked at all: a /12.
const WIDEST: usize = 1 << 20;

/// An address of this machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Interface {
    /// `eth0`.
    pub name: String,
    /// Own address.
    pub ip: Ipv4Addr,
    /// Prefix length.
    pub prefix: u8,
}

impl Interface {
    /// Whether the address is in this interface's subnet.
    #[must_use]
    pub fn reaches(&self, ip: Ipv4Addr) -> bool {
        network(ip, self.prefix) == network(self.ip, self.prefix)
    }
}

/// What to ask.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scan {
    /// One after the other, without this machine's own.
    pub addresses: Vec<Ipv4Addr>,
    /// By which interfaces to listen and to ask all.
    pub interfaces: Vec<Interface>,
}

/// Why a range was not understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RangeError {
    /// Neither an interface nor addresses.
    #[error(
        "\"{0}\" is not an interface of this machine and not a range: write an interface ({1}), 10.1.2.0/24, 10.1.2.10-10.1.2.40 or one address"
    )]
    Unknown(String, String),
    /// Nothing to ask on.
    #[error("this machine has no network interface with an IPv4 address: name a range")]
    NoInterface,
    /// More than a machine can ask.
    #[error("{0} addresses are too many: name a smaller range")]
    TooWide(usize),
}

/// The bits of an address that its subnet's prefix covers.
#[must_use]
pub fn mask(prefix: u8) -> u32 {
    u32::MAX.checked_shl(32 - u32::from(prefix.min(32))).unwrap_or(0)
}

fn network(ip: Ipv4Addr, prefix: u8) -> u32 {
    u32::from(ip) & mask(prefix)
}

/// First and last address of a subnet that a device can have.
fn hosts(ip: Ipv4Addr, prefix: u8) -> (u32, u32) {
    let first = network(ip, prefix);
    let last = first | !mask(prefix);
    if prefix <= 30 { (first + 1, last - 1) } else { (first, last) }
}

/// From what was typed, or nothing, to what is asked.
///
/// # Errors
/// See [`RangeError`].
pub fn plan(what: Option<&str>, own: &[Interface]) -> Result<Scan, RangeError> {
    let outside: Vec<&Interface> = own.iter().filter(|i| !i.ip.is_loopback()).collect();
    let spans: Vec<(u32, u32)> = match what {
        None if outside.is_empty() => return Err(RangeError::NoInterface),
        None => outside.iter().map(|i| hosts(i.ip, i.prefix)).collect(),
        Some(text) => match own.iter().filter(|i| i.name == text).map(|i| hosts(i.ip, i.prefix)).collect::<Vec<_>>() {
            spans if !spans.is_empty() => spans,
            _ => vec![span(text).ok_or_else(|| unknown(text, &outside))?],
        },
    };
    let count: usize = spans.iter().map(|(a, z)| (z - a) as usize + 1).sum();
    if count > WIDEST {
        return Err(RangeError::TooWide(count));
    }
    let touches = |i: &&Interface| {
        let (first, last) = hosts(i.ip, i.prefix);
        spans.iter().any(|(a, z)| *a <= last && *z >= first)
    };
    let mut addresses: Vec<Ipv4Addr> = spans.iter().flat_map(|(a, z)| *a..=*z).map(Ipv4Addr::from).collect();
    addresses.sort_unstable();
    addresses.dedup();
    addresses.retain(|a| own.iter().all(|i| i.ip != *a || i.ip.is_loopback()));
    Ok(Scan { addresses, interfaces: own.iter().filter(touches).cloned().collect() })
}

fn unknown(text: &str, own: &[&Interface]) -> RangeError {
    let names: Vec<&str> = own.iter().map(|i| i.name.as_str()).collect();
    RangeError::Unknown(text.to_owned(), if names.is_empty() { "there is none".into() } else { names.join(", ") })
}

fn span(text: &str) -> Option<(u32, u32)> {
    if let Some((ip, prefix)) = text.split_once('/') {
        return Some(hosts(ip.parse().ok()?, prefix.parse().ok().filter(|p| (1..=32).contains(p))?));
    }
    let Some((first, last)) = text.split_once('-') else {
        let ip: Ipv4Addr = text.parse().ok()?;
        return Some((ip.into(), ip.into()));
    };
    let first: Ipv4Addr = first.trim().parse().ok()?;
    let last = last.trim();
    // 10.1.2.10-40 is said too.
    let last = match last.parse::<u8>() {
        Ok(n) => Ipv4Addr::from(u32::from(first) & 0xFFFF_FF00 | u32::from(n)),
        Err(_) => last.parse().ok()?,
    };
    (first <= last).then(|| (first.into(), last.into()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn own() -> Vec<Interface> {
        let one = |name: &str, ip: [u8; 4], prefix| Interface { name: name.into(), ip: ip.into(), prefix };
        vec![one("lo", [127, 0, 0, 1], 8), one("eth0", [10, 77, 0, 5], 24), one("eth1", [10, 78, 1, 1], 30)]
    }

    #[test]
    fn every_form_of_a_range_is_read() {
        let count = |text: Option<&str>| plan(text, &own()).map(|s| (s.addresses.len(), s.interfaces.len()));
        assert_eq!(count(None), Ok((253 + 1, 2)));
        assert_eq!(count(Some("eth1")), Ok((1, 1)));
        assert_eq!(count(Some("127.20.0.0/27")), Ok((30, 1)));
        assert_eq!(count(Some("10.77.0.1-10.77.0.10")), Ok((9, 1)), "its own address is not asked");
        assert_eq!(count(Some("10.9.0.10-20")), Ok((11, 0)));
        assert_eq!(count(Some("10.9.0.10")), Ok((1, 0)));
        assert_eq!(count(Some("10.9.0.10/31")), Ok((2, 0)));
        assert_eq!(count(Some("10.0.0.0/8")), Err(RangeError::TooWide((1 << 24) - 2)));
        for bad in ["eth9", "10.1.2.3/33", "10.1.2.3/0", "10.1.2.40-10.1.2.3", "", "300.1.1.1", "1.2.3.4-"] {
            assert!(matches!(plan(Some(bad), &own()), Err(RangeError::Unknown(..))), "{bad}");
        }
        assert_eq!(plan(None, &own()[..1]), Err(RangeError::NoInterface));
    }
}
