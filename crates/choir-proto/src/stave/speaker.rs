//! The source's side of one connection (sections 3 to 5).

use super::{
    Ask, Bye, CameraAnswer, CameraOrder, Catalogue, Framer, Hello, Lane, Message, NodeEntry, Nodes, Play, Refusal, RefusalCode, Repair,
    Report, SharedKey, Tally, VERSION,
    frame::{Broken, frame},
    names::same_name,
    proof::{EXPORTER_LEN, Side},
};
use std::{
    collections::VecDeque,
    time::{Duration, Instant},
};

/// From the connection to the receiver's first word.
const HELLO_PATIENCE: Duration = Duration::from_secs(3);
/// Between two catalogues.
const CATALOGUE_EVERY: Duration = Duration::from_millis(500);
/// Control messages a second that a peer may send.
const MESSAGES: u32 = 200;
/// Sources that one receiver may say something of.
const TALLIES: usize = 64;

/// What a node says of itself, and whom it lets in.
#[derive(Debug, Clone)]
pub struct SpeakerConfig {
    /// Itself; the proof is added.
    pub hello: Hello,
    /// The group's key.
    pub key: Option<SharedKey>,
    /// Exported from this connection.
    pub exported: [u8; EXPORTER_LEN],
    /// The peer's certificate is among those let in.
    pub known: bool,
}

/// What a receiver wants.
#[derive(Debug, Clone, PartialEq)]
pub enum SpeakerEvent {
    /// It may come in.
    Opened(Hello),
    /// It wants a source; ask for its [`Lane`].
    Wishes(String),
    /// It wants no more of it.
    Enough(String),
    /// It shows a source.
    Tally(String, Tally),
    /// An order for a camera.
    Camera(CameraOrder),
    /// What it has seen.
    Report(Report),
    /// Packets of a group are to be sent again.
    Repair(Repair),
    /// It asks for a keyframe of the source that it takes.
    Keyframe(String),
    /// It tells a directory where it is.
    Announce(NodeEntry),
    /// It goes.
    Gone(String),
}

/// The source's side.
#[derive(Debug)]
pub struct Speaker {
    config: SpeakerConfig,
    framer: Framer,
    began: Instant,
    peer: Option<Hello>,
    catalogue: Catalogue,
    told: Option<Catalogue>,
    next_catalogue: Instant,
    lane: Option<Lane>,
    tallies: Vec<String>,
    out: VecDeque<Message>,
    events: VecDeque<SpeakerEvent>,
    second: (Instant, u32),
    done: bool,
}

impl Speaker {
    /// At the start of a connection.
    #[must_use]
    pub fn new(config: SpeakerConfig, now: Instant) -> Self {
        Self {
            config,
            framer: Framer::default(),
            began: now,
            peer: None,
            catalogue: Catalogue::default(),
            told: None,
            next_catalogue: now,
            lane: None,
            tallies: Vec::new(),
            out: VecDeque::new(),
            events: VecDeque::new(),
            second: (now, 0),
            done: false,
        }
    }

    /// Takes bytes of the control stream.
    ///
    /// # Errors
    /// The peer does not keep to the protocol: close the connection.
    pub fn handle_control(&mut self, now: Instant, data: &[u8]) -> Result<(), Broken> {
        for message in self.framer.push(data)? {
            if now.saturating_duration_since(self.second.0) >= Duration::from_secs(1) {
                self.second = (now, 0);
            }
            self.second.1 += 1;
            if self.second.1 > MESSAGES {
                return Err(Broken::TooMany("200 control messages a second"));
            }
            if self.done {
                break;
            }
            self.take(now, message)?;
        }
        Ok(())
    }

