//! The end that calls: to publish, or to play.

use super::{
    amf::Amf,
    chunk::kind,
    handshake::SIZE,
    login::Challenge,
    session::{Command, Heard, RtmpError, Session},
    tags::OutTag,
};
use bytes::Bytes;
use std::collections::VecDeque;

/// Numbers of what is asked.
const CONNECT: f64 = 1.0;
const RELEASE: f64 = 2.0;
const FC_PUBLISH: f64 = 3.0;
const CREATE: f64 = 4.0;

/// What to call for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClientPlan {
    /// The application: the address's path without the key or name.
    pub app: String,
    /// The address without key or name: `rtmp://host/app`.
    pub url: String,
    /// The stream key, or the name to be played.
    pub name: String,
    /// To publish, else to play.
    pub publishes: bool,
    /// The answer to a server that asks who it is: what is appended to application and address.
    pub answer: Option<String>,
}

/// What comes of it.
#[derive(Debug, Clone, PartialEq)]
pub enum ClientEvent {
    /// The server takes the stream, or begins to send it.
    Started,
    /// It does not, and why: its code and its words.
    Refused {
        /// Its code.
        code: String,
        /// Its words.
        says: String,
    },
    /// It sends the caller elsewhere.
    Elsewhere(String),
    /// It wants to know who this is: call again with this answered.
    Asks(Challenge),
    /// Audio or video.
    Media {
        /// [`kind::AUDIO`] or [`kind::VIDEO`].
        kind: u8,
        /// ms.
        time: u32,
        /// The tag.
        body: Bytes,
    },
    /// It ends the stream.
    Ended,
}

/// One call.
#[derive(Debug)]
pub struct Client {
    session: Session,
    plan: ClientPlan,
    stream: Option<u32>,
    started: bool,
    events: VecDeque<ClientEvent>,
}

impl Client {
    /// With random bytes for the handshake.
    #[must_use]
    pub fn new(plan: ClientPlan, random: [u8; SIZE]) -> Self {
        Self { session: Session::client(random), plan, stream: None, started: false, events: VecDeque::new() }
    }

    /// Takes what came.
    ///
    /// # Errors
    /// It is no RTMP, or asks for too much.
    pub fn handle(&mut self, data: &[u8]) -> Result<(), RtmpError> {
        let before = self.session.is_joined();
        self.session.handle(data)?;
        if self.session.is_joined() && !before {
            self.connect();
        }
        while let Some(heard) = self.session.poll_heard() {
            match heard {
                Heard::Command(command) => self.command(&command),
                Heard::Media(m) if self.started && !self.plan.publishes => {
                    self.events.push_back(ClientEvent::Media { kind: m.kind, time: m.time, body: m.body });
                }
                Heard::Media(_) | Heard::Data(_) => {}
            }
        }
        Ok(())
    }

    /// Bytes to be sent.
    pub fn poll_output(&mut self) -> Option<Vec<u8>> {
        self.session.poll_output()
    }

    /// What comes of it.
    pub fn poll_event(&mut self) -> Option<ClientEvent> {
        self.events.pop_front()
    }

    /// Bytes that were sent and that the server has not said to have.
    #[must_use]
    pub fn unacknowledged(&self) -> Option<u64> {
        self.session.unacknowledged()
    }

    fn connect(&mut self) {
        self.session.begin(false);
        let answer = self.plan.answer.as_deref().unwrap_or_default();
        let mut about = vec![
            ("app".to_owned(), Amf::Text(format!("{}{answer}", self.plan.app))),
            ("type".to_owned(), Amf::text("nonprivate")),
            ("flashVer".to_owned(), Amf::text("choir")),
            ("tcUrl".to_owned(), Amf::Text(format!("{}{answer}", self.plan.url))),
        ];
        if self.plan.publishes {
            let codecs = vec![Amf::text("avc1"), Amf::text("hvc1"), Amf::text("mp4a")];
            about.push(("fourCcList".to_owned(), Amf::List(codecs)));
        } else {
            // Which of the older codes it knows: AAC, H.264.
            about.push(("audioCodecs".to_owned(), Amf::Number(1024.0)));
            about.push(("videoCodecs".to_owned(), Amf::Number(128.0)));
            self.session.take_media();
        }
        self.session.command(0, "connect", CONNECT, &[Amf::Object(about)]);
    }

