//! Addresses of devices: each once, on the right network, not the factory's, not one that a server
//! gives out.

use super::Whole;
use crate::{
    device::{Device, NetworkWish},
    find::FACTORY,
    finding::Grade,
    network::{Network, NetworkKind, Span},
    sheet::{places::Spot, reader::Reader},
};
use std::{
    collections::HashMap,
    net::{IpAddr, Ipv4Addr},
};

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole) {
    let mut seen = HashMap::new();
    for (device, spot) in whole.devices() {
        let subject = format!("device \"{}\"", device.name);
        // Cameras of one bare chain share an address.
        let place = (device.address, device.port, device.camera);
        if let Some(first) = seen.insert(place, device.name.clone()) {
            r.add(
                Grade::Error,
                spot.of_value("address"),
                &subject,
                format!("it has the address of device \"{first}\"."),
                "Give each its own.",
            );
        }
        factory(r, whole, device, spot, &subject);
        subnet(r, whole, device, spot, &subject);
    }
    wishes(r, whole);
}

/// The address that a device is to have: the wanted one, else the present one.
fn meant(device: &Device) -> IpAddr {
    match &device.network {
        Some(NetworkWish::Static { ip, .. }) => (*ip).into(),
        _ => device.address,
    }
}

fn place_of(device: &Device) -> &'static str {
    if matches!(device.network, Some(NetworkWish::Static { .. })) { "network.address" } else { "address" }
}

fn factory(r: &mut Reader<'_>, whole: &Whole, device: &Device, spot: &Spot, subject: &str) {
    let IpAddr::V4(ip) = meant(device) else { return };
    let stated = whole.sheet.networks.iter().any(|n| n.factory.contains(&ip));
    if stated || FACTORY.contains(&ip.octets()) || ip.is_link_local() {
        let what = format!("{ip} is an address that devices leave the factory with: the next one plugged in will have it too.");
        r.add(Grade::Warning, spot.of_value(place_of(device)), subject, what, "\"choir device address\" gives it another one.");
    }
}

/// Networks of the site itself that say which addresses they hold.
fn at_home(whole: &Whole) -> Vec<&Network> {
    whole.sheet.networks.iter().filter(|n| !n.range.is_empty() && matches!(n.kind, NetworkKind::Lan | NetworkKind::Wireless)).collect()
}

fn subnet(r: &mut Reader<'_>, whole: &Whole, device: &Device, spot: &Spot, subject: &str) {
    let (networks, ip) = (at_home(whole), meant(device));
    if networks.is_empty() || whole.sheet.networks.iter().any(|n| n.holds(ip)) || !device.via.is_empty() {
        return;
    }
    let names: Vec<String> = networks.iter().map(|n| format!("\"{}\"", n.name)).collect();
    let what = format!("{ip} is on no network of the sheet.");
    let remedy = format!("Give it an address of {}, or say via which network it is reached.", names.join(" or "));
    r.add(Grade::Warning, spot.of_value(place_of(device)), subject, what, remedy);
}

/// Wanted fixed addresses: their gateway, their mask, the server's range, and each other.
fn wishes(r: &mut Reader<'_>, whole: &Whole) {
    let mut wanted: HashMap<Ipv4Addr, &str> = HashMap::new();
    for (device, spot) in whole.devices() {
        let Some(NetworkWish::Static { ip, prefix, gateway }) = &device.network else { continue };
        let subject = format!("device \"{}\"", device.name);
        let at = spot.of_value("network.address");
        if let Some(first) = wanted.insert(*ip, &device.name) {
            r.add(Grade::Error, at, &subject, format!("it is to get {ip}, and so is device \"{first}\"."), "Give each its own.");
        }
        let own = Span::around(*ip, *prefix);
        if let Some(gateway) = gateway.filter(|g| !own.holds((*g).into())) {
            let what = format!("its gateway {gateway} is outside its own network {}/{prefix}.", own.first);
            r.add(Grade::Error, spot.of_value("network.gateway"), &subject, what, "The gateway must be on the device's own network.");
        }
        for network in whole.sheet.networks.iter().filter(|n| n.holds((*ip).into())) {
            if network.dhcp.is_some_and(|d| d.holds((*ip).into())) {
                let what = format!("{ip} is fixed, but the server of network \"{}\" gives it out.", network.name);
                r.add(Grade::Warning, at, &subject, what, "Choose one outside the network's dhcp range.");
            }
            let wrong = |span: &&Span| span.holds((*ip).into()) && span.prefix.is_some_and(|p| p != *prefix);
            if let Some(p) = network.range.iter().find(wrong).and_then(|s| s.prefix) {
                let what = format!("its prefix is /{prefix}, but network \"{}\" has /{p}.", network.name);
                r.add(Grade::Warning, at, &subject, what, format!("Write {ip}/{p}: else it misses part of the network."));
            }
        }
    }
}
