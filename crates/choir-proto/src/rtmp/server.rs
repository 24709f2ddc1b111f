//! The end that is called: somebody publishes to it, or plays from it.

use super::{
    amf::Amf,
    chunk::kind,
    handshake::SIZE,
    login::Riddle,
    session::{Command, Heard, RtmpError, Session},
    tags::OutTag,
};
use crate::foreign::plain;
use bytes::Bytes;
use std::collections::VecDeque;

/// The stream that is given to whoever asks for one.
const STREAM: u32 = 1;
/// What is told of names and keys, bytes.
const NAME_MAX: usize = 1024;

/// What the other end does.
#[derive(Debug, Clone, PartialEq)]
pub enum ServerEvent {
    /// It wants to publish; to be answered by [`Server::accept`] or [`Server::refuse`].
    Publish {
        /// The application of the address: what stands before the key.
        app: String,
        /// The stream key.
        key: String,
    },
    /// It wants to play; to be answered likewise.
    Play {
        /// The application.
        app: String,
        /// The stream's name.
        name: String,
    },
    /// Audio or video of one that was accepted: type, time in ms, and what is in it.
    Media {
        /// [`kind::AUDIO`] or [`kind::VIDEO`].
        kind: u8,
        /// ms.
        time: u32,
        /// The tag.
        body: Bytes,
    },
    /// What it says of its stream.
    About(Vec<(String, Amf)>),
    /// It has ended.
    Ended,
    /// It was refused before it could say what it wants: the connection is to be closed.
    TurnedAway,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Step {
    /// Nothing is asked for.
    Open,
    /// Asked for, not answered.
    Asked {
        plays: bool,
    },
    Publishing,
    Playing,
    Over,
}

/// What a caller gets for an answer before it says what it wants.
#[derive(Debug, Clone, Default)]
pub enum Welcome {
    /// It is let in.
    #[default]
    In,
    /// Whoever solves this.
    Who(Riddle),
    /// It is sent to this address.
    Elsewhere(String),
    /// It is refused with these words.
    Refused(String),
}

/// One connection.
#[derive(Debug)]
pub struct Server {
    session: Session,
    app: Option<String>,
    /// What the client calls itself.
    agent: Option<String>,
    step: Step,
    events: VecDeque<ServerEvent>,
    welcome: Welcome,
}

impl Server {
    /// With random bytes for the handshake.
    #[must_use]
    pub fn new(random: [u8; SIZE]) -> Self {
        Self::with(random, Welcome::In)
    }

    /// As `new`; callers are answered so.
    #[must_use]
    pub fn with(random: [u8; SIZE], welcome: Welcome) -> Self {
        Self { session: Session::server(random), app: None, agent: None, step: Step::Open, events: VecDeque::new(), welcome }
    }

    /// Takes what came.
    ///
    /// # Errors
    /// It is no RTMP, or asks for too much: the connection is to be closed.
    pub fn handle(&mut self, data: &[u8]) -> Result<(), RtmpError> {
        self.session.handle(data)?;
        while let Some(heard) = self.session.poll_heard() {
            match heard {
                Heard::Command(command) => self.command(&command)?,
                Heard::Media(m) if self.step == Step::Publishing => {
                    self.events.push_back(ServerEvent::Media { kind: m.kind, time: m.time, body: m.body });
                }
                Heard::Data(values) if self.step == Step::Publishing => self.about(values),
                // Media before it was let in.
                Heard::Media(_) | Heard::Data(_) => {}
            }
        }
        Ok(())
    }

    /// Bytes to be sent.
    pub fn poll_output(&mut self) -> Option<Vec<u8>> {
        self.session.poll_output()
    }

    /// What the other end does.
    pub fn poll_event(&mut self) -> Option<ServerEvent> {
        self.events.pop_front()
    }

    /// What the other end calls itself.
    #[must_use]
    pub fn agent(&self) -> Option<&str> {
        self.agent.as_deref()
    }

    /// Bytes that were sent and are not acknowledged.
    #[must_use]
    pub fn unacknowledged(&self) -> Option<u64> {
        self.session.unacknowledged()
    }

    fn about(&mut self, values: Vec<Amf>) {
        // "@setDataFrame" "onMetaData" {..}, or without the first.
        let named = values.iter().any(|v| v.as_text() == Some("onMetaData"));
        if let Some(Amf::Object(all)) = values.into_iter().find(|v| matches!(v, Amf::Object(_))).filter(|_| named) {
            self.events.push_back(ServerEvent::About(all));
        }
    }

    fn command(&mut self, c: &Command) -> Result<(), RtmpError> {
        match c.name.as_str() {
            "connect" => self.connect(c)?,
            _ if self.app.is_none() => return Err(RtmpError::Order("a command before the first, connect")),
            "createStream" => self.session.command(0, "_result", c.number, &[Amf::Null, Amf::Number(f64::from(STREAM))]),
            // Not of the specification; those who send it wait for an answer.
            "releaseStream" | "getStreamLength" | "_checkbw" => {
                self.session.command(0, "_result", c.number, &[Amf::Null, Amf::Number(0.0)]);
            }
            "FCPublish" => {
                let about = [("code", "NetStream.Publish.Start"), ("description", "")].map(|(k, v)| (k.to_owned(), Amf::text(v)));
                self.session.command(0, "onFCPublish", 0.0, &[Amf::Null, Amf::Object(about.to_vec())]);
                self.session.command(0, "_result", c.number, &[Amf::Null, Amf::Null]);
            }
            "publish" | "play" => self.ask(c)?,
            "FCUnpublish" | "deleteStream" | "closeStream" => {
                if matches!(self.step, Step::Publishing | Step::Playing) {
                    self.step = Step::Open;
                    self.events.push_back(ServerEvent::Ended);
                }
                if c.name == "FCUnpublish" {
                    self.session.command(0, "_result", c.number, &[Amf::Null, Amf::Null]);
                }
            }
            _ => {}
        }
        Ok(())
    }

