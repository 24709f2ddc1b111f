//! Pulls a source: asks, proves who it is, sets up tracks, keeps the session alive.
//!
//! ```text
//! options → describe → (Described) set_up() → setup ... → (SetUp) play() → (Playing) ... frames, keep-alive
//! ```

use super::{
    message::{Inbox, Incoming, Method, Request, Response},
    sdp::{SessionDescription, parse_sdp},
    transport::{Delivery, Transport, parse_transports},
    url::RtspUrl,
};
use crate::{
    auth::{Challenge, Credentials, Scheme, challenges},
    foreign::plain,
};
use bytes::{Bytes, BytesMut};
use std::{
    collections::VecDeque,
    net::IpAddr,
    time::{Duration, Instant},
};

/// How long a device may take to answer.
const PATIENCE: Duration = Duration::from_secs(8);
/// Session timeout when the device names none (RFC 2326, 12.37).
const TIMEOUT: Duration = Duration::from_secs(60);
/// Proofs tried for one request: the challenge, and a fresh number.
const PROOFS_MAX: u32 = 3;

/// How packets are to travel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lower {
    /// UDP.
    Udp,
    /// In the connection.
    Tcp,
    /// A group.
    Multicast,
}

impl std::fmt::Display for Lower {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Udp => "UDP",
            Self::Tcp => "TCP",
            Self::Multicast => "multicast",
        })
    }
}

/// Settings.
#[derive(Debug, Clone)]
pub struct ClientConfig {
    /// What to pull.
    pub url: RtspUrl,
    /// Who asks.
    pub credentials: Option<Credentials>,
    /// Of the challenges of a device, leave out this many of the best: another one is tried after a
    /// refusal.
    pub skip_schemes: usize,
    /// The device has asked for more than the password itself before: that is never sent to it.
    pub no_basic: bool,
    /// Name given in requests.
    pub software: String,
    /// Random, for proofs.
    pub seed: u64,
}

/// One track to set up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrackPorts {
    /// Its place in the description.
    pub track: usize,
    /// How.
    pub lower: Lower,
    /// Own ports for UDP.
    pub ports: Option<(u16, u16)>,
}

/// One track that has been set up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetTrack {
    /// Its place in the description.
    pub track: usize,
    /// What the device settled.
    pub transport: Transport,
}

/// What happens.
#[derive(Debug)]
pub enum ClientEvent {
    /// The device has said what it has: choose with [`Client::set_up`].
    Described(SessionDescription),
    /// All tracks are set up: open what is needed, then [`Client::play`].
    SetUp(Vec<SetTrack>),
    /// It plays. For each track: its place and the timestamp at which it starts.
    Playing(Vec<(usize, u32)>),
    /// A packet on a channel.
    Frame(u8, Bytes),
    /// Nothing more will come.
    Ended(ClientEnd),
}

/// Why it ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ClientEnd {
    /// It wants to know who asks, and nobody was named.
    NoCredentials(String),
    /// It does not take the credentials; so many ways to prove them were offered.
    Refused(String, usize),
    /// It cannot do what was asked: method, status, words.
    Status(Method, u16, String),
    /// It does not send this way.
    TransportRefused,
    /// It is elsewhere.
    Redirect(RtspUrl),
    /// No answer in time.
    Silent(Method),
    /// What came is no RTSP, or makes no sense.
    Nonsense(String),
    /// The device ended the session.
    Closed,
    /// We ended it.
    Done,
}

impl std::fmt::Display for ClientEnd {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NoCredentials(realm) => write!(f, "the device requires a user and a password (for \"{realm}\")"),
            Self::Refused(scheme, _) => write!(f, "the device does not take this user and password ({scheme})"),
            Self::Status(_, 404, _) => f.write_str("the device has nothing under this path (404)"),
            Self::Status(_, 453, _) => f.write_str("the device has no room for another viewer (453)"),
            Self::Status(_, 503, _) => f.write_str("the device has no picture yet (503)"),
            Self::Status(method, status, words) => write!(f, "the device answers {} with {status} {words}", method.word()),
            Self::TransportRefused => f.write_str("the device does not send this way (461)"),
            Self::Redirect(url) => write!(f, "the device points to {url}"),
            Self::Silent(method) => write!(f, "the device does not answer {}", method.word()),
            Self::Nonsense(what) => f.write_str(what),
            Self::Closed => f.write_str("the device closed the connection"),
            Self::Done => f.write_str("ended here"),
        }
    }
}

