//! Messages in chunks (RTMP 1.0, 5.3 and 5.4): put together from any pieces, and cut for sending.

use bytes::{Bytes, BytesMut};
use std::collections::BTreeMap;

/// Chunk size before anybody says another (5.4.1).
const SIZE: usize = 128;
/// The greatest that a peer may set; larger ones only help whoever wants memory.
const SIZE_MAX: usize = 1 << 20;
/// Bytes of one message: a keyframe of any contribution, and no more; before anybody may send any,
/// a command.
const MESSAGE_MAX: usize = 8 << 20;
const COMMAND_MAX: usize = 64 << 10;
/// Chunk streams of one connection; publishers use a handful.
const STREAMS_MAX: usize = 32;
/// All messages that have begun, together.
const OPEN_MAX: usize = 16 << 20;
/// Times from here on stand in the extended field (5.3.1.3).
const EXTENDED: u32 = 0xFF_FFFF;

/// Message types (5.4, 6.1, 7.1).
pub mod kind {
    #![allow(missing_docs, reason = "the names of the specification")]
    pub const CHUNK_SIZE: u8 = 1;
    pub const ABORT: u8 = 2;
    pub const ACKNOWLEDGED: u8 = 3;
    pub const USER_CONTROL: u8 = 4;
    pub const WINDOW: u8 = 5;
    pub const BANDWIDTH: u8 = 6;
    pub const AUDIO: u8 = 8;
    pub const VIDEO: u8 = 9;
    pub const DATA_3: u8 = 15;
    pub const COMMAND_3: u8 = 17;
    pub const DATA: u8 = 18;
    pub const COMMAND: u8 = 20;
    pub const AGGREGATE: u8 = 22;
}

/// One message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Its type: one of [`kind`].
    pub kind: u8,
    /// Message stream.
    pub stream: u32,
    /// Milliseconds, 32 bits.
    pub time: u32,
    /// What is in it.
    pub body: Bytes,
}

/// Why chunks cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ChunkError {
    /// The first chunk of a stream leaves out what only an earlier one could say.
    #[error("chunk stream {0} begins without a whole header")]
    NoHeader(u32),
    /// A chunk size that cannot be.
    #[error("chunk size {0} cannot be: 1 to 1048576 bytes")]
    Size(u32),
    /// A message is larger than any picture.
    #[error("a message of {0} bytes is too large: 64 KiB before it publishes, 8 MB then")]
    Message(u32),
    /// Too many chunk streams, or too much begun at once.
    #[error("too many messages at the same time")]
    TooMany,
}

#[derive(Debug, Default)]
struct Stream {
    kind: u8,
    stream: u32,
    time: u32,
    /// What the next message of a header without a time is later by.
    delta: u32,
    length: usize,
    /// What the extended field of the last header that had one said.
    extended: Option<u32>,
    /// A message whose end has not come.
    body: BytesMut,
    begun: bool,
}

/// Puts messages together.
#[derive(Debug)]
pub struct ChunkReader {
    size: usize,
    /// The largest message.
    most: usize,
    streams: BTreeMap<u32, Stream>,
    waiting: BytesMut,
    open: usize,
}

impl Default for ChunkReader {
    fn default() -> Self {
        Self { size: SIZE, most: COMMAND_MAX, streams: BTreeMap::new(), waiting: BytesMut::new(), open: 0 }
    }
}

fn be24(b: &[u8]) -> u32 {
    u32::from_be_bytes([0, b[0], b[1], b[2]])
}

impl ChunkReader {
    /// Messages may be as large as pictures from now on.
    pub fn allow_pictures(&mut self) {
        self.most = MESSAGE_MAX;
    }

    /// Takes what came.
    pub fn push(&mut self, data: &[u8]) {
        self.waiting.extend_from_slice(data);
    }

    /// Bytes that wait for the rest of their chunk.
    #[must_use]
    pub fn waiting(&self) -> usize {
        self.waiting.len()
    }