    fn connect(&mut self, c: &Command) -> Result<(), RtmpError> {
        let about = c.values.first();
        let text = |name: &str| about.and_then(|a| a.get(name)).and_then(Amf::as_text).filter(|t| t.len() <= NAME_MAX).map(str::to_owned);
        let app = text("app").ok_or(RtmpError::Order("it connects without an application"))?;
        let (app, query) = app.find('?').map_or((app.as_str(), ""), |at| app.split_at(at));
        let (says, elsewhere) = match &self.welcome {
            Welcome::In => (None, None),
            Welcome::Who(riddle) => (riddle.judge(query).err(), None),
            Welcome::Elsewhere(url) => (Some("elsewhere".to_owned()), Some(url.clone())),
            Welcome::Refused(says) => (Some(says.clone()), None),
        };
        if let Some(says) = says {
            let pair = |(k, v): (&str, &str)| (k.to_owned(), Amf::text(v));
            let mut about: Vec<(String, Amf)> =
                [("level", "error"), ("code", "NetConnection.Connect.Rejected"), ("description", &says)].map(pair).to_vec();
            about.extend(elsewhere.map(|url| ("ex".to_owned(), Amf::Object(vec![pair(("redirect", &url))]))));
            self.session.command(0, "_error", c.number, &[Amf::Null, Amf::Object(about)]);
            self.step = Step::Over;
            self.events.push_back(ServerEvent::TurnedAway);
            return Ok(());
        }
        // Some put what belongs to the key, or a query, or slashes behind it.
        self.app = Some(app.trim_matches('/').to_owned());
        self.agent = text("flashVer").map(|a| plain(&a, 80));
        self.session.begin(true);
        let server = [("fmsVer", Amf::text("choir")), ("capabilities", Amf::Number(31.0))];
        let codecs = Amf::List(vec![Amf::text("hvc1"), Amf::text("avc1"), Amf::text("mp4a")]);
        let status = [
            ("level", Amf::text("status")),
            ("code", Amf::text("NetConnection.Connect.Success")),
            ("description", Amf::text("connected")),
            // As asked: commands come in the form that is said here.
            ("objectEncoding", about.and_then(|a| a.get("objectEncoding")).cloned().unwrap_or(Amf::Number(0.0))),
            ("fourCcList", codecs),
        ];
        let object = |all: Vec<(&str, Amf)>| Amf::Object(all.into_iter().map(|(k, v)| (k.to_owned(), v)).collect());
        self.session.command(0, "_result", c.number, &[object(server.to_vec()), object(status.to_vec())]);
        Ok(())
    }

    fn ask(&mut self, c: &Command) -> Result<(), RtmpError> {
        let plays = c.name == "play";
        if self.step != Step::Open {
            return Err(RtmpError::Order("it publishes or plays twice on one connection"));
        }
        let name = c.text(0).unwrap_or_default();
        if name.len() > NAME_MAX {
            return Err(RtmpError::Order("a name of more than 1024 bytes"));
        }
        let (app, name) = (self.app.clone().unwrap_or_default(), name.to_owned());
        self.step = Step::Asked { plays };
        self.events.push_back(if plays { ServerEvent::Play { app, name } } else { ServerEvent::Publish { app, key: name } });
        Ok(())
    }

    /// Lets it publish or play.
    pub fn accept(&mut self) {
        match self.step {
            Step::Asked { plays: false } => {
                self.session.take_media();
                self.step = Step::Publishing;
                self.session.stream_begins(STREAM);
                self.session.status(STREAM, "status", "NetStream.Publish.Start", "go ahead");
            }
            Step::Asked { plays: true } => {
                self.step = Step::Playing;
                self.session.stream_begins(STREAM);
                self.session.status(STREAM, "status", "NetStream.Play.Reset", "from now on");
                self.session.status(STREAM, "status", "NetStream.Play.Start", "it begins");
                self.session.data(STREAM, &[Amf::text("|RtmpSampleAccess"), Amf::Flag(true), Amf::Flag(true)]);
            }
            _ => {}
        }
    }

    /// Says why not. The connection is to be closed once this has been sent.
    pub fn refuse(&mut self, why: &str) {
        let code = if self.step == (Step::Asked { plays: true }) { "NetStream.Play.StreamNotFound" } else { "NetStream.Publish.BadName" };
        self.session.status(STREAM, "error", code, why);
        self.step = Step::Over;
    }

    /// Tells whoever plays about the stream.
    pub fn tell(&mut self, about: Vec<(String, Amf)>) {
        if self.step == Step::Playing {
            self.session.data(STREAM, &[Amf::text("onMetaData"), Amf::Object(about)]);
        }
    }

    /// Sends to whoever plays.
    pub fn send(&mut self, tag: &OutTag) {
        if self.step == Step::Playing && matches!(tag.kind, kind::AUDIO | kind::VIDEO) {
            self.session.media(STREAM, tag.kind, tag.time, tag.body.clone());
        }
    }
}
