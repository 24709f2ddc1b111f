//! What cameras do wrong or otherwise, each to be switched on by itself.

use choir_ports::{ServerOptions, UdpManner};
use choir_proto::rtsp::{Challenge, Credentials, Method, Request, Response, Scheme, Verdict};
use std::sync::{
    Arc, Mutex, PoisonError,
    atomic::{AtomicU64, Ordering},
};

/// One bad manner.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Manner {
    /// Tracks have no control address.
    NoControl,
    /// Tracks have absolute control addresses.
    AbsoluteControl,
    /// The base it gives leads nowhere.
    WrongBase,
    /// It gives no base.
    NoBase,
    /// It wants to know who asks only when a track is set up.
    ProofAtSetup,
    /// Its numbers for proofs hold for two requests.
    OldNonces,
    /// It offers Basic, and proof by SHA-256 beside MD5.
    ManyProofs,
    /// After some seconds its numbers and its clock jump.
    Restarts,
    /// It sends no RTCP.
    NoReports,
    /// The marker is on every packet.
    LyingMarkers,
    /// The marker is on no packet.
    NoMarkers,
    /// Parameter sets are in the description only.
    SetsInDescription,
    /// Parameter sets are in band only.
    SetsInBand,
    /// The description names another profile.
    WrongProfile,
    /// There is a track of metadata.
    MetadataTrack,
    /// It does not send by UDP, and says so.
    NoUdp,
    /// It says that it sends by UDP, and does not.
    SilentUdp,
    /// Headers are written in odd case and over several lines.
    OddHeaders,
    /// The path `old` points to `main`.
    Redirects,
    /// It knows no `GET_PARAMETER`.
    NoGetParameter,
    /// Its sessions end after four seconds without a sign of life.
    ShortSessions,
    /// Its sound travels in LATM.
    Latm,
    /// It takes requests for keyframes by RTCP (RFC 4585, RFC 5104), which few cameras do.
    TakesRequests,
}

impl Manner {
    /// All of them with the words that name them.
    pub const ALL: [(&'static str, Self); 23] = [
        ("no-control", Self::NoControl),
        ("absolute-control", Self::AbsoluteControl),
        ("wrong-base", Self::WrongBase),
        ("no-base", Self::NoBase),
        ("proof-at-setup", Self::ProofAtSetup),
        ("old-nonces", Self::OldNonces),
        ("many-proofs", Self::ManyProofs),
        ("restarts", Self::Restarts),
        ("no-reports", Self::NoReports),
        ("lying-markers", Self::LyingMarkers),
        ("no-markers", Self::NoMarkers),
        ("sets-in-description", Self::SetsInDescription),
        ("sets-in-band", Self::SetsInBand),
        ("wrong-profile", Self::WrongProfile),
        ("metadata-track", Self::MetadataTrack),
        ("no-udp", Self::NoUdp),
        ("silent-udp", Self::SilentUdp),
        ("odd-headers", Self::OddHeaders),
        ("redirects", Self::Redirects),
        ("no-get-parameter", Self::NoGetParameter),
        ("short-sessions", Self::ShortSessions),
        ("latm", Self::Latm),
        ("takes-requests", Self::TakesRequests),
    ];

    /// From its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(w, _)| *w == word).map(|(_, m)| *m)
    }

    /// It proves users by itself, not by the server's own way.
    #[must_use]
    pub fn asks_itself(&self) -> bool {
        matches!(self, Self::ProofAtSetup | Self::OldNonces | Self::ManyProofs)
    }
}

/// What a camera has been asked.
#[derive(Debug, Default)]
pub struct Counts {
    /// Requests.
    pub requests: AtomicU64,
    /// Of those, with a proof that was refused.
    pub refused: AtomicU64,
    /// Sessions begun.
    pub plays: AtomicU64,
    /// Signs of life by request.
    pub keep_alives: AtomicU64,
}

/// Packets after which a camera with [`Manner::Restarts`] does so.
const RESTART_AT: u64 = 400;

