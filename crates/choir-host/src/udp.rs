//! One UDP socket with batched receives and sends.

use crate::{groups::Membership, stamps::Clocks};
use bytes::{Bytes, BytesMut};
use choir_proto::arena::cut;
use nix::{
    cmsg_space,
    sys::{
        socket::{ControlMessageOwned, MsgFlags, MultiHeaders, SockaddrStorage, recvmmsg, setsockopt, sockopt},
        time::{TimeSpec, TimeValLike},
    },
};
use quinn_udp::{BATCH_SIZE, UdpSockRef, UdpSocketState};
use socket2::{Domain, Protocol, SockRef, Socket, Type};
use std::{
    cell::RefCell,
    io::{self, IoSliceMut},
    net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr},
    os::fd::{AsFd, AsRawFd, RawFd},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Instant,
};
use tokio::{io::Interest, net::UdpSocket};

/// Buffer asked for: 24 ms of 200 links of 8 Mbit/s.
const BUFFER_WANTED: usize = 4 << 20;
/// Largest coalesced receive.
const RECEIVE: usize = 64 * 1024;
/// Receive batches per turn.
const BATCHES_PER_TURN: usize = 16;
/// Datagrams asked for in one go where few come.
const BATCH_LEAST: usize = 4;
/// Datagrams handed to the system in one go.
pub const SEND_BATCH: usize = 32;

static GRANTED: AtomicUsize = AtomicUsize::new(usize::MAX);

/// Bytes of receive buffer that the system granted at worst, when it was less than asked for.
#[must_use]
pub fn granted_receive_buffer() -> Option<(usize, usize)> {
    let granted = GRANTED.load(Ordering::Relaxed);
    (granted < BUFFER_WANTED).then_some((granted, BUFFER_WANTED))
}

thread_local! {
    // Receiving is synchronous, so all sockets of a thread share one set of buffers.
    static BUFFERS: RefCell<[Vec<u8>; BATCH_SIZE]> = RefCell::new(std::array::from_fn(|_| vec![0; RECEIVE]));
}

/// All own addresses of the family of this one.
#[must_use]
pub const fn any_address(of: IpAddr) -> IpAddr {
    match of {
        IpAddr::V4(_) => IpAddr::V4(Ipv4Addr::UNSPECIFIED),
        IpAddr::V6(_) => IpAddr::V6(Ipv6Addr::UNSPECIFIED),
    }
}

/// A socket with batched receives and sends, whose owner waits for it by other means.
#[derive(Debug)]
pub struct BatchSocket {
    socket: std::net::UdpSocket,
    state: UdpSocketState,
    max_segments: usize,
    /// More came than was asked for.
    many: bool,
    /// When it was empty: what waits now has come since.
    empty: Clocks,
}

/// What one receive brought.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Received {
    /// Datagrams handed on.
    pub datagrams: usize,
    /// Nothing more waits: the next datagram makes the socket readable again.
    pub drained: bool,
}

impl BatchSocket {
    /// Opens a socket at `local`.
    ///
    /// # Errors
    /// The address is taken, not of this machine, or not allowed.
    pub fn open(local: SocketAddr) -> io::Result<Self> {
        let socket = open(local)?;
        socket.bind(&local.into())?;
        let socket: std::net::UdpSocket = socket.into();
        let (state, max_segments) = state_of(&socket)?;
        // A thread that looks only now and then learns in this way when each datagram came.
        setsockopt(&socket, sockopt::ReceiveTimestampns, &true)?;
        Ok(Self { socket, state, max_segments, many: false, empty: Clocks::read() })
    }

