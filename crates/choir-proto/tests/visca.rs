//! VISCA to the byte, and a controller against a camera over a path that loses, doubles and
//! reorders.

#![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]
use choir_path::{Faults, Path};
use choir_proto::visca::{
    Ask, Carrier, Controller, Drive, Header, Outcome, Payload, Refusal, Reply, Stream,
    wire::{GIVE_ADDRESSES, read_nibbles, write_nibbles},
};
use proptest::prelude::*;
use std::time::{Duration, Instant};

const ASKS: [Ask; 12] = [
    Ask::Move(Drive { pan: 0.5, tilt: -1.0, zoom: 0.0 }),
    Ask::StopMove,
    Ask::Zoom(-1.0),
    Ask::StopZoom,
    Ask::Home,
    Ask::Goto(3),
    Ask::Store(9),
    Ask::Tally(true),
    Ask::Version,
    Ask::Position,
    Ask::ZoomPosition,
    Ask::Clear,
];

#[test]
fn every_message_is_as_the_lists_print_it() {
    let bytes = |a: Ask| a.message(1).iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(" ");
    let printed = [
        "81 01 06 01 0C 14 02 02 FF",
        "81 01 06 01 01 01 03 03 FF",
        "81 01 04 07 37 FF",
        "81 01 04 07 00 FF",
        "81 01 06 04 FF",
        "81 01 04 3F 02 03 FF",
        "81 01 04 3F 01 09 FF",
        "81 01 7E 01 0A 00 02 FF",
        "81 09 00 02 FF",
        "81 09 06 12 FF",
        "81 09 04 47 FF",
        "81 01 00 01 FF",
    ];
    for (ask, printed) in ASKS.into_iter().zip(printed) {
        assert_eq!(bytes(ask), printed);
        assert_eq!(Ask::read(&ask.message(5)), Some((5, ask)), "{ask:?}");
        assert_eq!(ask.is_inquiry(), printed.starts_with("81 09"));
    }
    let datagram = Header { kind: Payload::Inquiry, sequence: 0x0102_0304 }.datagram(&Ask::ZoomPosition.message(1));
    assert_eq!(datagram, [0x01, 0x10, 0, 5, 1, 2, 3, 4, 0x81, 0x09, 0x04, 0x47, 0xFF]);
    assert_eq!([-1, 0, 0x4000, i16::MIN].map(|n| read_nibbles(&write_nibbles(n))), [-1, 0, 0x4000, i16::MIN].map(Some));
    assert_eq!(read_nibbles(&[0, 16, 0, 0]), None);
}

#[test]
fn every_answer_comes_back_and_cut_ones_are_none() {
    let replies = [
        Reply::Taken(1),
        Reply::Done(2),
        Reply::value(&[1, 2, 3, 4]),
        Reply::BadLength,
        Reply::BadSyntax,
        Reply::Full,
        Reply::Cancelled(1),
        Reply::NoSocket(2),
        Reply::NotNow(1),
    ];
    for reply in replies {
        for camera in 1..=7 {
            let message = reply.message(camera);
            assert_eq!(Reply::read(&message), Some((camera, reply)));
            assert!((0..message.len()).all(|n| Reply::read(&message[..n]).is_none()), "{reply:?}");
        }
    }
    assert_eq!(Reply::read(&Reply::Addresses(3).message(0)), Some((0, Reply::Addresses(3))));
}

proptest! {
    #[test]
    fn any_junk_is_read_without_harm(junk in proptest::collection::vec(any::<u8>(), 0..64)) {
        let _ = (Ask::read(&junk), Reply::read(&junk), Header::read(&junk));
        let mut stream = Stream::default();
        stream.push(&junk, |m| assert!(m.len() <= 16 && m.ends_with(&[0xFF])));
        // After an end of message the stream is whole again.
        let mut got = Vec::new();
        stream.push(&[0xFF], |_| {});
        stream.push(&Reply::Taken(1).message(1), |m| got.push(m.to_vec()));
        prop_assert_eq!(got, [Reply::Taken(1).message(1)]);
        let now = Instant::now();
        for carrier in [Carrier::Ip, Carrier::Raw] {
            let mut c = Controller::new(carrier, 1, now);
            c.ask(now, Ask::Home);
            c.handle_message(now, &junk);
        }
    }
}

