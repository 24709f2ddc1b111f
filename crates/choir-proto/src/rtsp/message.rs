//! Requests, responses and interleaved frames on one byte stream (RFC 2326, 4 to 7 and 10.12).

use bytes::{Buf, Bytes, BytesMut};
use std::fmt::Write;

/// Start line and headers together.
const HEAD_MAX: usize = 32 << 10;
/// Body; a session description has some thousand bytes.
const BODY_MAX: usize = 256 << 10;
/// Headers of one message.
const HEADERS_MAX: usize = 128;

/// What a request asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Method {
    /// What can you do?
    Options,
    /// What have you got?
    Describe,
    /// How shall this track travel?
    Setup,
    /// Begin.
    Play,
    /// Stop for a while.
    Pause,
    /// End.
    Teardown,
    /// Still there?
    GetParameter,
    /// A setting.
    SetParameter,
    /// Go elsewhere.
    Redirect,
    /// Any other.
    Other(String),
}

impl Method {
    /// As on the wire.
    #[must_use]
    pub fn word(&self) -> &str {
        match self {
            Self::Options => "OPTIONS",
            Self::Describe => "DESCRIBE",
            Self::Setup => "SETUP",
            Self::Play => "PLAY",
            Self::Pause => "PAUSE",
            Self::Teardown => "TEARDOWN",
            Self::GetParameter => "GET_PARAMETER",
            Self::SetParameter => "SET_PARAMETER",
            Self::Redirect => "REDIRECT",
            Self::Other(word) => word,
        }
    }

    fn from_word(word: &str) -> Self {
        let known = [
            Self::Options,
            Self::Describe,
            Self::Setup,
            Self::Play,
            Self::Pause,
            Self::Teardown,
            Self::GetParameter,
            Self::SetParameter,
            Self::Redirect,
        ];
        known.into_iter().find(|m| m.word() == word).unwrap_or_else(|| Self::Other(word.to_owned()))
    }
}

/// Headers in order; names are compared without case.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Headers(pub Vec<(String, String)>);

impl Headers {
    /// The first of this name.
    #[must_use]
    pub fn get<'a>(&'a self, name: &str) -> Option<&'a str> {
        self.0.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_str())
    }
    /// All of this name.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.0.iter().filter(move |(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_str())
    }
    /// Adds one. A value with a line break would forge others, so it ends there.
    pub fn add(&mut self, name: &str, value: impl Into<String>) {
        let value: String = value.into();
        self.0.push((name.to_owned(), value.split(['\r', '\n']).next().unwrap_or_default().to_owned()));
    }
    /// Replaces all of this name.
    pub fn set(&mut self, name: &str, value: impl Into<String>) {
        self.remove(name);
        self.add(name, value);
    }
    /// Takes all of this name out.
    pub fn remove(&mut self, name: &str) {
        self.0.retain(|(n, _)| !n.eq_ignore_ascii_case(name));
    }
}

/// A request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// What it asks for.
    pub method: Method,
    /// Of what.
    pub uri: String,
    /// The version it speaks, `1.0`.
    pub version: String,
    /// Headers.
    pub headers: Headers,
    /// Body.
    pub body: Bytes,
}

/// A response.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Response {
    /// 200 and so on.
    pub status: u16,
    /// Its words.
    pub reason: String,
    /// Headers.
    pub headers: Headers,
    /// Body.
    pub body: Bytes,
}

/// What came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Incoming {
    /// A request.
    Request(Request),
    /// A response.
    Response(Response),
    /// An interleaved packet. A slice of what was read.
    Frame(u8, Bytes),
}

/// Why a byte stream is no RTSP.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MessageError {
    /// Something else talks.
    #[error("not RTSP: it begins with \"{0}\"")]
    Garbage(String),
    /// Too large.
    #[error("the RTSP message is larger than allowed ({0} bytes)")]
    TooLarge(usize),
    /// Its length is no number.
    #[error("the RTSP message has a Content-Length that is not a number")]
    Length,
}

/// The version spoken here (RFC 2326).
pub(super) const VERSION: &str = "1.0";

impl Request {
    /// A request without body.
    #[must_use]
    pub fn new(method: Method, uri: impl Into<String>) -> Self {
        Self { method, uri: uri.into(), version: VERSION.into(), headers: Headers::default(), body: Bytes::new() }
    }

