//! Multicast groups that this program is in: joined again when their interface was taken away and
//! has come back. The system forgets a membership with its interface, and tells nobody.

use crate::lock;
use socket2::SockRef;
use std::{
    io,
    net::{IpAddr, Ipv4Addr, SocketAddr},
    sync::{Arc, Mutex, Weak},
};
use tokio::net::UdpSocket;

/// What a socket has to do with a group.
#[derive(Debug, Clone)]
pub(crate) struct Membership {
    group: SocketAddr,
    /// Sender that is listened to alone.
    source: Option<IpAddr>,
    /// By an interface of this address.
    by: Option<Place>,
    sends: bool,
}

/// An interface, by its address and by the name that it had.
#[derive(Debug, Clone)]
struct Place {
    ip: IpAddr,
    name: Option<String>,
}

static ALL: Mutex<Vec<(Weak<UdpSocket>, Membership)>> = Mutex::new(Vec::new());

/// The system's number of the interface that has this address; 0 is its own choice.
fn interface_index(of: Option<IpAddr>) -> io::Result<u32> {
    let Some(ip) = of else { return Ok(0) };
    let found = if_addrs::get_if_addrs()?.into_iter().find(|i| i.ip() == ip);
    found.and_then(|i| i.index).ok_or_else(|| io::Error::other(format!("this machine has no interface with the address {ip}")))
}

impl Membership {
    /// Receives what is sent to a group, only from `source` if given.
    pub fn receives(group: SocketAddr, source: Option<IpAddr>, interface: Option<IpAddr>) -> Self {
        Self { group, source, by: interface.map(Place::of), sends: false }
    }

    /// Sends to it.
    pub fn sends(group: IpAddr, interface: Option<IpAddr>) -> Self {
        Self { group: SocketAddr::new(group, 0), source: None, by: interface.map(Place::of), sends: true }
    }

    /// Tells the system.
    ///
    /// # Errors
    /// The interface is not of this machine, the mix of addresses cannot be, or it is a member
    /// already.
    pub fn take(&self, socket: &SockRef<'_>) -> io::Result<()> {
        let interface = self.by.as_ref().map(Place::ip_now);
        if self.sends {
            return match interface {
                Some(IpAddr::V4(i)) => socket.set_multicast_if_v4(&i),
                Some(i @ IpAddr::V6(_)) => socket.set_multicast_if_v6(interface_index(Some(i))?),
                None => Ok(()),
            };
        }
        let any = Ipv4Addr::UNSPECIFIED;
        match (self.group.ip(), self.source, interface) {
            (IpAddr::V4(g), None, None) => socket.join_multicast_v4(&g, &any),
            (IpAddr::V4(g), None, Some(IpAddr::V4(i))) => socket.join_multicast_v4(&g, &i),
            (IpAddr::V4(g), Some(IpAddr::V4(s)), None) => socket.join_ssm_v4(&s, &g, &any),
            (IpAddr::V4(g), Some(IpAddr::V4(s)), Some(IpAddr::V4(i))) => socket.join_ssm_v4(&s, &g, &i),
            (IpAddr::V6(g), None, i) => socket.join_multicast_v6(&g, interface_index(i)?),
            (IpAddr::V6(_), Some(_), _) => Err(io::Error::other("choosing a source is only made for IPv4 groups here")),
            _ => Err(io::Error::other("group, source and interface must be addresses of one family")),
        }
    }

    /// Keeps it for as long as the socket is open.
    pub fn keep(self, socket: &Arc<UdpSocket>) {
        let mut all = lock(&ALL);
        all.retain(|(s, _)| s.strong_count() > 0);
        all.push((Arc::downgrade(socket), self));
    }
}

impl Place {
    fn of(ip: IpAddr) -> Self {
        let all = if_addrs::get_if_addrs().unwrap_or_default();
        Self { ip, name: all.into_iter().find(|i| i.ip() == ip).map(|i| i.name) }
    }

    /// Its address; where that is gone, another one of the interface that had it.
    fn ip_now(&self) -> IpAddr {
        let all = if_addrs::get_if_addrs().unwrap_or_default();
        if all.iter().any(|i| i.ip() == self.ip) {
            return self.ip;
        }
        let same = |i: &&if_addrs::Interface| Some(&i.name) == self.name.as_ref() && i.ip().is_ipv4() == self.ip.is_ipv4();
        all.iter().find(same).map_or(self.ip, if_addrs::Interface::ip)
    }
}

/// Joins again what was lost. Gives how many groups that were.
pub(crate) fn join_again() -> usize {
    let all: Vec<(Arc<UdpSocket>, Membership)> = {
        let mut all = lock(&ALL);
        all.retain(|(s, _)| s.strong_count() > 0);
        all.iter().filter_map(|(s, m)| Some((s.upgrade()?, m.clone()))).collect()
    };
    // One who is a member still is told so by an error.
    all.iter().filter(|(socket, m)| m.take(&SockRef::from(&**socket)).is_ok() && !m.sends).count()
}
