//! From single signs to devices: what answers at an address, who says to be there, and what is odd
//! about it.

use super::range::Interface;
use crate::device::{NewDevice, device_name};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet, HashSet},
    fmt,
    net::Ipv4Addr,
};

/// Addresses that many devices have when they leave the factory.
pub(crate) const FACTORY: [[u8; 4]; 12] = [
    [192, 168, 0, 10],
    [192, 168, 0, 90],
    [192, 168, 0, 100],
    [192, 168, 1, 10],
    [192, 168, 1, 64],
    [192, 168, 1, 88],
    [192, 168, 1, 100],
    [192, 168, 1, 108],
    [192, 168, 1, 168],
    [192, 168, 1, 188],
    [192, 168, 100, 88],
    [192, 168, 100, 100],
];

/// A kind of service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ServiceKind {
    /// ONVIF.
    Onvif,
    /// RTSP.
    Rtsp,
    /// VISCA over IP.
    Visca,
    /// A web page.
    Http,
}

impl fmt::Display for ServiceKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Onvif => "ONVIF",
            Self::Rtsp => "RTSP",
            Self::Visca => "VISCA",
            Self::Http => "HTTP",
        })
    }
}

/// A service at a port.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Service {
    /// Kind.
    pub kind: ServiceKind,
    /// Port.
    pub port: u16,
    /// What it says of itself: a server's name, a page's title.
    pub says: Option<String>,
}

/// One sign of a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Evidence {
    /// A service answers.
    Service(Service),
    /// It wants to know who asks.
    Login(bool),
    /// Who it says it is: maker, model.
    Maker(String, String),
    /// Its name.
    Name(String),
    /// What it says it is: `PTZ camera`.
    What(String),
    /// Its lasting name: two of them at one address are two devices.
    Identity(String),
    /// Hardware address: two of them at one address are two devices.
    Mac(String),
    /// Heard by the interface of this name.
    Heard(String),
}

/// Something odd about a device, with what to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Flag {
    /// `factory-address`, `shared-address`, `outside`.
    pub word: String,
    /// Sentence.
    pub text: String,
}

/// A device that was found.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Found {
    /// Address.
    pub address: Option<Ipv4Addr>,
    /// Hardware addresses.
    pub macs: BTreeSet<String>,
    /// `PTZ camera`, `RTSP source` ...
    pub what: String,
    /// Maker, as it says.
    pub maker: Option<String>,
    /// Model.
    pub model: Option<String>,
    /// Name.
    pub name: Option<String>,
    /// What answers.
    pub services: BTreeSet<Service>,
    /// It wants a login; `None` when nothing told.
    pub login: Option<bool>,
    /// What is odd.
    pub flags: Vec<Flag>,
}

/// What is known of an address.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Known {
    found: Found,
    identities: BTreeSet<String>,
    heard_by: BTreeSet<String>,
    said_what: Option<String>,
}

impl Found {
    /// As an entry of a sheet, under a name that none of `taken` has; `None` without an address.
    #[must_use]
    pub fn as_device(&self, taken: &HashSet<String>) -> Option<NewDevice> {
        let address = self.address?;
        let model = self.model.clone().unwrap_or_else(|| self.what.clone());
        let name = device_name(self.name.as_deref().unwrap_or(&model), taken);
        let (control, port) = match (self.port(ServiceKind::Onvif), self.port(ServiceKind::Visca)) {
            (Some(port), _) => ("onvif", Some(port)),
            (None, Some(_)) => ("visca", None),
            (None, None) => ("manual", None),
        };
        let title = [self.maker.clone(), self.model.clone()].into_iter().flatten().collect::<Vec<_>>().join(" ");
        Some(NewDevice {
            title: if title.is_empty() { name.clone() } else { title },
            kind: self.kind().into(),
            address: port.map_or_else(|| address.to_string(), |p| format!("{address}:{p}")),
            control: control.into(),
            name,
        })
    }

    /// The port of a service, if it is there.
    #[must_use]
    pub fn port(&self, kind: ServiceKind) -> Option<u16> {
        self.services.iter().find(|s| s.kind == kind).map(|s| s.port)
    }

    /// The word for its kind in a sheet.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self.what.as_str() {
            "encoder" => "encoder",
            "gateway" => "gateway",
            _ => "camera",
        }
    }
}