#[derive(Debug)]
struct Pending {
    cseq: u32,
    request: Request,
    /// Track that a SETUP is for.
    setup: Option<TrackPorts>,
    sent: Instant,
    proofs: u32,
    keep_alive: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum KeepAlive {
    GetParameter,
    Options,
}

/// Characters of what a server calls itself.
const SERVER_MAX: usize = 60;
/// Longest reason or realm that is told.
const WORDS_MAX: usize = 200;

/// One pull. See the module for the order of events.
#[derive(Debug)]
pub struct Client {
    config: ClientConfig,
    inbox: Inbox,
    out: VecDeque<Bytes>,
    events: VecDeque<ClientEvent>,
    cseq: u32,
    pending: Vec<Pending>,
    challenge: Option<Challenge>,
    uses: u32,
    session: Option<String>,
    timeout: Duration,
    keep_alive: KeepAlive,
    next_keep_alive: Option<Instant>,
    description: SessionDescription,
    base: String,
    /// The address asked for is used as base, since the one given led nowhere.
    own_base: bool,
    setups: VecDeque<TrackPorts>,
    set: Vec<SetTrack>,
    ended: bool,
    /// Round trip of the last answer.
    rtt: Option<Duration>,
    /// What the server calls itself.
    server: Option<String>,
}

impl Client {
    /// Begins to ask.
    #[must_use]
    pub fn new(config: ClientConfig, now: Instant) -> Self {
        let base = config.url.to_string();
        let mut client = Self {
            config,
            inbox: Inbox::default(),
            out: VecDeque::new(),
            events: VecDeque::new(),
            cseq: 0,
            pending: Vec::new(),
            challenge: None,
            uses: 0,
            session: None,
            timeout: TIMEOUT,
            keep_alive: KeepAlive::Options,
            next_keep_alive: None,
            description: SessionDescription::default(),
            base,
            own_base: false,
            setups: VecDeque::new(),
            set: Vec::new(),
            ended: false,
            rtt: None,
            server: None,
        };
        client.send(now, Request::new(Method::Options, client.base.clone()), None, false);
        client
    }

    /// Where read bytes go; then call [`Client::handle_input`].
    pub fn buffer(&mut self) -> &mut BytesMut {
        self.inbox.buffer()
    }

    /// The next bytes to send.
    pub fn poll_transmit(&mut self) -> Option<Bytes> {
        self.out.pop_front()
    }

    /// The next event.
    pub fn poll_event(&mut self) -> Option<ClientEvent> {
        self.events.pop_front()
    }

    /// Round trip of the last answer.
    #[must_use]
    pub fn rtt(&self) -> Option<Duration> {
        self.rtt
    }

    /// What the server calls itself, once it has.
    #[must_use]
    pub fn server(&self) -> Option<&str> {
        self.server.as_deref().filter(|s| !s.trim().is_empty())
    }

    /// How the credentials are proved.
    #[must_use]
    pub fn scheme(&self) -> Option<String> {
        self.challenge.as_ref().map(|c| c.scheme.to_string())
    }

    /// Reads what has come.
    pub fn handle_input(&mut self, now: Instant) {
        while !self.ended {
            match self.inbox.take() {
                Ok(None) => return,
                Ok(Some(Incoming::Frame(channel, data))) => self.events.push_back(ClientEvent::Frame(channel, data)),
                Ok(Some(Incoming::Response(r))) => self.response(now, r),
                Ok(Some(Incoming::Request(r))) => self.asked(&r),
                Err(e) => self.end(ClientEnd::Nonsense(e.to_string())),
            }
        }
    }

    /// The connection is gone.
    pub fn handle_closed(&mut self) {
        self.end(ClientEnd::Closed);
    }

