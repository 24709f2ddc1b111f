//! Ports to be connected to.

use std::{io, net::SocketAddr};
use tokio::net::{TcpListener, TcpSocket};

/// Opens a TCP port to be connected to; after a restart the old connections do not keep it.
///
/// # Errors
/// The address is taken, not of this machine, or not allowed.
pub fn listen(addr: SocketAddr) -> io::Result<TcpListener> {
    let socket = if addr.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    socket.set_reuseaddr(true)?;
    socket.bind(addr)?;
    socket.listen(128)
}
