//! A feed that is published to a server: connected, published, and again with growing pauses
//! whenever that is lost, from the next keyframe on.

use super::{
    super::{
        UnitOutlet,
        retry::{Attempt, Ended, Pause, keep_up},
        status::{Counters, LinkStatus},
    },
    READ, random_block,
};
use bytes::BytesMut;
use choir_core::{
    facts::{Contact, Encryption, Fault, Joining, Loss, Notice},
    secret::SecretText,
};
use choir_host::{Backoff, Stop, clock::sleep_until};
use choir_proto::{
    rtmp::{Amf, Challenge, Client, ClientEvent, ClientPlan, OutTag, TagWriter},
    ts::AccessUnit,
};
use rustls::{
    ClientConfig, RootCertStore,
    pki_types::{CertificateDer, ServerName, pem::PemObject},
};
use std::{
    collections::VecDeque,
    io,
    net::SocketAddr,
    path::PathBuf,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt},
    net::TcpSocket,
    task::JoinHandle,
};
use tokio_rustls::TlsConnector;

const RETRY_FIRST: Duration = Duration::from_millis(500);
const RETRY_MOST: Duration = Duration::from_secs(15);
/// While nobody listens on the port, which may be just starting.
const RETRY_NOBODY: Duration = Duration::from_secs(2);
const CONNECT: Duration = Duration::from_secs(8);
/// From the connection to the server's yes.
const AGREE: Duration = Duration::from_secs(12);
/// How long a server may take no bytes at all.
const STUCK: Duration = Duration::from_secs(15);
/// How old the oldest of what waits to be sent may become: then it is left out up to the next
/// keyframe.
const OLDEST: Duration = Duration::from_secs(3);
/// What the system keeps of what was sent: what waits should wait here, where its age is known.
const SYSTEM_KEEPS: u32 = 256 << 10;
/// Servers that send a caller on.
const ELSEWHERE_MAX: u32 = 5;
/// Questions who it is: one for the kind, one with the riddle.
const ASKED_MAX: u32 = 3;
const GOODBYE: Duration = Duration::from_millis(500);
/// How often what is shown is brought up to date.
const SHOW: Duration = Duration::from_secs(1);