    /// As on the wire.
    #[must_use]
    pub fn to_bytes(&self) -> Bytes {
        // A line break in an address would forge headers.
        let uri: String = self.uri.chars().filter(|c| !c.is_control() && *c != ' ').collect();
        write(format!("{} {uri} RTSP/1.0\r\n", self.method.word()), &self.headers, &self.body)
    }
}

impl Response {
    /// An answer with this status and its usual words.
    #[must_use]
    pub fn new(status: u16) -> Self {
        Self { status, reason: reason(status).to_owned(), headers: Headers::default(), body: Bytes::new() }
    }

    /// As on the wire.
    #[must_use]
    pub fn to_bytes(&self) -> Bytes {
        write(format!("RTSP/1.0 {} {}\r\n", self.status, self.reason), &self.headers, &self.body)
    }
}

fn write(mut text: String, headers: &Headers, body: &Bytes) -> Bytes {
    for (name, value) in &headers.0 {
        let _ = write!(text, "{name}: {value}\r\n");
    }
    if !body.is_empty() && headers.get("Content-Length").is_none() {
        let _ = write!(text, "Content-Length: {}\r\n", body.len());
    }
    text.push_str("\r\n");
    let mut out = BytesMut::from(text.as_bytes());
    out.extend_from_slice(body);
    out.freeze()
}

fn reason(status: u16) -> &'static str {
    match status {
        200 => "OK",
        301 => "Moved Permanently",
        302 => "Moved Temporarily",
        400 => "Bad Request",
        401 => "Unauthorized",
        403 => "Forbidden",
        404 => "Not Found",
        405 => "Method Not Allowed",
        451 => "Parameter Not Understood",
        453 => "Not Enough Bandwidth",
        454 => "Session Not Found",
        455 => "Method Not Valid In This State",
        459 => "Aggregate Operation Not Allowed",
        461 => "Unsupported Transport",
        500 => "Internal Server Error",
        501 => "Not Implemented",
        503 => "Service Unavailable",
        406 => "Not Acceptable",
        505 => "RTSP Version Not Supported",
        551 => "Option Not Supported",
        _ => "Status",
    }
}

/// The four bytes before an interleaved packet.
#[must_use]
pub fn frame_header(channel: u8, size: usize) -> [u8; 4] {
    let [high, low] = (size as u16).to_be_bytes();
    [b'$', channel, high, low]
}

/// A byte stream being read. Give it bytes through [`Inbox::buffer`], take messages with
/// [`Inbox::take`].
#[derive(Debug, Default)]
pub struct Inbox {
    buffer: BytesMut,
    /// Already searched for the end of the head.
    seen: usize,
}

impl Inbox {
    /// Where read bytes go.
    pub fn buffer(&mut self) -> &mut BytesMut {
        &mut self.buffer
    }

    /// The next whole message or frame.
    ///
    /// # Errors
    /// What comes is no RTSP, or too large; nothing more can be read then.
    pub fn take(&mut self) -> Result<Option<Incoming>, MessageError> {
        // Line breaks between messages are allowed, and some send too many.
        while self.seen == 0 && matches!(self.buffer.first(), Some(b'\r' | b'\n')) {
            self.buffer.advance(1);
        }
        match self.buffer.first() {
            None => return Ok(None),
            Some(b'$') => return Ok(self.frame()),
            Some(b) if !b.is_ascii_alphabetic() => return Err(self.garbage()),
            Some(_) => {}
        }
        let Some((end, body_at)) = self.find_end() else {
            if self.buffer.len() > HEAD_MAX {
                return Err(MessageError::TooLarge(self.buffer.len()));
            }
            // The first line tells whether the rest is worth waiting for; no start line is longer
            // than this.
            let line = self.buffer.iter().take(2048).position(|b| *b == b'\n');
            let start = line.map(|end| String::from_utf8_lossy(&self.buffer[..end]).trim().to_owned());
            let wrong = start.map_or(self.buffer.len() >= 2048, |s| parse_start(&s, Headers::default()).is_none());
            return if wrong { Err(self.garbage()) } else { Ok(None) };
        };
        if end > HEAD_MAX {
            return Err(MessageError::TooLarge(end));
        }
        let head = String::from_utf8_lossy(&self.buffer[..end]).into_owned();
        let (start, headers) = parse_head(&head);
        let length = match headers.get("Content-Length").map(str::trim) {
            None | Some("") => 0,
            Some(text) => text.parse::<usize>().map_err(|_| MessageError::Length)?,
        };
        if length > BODY_MAX {
            return Err(MessageError::TooLarge(length));
        }
        if self.buffer.len() < body_at + length {
            return Ok(None);
        }
        let message = parse_start(&start, headers).ok_or_else(|| self.garbage())?;
        self.buffer.advance(body_at);
        self.seen = 0;
        let body = self.buffer.split_to(length).freeze();
        Ok(Some(match message {
            Incoming::Request(r) => Incoming::Request(Request { body, ..r }),
            Incoming::Response(r) => Incoming::Response(Response { body, ..r }),
            frame => frame,
        }))
    }