    /// The next whole message. Chunk sizes and aborted messages have been heeded already; they are
    /// given all the same.
    ///
    /// # Errors
    /// It cannot be read; then nothing behind it can.
    pub fn poll(&mut self) -> Result<Option<Message>, ChunkError> {
        while let Some(done) = self.chunk()? {
            if let Some(message) = done {
                self.heed(&message)?;
                return Ok(Some(message));
            }
        }
        Ok(None)
    }

    /// One chunk, if all of it is here: the message that it ends.
    fn chunk(&mut self) -> Result<Option<Option<Message>>, ChunkError> {
        let w = &self.waiting[..];
        let Some(first) = w.first() else { return Ok(None) };
        // Chunk stream of 6, 14 or 22 bits (5.3.1.1).
        let (id, mut at) = match first & 0x3F {
            0 if w.len() >= 2 => (64 + u32::from(w[1]), 2),
            1 if w.len() >= 3 => (64 + u32::from(w[1]) + 256 * u32::from(w[2]), 3),
            0 | 1 => return Ok(None),
            id => (u32::from(id), 1),
        };
        let form = first >> 6;
        let header = [11, 7, 3, 0][usize::from(form)];
        let Some(h) = w.get(at..at + header) else { return Ok(None) };
        at += header;
        let known = self.streams.get(&id);
        let (begun, was_extended) = known.map_or((false, None), |s| (s.begun, s.extended));
        if known.is_none() && (form > 0 || self.streams.len() >= STREAMS_MAX) {
            return Err(if form > 0 { ChunkError::NoHeader(id) } else { ChunkError::TooMany });
        }
        let mut time = if form < 3 { be24(h) } else { 0 };
        let mut extended = if form < 3 { None } else { was_extended };
        if time == EXTENDED || extended.is_some() {
            let Some(e) = w.get(at..at + 4) else { return Ok(None) };
            time = u32::from_be_bytes([e[0], e[1], e[2], e[3]]);
            // Some senders leave it out where the header has no time (5.3.1.3 says it is there).
            if extended.is_none_or(|said| said == time) {
                extended = Some(time);
                at += 4;
            }
        }
        let length = if form < 2 { be24(&h[3..]) as usize } else { known.map_or(0, |s| s.length) };
        if length > self.most {
            return Err(ChunkError::Message(length as u32));
        }
        // A whole header within a message begins another one: the first is lost.
        let had = known.filter(|_| form == 3).map_or(0, |s| s.body.len());
        let part = (length - had.min(length)).min(self.size);
        if w.len() < at + part {
            return Ok(None);
        }
        let h: [u8; 11] = std::array::from_fn(|i| h.get(i).copied().unwrap_or(0));
        let stream = self.streams.entry(id).or_default();
        stream.extended = extended;
        if form < 3 {
            self.open -= stream.body.len();
            stream.body.clear();
            stream.begun = false;
        }
        match form {
            0 => (stream.time, stream.delta) = (time, time),
            1 | 2 => stream.delta = time,
            _ => {}
        }
        if form < 2 {
            (stream.length, stream.kind) = (length, h[6]);
        }
        if form == 0 {
            stream.stream = u32::from_le_bytes([h[7], h[8], h[9], h[10]]);
        }
        // A header without a time begins a message as much later as the last one was; after a whole
        // header as much as that one's time says (5.3.1.2.4).
        let begins = if form == 3 { !begun } else { true };
        if begins && form > 0 {
            stream.time = stream.time.wrapping_add(stream.delta);
        }
        stream.begun = true;
        let data = self.waiting.split_to(at + part);
        stream.body.extend_from_slice(&data[at..]);
        self.open += part;
        if self.open > OPEN_MAX {
            return Err(ChunkError::TooMany);
        }
        if stream.body.len() < stream.length {
            return Ok(Some(None));
        }
        stream.begun = false;
        self.open -= stream.body.len();
        let body = std::mem::take(&mut stream.body).freeze();
        Ok(Some(Some(Message { kind: stream.kind, stream: stream.stream, time: stream.time, body })))
    }