    /// Repeats nothing; ends when an answer is overdue, and keeps the session alive.
    pub fn handle_timeout(&mut self, now: Instant) {
        if let Some(late) = self.pending.iter().find(|p| p.sent + PATIENCE <= now) {
            let method = late.request.method.clone();
            // A device that sends pictures but forgets to answer is still there.
            if late.keep_alive {
                self.pending.retain(|p| !p.keep_alive);
            } else {
                return self.end(ClientEnd::Silent(method));
            }
        }
        if self.next_keep_alive.is_some_and(|at| at <= now) {
            self.next_keep_alive = Some(now + self.keep_alive_every());
            let method = match self.keep_alive {
                KeepAlive::GetParameter => Method::GetParameter,
                KeepAlive::Options => Method::Options,
            };
            self.send(now, Request::new(method, self.aggregate()), None, true);
        }
    }

    /// When to call `handle_timeout`.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.pending.iter().map(|p| p.sent + PATIENCE).chain(self.next_keep_alive).min()
    }

    /// Sets these tracks up, one after the other.
    pub fn set_up(&mut self, now: Instant, tracks: Vec<TrackPorts>) {
        self.setups = tracks.into();
        self.next_setup(now);
    }

    /// Begins to play.
    pub fn play(&mut self, now: Instant) {
        let mut request = Request::new(Method::Play, self.aggregate());
        request.headers.add("Range", "npt=0.000-");
        self.send(now, request, None, false);
    }

    /// Says goodbye.
    pub fn tear_down(&mut self, now: Instant) {
        if self.session.is_some() && !self.ended {
            self.send(now, Request::new(Method::Teardown, self.aggregate()), None, false);
        }
        self.ended = true;
    }

    /// A packet to send on a channel (receiver reports).
    pub fn send_frame(&mut self, channel: u8, data: &[u8]) {
        let mut frame = BytesMut::from(&super::message::frame_header(channel, data.len())[..]);
        frame.extend_from_slice(data);
        self.out.push_back(frame.freeze());
    }

    fn aggregate(&self) -> String {
        RtspUrl::control(&self.base, self.description.control.as_deref())
    }

    fn keep_alive_every(&self) -> Duration {
        (self.timeout.mul_f64(0.4)).clamp(Duration::from_secs(2), Duration::from_secs(30))
    }

    fn end(&mut self, why: ClientEnd) {
        if !self.ended {
            self.ended = true;
            self.events.push_back(ClientEvent::Ended(why));
        }
    }

    fn send(&mut self, now: Instant, request: Request, setup: Option<TrackPorts>, keep_alive: bool) {
        self.transmit(now, Pending { cseq: 0, request, setup, sent: now, proofs: 0, keep_alive });
    }

    fn transmit(&mut self, now: Instant, mut pending: Pending) {
        self.cseq += 1;
        (pending.cseq, pending.sent) = (self.cseq, now);
        let request = &mut pending.request;
        request.headers.set("CSeq", self.cseq.to_string());
        request.headers.set("User-Agent", self.config.software.clone());
        if let Some(session) = &self.session {
            request.headers.set("Session", session.clone());
        }
        if let (Some(challenge), Some(credentials)) = (&self.challenge, &self.config.credentials) {
            self.uses += 1;
            let cnonce = format!("{:016x}", self.config.seed.wrapping_mul(0x9E37_79B9_7F4A_7C15).wrapping_add(u64::from(self.cseq)));
            let proof = challenge.answer(credentials, request.method.word(), &request.uri, self.uses, &cnonce);
            request.headers.set("Authorization", proof);
        }
        self.out.push_back(request.to_bytes());
        self.pending.push(pending);
    }

    /// A device may ask as well.
    fn asked(&mut self, request: &Request) {
        let mut response = Response::new(match request.method {
            Method::Options | Method::GetParameter | Method::SetParameter | Method::Redirect | Method::Teardown => 200,
            _ => 501,
        });
        if let Some(cseq) = request.headers.get("CSeq") {
            response.headers.add("CSeq", cseq);
        }
        self.out.push_back(response.to_bytes());
        match request.method {
            Method::Redirect => match request.headers.get("Location").map(RtspUrl::parse) {
                Some(Ok(url)) => self.end(ClientEnd::Redirect(url)),
                _ => self.end(ClientEnd::Closed),
            },
            Method::Teardown => self.end(ClientEnd::Closed),
            _ => {}
        }
    }