    fn frame(&mut self) -> Option<Incoming> {
        let head: [u8; 4] = self.buffer.get(..4)?.try_into().ok()?;
        let size = usize::from(u16::from_be_bytes([head[2], head[3]]));
        if self.buffer.len() < 4 + size {
            self.buffer.reserve(4 + size - self.buffer.len());
            return None;
        }
        self.buffer.advance(4);
        Some(Incoming::Frame(head[1], self.buffer.split_to(size).freeze()))
    }

    /// Where the head ends and the body begins: behind an empty line, with either kind of line end.
    fn find_end(&mut self) -> Option<(usize, usize)> {
        let from = self.seen.saturating_sub(3);
        let data = &self.buffer[..];
        for i in from..data.len() {
            if data[i] == b'\n' {
                match data.get(i + 1..) {
                    Some([b'\n', ..]) => return Some((i + 1, i + 2)),
                    Some([b'\r', b'\n', ..]) => return Some((i + 1, i + 3)),
                    _ => {}
                }
            }
        }
        self.seen = data.len();
        None
    }

    fn garbage(&self) -> MessageError {
        let start: String =
            self.buffer.iter().take(16).map(|b| if b.is_ascii_graphic() || *b == b' ' { char::from(*b) } else { '.' }).collect();
        MessageError::Garbage(start)
    }
}

/// The start line, and the headers with folded lines joined.
fn parse_head(head: &str) -> (String, Headers) {
    let mut lines = head.lines();
    let start = lines.next().unwrap_or_default().trim().to_owned();
    let mut headers: Vec<(String, String)> = Vec::new();
    for line in lines {
        let folded = line.starts_with([' ', '\t']);
        if folded && let Some((_, value)) = headers.last_mut() {
            value.push(' ');
            value.push_str(line.trim());
        } else if let Some((name, value)) = line.split_once(':')
            && headers.len() < HEADERS_MAX
        {
            headers.push((name.trim().to_owned(), value.trim().to_owned()));
        }
    }
    (start, Headers(headers))
}