    fn command(&mut self, c: &Command) {
        let about = c.values.get(1);
        let said = |name: &str| about.and_then(|a| a.get(name)).and_then(Amf::as_text).unwrap_or_default().to_owned();
        match c.name.as_str() {
            "_result" if c.number == CONNECT => {
                if self.plan.publishes {
                    let key = [Amf::Null, Amf::Text(self.plan.name.clone())];
                    self.session.command(0, "releaseStream", RELEASE, &key);
                    self.session.command(0, "FCPublish", FC_PUBLISH, &key);
                }
                self.session.command(0, "createStream", CREATE, &[Amf::Null]);
            }
            "_result" if c.number == CREATE && self.stream.is_none() => {
                let stream = about.and_then(Amf::as_number).unwrap_or(1.0) as u32;
                self.stream = Some(stream);
                let name = Amf::Text(self.plan.name.clone());
                if self.plan.publishes {
                    self.session.command(stream, "publish", 5.0, &[Amf::Null, name, Amf::text("live")]);
                } else {
                    // From now on (-2: live, else recorded).
                    self.session.command(stream, "play", 5.0, &[Amf::Null, name, Amf::Number(-2000.0)]);
                }
            }
            // Not of the specification: many do not know it.
            "_error" if c.number == RELEASE || c.number == FC_PUBLISH => {}
            "_error" => self.refused(said("code"), said("description"), about),
            "onStatus" => {
                let (level, code) = (said("level"), said("code"));
                if level == "error" {
                    return self.refused(code, said("description"), about);
                }
                match code.as_str() {
                    "NetStream.Publish.Start" if self.plan.publishes => self.start(),
                    "NetStream.Play.Start" if !self.plan.publishes => self.start(),
                    "NetStream.Unpublish.Success" | "NetStream.Play.Stop" | "NetStream.Play.UnpublishNotify" => {
                        self.events.push_back(ClientEvent::Ended);
                    }
                    _ => {}
                }
            }
            "close" => self.events.push_back(ClientEvent::Ended),
            _ => {}
        }
    }

    fn start(&mut self) {
        if !std::mem::replace(&mut self.started, true) {
            self.events.push_back(ClientEvent::Started);
        }
    }

    fn refused(&mut self, code: String, says: String, about: Option<&Amf>) {
        // Where else, in the form that servers say it in.
        let more = about.and_then(|a| a.get("ex"));
        let elsewhere = more.and_then(|ex| ex.get("redirect")).and_then(Amf::as_text).map(str::to_owned);
        let event = match (elsewhere, Challenge::parse(&says)) {
            (Some(url), _) => ClientEvent::Elsewhere(url),
            (None, Some(challenge)) => ClientEvent::Asks(challenge),
            (None, None) => ClientEvent::Refused { code, says },
        };
        self.events.push_back(event);
    }

    /// Tells about the stream that is published.
    pub fn tell(&mut self, about: Vec<(String, Amf)>) {
        if let (true, Some(stream)) = (self.started && self.plan.publishes, self.stream) {
            self.session.data(stream, &[Amf::text("@setDataFrame"), Amf::text("onMetaData"), Amf::Object(about)]);
        }
    }

    /// Sends a message of the stream that is published.
    pub fn send(&mut self, tag: &OutTag) {
        if let (true, Some(stream)) = (self.started && self.plan.publishes && matches!(tag.kind, kind::AUDIO | kind::VIDEO), self.stream) {
            self.session.media(stream, tag.kind, tag.time, tag.body.clone());
        }
    }

    /// Says that nothing more will come.
    pub fn end(&mut self) {
        let Some(stream) = self.stream else { return };
        if self.plan.publishes {
            self.session.command(0, "FCUnpublish", 6.0, &[Amf::Null, Amf::Text(self.plan.name.clone())]);
        }
        self.session.command(0, "deleteStream", 7.0, &[Amf::Null, Amf::Number(f64::from(stream))]);
    }
}
