//! A port that publishers and players call: one line or feed for each path and stream key.

use super::{
    Duplex, READ, Shown,
    media::TagsIn,
    random_block,
    serve::{Player, RtmpServePlan, Stage},
};
use crate::{Intake, LinkStatus, callers::Callers};
use bytes::BytesMut;
use choir_core::{
    facts::{Contact, Encryption, Fault, Loss, Notice, Refused, Waiting},
    secret::SecretText,
};
use choir_host::{Stop, clock::sleep_until, lock, machine::takes_the_last, tcp::listen};
use choir_proto::rtmp::{Server, ServerEvent};
use std::{
    io,
    net::SocketAddr,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use subtle::ConstantTimeEq;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
    sync::{Notify, watch},
    task::JoinHandle,
};
use tokio_rustls::TlsAcceptor;

/// Connections at the same time, in all and from one address.
const CONNECTIONS_MAX: usize = 256;
const FROM_ONE_MAX: usize = 32;
/// Rest after a connection that could not be taken.
const ACCEPT_PAUSE: Duration = Duration::from_millis(50);
/// How long a caller may take until it publishes.
const PATIENCE: Duration = Duration::from_secs(10);
/// Silence after which a publisher has gone.
const SILENCE: Duration = Duration::from_secs(8);
/// A publisher of the same address that has been silent for so long gives way to a new one.
const GIVES_WAY: Duration = Duration::from_millis(1500);
/// How long an answer may take to be sent.
const ANSWER: Duration = Duration::from_secs(5);

/// A line that is published to.
pub struct PublishPlan {
    /// The path before the key, without slashes at its ends.
    pub app: String,
    /// The stream key.
    pub key: SecretText,
    /// Where media goes.
    pub intake: Arc<dyn Intake>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// Who publishes to a line.
struct Holder {
    from: SocketAddr,
    last: Arc<Mutex<Instant>>,
    /// Told to go.
    go: Arc<Notify>,
}

/// What a place is for.
enum What {
    /// A line; media goes there.
    Line(Arc<dyn Intake>),
    /// A feed.
    Feed(Arc<Stage>),
}

struct Place {
    app: String,
    key: SecretText,
    status: Arc<LinkStatus>,
    what: What,
    port: u16,
    holder: Mutex<Option<Holder>>,
    /// Changes when it ends.
    open: watch::Sender<bool>,
}

/// A server that publishers and players call. Lines and feeds can be added and removed while it
/// runs.
pub struct RtmpServer {
    /// The address it got.
    pub addr: SocketAddr,
    /// Within TLS, what it shows.
    shown: Option<Shown>,
    places: Arc<Places>,
    task: JoinHandle<()>,
}

#[derive(Default)]
struct Places {
    all: Mutex<Vec<Arc<Place>>>,
}

/// A line or feed of a server.
pub struct OnPort(Arc<Place>);

impl RtmpServer {
    /// Opens an address, within TLS if there is something to show.
    ///
    /// # Errors
    /// It cannot be opened.
    pub fn open(addr: SocketAddr, shown: Option<Shown>, stop: &Stop) -> io::Result<Self> {
        let listener = listen(addr)?;
        let addr = listener.local_addr()?;
        let places = Arc::new(Places::default());
        let acceptor = shown.as_ref().map(|s| TlsAcceptor::from(s.config.clone()));
        let task = tokio::spawn(accept(places.clone(), listener, acceptor, stop.clone()));
        Ok(Self { addr, shown, places, task })
    }

    /// What it shows to callers within TLS.
    #[must_use]
    pub fn shown(&self) -> Option<&Shown> {
        self.shown.as_ref()
    }

    /// Lets a line be published to.
    #[must_use]
    pub fn add_line(&self, plan: PublishPlan) -> OnPort {
        let PublishPlan { app, key, intake, status } = plan;
        self.add(app, key, status, What::Line(intake))
    }

    /// Serves a feed to players. What is given runs as long as the feed is served: until it has
    /// ended.
    pub fn add_feed(&self, plan: RtmpServePlan) -> (OnPort, impl Future<Output = ()> + Send + use<>) {
        let RtmpServePlan { app, name, outlet, status } = plan;
        let stage = Arc::new(Stage::new());
        let place = self.add(app, name, status.clone(), What::Feed(stage.clone()));
        (place, async move { stage.run(&outlet, &status).await })
    }

