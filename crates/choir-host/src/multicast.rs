//! Questions to a multicast group on one interface, and what is said there.

use crate::udp::UdpPort;
use bytes::{Bytes, BytesMut};
use std::{
    io,
    net::{IpAddr, Ipv4Addr, SocketAddr},
};

/// DNS-SD over multicast (RFC 6762).
pub const MDNS: SocketAddr = SocketAddr::new(IpAddr::V4(Ipv4Addr::new(224, 0, 0, 251)), 5353);

/// A multicast group on one interface: questions to all, answers, and what others say there.
pub struct MulticastSocket {
    group: SocketAddr,
    sends: UdpPort,
    /// Another program may hold the port for itself; then only replies are received.
    joined: io::Result<UdpPort>,
    arena: BytesMut,
}

impl MulticastSocket {
    /// Opens both sockets; from now on nothing that is sent there is missed.
    ///
    /// # Errors
    /// The interface is not of this machine.
    pub fn open(group: SocketAddr, interface: Ipv4Addr) -> io::Result<Self> {
        let sends = UdpPort::to_group_from(group.ip(), interface.into(), 1)?;
        Ok(Self { group, sends, joined: UdpPort::join(group, None, Some(interface.into())), arena: BytesMut::new() })
    }

    /// Why announcements to the group cannot be received, if so.
    #[must_use]
    pub fn replies_only(&self) -> Option<&io::Error> {
        self.joined.as_ref().err()
    }

    /// Sends to the whole group. A network that is down now may be up the next time.
    pub fn send(&self, message: &[u8]) {
        let _ = self.sends.send(self.group, None, message);
    }

    /// Sends to one machine alone.
    pub fn send_to(&self, to: SocketAddr, message: &[u8]) {
        let _ = self.sends.send(to, None, message);
    }

    /// Waits for datagrams and adds them. Safe to cancel.
    pub async fn receive(&mut self, out: &mut Vec<(SocketAddr, Bytes)>) {
        let joined = async {
            match &self.joined {
                Ok(h) => drop(h.readable().await),
                Err(_) => std::future::pending().await,
            }
        };
        tokio::select! {
            _ = self.sends.readable() => self.sends.drain(&mut self.arena, out),
            () = joined => self.joined.iter().for_each(|h| h.drain(&mut self.arena, out)),
        }
    }
}