    /// Own address.
    ///
    /// # Errors
    /// Returns the OS error.
    pub fn local_addr(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// Inode, by which the system counts drops.
    #[must_use]
    pub fn inode(&self) -> Option<u64> {
        inode_of(&self.socket)
    }

    /// Datagrams that one send may carry.
    #[must_use]
    pub fn max_segments(&self) -> usize {
        self.max_segments
    }

    /// Receives one batch and hands each datagram on, with the time at which it came.
    ///
    /// # Errors
    /// Returns the OS error.
    pub fn receive(&mut self, mut each: impl FnMut(SocketAddr, Instant, &[u8])) -> io::Result<Received> {
        let (now, empty) = (Clocks::read(), self.empty);
        let each = |from, stamp: Option<TimeSpec>, data: &[u8]| each(from, now.came(&empty, stamp.map(|s| s.num_microseconds())), data);
        // Room for each datagram asked for is set up, whether it comes or not.
        let fd = self.socket.as_raw_fd();
        let received = unless_empty(if self.many { receive::<BATCH_SIZE>(fd, each) } else { receive::<BATCH_LEAST>(fd, each) })?;
        self.many = !received.drained;
        if received.drained {
            self.empty = now;
        }
        Ok(received)
    }

    /// Sends to `to`, as datagrams of `segment` bytes each if given; false when the system's buffer
    /// is full.
    ///
    /// # Errors
    /// What the network says.
    pub fn send(&self, to: SocketAddr, segment: Option<usize>, contents: &[u8]) -> io::Result<bool> {
        if segment.is_none() {
            // Without the control messages of the general form it costs the system less.
            return sent(self.socket.send_to(contents, to).map(|_| ()));
        }
        let transmit = quinn_udp::Transmit { destination: to, ecn: None, contents, segment_size: segment, src_ip: None };
        sent(self.state.try_send(UdpSockRef::from(&self.socket), &transmit))
    }
}

impl AsRawFd for BatchSocket {
    fn as_raw_fd(&self) -> RawFd {
        self.socket.as_raw_fd()
    }
}

fn open(of: SocketAddr) -> io::Result<Socket> {
    let socket = Socket::new(Domain::for_address(of), Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_nonblocking(true)?;
    socket.set_recv_buffer_size(BUFFER_WANTED)?;
    socket.set_send_buffer_size(BUFFER_WANTED)?;
    Ok(socket)
}

/// What the system grants a socket, and the datagrams that one send may carry.
fn state_of<'a, S>(socket: &'a S) -> io::Result<(UdpSocketState, usize)>
where
    S: AsFd,
    UdpSockRef<'a>: From<&'a S>,
{
    let state = UdpSocketState::new(socket.into())?;
    // Told of each datagram, and asked for by nobody here. Which of them there are depends on the
    // family.
    let _ = setsockopt(socket, sockopt::IpRecvTos, &false);
    let _ = setsockopt(socket, sockopt::Ipv4PacketInfo, &false);
    let _ = setsockopt(socket, sockopt::Ipv6RecvTClass, &false);
    let _ = setsockopt(socket, sockopt::Ipv6RecvPacketInfo, &false);
    // The system reports twice what it uses for data.
    let granted = state.recv_buffer_size(socket.into())? / 2;
    GRANTED.fetch_min(granted, Ordering::Relaxed);
    let max_segments = state.max_gso_segments().min(SEND_BATCH);
    Ok((state, max_segments))
}

fn inode_of(socket: &impl AsFd) -> Option<u64> {
    rustix::fs::fstat(socket).ok().map(|s| s.st_ino)
}

/// Receives up to `N` batches of datagrams, each handed on with the system's time at which it came.
fn receive<const N: usize>(fd: RawFd, mut each: impl FnMut(SocketAddr, Option<TimeSpec>, &[u8])) -> io::Result<Received> {
    BUFFERS.with_borrow_mut(|buffers| {
        let Some(buffers) = buffers.first_chunk_mut::<N>() else { return Ok(Received::default()) };
        let mut slices: [[IoSliceMut<'_>; 1]; N] = buffers.each_mut().map(|b| [IoSliceMut::new(b)]);
        // Made anew: the system leaves in them what it has used of the room.
        let mut heads = MultiHeaders::<SockaddrStorage>::preallocate(N, Some(cmsg_space!(TimeSpec, i32, [u8; 64])));
        let (mut received, mut count) = (Received::default(), 0);
        for message in recvmmsg(fd, &mut heads, slices.iter_mut(), MsgFlags::MSG_DONTWAIT, None)? {
            count += 1;
            let (mut stamp, mut segment) = (None, usize::MAX);
            for word in message.cmsgs().into_iter().flatten() {
                match word {
                    ControlMessageOwned::ScmTimestampns(at) => stamp = Some(at),
                    ControlMessageOwned::UdpGroSegments(size) => segment = usize::try_from(size).unwrap_or(usize::MAX),
                    _ => {}
                }
            }
            let Some(from) = message.address.and_then(address) else { continue };
            let all = message.iovs().next().unwrap_or_default();
            for data in all.chunks(segment.max(1)) {
                received.datagrams += 1;
                each(from, stamp, data);
            }
        }
        received.drained = count < N;
        Ok(received)
    })
}

fn address(a: SockaddrStorage) -> Option<SocketAddr> {
    let v4 = a.as_sockaddr_in().map(|a| SocketAddr::V4((*a).into()));
    v4.or_else(|| a.as_sockaddr_in6().map(|a| SocketAddr::V6((*a).into())))
}

/// Nothing waits: that is no error.
fn unless_empty(result: io::Result<Received>) -> io::Result<Received> {
    match result {
        Err(e) if e.kind() == io::ErrorKind::WouldBlock => Ok(Received { datagrams: 0, drained: true }),
        done => done,
    }
}

/// False for a full buffer.
fn sent(result: io::Result<()>) -> io::Result<bool> {
    match result {
        Ok(()) => Ok(true),
        Err(e) if e.kind() == io::ErrorKind::WouldBlock => Ok(false),
        Err(e) => Err(e),
    }
}

/// A socket of one port.
#[derive(Debug)]
pub struct UdpPort {
    socket: Arc<UdpSocket>,
    state: UdpSocketState,
    peer: Option<SocketAddr>,
    max_segments: usize,
}

impl UdpPort {
    /// Opens a socket at `local`, to talk to `peer` only if given: then the system tells when
    /// nobody listens there.
    ///
    /// # Errors
    /// The address is taken, not of this machine, or not allowed.
    pub fn open(local: SocketAddr, peer: Option<SocketAddr>) -> io::Result<Self> {
        let socket = open(local)?;
        socket.bind(&local.into())?;
        if let Some(peer) = peer {
            socket.connect(&peer.into())?;
        }
        Self::finish(socket, peer)
    }

    fn finish(socket: Socket, peer: Option<SocketAddr>) -> io::Result<Self> {
        let socket = Arc::new(UdpSocket::from_std(socket.into())?);
        let (state, max_segments) = state_of(&*socket)?;
        Ok(Self { socket, state, peer, max_segments })
    }

    /// Joins a group, by the interface that has this address (else by the system's choice), and
    /// receives what is sent to the group there; only from `source` if given.
    ///
    /// # Errors
    /// The port is taken without sharing, the interface is not of this machine, or the mix of
    /// addresses cannot be.
    pub fn join(group: SocketAddr, source: Option<IpAddr>, interface: Option<IpAddr>) -> io::Result<Self> {
        let socket = open(group)?;
        // Several programs may hear one group.
        socket.set_reuse_address(true)?;
        socket.bind(&group.into())?;
        let membership = Membership::receives(group, source, interface);
        membership.take(&SockRef::from(&socket))?;
        // Without this Linux hands in what any other program of the machine has joined on this
        // port.
        if group.ip().is_ipv4() {
            socket.set_multicast_all_v4(false)?;
        }
        let port = Self::finish(socket, None)?;
        membership.keep(&port.socket);
        Ok(port)
    }

    /// Opens a socket that sends to a group by the interface of this address, past so many routers.
    ///
    /// # Errors
    /// The interface is not of this machine.
    pub fn to_group(group: IpAddr, interface: Option<IpAddr>, ttl: u8) -> io::Result<Self> {
        // Not bound to the interface's address, which may be another one tomorrow.
        Self::group_sender(SocketAddr::new(any_address(group), 0), group, interface, ttl)
    }

    /// The same at the interface's address, where what is answered to it alone arrives.
    ///
    /// # Errors
    /// The interface is not of this machine.
    pub fn to_group_from(group: IpAddr, interface: IpAddr, ttl: u8) -> io::Result<Self> {
        Self::group_sender(SocketAddr::new(interface, 0), group, Some(interface), ttl)
    }

    fn group_sender(local: SocketAddr, group: IpAddr, interface: Option<IpAddr>, ttl: u8) -> io::Result<Self> {
        let socket = open(local)?;
        socket.bind(&local.into())?;
        let membership = Membership::sends(group, interface);
        membership.take(&SockRef::from(&socket))?;
        if group.is_ipv4() {
            socket.set_multicast_ttl_v4(ttl.into())?;
        } else {
            socket.set_multicast_hops_v6(ttl.into())?;
        }
        let port = Self::finish(socket, None)?;
        membership.keep(&port.socket);
        Ok(port)
    }

    /// Own address.
    ///
    /// # Errors
    /// Returns the OS error.
    pub fn local_addr(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// The one peer it talks to.
    #[must_use]
    pub fn peer(&self) -> Option<SocketAddr> {
        self.peer
    }

    /// Inode, by which the system counts drops.
    #[must_use]
    pub fn inode(&self) -> Option<u64> {
        inode_of(&self.socket)
    }

    /// Datagrams that one send may carry.
    #[must_use]
    pub fn max_segments(&self) -> usize {
        self.max_segments
    }

    /// Waits until there is something to receive. Safe to cancel.
    pub async fn readable(&self) -> io::Result<()> {
        self.socket.readable().await
    }

    /// Waits until sending would not block. Safe to cancel.
    pub async fn writable(&self) -> io::Result<()> {
        self.socket.writable().await
    }

    /// Receives one batch and hands each datagram on; gives how many there were, 0 when there was
    /// none.
    ///
    /// # Errors
    /// `ConnectionRefused` when the peer's host says that nobody listens there.
    pub fn receive(&self, mut each: impl FnMut(SocketAddr, &[u8])) -> io::Result<usize> {
        let receive = || receive::<BATCH_SIZE>(self.socket.as_raw_fd(), |from, _, data| each(from, data));
        unless_empty(self.socket.try_io(Interest::READABLE, receive)).map(|r| r.datagrams)
    }

    /// Receives what waits, up to what one turn may take. An error shows itself at the next turn.
    pub fn drain(&self, arena: &mut BytesMut, out: &mut Vec<(SocketAddr, Bytes)>) {
        for _ in 0..BATCHES_PER_TURN {
            let batch = self.receive(|from, data| {
                out.push((from, cut(arena, data).freeze()));
            });
            if !matches!(batch, Ok(1..)) {
                return;
            }
        }
    }

    /// Sends to `to` (to the one peer, where it has one), as datagrams of `segment` bytes each if
    /// given; false when the system's buffer is full.
    ///
    /// # Errors
    /// `ConnectionRefused` as in `receive`, and what else the network says.
    pub fn send(&self, to: SocketAddr, segment: Option<usize>, contents: &[u8]) -> io::Result<bool> {
        let transmit =
            quinn_udp::Transmit { destination: self.peer.unwrap_or(to), ecn: None, contents, segment_size: segment, src_ip: None };
        let send = || self.state.try_send(UdpSockRef::from(&*self.socket), &transmit);
        sent(match send() {
            // Only a full buffer is told to those who wait: they do not know yet of a new socket
            // that it may be written to.
            Err(e) if e.kind() == io::ErrorKind::WouldBlock => self.socket.try_io(Interest::WRITABLE, send),
            done => done,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn what_is_looked_at_later_is_told_with_the_time_at_which_it_came() {
        let here = || BatchSocket::open(([127, 0, 0, 1], 0).into()).expect("a socket");
        let (from, mut to) = (here(), here());
        let at = to.local_addr().expect("an address");
        // Two clocks are read one after the other.
        let apart = Duration::from_millis(5);
        let mut told_rightly = || {
            let mut sent = Vec::new();
            for data in [b"first".as_slice(), b"second"] {
                let before = Instant::now();
                assert!(from.send(at, None, data).expect("sent"));
                sent.push((before, Instant::now(), data.to_vec()));
                std::thread::sleep(Duration::from_millis(20));
            }
            let mut came = Vec::new();
            let received = to.receive(|_, at, data| came.push((at, data.to_vec()))).expect("received");
            assert_eq!(received, Received { datagrams: 2, drained: true });
            let nothing = to.receive(|_, _, _| panic!("nothing more has come")).expect("received");
            assert_eq!(nothing, Received { datagrams: 0, drained: true });
            sent.iter().zip(&came).all(|((before, after, wanted), (at, data))| {
                assert!(data == wanted && *at + apart >= *before, "no earlier than it was sent");
                *at <= *after + apart
            })
        };
        // The system begins to stamp a moment after the first socket asks for it, and a machine may
        // stand still between two clocks: what came has then come when it is looked at.
        assert!((0..50).any(|_| told_rightly()));
    }

    #[tokio::test]
    async fn what_a_new_socket_sends_first_goes_out() {
        let there = UdpPort::open(([127, 0, 0, 1], 0).into(), None).expect("a socket");
        let to = there.local_addr().expect("an address");
        let here = UdpPort::open(([127, 0, 0, 1], 0).into(), None).expect("a socket");
        // Nothing is waited for in between.
        assert!(here.send(to, None, b"first").expect("sent"));
        there.readable().await.expect("readable");
        let mut got = Vec::new();
        there.drain(&mut BytesMut::new(), &mut got);
        assert_eq!(got.iter().map(|(_, data)| &data[..]).collect::<Vec<_>>(), [b"first"]);
    }
}
