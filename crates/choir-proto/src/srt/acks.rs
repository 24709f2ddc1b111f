//! Acknowledging what comes: a full acknowledgement each 10 ms while packets come, repeated until
//! it is answered, and light ones between (SRT draft, 4.8.1).

use super::Seq;
use std::collections::VecDeque;

const ACK_EVERY_US: i64 = 10_000;
/// Packets after which a light acknowledgement goes out between two full ones.
const LIGHT_ACK_AFTER: u32 = 64;
/// Full acknowledgements whose answer is awaited: 10 s of them.
const ACKS_REMEMBERED: usize = 1024;

#[derive(Debug)]
pub(super) struct Acks {
    /// When the next full one is due.
    at: Option<i64>,
    number: u32,
    sent: VecDeque<(u32, i64)>,
    last: Seq,
    packets: u32,
    unconfirmed: bool,
}

impl Acks {
    /// `first` is the first packet that is awaited.
    pub fn new(first: Seq) -> Self {
        Self { at: None, number: 0, sent: VecDeque::new(), last: first, packets: 0, unconfirmed: false }
    }

    pub fn at(&self) -> Option<i64> {
        self.at
    }

    pub fn is_due(&self, now: i64) -> bool {
        self.at.is_some_and(|at| now >= at)
    }

    /// A packet has come. True when a light one may be due.
    pub fn note_packet(&mut self, now: i64) -> bool {
        self.packets += 1;
        self.at.get_or_insert(now + ACK_EVERY_US);
        self.packets >= LIGHT_ACK_AFTER
    }

    /// What to acknowledge lightly, if anything new: everything before `next` has come.
    pub fn light(&mut self, next: Seq) -> Option<Seq> {
        let news = next != self.last;
        if news {
            self.packets = 0;
        }
        news.then_some(next)
    }

    /// Everything before `next` has come or is given up: the peer should hear of it soon.
    pub fn moved(&mut self, now: i64, next: Seq) {
        if next != self.last {
            self.at.get_or_insert(now);
        }
    }

    /// The number of a full one that says that everything before `next` has come, unless the peer
    /// knows. `patience` is how long its answer may take.
    pub fn full(&mut self, now: i64, next: Seq, patience: i64) -> Option<u32> {
        let repeat = next == self.last;
        self.packets = 0;
        if repeat && !self.unconfirmed {
            self.at = None;
            return None;
        }
        self.at = Some(now + if repeat { ACK_EVERY_US.max(patience) } else { ACK_EVERY_US });
        self.last = next;
        self.unconfirmed = true;
        self.number = self.number.wrapping_add(1).max(1);
        if self.sent.len() == ACKS_REMEMBERED {
            self.sent.pop_front();
        }
        self.sent.push_back((self.number, now));
        Some(self.number)
    }

    /// When the full one of this number went out, which the peer has answered now.
    pub fn answered(&mut self, number: u32) -> Option<i64> {
        let at = self.sent.iter().position(|&(n, _)| n == number)?;
        let (_, sent) = self.sent[at];
        self.sent.drain(..=at);
        self.unconfirmed = self.number != number;
        Some(sent)
    }

    /// Since when the peer owes an answer.
    pub fn unanswered_since(&self) -> Option<i64> {
        self.sent.front().filter(|_| self.unconfirmed).map(|a| a.1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PATIENCE: i64 = 40_000;

    #[test]
    fn a_full_one_is_repeated_until_it_is_answered() {
        let mut acks = Acks::new(Seq::new(100));
        assert_eq!((acks.at(), acks.full(0, Seq::new(100), PATIENCE)), (None, None));
        assert!(!acks.note_packet(1000));
        assert_eq!(acks.at(), Some(11_000));
        assert!(!acks.is_due(10_999) && acks.is_due(11_000));
        assert_eq!(acks.full(11_000, Seq::new(101), PATIENCE), Some(1));
        assert_eq!((acks.at(), acks.unanswered_since()), (Some(21_000), Some(11_000)));
        // Nothing new: no sooner than an answer may take.
        assert_eq!(acks.full(21_000, Seq::new(101), PATIENCE), Some(2));
        assert_eq!(acks.at(), Some(61_000));
        // An answer to an older one leaves the newer one open.
        assert_eq!((acks.answered(1), acks.unanswered_since()), (Some(11_000), Some(21_000)));
        assert_eq!((acks.answered(1), acks.answered(2)), (None, Some(21_000)));
        assert_eq!((acks.full(61_000, Seq::new(101), PATIENCE), acks.at(), acks.unanswered_since()), (None, None, None));
    }

    #[test]
    fn a_light_one_goes_out_for_each_64_packets_that_say_something_new() {
        let mut acks = Acks::new(Seq::new(100));
        for n in 1..=70 {
            // The first of them has not come.
            assert_eq!((acks.note_packet(0), acks.light(Seq::new(100))), (n >= 64, None), "packet {n}");
        }
        assert_eq!(acks.light(Seq::new(171)), Some(Seq::new(171)));
        assert!(!acks.note_packet(0));
    }

    #[test]
    fn what_is_given_up_is_told_at_once_and_answers_far_back_are_forgotten() {
        let mut acks = Acks::new(Seq::new(100));
        acks.moved(500, Seq::new(100));
        assert_eq!(acks.at(), None);
        acks.moved(500, Seq::new(104));
        assert_eq!(acks.at(), Some(500));
        for n in 0..2000 {
            assert!(acks.full(500 + n, Seq::new(104 + n as u32), PATIENCE).is_some());
        }
        assert_eq!((acks.sent.len(), acks.answered(900), acks.answered(1000)), (ACKS_REMEMBERED, None, Some(1499)));
    }
}
