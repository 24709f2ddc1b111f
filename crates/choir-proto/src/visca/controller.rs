//! Asks one camera, one thing at a time, and repeats what is not answered.
//!
//! ```text
//! ask ─► sent ─(ack)─► at work ─(completion)─► done
//!         │ no answer: sent again, by IP with the same number, up to TRIES times
//!         │ buffer full: sent again a little later
//!         └ wrong number (IP): the numbers start anew, then it is sent again
//! ```

use super::{
    header::{Header, Payload},
    wire::{Ask, MESSAGE_MAX, Reply},
};
use std::{
    collections::VecDeque,
    time::{Duration, Instant},
};

/// Times that something is sent before the camera counts as silent.
const TRIES: u32 = 5;
/// Wait for an answer; the makers' lists allow a camera 16 ms to begin and a network some.
const PATIENCE: Duration = Duration::from_millis(200);
/// A move to a preset may take its time; after this the question is repeated, since "done" may have been lost.
/// All that can be repeated here comes out the same when done twice.
const WORK_PATIENCE: Duration = Duration::from_secs(2);
/// Times that "done" is waited for so long.
const WORK_TRIES: u32 = 10;
/// Rest after "buffer full".
const FULL_PAUSE: Duration = Duration::from_millis(60);
/// Questions that wait.
const QUEUE_MAX: usize = 32;

/// How messages travel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Carrier {
    /// By UDP, with the header.
    Ip,
    /// The bare messages, by UDP or TCP.
    Raw,
}

/// Names one question.
pub type Ticket = u64;

/// Why a camera did not do it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// No answer.
    #[error("the camera does not answer by VISCA")]
    Silent,
    /// Not now.
    #[error("the camera cannot do this now: is it switched on, and has it finished starting?")]
    NotNow,
    /// Unknown to it.
    #[error("the camera does not know this command")]
    Unknown,
    /// Busy all the time.
    #[error("the camera is busy with other commands")]
    Busy,
    /// Something else took its place.
    #[error("the command was ended by another one")]
    Cancelled,
    /// Taken, and then nothing more.
    #[error("the camera took the command and did not say that it is done")]
    NeverDone,
}

/// How a question ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// It is done.
    Done,
    /// Its answer.
    Value(Vec<u8>),
    /// It is not done.
    Refused(Refusal),
}

#[derive(Debug)]
enum Phase {
    Sent {
        tries: u32,
    },
    /// Not to be sent before the deadline.
    Resting {
        tries: u32,
    },
    AtWork {
        socket: u8,
        tries: u32,
    },
}

#[derive(Debug)]
struct Current {
    ticket: Ticket,
    ask: Ask,
    sequence: u32,
    phase: Phase,
    deadline: Instant,
}

/// Talks to one camera. After each `handle_*` and [`Self::ask`], drain `poll_transmit` and `poll_outcome`.
#[derive(Debug)]
pub struct Controller {
    carrier: Carrier,
    camera: u8,
    sequence: u32,
    next_ticket: Ticket,
    waiting: VecDeque<(Ticket, Ask)>,
    current: Option<Current>,
    /// The numbers are being started anew: number of the message that does it, and its tries.
    resetting: Option<(u32, u32, Instant)>,
    transmits: VecDeque<Vec<u8>>,
    outcomes: VecDeque<(Ticket, Outcome)>,
}

impl Controller {
    /// For camera 1 to 7; over IP it is always 1. By IP the numbers are started anew first.
    #[must_use]
    pub fn new(carrier: Carrier, camera: u8, now: Instant) -> Self {
        let mut c = Self {
            carrier,
            camera: if carrier == Carrier::Ip { 1 } else { camera.clamp(1, 7) },
            sequence: 0,
            next_ticket: 0,
            waiting: VecDeque::new(),
            current: None,
            resetting: None,
            transmits: VecDeque::new(),
            outcomes: VecDeque::new(),
        };
        if carrier == Carrier::Ip {
            c.reset(now, 1);
        }
        c
    }

