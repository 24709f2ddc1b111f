//! Speaking VISCA with one camera: the controller's socket and clock.

use bytes::BytesMut;
use choir_core::device::Control;
use choir_host::clock::sleep_until;
use choir_proto::visca::{Ask, Carrier, Controller, Outcome, Refusal, Stream, header};
use std::{
    collections::HashMap,
    io,
    net::{IpAddr, SocketAddr},
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpStream, UdpSocket},
    sync::{mpsc, oneshot},
};

/// Port of bare VISCA, which has no standard; this one is the most usual.
const BARE_PORT: u16 = 5678;
const CONNECT_PATIENCE: Duration = Duration::from_secs(5);
/// Orders that wait for the task.
const ORDERS: usize = 32;

/// Why a camera does not do as asked.
#[derive(Debug, thiserror::Error)]
pub enum ViscaError {
    /// No socket, or no connection.
    #[error("{at}: cannot be reached by VISCA ({cause})")]
    Socket {
        /// Where.
        at: SocketAddr,
        /// Why.
        cause: io::Error,
    },
    /// The camera's word.
    #[error("{at}: {cause}")]
    Refused {
        /// Where.
        at: SocketAddr,
        /// Why.
        cause: Refusal,
    },
    /// An answer that says nothing.
    #[error("{at}: invalid answer from the camera")]
    Strange {
        /// Where.
        at: SocketAddr,
    },
}

enum Wire {
    Udp(UdpSocket),
    Tcp(TcpStream, Stream),
}

impl Wire {
    async fn open(at: SocketAddr, control: Control) -> io::Result<Self> {
        if control == Control::ViscaTcp {
            let stream = tokio::time::timeout(CONNECT_PATIENCE, TcpStream::connect(at)).await??;
            stream.set_nodelay(true)?;
            return Ok(Self::Tcp(stream, Stream::default()));
        }
        let any: IpAddr = if at.is_ipv4() { [0, 0, 0, 0].into() } else { [0u16; 8].into() };
        let socket = UdpSocket::bind(SocketAddr::new(any, 0)).await?;
        socket.connect(at).await?;
        Ok(Self::Udp(socket))
    }

    async fn send(&mut self, data: &[u8]) -> io::Result<()> {
        match self {
            Self::Udp(s) => s.send(data).await.map(|_| ()),
            Self::Tcp(s, _) => s.write_all(data).await,
        }
    }

    /// Waits for messages. Safe to cancel.
    async fn receive(&mut self, buffer: &mut BytesMut, control: Control) -> io::Result<Vec<Vec<u8>>> {
        buffer.clear();
        let mut messages = Vec::new();
        match self {
            Self::Udp(s) => {
                s.recv_buf(buffer).await?;
                if control == Control::Visca {
                    messages.push(buffer.to_vec());
                } else {
                    // A datagram may hold several bare messages.
                    Stream::default().push(buffer, |m| messages.push(m.to_vec()));
                }
            }
            Self::Tcp(s, stream) => {
                if s.read_buf(buffer).await? == 0 {
                    return Err(io::ErrorKind::ConnectionReset.into());
                }
                stream.push(buffer, |m| messages.push(m.to_vec()));
            }
        }
        Ok(messages)
    }
}

type Answer = Result<Vec<u8>, ViscaError>;

/// A camera that can be asked; clones share it.
#[derive(Debug, Clone)]
pub struct Visca {
    at: SocketAddr,
    orders: mpsc::Sender<(Ask, oneshot::Sender<Answer>)>,
}

impl Visca {
    /// Opens the way to a camera; without a port the usual one.
    ///
    /// # Errors
    /// No socket or, by TCP, nobody listening.
    pub async fn open(ip: IpAddr, port: Option<u16>, control: Control, camera: u8) -> Result<Self, ViscaError> {
        let port = port.unwrap_or(if control == Control::Visca { header::PORT } else { BARE_PORT });
        let at = SocketAddr::new(ip, port);
        let wire = Wire::open(at, control).await.map_err(|cause| ViscaError::Socket { at, cause })?;
        Ok(Self::over(wire, at, control, camera))
    }

    fn over(wire: Wire, at: SocketAddr, control: Control, camera: u8) -> Self {
        let carrier = if control == Control::Visca { Carrier::Ip } else { Carrier::Raw };
        let (orders, rx) = mpsc::channel(ORDERS);
        tokio::spawn(run(wire, at, control, Controller::new(carrier, camera, Instant::now()), rx));
        Self { at, orders }
    }

    /// Where it is.
    #[must_use]
    pub fn at(&self) -> SocketAddr {
        self.at
    }

    /// Asks; gives the bytes of an inquiry's answer, or none for a command that is done.
    ///
    /// # Errors
    /// See [`ViscaError`].
    pub async fn ask(&self, ask: Ask) -> Answer {
        let gone = || ViscaError::Refused { at: self.at, cause: Refusal::Silent };
        let (tx, rx) = oneshot::channel();
        self.orders.send((ask, tx)).await.map_err(|_| gone())?;
        rx.await.unwrap_or_else(|_| Err(gone()))
    }
}

async fn run(
    mut wire: Wire,
    at: SocketAddr,
    control: Control,
    mut controller: Controller,
    mut orders: mpsc::Receiver<(Ask, oneshot::Sender<Answer>)>,
) {
    let mut waiting: HashMap<u64, oneshot::Sender<Answer>> = HashMap::new();
    let mut buffer = BytesMut::with_capacity(2048);
    let mut open = true;
    while open || !waiting.is_empty() {
        while let Some(data) = controller.poll_transmit() {
            // "Nobody listens" is told by silence too, which is repeated before it counts.
            if let Err(cause) = wire.send(&data).await
                && matches!(wire, Wire::Tcp(..))
            {
                tracing::debug!(%at, %cause, "VISCA connection lost");
                return;
            }
        }
        while let Some((ticket, outcome)) = controller.poll_outcome() {
            if let Some(tx) = waiting.remove(&ticket) {
                let _ = tx.send(match outcome {
                    Outcome::Done => Ok(Vec::new()),
                    Outcome::Value(bytes) => Ok(bytes),
                    Outcome::Refused(cause) => Err(ViscaError::Refused { at, cause }),
                });
            }
        }
        let deadline = controller.poll_timeout();
        tokio::select! {
            order = orders.recv(), if open => match order {
                Some((ask, tx)) => {
                    let ticket = controller.ask(Instant::now(), ask);
                    waiting.insert(ticket, tx);
                }
                None => open = false,
            },
            got = wire.receive(&mut buffer, control) => match got {
                Ok(messages) => messages.iter().for_each(|m| controller.handle_message(Instant::now(), m)),
                // By UDP this is "nobody listens there", which may change.
                Err(_) if matches!(wire, Wire::Udp(_)) => {}
                Err(_) => return,
            },
            () = sleep_until(deadline) => {}
        }
        controller.handle_timeout(Instant::now());
    }
}