    fn add(&self, app: String, key: SecretText, status: Arc<LinkStatus>, what: What) -> OnPort {
        let port = self.addr.port();
        if self.shown.is_some() {
            status.update(|l| l.encryption = Encryption::AnyTls);
        }
        let place = Arc::new(Place { app, key, status, what, port, holder: Mutex::default(), open: watch::channel(true).0 });
        place.waits(None);
        lock(&self.places.all).push(place.clone());
        OnPort(place)
    }

    /// Ends a line or feed; whoever publishes or plays is told by the end of the connection.
    pub fn remove(&self, place: &OnPort) {
        lock(&self.places.all).retain(|p| !Arc::ptr_eq(p, &place.0));
        place.0.open.send_replace(false);
    }

    /// Waits for the end of its task, which `stop` ends.
    pub async fn ended(self) {
        let _ = self.task.await;
    }
}

impl Place {
    fn waits(&self, refused: Option<Refused>) {
        let waiting = match &self.what {
            What::Line(_) => Waiting::Publisher { port: self.port, app: self.app.clone(), refused },
            What::Feed(_) => Waiting::Viewers,
        };
        let held = self.status.control.is_held();
        self.status.set_contact(if held { Contact::Held } else { Contact::Waiting(waiting) });
    }

    /// Says of a caller that was turned away.
    fn refused(&self, from: SocketAddr, fault: Fault, why: &str) {
        let refused = Refused { from, stream_id: None, fault: Some(fault), why: why.into() };
        self.status.note(Notice::CallerRefused(refused.clone()));
        if matches!(self.what, What::Line(_)) && lock(&self.holder).is_none() {
            self.waits(Some(refused));
        }
    }
}

/// Why somebody may not publish.
struct No(&'static str);

impl Places {
    /// What is there for this path and key.
    fn find(&self, from: SocketAddr, app: &str, key: &str, plays: bool) -> Result<Arc<Place>, No> {
        // Where one puts the border between path and key is not where another does.
        let asked = format!("{app}/{key}");
        let asked = asked.trim_matches('/');
        let plain = asked.split('?').next().unwrap_or_default();
        let all: Vec<Arc<Place>> = lock(&self.all).iter().filter(|p| matches!(p.what, What::Feed(_)) == plays).cloned().collect();
        let same = |place: &Arc<Place>, with: &str| {
            let wanted = format!("{}/{}", place.app, place.key.reveal());
            bool::from(wanted.as_bytes().ct_eq(with.as_bytes()))
        };
        let Some(place) = all.iter().find(|p| same(p, asked) || same(p, plain)) else {
            let near: Vec<_> = all.iter().filter(|p| asked.strip_prefix(p.app.as_str()).is_some_and(|r| r.starts_with('/'))).collect();
            near.iter().for_each(|p| p.refused(from, Fault::StreamKey, "wrong stream key"));
            return Err(No(match (near.is_empty(), plays) {
                (true, false) => "nothing is taken under this path",
                (false, false) => "the stream key is wrong",
                (_, true) => "nothing is played under this name",
            }));
        };
        if place.status.control.is_held() {
            return Err(No("the engineer holds it"));
        }
        Ok(place.clone())
    }

    /// Somebody could not be spoken with.
    fn failed(&self, from: SocketAddr, why: &str) {
        let lines: Vec<Arc<Place>> = lock(&self.all).iter().filter(|p| matches!(p.what, What::Line(_))).cloned().collect();
        lines.iter().for_each(|p| p.refused(from, Fault::WrongProtocol, why));
    }

    /// The line for this path and key, which it takes.
    fn take(&self, from: SocketAddr, app: &str, key: &str, holder: impl Fn() -> Holder) -> Result<Arc<Place>, No> {
        let place = self.find(from, app, key, false)?;
        let mut held = lock(&place.holder);
        if let Some(now) = &*held {
            let silent = lock(&now.last).elapsed();
            if silent < GIVES_WAY || (now.from.ip() != from.ip() && silent < SILENCE) {
                drop(held);
                place.refused(from, Fault::Taken, "another publisher has this stream key");
                return Err(No("another publisher has this stream key"));
            }
            now.go.notify_one();
        }
        *held = Some(holder());
        drop(held);
        Ok(place)
    }
}

async fn accept(places: Arc<Places>, listener: TcpListener, acceptor: Option<TlsAcceptor>, mut stop: Stop) {
    let (admitted, mut callers) = (Callers::new(CONNECTIONS_MAX, FROM_ONE_MAX), tokio::task::JoinSet::new());
    loop {
        let accepted = tokio::select! {
            a = listener.accept() => a,
            _ = callers.join_next(), if !callers.is_empty() => continue,
            () = stop.wait() => break,
        };
        // Gone before it was taken, or out of descriptors, which only time mends.
        let Ok((stream, from)) = accepted else {
            tokio::time::sleep(ACCEPT_PAUSE).await;
            continue;
        };
        if takes_the_last(&stream) {
            continue;
        }
        let Some(place) = admitted.admit(from.ip()) else { continue };
        let (places, acceptor, mut stop) = (places.clone(), acceptor.clone(), stop.clone());
        callers.spawn(async move {
            let _ = stream.set_nodelay(true);
            let stream: Option<Box<dyn Duplex>> = match acceptor {
                None => Some(Box::new(stream)),
                Some(acceptor) => tokio::select! {
                    shaken = tokio::time::timeout(PATIENCE, acceptor.accept(stream)) => match shaken {
                        Ok(Ok(stream)) => Some(Box::new(stream)),
                        failed => {
                            let why = failed.map_or_else(|_| "no TLS within 10 s".into(), |f| f.map_or_else(|e| format!("TLS: {e}"), |_| String::new()));
                            places.failed(from, &why);
                            None
                        }
                    },
                    () = stop.wait() => None,
                },
            };
            if let Some(stream) = stream {
                Caller::new(places, stream, from).serve(stop).await;
            }
            drop(place);
        });
    }
    while callers.join_next().await.is_some() {}
}

/// One connection.
struct Caller {
    places: Arc<Places>,
    stream: Box<dyn Duplex>,
    from: SocketAddr,
    server: Server,
    since: Instant,
    last: Arc<Mutex<Instant>>,
    go: Arc<Notify>,
    published: Option<(Arc<Place>, TagsIn)>,
    player: Option<(Arc<Place>, Player)>,
}

/// How it ended.
enum Ended {
    Stopped,
    /// By whom, and why.
    Gone(Option<Fault>, String),
}

impl Caller {
    fn new(places: Arc<Places>, stream: Box<dyn Duplex>, from: SocketAddr) -> Self {
        let now = Instant::now();
        let (last, go) = (Arc::new(Mutex::new(now)), Arc::default());
        Self { places, stream, from, server: Server::new(random_block()), since: now, last, go, published: None, player: None }
    }

    async fn serve(mut self, stop: Stop) {
        let ended = self.run(stop).await;
        // Before the connection is closed, so that nobody counts it any more.
        self.player = None;
        let Some((place, mut tags)) = self.published.take() else { return };
        tags.flush(Instant::now());
        let status = &place.status;
        let mut holder = lock(&place.holder);
        // Another one may have its place already.
        if holder.as_ref().is_none_or(|h| !Arc::ptr_eq(&h.go, &self.go)) {
            return;
        }
        *holder = None;
        drop(holder);
        status.update(|l| (l.peer, l.software, l.how) = (None, None, None));
        match ended {
            Ended::Gone(fault, why) if !status.control.is_held() => {
                status.tell_lost(Loss::Caller { peer: Some(self.from), fault, why });
            }
            _ => place.waits(None),
        }
    }

    async fn write(&mut self) -> Result<(), Ended> {
        while let Some(out) = self.server.poll_output() {
            match tokio::time::timeout(ANSWER, self.stream.write_all(&out)).await {
                Ok(Ok(())) => {}
                _ => return Err(Ended::Gone(Some(Fault::PeerLost), "it no longer reads".into())),
            }
        }
        Ok(())
    }

    async fn run(&mut self, mut stop: Stop) -> Ended {
        let mut buffer = BytesMut::with_capacity(READ);
        let mut open = watch::channel(true).1;
        loop {
            if let Err(ended) = self.write().await {
                return ended;
            }
            let limit = match (&self.published, &self.player) {
                (Some(_), _) => Some(*lock(&self.last) + SILENCE),
                // It need not say anything.
                (_, Some(_)) => None,
                _ => Some(self.since + PATIENCE),
            };
            let clock = self.published.as_ref().and_then(|(_, tags)| tags.poll_timeout());
            let place = self.published.as_ref().map(|(p, _)| p).or(self.player.as_ref().map(|(p, _)| p));
            let woken = place.map(|place| place.status.clone());
            buffer.clear();
            buffer.reserve(READ);
            let read = tokio::select! {
                read = self.stream.read_buf(&mut buffer) => read,
                () = sleep_until(limit) => {
                    let what = if self.published.is_some() { "it sends nothing any more" } else { "it does not publish" };
                    return Ended::Gone(Some(Fault::PeerLost), what.into());
                }
                () = sleep_until(clock) => {
                    self.flush();
                    continue;
                }
                more = async {
                    match &mut self.player {
                        Some((_, player)) => player.next(&mut self.server).await,
                        None => std::future::pending().await,
                    }
                } => {
                    if !more {
                        return Ended::Stopped;
                    }
                    continue;
                }
                () = self.go.notified() => return Ended::Stopped,
                _ = open.changed(), if woken.is_some() => return Ended::Stopped,
                () = async { match &woken { Some(s) => s.control.woken().await, None => std::future::pending().await } } => {
                    if woken.is_some_and(|s| s.control.is_held()) {
                        return Ended::Stopped;
                    }
                    continue;
                }
                () = stop.wait() => return Ended::Stopped,
            };
            if read.is_err() || buffer.is_empty() {
                return Ended::Gone(Some(Fault::PeerLost), "it has gone".into());
            }
            *lock(&self.last) = Instant::now();
            if let Err(e) = self.server.handle(&buffer) {
                return Ended::Gone(Some(Fault::WrongProtocol), e.to_string());
            }
            if let Some(ended) = self.events(&mut open).await {
                return ended;
            }
        }
    }

    fn flush(&mut self) {
        if let Some((_, tags)) = &mut self.published {
            tags.flush(Instant::now());
        }
    }

    async fn events(&mut self, open: &mut watch::Receiver<bool>) -> Option<Ended> {
        while let Some(event) = self.server.poll_event() {
            match event {
                ServerEvent::Publish { app, key } => {
                    let holder = || Holder { from: self.from, last: self.last.clone(), go: self.go.clone() };
                    let place = match self.places.take(self.from, &app, &key, holder) {
                        Ok(place) => place,
                        Err(No(why)) => return self.turn_away(why).await,
                    };
                    let What::Line(intake) = &place.what else { return Some(Ended::Stopped) };
                    self.server.accept();
                    self.publishes(&place);
                    *open = place.open.subscribe();
                    let tags = TagsIn::new(intake.clone(), place.status.clone());
                    self.published = Some((place, tags));
                }
                ServerEvent::Play { app, name } => {
                    let place = match self.places.find(self.from, &app, &name, true) {
                        Ok(place) => place,
                        Err(No(why)) => return self.turn_away(why).await,
                    };
                    let What::Feed(stage) = &place.what else { return Some(Ended::Stopped) };
                    let Some(player) = stage.enter(self.from, &place.status) else {
                        return self.turn_away("too many play it already").await;
                    };
                    self.server.accept();
                    *open = place.open.subscribe();
                    self.player = Some((place, player));
                }
                ServerEvent::Media { kind, time, body } => {
                    if let Some((_, tags)) = &mut self.published {
                        tags.push(Instant::now(), kind, time, &body);
                    }
                }
                // What it says of its stream is measured instead.
                ServerEvent::About(_) => {}
                ServerEvent::TurnedAway => return Some(Ended::Stopped),
                ServerEvent::Ended => return Some(Ended::Gone(None, "it ended its stream".into())),
            }
        }
        self.flush();
        None
    }

    async fn turn_away(&mut self, why: &str) -> Option<Ended> {
        self.server.refuse(why);
        let _ = self.write().await;
        let _ = self.stream.shutdown().await;
        Some(Ended::Stopped)
    }

    fn publishes(&self, place: &Place) {
        let (from, agent) = (self.from, self.server.agent().map(str::to_owned));
        let status = &place.status;
        status.update(|l| {
            (l.peer, l.software) = (Some(from), agent.clone());
            l.how = Some("published by RTMP".into());
            l.contact = Contact::Up;
        });
        status.note(Notice::Publishes { from, agent });
    }
}
