//! What both ends of a connection have in common: handshake, chunks, windows, commands, and
//! messages in one.

use super::{
    amf::{Amf, AmfError, read_values, write_values},
    chunk::{ChunkError, ChunkReader, ChunkWriter, Message, kind},
    handshake::{Handshake, HandshakeError, SIZE},
};
use bytes::Bytes;
use std::collections::VecDeque;

/// Chunk size that is announced: a picture is not cut into thousands.
const CHUNK: u32 = 4096;
/// Bytes after which the other end is to say how far it has come, and after which we do.
const WINDOW: u32 = 2_500_000;
/// Bytes of a command: everything that is said in them is short.
const COMMAND_MAX: usize = 64 << 10;
/// Messages in one aggregate.
const TOGETHER_MAX: usize = 1000;

/// Chunk streams that are sent on: control (5.4), commands, sound, pictures.
const ON_CONTROL: u8 = 2;
const ON_COMMANDS: u8 = 3;
const ON_SOUND: u8 = 4;
const ON_PICTURES: u8 = 6;

/// Why a connection cannot go on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RtmpError {
    /// It is none.
    #[error(transparent)]
    Handshake(#[from] HandshakeError),
    /// Chunks that cannot be.
    #[error("what it sends cannot be read: {0}")]
    Chunk(#[from] ChunkError),
    /// A command that cannot be.
    #[error("a command cannot be read: {0}")]
    Command(#[from] AmfError),
    /// A command in an order that cannot be.
    #[error("{0}")]
    Order(&'static str),
}

/// A command: its name, number and values.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Command {
    pub name: String,
    pub number: f64,
    /// The command object, and what follows.
    pub values: Vec<Amf>,
    pub stream: u32,
}

impl Command {
    /// The text at this place behind the command object.
    pub fn text(&self, place: usize) -> Option<&str> {
        self.values.get(place + 1).and_then(Amf::as_text)
    }
}

/// Something that came.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Heard {
    Command(Command),
    Media(Message),
    /// Metadata: a name and its values.
    Data(Vec<Amf>),
}

/// One end.
#[derive(Debug)]
pub(super) struct Session {
    handshake: Option<Handshake>,
    reader: ChunkReader,
    writer: ChunkWriter,
    out: Vec<u8>,
    heard: VecDeque<Heard>,
    /// Bytes that came, and when that was last acknowledged; both wrap as the protocol's do.
    came: u32,
    acknowledged: u32,
    window: u32,
    sent: u64,
    /// Bytes that the other end says it has.
    theirs: Option<u64>,
    begun: bool,
}

impl Session {
    fn new(handshake: Handshake, out: Vec<u8>) -> Self {
        Self {
            handshake: Some(handshake),
            reader: ChunkReader::default(),
            writer: ChunkWriter::default(),
            sent: 0,
            out,
            heard: VecDeque::new(),
            came: 0,
            acknowledged: 0,
            window: WINDOW,
            theirs: None,
            begun: false,
        }
    }

    pub fn server(random: [u8; SIZE]) -> Self {
        Self::new(Handshake::server(random), Vec::new())
    }

    pub fn client(random: [u8; SIZE]) -> Self {
        let mut out = Vec::new();
        let handshake = Handshake::client(random, &mut out);
        Self::new(handshake, out)
    }

    /// The handshake is over.
    pub fn is_joined(&self) -> bool {
        self.handshake.is_none()
    }

    /// Lets messages be as large as pictures are: for whoever may send them.
    pub fn take_media(&mut self) {
        self.reader.allow_pictures();
    }

    /// Takes what came.
    pub fn handle(&mut self, data: &[u8]) -> Result<(), RtmpError> {
        self.came = self.came.wrapping_add(data.len() as u32);
        match &mut self.handshake {
            Some(handshake) => {
                let Some(rest) = handshake.push(data, &mut self.out)? else { return Ok(()) };
                self.handshake = None;
                self.reader.push(&rest);
            }
            None => self.reader.push(data),
        }
        while let Some(message) = self.reader.poll()? {
            self.message(message)?;
        }
        if self.came.wrapping_sub(self.acknowledged) >= self.window {
            self.acknowledged = self.came;
            self.control(kind::ACKNOWLEDGED, &self.came.to_be_bytes());
        }
        Ok(())
    }

    fn message(&mut self, message: Message) -> Result<(), RtmpError> {
        let number = message.body.first_chunk::<4>().map(|b| u32::from_be_bytes(*b));
        match message.kind {
            kind::WINDOW => self.window = number.filter(|n| *n > 0).unwrap_or(WINDOW),
            kind::ACKNOWLEDGED => {
                let Some(n) = number else { return Ok(()) };
                // 32 bits of a longer count: the latest that fits what was sent.
                let behind = (self.sent as u32).wrapping_sub(n);
                self.theirs = Some(self.sent.saturating_sub(u64::from(behind)).max(self.theirs.unwrap_or(0)));
            }
            // A ping is answered with its own time (7.1.7).
            kind::USER_CONTROL if message.body.starts_with(&[0, 6]) => {
                let pong = [&[0, 7][..], message.body.get(2..6).unwrap_or(&[0; 4])].concat();
                self.control(kind::USER_CONTROL, &pong);
            }
            kind::COMMAND | kind::COMMAND_3 | kind::DATA | kind::DATA_3 => self.values(&message)?,
            kind::AUDIO | kind::VIDEO => self.heard.push_back(Heard::Media(message)),
            kind::AGGREGATE => self.aggregate(&message),
            _ => {}
        }
        Ok(())
    }

    fn values(&mut self, message: &Message) -> Result<(), RtmpError> {
        // In AMF 3 a byte comes first that says that AMF 0 follows.
        let three = matches!(message.kind, kind::COMMAND_3 | kind::DATA_3) && message.body.first() == Some(&0);
        let body = &message.body[usize::from(three)..];
        if body.len() > COMMAND_MAX {
            return Err(RtmpError::Order("a command of more than 64 KiB"));
        }
        let values = read_values(body)?;
        if matches!(message.kind, kind::DATA | kind::DATA_3) {
            self.heard.push_back(Heard::Data(values));
            return Ok(());
        }
        let mut values = values.into_iter();
        let (Some(Amf::Text(name)), number) = (values.next(), values.next()) else {
            return Err(RtmpError::Order("a command without a name"));
        };
        let number = number.as_ref().and_then(Amf::as_number).unwrap_or(0.0);
        self.heard.push_back(Heard::Command(Command { name, number, values: values.collect(), stream: message.stream }));
        Ok(())
    }

    /// Messages in one (7.1.6), each with its length and time; times are moved to that of the
    /// whole.
    fn aggregate(&mut self, message: &Message) {
        let (mut at, mut first, mut count) = (0, None, 0);
        while let Some(head) = message.body.get(at..at + 11) {
            let size = u32::from_be_bytes([0, head[1], head[2], head[3]]) as usize;
            let time = u32::from_be_bytes([head[7], head[4], head[5], head[6]]);
            let moved = message.time.wrapping_add(time.wrapping_sub(*first.get_or_insert(time)));
            if message.body.len() < at + 11 + size || count == TOGETHER_MAX {
                return;
            }
            if matches!(head[0], kind::AUDIO | kind::VIDEO) {
                let body = message.body.slice(at + 11..at + 11 + size);
                self.heard.push_back(Heard::Media(Message { kind: head[0], stream: message.stream, time: moved, body }));
            }
            // Behind each stands how long it was.
            at += 11 + size + 4;
            count += 1;
        }
    }

    pub fn poll_heard(&mut self) -> Option<Heard> {
        self.heard.pop_front()
    }

    /// Bytes to be sent.
    pub fn poll_output(&mut self) -> Option<Vec<u8>> {
        let out = std::mem::take(&mut self.out);
        self.sent += out.len() as u64;
        (!out.is_empty()).then_some(out)
    }

    /// Bytes that were sent and that the other end has not said to have; `None` before it has said
    /// anything.
    pub fn unacknowledged(&self) -> Option<u64> {
        self.theirs.map(|theirs| self.sent - theirs)
    }

    fn control(&mut self, kind: u8, body: &[u8]) {
        self.write(ON_CONTROL, &Message { kind, stream: 0, time: 0, body: Bytes::copy_from_slice(body) });
    }

    fn write(&mut self, on: u8, message: &Message) {
        self.writer.write(on, message, &mut self.out);
    }

    /// Says how large chunks and windows are, once.
    pub fn begin(&mut self, server: bool) {
        if std::mem::replace(&mut self.begun, true) {
            return;
        }
        if server {
            self.control(kind::WINDOW, &WINDOW.to_be_bytes());
            // The limit may change: dynamic.
            self.control(kind::BANDWIDTH, &[&WINDOW.to_be_bytes()[..], &[2]].concat());
        }
        self.control(kind::CHUNK_SIZE, &CHUNK.to_be_bytes());
    }

    /// A stream begins (7.1.7).
    pub fn stream_begins(&mut self, stream: u32) {
        self.control(kind::USER_CONTROL, &[&[0, 0][..], &stream.to_be_bytes()].concat());
    }

    pub fn command(&mut self, stream: u32, name: &str, number: f64, values: &[Amf]) {
        let mut body = Vec::new();
        write_values([&Amf::text(name), &Amf::Number(number)], &mut body);
        write_values(values, &mut body);
        self.write(ON_COMMANDS, &Message { kind: kind::COMMAND, stream, time: 0, body: body.into() });
    }

    pub fn data(&mut self, stream: u32, values: &[Amf]) {
        let mut body = Vec::new();
        write_values(values, &mut body);
        self.write(ON_SOUND, &Message { kind: kind::DATA, stream, time: 0, body: body.into() });
    }

    pub fn media(&mut self, stream: u32, kind: u8, time: u32, body: Bytes) {
        let on = if kind == kind::AUDIO { ON_SOUND } else { ON_PICTURES };
        self.write(on, &Message { kind, stream, time, body });
    }

    /// What a status says (7.2.2).
    pub fn status(&mut self, stream: u32, level: &str, code: &str, says: &str) {
        let about = [("level", level), ("code", code), ("description", says)];
        let about = Amf::Object(about.map(|(k, v)| (k.to_owned(), Amf::text(v))).to_vec());
        self.command(stream, "onStatus", 0.0, &[Amf::Null, about]);
    }
}
