//! A session: where the services are, how the password is proved, what the device's clock says.
//!
//! A wrong password is tried once: the way of proving it is found by a request without one, and
//! after a refusal the session sends nothing more that needs it. Devices lock themselves after some
//! wrong tries.

use crate::http::{self, Ask, HttpAnswer, HttpError, split_url};
use choir_host::{clock::unix_us, random};
use choir_proto::{
    auth::{Challenge, Credentials, Scheme, challenges},
    onvif::{
        Call, Element, Fault, SoapError, Token,
        device::{self, Identity, Services},
        soap::read_answer,
    },
};
use futures_core::future::BoxFuture;
use std::{net::SocketAddr, time::Duration};

/// For one request; devices that encode and answer at the same time can take seconds.
const PATIENCE: Duration = Duration::from_secs(8);
/// Where the device service is on all devices.
const DEVICE_PATH: &str = "/onvif/device_service";
/// Ports that device services are found at.
pub const USUAL_PORTS: [u16; 4] = [80, 8000, 8080, 8899];

/// Why a device does not do as asked.
#[derive(Debug, thiserror::Error)]
pub enum OnvifError {
    /// No connection or no HTTP.
    #[error("{at}: the device {cause}")]
    Http {
        /// Where.
        at: SocketAddr,
        /// Why.
        cause: HttpError,
    },
    /// No ONVIF there.
    #[error("{at}: nothing speaks ONVIF here: is ONVIF switched on in the device, and on which port?")]
    NotOnvif {
        /// Where.
        at: SocketAddr,
    },
    /// It wants to know who asks.
    #[error("{at}: a login is required: add user and password to its entry in the sheet")]
    NoLogin {
        /// Where.
        at: SocketAddr,
    },
    /// Wrong user or password.
    #[error(
        "{at}: the device does not take this user and password. They were tried once; correct them before trying again, \
             since devices lock themselves after some wrong tries"
    )]
    Login {
        /// Where.
        at: SocketAddr,
    },
    /// The password would travel in the open.
    #[error("{at}: the device accepts the password only in clear text (Basic), which is not supported: switch on digest authentication")]
    Open {
        /// Where.
        at: SocketAddr,
    },
    /// The device refuses.
    #[error("{action}: {fault}")]
    Fault {
        /// What was asked.
        action: String,
        /// Why not.
        fault: Fault,
    },
    /// An answer of no use.
    #[error("{action}: {cause}")]
    Strange {
        /// What was asked.
        action: String,
        /// Why.
        cause: String,
    },
    /// It has no such service.
    #[error("{at}: the device has no {what}")]
    NoService {
        /// Where.
        at: SocketAddr,
        /// Which.
        what: &'static str,
    },
}

impl OnvifError {
    /// Nothing answered, as while a device restarts.
    #[must_use]
    pub fn is_absence(&self) -> bool {
        matches!(self, Self::Http { .. } | Self::NotOnvif { .. })
    }
    /// The device does not know what was asked.
    #[must_use]
    pub fn is_unknown_action(&self) -> bool {
        matches!(self, Self::Fault { fault, .. } if fault.is_unknown_action()) || matches!(self, Self::NoService { .. })
    }
}

/// Which service is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// The device's own.
    Device,
    /// First media service.
    Media,
    /// Second media service.
    Media2,
    /// Steering.
    Ptz,
}

/// How the password is proved.
#[derive(Debug, Clone)]
enum Proof {
    /// Not at all: nobody asks.
    None,
    /// In the message.
    Token,
    /// By HTTP; the number of times that its nonce was used.
    Digest(Challenge, u32),
}

/// A session with one device.
#[derive(Debug)]
pub struct Session {
    at: SocketAddr,
    credentials: Option<Credentials>,
    proof: Proof,
    refused: bool,
    /// Device's clock minus ours, µs.
    ahead_us: Option<i64>,
    /// What it said it is.
    pub identity: Identity,
    /// Its services.
    pub services: Services,
    notes: Vec<String>,
}

fn content_type(call: &Call) -> String {
    format!("application/soap+xml; charset=utf-8; action=\"{}\"", call.action)
}

