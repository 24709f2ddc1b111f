//! Hostile input in front of everything that takes it: the fuzzer's entries, from its seeds. No
//! panic, and bounds on what is kept, hold in every test run; `fuzz/run` looks for longer.

#![allow(
    clippy::panic,
    clippy::expect_used,
    clippy::unwrap_used,
    missing_docs,
    reason = "shared with the fuzzer, whose panics are its findings"
)]

#[path = "../../../fuzz/src/lib.rs"]
mod entries;

use entries::{ENTRIES, seeds::seeds};
use proptest::{
    collection::vec,
    prelude::*,
    sample::Index,
    test_runner::{Config, TestCaseError, TestRunner},
};
use std::collections::BTreeSet;

/// Inputs of each entry.
const CASES: u32 = 300;

/// What is done to a seed: bytes changed, a part doubled, the end cut off; or something quite else.
fn spoilt(seed: &[u8], changes: &[(Index, u8)], twice: &(Index, Index), cut: &Index, other: &[u8]) -> Vec<u8> {
    let mut data = if seed.is_empty() { other.to_vec() } else { seed.to_vec() };
    if data.is_empty() {
        return data;
    }
    for (at, value) in changes {
        let at = at.index(data.len());
        data[at] = *value;
    }
    let (a, b) = (twice.0.index(data.len()), twice.1.index(data.len()));
    let part = data[a.min(b)..a.max(b)].to_vec();
    data.extend(part);
    data.truncate(cut.index(data.len()) + 1);
    data
}

#[test]
fn nothing_that_a_peer_may_send_breaks_what_reads_it() {
    let seeds = seeds();
    let seeded: BTreeSet<&str> = seeds.iter().map(|s| s.0).collect();
    assert!(ENTRIES.iter().all(|(name, _)| seeded.contains(name)), "each entry has a real message to begin with: {seeded:?}");
    for (name, entry) in ENTRIES {
        let of: Vec<&[u8]> = seeds.iter().filter(|s| s.0 == *name).map(|s| &*s.2).collect();
        of.iter().for_each(|seed| entry(seed));
        let input =
            (any::<Index>(), vec((any::<Index>(), any::<u8>()), 0..12), any::<(Index, Index)>(), any::<Index>(), vec(any::<u8>(), 0..300));
        let mut runner = TestRunner::new(Config { cases: CASES, failure_persistence: None, ..Config::default() });
        let result = runner.run(&input, |(which, changes, twice, cut, other)| {
            // One of five begins with nothing real.
            let which = which.index(of.len() * 5 / 4 + 1);
            let data = spoilt(of.get(which).copied().unwrap_or_default(), &changes, &twice, &cut, &other);
            std::panic::catch_unwind(|| entry(&data)).map_err(|_| TestCaseError::fail(format!("{name}: {}", hex(&data))))
        });
        assert!(result.is_ok(), "{}", result.err().map_or_else(String::new, |e| e.to_string()));
    }
}

fn hex(data: &[u8]) -> String {
    data.iter().map(|b| format!("{b:02x}")).collect()
}
