//! Commands, inquiries and answers, to the byte. A message is `8x ... FF` to camera x, `z0 ... FF`
//! back with z = x + 8.

/// Longest message with its end.
pub const MESSAGE_MAX: usize = 16;
/// Largest speed of pan; tilt has a little less.
pub const PAN_SPEED_MAX: u8 = 0x18;
/// Largest speed of tilt.
pub const TILT_SPEED_MAX: u8 = 0x14;
/// Largest speed of zoom.
pub const ZOOM_SPEED_MAX: u8 = 7;

/// Speeds from -1 to 1: left and right, down and up, wide and tele.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Drive {
    /// Pan.
    pub pan: f64,
    /// Tilt.
    pub tilt: f64,
    /// Zoom.
    pub zoom: f64,
}

/// What can be said to a camera.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Ask {
    /// Pan and tilt at these speeds until stopped.
    Move(Drive),
    /// Stop pan and tilt.
    StopMove,
    /// Zoom at this speed until stopped.
    Zoom(f64),
    /// Stop zooming.
    StopZoom,
    /// Go to the home position.
    Home,
    /// Go to a preset.
    Goto(u8),
    /// Store the present position.
    Store(u8),
    /// Tally lamp.
    Tally(bool),
    /// Which maker, model and version.
    Version,
    /// Where pan and tilt are.
    Position,
    /// Where the zoom is.
    ZoomPosition,
    /// Clears the camera's buffers.
    Clear,
}

/// Size of a speed in steps from 1 to `most`; 0 when it stands still.
fn step(speed: f64, most: u8) -> u8 {
    let size = speed.abs().clamp(0.0, 1.0);
    if size < 0.005 { 0 } else { ((size * f64::from(most)).round() as u8).clamp(1, most) }
}

/// 1 towards `-`, 2 towards `+`, 3 not at all.
fn way(speed: f64, step: u8, minus: u8, plus: u8) -> u8 {
    match (step, speed < 0.0) {
        (0, _) => 3,
        (_, true) => minus,
        (_, false) => plus,
    }
}

impl Ask {
    /// It asks for an answer instead of wanting something done.
    #[must_use]
    pub fn is_inquiry(&self) -> bool {
        matches!(self, Self::Version | Self::Position | Self::ZoomPosition)
    }

    /// The message to this camera (1 to 7).
    #[must_use]
    pub fn message(&self, camera: u8) -> Vec<u8> {
        let mut out = vec![0x80 | camera & 7];
        match *self {
            Self::Move(d) => {
                let (pan, tilt) = (step(d.pan, PAN_SPEED_MAX), step(d.tilt, TILT_SPEED_MAX));
                // A speed of 0 is refused by some, even for what does not move.
                out.extend([0x01, 0x06, 0x01, pan.max(1), tilt.max(1), way(d.pan, pan, 1, 2), way(d.tilt, tilt, 2, 1)]);
            }
            Self::StopMove => out.extend([0x01, 0x06, 0x01, 1, 1, 3, 3]),
            Self::Zoom(speed) => {
                let steps = step(speed, ZOOM_SPEED_MAX);
                out.extend([0x01, 0x04, 0x07, if steps == 0 { 0 } else { way(speed, steps, 0x30, 0x20) | steps }]);
            }
            Self::StopZoom => out.extend([0x01, 0x04, 0x07, 0x00]),
            Self::Home => out.extend([0x01, 0x06, 0x04]),
            Self::Goto(n) => out.extend([0x01, 0x04, 0x3F, 0x02, n & 0x7F]),
            Self::Store(n) => out.extend([0x01, 0x04, 0x3F, 0x01, n & 0x7F]),
            Self::Tally(on) => out.extend([0x01, 0x7E, 0x01, 0x0A, 0x00, if on { 2 } else { 3 }]),
            Self::Version => out.extend([0x09, 0x00, 0x02]),
            Self::Position => out.extend([0x09, 0x06, 0x12]),
            Self::ZoomPosition => out.extend([0x09, 0x04, 0x47]),
            Self::Clear => out.extend([0x01, 0x00, 0x01]),
        }
        out.push(0xFF);
        out
    }

