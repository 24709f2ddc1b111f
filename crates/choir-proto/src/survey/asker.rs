//! This side: greets, measures, and has the other end's findings sent.

use super::{
    IP_UDP, Outgoing, Pace, STREAM_SIZE, TRAIN,
    tally::{Percentiles, Tally, WayReport},
    wire::{Datagram, Key, Message, Side},
};
use std::{collections::VecDeque, net::SocketAddr};

/// Patience with an answerer that says nothing, µs.
const SILENCE_US: i64 = 5_000_000;
/// Greetings and questions are repeated after this, µs.
const REPEAT_US: i64 = 200_000;
/// From ping to ping, µs.
const PING_US: i64 = 50_000;
/// From train to train, µs, and how many each way.
const TRAIN_US: i64 = 150_000;
const TRAINS: u32 = 4;
/// Datagram sizes that are tried, with IP and UDP headers: what tunnels and mobile networks leave
/// of 1500.
const SIZES: [u16; 8] = [1280, 1360, 1400, 1420, 1440, 1460, 1480, 1500];
/// Times that each is tried.
const SIZE_TRIES: u32 = 3;
const SIZE_US: i64 = 20_000;

/// What is to be measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Plan {
    /// Media bits per second, each way.
    pub rate_bps: u64,
    /// How long, ms.
    pub lasts_ms: u32,
}

/// Where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// Waiting for the answerer.
    Greeting,
    /// Streams run both ways.
    Streaming,
    /// Trains and sizes.
    Probing,
    /// Waiting for the other end's findings.
    Asking,
    /// All there.
    Done,
}

/// Why it failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Failure {
    /// Nothing came back.
    #[error("no answer: is \"choir path --answer\" running there with the same token, and is its UDP port open?")]
    NoAnswer,
    /// It answered and fell silent.
    #[error("the other end answered at first and fell silent: the path broke")]
    FellSilent,
    /// Busy.
    #[error("the other end is answering somebody else: try again when that is over")]
    Busy,
    /// Its limits are lower.
    #[error("the other end allows at most {limit_bps} bits per second for {limit_ms} ms")]
    TooMuch {
        /// Greatest rate.
        limit_bps: u64,
        /// Longest time.
        limit_ms: u32,
    },
}

/// What was measured.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Survey {
    /// Least round-trip time, µs.
    pub rtt_least: u32,
    /// Round-trip time above it.
    pub rtt: Percentiles,
    /// Pings answered.
    pub pings: u32,
    /// The other clock minus ours, µs, and how far off that may be.
    pub offset: Option<(i64, u32)>,
    /// From here to there.
    pub there: WayReport,
    /// From there to here.
    pub back: WayReport,
    /// Greatest datagram that came through, IP and UDP headers included; `None` when none did.
    pub size: Option<u16>,
}

/// Asks one answerer.
#[derive(Debug)]
pub struct Asker {
    key: Key,
    peer: SocketAddr,
    session: u64,
    plan: Plan,
    phase: Phase,
    failure: Option<Failure>,
    begun: i64,
    heard: Option<i64>,
    cookie: Option<u64>,
    pace: Option<Pace>,
    tally: Tally,
    /// µs round trip, and the clock offset that it says.
    pings: Vec<(i64, i64)>,
    ping: u32,
    next_ping: i64,
    next_repeat: i64,
    probe: u32,
    size: Option<u16>,
    report: Option<(WayReport, u32)>,
    out: VecDeque<Outgoing>,
}

impl Asker {
    /// Begins at `now`; `session` is drawn at random.
    #[must_use]
    pub fn new(token: &str, peer: SocketAddr, session: u64, plan: Plan, now: i64) -> Self {
        Self {
            key: Key::new(token, Side::Asker),
            peer,
            session,
            plan,
            phase: Phase::Greeting,
            failure: None,
            begun: now,
            heard: None,
            cookie: None,
            pace: None,
            tally: Tally::default(),
            pings: Vec::new(),
            ping: 0,
            next_ping: now,
            next_repeat: now,
            probe: 0,
            size: None,
            report: None,
            out: VecDeque::new(),
        }
    }

    /// Where it stands.
    #[must_use]
    pub fn phase(&self) -> Phase {
        self.phase
    }

    /// Why it failed, if it has.
    #[must_use]
    pub fn failure(&self) -> Option<Failure> {
        self.failure
    }

    /// Something answered already.
    #[must_use]
    pub fn answered(&self) -> bool {
        self.heard.is_some()
    }

    /// For a live line: packets received, share missing on the way here, latest round trip in µs.
    #[must_use]
    pub fn so_far(&self) -> (u32, f64, Option<u32>) {
        (self.tally.received(), self.tally.missing(), self.pings.last().map(|p| p.0.max(0) as u32))
    }

    fn send(&mut self, number: u32, now: i64, message: Message, size: usize) {
        let data = Datagram { session: self.session, number, clock: now, message }.write(&self.key, size);
        self.out.push_back(Outgoing { to: self.peer, data });
    }

