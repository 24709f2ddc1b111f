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
    wire::{Ask, GIVE_ADDRESSES, MESSAGE_MAX, Reply},
};
use std::{
    collections::VecDeque,
    time::{Duration, Instant},
};

/// Times that something is sent before the camera counts as silent.
const TRIES: u32 = 5;
/// Wait for an answer; the makers' lists allow a camera 16 ms to begin and a network some.
const PATIENCE: Duration = Duration::from_millis(200);
/// A move to a preset may take its time; after this the question is repeated, since "done" may have
/// been lost. All that can be repeated here comes out the same when done twice.
const WORK_PATIENCE: Duration = Duration::from_secs(2);
/// Times that "done" is waited for so long.
const WORK_TRIES: u32 = 10;
/// Rest after "buffer full".
const FULL_PAUSE: Duration = Duration::from_millis(60);
/// An answer to what has ended comes within this time or never.
const STALE_FOR: Duration = Duration::from_millis(700);
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
    /// Times sent, and the answers to it so far.
    sent: u32,
    heard: Answers,
}

/// Answers by kind. A command has one taken and one done for each time that it arrives, an inquiry
/// one value.
#[derive(Debug, Clone, Copy, Default)]
struct Answers {
    taken: u32,
    done: u32,
    value: u32,
}

impl Answers {
    /// Counts one down; true when there was one.
    fn had(count: &mut u32) -> bool {
        let had = *count > 0;
        *count = count.saturating_sub(1);
        had
    }
}

const fn is_stop(ask: &Ask) -> bool {
    matches!(ask, Ask::StopMove | Ask::StopZoom)
}

/// Talks to one camera. After each `handle_*` and [`Self::ask`], drain `poll_transmit` and
/// `poll_outcome`.
#[derive(Debug)]
pub struct Controller {
    carrier: Carrier,
    camera: u8,
    sequence: u32,
    next_ticket: Ticket,
    waiting: VecDeque<(Ticket, Ask)>,
    current: Option<Current>,
    /// The numbers are being started anew: how often that was asked for, and when it is asked
    /// again.
    resetting: Option<(u32, Instant)>,
    /// Answers to what has ended, which may still come, and until when. Bare messages have no
    /// numbers: one of these must not be taken for the answer to a stop.
    stale: (Answers, Instant),
    transmits: VecDeque<Vec<u8>>,
    outcomes: VecDeque<(Ticket, Outcome)>,
}