pub(super) fn options(manners: &[Manner], credentials: Option<Credentials>, counts: &Arc<Counts>) -> ServerOptions {
    let own: Vec<Manner> = manners.to_vec();
    let gate = credentials.filter(|_| own.iter().any(Manner::asks_itself)).map(|c| Mutex::new(Gate { credentials: c, uses: 0, number: 0 }));
    let counts = counts.clone();
    let has = |m| manners.contains(&m);
    let udp = match (has(Manner::NoUdp), has(Manner::SilentUdp)) {
        (true, _) => UdpManner::Refused,
        (_, true) => UdpManner::Silent,
        _ => UdpManner::Sent,
    };
    let response = move |request: &Request, r: &mut Response| {
        counts.requests.fetch_add(1, Ordering::Relaxed);
        if let Some(gate) = &gate {
            gate.lock().unwrap_or_else(PoisonError::into_inner).judge(&own, request, r);
        }
        let proved = request.headers.get("Authorization").is_some();
        counts.refused.fetch_add(u64::from(proved && r.status == 401), Ordering::Relaxed);
        counts.plays.fetch_add(u64::from(request.method == Method::Play && r.status == 200), Ordering::Relaxed);
        let alive =
            request.method == Method::GetParameter || (request.method == Method::Options && request.headers.get("Session").is_some());
        counts.keep_alives.fetch_add(u64::from(alive), Ordering::Relaxed);
        own.iter().for_each(|m| answer(*m, request, r));
    };
    let own = manners.to_vec();
    let seen = AtomicU64::new(0);
    let packet = move |p: &mut Vec<u8>| {
        let n = seen.fetch_add(1, Ordering::Relaxed);
        own.iter().all(|m| touch(*m, n, p))
    };
    ServerOptions {
        scheme: Scheme::Md5,
        // As most cameras.
        better: false,
        response: Some(Box::new(response)),
        packet: Some(Box::new(packet)),
        reports: !has(Manner::NoReports),
        udp,
    }
}

/// A camera's own way of finding out who asks.
struct Gate {
    credentials: Credentials,
    uses: u64,
    number: u64,
}

impl Gate {
    fn judge(&mut self, manners: &[Manner], request: &Request, r: &mut Response) {
        let at_setup = manners.contains(&Manner::ProofAtSetup);
        let asked = match request.method {
            Method::Options => false,
            Method::Setup => true,
            _ => !at_setup,
        };
        if !asked || r.status == 404 {
            return;
        }
        if manners.contains(&Manner::OldNonces) && self.uses >= 2 {
            (self.uses, self.number) = (0, self.number + 1);
        }
        self.uses += 1;
        let challenge = |scheme, stale| Challenge {
            scheme,
            realm: "finish line".into(),
            nonce: format!("n{}", self.number),
            opaque: Some("0pa=que".into()),
            qop: scheme != Scheme::Md5,
            stale,
        };
        let header = request.headers.get("Authorization");
        let many = manners.contains(&Manner::ManyProofs);
        let schemes = if many { vec![Scheme::Basic, Scheme::Md5, Scheme::Sha256] } else { vec![Scheme::Md5] };
        let verdicts = schemes
            .iter()
            .map(|s| challenge(*s, false).judge(header, &self.credentials, request.method.word(), &request.uri, |n| n.starts_with('n')));
        let best = verdicts.min_by_key(|v| match v {
            Verdict::Right => 0,
            Verdict::Stale => 1,
            _ => 2,
        });
        if best == Some(Verdict::Right) {
            return;
        }
        *r = Response { headers: r.headers.clone(), ..Response::new(401) };
        ["Content-Base", "Content-Type", "Transport", "Session", "RTP-Info"].iter().for_each(|h| r.headers.remove(h));
        for s in schemes {
            r.headers.add("WWW-Authenticate", challenge(s, best == Some(Verdict::Stale)).header());
        }
    }
}

