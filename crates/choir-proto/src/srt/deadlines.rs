//! When each of many is due, the first on top.

use std::{cmp::Reverse, collections::BinaryHeap};

/// Times kept that count no more, beside twice as many as there are slots.
const PASSED_MOST: usize = 32;

/// Times of slots. A slot that is due at another time is put in once more: what says another time
/// than the slot itself counts no more, and is passed over.
#[derive(Debug, Default)]
pub(super) struct Deadlines(BinaryHeap<Reverse<(i64, usize)>>);

impl Deadlines {
    pub fn put(&mut self, due: i64, slot: usize) {
        self.0.push(Reverse((due, slot)));
    }

    /// The first that counts; `due` says when a slot is due.
    pub fn first(&mut self, due: impl Fn(usize) -> Option<i64>) -> Option<(i64, usize)> {
        while let Some(Reverse((at, slot))) = self.0.peek().copied() {
            if due(slot) == Some(at) {
                return Some((at, slot));
            }
            self.0.pop();
        }
        None
    }

    /// Takes the first away.
    pub fn pass_first(&mut self) {
        self.0.pop();
    }

    /// Keeps `all` of so many slots alone, once it is worth it.
    pub fn tidy(&mut self, slots: usize, all: impl Iterator<Item = (i64, usize)>) {
        if self.0.len() > PASSED_MOST + 2 * slots {
            self.0.clear();
            self.0.extend(all.map(Reverse));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_that_counts_is_given_and_what_does_not_count_is_not_kept() {
        let (mut deadlines, mut due) = (Deadlines::default(), [None; 3]);
        let times = |due: [Option<i64>; 3]| due.into_iter().enumerate().filter_map(|(slot, at)| Some((at?, slot)));
        // Now and then it is due soon, and in between always at the same time.
        for n in 0..10_000 {
            let slot = n % 3;
            for at in [n as i64, 1_000_000] {
                due[slot] = Some(at);
                deadlines.put(at, slot);
                deadlines.tidy(due.len(), times(due));
                assert_eq!(deadlines.first(|slot| due[slot]), times(due).min());
                assert!(deadlines.0.len() <= PASSED_MOST + 2 * due.len(), "{}", deadlines.0.len());
            }
        }
        let first = times(due).min().expect("one is due");
        deadlines.pass_first();
        due[first.1] = None;
        assert_eq!(deadlines.first(|slot| due[slot]), times(due).min());
        assert_eq!(deadlines.first(|_| None), None, "none counts any more");
        assert!(deadlines.0.is_empty());
    }
}