/// A camera with one of everything that can go wrong.
#[derive(Default)]
struct Camera {
    /// The number it wants next.
    expects: Option<u32>,
    /// Numbers it has carried out.
    done: Vec<(u32, Ask)>,
    full: u32,
    refuses: Option<Reply>,
}

impl Camera {
    fn answer(&mut self, datagram: &[u8]) -> Vec<Vec<u8>> {
        let (h, message) = Header::read(datagram).expect("a header");
        if h.kind == Payload::Control {
            self.expects = Some(1);
            return vec![Header { kind: Payload::ControlReply, sequence: h.sequence }.datagram(&[0x01])];
        }
        let reply = |r: Reply| Header { kind: Payload::Reply, sequence: h.sequence }.datagram(&r.message(1));
        // Repeated: answered again, not done again.
        if !self.done.iter().any(|(n, _)| *n == h.sequence) {
            if self.expects.is_some_and(|e| h.sequence > e + 1) || self.expects.is_none() {
                return vec![Header { kind: Payload::ControlReply, sequence: h.sequence }.datagram(&[0x0F, 0x01])];
            }
            if self.full > 0 {
                self.full -= 1;
                return vec![reply(Reply::Full)];
            }
            if let Some(refusal) = self.refuses {
                return vec![reply(refusal)];
            }
            let (_, ask) = Ask::read(message).expect("a question");
            self.done.push((h.sequence, ask));
            self.expects = Some(h.sequence);
        }
        if h.kind == Payload::Inquiry {
            vec![reply(Reply::value(&[1, 2, 3, 4]))]
        } else {
            vec![reply(Reply::Taken(1)), reply(Reply::Done(1))]
        }
    }
}

/// What is on its way, by time of arrival: to the camera or back.
struct Way {
    path: Path,
    start: Instant,
    inside: Vec<(Instant, Vec<u8>)>,
}

impl Way {
    fn new(faults: &Faults, seed: u64, start: Instant) -> Self {
        Self { path: Path::new(faults.clone(), seed), start, inside: Vec::new() }
    }
    fn push(&mut self, now: Instant, data: &[u8]) {
        let fate = self.path.pass(now - self.start, data.len());
        self.inside.extend([fate.first, fate.second].into_iter().flatten().map(|at| (self.start + at, data.to_vec())));
        self.inside.sort_by_key(|(at, _)| *at);
    }
    fn poll(&mut self, now: Instant) -> Option<Vec<u8>> {
        let due = self.inside.first().is_some_and(|(at, _)| *at <= now);
        due.then(|| self.inside.remove(0).1)
    }
    fn next(&self) -> Option<Instant> {
        self.inside.first().map(|(at, _)| *at)
    }
}

/// Runs until all is quiet; gives the outcomes.
fn run(c: &mut Controller, camera: &mut Camera, seed: u64, faults: &Faults, mut now: Instant) -> Vec<Outcome> {
    let (mut there, mut back) = (Way::new(faults, seed, now), Way::new(faults, seed + 1, now));
    let mut outcomes = Vec::new();
    for _ in 0..2000 {
        while let Some(t) = c.poll_transmit() {
            there.push(now, &t);
        }
        while let Some(d) = there.poll(now) {
            camera.answer(&d).iter().for_each(|a| back.push(now, a));
        }
        while let Some(d) = back.poll(now) {
            c.handle_message(now, &d);
        }
        while let Some((_, o)) = c.poll_outcome() {
            outcomes.push(o);
        }
        let Some(next) = [c.poll_timeout(), there.next(), back.next()].into_iter().flatten().min() else { break };
        now = now.max(next);
        c.handle_timeout(now);
    }
    outcomes
}