    fn response(&mut self, now: Instant, r: Response) {
        if let Some(name) = r.headers.get("Server").filter(|_| self.server.is_none()) {
            self.server = Some(plain(name, SERVER_MAX));
        }
        // Some devices leave the number out: then it is the oldest.
        let number = r.headers.get("CSeq").and_then(|c| c.trim().parse::<u32>().ok());
        let at = match number {
            Some(n) => self.pending.iter().position(|p| p.cseq == n),
            None => (!self.pending.is_empty()).then_some(0),
        };
        let Some(pending) = at.map(|i| self.pending.remove(i)) else { return };
        // These are answered once there is a picture, whenever that is.
        if !matches!(pending.request.method, Method::Describe | Method::Play) {
            self.rtt = Some(now.saturating_duration_since(pending.sent));
        }
        match r.status {
            100..=199 => self.pending.push(pending),
            200..=299 => self.success(now, pending, &r),
            300..=399 => match r.headers.get("Location").map(RtspUrl::parse) {
                Some(Ok(url)) => self.end(ClientEnd::Redirect(url)),
                _ => self.end(ClientEnd::Nonsense(format!("the device points elsewhere ({}) but does not say where", r.status))),
            },
            401 => self.challenged(now, pending, &r),
            status => self.failure(now, pending, status, plain(&r.reason, WORDS_MAX)),
        }
    }

    fn challenged(&mut self, now: Instant, mut pending: Pending, r: &Response) {
        let mut offered = challenges(r.headers.all("WWW-Authenticate"));
        let better = self.config.no_basic || offered.iter().any(|c| c.scheme != Scheme::Basic);
        offered.retain(|c| c.scheme != Scheme::Basic || !better);
        let Some(best) = offered.get(self.config.skip_schemes.min(offered.len().saturating_sub(1))).cloned() else {
            return self.end(ClientEnd::Nonsense("the device requires an authentication scheme that is not supported".into()));
        };
        if self.config.credentials.is_none() {
            return self.end(ClientEnd::NoCredentials(plain(&best.realm, WORDS_MAX)));
        }
        let proved = pending.request.headers.get("Authorization").is_some();
        // A proof with a number that has since changed is no refusal; the device says so, or the
        // number tells.
        let old =
            best.stale || self.challenge.as_ref().is_some_and(|c| c.nonce != best.nonce && pending.proofs == 0 && self.session.is_some());
        if proved && !old || pending.proofs >= PROOFS_MAX {
            return self.end(ClientEnd::Refused(best.scheme.to_string(), offered.len()));
        }
        pending.proofs += 1;
        self.challenge = Some(best);
        self.uses = 0;
        self.transmit(now, pending);
    }

    fn failure(&mut self, now: Instant, pending: Pending, status: u16, words: String) {
        if pending.keep_alive {
            // It does not know this kind; the other does as well.
            self.keep_alive = KeepAlive::Options;
            return;
        }
        match (&pending.request.method, status) {
            // Not every device knows it, and nothing depends on it.
            (Method::Options, _) if self.description.tracks.is_empty() => self.describe(now),
            (Method::Setup, 461) => self.end(ClientEnd::TransportRefused),
            (Method::Setup, 400..=404 | 454 | 459) if !self.own_base && self.base != self.config.url.to_string() => {
                // The base it gave leads nowhere: from the address that was asked for.
                self.own_base = true;
                self.base = self.config.url.to_string();
                if let Some(setup) = pending.setup {
                    self.setups.push_front(setup);
                }
                self.next_setup(now);
            }
            (method, status) => self.end(ClientEnd::Status(method.clone(), status, words)),
        }
    }

    fn describe(&mut self, now: Instant) {
        let mut request = Request::new(Method::Describe, self.config.url.to_string());
        request.headers.add("Accept", "application/sdp");
        self.send(now, request, None, false);
    }

