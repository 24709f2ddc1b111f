//! What is known of a way in or out at the end of a tick.

use super::{Contact, Direction, WayTick};
use crate::{content::ContentFault, model::Mismatch};
use std::{net::SocketAddr, time::Duration};

/// What the media of a line shows.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct MediaFacts {
    /// Time since the last media packet; `None` before the first of this session.
    pub quiet: Option<Duration>,
    /// Time since the present source's first media.
    pub media_for: Duration,
    /// It is a transport stream with a programme.
    pub readable: bool,
    /// A keyframe has been seen; `None` without video.
    pub keyframe_seen: Option<bool>,
    /// Keyframes have come, and none with parameter sets.
    pub without_sets: bool,
    /// How it differs from what the sheet expects.
    pub differs: Vec<Mismatch>,
    /// What is wrong with picture or sound, and for how long; the worst first.
    pub content: Vec<(ContentFault, Duration)>,
}

/// What is known of a way in or out at the end of a tick.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// The link.
    pub contact: Contact,
    /// Which way.
    pub direction: Direction,
    /// Its last second.
    pub tick: WayTick,
    /// Time since the link came up.
    pub up_for: Duration,
    /// The media of a way in; `None` for a way out.
    pub media: Option<MediaFacts>,
    /// What is known besides.
    pub around: Around,
}

/// What is known of a way besides its own numbers.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Around {
    /// Connections so far.
    pub sessions: u32,
    /// The peer's host says that nobody listens there any more.
    pub port_closed: bool,
    /// A caller that was turned away just now since the place is taken.
    pub contested: Option<SocketAddr>,
    /// Changes of the sender in the last half minute.
    pub sender_changes: u32,
    /// How late packets leave here, ms: 99 of 100 no later.
    pub late_ms: Option<f64>,
    /// Share of a core that the thread takes which serves it, 0 to 1.
    pub busy: Option<f64>,
    /// Another line that carries the same picture.
    pub same_picture: Option<String>,
    /// How pictures are encoded for it, where they are.
    pub encoding: Option<EncodingFacts>,
}

/// How pictures were encoded for a way out in the last second.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct EncodingFacts {
    /// Pictures made.
    pub made: u64,
    /// Pictures that there was no time for, or that could not be decoded.
    pub left_out: u64,
    /// What cannot be done.
    pub problem: Option<String>,
}