#[test]
fn on_a_bad_path_each_command_is_done_once_and_in_order() {
    let faults =
        Faults { delay: Duration::from_millis(15), jitter: Duration::from_millis(20), loss: 0.2, duplicate: 0.1, ..Faults::default() };
    for seed in 0..200 {
        let now = Instant::now();
        let (mut c, mut camera) = (Controller::new(Carrier::Ip, 1, now), Camera::default());
        for ask in ASKS.into_iter().filter(|a| !matches!(a, Ask::StopMove | Ask::StopZoom)) {
            c.ask(now, ask);
        }
        let outcomes = run(&mut c, &mut camera, seed, &faults, now);
        assert_eq!(outcomes.len(), 10, "seed {seed}");
        let done = outcomes.iter().filter(|o| !matches!(o, Outcome::Refused(_))).count();
        // Five losses in a row do happen; each is told, and nothing is done twice.
        assert!(done >= 8, "seed {seed}: {outcomes:?}");
        let mut numbers: Vec<u32> = camera.done.iter().map(|d| d.0).collect();
        numbers.dedup();
        assert_eq!(numbers.len(), camera.done.len(), "seed {seed}");
        assert!(numbers.is_sorted(), "seed {seed}: {numbers:?}");
    }
}

#[test]
fn a_stop_goes_before_everything_and_is_repeated_until_answered() {
    let now = Instant::now();
    let mut c = Controller::new(Carrier::Raw, 3, now);
    c.ask(now, Ask::Goto(1));
    c.ask(now, Ask::Move(Drive { pan: 1.0, ..Drive::default() }));
    c.ask(now, Ask::StopMove);
    let sent: Vec<_> = std::iter::from_fn(|| c.poll_transmit()).collect();
    assert_eq!(sent, [GIVE_ADDRESSES.to_vec(), Ask::Goto(1).message(3), Ask::StopMove.message(3)]);
    let ended: Vec<_> = std::iter::from_fn(|| c.poll_outcome()).collect();
    assert_eq!(ended.len(), 2);
    assert!(ended.iter().all(|(_, o)| *o == Outcome::Refused(Refusal::Cancelled)));
    let mut at = now;
    for _ in 0..4 {
        at = c.poll_timeout().expect("a deadline");
        c.handle_timeout(at);
        assert_eq!(c.poll_transmit(), Some(Ask::StopMove.message(3)));
    }
    // Another camera's answer on the chain is not ours.
    c.handle_message(at, &Reply::Taken(1).message(2));
    c.handle_message(at, &Reply::Done(1).message(2));
    assert_eq!(c.poll_outcome(), None);
    c.handle_message(at, &Reply::Taken(1).message(3));
    c.handle_message(at, &Reply::Done(1).message(3));
    assert_eq!(c.poll_outcome(), Some((3, Outcome::Done)));
}

#[test]
fn stops_go_at_once_past_what_has_not_been_answered_yet() {
    let now = Instant::now();
    let sent = |c: &mut Controller| std::iter::from_fn(|| c.poll_transmit()).collect::<Vec<_>>();
    let mut c = Controller::new(Carrier::Raw, 1, now);
    let asked = c.ask(now, Ask::Position);
    let (turn, zoom) = (c.ask(now, Ask::StopMove), c.ask(now, Ask::StopZoom));
    let message = |a: Ask| a.message(1);
    assert_eq!(sent(&mut c), [message(Ask::Position), message(Ask::StopMove), message(Ask::StopZoom)], "before any answer");
    // The late answer to the question is nothing; each stop has one of its own, and the question is
    // asked again behind them.
    let value = Reply::value(&[7; 8]);
    for reply in [value, Reply::Taken(1), Reply::Taken(2), Reply::Done(1), Reply::Done(2)] {
        c.handle_message(now, &reply.message(1));
    }
    assert_eq!(c.poll_outcome(), Some((turn, Outcome::Done)));
    assert_eq!(sent(&mut c), [message(Ask::StopZoom)]);
    c.handle_message(now, &Reply::Taken(1).message(1));
    assert_eq!(c.poll_outcome(), Some((zoom, Outcome::Done)));
    assert_eq!(sent(&mut c), [message(Ask::Position)]);
    c.handle_message(now, &value.message(1));
    assert_eq!(c.poll_outcome(), Some((asked, Outcome::Value(vec![7; 8]))));
}