async fn post(
    at: SocketAddr,
    path: &str,
    call: &Call,
    token: Option<&Token>,
    authorization: Option<String>,
) -> Result<HttpAnswer, OnvifError> {
    let ask = Ask { path, post: Some((content_type(call), call.message(token))), authorization };
    http::ask(at, ask, PATIENCE).await.map_err(|cause| OnvifError::Http { at, cause })
}

/// What a device tells anyone.
#[derive(Debug, Clone, Default)]
pub struct Anyone {
    /// Its clock minus ours, µs.
    pub ahead_us: Option<i64>,
    /// It wants a login for all else.
    pub login: bool,
    /// Who it is, when it tells anyone.
    pub identity: Option<Identity>,
    /// The way of proving a password, when it wants HTTP to do it.
    challenge: Option<Challenge>,
    /// It would take it in the open only.
    open: bool,
}

/// Asks what needs no login, without ever sending one. `None` when nothing speaks ONVIF at this
/// port.
///
/// # Errors
/// No connection.
pub async fn who_is_there(at: SocketAddr) -> Result<Option<Anyone>, OnvifError> {
    let (clock, identity) = tokio::join!(ask_clock(at), ask_openly(at, device::get_identity()));
    judge_anyone(clock?, identity)
}

/// What it answers when asked for its clock, and when that was here.
async fn ask_clock(at: SocketAddr) -> Result<(HttpAnswer, i64), OnvifError> {
    let sent = unix_us();
    let answer = post(at, DEVICE_PATH, &device::get_clock(), None, None).await?;
    Ok((answer, sent + (unix_us() - sent) / 2))
}

async fn ask_openly(at: SocketAddr, call: Call) -> Result<HttpAnswer, OnvifError> {
    post(at, DEVICE_PATH, &call, None, None).await
}

fn judge_anyone((answer, here): (HttpAnswer, i64), identity: Result<HttpAnswer, OnvifError>) -> Result<Option<Anyone>, OnvifError> {
    let mut anyone = Anyone::default();
    let device_time = match read_answer(&answer.body) {
        Ok(body) if body.name == "GetSystemDateAndTimeResponse" => device::read_clock(&body),
        // A device that hides even its clock shows it in the header of its refusal.
        Err(SoapError::Fault(_)) => header_time(&answer),
        _ if answer.status == 401 => header_time(&answer),
        _ => return Ok(None),
    };
    anyone.ahead_us = device_time.map(|t| t - here);
    let answer = identity?;
    match read_answer(&answer.body) {
        Ok(body) if answer.status != 401 => anyone.identity = Some(device::read_identity(&body)),
        _ => {
            anyone.login = true;
            let offered = challenges(answer.all("www-authenticate"));
            anyone.open = offered.first().is_some_and(|c| c.scheme == Scheme::Basic);
            anyone.challenge = offered.into_iter().find(|c| c.scheme != Scheme::Basic);
        }
    }
    Ok(Some(anyone))
}

fn header_time(answer: &HttpAnswer) -> Option<i64> {
    let date = httpdate::parse_http_date(answer.all("date").next()?).ok()?;
    date.duration_since(std::time::UNIX_EPOCH).ok().map(|d| d.as_micros() as i64)
}

impl Session {
    /// Opens a session at this address; without a port at the usual ones.
    ///
    /// # Errors
    /// Nothing speaks ONVIF there, or it does not take the login.
    pub async fn open(ip: std::net::IpAddr, port: Option<u16>, credentials: Option<Credentials>) -> Result<Self, OnvifError> {
        let mut session = Self::open_to_steer(ip, port, credentials).await?;
        if session.identity == Identity::default() {
            session.identity = device::read_identity(&session.call(Which::Device, &device::get_identity()).await?);
        }
        Ok(session)
    }

