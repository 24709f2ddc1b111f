//! A platform that is published to by RTMP: takes one key, asks who it is, is slow, refuses,
//! closes, sends on; measures what it gets, and keeps the last picture that stands by itself.

use crate::{
    SimError,
    measured::{Measured, Picture},
};
use bytes::{Bytes, BytesMut};
use choir_core::view::InputView;
use choir_host::{Stop, clock::unix_us, lock, tcp::listen};
use choir_proto::{
    rtmp::{HANDSHAKE_BLOCK, Riddle, Server, ServerEvent, Tag, TagReader, Welcome},
    ts::StreamKind,
};
use std::{
    net::SocketAddr,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    task::JoinHandle,
};

const READ: usize = 32 << 10;

/// How it behaves.
#[derive(Debug, Clone)]
pub struct PlatformSettings {
    /// Where it listens.
    pub listen: SocketAddr,
    /// Path and key that it takes: `live/KEY`.
    pub takes: String,
    /// User and password that it asks for.
    pub login: Option<(String, String)>,
    /// Bits a second that it reads, and no more.
    pub reads: Option<u64>,
    /// Refuses every call with these words.
    pub refuses: Option<String>,
    /// Closes each connection after so long.
    pub closes: Option<Duration>,
    /// Sends every call to this address.
    pub elsewhere: Option<String>,
}

impl PlatformSettings {
    /// One that takes what it is given.
    #[must_use]
    pub fn new(listen: SocketAddr, takes: impl Into<String>) -> Self {
        Self { listen, takes: takes.into(), login: None, reads: None, refuses: None, closes: None, elsewhere: None }
    }

    fn welcome(&self) -> Welcome {
        if let Some(words) = &self.refuses {
            return Welcome::Refused(words.clone());
        }
        if let Some(url) = &self.elsewhere {
            return Welcome::Elsewhere(url.clone());
        }
        match &self.login {
            Some((user, password)) => {
                // Made up from the name, so that the second call finds the riddle of the first.
                let (user, password) = (user.clone(), password.clone());
                Welcome::Who(Riddle { salt: "tarn".into(), challenge: "hollow".into(), user, password })
            }
            None => Welcome::In,
        }
    }
}

/// What it got.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Got {
    /// Who publishes: its address, and what it calls itself.
    pub from: Option<(SocketAddr, String)>,
    /// Publications that were begun.
    pub begun: u32,
    /// What went wrong last.
    pub last: Option<String>,
    /// The last keyframe as a byte stream, and its codec.
    pub picture: Option<(StreamKind, Bytes)>,
    measured: Measured,
    size: Option<(u32, u32)>,
}

/// One platform.
pub struct Platform {
    /// The address it got.
    pub addr: SocketAddr,
    got: Arc<Mutex<Got>>,
    task: JoinHandle<()>,
}

/// Opens one.
///
/// # Errors
/// Its address cannot be had.
pub fn start(settings: PlatformSettings, mut stop: Stop) -> Result<Platform, SimError> {
    let open = |cause| SimError::Address { who: "platform".into(), addr: settings.listen, cause };
    let listener = listen(settings.listen).map_err(open)?;
    let addr = listener.local_addr().map_err(open)?;
    let got = Arc::<Mutex<Got>>::default();
    let all = got.clone();
    let task = tokio::spawn(async move {
        loop {
            let accepted = tokio::select! {
                a = listener.accept() => a,
                () = stop.wait() => return,
            };
            let Ok((stream, from)) = accepted else { continue };
            let (settings, got, mut stop) = (settings.clone(), all.clone(), stop.clone());
            tokio::spawn(async move {
                let time = settings.closes.unwrap_or(Duration::MAX);
                tokio::select! {
                    why = serve(stream, from, &settings, &got) => {
                        let mut got = lock(&got);
                        got.last = Some(why);
                        got.from = None;
                    }
                    () = tokio::time::sleep(time) => lock(&got).from = None,
                    () = stop.wait() => {}
                }
            });
        }
    });
    Ok(Platform { addr, got, task })
}

