//! Transport stream in plain UDP datagrams, in and out.

use super::{Intake, Outlet, Stop, datagrams, status::LinkStatus, udp::UdpPort};
use crate::clock::unix_ms;
use bytes::{Bytes, BytesMut};
use choir_core::health::Contact;
use choir_proto::srt::Transmit;
use std::{collections::VecDeque, io, net::SocketAddr, sync::Arc, time::Instant};
use tokio::task::JoinHandle;

/// Receive batches per turn.
const BATCHES_PER_TURN: usize = 16;

/// Receives at `addr`.
///
/// # Errors
/// The address cannot be had.
pub fn spawn_udp_in(addr: SocketAddr, intake: Arc<dyn Intake>, status: Arc<LinkStatus>, mut stop: Stop) -> io::Result<JoinHandle<()>> {
    let socket = UdpPort::open(addr, None)?;
    let inode = socket.inode();
    let awaits = format!("nothing has come to port {} yet", addr.port());
    status.update(|l| {
        l.socket = inode;
        l.contact = Contact::Awaited(awaits.clone());
    });
    Ok(tokio::spawn(async move {
        let mut arena = BytesMut::new();
        let mut was_held = false;
        loop {
            tokio::select! {
                () = stop.wait() => return,
                _ = socket.readable() => {}
                () = status.wake.notified() => {}
            }
            let held = status.is_held();
            if held != was_held {
                was_held = held;
                status.update(|l| {
                    l.since = None;
                    l.contact = if held { Contact::Held } else { Contact::Awaited(awaits.clone()) };
                });
            }
            let mut pieces: Vec<(SocketAddr, Bytes)> = Vec::new();
            for _ in 0..BATCHES_PER_TURN {
                let batch = socket.receive(|from, data| {
                    arena.extend_from_slice(data);
                    pieces.push((from, arena.split().freeze()));
                });
                if !matches!(batch, Ok(1..)) {
                    break;
                }
            }
            let Some((from, _)) = pieces.first().filter(|_| !held) else { continue };
            let (from, bytes) = (*from, pieces.iter().map(|p| p.1.len() as u64).sum::<u64>());
            let mut session = 0;
            status.update(|l| {
                if l.since.is_none() {
                    l.since = Some((Instant::now(), unix_ms()));
                    l.sessions += 1;
                    l.contact = Contact::Up;
                    l.notes.push((false, format!("media comes from {from}")));
                }
                session = l.sessions;
                l.bytes += bytes;
                l.packets += pieces.len() as u64;
            });
            pieces.into_iter().for_each(|(_, data)| intake.push(session, data));
        }
    }))
}

/// Sends to `to`, seven packets a datagram.
///
/// # Errors
/// No socket can be had.
pub fn spawn_udp_out(to: SocketAddr, outlet: Arc<Outlet>, status: Arc<LinkStatus>, mut stop: Stop) -> io::Result<JoinHandle<()>> {
    let any: SocketAddr = if to.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { (std::net::Ipv6Addr::UNSPECIFIED, 0).into() };
    // Not connected: a receiver that is not there yet is no error for a way without handshake.
    let socket = UdpPort::open(any, None)?;
    let inode = socket.inode();
    status.update(|l| l.socket = inode);
    status.set_open();
    Ok(tokio::spawn(async move {
        let mut taken: VecDeque<Bytes> = VecDeque::new();
        loop {
            tokio::select! {
                () = stop.wait() => return,
                () = outlet.wake.notified() => {}
            }
            let ended = outlet.has_ended();
            outlet.swap(&mut taken);
            let (mut bytes, mut packets) = (0, 0);
            for piece in taken.drain(..).flat_map(|p| datagrams(&p).collect::<Vec<_>>()) {
                let t = Transmit { to, size: piece.len(), segment: None };
                loop {
                    match socket.send(&t, &piece) {
                        Ok(true) => break,
                        Ok(false) => {
                            if socket.writable().await.is_err() {
                                return;
                            }
                        }
                        Err(e) => {
                            status.note(true, format!("sending to {to}: {e}"));
                            break;
                        }
                    }
                }
                bytes += piece.len() as u64;
                packets += 1;
            }
            status.update(|l| {
                l.bytes += bytes;
                l.packets += packets;
            });
            if ended {
                return;
            }
        }
    }))
}