    /// Wants something done or answered. A stop goes before all that waits, and ends what is at work.
    pub fn ask(&mut self, now: Instant, ask: Ask) -> Ticket {
        self.next_ticket += 1;
        let ticket = self.next_ticket;
        if matches!(ask, Ask::StopMove | Ask::StopZoom) {
            let kept = |a: &Ask| a.is_inquiry() || matches!(a, Ask::StopMove | Ask::StopZoom);
            let (stay, gone): (Vec<_>, Vec<_>) = self.waiting.drain(..).partition(|(_, a)| kept(a));
            self.waiting.extend(stay);
            self.outcomes.extend(gone.into_iter().map(|(t, _)| (t, Outcome::Refused(Refusal::Cancelled))));
            if self.current.as_ref().is_some_and(|c| !kept(&c.ask)) {
                self.finish(now, Outcome::Refused(Refusal::Cancelled));
            }
            let stops = self.waiting.iter().take_while(|(_, a)| matches!(a, Ask::StopMove | Ask::StopZoom)).count();
            self.waiting.insert(stops, (ticket, ask));
        } else if self.waiting.len() >= QUEUE_MAX {
            self.outcomes.push_back((ticket, Outcome::Refused(Refusal::Busy)));
        } else {
            self.waiting.push_back((ticket, ask));
        }
        self.go_on(now);
        ticket
    }

    /// Takes a datagram (by IP) or one message (raw). Strangers and echoes are ignored.
    pub fn handle_message(&mut self, now: Instant, data: &[u8]) {
        let message = match self.carrier {
            Carrier::Raw => data,
            Carrier::Ip => match Header::read(data) {
                Some((h, message)) if h.kind == Payload::Reply => {
                    if self.current.as_ref().is_none_or(|c| c.sequence != h.sequence) {
                        return;
                    }
                    message
                }
                Some((h, message)) if h.kind == Payload::ControlReply => return self.control(now, h.sequence, message),
                _ => return,
            },
        };
        let Some((camera, reply)) = Reply::read(message) else { return };
        if camera == self.camera {
            self.reply(now, reply);
        }
    }

    fn control(&mut self, now: Instant, sequence: u32, message: &[u8]) {
        match (message, self.resetting) {
            ([0x01], Some(_)) => {
                self.resetting = None;
                self.sequence = 0;
                self.go_on(now);
            }
            // It counts otherwise: perhaps it was restarted.
            ([0x0F, 0x01], None) if self.current.as_ref().is_some_and(|c| c.sequence == sequence) => {
                if let Some(c) = self.current.take() {
                    self.waiting.push_front((c.ticket, c.ask));
                }
                self.reset(now, 1);
            }
            _ => {}
        }
    }

    fn reply(&mut self, now: Instant, reply: Reply) {
        let Some(c) = &mut self.current else { return };
        let inquiry = c.ask.is_inquiry();
        match reply {
            Reply::Taken(socket) if !inquiry && !matches!(c.phase, Phase::Resting { .. }) => {
                let tries = if let Phase::AtWork { tries, .. } = c.phase { tries } else { 1 };
                c.phase = Phase::AtWork { socket, tries };
                c.deadline = now + WORK_PATIENCE;
                // Moves and stops are done when they are taken: some cameras complete a move only at the stop.
                if matches!(c.ask, Ask::Move(_) | Ask::Zoom(_) | Ask::StopMove | Ask::StopZoom) {
                    self.finish(now, Outcome::Done);
                }
            }
            Reply::Done(socket) if !inquiry => match c.phase {
                Phase::AtWork { socket: own, .. } if own != socket => {}
                Phase::Resting { .. } => {}
                _ => self.finish(now, Outcome::Done),
            },
            Reply::Value(bytes, n) if inquiry => self.finish(now, Outcome::Value(bytes[..n.min(MESSAGE_MAX)].to_vec())),
            Reply::BadLength | Reply::BadSyntax => self.finish(now, Outcome::Refused(Refusal::Unknown)),
            Reply::NotNow(_) => self.finish(now, Outcome::Refused(Refusal::NotNow)),
            Reply::Cancelled(_) => self.finish(now, Outcome::Refused(Refusal::Cancelled)),
            Reply::Full => {
                if let Phase::Sent { tries } = c.phase {
                    c.phase = Phase::Resting { tries };
                    c.deadline = now + FULL_PAUSE;
                    if tries >= TRIES * 4 {
                        self.finish(now, Outcome::Refused(Refusal::Busy));
                    }
                }
            }
            _ => {}
        }
    }