    fn take(&mut self, now: Instant, message: Message) -> Result<(), Broken> {
        if self.peer.is_none() {
            let Message::Hello(hello) = message else { return Err(Broken::OutOfTurn(message.name())) };
            self.hello(now, hello);
            return Ok(());
        }
        match message {
            Message::Ask(ask) => self.ask(ask),
            Message::Enough(_) => {
                if let Some(lane) = self.lane.take() {
                    self.events.push_back(SpeakerEvent::Enough(lane.wish().source.clone()));
                }
            }
            Message::Tally(t) => {
                if !self.tallies.contains(&t.source) {
                    if self.tallies.len() >= TALLIES {
                        return Err(Broken::TooMany("64 sources with a tally"));
                    }
                    self.tallies.push(t.source.clone());
                }
                self.events.push_back(SpeakerEvent::Tally(t.source, t.tally.into()));
            }
            Message::Camera(order) => self.events.push_back(SpeakerEvent::Camera(order)),
            Message::Report(report) => self.events.push_back(SpeakerEvent::Report(report)),
            Message::Repair(repair) => self.events.push_back(SpeakerEvent::Repair(repair)),
            Message::Keyframe(of) => {
                if let Some(lane) = self.lane.as_ref().filter(|l| same_name(&l.wish().source, &of.source)) {
                    self.events.push_back(SpeakerEvent::Keyframe(lane.wish().source.clone()));
                }
            }
            Message::Announce(entry) => self.events.push_back(SpeakerEvent::Announce(entry)),
            Message::Bye(bye) => {
                self.done = true;
                self.events.push_back(SpeakerEvent::Gone(bye.why));
            }
            Message::Hello(_) => return Err(Broken::OutOfTurn("a second Hello")),
            // What only sources say means nothing here.
            Message::Refuse(_) | Message::Catalogue(_) | Message::Play(_) | Message::CameraDone(_) | Message::Nodes(_) => {}
        }
        Ok(())
    }

    fn hello(&mut self, now: Instant, hello: Hello) {
        let own = &self.config.hello;
        let refusal = if !hello.versions.contains(&VERSION) {
            Some((RefusalCode::Version, format!("this machine speaks version {VERSION}, the other {:?}", hello.versions)))
        } else if hello.group != own.group {
            Some((RefusalCode::Group, "this machine belongs to another group".to_owned()))
        } else if let Some(key) = &self.config.key {
            let proof = hello.proof.as_deref();
            match proof {
                None => Some((RefusalCode::Key, "this machine requires a group key, and the other end has none".into())),
                Some(p) if !key.proves(Side::Caller, &self.config.exported, p) => {
                    Some((RefusalCode::Key, "the group keys of the two ends differ".into()))
                }
                Some(_) => None,
            }
        } else {
            None
        };
        let refusal = refusal.or_else(|| {
            (!self.config.known).then(|| (RefusalCode::Unknown, "the certificate is not among those that this machine lets in".into()))
        });
        if let Some((code, why)) = refusal {
            self.refuse(code, why);
            self.done = true;
            return;
        }
        let proof = self.config.key.as_ref().map(|k| k.proof(Side::Answerer, &self.config.exported));
        self.out.push_back(Message::Hello(Hello { proof, ..own.clone() }));
        self.peer = Some(hello.clone());
        self.events.push_back(SpeakerEvent::Opened(hello));
        self.tell_catalogue(now);
    }

    fn refuse(&mut self, code: RefusalCode, why: String) {
        self.out.push_back(Message::Refuse(Refusal { code, why }));
    }

    fn ask(&mut self, ask: Ask) {
        let Some(source) = self.catalogue.sources.iter().find(|s| same_name(&s.name, &ask.source)) else {
            let why = format!("no source \"{}\" here", ask.source);
            return self.refuse(RefusalCode::Name, why);
        };
        let ask = Ask { source: source.name.clone(), ..ask };
        match &mut self.lane {
            Some(lane) if lane.wish().source == ask.source => lane.ask(ask),
            _ => {
                if let Some(old) = self.lane.take() {
                    self.events.push_back(SpeakerEvent::Enough(old.wish().source.clone()));
                }
                self.events.push_back(SpeakerEvent::Wishes(ask.source.clone()));
                self.lane = Some(Lane::new(ask, &source.streams));
            }
        }
        self.judge_lane();
    }

    fn judge_lane(&mut self) {
        let Some(lane) = &mut self.lane else { return };
        if lane.unusable() {
            let why =
                format!("\"{}\" has no picture in a codec that the receiver takes ({})", lane.wish().source, lane.wish().codecs.join(", "));
            let source = lane.wish().source.clone();
            self.lane = None;
            self.events.push_back(SpeakerEvent::Enough(source));
            self.refuse(RefusalCode::Codec, why);
        }
    }