impl Platform {
    /// What it has got so far.
    #[must_use]
    pub fn got(&self) -> Got {
        lock(&self.got).clone()
    }

    /// As an input of this name; asked for once a second or so.
    pub fn view(&self, name: &str) -> InputView {
        view(&self.got, name)
    }

    /// Asks for it again and again.
    pub fn viewed(&self, name: &str) -> impl Fn() -> InputView + Send + Sync + 'static {
        let (got, name) = (self.got.clone(), name.to_owned());
        move || view(&got, &name)
    }

    /// Waits until it has stopped.
    pub async fn wait(self) {
        let _ = self.task.await;
    }
}

fn view(got: &Mutex<Got>, name: &str) -> InputView {
    let got = lock(got);
    got.measured.view(name, got.size)
}

/// One connection to its end; gives why it ended.
async fn serve(mut stream: TcpStream, from: SocketAddr, settings: &PlatformSettings, got: &Mutex<Got>) -> String {
    let mut random = [0; HANDSHAKE_BLOCK];
    let _ = getrandom::fill(&mut random);
    let (mut server, mut tags) = (Server::with(random, settings.welcome()), TagReader::default());
    let mut buffer = BytesMut::with_capacity(READ);
    let (begun, mut read) = (Instant::now(), 0u64);
    loop {
        while let Some(out) = server.poll_output() {
            if stream.write_all(&out).await.is_err() {
                return "it no longer reads".into();
            }
        }
        buffer.clear();
        buffer.reserve(READ);
        match stream.read_buf(&mut buffer).await {
            Ok(n) if n > 0 => read += n as u64,
            _ => return "it has gone".into(),
        }
        if let Some(bps) = settings.reads {
            let due = Duration::from_secs_f64(read as f64 * 8.0 / bps as f64);
            tokio::time::sleep(due.saturating_sub(begun.elapsed())).await;
        }
        if let Err(e) = server.handle(&buffer) {
            return e.to_string();
        }
        while let Some(event) = server.poll_event() {
            match event {
                ServerEvent::Publish { app, key } if format!("{app}/{key}").trim_matches('/') == settings.takes => {
                    server.accept();
                    let mut got = lock(got);
                    got.begun += 1;
                    got.from = Some((from, server.agent().unwrap_or_default().to_owned()));
                    got.measured.begin_anew();
                }
                ServerEvent::Publish { .. } | ServerEvent::Play { .. } => {
                    server.refuse("this key is not known here");
                    goodbye(&mut stream, &mut server).await;
                    return "a wrong key".into();
                }
                ServerEvent::TurnedAway => {
                    goodbye(&mut stream, &mut server).await;
                    return "turned away".into();
                }
                ServerEvent::Ended => return "it ended its stream".into(),
                ServerEvent::About(_) => {}
                ServerEvent::Media { kind, time, body } => {
                    let codec = tags.video();
                    let tag = tags.push(kind, time, &body);
                    let mut got = lock(got);
                    if tag == Tag::Settings {
                        got.size = tags.size();
                    }
                    note(&mut got, body.len(), &tag, codec);
                }
            }
        }
    }
}

async fn goodbye(stream: &mut TcpStream, server: &mut Server) {
    while let Some(out) = server.poll_output() {
        // It may have gone already.
        let _ = stream.write_all(&out).await;
    }
    let _ = stream.shutdown().await;
}

fn note(got: &mut Got, bytes: usize, tag: &Tag, codec: Option<StreamKind>) {
    got.measured.bytes(bytes);
    let (Tag::Unit(unit), Some(kind)) = (tag, codec) else { return };
    if !unit.video {
        return;
    }
    if unit.keyframe {
        got.picture = Some((kind, unit.data.clone()));
    }
    // What is published is a feed: of one camera after the other.
    got.measured.picture(&Picture { kind, keyframe: unit.keyframe, data: &unit.data, at_us: unix_us() }, true);
}
