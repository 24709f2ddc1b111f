//! What a device says of itself: WS-Discovery to all and to one, DNS-SD.

use super::{
    answers::identity,
    state::{Quirk, Shared},
};
use bytes::BytesMut;
use choir_devices::discover::new_id;
use choir_host::{Stop, mdns, udp::UdpPort};
use choir_proto::onvif::discovery::{self, Announcement};
use std::{
    net::{IpAddr, Ipv4Addr, SocketAddr},
    sync::Arc,
    time::Duration,
};
use tokio::net::UdpSocket;

const MDNS: IpAddr = IpAddr::V4(Ipv4Addr::new(224, 0, 0, 251));

/// From the first word on arrival to the second.
const HELLO_AGAIN: Duration = Duration::from_millis(500);

/// Speaks until the life ends. What cannot be opened stays silent: not every system has multicast.
pub(super) fn serve(shared: &Arc<Shared>, life: &Stop) {
    let (me, mut stop) = (shared.clone(), life.clone());
    let ip = shared.look(|s| s.network.address);
    shared.task(life, async move {
        let group = UdpPort::join(discovery::GROUP, None, Some(ip.into())).ok();
        let out = UdpPort::to_group(discovery::GROUP.ip(), Some(ip.into()), 1).ok();
        let direct = UdpSocket::bind((ip, discovery::GROUP.port())).await.ok();
        let mdns = UdpPort::join(SocketAddr::new(MDNS, 5353), None, Some(ip.into())).ok();
        let say = |leaving: bool| {
            for a in announcements(&me, ip, leaving) {
                if let Some(out) = &out {
                    let _ = out.send(discovery::GROUP, None, discovery::announce(&a, &new_id(), None).as_bytes());
                }
            }
        };
        say(false);
        // Said once more, since what is said to all is lost easily (SOAP over UDP, appendix I).
        let again = async {
            tokio::time::sleep(HELLO_AGAIN).await;
            say(false);
            std::future::pending::<()>().await;
        };
        tokio::select! {
            () = again => {}
            () = to_all(&me, ip, group.as_ref(), out.as_ref()) => {}
            () = to_one(&me, ip, direct.as_ref()) => {}
            () = names(&me, ip, mdns.as_ref(), out.as_ref()) => {}
            () = stop.wait() => {}
        }
        say(true);
    });
}

/// It, and its twin.
fn announcements(shared: &Shared, ip: Ipv4Addr, leaving: bool) -> Vec<Announcement> {
    let (_, model, kind) = identity(shared);
    // By the address that it left the factory with, so that it lasts.
    let [a, b, c, d] = shared.settings.address.octets();
    let one = |n: u8| Announcement {
        endpoint: format!("urn:uuid:{a:02x}{b:02x}{c:02x}{d:02x}-7a{n:02x}-4000-8000-027a00{b:02x}{c:02x}{d:02x}"),
        addresses: vec![format!("http://{ip}:{}/onvif/device_service", shared.settings.control_port)],
        scopes: vec![
            format!("onvif://www.onvif.org/type/{kind}"),
            format!("onvif://www.onvif.org/name/{}", shared.settings.name.replace(' ', "%20")),
            format!("onvif://www.onvif.org/hardware/{}", model.replace(' ', "%20")),
        ],
        leaving,
    };
    if shared.has(Quirk::Twin) { vec![one(1), one(2)] } else { vec![one(1)] }
}

async fn to_all(shared: &Shared, ip: Ipv4Addr, group: Option<&UdpPort>, out: Option<&UdpPort>) {
    let (Some(group), Some(out)) = (group, out) else { return std::future::pending().await };
    let (mut arena, mut got) = (BytesMut::new(), Vec::new());
    while group.readable().await.is_ok() {
        group.drain(&mut arena, &mut got);
        for (from, data) in got.drain(..) {
            let Some(asked) = discovery::read_probe(&data) else { continue };
            for a in announcements(shared, ip, false) {
                let answer = discovery::announce(&a, &new_id(), Some(&asked));
                let _ = out.send(from, None, answer.as_bytes());
            }
        }
    }
}

async fn to_one(shared: &Shared, ip: Ipv4Addr, direct: Option<&UdpSocket>) {
    let Some(socket) = direct else { return std::future::pending().await };
    let mut buffer = vec![0; 8192];
    loop {
        let Ok((n, from)) = socket.recv_from(&mut buffer).await else { continue };
        let Some(asked) = discovery::read_probe(&buffer[..n]) else { continue };
        for a in announcements(shared, ip, false) {
            let _ = socket.send_to(discovery::announce(&a, &new_id(), Some(&asked)).as_bytes(), from).await;
        }
    }
}

/// Answers questions for RTSP services (RFC 6763), to whoever asks.
async fn names(shared: &Shared, ip: Ipv4Addr, mdns: Option<&UdpPort>, out: Option<&UdpPort>) {
    let (Some(mdns), Some(out)) = (mdns, out) else { return std::future::pending().await };
    let (mut arena, mut got) = (BytesMut::new(), Vec::new());
    while mdns.readable().await.is_ok() {
        mdns.drain(&mut arena, &mut got);
        for (from, data) in got.drain(..) {
            if let Some(answer) = answer(shared, ip, &data) {
                let _ = out.send(from, None, &answer);
            }
        }
    }
}

fn answer(shared: &Shared, ip: Ipv4Addr, question: &[u8]) -> Option<Vec<u8>> {
    let service = "_rtsp._tcp.local.";
    let (id, _) = mdns::asked(question).filter(|(_, asked)| asked.iter().any(|s| s == service))?;
    let service = mdns::Service {
        instance: shared.settings.name.clone(),
        service: service.into(),
        host: shared.settings.name.replace(' ', "-"),
        ip: Some(ip),
        port: shared.settings.rtsp_port,
        ttl: mdns::TTL,
        facts: Vec::new(),
    };
    Some(mdns::announcement(id, &service))
}
