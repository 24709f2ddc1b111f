//! One UDP socket with batched receives and sends.

use choir_proto::srt::Transmit;
use quinn_udp::{BATCH_SIZE, RecvMeta, UdpSockRef, UdpSocketState};
use socket2::{Domain, Protocol, Socket, Type};
use std::{
    cell::RefCell,
    io::{self, IoSliceMut},
    net::SocketAddr,
    os::fd::AsFd,
    sync::atomic::{AtomicUsize, Ordering},
};
use tokio::{io::Interest, net::UdpSocket};

/// Buffer asked for: 24 ms of 200 links of 8 Mbit/s.
const BUFFER_WANTED: usize = 4 << 20;
/// Largest coalesced receive.
const RECEIVE: usize = 64 * 1024;
/// Datagrams handed to the system in one go.
pub(super) const SEND_BATCH: usize = 32;

static GRANTED: AtomicUsize = AtomicUsize::new(usize::MAX);

/// Bytes of receive buffer that the system granted at worst, when it was less than asked for.
#[must_use]
pub fn granted_receive_buffer() -> Option<(usize, usize)> {
    let granted = GRANTED.load(Ordering::Relaxed);
    (granted < BUFFER_WANTED).then_some((granted, BUFFER_WANTED))
}

thread_local! {
    // Receiving is synchronous, so all sockets of a thread share one set of buffers.
    static BUFFERS: RefCell<Vec<u8>> = RefCell::new(vec![0; RECEIVE * BATCH_SIZE]);
}

/// A socket of one port.
#[derive(Debug)]
pub struct UdpPort {
    socket: UdpSocket,
    state: UdpSocketState,
    peer: Option<SocketAddr>,
    max_segments: usize,
}

impl UdpPort {
    /// Opens a socket at `local`, to talk to `peer` only if given: then the system tells when nobody
    /// listens there.
    ///
    /// # Errors
    /// The address is taken, not of this machine, or not allowed.
    pub fn open(local: SocketAddr, peer: Option<SocketAddr>) -> io::Result<Self> {
        let socket = Socket::new(Domain::for_address(local), Type::DGRAM, Some(Protocol::UDP))?;
        socket.set_nonblocking(true)?;
        socket.set_recv_buffer_size(BUFFER_WANTED)?;
        socket.set_send_buffer_size(BUFFER_WANTED)?;
        socket.bind(&local.into())?;
        if let Some(peer) = peer {
            socket.connect(&peer.into())?;
        }
        let socket = UdpSocket::from_std(socket.into())?;
        let state = UdpSocketState::new(UdpSockRef::from(&socket))?;
        // The system reports twice what it uses for data.
        let granted = state.recv_buffer_size(UdpSockRef::from(&socket))? / 2;
        GRANTED.fetch_min(granted, Ordering::Relaxed);
        let max_segments = state.max_gso_segments().min(SEND_BATCH);
        Ok(Self { socket, state, peer, max_segments })
    }

    /// Own address.
    ///
    /// # Errors
    /// The system's word is passed on.
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
        rustix::fs::fstat(self.socket.as_fd()).ok().map(|s| s.st_ino)
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

    /// Receives one batch and hands each datagram on; gives how many there were, 0 when there was none.
    ///
    /// # Errors
    /// `ConnectionRefused` when the peer's host says that nobody listens there.
    pub fn receive(&self, mut each: impl FnMut(SocketAddr, &[u8])) -> io::Result<usize> {
        BUFFERS.with_borrow_mut(|buffers| {
            let mut metas = [RecvMeta::default(); BATCH_SIZE];
            let mut slices: Vec<IoSliceMut<'_>> = buffers.chunks_mut(RECEIVE).map(IoSliceMut::new).collect();
            let result =
                self.socket.try_io(Interest::READABLE, || self.state.recv(UdpSockRef::from(&self.socket), &mut slices, &mut metas));
            let count = match result {
                Ok(count) => count,
                Err(e) if e.kind() == io::ErrorKind::WouldBlock => return Ok(0),
                Err(e) => return Err(e),
            };
            drop(slices);
            let mut datagrams = 0;
            for (meta, buffer) in metas[..count].iter().zip(buffers.chunks(RECEIVE)) {
                for data in buffer[..meta.len].chunks(meta.stride.max(1)) {
                    datagrams += 1;
                    each(meta.addr, data);
                }
            }
            Ok(datagrams)
        })
    }

    /// Sends; false when the system's buffer is full.
    ///
    /// # Errors
    /// `ConnectionRefused` as in `receive`, and what else the network says.
    pub fn send(&self, t: &Transmit, contents: &[u8]) -> io::Result<bool> {
        let transmit =
            quinn_udp::Transmit { destination: self.peer.unwrap_or(t.to), ecn: None, contents, segment_size: t.segment, src_ip: None };
        match self.socket.try_io(Interest::WRITABLE, || self.state.try_send(UdpSockRef::from(&self.socket), &transmit)) {
            Ok(()) => Ok(true),
            Err(e) if e.kind() == io::ErrorKind::WouldBlock => Ok(false),
            Err(e) => Err(e),
        }
    }
}
