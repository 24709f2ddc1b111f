//! The device service: identity, clock, services, network, users, restart (ONVIF Core
//! Specification, 8).

use super::{
    soap::{Call, unix_us_of},
    xml::{Element, escape},
};
use crate::foreign;
use std::net::{IpAddr, Ipv4Addr};

/// What the device says it is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Identity {
    /// Maker.
    pub maker: String,
    /// Model.
    pub model: String,
    /// Version of its program.
    pub firmware: String,
    /// Serial number.
    pub serial: String,
}

/// A text of a device for people: short, without control characters.
#[must_use]
pub fn plain(text: &str) -> String {
    foreign::plain(text, 100)
}

/// Asks who it is.
#[must_use]
pub fn get_identity() -> Call {
    Call::new("tds", "GetDeviceInformation", "")
}

/// Reads who it is.
#[must_use]
pub fn read_identity(answer: &Element) -> Identity {
    let text = |name| plain(answer.text_at(name).unwrap_or_default());
    Identity { maker: text("Manufacturer"), model: text("Model"), firmware: text("FirmwareVersion"), serial: text("SerialNumber") }
}

/// Asks for its clock; needs no login.
#[must_use]
pub fn get_clock() -> Call {
    Call::new("tds", "GetSystemDateAndTime", "")
}

/// The device's clock, µs since 1970.
#[must_use]
pub fn read_clock(answer: &Element) -> Option<i64> {
    let at = answer.at("SystemDateAndTime/UTCDateTime")?;
    let n = |path| at.number_at::<i64>(path);
    unix_us_of((n("Date/Year")?, n("Date/Month")?, n("Date/Day")?), (n("Time/Hour")?, n("Time/Minute")?, n("Time/Second")?))
}

/// Services of a device by their namespaces, as addresses.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Services {
    /// The first media service.
    pub media: Option<String>,
    /// The second, which knows H.265.
    pub media2: Option<String>,
    /// Steering.
    pub ptz: Option<String>,
}

/// Asks which services there are.
#[must_use]
pub fn get_services() -> Call {
    Call::new("tds", "GetServices", "<tds:IncludeCapability>false</tds:IncludeCapability>")
}

/// Reads which services there are.
#[must_use]
pub fn read_services(answer: &Element) -> Services {
    let mut s = Services::default();
    for service in answer.all("Service") {
        let (Some(namespace), Some(address)) = (service.text_at("Namespace"), service.text_at("XAddr")) else { continue };
        let place = match namespace.trim_end_matches('/') {
            "http://www.onvif.org/ver10/media/wsdl" => &mut s.media,
            "http://www.onvif.org/ver20/media/wsdl" => &mut s.media2,
            "http://www.onvif.org/ver20/ptz/wsdl" => &mut s.ptz,
            _ => continue,
        };
        *place = Some(address.to_owned());
    }
    s
}

/// The older way of asking.
#[must_use]
pub fn get_capabilities() -> Call {
    Call::new("tds", "GetCapabilities", "<tds:Category>All</tds:Category>")
}

/// Reads the older answer, which knows nothing of the second media service.
#[must_use]
pub fn read_capabilities(answer: &Element) -> Services {
    let of = |path: &str| answer.text_at(&format!("Capabilities/{path}/XAddr")).map(str::to_owned);
    Services { media: of("Media"), media2: of("Extension/Media2"), ptz: of("PTZ") }
}

/// One network interface, IPv4.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Network {
    /// The device's word for the interface.
    pub token: String,
    /// Hardware address.
    pub mac: Option<String>,
    /// Address and prefix length that it uses.
    pub address: Option<(Ipv4Addr, u8)>,
    /// It gets its address from a server.
    pub dhcp: bool,
}

/// Asks for the network.
#[must_use]
pub fn get_network() -> Call {
    Call::new("tds", "GetNetworkInterfaces", "")
}

/// Reads the first interface that is switched on.
#[must_use]
pub fn read_network(answer: &Element) -> Option<Network> {
    let on = |e: &&Element| e.text_at("Enabled") != Some("false");
    let interface = answer.all("NetworkInterfaces").find(on)?;
    let config = interface.at("IPv4/Config");
    let dhcp = config.and_then(|c| c.text_at("DHCP")) == Some("true");
    let places = if dhcp { ["FromDHCP", "LinkLocal", "Manual"] } else { ["Manual", "LinkLocal", "FromDHCP"] };
    let address = config.and_then(|c| {
        places.iter().find_map(|p| Some((c.number_at(&format!("{p}/Address"))?, c.number_at(&format!("{p}/PrefixLength"))?)))
    });
    Some(Network {
        token: interface.attribute("token").unwrap_or_default().to_owned(),
        mac: interface.text_at("Info/HwAddress").map(plain),
        address,
        dhcp,
    })
}

/// Gives the device a fixed address, or `None` for one from a server.
#[must_use]
pub fn set_network(token: &str, fixed: Option<(Ipv4Addr, u8)>) -> Call {
    let inside = match fixed {
        Some((ip, prefix)) => format!(
            "<tt:Manual><tt:Address>{ip}</tt:Address><tt:PrefixLength>{prefix}</tt:PrefixLength></tt:Manual><tt:DHCP>false</tt:DHCP>"
        ),
        None => "<tt:DHCP>true</tt:DHCP>".to_owned(),
    };
    let body = format!(
        "<tds:InterfaceToken>{}</tds:InterfaceToken><tds:NetworkInterface><tt:Enabled>true</tt:Enabled>\
         <tt:IPv4><tt:Enabled>true</tt:Enabled>{inside}</tt:IPv4></tds:NetworkInterface>",
        escape(token)
    );
    Call::new("tds", "SetNetworkInterfaces", &body)
}

/// Whether the new address holds only after a restart.
#[must_use]
pub fn read_restart_needed(answer: &Element) -> bool {
    answer.text_at("RebootNeeded") == Some("true")
}

/// Asks for the gateway.
#[must_use]
pub fn get_gateway() -> Call {
    Call::new("tds", "GetNetworkDefaultGateway", "")
}

/// Reads the gateway.
#[must_use]
pub fn read_gateway(answer: &Element) -> Option<IpAddr> {
    answer.number_at("NetworkGateway/IPv4Address")
}

/// Sets the gateway.
#[must_use]
pub fn set_gateway(ip: Ipv4Addr) -> Call {
    Call::new("tds", "SetNetworkDefaultGateway", &format!("<tds:IPv4Address>{ip}</tds:IPv4Address>"))
}

/// Asks it to restart.
#[must_use]
pub fn restart() -> Call {
    Call::new("tds", "SystemReboot", "")
}

/// Asks for the users.
#[must_use]
pub fn get_users() -> Call {
    Call::new("tds", "GetUsers", "")
}

/// The level of a user, which must be sent along when its password changes.
#[must_use]
pub fn read_level(answer: &Element, user: &str) -> Option<String> {
    answer.all("User").find(|u| u.text_at("Username") == Some(user))?.text_at("UserLevel").map(str::to_owned)
}

/// Gives a user another password. The message holds it in the open, as the standard wants.
#[must_use]
pub fn set_password(user: &str, password: &str, level: &str) -> Call {
    let body = format!(
        "<tds:User><tt:Username>{}</tt:Username><tt:Password>{}</tt:Password><tt:UserLevel>{}</tt:UserLevel></tds:User>",
        escape(user),
        escape(password),
        escape(level)
    );
    Call::new("tds", "SetUser", &body)
}
