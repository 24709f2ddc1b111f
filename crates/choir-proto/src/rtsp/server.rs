//! Answers requests for what is to be seen: who may, how each track travels, who is still there.

use super::{
    message::{Method, Request, Response, VERSION},
    session::{Lane, Session, SessionId},
    transport::{Delivery, Transport, parse_transports},
};
use crate::auth::{Challenge, Credentials, Scheme, Verdict};
use std::{
    collections::{BTreeMap, VecDeque},
    net::{IpAddr, SocketAddr},
    time::{Duration, Instant},
};

const PUBLIC: &str = "OPTIONS, DESCRIBE, SETUP, PLAY, PAUSE, TEARDOWN, GET_PARAMETER, SET_PARAMETER";
/// Seconds without a sign of life.
const TIMEOUT: Duration = Duration::from_secs(60);
/// Viewers at the same time.
const SESSIONS_MAX: usize = 512;
/// How long a number given out for proofs is good.
const NONCE_LIFE: Duration = Duration::from_secs(300);
/// Old numbers that are told from made-up ones.
const NONCES_KEPT: usize = 4;
/// Proofs that are remembered, to know them when somebody else sends them again.
const PROOFS_KEPT: usize = 256;

/// What can be watched under one path.
#[derive(Debug, Clone, Default)]
pub struct Mount {
    /// Session description; `None` while nothing is known of the media yet.
    pub description: Option<String>,
    /// Identifier (SSRC) of each track in it.
    pub tracks: Vec<u32>,
    /// Who may watch; all when nobody is named.
    pub credentials: Option<Credentials>,
    /// Group, first port, and routers to pass, when it can be heard by many.
    pub group: Option<(IpAddr, u16, u8)>,
}

/// Knows what is there.
pub trait Catalog {
    /// The place of a path, without slashes at its ends.
    fn find(&self, path: &str) -> Option<usize>;
    /// What is there.
    fn mount(&self, place: usize) -> Mount;
}

/// What the owner of a server has to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Action {
    /// Send to this viewer from its next keyframe on. The answer to its PLAY is to be held back
    /// until then, and gets the header of [`rtp_info`]: only then it is known which packets are the
    /// first (RFC 2326, 12.33).
    Start(SessionId),
    /// Send nothing for now.
    Pause(SessionId),
    /// It has gone.
    End(SessionId),
}

/// Settings.
#[derive(Debug, Clone)]
pub struct ServerConfig {
    /// What credentials are for.
    pub realm: String,
    /// How they are to be proved.
    pub scheme: Scheme,
    /// Whoever can prove it by SHA-256 may.
    pub better: bool,
    /// Name given in answers.
    pub software: String,
    /// The sender's own UDP ports.
    pub ports: Option<(u16, u16)>,
    /// Makes session names and nonces.
    pub seed: u64,
}

/// The viewers of all mounts behind one address.
#[derive(Debug)]
pub struct Server {
    config: ServerConfig,
    sessions: BTreeMap<SessionId, Session>,
    next: u64,
    random: u64,
    nonce: (String, Instant),
    old: Vec<String>,
    /// Proofs made with the present number, and the connection that each came by.
    proofs: VecDeque<(String, u64)>,
}

impl Server {
    /// A server without viewers.
    #[must_use]
    pub fn new(config: ServerConfig, now: Instant) -> Self {
        let random = config.seed | 1;
        let mut server = Self {
            config,
            sessions: BTreeMap::new(),
            next: 1,
            random,
            nonce: (String::new(), now),
            old: Vec::new(),
            proofs: VecDeque::new(),
        };
        server.nonce.0 = server.draw();
        server
    }

    /// A number that nobody can guess who does not know the seed: SplitMix64 over it, hashed.
    fn draw(&mut self) -> String {
        use sha2::{Digest, Sha256};
        self.random = self.random.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let digest = Sha256::digest(self.random.to_be_bytes());
        hex::encode(&digest[..12])
    }

