//! Transport stream in plain UDP datagrams, in and out.

use super::{Arrival, Intake, Outlet, datagrams, status::LinkStatus};
use bytes::{Bytes, BytesMut};
use choir_core::{
    facts::{Contact, Notice, Waiting},
    link::UdpLink,
};
use choir_host::clock::unix_ms;
use choir_host::{
    Stop,
    udp::{UdpPort, any_address},
};
use std::{
    collections::VecDeque,
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::Instant,
};
use tokio::task::JoinHandle;

/// Routers that packets to a group pass, unless said: none, they stay on this network.
pub(super) const GROUP_TTL: u8 = 1;

/// Receives at `addr`, or from the group that it is.
///
/// # Errors
/// The address cannot be had.
pub fn spawn_udp_in(
    addr: SocketAddr,
    link: &UdpLink,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
    mut stop: Stop,
) -> io::Result<JoinHandle<()>> {
    let socket = if addr.ip().is_multicast() { UdpPort::join(addr, link.source, link.interface)? } else { UdpPort::open(addr, None)? };
    let inode = socket.inode();
    let waiting = move || Contact::Waiting(Waiting::Packets { port: addr.port() });
    status.update(|l| {
        l.socket = inode;
        l.contact = waiting();
    });
    Ok(tokio::spawn(async move {
        let mut arena = BytesMut::new();
        let (mut pieces, mut arrivals) = (Vec::new(), Vec::new());
        let mut was_held = false;
        loop {
            tokio::select! {
                () = stop.wait() => return,
                _ = socket.readable() => {}
                () = status.control.woken() => {}
            }
            let held = status.control.is_held();
            if held != was_held {
                was_held = held;
                status.update(|l| {
                    l.since = None;
                    l.contact = if held { Contact::Held } else { waiting() };
                });
            }
            pieces.clear();
            socket.drain(&mut arena, &mut pieces);
            let Some((from, _)) = pieces.first().filter(|_| !held) else { continue };
            let (now, from, bytes) = (Instant::now(), *from, pieces.iter().map(|p| p.1.len() as u64).sum::<u64>());
            let mut session = 0;
            status.update(|l| {
                if l.since.is_none() {
                    l.since = Some((now, unix_ms()));
                    l.sessions += 1;
                    l.contact = Contact::Up;
                    l.note(Notice::MediaFrom(from));
                }
                session = l.sessions;
                l.counters.bytes += bytes;
                l.counters.packets += pieces.len() as u64;
            });
            arrivals.extend(pieces.drain(..).map(|(_, data)| Arrival::ts(session, now, data)));
            intake.arrive(&mut arrivals);
        }
    }))
}

/// A socket to send to `to`, which may be a group. Not connected: a receiver that is not there yet
/// is no error for a way without handshake.
pub(super) fn open_out(to: SocketAddr, interface: Option<IpAddr>, ttl: Option<u8>) -> io::Result<UdpPort> {
    if to.ip().is_multicast() {
        return UdpPort::to_group(to.ip(), interface, ttl.unwrap_or(GROUP_TTL));
    }
    UdpPort::open(SocketAddr::new(any_address(to.ip()), 0), None)
}

/// Sends what comes out of an outlet, seven packets a datagram, each in the form that `form` gives
/// it.
pub(super) async fn send_datagrams(
    socket: UdpPort,
    to: SocketAddr,
    outlet: Arc<Outlet>,
    status: Arc<LinkStatus>,
    mut stop: Stop,
    mut form: impl for<'a> FnMut(&'a [u8], &'a mut Vec<u8>) -> &'a [u8],
) {
    let inode = socket.inode();
    status.update(|l| l.socket = inode);
    status.begin_session();
    let mut taken: VecDeque<Bytes> = VecDeque::new();
    let mut room = Vec::new();
    loop {
        tokio::select! {
            () = stop.wait() => return,
            () = outlet.filled() => {}
        }
        let ended = outlet.has_ended();
        outlet.take_into(&mut taken);
        let (mut bytes, mut packets) = (0, 0);
        for piece in taken.drain(..) {
            for data in datagrams(&piece) {
                if let Err(e) = send_one(&socket, to, form(&data, &mut room)).await {
                    status.note(Notice::SendFailed { to, cause: e.to_string() });
                }
                bytes += data.len() as u64;
                packets += 1;
            }
        }
        status.update(|l| {
            l.counters.bytes += bytes;
            l.counters.packets += packets;
        });
        if ended {
            return;
        }
    }
}

/// Sends one datagram, waiting while the system's buffer is full.
async fn send_one(socket: &UdpPort, to: SocketAddr, data: &[u8]) -> io::Result<()> {
    while !socket.send(to, None, data)? {
        socket.writable().await?;
    }
    Ok(())
}

/// Sends to `to`, seven packets a datagram.
///
/// # Errors
/// No socket can be had.
pub fn spawn_udp_out(
    to: SocketAddr,
    link: &UdpLink,
    outlet: Arc<Outlet>,
    status: Arc<LinkStatus>,
    stop: Stop,
) -> io::Result<JoinHandle<()>> {
    let socket = open_out(to, link.interface, link.ttl)?;
    Ok(tokio::spawn(send_datagrams(socket, to, outlet, status, stop, |data, _| data)))
}