fn parse_start(line: &str, headers: Headers) -> Option<Incoming> {
    let mut words = line.split_ascii_whitespace();
    let first = words.next()?;
    if first.get(..5).is_some_and(|p| p.eq_ignore_ascii_case("RTSP/")) {
        let status = words.next()?.parse().ok().filter(|s| (100..1000).contains(s))?;
        let reason = words.collect::<Vec<_>>().join(" ");
        return Some(Incoming::Response(Response { status, reason, headers, body: Bytes::new() }));
    }
    let uri = words.next()?.to_owned();
    let version = words.next()?;
    version.get(..5).filter(|p| p.eq_ignore_ascii_case("RTSP/"))?;
    let version = version.get(5..)?.to_owned();
    let plain = first.bytes().all(|b| b.is_ascii_uppercase() || b == b'_');
    plain.then(|| Incoming::Request(Request { method: Method::from_word(first), uri, version, headers, body: Bytes::new() }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn all(inbox: &mut Inbox) -> Vec<Incoming> {
        std::iter::from_fn(|| inbox.take().expect("reads")).collect()
    }

    #[test]
    fn odd_case_folding_and_bare_line_feeds_are_read() {
        let text = "RTSP/1.0 200 OK\ncseq:3\nPUBLIC: OPTIONS,\n  DESCRIBE,\n\tPLAY\nContent-length: 4\n\nbody\r\n\r\n$\x01\x00\x02abRTSP/1.0 454 Gone\r\n\r\n";
        let mut inbox = Inbox::default();
        inbox.buffer().extend_from_slice(text.as_bytes());
        let got = all(&mut inbox);
        let Incoming::Response(r) = &got[0] else { panic!("{got:?}") };
        assert_eq!((r.status, r.headers.get("CSeq"), r.headers.get("Public")), (200, Some("3"), Some("OPTIONS, DESCRIBE, PLAY")));
        assert_eq!(r.body.as_ref(), b"body");
        assert_eq!(got[1], Incoming::Frame(1, Bytes::from_static(b"ab")));
        assert!(matches!(&got[2], Incoming::Response(r) if r.status == 454));
    }

    #[test]
    fn what_is_no_rtsp_is_refused_and_bounded() {
        for bad in
            [&b"\x16\x03\x01\x02"[..], b"GET / HTTP/1.1\r\n\r\n", b"SSH-2.0-x\r\n", b"lower rtsp://x RTSP/1.0\r\n\r\n", &[b'A'; 3000]]
        {
            let mut inbox = Inbox::default();
            inbox.buffer().extend_from_slice(bad);
            assert!(matches!(inbox.take(), Err(MessageError::Garbage(_))), "{bad:?}");
        }
        let mut inbox = Inbox::default();
        inbox.buffer().extend_from_slice(b"PLAY x RTSP/1.0\r\nContent-Length: 99999999\r\n\r\n");
        assert_eq!(inbox.take(), Err(MessageError::TooLarge(99_999_999)));
        let mut endless = Inbox::default();
        endless.buffer().extend_from_slice(b"PLAY x RTSP/1.0\r\n");
        endless.buffer().extend_from_slice(&b"a: b\r\n".repeat(9000));
        assert!(matches!(endless.take(), Err(MessageError::TooLarge(_))));
    }

    #[test]
    fn nothing_can_be_forged_by_a_line_break() {
        let mut request = Request::new(Method::Describe, "rtsp://h/a\r\nX: 1");
        request.headers.add("User-Agent", "x\r\nY: 2");
        let text = String::from_utf8(request.to_bytes().to_vec()).expect("text");
        assert_eq!(text, "DESCRIBE rtsp://h/aX:1 RTSP/1.0\r\nUser-Agent: x\r\n\r\n");
    }

    proptest! {
        #[test]
        fn any_cut_of_the_stream_reads_alike(
            cuts in proptest::collection::vec(1usize..40, 1..60),
            body in proptest::collection::vec(any::<u8>(), 0..300),
            channel: u8,
            value in "[ -~]{0,40}",
        ) {
            let mut request = Request::new(Method::SetParameter, "rtsp://127.20.0.11:554/main?x=1");
            request.headers.add("CSeq", "7");
            request.headers.add("X-Odd", value.trim());
            request.body = body.clone().into();
            let mut response = Response::new(200);
            response.headers.add("CSeq", "7");
            response.body = body.clone().into();
            let mut stream = request.to_bytes().to_vec();
            stream.extend(frame_header(channel, body.len()));
            stream.extend(&body);
            stream.extend(response.to_bytes());
            let (mut inbox, mut got, mut rest) = (Inbox::default(), Vec::new(), &stream[..]);
            let mut cuts = cuts.iter().cycle();
            while !rest.is_empty() {
                let n = (*cuts.next().expect("cycles")).min(rest.len());
                inbox.buffer().extend_from_slice(&rest[..n]);
                rest = &rest[n..];
                got.extend(all(&mut inbox));
            }
            let strip = |h: &Headers| h.0.iter().filter(|(n, _)| n != "Content-Length").cloned().collect::<Vec<_>>();
            prop_assert_eq!(got.len(), 3);
            let Incoming::Request(r) = &got[0] else { panic!("no request") };
            prop_assert_eq!((&r.method, &r.uri, strip(&r.headers), &r.body), (&request.method, &request.uri, request.headers.0.clone(), &request.body));
            prop_assert_eq!(&got[1], &Incoming::Frame(channel, body.clone().into()));
            let Incoming::Response(r) = &got[2] else { panic!("no response") };
            prop_assert_eq!((r.status, &r.body), (200, &response.body));
        }

        #[test]
        fn noise_never_panics(noise in proptest::collection::vec(any::<u8>(), 0..2000)) {
            let mut inbox = Inbox::default();
            inbox.buffer().extend_from_slice(&noise);
            while let Ok(Some(_)) = inbox.take() {}
        }
    }
}