    /// A viewer.
    #[must_use]
    pub fn session(&self, id: SessionId) -> Option<&Session> {
        self.sessions.get(&id)
    }

    /// All viewers.
    pub fn sessions(&self) -> impl Iterator<Item = (SessionId, &Session)> {
        self.sessions.iter().map(|(id, s)| (*id, s))
    }

    /// A sign of life by RTP or RTCP from this address; gives the mount that is watched from there.
    pub fn heard_from(&mut self, from: SocketAddr, now: Instant) -> Option<usize> {
        let mut mount = None;
        for s in self.sessions.values_mut() {
            let sends = |l: &Lane| matches!(l, Lane::Udp { rtp, rtcp } if *rtcp == from || *rtp == from);
            if s.lanes.values().any(sends) {
                (s.heard, mount) = (now, Some(s.mount));
            }
        }
        mount
    }

    /// A sign of life on a connection's channels.
    pub fn heard_on(&mut self, connection: u64, now: Instant) {
        self.sessions.values_mut().filter(|s| s.connection == connection).for_each(|s| s.heard = now);
    }

    /// The mount whose reports travel on this channel of a connection.
    #[must_use]
    pub fn reported_on(&self, connection: u64, channel: u8) -> Option<usize> {
        let reports = |s: &&Session| s.lanes.values().any(|l| matches!(l, Lane::Tcp { rtcp, .. } if *rtcp == channel));
        self.sessions.values().filter(|s| s.connection == connection).find(reports).map(|s| s.mount)
    }

    /// A connection has gone, and with it those viewers whose packets went over it.
    pub fn connection_gone(&mut self, connection: u64) -> Vec<Action> {
        let over_it = |s: &Session| s.lanes.values().any(|l| matches!(l, Lane::Tcp { .. }));
        self.drop_where(|s| s.connection == connection && over_it(s))
    }

    /// Ends a viewer from this side.
    pub fn end(&mut self, id: SessionId) -> Option<Session> {
        self.sessions.remove(&id)
    }

    fn drop_where(&mut self, gone: impl Fn(&Session) -> bool) -> Vec<Action> {
        let ids: Vec<SessionId> = self.sessions.iter().filter(|(_, s)| gone(s)).map(|(id, _)| *id).collect();
        for id in &ids {
            self.sessions.remove(id);
        }
        ids.into_iter().map(Action::End).collect()
    }

    /// Ends viewers that have been silent for too long. A group's viewers send nothing that can be
    /// told apart but requests.
    pub fn handle_timeout(&mut self, now: Instant) -> Vec<Action> {
        self.drop_where(|s| now.saturating_duration_since(s.heard) >= TIMEOUT)
    }

