//! Follows a device to an address that nobody chose: by its lasting name, which it says wherever it is.

use super::{multicast, own_interfaces, v4};
use crate::port::UdpPort;
use bytes::BytesMut;
use choir_proto::{
    onvif::discovery::{self, Announcement},
    srt::Transmit,
};
use std::{
    io,
    net::{IpAddr, Ipv4Addr, SocketAddr},
    time::Duration,
};
use tokio::net::UdpSocket;

const ASK_EVERY: Duration = Duration::from_millis(500);
const ANSWER_PATIENCE: Duration = Duration::from_secs(2);

/// A device whose lasting name is known.
pub struct Follow {
    endpoint: String,
    was: Ipv4Addr,
    asks: UdpPort,
    hears: Option<UdpPort>,
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
        let socket = |e: io::Error| Cannot(format!("WS-Discovery cannot be used: {e}"));
        let endpoint = name_of(was).await.map_err(socket)?.ok_or_else(|| {
            Cannot(format!(
                "{at}: the device does not answer WS-Discovery, so that nobody would know where DHCP puts it. Switch it on, or use --static"
            ))
        })?;
        let asks = UdpPort::to_group(discovery::GROUP.ip(), Some(interface.into()), 1).map_err(socket)?;
        let hears = UdpPort::join(discovery::GROUP, None, Some(interface.into())).ok();
        Ok(Self { endpoint, was, asks, hears })
    }

    fn place_in(&self, data: &[u8], from: IpAddr) -> Option<IpAddr> {
        let ours = |a: &Announcement| a.endpoint == self.endpoint && !a.leaving;
        let a = discovery::read_announcements(data).into_iter().find(ours)?;
        let said = a.addresses.iter().find_map(|x| multicast::place(x)).map(|(ip, _)| ip);
        let ip = said.or(v4(from))?;
        (ip != self.was).then_some(IpAddr::V4(ip))
    }

    /// Waits until it speaks from another address.
    pub async fn until_seen(self, patience: Duration) -> Option<IpAddr> {
        tokio::time::timeout(patience, self.seen()).await.ok()
    }

    async fn seen(&self) -> IpAddr {
        let (mut arena, mut got) = (BytesMut::new(), Vec::new());
        let mut tick = tokio::time::interval(ASK_EVERY);
        loop {
            let heard = async {
                match &self.hears {
                    Some(h) => drop(h.readable().await),
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                _ = self.asks.readable() => self.asks.drain(&mut arena, &mut got),
                () = heard => self.hears.iter().for_each(|h| h.drain(&mut arena, &mut got)),
                _ = tick.tick() => {
                    let question = discovery::probe(&multicast::new_id());
                    let _ = self.asks.send(&Transmit { to: discovery::GROUP, segment: None, size: 0 }, question.as_bytes());
                }
            }
            if let Some(ip) = got.drain(..).find_map(|(from, data)| self.place_in(&data, from.ip())) {
                return ip;
            }
        }
    }
}

/// The lasting name of the device at an address.
async fn name_of(ip: Ipv4Addr) -> io::Result<Option<String>> {
    let socket = UdpSocket::bind("0.0.0.0:0").await?;
    socket.connect(SocketAddr::new(ip.into(), discovery::GROUP.port())).await?;
    let ask = async {
        socket.send(discovery::probe(&multicast::new_id()).as_bytes()).await?;
        let mut buffer = vec![0; 32 * 1024];
        loop {
            let n = socket.recv(&mut buffer).await?;
            let found = discovery::read_announcements(&buffer[..n]).into_iter().find(|a| !a.endpoint.is_empty());
            if let Some(a) = found {
                return io::Result::Ok(a.endpoint);
            }
        }
    };
    // A refusal is no answer too.
    Ok(tokio::time::timeout(ANSWER_PATIENCE, ask).await.ok().and_then(Result::ok))
}