impl Controller {
    /// For camera 1 to 7; over IP it is always 1. By IP the numbers are started anew first, on a
    /// bare chain the cameras are given theirs.
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
            stale: (Answers::default(), now),
            transmits: VecDeque::new(),
            outcomes: VecDeque::new(),
        };
        match carrier {
            Carrier::Ip => c.reset(now, 1),
            // Cameras of a chain know their numbers only after this; giving them out again changes
            // none.
            Carrier::Raw if c.camera > 1 => c.transmits.push_back(GIVE_ADDRESSES.to_vec()),
            Carrier::Raw => {}
        }
        c
    }

    /// Wants something done or answered. A stop goes at once, before all that waits and whatever
    /// has not been answered yet; it ends what is at work.
    pub fn ask(&mut self, now: Instant, ask: Ask) -> Ticket {
        self.next_ticket += 1;
        let ticket = self.next_ticket;
        if is_stop(&ask) {
            let (stay, gone): (Vec<_>, Vec<_>) = self.waiting.drain(..).partition(|(_, a)| a.is_inquiry() || is_stop(a));
            self.waiting.extend(stay);
            self.outcomes.extend(gone.into_iter().map(|(t, _)| (t, Outcome::Refused(Refusal::Cancelled))));
            match self.current.take_if(|c| !is_stop(&c.ask)) {
                Some(c) => {
                    self.leave_behind(now, &c, &Outcome::Refused(Refusal::Cancelled));
                    if c.ask.is_inquiry() {
                        self.waiting.push_front((c.ticket, c.ask));
                    } else {
                        self.outcomes.push_back((c.ticket, Outcome::Refused(Refusal::Cancelled)));
                    }
                }
                // Behind the other stop it would be late by an answer: said now, and asked again in
                // its turn.
                None if self.current.is_some() && self.resetting.is_none() => self.say_ahead(now, &ask),
                None => {}
            }
            let stops = self.waiting.iter().take_while(|(_, a)| is_stop(a)).count();
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
        if self.is_stale(now, reply) {
            return;
        }
        let Some(c) = &mut self.current else { return };
        let inquiry = c.ask.is_inquiry();
        c.heard.taken += u32::from(matches!(reply, Reply::Taken(_)));
        c.heard.done += u32::from(matches!(reply, Reply::Done(_)));
        c.heard.value += u32::from(matches!(reply, Reply::Value(..)));
        match reply {
            Reply::Taken(socket) if !inquiry && !matches!(c.phase, Phase::Resting { .. }) => {
                let tries = if let Phase::AtWork { tries, .. } = c.phase { tries } else { 1 };
                c.phase = Phase::AtWork { socket, tries };
                c.deadline = now + WORK_PATIENCE;
                // Moves and stops are done when they are taken: some cameras complete a move only
                // at the stop.
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

    /// On the bare carrier, whether this answers what has ended already.
    fn is_stale(&mut self, now: Instant, reply: Reply) -> bool {
        if self.carrier == Carrier::Ip || now >= self.stale.1 {
            return false;
        }
        // At work in a socket, an answer from that socket can only be its own.
        let at_work = matches!(self.current, Some(Current { phase: Phase::AtWork { .. }, .. }));
        let stale = &mut self.stale.0;
        match reply {
            Reply::Taken(_) => Answers::had(&mut stale.taken),
            Reply::Done(_) if !at_work => Answers::had(&mut stale.done),
            Reply::Value(..) => Answers::had(&mut stale.value),
            _ => false,
        }
    }

    /// Notes which answers to what ends now may still come.
    fn leave_behind(&mut self, now: Instant, c: &Current, outcome: &Outcome) {
        let refused = match outcome {
            // Nothing has come for so long that nothing will.
            Outcome::Refused(Refusal::Silent | Refusal::NeverDone) => return,
            Outcome::Refused(Refusal::NotNow | Refusal::Unknown) => 1,
            _ => 0,
        };
        let left = |heard: u32| c.sent.saturating_sub(heard + refused);
        let stale = self.more_stale(now);
        if c.ask.is_inquiry() {
            stale.value += left(c.heard.value);
        } else {
            stale.taken += left(c.heard.taken);
            stale.done += left(c.heard.done);
        }
    }

    /// What is counted here is awaited from now on; what was is, unless its time is over.
    fn more_stale(&mut self, now: Instant) -> &mut Answers {
        if now >= self.stale.1 {
            self.stale.0 = Answers::default();
        }
        self.stale.1 = now + STALE_FOR;
        &mut self.stale.0
    }

    /// Sends a command whose answer is not awaited.
    fn say_ahead(&mut self, now: Instant, ask: &Ask) {
        self.sequence = self.sequence.wrapping_add(1);
        self.send(ask, self.sequence);
        let stale = self.more_stale(now);
        stale.taken += 1;
        stale.done += 1;
    }

    fn finish(&mut self, now: Instant, outcome: Outcome) {
        if let Some(c) = self.current.take() {
            self.leave_behind(now, &c, &outcome);
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
        let c = Current {
            ticket,
            ask,
            sequence: self.sequence,
            phase: Phase::Sent { tries: 1 },
            deadline: now + PATIENCE,
            sent: 1,
            heard: Answers::default(),
        };
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
        self.resetting = Some((tries, now + PATIENCE));
        self.transmits.push_back(Header { kind: Payload::Control, sequence }.datagram(&[0x01]));
    }

    /// Acts on deadlines that have passed; an extra call does nothing.
    pub fn handle_timeout(&mut self, now: Instant) {
        if let Some((tries, _)) = self.resetting.filter(|r| now >= r.1) {
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
                c.sent += 1;
                c.deadline = now + WORK_PATIENCE;
                let (ask, sequence) = (c.ask, c.sequence);
                self.send(&ask, sequence);
            }
            Phase::Sent { tries } if tries >= TRIES => self.finish(now, Outcome::Refused(Refusal::Silent)),
            Phase::Sent { tries } | Phase::Resting { tries } => {
                c.phase = Phase::Sent { tries: tries + 1 };
                c.sent += 1;
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
        self.resetting.map(|r| r.1).or(self.current.as_ref().map(|c| c.deadline))
    }
}