    /// When to call `handle_timeout`.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.sessions.values().map(|s| s.heard + TIMEOUT).min()
    }

    /// Answers a request that came on a connection.
    pub fn answer(
        &mut self,
        now: Instant,
        (connection, peer, local): (u64, SocketAddr, SocketAddr),
        request: &Request,
        catalog: &impl Catalog,
    ) -> (Response, Vec<Action>) {
        let mut actions = Vec::new();
        self.heard_on(connection, now);
        let cseq = request.headers.get("CSeq").map(str::trim).filter(|c| is_number(c));
        let mut response = if request.version != VERSION {
            Response::new(505)
        } else if cseq.is_none() {
            // Without a number of its own nobody could tell which request is answered (RFC 2326,
            // 12.17).
            Response::new(400)
        } else {
            self.respond(now, (connection, peer, local), request, catalog, &mut actions)
        };
        if let Some(cseq) = cseq {
            response.headers.0.insert(0, ("CSeq".into(), cseq.to_owned()));
        }
        response.headers.add("Server", self.config.software.clone());
        (response, actions)
    }

    fn respond(
        &mut self,
        now: Instant,
        (connection, peer, local): (u64, SocketAddr, SocketAddr),
        request: &Request,
        catalog: &impl Catalog,
        actions: &mut Vec<Action>,
    ) -> Response {
        if let Some(feature) = request.headers.get("Require") {
            let mut r = Response::new(551);
            r.headers.add("Unsupported", feature);
            return r;
        }
        let (path, track) = split_path(&request.uri);
        let named = request.headers.get("Session").map(|s| s.split(';').next().unwrap_or_default().trim().to_owned());
        let session = named.as_ref().and_then(|n| self.sessions.iter().find(|(_, s)| s.name == *n)).map(|(id, _)| *id);
        if named.is_some() && session.is_none() {
            return Response::new(454);
        }
        if request.method == Method::Options {
            let mut r = Response::new(200);
            r.headers.add("Public", PUBLIC);
            return r;
        }
        let place = catalog.find(&path).or_else(|| session.and_then(|s| self.sessions.get(&s)).map(|s| s.mount));
        let Some(place) = place else { return Response::new(404) };
        let mount = catalog.mount(place);
        if let Some(credentials) = &mount.credentials
            && let Some(refused) = self.refuse(now, connection, request, credentials)
        {
            return refused;
        }
        let Some(description) = &mount.description else {
            let mut r = Response::new(503);
            r.reason = "No Picture Yet".into();
            r.headers.add("Retry-After", "1");
            return r;
        };
        let with_session = |server: &Self, id: SessionId| {
            let mut r = Response::new(200);
            if let Some(s) = server.sessions.get(&id) {
                r.headers.add("Session", format!("{};timeout={}", s.name, TIMEOUT.as_secs()));
            }
            r
        };
        match (&request.method, session) {
            (Method::Describe, _) if !takes_sdp(request.headers.get("Accept")) => Response::new(406),
            (Method::Describe, _) => {
                let mut r = Response::new(200);
                r.headers.add("Content-Base", format!("rtsp://{local}/{path}/"));
                r.headers.add("Content-Type", "application/sdp");
                r.body = description.clone().into_bytes().into();
                r
            }
            (Method::Setup, _) => {
                let index = track.map_or(0, |t| t.saturating_sub(1));
                let Some(&ssrc) = mount.tracks.get(index) else { return Response::new(404) };
                match self.set_up(now, (connection, peer, place), session, index, request, &mount) {
                    Ok((id, transport)) => {
                        let mut r = with_session(self, id);
                        r.headers.add("Transport", Transport { ssrc: Some(ssrc), ..transport }.to_string());
                        r
                    }
                    Err(status) => Response::new(status),
                }
            }
            (Method::Play, Some(id)) => {
                let mut r = with_session(self, id);
                r.headers.add("Range", "npt=now-");
                // One that plays already is told so, and goes on.
                let starts = self.sessions.get_mut(&id).is_some_and(|s| !std::mem::replace(&mut s.playing, true));
                if starts {
                    actions.push(Action::Start(id));
                }
                r
            }
            (Method::Pause, Some(id)) => {
                if let Some(s) = self.sessions.get_mut(&id) {
                    s.playing = false;
                }
                actions.push(Action::Pause(id));
                with_session(self, id)
            }
            (Method::Teardown, Some(id)) => {
                self.sessions.remove(&id);
                actions.push(Action::End(id));
                Response::new(200)
            }
            (Method::GetParameter, Some(id)) => with_session(self, id),
            (Method::GetParameter, None) => Response::new(200),
            (Method::SetParameter, _) if request.body.is_empty() => Response::new(200),
            (Method::SetParameter, _) => Response::new(451),
            (Method::Play | Method::Pause | Method::Teardown, None) => Response::new(454),
            _ => {
                let mut r = Response::new(501);
                r.headers.add("Public", PUBLIC);
                r
            }
        }
    }

    fn refuse(&mut self, now: Instant, connection: u64, request: &Request, credentials: &Credentials) -> Option<Response> {
        if now.saturating_duration_since(self.nonce.1) > NONCE_LIFE {
            self.age_nonces(now);
        }
        let mut challenge = Challenge {
            scheme: self.config.scheme,
            realm: self.config.realm.clone(),
            nonce: self.nonce.0.clone(),
            opaque: None,
            qop: true,
            stale: false,
        };
        let header = request.headers.get("Authorization");
        let both = self.config.better;
        let better = Challenge { scheme: Scheme::Sha256, ..challenge.clone() };
        let taken = if both && header.is_some_and(|h| h.contains("SHA-256")) { &better } else { &challenge };
        let mut verdict = taken.judge(header, credentials, request.method.word(), &request.uri, |n| self.old.iter().any(|o| o == n));
        if verdict == Verdict::Right && self.is_replayed(connection, header.unwrap_or_default()) {
            self.age_nonces(now);
            (challenge.nonce, verdict) = (self.nonce.0.clone(), Verdict::Stale);
        }
        challenge.stale = verdict == Verdict::Stale;
        (verdict != Verdict::Right).then(|| {
            let mut r = Response::new(401);
            r.headers.add("WWW-Authenticate", challenge.header());
            if both {
                r.headers.add("WWW-Authenticate", Challenge { scheme: Scheme::Sha256, ..challenge }.header());
            }
            r
        })
    }

    /// Another connection has made the same proof: its counter and its own number are part of it,
    /// so that somebody has heard it and sends it again. Not of Basic, which is always the same.
    fn is_replayed(&mut self, connection: u64, header: &str) -> bool {
        if !header.contains("nc=") {
            return false;
        }
        match self.proofs.iter().find(|(proof, _)| proof == header) {
            Some((_, by)) => *by != connection,
            None => {
                if self.proofs.len() == PROOFS_KEPT {
                    self.proofs.pop_front();
                }
                self.proofs.push_back((header.to_owned(), connection));
                false
            }
        }
    }

    /// Makes every number given out so far an old one.
    fn age_nonces(&mut self, now: Instant) {
        let fresh = self.draw();
        self.proofs.clear();
        self.old.push(std::mem::replace(&mut self.nonce, (fresh, now)).0);
        if self.old.len() > NONCES_KEPT {
            self.old.remove(0);
        }
    }

    fn set_up(
        &mut self,
        now: Instant,
        (connection, peer, mount): (u64, SocketAddr, usize),
        session: Option<SessionId>,
        index: usize,
        request: &Request,
        there: &Mount,
    ) -> Result<(SessionId, Transport), u16> {
        let offers = parse_transports(request.headers.get("Transport").unwrap_or_default());
        let taken: Vec<u8> = self
            .sessions
            .values()
            .filter(|s| s.connection == connection)
            .flat_map(|s| s.lanes.values())
            .filter_map(|l| if let Lane::Tcp { rtp, rtcp } = l { Some([*rtp, *rtcp]) } else { None })
            .flatten()
            .collect();
        let settled = offers.iter().find_map(|o| self.settle(o, peer, index, there, &taken)).ok_or(461u16)?;
        let id = match session {
            Some(id) => id,
            None if self.sessions.len() >= SESSIONS_MAX => return Err(453),
            None => {
                let (id, name) = (SessionId(self.next), self.draw());
                self.next += 1;
                let fresh = Session { name, mount, connection, peer, lanes: BTreeMap::new(), playing: false, heard: now };
                self.sessions.insert(id, fresh);
                id
            }
        };
        let s = self.sessions.get_mut(&id).ok_or(454u16)?;
        if s.mount != mount {
            return Err(459);
        }
        if s.playing {
            return Err(455);
        }
        s.lanes.insert(index, settled.0);
        Ok((id, settled.1))
    }

    /// What becomes of one offer; `None` when it cannot be met. Packets go to nobody but the one
    /// who asks.
    fn settle(&self, offer: &Transport, peer: SocketAddr, index: usize, mount: &Mount, taken: &[u8]) -> Option<(Lane, Transport)> {
        match offer.delivery {
            Delivery::Udp => {
                let (rtp, rtcp) = offer.client_port.filter(|(a, b)| *a > 0 && *b > 0)?;
                if offer.destination.is_some_and(|d| d != peer.ip()) {
                    return None;
                }
                let to = |port| SocketAddr::new(peer.ip(), port);
                let lane = Lane::Udp { rtp: to(rtp), rtcp: to(rtcp) };
                let answer =
                    Transport { client_port: offer.client_port, server_port: Some(self.config.ports?), ..Transport::new(Delivery::Udp) };
                Some((lane, answer))
            }
            Delivery::Tcp => {
                // Without a wish, or when others of this connection use them: the next that are
                // free.
                let free = || (0..=254u8).step_by(2).find(|c| !taken.contains(c) && !taken.contains(&(c + 1))).map(|c| (c, c + 1));
                let (rtp, rtcp) = offer.interleaved.filter(|(a, b)| a != b && !taken.contains(a) && !taken.contains(b)).or_else(free)?;
                let answer = Transport { interleaved: Some((rtp, rtcp)), ..Transport::new(Delivery::Tcp) };
                Some((Lane::Tcp { rtp, rtcp }, answer))
            }
            Delivery::Multicast => {
                let (group, port, ttl) = mount.group?;
                let port = port + 2 * index as u16;
                let answer = Transport {
                    destination: Some(group),
                    port: Some((port, port + 1)),
                    ttl: Some(ttl),
                    ..Transport::new(Delivery::Multicast)
                };
                Some((Lane::Multicast, answer))
            }
        }
    }
}