impl Known {
    fn judge(&mut self) {
        let has = |kind| self.found.services.iter().any(|s| s.kind == kind);
        self.found.what = match &self.said_what {
            Some(what) => what.clone(),
            None if has(ServiceKind::Visca) => "PTZ camera".into(),
            None if has(ServiceKind::Onvif) => "camera or encoder".into(),
            None if has(ServiceKind::Rtsp) => "RTSP source".into(),
            None if has(ServiceKind::Http) => "web page".into(),
            None => "announced only".into(),
        };
    }
}

/// All devices by address.
#[derive(Debug, Clone, Default)]
pub struct Table {
    devices: BTreeMap<Ipv4Addr, Known>,
    own: Vec<Interface>,
    factory: Vec<Ipv4Addr>,
}

impl Table {
    /// A table for this machine; `factory` are further factory addresses.
    #[must_use]
    pub fn new(own: &[Interface], factory: &[Ipv4Addr]) -> Self {
        let factory = FACTORY.iter().map(|a| Ipv4Addr::from(*a)).chain(factory.iter().copied()).collect();
        Self { devices: BTreeMap::new(), own: own.to_vec(), factory }
    }

    /// Takes one sign; true when it told something new.
    pub fn add(&mut self, address: Ipv4Addr, evidence: Evidence) -> bool {
        let known = self.devices.entry(address).or_default();
        let before = known.clone();
        let found = &mut known.found;
        found.address = Some(address);
        match evidence {
            Evidence::Service(s) => {
                // The same service, with or without what it says of itself.
                let same = |o: &Service| o.kind == s.kind && o.port == s.port;
                if let Some(old) = found.services.iter().find(|o| same(o)).cloned() {
                    if old.says.is_none() && s.says.is_some() {
                        found.services.remove(&old);
                        found.services.insert(s);
                    }
                } else {
                    found.services.insert(s);
                }
            }
            Evidence::Login(wants) => found.login = Some(wants || found.login == Some(true)),
            Evidence::Maker(maker, model) => {
                found.maker = Some(maker).filter(|m| !m.is_empty()).or(found.maker.take());
                found.model = Some(model).filter(|m| !m.is_empty()).or(found.model.take());
            }
            Evidence::Name(name) => found.name = Some(name),
            Evidence::What(what) => known.said_what = Some(what),
            Evidence::Identity(id) => {
                known.identities.insert(id);
            }
            Evidence::Mac(mac) => {
                found.macs.insert(mac.to_lowercase());
            }
            Evidence::Heard(interface) => {
                known.heard_by.insert(interface);
            }
        }
        known.judge();
        *known != before
    }

    /// The device at this address as it stands, with its flags. A hardware address alone is no
    /// device.
    #[must_use]
    pub fn get(&self, address: Ipv4Addr) -> Option<Found> {
        let known = self.devices.get(&address)?;
        let real = !known.found.services.is_empty() || !known.identities.is_empty() || known.found.name.is_some();
        real.then(|| Found { flags: self.flags(address, known), ..known.found.clone() })
    }

    /// All devices in order of their addresses.
    #[must_use]
    pub fn all(&self) -> Vec<Found> {
        self.devices.keys().filter_map(|a| self.get(*a)).collect()
    }

    fn flags(&self, address: Ipv4Addr, known: &Known) -> Vec<Flag> {
        let mut flags = Vec::new();
        let mut flag = |word: &str, text: String| flags.push(Flag { word: word.into(), text });
        if self.factory.contains(&address) {
            flag(
                "factory-address",
                "many devices leave the factory with this address: give it its own before the next one is connected".into(),
            );
        }
        if address.is_link_local() {
            flag("factory-address", "it gave itself this address because no server gave it one".into());
        }
        let ways = [("hardware addresses", &known.found.macs), ("devices", &known.identities)];
        if let Some((what, set)) = ways.into_iter().find(|(_, set)| set.len() > 1) {
            let names: Vec<&str> = set.iter().map(String::as_str).collect();
            flag(
                "shared-address",
                format!("{} {what} answer at this address ({}): disconnect all but one, and give it its own", set.len(), names.join(", ")),
            );
        }
        if !self.own.iter().any(|i| i.reaches(address)) {
            flag("outside", self.way_to(address, known));
        }
        flags
    }