/// Spoils an answer.
fn answer(manner: Manner, request: &Request, r: &mut Response) {
    let described = request.method == Method::Describe && r.status == 200;
    let mut edit = |change: &dyn Fn(&str) -> String| {
        let text = String::from_utf8_lossy(&r.body).into_owned();
        r.body = change(&text).into_bytes().into();
        r.headers.remove("Content-Length");
    };
    match manner {
        Manner::NoControl if described => {
            edit(&|t| t.lines().filter(|l| !l.starts_with("a=control:track")).map(|l| format!("{l}\r\n")).collect())
        }
        Manner::AbsoluteControl if described => {
            let base = r.headers.get("Content-Base").unwrap_or_default().to_owned();
            let text = String::from_utf8_lossy(&r.body).replace("a=control:track", &format!("a=control:{base}track"));
            r.body = text.into_bytes().into();
        }
        Manner::WrongBase if described => r.headers.set("Content-Base", "rtsp://127.20.99.99:554/nowhere/"),
        Manner::NoBase if described => r.headers.remove("Content-Base"),
        Manner::SetsInBand if described => edit(&|t| t.lines().map(|l| format!("{}\r\n", l.split("sprop-").next().unwrap_or(l))).collect()),
        Manner::WrongProfile if described => edit(&|t| {
            t.split("profile-level-id=")
                .enumerate()
                .map(|(n, p)| if n == 0 { p.to_owned() } else { format!("profile-level-id=42E00A{}", p.get(6..).unwrap_or_default()) })
                .collect()
        }),
        Manner::MetadataTrack if described => {
            edit(&|t| format!("{t}m=application 0 RTP/AVP 107\r\na=rtpmap:107 vnd.finish-line.metadata/90000\r\na=control:track9\r\n"));
        }
        Manner::Latm if described => edit(&|t| {
            let line = |l: &str| match (l.find("mpeg4-generic/"), l.find("streamtype=")) {
                (Some(i), _) => format!("{}MP4A-LATM/{}\r\n", &l[..i], &l[i + 14..]),
                (_, Some(i)) => format!("{}profile-level-id=1;cpresent=0;config={}\r\n", &l[..i], latm_config(l)),
                _ => format!("{l}\r\n"),
            };
            t.lines().map(line).collect()
        }),
        Manner::TakesRequests if described => edit(&|t| {
            let line = |l: &str| match l.strip_prefix("m=video ").map(|rest| rest.replace("RTP/AVP", "RTP/AVPF")) {
                Some(rest) => format!("m=video {rest}\r\na=rtcp-fb:* ccm fir\r\na=rtcp-fb:* nack pli\r\n"),
                None => format!("{l}\r\n"),
            };
            t.lines().map(line).collect()
        }),
        Manner::OddHeaders => {
            for (name, value) in &mut r.headers.0 {
                *name = name
                    .chars()
                    .enumerate()
                    .map(|(i, c)| if i % 2 == 0 { c.to_ascii_lowercase() } else { c.to_ascii_uppercase() })
                    .collect();
                // Folded at the first place where that is allowed.
                *value = value.replacen(", ", ",\r\n\t", 1);
            }
        }
        Manner::Redirects if request.method == Method::Describe && request.uri.ends_with("/old") => {
            *r = Response { headers: r.headers.clone(), ..Response::new(302) };
            r.headers.add("Location", request.uri.replace("/old", "/main"));
        }
        Manner::NoGetParameter if request.method == Method::Options => {
            let public = r.headers.get("Public").unwrap_or_default().replace(", GET_PARAMETER", "");
            r.headers.set("Public", public);
        }
        Manner::NoGetParameter if request.method == Method::GetParameter => {
            *r = Response { headers: r.headers.clone(), ..Response::new(501) }
        }
        Manner::ShortSessions => {
            if let Some(s) = r.headers.get("Session").map(|s| s.replace("timeout=60", "timeout=4")) {
                r.headers.set("Session", s);
            }
        }
        _ => {}
    }
}

/// The layout in LATM of what a line says in its own way: `config=1190`.
fn latm_config(line: &str) -> String {
    let bytes = hex::decode(line.split("config=").nth(1).unwrap_or_default().trim()).unwrap_or_default();
    let config = choir_proto::audio::AacConfig::parse(&bytes);
    let mux = config.map(|config| choir_proto::audio::StreamMux { config, sub_frames: 1 }.to_bytes());
    hex::encode(mux.unwrap_or_default())
}

/// Spoils a packet; false drops it.
fn touch(manner: Manner, n: u64, p: &mut Vec<u8>) -> bool {
    let sound = p.get(1).is_some_and(|b| b & 0x7F == 97);
    match manner {
        Manner::Restarts if n >= RESTART_AT && p.len() >= 12 => {
            let sequence = u16::from_be_bytes([p[2], p[3]]).wrapping_add(20_000);
            p[2..4].copy_from_slice(&sequence.to_be_bytes());
            let time = u32::from_be_bytes([p[4], p[5], p[6], p[7]]).wrapping_add(1_000_000_000);
            p[4..8].copy_from_slice(&time.to_be_bytes());
            p[8] ^= 0x55;
        }
        Manner::LyingMarkers => p[1] |= 0x80,
        Manner::NoMarkers if !sound => p[1] &= 0x7F,
        Manner::SetsInDescription if !sound => return without_sets(p),
        Manner::Latm if sound && p.len() > 16 => {
            let size = p.len() - 16;
            let mut lengths = vec![255; size / 255];
            lengths.push((size % 255) as u8);
            p.splice(12..16, lengths);
        }
        _ => {}
    }
    true
}

/// Takes parameter sets of H.264 out of a packet; false when nothing is left.
fn without_sets(p: &mut Vec<u8>) -> bool {
    let is_set = |nal: u8| matches!(nal & 0x1F, 7 | 8);
    match p.get(12).map(|b| b & 0x1F) {
        Some(7 | 8) => false,
        Some(24) => {
            let (mut at, mut kept) = (13, p[..13].to_vec());
            while let Some(size) = p.get(at..at + 2).map(|s| usize::from(u16::from_be_bytes([s[0], s[1]]))) {
                if let Some(unit) = p.get(at..at + 2 + size)
                    && !is_set(unit[2])
                {
                    kept.extend_from_slice(unit);
                }
                at += 2 + size;
            }
            let some = kept.len() > 13;
            *p = kept;
            some
        }
        _ => true,
    }
}