/// The header that ties tracks to their first packets: place, sequence number and timestamp of
/// each.
#[must_use]
pub fn rtp_info(base: &str, first: &[(usize, u16, u32)]) -> String {
    let one = |(n, sequence, timestamp): &(usize, u16, u32)| format!("url={base}/track{};seq={sequence};rtptime={timestamp}", n + 1);
    first.iter().map(one).collect::<Vec<_>>().join(",")
}

fn is_number(text: &str) -> bool {
    (1..=10).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit())
}

/// Whether an `Accept` header takes a session description; no header takes everything.
fn takes_sdp(accept: Option<&str>) -> bool {
    let kind = |part: &str| part.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    accept.is_none_or(|a| a.split(',').map(kind).any(|k| ["application/sdp", "application/*", "*/*"].contains(&k.as_str())))
}

/// Path without slashes at its ends, and the number of the track if one is named.
fn split_path(uri: &str) -> (String, Option<usize>) {
    let rest = uri.split_once("://").map_or(uri, |(_, r)| r);
    let path = rest.find('/').map_or("", |i| &rest[i..]);
    let path = path.split('?').next().unwrap_or_default().trim_matches('/');
    let (base, last) = path.rsplit_once('/').unwrap_or(("", path));
    match last.strip_prefix("track").and_then(|n| n.parse().ok()) {
        Some(n) => (base.to_owned(), Some(n)),
        None => (path.to_owned(), None),
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]

    use super::*;

    struct One(Option<Credentials>);

    impl Catalog for One {
        fn find(&self, path: &str) -> Option<usize> {
            (path == "boathouse-1").then_some(0)
        }
        fn mount(&self, _: usize) -> Mount {
            Mount { description: Some("v=0\r\n".into()), tracks: vec![7, 8], credentials: self.0.clone(), group: None }
        }
    }

    fn server() -> Server {
        let config = ServerConfig {
            realm: "Tarn Hollow".into(),
            scheme: Scheme::Md5,
            better: true,
            software: "Cable Choir".into(),
            ports: Some((8000, 8001)),
            seed: 5,
        };
        Server::new(config, Instant::now())
    }

    fn ask(s: &mut Server, c: &One, connection: u64, method: Method, uri: &str, headers: &[(&str, &str)]) -> (Response, Vec<Action>) {
        let mut request = Request::new(method, format!("rtsp://127.20.0.1:8554/{uri}"));
        request.headers.add("CSeq", "4");
        headers.iter().for_each(|(n, v)| request.headers.add(n, *v));
        let peer = SocketAddr::from(([127, 20, 0, 31], 40_000));
        s.answer(Instant::now(), (connection, peer, ([127, 20, 0, 1], 8554).into()), &request, c)
    }

    #[test]
    fn a_viewer_sets_up_plays_and_leaves() {
        let (mut s, c) = (server(), One(None));
        assert_eq!(ask(&mut s, &c, 1, Method::Describe, "other", &[]).0.status, 404);
        let (described, _) = ask(&mut s, &c, 1, Method::Describe, "boathouse-1", &[]);
        assert_eq!((described.status, described.headers.get("cseq")), (200, Some("4")));
        let udp = [("Transport", "RTP/AVP;unicast;client_port=5000-5001")];
        let (set, _) = ask(&mut s, &c, 1, Method::Setup, "boathouse-1/track2", &udp);
        assert_eq!(set.headers.get("Transport"), Some("RTP/AVP;unicast;client_port=5000-5001;server_port=8000-8001;ssrc=00000008"));
        let name = set.headers.get("Session").and_then(|s| s.split(';').next()).expect("a session").to_owned();
        let in_it = [("Session", name.as_str())];
        let (played, actions) = ask(&mut s, &c, 2, Method::Play, "boathouse-1/", &in_it);
        assert_eq!(
            rtp_info("rtsp://127.20.0.1/a", &[(0, 9, 8), (1, 3, 4)]),
            "url=rtsp://127.20.0.1/a/track1;seq=9;rtptime=8,url=rtsp://127.20.0.1/a/track2;seq=3;rtptime=4"
        );
        assert_eq!((played.status, actions), (200, vec![Action::Start(SessionId(1))]));
        let (again, actions) = ask(&mut s, &c, 2, Method::Play, "boathouse-1/", &in_it);
        assert_eq!((again.status, actions), (200, vec![]), "it plays already");
        assert_eq!(ask(&mut s, &c, 1, Method::Setup, "boathouse-1/track1", &[udp[0], in_it[0]]).0.status, 455);
        assert_eq!(ask(&mut s, &c, 1, Method::Teardown, "boathouse-1", &in_it).1, [Action::End(SessionId(1))]);
        assert_eq!(ask(&mut s, &c, 1, Method::Play, "boathouse-1", &in_it).0.status, 454);
    }

    #[test]
    fn requests_against_the_standard_are_refused() {
        let (mut s, c) = (server(), One(None));
        let mut send = |change: &dyn Fn(&mut Request)| {
            let mut request = Request::new(Method::Describe, "rtsp://127.20.0.1:8554/boathouse-1");
            request.headers.add("CSeq", "4");
            change(&mut request);
            let (peer, local) = (([127, 20, 0, 31], 40_000).into(), ([127, 20, 0, 1], 8554).into());
            let r = s.answer(Instant::now(), (1, peer, local), &request, &c).0;
            (r.status, r.headers.get("CSeq").map(str::to_owned))
        };
        assert_eq!(send(&|_| {}), (200, Some("4".into())));
        assert_eq!(send(&|r| r.headers.0.clear()), (400, None));
        assert_eq!(send(&|r| r.headers.0[0].1 = "abc".into()), (400, None));
        assert_eq!(send(&|r| r.version = "9.9".into()), (505, Some("4".into())));
        assert_eq!(send(&|r| r.headers.add("Accept", "text/html")).0, 406);
        assert_eq!(send(&|r| r.headers.add("Accept", "text/html, Application/SDP;q=0.5")).0, 200);
    }

    #[test]
    fn packets_go_to_nobody_else_and_channels_do_not_meet() {
        let (mut s, c) = (server(), One(None));
        let elsewhere = [("Transport", "RTP/AVP;unicast;destination=192.0.2.7;client_port=5000-5001")];
        assert_eq!(ask(&mut s, &c, 1, Method::Setup, "boathouse-1/track1", &elsewhere).0.status, 461);
        let tcp = [("Transport", "RTP/AVP/TCP;unicast;interleaved=4-5")];
        let channels = |r: &Response| r.headers.get("Transport").and_then(|t| parse_transports(t)[0].interleaved);
        let first = ask(&mut s, &c, 1, Method::Setup, "boathouse-1/track1", &tcp).0;
        let second = ask(&mut s, &c, 1, Method::Setup, "boathouse-1/track1", &tcp).0;
        assert_eq!((channels(&first), channels(&second)), (Some((4, 5)), Some((0, 1))));
        assert_eq!(s.connection_gone(1).len(), 2);
        assert_eq!(ask(&mut s, &c, 1, Method::Other("RECORD".into()), "boathouse-1", &[]).0.status, 501);
        let late = Instant::now() + TIMEOUT * 2;
        ask(&mut s, &c, 3, Method::Setup, "boathouse-1/track1", &tcp);
        assert!(s.poll_timeout().is_some());
        assert_eq!(s.handle_timeout(late).len(), 1);
    }

    #[test]
    fn only_the_named_user_gets_in_and_old_numbers_are_told() {
        let user = Credentials::new("desk", "three strokes");
        let (mut s, c) = (server(), One(Some(user.clone())));
        let (refused, _) = ask(&mut s, &c, 1, Method::Describe, "boathouse-1", &[]);
        assert_eq!(refused.status, 401);
        let read = |r: &Response| super::super::challenges(r.headers.all("WWW-Authenticate")).remove(0);
        let answer = read(&refused).answer(&user, "DESCRIBE", "rtsp://127.20.0.1:8554/boathouse-1", 1, "x");
        assert_eq!(ask(&mut s, &c, 1, Method::Describe, "boathouse-1", &[("Authorization", &answer)]).0.status, 200);
        // Somebody who has heard it gets no further with it, and the user goes on with a new
        // number.
        assert_eq!(ask(&mut s, &c, 1, Method::Describe, "boathouse-1", &[("Authorization", &answer)]).0.status, 200);
        let (replayed, _) = ask(&mut s, &c, 2, Method::Describe, "boathouse-1", &[("Authorization", &answer)]);
        assert_eq!((replayed.status, read(&replayed).stale), (401, true));
        let answer = read(&replayed).answer(&user, "DESCRIBE", "rtsp://127.20.0.1:8554/boathouse-1", 1, "x");
        assert_eq!(ask(&mut s, &c, 1, Method::Describe, "boathouse-1", &[("Authorization", &answer)]).0.status, 200);
        // MD5 and SHA-256 are offered, and both taken.
        let offered = super::super::challenges(refused.headers.all("WWW-Authenticate"));
        assert_eq!(offered.iter().map(|o| o.scheme).collect::<Vec<_>>(), [Scheme::Sha256, Scheme::Md5]);
        let now = super::super::challenges(replayed.headers.all("WWW-Authenticate")).pop().expect("MD5");
        let answer = now.answer(&user, "DESCRIBE", "rtsp://127.20.0.1:8554/boathouse-1", 1, "y");
        assert_eq!(ask(&mut s, &c, 1, Method::Describe, "boathouse-1", &[("Authorization", &answer)]).0.status, 200);
        s.age_nonces(Instant::now());
        let (again, _) = ask(&mut s, &c, 1, Method::Describe, "boathouse-1", &[("Authorization", &answer)]);
        assert_eq!((again.status, read(&again).stale), (401, true));
    }
}