    /// Reads a message as a camera does: to which camera, and what. Speeds come back in steps.
    #[must_use]
    pub fn read(message: &[u8]) -> Option<(u8, Self)> {
        let (first, rest) = message.split_first()?;
        let rest = rest.strip_suffix(&[0xFF])?;
        if first & 0xF0 != 0x80 {
            return None;
        }
        let signed = |way: u8, minus: u8, plus: u8, speed: u8, most: u8| {
            let size = f64::from(speed.min(most)) / f64::from(most);
            if way == minus {
                -size
            } else if way == plus {
                size
            } else {
                0.0
            }
        };
        let ask = match *rest {
            [0x01, 0x06, 0x01, _, _, 3, 3] => Self::StopMove,
            [0x01, 0x06, 0x01, v, w, p @ 1..=3, t @ 1..=3] => {
                Self::Move(Drive { pan: signed(p, 1, 2, v, PAN_SPEED_MAX), tilt: signed(t, 2, 1, w, TILT_SPEED_MAX), zoom: 0.0 })
            }
            [0x01, 0x04, 0x07, 0x00] => Self::StopZoom,
            // Standard speeds.
            [0x01, 0x04, 0x07, 0x02] => Self::Zoom(0.5),
            [0x01, 0x04, 0x07, 0x03] => Self::Zoom(-0.5),
            [0x01, 0x04, 0x07, z @ (0x20..=0x27 | 0x30..=0x37)] => Self::Zoom(signed(z >> 4, 3, 2, (z & 7).max(1), ZOOM_SPEED_MAX)),
            [0x01, 0x06, 0x04] => Self::Home,
            [0x01, 0x04, 0x3F, 0x02, n] => Self::Goto(n),
            [0x01, 0x04, 0x3F, 0x01, n] => Self::Store(n),
            [0x01, 0x7E, 0x01, 0x0A, 0x00, p @ 2..=3] => Self::Tally(p == 2),
            [0x09, 0x00, 0x02] => Self::Version,
            [0x09, 0x06, 0x12] => Self::Position,
            [0x09, 0x04, 0x47] => Self::ZoomPosition,
            [0x01, 0x00, 0x01] => Self::Clear,
            _ => return None,
        };
        Some((first & 0x0F, ask))
    }
}

/// What a camera answers. Sockets are its two places for commands at work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reply {
    /// Taken, at work in this socket.
    Taken(u8),
    /// Done.
    Done(u8),
    /// The answer to an inquiry: its bytes after `50`, filled up with zeros, and how many there
    /// are.
    Value([u8; MESSAGE_MAX], usize),
    /// Wrong length.
    BadLength,
    /// Not understood.
    BadSyntax,
    /// Both sockets are at work.
    Full,
    /// Ended before it was done.
    Cancelled(u8),
    /// No command at work in this socket.
    NoSocket(u8),
    /// Cannot be done now.
    NotNow(u8),
    /// Addresses were given out: this many cameras, plus one.
    Addresses(u8),
}

