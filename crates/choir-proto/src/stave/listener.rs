//! The receiver's side of one connection (sections 3 to 5).

use super::{
    Ask, Bye, CameraAnswer, CameraOrder, CameraVerb, Carriage, Catalogue, Framer, Grade, Hello, Message, NodeEntry, Nodes, Play, Refusal,
    RefusalCode, Repair, Report, SharedKey, Tally, VERSION,
    frame::{Broken, frame},
    message::{Empty, OfSource, TallyNote},
    names::same_name,
    proof::{EXPORTER_LEN, Side},
};
use std::{
    collections::{BTreeMap, VecDeque},
    time::{Duration, Instant},
};

/// From the connection to the source's first word.
const HELLO_PATIENCE: Duration = Duration::from_secs(3);
/// Between reports.
const REPORT_EVERY: Duration = Duration::from_secs(1);

/// Who calls.
#[derive(Debug, Clone)]
pub struct ListenerConfig {
    /// Itself; the proof is added.
    pub hello: Hello,
    /// The group's key.
    pub key: Option<SharedKey>,
    /// Exported from this connection.
    pub exported: [u8; EXPORTER_LEN],
}

/// What a receiver wants to have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wish {
    /// Name of the source.
    pub source: String,
    /// Highest grade.
    pub grade: Option<Grade>,
    /// Age at which a unit is of no use.
    pub patience: Duration,
    /// Codecs that can be used.
    pub codecs: Vec<String>,
    /// How units are to travel.
    pub carriage: Carriage,
}

/// What a source says.
#[derive(Debug, Clone, PartialEq)]
pub enum ListenerEvent {
    /// It is who it should be.
    Opened(Hello),
    /// What there is.
    Catalogue(Catalogue),
    /// What is given from now on.
    Play(Play),
    /// It does not let this end in, or does not have what is wished for.
    Refused(Refusal),
    /// What came of a camera order.
    Camera(CameraAnswer),
    /// Who a directory knows.
    Nodes(Nodes),
    /// It goes.
    Gone(String),
}

/// The receiver's side.
#[derive(Debug)]
pub struct Listener {
    config: ListenerConfig,
    framer: Framer,
    began: Instant,
    peer: Option<Hello>,
    wish: Option<Wish>,
    asked: Option<Wish>,
    names: Vec<String>,
    tallies: BTreeMap<String, Tally>,
    next_camera: u32,
    report: (Instant, Report),
    out: VecDeque<Message>,
    events: VecDeque<ListenerEvent>,
    done: bool,
}

impl Listener {
    /// At the start of a connection: the first word is this end's.
    #[must_use]
    pub fn new(config: ListenerConfig, now: Instant) -> Self {
        let proof = config.key.as_ref().map(|k| k.proof(Side::Caller, &config.exported));
        let hello = Message::Hello(Hello { proof, versions: vec![VERSION], ..config.hello.clone() });
        Self {
            config,
            framer: Framer::default(),
            began: now,
            peer: None,
            wish: None,
            asked: None,
            names: Vec::new(),
            tallies: BTreeMap::new(),
            next_camera: 0,
            report: (now, Report::default()),
            out: [hello].into(),
            events: VecDeque::new(),
            done: false,
        }
    }

    /// Takes bytes of the control stream.
    ///
    /// # Errors
    /// The source does not keep to the protocol, or cannot prove the group key: close the
    /// connection.
    pub fn handle_control(&mut self, data: &[u8]) -> Result<(), Broken> {
        for message in self.framer.push(data)? {
            if self.done {
                break;
            }
            self.take(message)?;
        }
        Ok(())
    }

    fn take(&mut self, message: Message) -> Result<(), Broken> {
        match message {
            Message::Refuse(refusal) => {
                // A name may come yet; everything else stays so.
                if refusal.code == RefusalCode::Name {
                    self.asked = None;
                } else {
                    self.done = true;
                }
                self.events.push_back(ListenerEvent::Refused(refusal));
            }
            Message::Hello(hello) if self.peer.is_none() => self.hello(hello),
            Message::Hello(_) => return Err(Broken::OutOfTurn("a second Hello")),
            other if self.peer.is_none() => return Err(Broken::OutOfTurn(other.name())),
            Message::Catalogue(c) => {
                self.names = c.sources.iter().map(|s| s.name.clone()).collect();
                if self.wish.as_ref().is_some_and(|w| !self.has(&w.source)) {
                    self.asked = None;
                }
                self.events.push_back(ListenerEvent::Catalogue(c));
                self.ask();
            }
            Message::Play(play) => self.events.push_back(ListenerEvent::Play(play)),
            Message::CameraDone(answer) => self.events.push_back(ListenerEvent::Camera(answer)),
            Message::Nodes(nodes) => self.events.push_back(ListenerEvent::Nodes(nodes)),
            Message::Bye(bye) => {
                self.done = true;
                self.events.push_back(ListenerEvent::Gone(bye.why));
            }
            // What only receivers say means nothing here.
            _ => {}
        }
        Ok(())
    }

