//! Asks whether anybody still listens where a peer has become silent. The socket of a link is not
//! told so itself, since it is not connected.

use super::PROBE;
use std::{
    io,
    net::{SocketAddr, UdpSocket},
};

/// Silence from which it is asked, µs: an idle peer speaks each second and is left alone.
const ASKED_FROM_US: i64 = 1_100_000;

/// A question under way, or its answer.
pub(super) struct Gone {
    socket: UdpSocket,
    closed: bool,
}

impl Gone {
    /// Nobody listens any more at this peer, which has been silent for so long: asks once in each
    /// silence, and gives the answer from the next call on.
    pub fn look(asked: &mut Option<Self>, peer: SocketAddr, silent_us: i64) -> bool {
        if silent_us < ASKED_FROM_US {
            *asked = None;
            return false;
        }
        match asked {
            Some(asked) => asked.is_gone(),
            // What keeps it from asking says nothing of the peer.
            None => {
                *asked = Self::ask(peer).ok();
                false
            }
        }
    }

    fn ask(peer: SocketAddr) -> io::Result<Self> {
        let socket = UdpSocket::bind((super::any_address(peer.ip()), 0))?;
        socket.set_nonblocking(true)?;
        socket.connect(peer)?;
        socket.send(&PROBE)?;
        Ok(Self { socket, closed: false })
    }

    /// The system has said that nobody listens there.
    fn is_gone(&mut self) -> bool {
        let told = self.socket.take_error().ok().flatten();
        self.closed |= told.is_some_and(|e| e.kind() == io::ErrorKind::ConnectionRefused);
        self.closed
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::{Duration, Instant};

    #[test]
    fn a_port_that_was_closed_is_told_and_one_that_is_open_is_not() {
        let open = UdpSocket::bind("127.0.0.1:0").expect("a socket");
        let there = open.local_addr().expect("bound");
        open.set_nonblocking(true).expect("a socket");
        let (mut asked, mut heard) = (None, [0; 64]);
        for silent_us in [0, 1_000_000, 1_050_000] {
            assert!(!Gone::look(&mut asked, there, silent_us) && asked.is_none(), "an idle peer");
        }
        assert!(open.recv(&mut heard).is_err(), "it is not asked");
        for silent_us in [1_200_000, 1_400_000] {
            assert!(!Gone::look(&mut asked, there, silent_us));
        }
        assert_eq!(open.recv(&mut heard).expect("the question"), PROBE.len());
        assert!(open.recv(&mut heard).is_err(), "once in each silence");
        assert!(!Gone::look(&mut asked, there, 0) && asked.is_none(), "it speaks again");
        drop(open);
        let until = Instant::now() + Duration::from_secs(5);
        while !Gone::look(&mut asked, there, 1_200_000) {
            assert!(Instant::now() < until, "nobody said so");
            std::thread::yield_now();
        }
        assert!(Gone::look(&mut asked, there, 1_400_000), "it is remembered");
    }
}
