//! The far side: answers whoever has the token, one at a time.

use super::{
    Outgoing, Pace, STREAM_SIZE, TRAIN,
    tally::Tally,
    wire::{Datagram, Key, Message, Side},
};
use rand_chacha::ChaCha8Rng;
use rand_core::{RngCore, SeedableRng};
use std::{collections::VecDeque, net::SocketAddr};

/// An asker that is silent for this long is gone, µs.
const GONE_US: i64 = 1_000_000;
/// A finished one may ask again for its report for this long, µs.
const LINGER_US: i64 = 10_000_000;
/// Answers that wait to be sent.
const QUEUE_MAX: usize = 512;
/// Trains that one asker gets.
const TRAINS_MAX: u32 = 8;

/// Answers surveys at one port.
#[derive(Debug)]
pub struct Answerer {
    key: Key,
    limit_bps: u64,
    limit_ms: u32,
    rng: ChaCha8Rng,
    cookie: u64,
    session: Option<Session>,
    out: VecDeque<Outgoing>,
    surveys: u64,
}

#[derive(Debug)]
struct Session {
    id: u64,
    peer: SocketAddr,
    /// `None` until it has started.
    pace: Option<Pace>,
    tally: Tally,
    heard: i64,
    trains: u32,
    done: bool,
}

impl Answerer {
    /// Answers with this token, at most this fast and long.
    #[must_use]
    pub fn new(token: &str, limit_bps: u64, limit_ms: u32, seed: [u8; 32]) -> Self {
        let mut rng = ChaCha8Rng::from_seed(seed);
        let cookie = rng.next_u64();
        Self { key: Key::new(token, Side::Answerer), limit_bps, limit_ms, rng, cookie, session: None, out: VecDeque::new(), surveys: 0 }
    }

    /// Who is being answered.
    #[must_use]
    pub fn peer(&self) -> Option<SocketAddr> {
        self.session.as_ref().filter(|s| s.pace.is_some() && !s.done).map(|s| s.peer)
    }

    /// Surveys that were answered to their end.
    #[must_use]
    pub fn surveys(&self) -> u64 {
        self.surveys
    }

    fn send(&mut self, to: SocketAddr, session: u64, number: u32, now: i64, message: Message, size: usize) {
        if self.out.len() < QUEUE_MAX {
            let data = Datagram { session, number, clock: now, message }.write(&self.key, size);
            self.out.push_back(Outgoing { to, data });
        }
    }

    /// Takes a datagram. What does not prove the token changes nothing and is not answered.
    pub fn handle_datagram(&mut self, now: i64, from: SocketAddr, data: &[u8]) {
        let Some(d) = Datagram::read(&self.key, data) else { return };
        let same = self.session.as_ref().is_some_and(|s| s.id == d.session && s.peer == from);
        if !same {
            self.stranger(now, from, &d);
            return;
        }
        let Some(s) = self.session.as_mut() else { return };
        s.heard = now;
        match d.message {
            Message::Hello => self.welcome(now, from, d.session),
            Message::Start { cookie, rate_bps, lasts_ms } => self.start(now, from, d.session, (cookie, rate_bps, lasts_ms)),
            _ if s.pace.is_none() => {}
            Message::Stream => s.tally.stream(d.number, d.clock, now),
            Message::Train { index } => s.tally.train(d.number, index, data.len(), now),
            Message::Ping => self.send(from, d.session, d.number, now, Message::Pong { asked: d.clock, arrived: now }, 0),
            Message::TrainAsk if s.trains < TRAINS_MAX => {
                s.trains += 1;
                for index in 0..TRAIN {
                    self.send(from, d.session, d.number, now, Message::Train { index }, STREAM_SIZE);
                }
            }
            Message::Size => {
                let size = u16::try_from(data.len()).unwrap_or(u16::MAX);
                self.send(from, d.session, d.number, now, Message::SizeSeen { size }, 0);
            }
            Message::Ask { sent } => {
                let values = s.tally.report(sent).to_values();
                let own = s.pace.as_ref().map_or(0, |p| p.sent);
                self.send(from, d.session, own, now, Message::Report(values), 0);
            }
            Message::Bye if !s.done => {
                s.done = true;
                self.surveys += 1;
            }
            _ => {}
        }
    }

    /// Somebody new: only a greeting counts, and only when nobody else is being answered.
    fn stranger(&mut self, now: i64, from: SocketAddr, d: &Datagram) {
        if d.message != Message::Hello {
            return;
        }
        let busy = self.session.as_ref().is_some_and(|s| !s.done && s.pace.is_some() && now - s.heard < GONE_US);
        if busy {
            self.send(from, d.session, d.number, now, Message::Refused { limit_bps: 0, limit_ms: 0 }, 0);
            return;
        }
        // A greeting that was recorded gets a new cookie and nothing else.
        self.cookie = self.rng.next_u64();
        self.session = Some(Session { id: d.session, peer: from, pace: None, tally: Tally::default(), heard: now, trains: 0, done: false });
        self.welcome(now, from, d.session);
    }

    fn welcome(&mut self, now: i64, to: SocketAddr, session: u64) {
        let message = Message::Welcome { cookie: self.cookie, limit_bps: self.limit_bps };
        self.send(to, session, 0, now, message, 0);
    }

    fn start(&mut self, now: i64, from: SocketAddr, session: u64, (cookie, rate_bps, lasts_ms): (u64, u64, u32)) {
        if cookie != self.cookie {
            return;
        }
        if rate_bps > self.limit_bps || lasts_ms > self.limit_ms {
            let message = Message::Refused { limit_bps: self.limit_bps, limit_ms: self.limit_ms };
            self.send(from, session, 0, now, message, 0);
            return;
        }
        if let Some(s) = &mut self.session {
            s.pace.get_or_insert_with(|| Pace::new(now, i64::from(lasts_ms) * 1000, rate_bps));
        }
        self.send(from, session, 0, now, Message::Accepted, 0);
    }

    /// Lets time pass: its stream goes on while the asker is heard.
    pub fn handle_timeout(&mut self, now: i64) {
        let Some(s) = &mut self.session else { return };
        if now - s.heard > LINGER_US {
            self.session = None;
            return;
        }
        if s.done || now - s.heard > GONE_US {
            return;
        }
        let (peer, id) = (s.peer, s.id);
        let Some(pace) = &mut s.pace else { return };
        let first = pace.sent;
        let count = pace.due(now);
        for number in first..first + count {
            self.send(peer, id, number, now, Message::Stream, STREAM_SIZE);
        }
    }

    /// The next datagram to send.
    pub fn poll_transmit(&mut self) -> Option<Outgoing> {
        self.out.pop_front()
    }

    /// When to call again.
    #[must_use]
    pub fn poll_timeout(&self, now: i64) -> Option<i64> {
        let s = self.session.as_ref()?;
        let streaming = !s.done && now - s.heard <= GONE_US;
        let next = s.pace.as_ref().filter(|_| streaming).and_then(Pace::next_at);
        Some(next.unwrap_or(s.heard + LINGER_US + 1))
    }
}