    /// How this machine gets to an address outside its subnets, and back.
    fn way_to(&self, address: Ipv4Addr, known: &Known) -> String {
        let prefix = if address.is_link_local() { 16 } else { 24 };
        let base = u32::from(address) & 0xFFFF_FF00;
        let free = (1..=254u32).rev().map(|n| Ipv4Addr::from(base | n)).find(|ip| !self.devices.contains_key(ip)).unwrap_or(address);
        let outside = || self.own.iter().find(|i| !i.ip.is_loopback()).map(|i| i.name.clone());
        let interface = known.heard_by.iter().next().cloned().or_else(outside).unwrap_or_else(|| "INTERFACE".into());
        format!(
            "outside this machine's subnets. To reach it, give this machine {free}/{prefix} too: \"ip address add {free}/{prefix} dev {interface}\"; \
             then \"choir device address NAME --dhcp\" sends the device back to DHCP, and \"ip address del {free}/{prefix} dev {interface}\" \
             gives the address up again (this machine's own DHCP address is not touched)"
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table() -> Table {
        let own = [Interface { name: "eth0".into(), ip: [10, 77, 0, 5].into(), prefix: 24 }];
        Table::new(&own, &[[10, 77, 0, 9].into()])
    }

    fn service(kind: ServiceKind, port: u16, says: Option<&str>) -> Evidence {
        Evidence::Service(Service { kind, port, says: says.map(str::to_owned) })
    }

    #[test]
    fn signs_add_up_to_a_device() {
        let (mut t, ip) = (table(), Ipv4Addr::new(10, 77, 0, 11));
        assert!(t.add(ip, Evidence::Mac("02:AA:00:00:00:01".into())));
        assert!(t.get(ip).is_none(), "a hardware address alone");
        assert!(t.add(ip, service(ServiceKind::Rtsp, 554, None)));
        assert_eq!(t.get(ip).expect("found").what, "RTSP source");
        assert!(!t.add(ip, service(ServiceKind::Rtsp, 554, None)));
        assert!(t.add(ip, service(ServiceKind::Rtsp, 554, Some("Tarn Works"))));
        t.add(ip, service(ServiceKind::Onvif, 80, None));
        t.add(ip, Evidence::Maker("Tarn Works".into(), "T1".into()));
        t.add(ip, Evidence::What("PTZ camera".into()));
        t.add(ip, Evidence::Login(true));
        t.add(ip, Evidence::Login(false));
        let found = t.get(ip).expect("found");
        assert_eq!((found.what.as_str(), found.kind(), found.services.len(), found.login), ("PTZ camera", "camera", 2, Some(true)));
        assert_eq!((found.port(ServiceKind::Onvif), found.port(ServiceKind::Visca)), (Some(80), None));
        assert!(found.flags.is_empty(), "{:?}", found.flags);
    }

    #[test]
    fn what_is_odd_is_flagged_with_what_to_do() {
        let mut t = table();
        let words = |t: &Table, ip: [u8; 4]| t.get(ip.into()).expect("found").flags.iter().map(|f| f.word.clone()).collect::<Vec<_>>();
        t.add([10, 77, 0, 9].into(), service(ServiceKind::Onvif, 80, None));
        assert_eq!(words(&t, [10, 77, 0, 9]), ["factory-address"]);
        t.add([10, 77, 0, 9].into(), Evidence::Mac("02:aa:00:00:00:01".into()));
        t.add([10, 77, 0, 9].into(), Evidence::Mac("02:AA:00:00:00:02".into()));
        assert_eq!(words(&t, [10, 77, 0, 9]), ["factory-address", "shared-address"]);
        t.add([10, 77, 0, 12].into(), Evidence::Identity("urn:uuid:1".into()));
        t.add([10, 77, 0, 12].into(), Evidence::Identity("urn:uuid:2".into()));
        assert_eq!(words(&t, [10, 77, 0, 12]), ["shared-address"]);
        t.add([192, 168, 100, 88].into(), Evidence::Identity("urn:uuid:3".into()));
        t.add([192, 168, 100, 88].into(), Evidence::Heard("eth1".into()));
        t.add([192, 168, 100, 254].into(), Evidence::Identity("urn:uuid:4".into()));
        assert_eq!(words(&t, [192, 168, 100, 88]), ["factory-address", "outside"]);
        let text = &t.get([192, 168, 100, 88].into()).expect("found").flags[1].text;
        assert!(text.contains("ip address add 192.168.100.253/24 dev eth1") && text.contains("--dhcp"), "{text}");
        t.add([169, 254, 3, 4].into(), Evidence::Name("launch".into()));
        assert_eq!(words(&t, [169, 254, 3, 4]), ["factory-address", "outside"]);
        assert_eq!(t.all().len(), 5);
    }
}
