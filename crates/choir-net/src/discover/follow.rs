//! Follows a device to an address that nobody chose: by its lasting name, which it says wherever it is.

use super::{
    multicast::{Ear, new_id, place},
    own_interfaces,
    probe::ask_udp,
    v4,
};
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
    ear: Ear,
}

impl Follow {
    /// Asks the device at this address for its lasting name.
    ///
    /// # Errors
    /// It does not answer WS-Discovery, or no interface leads to it.
    pub async fn start(at: IpAddr) -> Result<Self, super::super::device::DeviceError> {
        use super::super::device::DeviceError::Cannot;
        let was = v4(at).ok_or_else(|| Cannot(format!("{at}: only IPv4 devices can be followed to a new address")))?;
        let own = own_interfaces().unwrap_or_default();
        let interface = own.iter().find(|i| i.reaches(was)).map(|i| i.ip);
        let interface = interface.ok_or_else(|| Cannot(format!("{at} is in none of this machine's subnets: it could not be followed")))?;
        let endpoint = name_of(was).await.ok_or_else(|| {
            Cannot(format!(
                "{at}: the device does not answer WS-Discovery, so that nobody would know where DHCP puts it. Switch it on, or use --static"
            ))
        })?;
        let ear = Ear::open(discovery::GROUP, interface).map_err(|e| Cannot(format!("WS-Discovery cannot be used: {e}")))?;
        Ok(Self { endpoint, was, ear })
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
                () = self.ear.hear(&mut got) => {}
                _ = tick.tick() => self.ear.ask(discovery::probe(&new_id()).as_bytes()),
            }
            if let Some(ip) = got.drain(..).find_map(|(from, data)| self.place_in(&data, from.ip())) {
                return ip;
            }
        }
    }
}

/// The lasting name of the device at an address. Asked again until the time is up: one that has just come to its
/// address may answer HTTP before it answers this.
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
