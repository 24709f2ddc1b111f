//! A server that is called, to publish or to play: how it is reached, what its refusals mean, and
//! what is remembered from one attempt to the next.

use super::{
    super::{
        retry::{Ended, Pause},
        status::LinkStatus,
    },
    Duplex, secure,
};
use choir_core::{
    facts::{Encryption, Fault, Joining, Loss, Notice},
    secret::SecretText,
};
use choir_host::Stop;
use choir_proto::{
    foreign::plain,
    rtmp::{Challenge, ClientPlan},
};
use rustls::pki_types::ServerName;
use std::{io, net::SocketAddr, path::PathBuf, sync::Arc, time::Duration};
use tokio::net::TcpSocket;
use tokio_rustls::TlsConnector;

pub(super) const RETRY_FIRST: Duration = Duration::from_millis(500);
pub(super) const RETRY_MOST: Duration = Duration::from_secs(15);
/// While nobody listens on the port, which may be just starting.
const RETRY_NOBODY: Duration = Duration::from_secs(2);
const CONNECT: Duration = Duration::from_secs(8);
/// What the system keeps of what was sent: what waits should wait here, where its age is known.
const SYSTEM_KEEPS: u32 = 256 << 10;
/// Servers that send a caller on.
const ELSEWHERE_MAX: u32 = 5;
/// Questions who it is: one for the kind, one with the riddle.
const ASKED_MAX: u32 = 3;

/// A server and what is wanted of it.
pub struct RtmpTarget {
    /// Host to call.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// The address without the key, as the server knows it.
    pub server: String,
    /// Its path.
    pub app: String,
    /// The stream key, or the name that is played.
    pub key: SecretText,
    /// User and password, for servers that ask.
    pub login: Option<(String, SecretText)>,
    /// Within TLS.
    pub tls: bool,
    /// Certificates of the authority in place of the usual ones.
    pub authority: Option<PathBuf>,
}

/// Whom to call.
#[derive(Clone, PartialEq, Eq)]
struct Where {
    host: String,
    port: u16,
    server: String,
    app: String,
}

impl Where {
    fn of(target: &RtmpTarget) -> Self {
        Self { host: target.host.clone(), port: target.port, server: target.server.clone(), app: target.app.clone() }
    }

    /// Of an address that a server names: `rtmp://host:port/app`.
    fn read(url: &str) -> Option<Self> {
        let rest = url.strip_prefix("rtmp://")?;
        let (authority, app) = rest.split_once('/')?;
        let (host, port) = authority.rsplit_once(':').map_or(Some((authority, 1935)), |(h, p)| Some((h, p.parse().ok()?)))?;
        let fits = !host.is_empty() && url.len() < 1024 && !url.chars().any(char::is_control);
        fits.then(|| Self { host: host.into(), port, server: url.trim_end_matches('/').into(), app: app.trim_matches('/').into() })
    }
}

/// How an attempt ended.
pub(super) enum Outcome {
    Stopped,
    Held,
    /// There is nothing more to send.
    Over,
    Asks(Challenge),
    Elsewhere(String),
    Refused(String, String),
    Nobody(String),
    Failed(Option<Fault>, String),
}

/// Attempts at one target.
pub(super) struct Calls {
    target: RtmpTarget,
    place: Where,
    answer: Option<String>,
    asked: u32,
    sent_on: u32,
}

impl Calls {
    pub fn new(target: RtmpTarget) -> Self {
        Self { place: Where::of(&target), target, answer: None, asked: 0, sent_on: 0 }
    }

    /// What was learnt may no longer hold: from the start again.
    pub fn forget(&mut self) {
        (self.place, self.answer, self.asked, self.sent_on) = (Where::of(&self.target), None, 0, 0);
    }

    /// What to ask for once connected.
    pub fn plan(&self, publishes: bool) -> ClientPlan {
        ClientPlan {
            app: self.place.app.clone(),
            url: self.place.server.clone(),
            name: self.target.key.reveal().to_owned(),
            publishes,
            answer: self.answer.clone(),
        }
    }

    /// Connects, unless it is stopped or held meanwhile.
    pub async fn connect(&self, status: &LinkStatus, stop: &mut Stop) -> Result<Box<dyn Duplex>, Outcome> {
        status.set_joining(Joining::Calling(format!("{}:{}", self.place.host, self.place.port)));
        let connected = tokio::select! {
            c = tokio::time::timeout(CONNECT, self.reach()) => c,
            () = stop.wait() => return Err(Outcome::Stopped),
            () = status.control.woken() => return Err(Outcome::Held),
        };
        let (stream, peer) = connected.unwrap_or_else(|_| Err(Outcome::Failed(Some(Fault::Silent), "no answer".into())))?;
        status.update(|l| {
            l.peer = Some(peer);
            l.encryption = if self.target.tls { Encryption::AnyTls } else { Encryption::Clear };
        });
        Ok(stream)
    }

