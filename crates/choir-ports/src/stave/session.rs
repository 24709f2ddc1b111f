//! This end's side of one connection to another node: the control stream, and who is at the other
//! end.

use super::caller::Caller;
use bytes::{Buf, BytesMut};
use choir_core::facts::Fault;
use choir_host::clock::sleep_until;
use choir_proto::stave::{EXPORTER_LABEL, EXPORTER_LEN, Listener, ListenerConfig};
use quinn::{Connection, ConnectionError, RecvStream, SendStream, VarInt};
use std::{
    net::SocketAddr,
    time::{Duration, Instant},
};

/// How long a node may take to answer at all.
const ANSWER: Duration = Duration::from_secs(2);
/// Said with the last word.
const DONE: VarInt = VarInt::from_u32(0);
const NONSENSE: VarInt = VarInt::from_u32(1);

/// Why a node cannot be had, or not any more.
#[derive(Debug, Clone)]
pub(super) struct Failed {
    pub fault: Option<Fault>,
    pub why: String,
}

impl Failed {
    pub fn new(fault: Option<Fault>, why: impl Into<String>) -> Self {
        Self { fault, why: why.into() }
    }
}

/// An open connection.
pub(super) struct Session {
    pub conn: Connection,
    pub listener: Listener,
    send: SendStream,
    recv: RecvStream,
    out: BytesMut,
}

/// What a peer showed as its certificate.
pub(super) fn fingerprint_of(conn: &Connection) -> Option<String> {
    let certs = conn.peer_identity()?.downcast::<Vec<rustls::pki_types::CertificateDer<'static>>>().ok()?;
    certs.first().map(|c| super::identity::fingerprint_of(c))
}

/// What both ends of this connection can export, and nobody else.
pub(super) fn exported(conn: &Connection) -> Option<[u8; EXPORTER_LEN]> {
    let mut out = [0; EXPORTER_LEN];
    conn.export_keying_material(&mut out, EXPORTER_LABEL, b"").ok().map(|()| out)
}

pub(super) fn words(e: &ConnectionError) -> String {
    match e {
        ConnectionError::TimedOut => "it has fallen silent".into(),
        ConnectionError::Reset => "it was restarted".into(),
        ConnectionError::ApplicationClosed(c) if c.reason.is_empty() => "it ended the connection".into(),
        ConnectionError::ApplicationClosed(c) => super::plain_name(&String::from_utf8_lossy(&c.reason)),
        ConnectionError::VersionMismatch => "it speaks another version of QUIC".into(),
        ConnectionError::ConnectionClosed(c) if c.error_code == quinn::TransportErrorCode::crypto(120) => {
            "it does not speak Stave 1".into()
        }
        other => other.to_string(),
    }
}

impl Session {
    /// Calls a node.
    pub async fn open(caller: &Caller, at: SocketAddr, pins: &[String]) -> Result<Self, Failed> {
        let silent = |why: String| Failed::new(Some(Fault::Silent), why);
        let connecting = caller.endpoint().connect(at, "stave").map_err(|e| silent(format!("{at} cannot be called: {e}")))?;
        let conn = tokio::time::timeout(ANSWER, connecting).await.map_err(|_| silent(format!("nothing answers at {at}")))?.map_err(
            |e| match e {
                ConnectionError::TimedOut => silent(format!("nothing answers at {at}")),
                e => Failed::new(Some(Fault::WrongProtocol), format!("{at}: {}", words(&e))),
            },
        )?;
        if !pins.is_empty() && fingerprint_of(&conn).is_none_or(|f| !pins.contains(&f)) {
            conn.close(DONE, b"not an accepted source");
            return Err(Failed::new(Some(Fault::Login), format!("the certificate of {at} is not among the sources that the sheet allows")));
        }
        let exported = exported(&conn).ok_or_else(|| Failed::new(None, "the connection gives no keying material"))?;
        let (send, recv) = conn.open_bi().await.map_err(|e| silent(format!("{at}: {}", words(&e))))?;
        let config = ListenerConfig { hello: caller.hello(), key: caller.key(), exported };
        Ok(Self { conn, listener: Listener::new(config, Instant::now()), send, recv, out: BytesMut::new() })
    }

    /// Waits for one thing to happen on the control stream, and takes it in. Safe to cancel.
    pub async fn turn(&mut self) -> Result<(), Failed> {
        while let Some(data) = self.listener.poll_control() {
            self.out.extend_from_slice(&data);
        }
        let due = self.listener.poll_timeout();
        let ended = |e: ConnectionError| Failed::new(Some(Fault::PeerLost), words(&e));
        tokio::select! {
            written = self.send.write(&self.out), if !self.out.is_empty() => match written {
                Ok(n) => self.out.advance(n),
                Err(_) => return Err(ended(self.conn.closed().await)),
            },
            read = self.recv.read_chunk(64 << 10, true) => match read {
                Ok(Some(chunk)) => self.listener.handle_control(&chunk.bytes).map_err(|e| {
                    self.conn.close(NONSENSE, e.to_string().as_bytes());
                    Failed::new(Some(Fault::WrongProtocol), e.to_string())
                })?,
                _ => return Err(ended(self.conn.closed().await)),
            },
            () = sleep_until(due) => {
                self.listener.handle_timeout(Instant::now()).map_err(|e| Failed::new(Some(Fault::WrongProtocol), e.to_string()))?;
            }
        }
        Ok(())
    }

    /// Says goodbye, as far as the other end still listens.
    pub async fn end(mut self, why: &str) {
        self.listener.bye(why);
        while let Some(data) = self.listener.poll_control() {
            self.out.extend_from_slice(&data);
        }
        let _ = tokio::time::timeout(Duration::from_millis(200), async {
            if self.send.write_all(&self.out).await.is_ok() && self.send.finish().is_ok() {
                let _ = self.send.stopped().await;
            }
        })
        .await;
        self.conn.close(DONE, why.as_bytes());
    }
}