/// Where a feed is published.
pub struct PushPlan {
    /// Host and port to call.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// The address without the key, as the server knows it.
    pub server: String,
    /// Its path.
    pub app: String,
    /// The stream key.
    pub key: SecretText,
    /// User and password, for servers that ask.
    pub login: Option<(String, SecretText)>,
    /// Within TLS.
    pub tls: bool,
    /// Certificates of the authority in place of the usual ones.
    pub authority: Option<PathBuf>,
    /// The feed's units.
    pub outlet: Arc<UnitOutlet>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// Publishes until stopped, or until the feed has ended.
pub fn spawn_push(plan: PushPlan, stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let status = plan.status.clone();
        let pusher = Pusher { place: Where::of(&plan), plan, answer: None, asked: 0, sent_on: 0, counters: Counters::default() };
        keep_up(pusher, &status, Backoff::new(RETRY_FIRST, RETRY_MOST), stop).await;
    })
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
    fn of(plan: &PushPlan) -> Self {
        Self { host: plan.host.clone(), port: plan.port, server: plan.server.clone(), app: plan.app.clone() }
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

struct Pusher {
    plan: PushPlan,
    place: Where,
    answer: Option<String>,
    asked: u32,
    sent_on: u32,
    counters: Counters,
}

/// How an attempt ended.
enum Outcome {
    Stopped,
    Held,
    /// The feed has ended.
    Over,
    Asks(Challenge),
    Elsewhere(String),
    Refused(String, String),
    Nobody(String),
    Failed(Option<Fault>, String),
}

trait Duplex: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Duplex for T {}

impl Attempt for Pusher {
    async fn attempt(&mut self, stop: &mut Stop) -> Ended {
        let before = self.plan.status.look().sessions;
        let outcome = self.once(stop).await;
        let was_up = self.plan.status.look().sessions > before;
        if was_up {
            (self.asked, self.sent_on) = (0, 0);
        }
        let peer = format!("{}:{}", self.place.host, self.place.port);
        let (pause, fault, why) = match outcome {
            Outcome::Stopped | Outcome::Over => return Ended::Over,
            Outcome::Held => return Ended::Again,
            Outcome::Asks(challenge) => match &self.plan.login {
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
                Some(place) if self.sent_on < ELSEWHERE_MAX && !self.plan.tls => {
                    self.plan.status.note(Notice::Redirected(place.server.clone()));
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
        // From the start again: where it was sent on to, and who it was, may be over.
        (self.place, self.answer, self.asked, self.sent_on) = (Where::of(&self.plan), None, 0, 0);
        Ended::Lost { was_up, pause, loss: Loss::Call { peer, fault, why } }
    }

    fn released(&mut self) {
        (self.place, self.answer, self.asked, self.sent_on) = (Where::of(&self.plan), None, 0, 0);
    }
}

/// What a refusal means, in the server's words.
fn refused(code: &str, says: &str) -> (Pause, Option<Fault>, String) {
    let clean = |t: &str| t.chars().filter(|c| !c.is_control()).take(200).collect::<String>();
    let (says, code) = (clean(says), clean(code));
    let why = if says.is_empty() { format!("refused: {code}") } else { format!("refused: {says}") };
    let low = why.to_lowercase();
    if low.contains("authfailed") || low.contains("nosuchuser") {
        return (Pause::UntilReleased, Some(Fault::Login), "user or password are refused".into());
    }
    let fault = match code.as_str() {
        _ if low.contains("another publisher") || low.contains("already") => Fault::Taken,
        "NetStream.Publish.BadName" | "NetStream.Publish.Denied" => Fault::StreamKey,
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

impl Pusher {
    async fn once(&mut self, stop: &mut Stop) -> Outcome {
        let status = self.plan.status.clone();
        status.set_joining(Joining::Calling(format!("{}:{}", self.place.host, self.place.port)));
        let connecting = tokio::time::timeout(CONNECT, self.connect());
        let connected = tokio::select! {
            c = connecting => c,
            () = stop.wait() => return Outcome::Stopped,
            () = status.control.woken() => return Outcome::Held,
        };
        let (stream, peer) = match connected {
            Ok(Ok(connected)) => connected,
            Ok(Err(outcome)) => return outcome,
            Err(_) => return Outcome::Failed(Some(Fault::Silent), "no answer".into()),
        };
        status.update(|l| {
            l.peer = Some(peer);
            l.encryption = if self.plan.tls { Encryption::Tls } else { Encryption::Clear };
        });
        let plan = ClientPlan {
            app: self.place.app.clone(),
            url: self.place.server.clone(),
            name: self.plan.key.reveal().to_owned(),
            publishes: true,
            answer: self.answer.clone(),
        };
        let mut call = Call {
            outlet: &self.plan.outlet,
            status: &status,
            stream,
            client: Client::new(plan, random_block()),
            tags: None,
            waiting: VecDeque::new(),
            skipping: false,
            left_out: 0,
            units: VecDeque::new(),
            sending: Vec::new(),
            sent: 0,
            counters: self.counters,
        };
        let outcome = call.run(stop).await;
        self.counters = call.counters;
        call.client.end();
        let _ = tokio::time::timeout(GOODBYE, call.last_words()).await;
        outcome
    }

    async fn connect(&self) -> Result<(Box<dyn Duplex>, SocketAddr), Outcome> {
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
                    if !self.plan.tls {
                        return Ok((Box::new(stream), addr));
                    }
                    let config = self.trusted().map_err(|why| Outcome::Failed(None, why))?;
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

    /// Whose signature is taken for the server's certificate.
    fn trusted(&self) -> Result<ClientConfig, String> {
        let mut roots = RootCertStore::empty();
        match &self.plan.authority {
            None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
            Some(path) => {
                let say = |e: &dyn std::fmt::Display| format!("authority {}: {e}", path.display());
                for cert in CertificateDer::pem_file_iter(path).map_err(|e| say(&e))? {
                    roots.add(cert.map_err(|e| say(&e))?).map_err(|e| say(&e))?;
                }
                if roots.is_empty() {
                    return Err(say(&"no certificate is in it"));
                }
            }
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().map_err(|e| e.to_string())?;
        Ok(config.with_root_certificates(roots).with_no_client_auth())
    }
}

/// One connection.
struct Call<'a> {
    outlet: &'a UnitOutlet,
    status: &'a LinkStatus,
    stream: Box<dyn Duplex>,
    client: Client,
    /// Once the server takes the stream.
    tags: Option<TagWriter>,
    /// What waits to be sent, and since when.
    waiting: VecDeque<(Instant, OutTag)>,
    /// Everything is left out up to the next keyframe.
    skipping: bool,
    /// Pictures that were left out and are not told yet.
    left_out: u64,
    units: VecDeque<AccessUnit>,
    /// Bytes that are being sent.
    sending: Vec<u8>,
    sent: usize,
    counters: Counters,
}

impl Call<'_> {
    async fn last_words(&mut self) -> io::Result<()> {
        while let Some(out) = self.client.poll_output() {
            self.stream.write_all(&out).await?;
        }
        self.stream.shutdown().await
    }

    async fn run(&mut self, stop: &mut Stop) -> Outcome {
        let (begun, mut moved) = (Instant::now(), Instant::now());
        let mut show = tokio::time::interval(SHOW);
        let mut buffer = BytesMut::with_capacity(READ);
        loop {
            self.fill();
            let has_more = self.sent < self.sending.len();
            let limit = match (&self.tags, has_more) {
                (None, _) => Some(begun + AGREE),
                (Some(_), true) => Some(moved + STUCK),
                (Some(_), false) => None,
            };
            buffer.clear();
            buffer.reserve(READ);
            let (mut from, mut to) = tokio::io::split(&mut self.stream);
            tokio::select! {
                () = stop.wait() => return Outcome::Stopped,
                () = self.status.control.woken() => if self.status.control.is_held() { return Outcome::Held },
                () = sleep_until(limit) => {
                    let why = if self.tags.is_some() { "it takes no bytes any more" } else { "it does not answer to the stream" };
                    return Outcome::Failed(Some(Fault::Silent), why.into());
                }
                wrote = to.write(&self.sending[self.sent..]), if has_more => match wrote {
                    Ok(n) if n > 0 => {
                        self.sent += n;
                        self.counters.bytes += n as u64;
                        moved = Instant::now();
                    }
                    _ => return Outcome::Failed(Some(Fault::PeerLost), "the connection is lost".into()),
                },
                read = from.read_buf(&mut buffer) => match read {
                    Ok(n) if n > 0 => {
                        if let Err(e) = self.client.handle(&buffer) {
                            return Outcome::Failed(Some(Fault::WrongProtocol), e.to_string());
                        }
                        if let Some(outcome) = self.events() {
                            return outcome;
                        }
                    }
                    _ => return Outcome::Failed(Some(Fault::PeerLost), "it closed the connection".into()),
                },
                () = self.outlet.filled(), if self.tags.is_some() => {
                    self.take();
                    if self.outlet.has_ended() && self.waiting.is_empty() {
                        return Outcome::Over;
                    }
                }
                _ = show.tick() => self.show(),
            }
        }
    }

    /// The next bytes, once those before have gone.
    fn fill(&mut self) {
        if self.sent < self.sending.len() {
            return;
        }
        (self.sending, self.sent) = (self.client.poll_output().unwrap_or_default(), 0);
        while self.sending.len() < READ
            && let Some((_, tag)) = self.waiting.pop_front()
        {
            self.counters.packets += 1;
            self.client.send(&tag);
            self.sending.extend(self.client.poll_output().unwrap_or_default());
        }
    }

    fn events(&mut self) -> Option<Outcome> {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Started => {
                    // What the feed sent before is of no use.
                    drop(self.outlet.take());
                    self.tags = Some(TagWriter::default());
                    self.status.begin_session();
                    let by = self.status.look().peer.map_or_else(String::new, |p| p.to_string());
                    self.status.note(Notice::Taken(by));
                    self.show();
                }
                ClientEvent::Refused { code, says } => return Some(Outcome::Refused(code, says)),
                ClientEvent::Elsewhere(url) => return Some(Outcome::Elsewhere(url)),
                ClientEvent::Asks(challenge) => return Some(Outcome::Asks(challenge)),
                ClientEvent::Ended => return Some(Outcome::Failed(Some(Fault::PeerLost), "it ended the stream".into())),
                ClientEvent::Media { .. } => {}
            }
        }
        None
    }

    /// Takes what the feed has: into the queue, and out of it what has become too old.
    fn take(&mut self) {
        self.outlet.take_into(&mut self.units);
        let Some(tags) = &mut self.tags else { return };
        let (now, mut made) = (Instant::now(), Vec::new());
        for unit in self.units.drain(..) {
            let before = tags.about();
            tags.push(&unit, &mut made);
            if tags.about() != before {
                self.client.tell(about(tags));
            }
        }
        for tag in made {
            if self.skipping && tag.keyframe {
                self.skipping = false;
                if let Some(tags) = &self.tags {
                    self.waiting.extend(tags.settings(tag.time).into_iter().map(|t| (now, t)));
                }
            }
            if self.skipping && !tag.settings {
                self.left_out += u64::from(tag.kind == choir_proto::rtmp::kind::VIDEO);
                continue;
            }
            self.waiting.push_back((now, tag));
        }
        self.leave_out(now);
    }

    /// What has waited too long goes, with all pictures that need it.
    fn leave_out(&mut self, now: Instant) {
        let waited = self.oldest(now);
        if waited < OLDEST {
            return;
        }
        let is_picture = |t: &OutTag| t.kind == choir_proto::rtmp::kind::VIDEO && !t.settings;
        // Up to the next keyframe that waits, or everything up to the next one that comes.
        let next = self.waiting.iter().skip(1).position(|(_, t)| t.keyframe).map(|at| at + 1);
        let gone = self.waiting.drain(..next.unwrap_or(self.waiting.len()));
        let (mut pictures, mut settings) = (0, Vec::new());
        for (at, tag) in gone {
            pictures += u64::from(is_picture(&tag));
            if tag.settings {
                settings.push((at.max(now), tag));
            }
        }
        settings.into_iter().rev().for_each(|tag| self.waiting.push_front(tag));
        self.skipping = next.is_none();
        self.outlet.note_dropped(pictures);
        self.status.note(Notice::LeftOut { pictures: pictures + std::mem::take(&mut self.left_out), waited });
    }

    fn oldest(&self, now: Instant) -> Duration {
        self.waiting.front().map_or(Duration::ZERO, |(at, _)| now.saturating_duration_since(*at))
    }

    /// What is shown of it.
    fn show(&self) {
        let now = Instant::now();
        let (waits, counters) = (self.oldest(now), self.counters);
        let took = self.client.unacknowledged().map(|behind| format!(", {} kB not acknowledged", behind / 1000)).unwrap_or_default();
        let how = format!("published by RTMP; {} ms wait to be sent{took}", waits.as_millis());
        self.status.update(|l| {
            (l.counters, l.read_at) = (counters, Some(now));
            if self.tags.is_some() {
                l.how = Some(how);
                l.contact = Contact::Up;
            }
        });
    }
}

/// What a server is told about the stream.
fn about(tags: &TagWriter) -> Vec<(String, Amf)> {
    let Some((width, height, hevc, sound)) = tags.about() else { return Vec::new() };
    let number = |name: &str, n: f64| (name.to_owned(), Amf::Number(n));
    // The old code of H.264, the four letters of H.265.
    let video = if hevc { f64::from(u32::from_be_bytes(*b"hvc1")) } else { 7.0 };
    let mut all = vec![number("width", f64::from(width)), number("height", f64::from(height)), number("videocodecid", video)];
    if let Some(sound) = sound {
        all.extend([number("audiocodecid", 10.0), number("audiosamplerate", f64::from(sound.sample_rate))]);
        all.push(("stereo".into(), Amf::Flag(sound.channels > 1)));
    }
    all.push(("encoder".into(), Amf::text("choir")));
    all
}