    fn hello(&mut self, hello: Hello) {
        let wrong = if !hello.versions.contains(&VERSION) {
            Some((RefusalCode::Version, "the other end speaks no version that is known here".to_owned()))
        } else if hello.group != self.config.hello.group {
            Some((RefusalCode::Group, format!("the other end belongs to the group \"{}\"", hello.group)))
        } else if let Some(key) = &self.config.key {
            let holds = hello.proof.as_deref().is_some_and(|p| key.proves(Side::Answerer, &self.config.exported, p));
            (!holds).then(|| (RefusalCode::Key, "the other end does not have the group key".into()))
        } else {
            None
        };
        if let Some((code, why)) = wrong {
            self.done = true;
            self.events.push_back(ListenerEvent::Refused(Refusal { code, why }));
            return;
        }
        self.peer = Some(hello.clone());
        self.events.push_back(ListenerEvent::Opened(hello));
        let said: Vec<_> = self.tallies.iter().map(|(s, t)| (s.clone(), *t)).collect();
        for (source, tally) in said {
            self.out.push_back(Message::Tally(TallyNote { source, tally: tally.into() }));
        }
    }

    fn has(&self, name: &str) -> bool {
        self.names.iter().any(|n| same_name(n, name))
    }

    /// Wishes for a source, or for another grade of it. Asked as soon as the name is there.
    pub fn wish(&mut self, wish: Wish) {
        self.wish = Some(wish);
        self.ask();
    }

    /// Wants nothing more.
    pub fn enough(&mut self) {
        if self.wish.take().is_some() && self.asked.take().is_some() {
            self.out.push_back(Message::Enough(Empty {}));
        }
    }

    fn ask(&mut self) {
        let Some(wish) = self.wish.clone() else { return };
        if self.peer.is_none() || self.asked.as_ref() == Some(&wish) || !self.has(&wish.source) {
            return;
        }
        self.out.push_back(Message::Ask(Ask {
            source: wish.source.clone(),
            grade: wish.grade,
            patience_ms: u32::try_from(wish.patience.as_millis()).unwrap_or(u32::MAX),
            codecs: wish.codecs.clone(),
            carriage: wish.carriage,
        }));
        self.asked = Some(wish);
    }

    /// Says what this end does with a source; said again to a source that comes back.
    pub fn tally(&mut self, source: &str, tally: Tally) {
        if self.tallies.insert(source.to_owned(), tally) != Some(tally) && self.peer.is_some() {
            self.out.push_back(Message::Tally(TallyNote { source: source.to_owned(), tally: tally.into() }));
        }
    }

    /// Gives the source's camera an order; the answer has this number.
    pub fn camera(&mut self, source: &str, verb: CameraVerb) -> u32 {
        self.next_camera += 1;
        self.out.push_back(Message::Camera(CameraOrder { id: self.next_camera, source: source.to_owned(), verb }));
        self.next_camera
    }

    /// Asks for a keyframe of what is wished for.
    pub fn keyframe(&mut self) {
        if let Some(wish) = &self.asked {
            self.out.push_back(Message::Keyframe(OfSource { source: wish.source.clone() }));
        }
    }

    /// Counts what has come, for the next report.
    pub fn note(&mut self, units: u64, missing: u64, bytes: u64) {
        let r = &mut self.report.1;
        (r.units, r.missing, r.bytes) = (r.units + units, r.missing + missing, r.bytes + bytes);
    }

    /// Asks for packets of a group again.
    pub fn repair(&mut self, repair: Repair) {
        self.out.push_back(Message::Repair(repair));
    }

    /// Tells a directory where this node is.
    pub fn announce(&mut self, entry: NodeEntry) {
        self.out.push_back(Message::Announce(entry));
    }

    /// Says goodbye.
    pub fn bye(&mut self, why: &str) {
        if !self.done {
            self.out.push_back(Message::Bye(Bye { why: why.into() }));
            self.done = true;
        }
    }

    /// Does what is due.
    ///
    /// # Errors
    /// The source has said nothing.
    pub fn handle_timeout(&mut self, now: Instant) -> Result<(), Broken> {
        if self.peer.is_none() && !self.done && now.saturating_duration_since(self.began) >= HELLO_PATIENCE {
            return Err(Broken::TooLate("the source's Hello"));
        }
        if self.asked.is_some() && now.saturating_duration_since(self.report.0) >= REPORT_EVERY {
            let report = std::mem::take(&mut self.report.1);
            self.report.0 = now;
            self.out.push_back(Message::Report(report));
        }
        Ok(())
    }

    /// When to call `handle_timeout`.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        match (self.done, &self.peer) {
            (true, _) => None,
            (false, None) => Some(self.began + HELLO_PATIENCE),
            (false, Some(_)) => self.asked.is_some().then(|| self.report.0 + REPORT_EVERY),
        }
    }

    /// Bytes for the control stream. Held back up to the source's first word, except this end's
    /// own.
    pub fn poll_control(&mut self) -> Option<Vec<u8>> {
        let may = self.peer.is_some() || self.done || matches!(self.out.front(), Some(Message::Hello(_)));
        may.then(|| self.out.pop_front()).flatten().map(|m| frame(&m))
    }

    /// What the source says.
    pub fn poll_event(&mut self) -> Option<ListenerEvent> {
        self.events.pop_front()
    }

    /// True when nothing more will be said once the last bytes are out.
    #[must_use]
    pub fn is_done(&self) -> bool {
        self.done
    }
}