#[test]
fn refusals_full_buffers_and_lost_numbers_are_dealt_with() {
    let now = Instant::now();
    let ask = |camera: &mut Camera| {
        let mut c = Controller::new(Carrier::Ip, 1, now);
        c.ask(now, Ask::Home);
        (run(&mut c, camera, 1, &Faults::default(), now), c)
    };
    for (reply, refusal) in [
        (Reply::BadSyntax, Refusal::Unknown),
        (Reply::BadLength, Refusal::Unknown),
        (Reply::NotNow(1), Refusal::NotNow),
        (Reply::Cancelled(1), Refusal::Cancelled),
    ] {
        assert_eq!(ask(&mut Camera { refuses: Some(reply), ..Camera::default() }).0, [Outcome::Refused(refusal)]);
    }
    assert_eq!(ask(&mut Camera { full: 3, ..Camera::default() }).0, [Outcome::Done]);
    assert_eq!(ask(&mut Camera { full: 1000, ..Camera::default() }).0, [Outcome::Refused(Refusal::Busy)]);
    // The camera restarts between two commands and counts anew: it is told so, and nothing is lost.
    let mut camera = Camera::default();
    let (_, mut c) = ask(&mut camera);
    camera = Camera::default();
    c.ask(now, Ask::Goto(2));
    assert_eq!(run(&mut c, &mut camera, 1, &Faults::default(), now), [Outcome::Done]);
    assert_eq!(camera.done, [(1, Ask::Goto(2))]);
    // Nobody there.
    let mut c = Controller::new(Carrier::Raw, 1, now);
    c.ask(now, Ask::Home);
    for _ in 0..5 {
        c.handle_timeout(c.poll_timeout().expect("a deadline"));
    }
    assert_eq!(c.poll_outcome(), Some((1, Outcome::Refused(Refusal::Silent))));
}

#[test]
fn without_numbers_an_old_answer_is_not_taken_for_the_answer_to_a_stop() {
    let now = Instant::now();
    let mut c = Controller::new(Carrier::Raw, 1, now);
    let ended = |c: &mut Controller| std::iter::from_fn(|| c.poll_outcome()).map(|(t, _)| t).collect::<Vec<_>>();
    let go = c.ask(now, Ask::Move(Drive { pan: 1.0, ..Drive::default() }));
    c.handle_message(now, &Reply::Taken(1).message(1));
    assert_eq!(ended(&mut c), [go]);
    let stop = c.ask(now, Ask::StopMove);
    // The completion of the move, which comes when it likes.
    c.handle_message(now, &Reply::Done(1).message(1));
    assert!(ended(&mut c).is_empty(), "the stop may have been lost");
    let later = c.poll_timeout().expect("a deadline");
    c.handle_timeout(later);
    assert_eq!(std::iter::from_fn(|| c.poll_transmit()).last(), Some(Ask::StopMove.message(1)), "it is repeated");
    c.handle_message(later, &Reply::Taken(1).message(1));
    assert_eq!(ended(&mut c), [stop]);
    // Both stops are heard after all: what the second has for an answer is not the next question's.
    let home = c.ask(later, Ask::Home);
    for reply in [Reply::Done(1), Reply::Taken(1), Reply::Done(1)] {
        c.handle_message(later, &reply.message(1));
    }
    assert!(ended(&mut c).is_empty());
    c.handle_message(later, &Reply::Taken(1).message(1));
    c.handle_message(later, &Reply::Done(1).message(1));
    assert_eq!(ended(&mut c), [home]);
}
