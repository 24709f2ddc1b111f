//! A camera that answers VISCA: over IP with its numbers, and bare by TCP.

use super::state::Shared;
use crate::{SimError, camera::Place};
use choir_host::{Stop, tcp::listen};
use choir_proto::visca::{
    Ask, Header, Payload, Reply, Stream, header,
    wire::{ZOOM_SPEED_MAX, write_nibbles},
};
use std::{io, net::SocketAddr, sync::Arc};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream, UdpSocket},
};

/// Port of the bare protocol.
const BARE: u16 = 5678;
/// Steps of the whole range of pan and of tilt.
const STEPS: f64 = 2448.0;
const ZOOM_STEPS: f64 = 16_384.0;

/// Opens both ports and answers until the life ends.
pub(super) fn serve(shared: &Arc<Shared>, life: &Stop) -> Result<(), SimError> {
    let ip = shared.look(|s| s.network.address);
    let fail = |port: u16| move |cause: io::Error| SimError::Address { who: "VISCA".into(), addr: SocketAddr::new(ip.into(), port), cause };
    let socket = std::net::UdpSocket::bind((ip, header::PORT)).and_then(|s| s.set_nonblocking(true).map(|()| s));
    let socket = socket.and_then(UdpSocket::from_std).map_err(fail(header::PORT))?;
    let listener = listen(SocketAddr::new(ip.into(), BARE)).map_err(fail(BARE))?;
    let (me, mut stop) = (shared.clone(), life.clone());
    shared.task(life, async move {
        tokio::select! {
            () = by_ip(&me, &socket) => {}
            () = bare(&me, &listener) => {}
            () = stop.wait() => {}
        }
    });
    Ok(())
}

async fn by_ip(shared: &Shared, socket: &UdpSocket) {
    let mut buffer = [0; 64];
    // The number of the last message that was carried out; nobody has said anything yet.
    let mut last: Option<u32> = None;
    loop {
        let Ok((n, from)) = socket.recv_from(&mut buffer).await else { continue };
        let Some((h, message)) = Header::read(&buffer[..n]) else { continue };
        let mut answers = Vec::new();
        match h.kind {
            Payload::Control if message == [0x01] => {
                last = Some(0);
                answers.push((Payload::ControlReply, vec![0x01]));
            }
            Payload::Command | Payload::Inquiry => {
                // A number out of order means that a restart has been missed; the first of all may
                // be any.
                if last.is_some_and(|l| h.sequence > l.wrapping_add(1)) {
                    answers.push((Payload::ControlReply, vec![0x0F, 0x01]));
                } else {
                    let again = last == Some(h.sequence);
                    last = Some(h.sequence);
                    answers.extend(carry_out(shared, message, again).into_iter().map(|a| (Payload::Reply, a)));
                }
            }
            _ => {}
        }
        for (kind, message) in answers {
            let _ = socket.send_to(&Header { kind, sequence: h.sequence }.datagram(&message), from).await;
        }
    }
}

async fn bare(shared: &Shared, listener: &TcpListener) {
    let mut talks = tokio::task::JoinSet::<()>::new();
    loop {
        tokio::select! {
            Ok((stream, _)) = listener.accept() => talk(shared, stream).await,
            Some(_) = talks.join_next() => {}
        }
    }
}

/// One controller at a time, as on a cable.
async fn talk(shared: &Shared, mut stream: TcpStream) {
    let (mut cutter, mut buffer) = (Stream::default(), [0; 256]);
    loop {
        let n = match stream.read(&mut buffer).await {
            Ok(0) | Err(_) => return,
            Ok(n) => n,
        };
        let mut answers = Vec::new();
        cutter.push(&buffer[..n], |m| answers.extend(carry_out(shared, m, false)));
        for a in answers {
            if stream.write_all(&a).await.is_err() {
                return;
            }
        }
    }
}

/// Does what is asked, unless it has been done already; gives the answers.
fn carry_out(shared: &Shared, message: &[u8], again: bool) -> Vec<Vec<u8>> {
    const ME: u8 = 1;
    let Some((camera, ask)) = Ask::read(message) else { return vec![Reply::BadSyntax.message(ME)] };
    if camera != ME {
        return Vec::new();
    }
    let head = &shared.head;
    let done = || vec![Reply::Taken(1).message(ME), Reply::Done(1).message(ME)];
    match ask {
        Ask::Version => return vec![Reply::value(&[0x7A, 0x01, 0x00, 0x20, 0x04, 0x21, 0x02]).message(ME)],
        Ask::Position => {
            let p = head.place();
            let value = [write_nibbles((p.pan * STEPS) as i16), write_nibbles((p.tilt * STEPS) as i16)].concat();
            return vec![Reply::value(&value).message(ME)];
        }
        Ask::ZoomPosition => {
            let steps = (head.place().zoom * ZOOM_STEPS) as u16;
            return vec![Reply::value(&write_nibbles(steps as i16)).message(ME)];
        }
        Ask::StopMove | Ask::StopZoom => {
            if shared.loses_stop() {
                return Vec::new();
            }
            if ask == Ask::StopMove { head.change(|s| (s.pan, s.tilt) = (0.0, 0.0)) } else { head.change(|s| s.zoom = 0.0) }
        }
        _ if again => {}
        Ask::Move(d) => head.change(|s| (s.pan, s.tilt) = (d.pan, d.tilt)),
        Ask::Zoom(speed) => head.change(|s| s.zoom = (speed * f64::from(ZOOM_SPEED_MAX)).round() / f64::from(ZOOM_SPEED_MAX)),
        Ask::Home => head.travel(Place::default()),
        Ask::Goto(n) => match shared.look(|s| s.presets.get(&n).map(|p| p.1)) {
            Some(at) => head.travel(at),
            None => return vec![Reply::NotNow(1).message(ME)],
        },
        Ask::Store(n) => {
            let at = head.place();
            shared.look(|s| {
                let name = s.presets.get(&n).map_or_else(|| format!("Preset {n}"), |p| p.0.clone());
                s.presets.insert(n, (name, at));
            });
        }
        Ask::Tally(on) => shared.look(|s| s.tally = on),
        Ask::Clear => {}
    }
    done()
}