    /// Takes a datagram.
    pub fn handle_datagram(&mut self, now: i64, from: SocketAddr, data: &[u8]) {
        let Some(d) = Datagram::read(&self.key, data).filter(|d| d.session == self.session && from == self.peer) else { return };
        self.heard = Some(now);
        match d.message {
            Message::Welcome { cookie, .. } if self.phase == Phase::Greeting => {
                self.cookie = Some(cookie);
                self.next_repeat = now;
            }
            Message::Accepted if self.phase == Phase::Greeting && self.cookie.is_some() => self.begin(now),
            Message::Refused { limit_bps, limit_ms } if self.phase == Phase::Greeting => {
                self.failure = Some(if limit_bps == 0 { Failure::Busy } else { Failure::TooMuch { limit_bps, limit_ms } });
            }
            Message::Stream => {
                // Its stream says what a lost Accepted did.
                if self.phase == Phase::Greeting && self.cookie.is_some() {
                    self.begin(now);
                }
                self.tally.stream(d.number, d.clock, now);
            }
            // Only what was asked since the beginning has an answer.
            Message::Pong { asked, arrived } if (self.begun..=now).contains(&asked) => {
                let rtt = (now - asked) - (d.clock.wrapping_sub(arrived)).max(0);
                let offset = (arrived.wrapping_sub(asked)).wrapping_add(d.clock.wrapping_sub(now)) / 2;
                self.pings.push((rtt.max(0), offset));
            }
            Message::Train { index } => self.tally.train(d.number, index, data.len(), now),
            Message::SizeSeen { size } => {
                let whole = size.saturating_add(IP_UDP as u16);
                self.size = self.size.max(Some(whole).filter(|s| SIZES.contains(s)));
            }
            Message::Report(values) if self.phase == Phase::Asking => {
                self.report = Some((WayReport::from_values(&values), d.number));
                self.phase = Phase::Done;
                self.send(0, now, Message::Bye, 0);
            }
            _ => {}
        }
    }

    fn begin(&mut self, now: i64) {
        self.phase = Phase::Streaming;
        self.pace = Some(Pace::new(now, i64::from(self.plan.lasts_ms) * 1000, self.plan.rate_bps));
        self.next_ping = now;
    }

    /// Lets time pass.
    pub fn handle_timeout(&mut self, now: i64) {
        if self.failure.is_some() || self.phase == Phase::Done {
            return;
        }
        if now - self.heard.unwrap_or(self.begun) > SILENCE_US {
            self.failure = Some(if self.heard.is_some() { Failure::FellSilent } else { Failure::NoAnswer });
            return;
        }
        match self.phase {
            Phase::Greeting if now >= self.next_repeat => {
                self.next_repeat = now + REPEAT_US;
                let message = match self.cookie {
                    None => Message::Hello,
                    Some(cookie) => Message::Start { cookie, rate_bps: self.plan.rate_bps, lasts_ms: self.plan.lasts_ms },
                };
                self.send(0, now, message, 0);
            }
            Phase::Streaming => self.stream(now),
            Phase::Probing if now >= self.next_repeat => self.probe(now),
            Phase::Asking if now >= self.next_repeat => {
                self.next_repeat = now + REPEAT_US;
                let sent = self.pace.as_ref().map_or(0, |p| p.sent);
                self.send(0, now, Message::Ask { sent }, 0);
            }
            _ => {}
        }
    }

    fn stream(&mut self, now: i64) {
        if now >= self.next_ping {
            self.next_ping = now + PING_US;
            self.ping += 1;
            self.send(self.ping, now, Message::Ping, 0);
        }
        let Some(pace) = &mut self.pace else { return };
        let first = pace.sent;
        let count = pace.due(now);
        let over = pace.next_at().is_none();
        for number in first..first + count {
            self.send(number, now, Message::Stream, STREAM_SIZE);
        }
        if over {
            self.phase = Phase::Probing;
            // What is still on its way is let through first.
            self.next_repeat = now + self.settle();
        }
    }

    /// Time for what is on its way: twice the greatest round trip seen.
    fn settle(&self) -> i64 {
        let greatest = self.pings.iter().map(|p| p.0).max().unwrap_or(100_000);
        (2 * greatest).clamp(50_000, 2_000_000)
    }

    /// Trains there and back in turn, then the sizes, each some times.
    fn probe(&mut self, now: i64) {
        let n = self.probe;
        self.probe += 1;
        if n < 2 * TRAINS {
            self.next_repeat = now + TRAIN_US;
            if n.is_multiple_of(2) {
                (0..TRAIN).for_each(|index| self.send(n, now, Message::Train { index }, STREAM_SIZE));
            } else {
                self.send(n, now, Message::TrainAsk, 0);
            }
            return;
        }
        let n = n - 2 * TRAINS;
        if n < SIZES.len() as u32 * SIZE_TRIES {
            self.next_repeat = now + SIZE_US;
            let size = usize::from(SIZES[n as usize % SIZES.len()]);
            self.send(n, now, Message::Size, size - IP_UDP);
            return;
        }
        self.phase = Phase::Asking;
        self.next_repeat = now + self.settle();
    }

    /// The next datagram to send.
    pub fn poll_transmit(&mut self) -> Option<Outgoing> {
        self.out.pop_front()
    }

    /// When to call again.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<i64> {
        let silent = self.heard.unwrap_or(self.begun) + SILENCE_US + 1;
        match self.phase {
            _ if self.failure.is_some() => None,
            Phase::Done => None,
            Phase::Streaming => {
                Some(self.pace.as_ref().and_then(Pace::next_at).map_or(self.next_ping, |p| p.min(self.next_ping)).min(silent))
            }
            _ => Some(self.next_repeat.min(silent)),
        }
    }

    /// What was measured, once it is done.
    #[must_use]
    pub fn survey(&self) -> Option<Survey> {
        let (there, sent_back) = self.report.filter(|_| self.phase == Phase::Done)?;
        let rtts: Vec<i64> = self.pings.iter().map(|p| p.0).collect();
        let best = self.pings.iter().min_by_key(|p| p.0);
        Some(Survey {
            rtt_least: best.map_or(0, |p| p.0 as u32),
            rtt: Percentiles::of(&rtts),
            pings: self.pings.len() as u32,
            offset: best.map(|p| (p.1, (p.0 / 2) as u32)),
            there,
            back: self.tally.report(sent_back),
            size: self.size,
        })
    }
}
