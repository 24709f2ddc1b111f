//! Asking all devices of a network at once, and hearing those that arrive: WS-Discovery (ONVIF) and
//! DNS-SD. One interface at a time, and only those asked for.

use super::{Sign, Signs, v4};
use choir_core::find::{Evidence, Interface, Service, ServiceKind};
use choir_host::{
    mdns,
    multicast::{MDNS, MulticastSocket},
};
use choir_proto::onvif::{
    device::plain,
    discovery::{self, Announcement},
};
use std::{
    net::{IpAddr, Ipv4Addr},
    time::Duration,
};
use tokio::task::JoinSet;

/// What video devices say of themselves by DNS-SD.
const SERVICES: [(&str, Option<ServiceKind>); 3] =
    [("_rtsp._tcp.local.", Some(ServiceKind::Rtsp)), ("_onvif._tcp.local.", Some(ServiceKind::Onvif)), ("_http._tcp.local.", None)];
/// Asked so often, since a question to all is lost easily.
const ROUNDS: u32 = 3;
const ROUND: Duration = Duration::from_millis(600);

/// Starts to ask and to listen by one interface; when it returns, nothing that is said is missed
/// any more.
pub(super) fn start(interface: &Interface, signs: &Signs, tasks: &mut JoinSet<()>) {
    for (group, is_dns) in [(discovery::GROUP, false), (MDNS, true)] {
        let (name, signs) = (interface.name.clone(), signs.clone());
        let what = if is_dns { "DNS-SD" } else { "WS-Discovery" };
        let socket = MulticastSocket::open(group, interface.ip);
        let note = match &socket {
            Err(e) => Some(format!("{name}: cannot ask by {what} ({e})")),
            Ok(socket) => socket.replies_only().map(|e| format!("{name}: cannot receive {what} announcements ({e}); replies only")),
        };
        tasks.spawn(async move {
            if let Some(note) = note {
                let _ = signs.send(Sign::Note(note)).await;
            }
            if let Ok(socket) = socket {
                run(&name, socket, is_dns, &signs).await;
            }
        });
    }
}

/// A number for a message.
#[must_use]
pub fn new_id() -> String {
    discovery::message_id(choir_host::random())
}

fn question(is_dns: bool) -> Vec<u8> {
    if !is_dns {
        return discovery::probe(&new_id()).into_bytes();
    }
    mdns::question(&SERVICES.map(|(name, _)| name))
}

async fn run(name: &str, mut socket: MulticastSocket, is_dns: bool, signs: &Signs) {
    let mut got = Vec::new();
    let mut round = tokio::time::interval(ROUND);
    let mut rounds = 0;
    loop {
        tokio::select! {
            () = socket.receive(&mut got) => {}
            _ = round.tick(), if rounds < ROUNDS => {
                rounds += 1;
                socket.send(&question(is_dns));
            }
        }
        for (from, data) in got.drain(..) {
            if is_dns {
                answered(&data, from.ip(), name, signs).await;
            } else {
                for a in discovery::read_announcements(&data) {
                    announced(&a, from.ip(), Some(name), signs).await;
                }
            }
        }
    }
}

/// Takes what a device says of itself by WS-Discovery.
pub(super) async fn announced(a: &Announcement, from: IpAddr, interface: Option<&str>, signs: &Signs) {
    if a.leaving {
        return;
    }
    // The address that it says it has, or the one that it speaks from.
    let said = a.addresses.iter().find_map(|x| place(x)).or_else(|| v4(from).map(|ip| (ip, 80)));
    let Some((ip, port)) = said else { return };
    let tell = async |e: Evidence| drop(signs.send(Sign::Of(ip, e)).await);
    if !a.endpoint.is_empty() {
        tell(Evidence::Identity(a.endpoint.clone())).await;
    }
    if let Some(name) = a.scope("name") {
        tell(Evidence::Name(name)).await;
    }
    if let Some(model) = a.scope("hardware") {
        tell(Evidence::Maker(String::new(), model)).await;
    }
    let kinds = a.scopes.iter().filter_map(|s| s.strip_prefix("onvif://www.onvif.org/type/"));
    let what = kinds.filter_map(|k| match k.to_ascii_lowercase().as_str() {
        "ptz" => Some("PTZ camera"),
        "video_encoder" | "encoder" => Some("encoder"),
        _ => None,
    });
    // "PTZ" says more than "encoder", which cameras have inside.
    if let Some(what) = what.max_by_key(|w| *w == "PTZ camera") {
        tell(Evidence::What(what.into())).await;
    }
    tell(Evidence::Service(Service { kind: ServiceKind::Onvif, port, says: None })).await;
    if let Some(i) = interface {
        tell(Evidence::Heard(i.to_owned())).await;
    }
    let _ = signs.send(Sign::At(ip, port)).await;
}

/// Host and port of `http://host:port/...`.
pub(super) fn place(url: &str) -> Option<(Ipv4Addr, u16)> {
    let rest = url.strip_prefix("http://")?;
    let authority = rest.split('/').next()?;
    let (host, port) = authority.split_once(':').unwrap_or((authority, "80"));
    Some((host.parse().ok()?, port.parse().ok()?))
}

/// Takes an answer or a word on arrival by DNS-SD.
async fn answered(data: &[u8], from: IpAddr, interface: &str, signs: &Signs) {
    for (ip, evidence) in services_of(data, v4(from)) {
        let _ = signs.send(Sign::Of(ip, Evidence::Heard(interface.to_owned()))).await;
        let _ = signs.send(Sign::Of(ip, evidence)).await;
    }
}

/// Reads instances, where they are, and what they are called.
fn services_of(data: &[u8], from: Option<Ipv4Addr>) -> Vec<(Ipv4Addr, Evidence)> {
    let mut found = Vec::new();
    for s in mdns::services(data) {
        let Some((_, kind)) = SERVICES.iter().find(|(name, _)| *name == s.service) else { continue };
        let Some(ip) = s.ip.or(from) else { continue };
        let instance = plain(&s.instance);
        if !instance.is_empty() {
            found.push((ip, Evidence::Name(instance)));
        }
        if let Some(kind) = kind {
            found.push((ip, Evidence::Service(Service { kind: *kind, port: s.port, says: None })));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instances_are_read_with_their_place_and_name() {
        let data = mdns::announcement(
            0,
            &mdns::Service {
                instance: "Finish tower".into(),
                service: "_rtsp._tcp.local.".into(),
                host: "Tower".into(),
                ip: Some(Ipv4Addr::new(127, 20, 0, 11)),
                port: 8554,
                ttl: mdns::TTL,
                facts: Vec::new(),
            },
        );
        let ip = Ipv4Addr::new(127, 20, 0, 11);
        let service = Service { kind: ServiceKind::Rtsp, port: 8554, says: None };
        assert_eq!(services_of(&data, None), [(ip, Evidence::Name("Finish tower".into())), (ip, Evidence::Service(service))]);
        for cut in 0..data.len() {
            let _ = services_of(&data[..cut], Some(ip));
        }
    }

    #[test]
    fn only_plain_addresses_are_places() {
        assert_eq!(place("http://127.20.0.9:8000/onvif/device_service"), Some((Ipv4Addr::new(127, 20, 0, 9), 8000)));
        assert_eq!(place("http://127.20.0.9/x"), Some((Ipv4Addr::new(127, 20, 0, 9), 80)));
        for none in ["https://127.0.0.1/", "http://[::1]/", "http://camera/", "http://127.0.0.1:x/", ""] {
            assert_eq!(place(none), None, "{none}");
        }
    }
}