    /// Sets what there is. Told at once when names or kinds change, else twice a second at most.
    pub fn set_catalogue(&mut self, now: Instant, catalogue: &Catalogue) {
        if self.catalogue == *catalogue {
            return;
        }
        self.catalogue = catalogue.clone();
        if let Some(lane) = &mut self.lane {
            match catalogue.sources.iter().find(|s| s.name == lane.wish().source) {
                Some(source) => lane.set_offered(&source.streams),
                None => {
                    let source = lane.wish().source.clone();
                    self.lane = None;
                    self.events.push_back(SpeakerEvent::Enough(source));
                }
            }
        }
        self.judge_lane();
        let kinds = |c: &Catalogue| -> Vec<(String, Vec<u8>)> {
            c.sources.iter().map(|s| (s.name.clone(), s.streams.iter().map(|x| x.id).collect())).collect()
        };
        let other = self.told.as_ref().is_none_or(|t| kinds(t) != kinds(catalogue));
        if other || now >= self.next_catalogue {
            self.tell_catalogue(now);
        }
    }

    fn tell_catalogue(&mut self, now: Instant) {
        if self.peer.is_none() || self.done || self.told.as_ref() == Some(&self.catalogue) {
            return;
        }
        self.told = Some(self.catalogue.clone());
        self.next_catalogue = now + CATALOGUE_EVERY;
        self.out.push_back(Message::Catalogue(self.catalogue.clone()));
    }

    /// Does what is due.
    ///
    /// # Errors
    /// The peer has said nothing.
    pub fn handle_timeout(&mut self, now: Instant) -> Result<(), Broken> {
        if self.peer.is_none() && !self.done && now.saturating_duration_since(self.began) >= HELLO_PATIENCE {
            return Err(Broken::TooLate("Hello"));
        }
        if now >= self.next_catalogue {
            self.tell_catalogue(now);
        }
        Ok(())
    }

    /// When to call `handle_timeout`.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        if self.done {
            return None;
        }
        if self.peer.is_none() {
            return Some(self.began + HELLO_PATIENCE);
        }
        (self.told.as_ref() != Some(&self.catalogue)).then_some(self.next_catalogue)
    }

    /// Bytes for the control stream.
    pub fn poll_control(&mut self) -> Option<Vec<u8>> {
        if let Some(m) = self.out.pop_front() {
            return Some(frame(&m));
        }
        self.lane.as_mut().and_then(Lane::poll_play).map(|play| frame(&Message::Play(play)))
    }

    /// What is given next, before it is told: the driver may add where to hear it.
    pub fn poll_play(&mut self) -> Option<Play> {
        self.lane.as_mut().and_then(Lane::poll_play)
    }

    /// Tells what is given.
    pub fn play(&mut self, play: Play) {
        self.out.push_back(Message::Play(play));
    }

    /// What the receiver wants.
    pub fn poll_event(&mut self) -> Option<SpeakerEvent> {
        self.events.pop_front()
    }

    /// The way to this receiver, while it has a wish.
    pub fn lane(&mut self) -> Option<&mut Lane> {
        self.lane.as_mut()
    }

    /// Tells what came of a camera order.
    pub fn answer(&mut self, answer: CameraAnswer) {
        self.out.push_back(Message::CameraDone(answer));
    }

    /// Tells who is there: a directory's answer.
    pub fn nodes(&mut self, nodes: Nodes) {
        if self.peer.is_some() {
            self.out.push_back(Message::Nodes(nodes));
        }
    }

    /// Says goodbye.
    pub fn bye(&mut self, why: &str) {
        if !self.done {
            self.out.push_back(Message::Bye(Bye { why: why.into() }));
            self.done = true;
        }
    }

    /// True when nothing more will be said once the last bytes are out.
    #[must_use]
    pub fn is_done(&self) -> bool {
        self.done
    }

    /// Who is there.
    #[must_use]
    pub fn peer(&self) -> Option<&Hello> {
        self.peer.as_ref()
    }
}