    fn finish(&mut self, now: Instant, outcome: Outcome) {
        if let Some(c) = self.current.take() {
            self.outcomes.push_back((c.ticket, outcome));
        }
        self.go_on(now);
    }

    /// Sends the next question when there is none.
    fn go_on(&mut self, now: Instant) {
        if self.current.is_some() || self.resetting.is_some() {
            return;
        }
        let Some((ticket, ask)) = self.waiting.pop_front() else { return };
        self.sequence = self.sequence.wrapping_add(1);
        let c = Current { ticket, ask, sequence: self.sequence, phase: Phase::Sent { tries: 1 }, deadline: now + PATIENCE };
        self.send(&c.ask, c.sequence);
        self.current = Some(c);
    }

    fn send(&mut self, ask: &Ask, sequence: u32) {
        let message = ask.message(self.camera);
        let kind = if ask.is_inquiry() { Payload::Inquiry } else { Payload::Command };
        self.transmits.push_back(match self.carrier {
            Carrier::Raw => message,
            Carrier::Ip => Header { kind, sequence }.datagram(&message),
        });
    }

    fn reset(&mut self, now: Instant, tries: u32) {
        let sequence = self.sequence.wrapping_add(1);
        self.resetting = Some((sequence, tries, now + PATIENCE));
        self.transmits.push_back(Header { kind: Payload::Control, sequence }.datagram(&[0x01]));
    }

    /// Acts on deadlines that have passed; an extra call does nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        if let Some((_, tries, at)) = self.resetting.filter(|r| now >= r.2) {
            debug_assert!(now >= at);
            if tries >= TRIES {
                // Some cameras know no reset; the question itself will tell.
                self.resetting = None;
                self.go_on(now);
            } else {
                self.reset(now, tries + 1);
            }
            return;
        }
        let Some(c) = &mut self.current else { return };
        if now < c.deadline {
            return;
        }
        match c.phase {
            Phase::AtWork { tries, .. } if tries >= WORK_TRIES => self.finish(now, Outcome::Refused(Refusal::NeverDone)),
            Phase::AtWork { socket, tries } => {
                c.phase = Phase::AtWork { socket, tries: tries + 1 };
                c.deadline = now + WORK_PATIENCE;
                let (ask, sequence) = (c.ask, c.sequence);
                self.send(&ask, sequence);
            }
            Phase::Sent { tries } if tries >= TRIES => self.finish(now, Outcome::Refused(Refusal::Silent)),
            Phase::Sent { tries } | Phase::Resting { tries } => {
                c.phase = Phase::Sent { tries: tries + 1 };
                c.deadline = now + PATIENCE;
                let (ask, sequence) = (c.ask, c.sequence);
                self.send(&ask, sequence);
            }
        }
    }

    /// The next datagram or message to send.
    pub fn poll_transmit(&mut self) -> Option<Vec<u8>> {
        self.transmits.pop_front()
    }

    /// The next question that has ended.
    pub fn poll_outcome(&mut self) -> Option<(Ticket, Outcome)> {
        self.outcomes.pop_front()
    }

    /// When to call [`Self::handle_timeout`].
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Instant> {
        self.resetting.map(|r| r.2).or(self.current.as_ref().map(|c| c.deadline))
    }
}