    fn success(&mut self, now: Instant, pending: Pending, r: &Response) {
        if let Some(session) = r.headers.get("Session") {
            let mut parts = session.split(';');
            let name = parts.next().unwrap_or_default().trim().to_owned();
            let timeout = parts.find_map(|p| p.trim().strip_prefix("timeout=")?.trim().parse::<u64>().ok());
            if let Some(t) = timeout.filter(|t| *t > 0) {
                self.timeout = Duration::from_secs(t.min(3600));
            }
            if !name.is_empty() {
                self.session = Some(name);
            }
        }
        if pending.keep_alive {
            return;
        }
        match pending.request.method {
            Method::Options => {
                let public = r.headers.all("Public").collect::<Vec<_>>().join(",").to_ascii_uppercase();
                if public.split(',').any(|m| m.trim() == "GET_PARAMETER") {
                    self.keep_alive = KeepAlive::GetParameter;
                }
                self.describe(now);
            }
            Method::Describe => {
                let header = |n| r.headers.get(n).map(str::trim).filter(|v| RtspUrl::parse(v).is_ok());
                self.base =
                    header("Content-Base").or(header("Content-Location")).map_or_else(|| self.config.url.to_string(), str::to_owned);
                match parse_sdp(&String::from_utf8_lossy(&r.body)) {
                    Ok(sdp) => {
                        self.description = sdp.clone();
                        self.events.push_back(ClientEvent::Described(sdp));
                    }
                    Err(e) => self.end(ClientEnd::Nonsense(e.to_string())),
                }
            }
            Method::Setup => {
                let Some(asked) = pending.setup else { return };
                match settled(asked, r.headers.get("Transport")) {
                    Some(transport) => self.set.push(SetTrack { track: asked.track, transport }),
                    None => return self.end(ClientEnd::TransportRefused),
                }
                self.next_setup(now);
            }
            Method::Play => {
                self.next_keep_alive = Some(now + self.keep_alive_every());
                let infos = self.starts(r.headers.get("RTP-Info").unwrap_or_default());
                self.events.push_back(ClientEvent::Playing(infos));
            }
            _ => {}
        }
    }

    fn next_setup(&mut self, now: Instant) {
        let Some(next) = self.setups.pop_front() else {
            self.events.push_back(ClientEvent::SetUp(std::mem::take(&mut self.set)));
            return;
        };
        let control = self.description.tracks.get(next.track).and_then(|t| t.control.clone());
        let mut request = Request::new(Method::Setup, RtspUrl::control(&self.base, control.as_deref()));
        let channel = (2 * self.set.len()) as u8;
        let offer = match next.lower {
            Lower::Udp => Transport { client_port: next.ports, ..Transport::new(Delivery::Udp) },
            Lower::Tcp => Transport { interleaved: Some((channel, channel + 1)), ..Transport::new(Delivery::Tcp) },
            Lower::Multicast => Transport::new(Delivery::Multicast),
        };
        request.headers.add("Transport", offer.to_string());
        self.send(now, request, Some(next), false);
    }

    /// Where each track starts, by the answer to PLAY; entries are told apart by the end of their
    /// address.
    fn starts(&self, header: &str) -> Vec<(usize, u32)> {
        let mut found = Vec::new();
        for (n, entry) in header.split(',').enumerate() {
            let mut url = "";
            let mut time = None;
            for field in entry.split(';') {
                match field.trim().split_once('=') {
                    Some(("url", u)) => url = u.trim_matches('"'),
                    Some(("rtptime", t)) => time = t.trim().parse::<u32>().ok(),
                    _ => {}
                }
            }
            let by_name = self.description.tracks.iter().position(|t| {
                t.control.as_deref().is_some_and(|c| !c.is_empty() && url.trim_end_matches('/').ends_with(c.trim_end_matches('/')))
            });
            if let Some(time) = time {
                found.push((by_name.unwrap_or(n), time));
            }
        }
        found
    }
}

/// What a device has settled; a device that says nothing of it has taken the offer.
fn settled(asked: TrackPorts, header: Option<&str>) -> Option<Transport> {
    let offered = match asked.lower {
        Lower::Udp => Transport { client_port: asked.ports, ..Transport::new(Delivery::Udp) },
        Lower::Tcp => Transport::new(Delivery::Tcp),
        Lower::Multicast => Transport::new(Delivery::Multicast),
    };
    let Some(header) = header else { return (asked.lower == Lower::Udp).then_some(offered) };
    let answer = parse_transports(header).into_iter().next()?;
    let fits = match asked.lower {
        Lower::Udp => answer.delivery == Delivery::Udp && answer.interleaved.is_none(),
        Lower::Tcp => answer.interleaved.is_some(),
        // Some write the group without the word.
        Lower::Multicast => {
            answer.destination.is_some_and(|d: IpAddr| d.is_multicast()) && (answer.port.is_some() || answer.client_port.is_some())
        }
    };
    fits.then_some(answer)
}