    /// What follows from how an attempt ended; `sessions`: how many there were before it.
    pub fn ended(&mut self, outcome: Outcome, sessions: u32, status: &LinkStatus) -> Ended {
        let was_up = status.look().sessions > sessions;
        if was_up {
            (self.asked, self.sent_on) = (0, 0);
        }
        let peer = format!("{}:{}", self.place.host, self.place.port);
        let (pause, fault, why) = match outcome {
            Outcome::Stopped | Outcome::Over => return Ended::Over,
            Outcome::Held => return Ended::Again,
            Outcome::Asks(challenge) => match &self.target.login {
                None => {
                    let why = "it wants user and password: set them in the sheet, user = \"NAME\" and password = { env = \"NAME\" }";
                    (Pause::UntilReleased, Some(Fault::Login), why.into())
                }
                Some((user, password)) if self.asked < ASKED_MAX => {
                    self.asked += 1;
                    let own = hex::encode(choir_host::random::<4>());
                    self.answer = Some(challenge.answer(user, password.reveal(), &own));
                    return Ended::Again;
                }
                Some(_) => (Pause::UntilReleased, Some(Fault::Login), "user or password are refused".into()),
            },
            Outcome::Elsewhere(url) => match Where::read(&url) {
                // The key goes nowhere in the clear that was to go within TLS.
                Some(place) if self.sent_on < ELSEWHERE_MAX && !self.target.tls => {
                    status.note(Notice::Redirected(place.server.clone()));
                    self.sent_on += 1;
                    self.place = place;
                    return Ended::Again;
                }
                _ => (Pause::Growing, Some(Fault::Refused), "it sends the stream elsewhere, where it cannot go".into()),
            },
            Outcome::Refused(code, says) => refused(&code, &says),
            Outcome::Nobody(why) => (Pause::AtMost(RETRY_NOBODY), Some(Fault::PortClosed), why),
            Outcome::Failed(fault, why) => (Pause::Growing, fault, why),
        };
        self.forget();
        Ended::Lost { was_up, pause, loss: Loss::Call { peer, fault, why } }
    }

    async fn reach(&self) -> Result<(Box<dyn Duplex>, SocketAddr), Outcome> {
        let no_name = |e: io::Error| Outcome::Failed(Some(Fault::Name), e.to_string());
        let found = tokio::net::lookup_host((self.place.host.as_str(), self.place.port)).await.map_err(no_name)?;
        let mut last = Outcome::Failed(Some(Fault::Name), "the name has no address".into());
        for addr in found {
            let socket = if addr.is_ipv4() { TcpSocket::new_v4() } else { TcpSocket::new_v6() };
            let Ok(socket) = socket else { continue };
            let _ = socket.set_send_buffer_size(SYSTEM_KEEPS);
            match socket.connect(addr).await {
                Ok(stream) => {
                    let _ = stream.set_nodelay(true);
                    if !self.target.tls {
                        return Ok((Box::new(stream), addr));
                    }
                    let config = secure::caller(self.target.authority.as_deref()).map_err(|why| Outcome::Failed(None, why))?;
                    let name = ServerName::try_from(self.place.host.clone())
                        .map_err(|_| Outcome::Failed(Some(Fault::Name), "the host is no name that a certificate can have".into()))?;
                    let tls = TlsConnector::from(Arc::new(config)).connect(name, stream).await;
                    return match tls {
                        Ok(tls) => Ok((Box::new(tls), addr)),
                        Err(e) => Err(Outcome::Failed(Some(Fault::WrongProtocol), format!("TLS: {e}"))),
                    };
                }
                Err(e) => last = failed(&e),
            }
        }
        Err(last)
    }
}

/// What a refusal means, in the server's words.
fn refused(code: &str, says: &str) -> (Pause, Option<Fault>, String) {
    let (says, code) = (plain(says, 200), plain(code, 200));
    let why = if says.is_empty() { format!("refused: {code}") } else { format!("refused: {says}") };
    let low = why.to_lowercase();
    if low.contains("authfailed") || low.contains("nosuchuser") {
        return (Pause::UntilReleased, Some(Fault::Login), "user or password are refused".into());
    }
    let fault = match code.as_str() {
        _ if low.contains("another publisher") || low.contains("already") => Fault::Taken,
        "NetStream.Publish.BadName" | "NetStream.Publish.Denied" | "NetStream.Play.StreamNotFound" => Fault::StreamKey,
        "NetConnection.Connect.InvalidApp" => Fault::Path,
        _ => Fault::Refused,
    };
    (Pause::Growing, Some(fault), why)
}

fn failed(e: &io::Error) -> Outcome {
    match e.kind() {
        io::ErrorKind::ConnectionRefused => Outcome::Nobody("nobody answers on this port".into()),
        io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable | io::ErrorKind::TimedOut => {
            Outcome::Failed(Some(Fault::Silent), e.to_string())
        }
        _ => Outcome::Failed(None, e.to_string()),
    }
}
