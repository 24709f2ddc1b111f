//! Follows a device to an address that nobody chose: by its lasting name, which it says wherever it
//! is.

use super::{
    multicast::{new_id, place},
    probe::ask_udp,
    v4,
};
use choir_host::{interfaces::own_interfaces, multicast::MulticastSocket};
use choir_proto::onvif::discovery::{self, Announcement};
use std::{
    net::{IpAddr, Ipv4Addr},
    time::Duration,
};

const ASK_EVERY: Duration = Duration::from_millis(500);
const ANSWER_PATIENCE: Duration = Duration::from_secs(5);

/// A device whose lasting name is known.
pub struct Follow {
    endpoint: String,
    was: Ipv4Addr,
    socket: MulticastSocket,
}

/// Why a device cannot be followed to a new address.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct CannotFollow(String);

impl Follow {
    /// Asks the device at this address for its lasting name.
    ///
    /// # Errors
    /// It does not answer WS-Discovery, or no interface leads to it.
    pub async fn start(at: IpAddr) -> Result<Self, CannotFollow> {
        let was = v4(at).ok_or_else(|| CannotFollow(format!("{at}: only IPv4 devices can be followed to a new address")))?;
        let own = own_interfaces().unwrap_or_default();
        let interface = own.iter().find(|i| i.reaches(was)).map(|i| i.ip);
        let interface =
            interface.ok_or_else(|| CannotFollow(format!("{at} is in none of this machine's subnets: it could not be followed")))?;
        let endpoint = name_of(was).await.ok_or_else(|| {
            CannotFollow(format!(
                "{at}: the device does not answer WS-Discovery, so that nobody would know where DHCP puts it. Switch it on, or use --static"
            ))
        })?;
        let socket =
            MulticastSocket::open(discovery::GROUP, interface).map_err(|e| CannotFollow(format!("WS-Discovery cannot be used: {e}")))?;
        Ok(Self { endpoint, was, socket })
    }

    fn place_in(&self, data: &[u8], from: IpAddr) -> Option<IpAddr> {
        let ours = |a: &Announcement| a.endpoint == self.endpoint && !a.leaving;
        let a = discovery::read_announcements(data).into_iter().find(ours)?;
        let said = a.addresses.iter().find_map(|x| place(x)).map(|(ip, _)| ip);
        let ip = said.or(v4(from))?;
        (ip != self.was).then_some(IpAddr::V4(ip))
    }

    /// Waits until it speaks from another address.
    pub async fn until_seen(mut self, patience: Duration) -> Option<IpAddr> {
        tokio::time::timeout(patience, self.seen()).await.ok()
    }

    async fn seen(&mut self) -> IpAddr {
        let mut got = Vec::new();
        let mut tick = tokio::time::interval(ASK_EVERY);
        loop {
            tokio::select! {
                () = self.socket.receive(&mut got) => {}
                _ = tick.tick() => self.socket.send(discovery::probe(&new_id()).as_bytes()),
            }
            if let Some(ip) = got.drain(..).find_map(|(from, data)| self.place_in(&data, from.ip())) {
                return ip;
            }
        }
    }
}

/// The lasting name of the device at an address. Asked again until the time is up: one that has
/// just come to its address may answer HTTP before it answers this.
async fn name_of(ip: Ipv4Addr) -> Option<String> {
    let asking = async {
        let mut tick = tokio::time::interval(ASK_EVERY);
        loop {
            tick.tick().await;
            let mut endpoint = None;
            ask_udp(ip, discovery::GROUP.port(), discovery::probe(&new_id()).as_bytes(), ASK_EVERY, |data| {
                endpoint = discovery::read_announcements(data).into_iter().map(|a| a.endpoint).find(|e| !e.is_empty());
                endpoint.is_some()
            })
            .await;
            if let Some(endpoint) = endpoint {
                return endpoint;
            }
        }
    };
    tokio::time::timeout(ANSWER_PATIENCE, asking).await.ok()
}