    fn heed(&mut self, message: &Message) -> Result<(), ChunkError> {
        let Some(value) = message.body.first_chunk::<4>().map(|b| u32::from_be_bytes(*b)) else { return Ok(()) };
        match message.kind {
            kind::CHUNK_SIZE => {
                // The first bit is zero (5.4.1).
                let size = (value & 0x7FFF_FFFF) as usize;
                self.size = Some(size).filter(|s| (1..=SIZE_MAX).contains(s)).ok_or(ChunkError::Size(value))?;
            }
            kind::ABORT => {
                if let Some(stream) = self.streams.get_mut(&value) {
                    self.open -= stream.body.len();
                    stream.body.clear();
                    stream.begun = false;
                }
            }
            _ => {}
        }
        Ok(())
    }
}

/// Cuts messages. Each has a whole header: what that costs is nothing beside what is in them.
#[derive(Debug)]
pub struct ChunkWriter {
    size: usize,
}

impl Default for ChunkWriter {
    fn default() -> Self {
        Self { size: SIZE }
    }
}

impl ChunkWriter {
    /// Appends a message on a chunk stream (2 to 63).
    pub fn write(&mut self, chunk_stream: u8, message: &Message, out: &mut Vec<u8>) {
        let extended = message.time >= EXTENDED;
        out.push(chunk_stream & 0x3F);
        out.extend_from_slice(&message.time.min(EXTENDED).to_be_bytes()[1..]);
        out.extend_from_slice(&(message.body.len() as u32).to_be_bytes()[1..]);
        out.push(message.kind);
        out.extend_from_slice(&message.stream.to_le_bytes());
        let mut first = true;
        // An empty message has its header alone.
        let parts = message.body.chunks(self.size).chain(message.body.is_empty().then_some(&[][..]));
        for part in parts {
            if !std::mem::take(&mut first) {
                out.push(0xC0 | chunk_stream & 0x3F);
            }
            if extended {
                out.extend_from_slice(&message.time.to_be_bytes());
            }
            out.extend_from_slice(part);
        }
        if message.kind == kind::CHUNK_SIZE
            && let Some(size) = message.body.first_chunk::<4>()
        {
            self.size = (u32::from_be_bytes(*size) as usize).clamp(1, SIZE_MAX);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn message() -> impl Strategy<Value = (u8, Message)> {
        let time = prop_oneof![0..5000u32, (EXTENDED - 2)..EXTENDED + 3, any::<u32>()];
        let kinds = prop::sample::select(vec![kind::AUDIO, kind::VIDEO, kind::DATA, kind::COMMAND]);
        (2u8..8, kinds, 0u32..5, time, prop::collection::vec(any::<u8>(), 0..700))
            .prop_map(|(on, kind, stream, time, body)| (on, Message { kind, stream, time, body: body.into() }))
    }

    proptest! {
        #[test]
        fn messages_come_out_as_they_went_in_whatever_the_pieces(
            all in prop::collection::vec(message(), 1..12),
            size in prop_oneof![Just(128u32), 1u32..5000],
            cuts in prop::collection::vec(1usize..200, 1..20),
        ) {
            let (mut writer, mut out) = (ChunkWriter::default(), Vec::new());
            writer.write(2, &Message { kind: kind::CHUNK_SIZE, stream: 0, time: 0, body: size.to_be_bytes().to_vec().into() }, &mut out);
            all.iter().for_each(|(on, m)| writer.write(*on, m, &mut out));
            let (mut reader, mut got) = (ChunkReader::default(), Vec::new());
            let (mut rest, mut cuts) = (&out[..], cuts.iter().cycle());
            while !rest.is_empty() {
                let (now, later) = rest.split_at(rest.len().min(*cuts.next().expect("more")));
                reader.push(now);
                while let Some(m) = reader.poll().expect("readable") {
                    got.push(m);
                }
                rest = later;
            }
            prop_assert_eq!(&got[1..], &all.into_iter().map(|(_, m)| m).collect::<Vec<_>>()[..]);
            prop_assert_eq!((reader.open, reader.waiting()), (0, 0));
        }

        #[test]
        fn anything_is_read_or_refused(data in prop::collection::vec(any::<u8>(), 0..2000)) {
            let mut reader = ChunkReader::default();
            reader.push(&data);
            while let Ok(Some(_)) = reader.poll() {}
        }
    }

    /// Polls everything.
    fn read(data: &[u8]) -> Result<Vec<Message>, ChunkError> {
        let mut reader = ChunkReader::default();
        reader.push(data);
        let mut all = Vec::new();
        while let Some(m) = reader.poll()? {
            all.push(m);
        }
        Ok(all)
    }

    #[test]
    fn shorter_headers_say_what_differs() {
        // Whole; then 20 ms later with a length of its own; 20 ms later; and again.
        let data = [
            &[0x06, 0, 0, 100, 0, 0, 2, 9, 1, 0, 0, 0, b'a', b'b'][..],
            &[0x46, 0, 0, 20, 0, 0, 1, 8, b'c'],
            &[0x86, 0, 0, 30, b'd'],
            &[0xC6, b'e'],
        ]
        .concat();
        let all = read(&data).expect("readable");
        assert_eq!(
            all.iter().map(|m| (m.kind, m.time, m.stream)).collect::<Vec<_>>(),
            [(9, 100, 1), (8, 120, 1), (8, 150, 1), (8, 180, 1)]
        );
        assert_eq!(&all[3].body[..], b"e");
        // The other forms of a chunk stream's number.
        let wide = [&[0x00, 6, 0, 0, 0, 0, 0, 1, 8, 0, 0, 0, 0, b'x'][..], &[0x01, 6, 1, 0, 0, 0, 0, 0, 1, 8, 0, 0, 0, 0, b'y']].concat();
        assert_eq!(read(&wide).map(|all| all.len()), Ok(2));
    }

    #[test]
    fn messages_of_several_streams_come_between_each_other_and_can_be_broken_off() {
        let video = [&[0x06, 0, 0, 0, 0, 0, 200, 9, 1, 0, 0, 0][..], &[1; 128]].concat();
        let audio = [0x04, 0, 0, 5, 0, 0, 1, 8, 1, 0, 0, 0, 7];
        let rest = [&[0xC6][..], &[2; 72]].concat();
        let all = read(&[&video[..], &audio, &rest].concat()).expect("readable");
        assert_eq!(all.iter().map(|m| (m.kind, m.body.len())).collect::<Vec<_>>(), [(8, 1), (9, 200)]);
        let abort = [0x02, 0, 0, 0, 0, 0, 4, 2, 0, 0, 0, 0, 0, 0, 0, 6];
        let all = read(&[&video[..], &abort, &audio].concat()).expect("readable");
        assert_eq!(all.iter().map(|m| m.kind).collect::<Vec<_>>(), [2, 8]);
    }

    #[test]
    fn what_asks_for_too_much_is_refused() {
        assert_eq!(read(&[0xC6]), Err(ChunkError::NoHeader(6)));
        assert_eq!(read(&[0x02, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0, 0]), Err(ChunkError::Size(0)));
        assert_eq!(read(&[0x06, 0, 0, 0, 0xFF, 0xFF, 0xFF, 9, 0, 0, 0, 0]), Err(ChunkError::Message(0xFF_FFFF)));
        let many: Vec<u8> = (2..50).flat_map(|id| [id, 0, 0, 0, 0, 0, 1, 8, 0, 0, 0, 0, 1]).collect();
        assert_eq!(read(&many), Err(ChunkError::TooMany));
        // Five messages of 8 MB that never end.
        let mut reader = ChunkReader::default();
        reader.allow_pictures();
        reader.push(&[0x02, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 16, 0, 0]);
        let mut refused = false;
        for id in 3..8 {
            reader.push(&[id, 0, 0, 0, 0x7F, 0xFF, 0xFF, 9, 0, 0, 0, 0]);
            for n in 0..7 {
                if n > 0 {
                    reader.push(&[0xC0 | id]);
                }
                reader.push(&vec![0; 1 << 20]);
                refused |= reader.poll() == Err(ChunkError::TooMany);
            }
        }
        assert!(refused);
    }
}