    /// As `open`, by the fewest round trips: who the device is may stay unknown.
    ///
    /// # Errors
    /// As `open`; a wrong password shows only with the first call that needs it.
    pub fn open_to_steer(
        ip: std::net::IpAddr,
        port: Option<u16>,
        credentials: Option<Credentials>,
    ) -> BoxFuture<'static, Result<Self, OnvifError>> {
        Box::pin(async move {
            let ports: Vec<u16> = port.map_or_else(|| USUAL_PORTS.to_vec(), |p| vec![p]);
            let mut first_error = None;
            for port in ports {
                let at = SocketAddr::new(ip, port);
                // What needs no login is asked for at once (ONVIF Core, 5.9.4).
                let (clock, identity, services) =
                    tokio::join!(ask_clock(at), ask_openly(at, device::get_identity()), ask_openly(at, device::get_services()));
                match clock.and_then(|clock| judge_anyone(clock, identity)) {
                    Ok(Some(anyone)) => {
                        let told = services.ok().filter(|a| a.status == 200).and_then(|a| read_answer(&a.body).ok());
                        return Self::log_in(at, anyone, told.map(|t| device::read_services(&t)), credentials).await;
                    }
                    Ok(None) => first_error = Some(OnvifError::NotOnvif { at }),
                    // "Nothing speaks ONVIF" says more than "cannot be reached".
                    Err(e) => first_error = first_error.or(Some(e)),
                }
            }
            Err(first_error.unwrap_or(OnvifError::NotOnvif { at: SocketAddr::new(ip, USUAL_PORTS[0]) }))
        })
    }

    async fn log_in(
        at: SocketAddr,
        anyone: Anyone,
        services: Option<Services>,
        credentials: Option<Credentials>,
    ) -> Result<Self, OnvifError> {
        let proof = match (anyone.login, anyone.challenge) {
            (false, _) => Proof::None,
            (true, _) if credentials.is_none() => return Err(OnvifError::NoLogin { at }),
            (true, Some(challenge)) => Proof::Digest(challenge, 0),
            (true, None) if anyone.open => return Err(OnvifError::Open { at }),
            (true, None) => Proof::Token,
        };
        let mut session = Self {
            at,
            credentials,
            proof,
            refused: false,
            ahead_us: anyone.ahead_us,
            identity: anyone.identity.clone().unwrap_or_default(),
            services: Services::default(),
            notes: Vec::new(),
        };
        if let Some(services) = services.filter(|s| *s != Services::default()) {
            session.services = services;
            return Ok(session);
        }
        session.services = match session.call(Which::Device, &device::get_services()).await {
            Ok(answer) => device::read_services(&answer),
            Err(e) if e.is_unknown_action() => {
                session.note("it knows only the older way of naming its services (GetCapabilities)");
                device::read_capabilities(&session.call(Which::Device, &device::get_capabilities()).await?)
            }
            Err(e) => return Err(e),
        };
        Ok(session)
    }

    /// Where the device is.
    #[must_use]
    pub fn at(&self) -> SocketAddr {
        self.at
    }

    /// How far its clock is ahead of ours, ms.
    #[must_use]
    pub fn clock_ahead_ms(&self) -> Option<i64> {
        self.ahead_us.map(|us| us / 1000)
    }

    /// How the password is proved, in words.
    #[must_use]
    pub fn login(&self) -> String {
        match &self.proof {
            Proof::None => "none asked for".into(),
            Proof::Token => "password digest in the message, by the device's clock".into(),
            Proof::Digest(c, _) => format!("{} by HTTP", c.scheme),
        }
    }

    /// Who asks.
    #[must_use]
    pub fn credentials(&self) -> Option<&Credentials> {
        self.credentials.as_ref()
    }

    /// What was strange on the way.
    #[must_use]
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    pub(super) fn note(&mut self, text: impl Into<String>) {
        let text = text.into();
        if !self.notes.contains(&text) {
            self.notes.push(text);
        }
    }

    /// The address of a service, on the host where the device really is, and its path.
    fn place(&mut self, which: Which) -> Result<(SocketAddr, String), OnvifError> {
        let (address, what) = match which {
            Which::Device => return Ok((self.at, DEVICE_PATH.into())),
            Which::Media => (self.services.media.clone(), "media service"),
            Which::Media2 => (self.services.media2.clone(), "second media service"),
            Which::Ptz => (self.services.ptz.clone(), "steering (PTZ service)"),
        };
        let address = address.ok_or(OnvifError::NoService { at: self.at, what })?;
        Ok(self.really(&address))
    }

    fn really(&mut self, address: &str) -> (SocketAddr, String) {
        let (_, host, port, path) = split_url(address);
        let at = SocketAddr::new(self.at.ip(), port.unwrap_or(80));
        if host.parse() != Ok(self.at.ip()) {
            self.note(format!("it gives its services the address {host}; they are asked at {}", self.at.ip()));
        }
        (at, if path.is_empty() { "/" } else { path }.to_owned())
    }

    /// Asks, with the proof of the password.
    ///
    /// # Errors
    /// See [`OnvifError`].
    pub fn call<'a>(&'a mut self, which: Which, call: &'a Call) -> BoxFuture<'a, Result<Element, OnvifError>> {
        Box::pin(async move {
            let (mut at, path) = self.place(which)?;
            if self.refused {
                return Err(OnvifError::Login { at: self.at });
            }
            let answer = match self.send(at, &path, call).await {
                // A service that gives a port where nobody listens is mostly at the device's own.
                Err(OnvifError::Http { .. }) if at.port() != self.at.port() => {
                    self.note(format!(
                        "it gives port {} for a service, where nobody answers; it is asked at {}",
                        at.port(),
                        self.at.port()
                    ));
                    at = self.at;
                    self.send(at, &path, call).await?
                }
                other => other?,
            };
            let action = call.name().to_owned();
            match read_answer(&answer.body) {
                _ if answer.status == 401 => self.refuse(),
                Ok(body) => Ok(body),
                Err(SoapError::Fault(fault)) if fault.is_refusal() && !matches!(self.proof, Proof::Digest(..)) => {
                    if matches!(self.proof, Proof::None) && self.credentials.is_some() {
                        // It has told its name to anyone, and wants a proof for this.
                        self.proof = Proof::Token;
                        return Box::pin(self.call(which, call)).await;
                    }
                    if matches!(self.proof, Proof::None) { Err(OnvifError::NoLogin { at: self.at }) } else { self.refuse() }
                }
                Err(SoapError::Fault(fault)) => Err(OnvifError::Fault { action, fault }),
                Err(_) if answer.status == 404 => Err(OnvifError::NotOnvif { at }),
                Err(e) => Err(OnvifError::Strange { action, cause: e.to_string() }),
            }
        })
    }

    fn refuse<T>(&mut self) -> Result<T, OnvifError> {
        self.refused = true;
        Err(OnvifError::Login { at: self.at })
    }

    async fn send(&mut self, at: SocketAddr, path: &str, call: &Call) -> Result<HttpAnswer, OnvifError> {
        let answer = self.send_once(at, path, call).await?;
        if answer.status != 401 {
            return Ok(answer);
        }
        // Only a nonce that has grown old, or the first sign that HTTP is to do it, is a reason to
        // go on.
        let offered = challenges(answer.all("www-authenticate")).into_iter().find(|c| c.scheme != Scheme::Basic);
        let Some(challenge) = offered else { return Ok(answer) };
        let again = match &self.proof {
            Proof::Digest(_, _) => challenge.stale,
            Proof::None => self.credentials.is_some(),
            Proof::Token => false,
        };
        if !again {
            return Ok(answer);
        }
        self.proof = Proof::Digest(challenge, 0);
        self.send_once(at, path, call).await
    }

    async fn send_once(&mut self, at: SocketAddr, path: &str, call: &Call) -> Result<HttpAnswer, OnvifError> {
        let (mut token, mut authorization) = (None, None);
        if let Some(c) = &self.credentials {
            match &mut self.proof {
                Proof::None => {}
                Proof::Token => token = Some(c.token(unix_us() + self.ahead_us.unwrap_or(0), random())),
                Proof::Digest(challenge, count) => {
                    *count += 1;
                    let cnonce = hex::encode(random::<8>());
                    authorization = Some(challenge.answer(c, "POST", path, *count, &cnonce));
                }
            }
        }
        post(at, path, call, token.as_ref(), authorization).await
    }

    /// Asks for its clock, which needs no login: is it there?
    ///
    /// # Errors
    /// Nothing speaks ONVIF there.
    pub async fn is_there(at: SocketAddr) -> Result<(), OnvifError> {
        let answer = post(at, DEVICE_PATH, &device::get_clock(), None, None).await?;
        read_answer(&answer.body).map(|_| ()).or_else(|e| match e {
            SoapError::Fault(_) => Ok(()),
            _ => Err(OnvifError::NotOnvif { at }),
        })
    }
}