impl Reply {
    /// Reads an answer: from which camera (0 for the controller's own line), and what.
    #[must_use]
    pub fn read(message: &[u8]) -> Option<(u8, Self)> {
        let body = message.strip_suffix(&[0xFF])?;
        let (first, rest) = body.split_first()?;
        if message.len() > MESSAGE_MAX {
            return None;
        }
        if *first == 0x88 {
            return match rest {
                [0x30, w @ 1..=8] => Some((0, Self::Addresses(*w))),
                _ => None,
            };
        }
        let camera = (first >> 4).checked_sub(8).filter(|c| first & 0x0F == 0 && (1..=7).contains(c))?;
        let reply = match *rest {
            [a] if a & 0xF0 == 0x40 => Self::Taken(a & 0x0F),
            [a] if a & 0xF0 == 0x50 => Self::Done(a & 0x0F),
            [a, ref value @ ..] if a & 0xF0 == 0x50 => {
                let mut bytes = [0; MESSAGE_MAX];
                bytes[..value.len()].copy_from_slice(value);
                Self::Value(bytes, value.len())
            }
            [a, code] if a & 0xF0 == 0x60 => match code {
                0x01 => Self::BadLength,
                0x02 => Self::BadSyntax,
                0x03 => Self::Full,
                0x04 => Self::Cancelled(a & 0x0F),
                0x05 => Self::NoSocket(a & 0x0F),
                0x41 => Self::NotNow(a & 0x0F),
                _ => return None,
            },
            _ => return None,
        };
        Some((camera, reply))
    }

    /// The message from this camera.
    #[must_use]
    pub fn message(&self, camera: u8) -> Vec<u8> {
        let from = (8 + camera) << 4;
        match *self {
            Self::Taken(s) => vec![from, 0x40 | s, 0xFF],
            Self::Done(s) => vec![from, 0x50 | s, 0xFF],
            Self::Value(bytes, n) => {
                let mut out = vec![from, 0x50];
                out.extend_from_slice(&bytes[..n.min(MESSAGE_MAX - 3)]);
                out.push(0xFF);
                out
            }
            Self::BadLength => vec![from, 0x60, 0x01, 0xFF],
            Self::BadSyntax => vec![from, 0x60, 0x02, 0xFF],
            Self::Full => vec![from, 0x60, 0x03, 0xFF],
            Self::Cancelled(s) => vec![from, 0x60 | s, 0x04, 0xFF],
            Self::NoSocket(s) => vec![from, 0x60 | s, 0x05, 0xFF],
            Self::NotNow(s) => vec![from, 0x60 | s, 0x41, 0xFF],
            Self::Addresses(w) => vec![0x88, 0x30, w, 0xFF],
        }
    }

    /// An inquiry's answer of these bytes.
    #[must_use]
    pub fn value(of: &[u8]) -> Self {
        let mut bytes = [0; MESSAGE_MAX];
        let n = of.len().min(MESSAGE_MAX - 3);
        bytes[..n].copy_from_slice(&of[..n]);
        Self::Value(bytes, n)
    }
}

/// Four bytes with four bits each as a signed number.
#[must_use]
pub fn read_nibbles(bytes: &[u8]) -> Option<i16> {
    let four: [u8; 4] = bytes.get(..4)?.try_into().ok()?;
    four.iter().all(|b| *b < 16).then(|| four.iter().fold(0u16, |n, b| n << 4 | u16::from(*b)) as i16)
}

/// A signed number as four bytes with four bits each.
#[must_use]
pub fn write_nibbles(n: i16) -> [u8; 4] {
    let n = n as u16;
    [12, 8, 4, 0].map(|s| (n >> s & 0x0F) as u8)
}

/// Camera addresses are given out along a chain by this message to all.
pub const GIVE_ADDRESSES: &[u8] = &[0x88, 0x30, 0x01, 0xFF];

/// Cuts a stream of bytes into messages. What grows too long without an end is dropped.
#[derive(Debug, Default)]
pub struct Stream {
    held: Vec<u8>,
    spoilt: bool,
}

impl Stream {
    /// Takes bytes; hands on whole messages.
    pub fn push(&mut self, bytes: &[u8], mut each: impl FnMut(&[u8])) {
        for b in bytes {
            if self.held.len() >= MESSAGE_MAX {
                self.held.clear();
                self.spoilt = true;
            }
            self.held.push(*b);
            if *b == 0xFF {
                if !std::mem::take(&mut self.spoilt) {
                    each(&self.held);
                }
                self.held.clear();
            }
        }
    }
}
