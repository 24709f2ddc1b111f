//! The tables of all programmes: there, often enough, whole, and with a new version for each
//! change.

use super::{Findings, Place, TsFault};
use crate::ts::{
    StreamKind,
    psi::{Pmt, PmtStream, SectionReader, programs},
};
use std::collections::{BTreeMap, BTreeSet};

/// Longest distance of PAT and PMT, 27 MHz: 500 ms (ETSI TR 101 290, 1.3 and 1.5).
const INTERVAL_MAX: u64 = 27_000 * 500;
const PROGRAMMES_MAX: usize = 32;

#[derive(Debug, Default)]
struct Table {
    reader: SectionReader,
    section: Vec<u8>,
    last: Option<u64>,
}

impl Table {
    /// The section that this packet completes, when it differs from the one before.
    fn push(&mut self, pid: u16, start: bool, payload: &[u8], clock: u64, at: Place, found: &mut Findings) -> Option<Vec<u8>> {
        let errors = self.reader.crc_errors;
        let section = self.reader.push(start, payload);
        if self.reader.crc_errors > errors {
            found.note(TsFault::TableChecksum, pid, at);
        }
        let section = section?;
        self.gap(pid, clock, at, found);
        self.last = Some(clock);
        if section == self.section {
            return None;
        }
        let version = |s: &[u8]| s.get(5).map(|b| b >> 1 & 31);
        if !self.section.is_empty() && version(&self.section) == version(&section) {
            found.note(TsFault::TableVersion, pid, at);
        }
        self.section.clone_from(&section);
        Some(section)
    }

    fn gap(&self, pid: u16, clock: u64, at: Place, found: &mut Findings) {
        let gap = clock.saturating_sub(self.last.unwrap_or(clock));
        if gap > INTERVAL_MAX {
            found.add(TsFault::TableInterval, Some(pid), at, 1, gap / 27_000, false);
        }
    }
}

#[derive(Debug, Default)]
pub(super) struct Tables {
    pat: Table,
    maps: BTreeMap<u16, (Table, Option<Pmt>)>,
    /// Every PID that a table has named so far.
    named: BTreeSet<u16>,
}

impl Tables {
    /// Takes a payload; true when it changed what the tables list. Payloads of other PIDs change
    /// nothing.
    pub fn push(&mut self, pid: u16, start: bool, payload: &[u8], clock: u64, at: Place, found: &mut Findings) -> bool {
        if pid == 0 {
            if let Some(section) = self.pat.push(0, start, payload, clock, at, found) {
                let pids: Vec<u16> = programs(&section).map(|(_, pid)| pid).take(PROGRAMMES_MAX).collect();
                self.maps.retain(|pid, _| pids.contains(pid));
                for pid in pids {
                    self.named.insert(pid);
                    self.maps.entry(pid).or_default();
                }
            }
            return false;
        }
        let Some((table, map)) = self.maps.get_mut(&pid) else { return false };
        let section = table.push(pid, start, payload, clock, at, found);
        let read = section.and_then(|s| Pmt::parse(&s));
        let changed = read.is_some();
        self.named.extend(read.iter().flat_map(|m| m.streams.iter().map(|s| s.pid).chain([m.pcr_pid])));
        *map = read.or(map.take());
        changed
    }

    /// PAT and every PMT have been seen.
    pub fn complete(&self) -> bool {
        !self.maps.is_empty() && self.maps.values().all(|(_, map)| map.is_some())
    }

    /// The streams of all programmes that carry pictures, sound or anything else.
    pub fn listed(&self) -> Vec<PmtStream> {
        self.maps.values().filter_map(|(_, m)| m.as_ref()).flat_map(|m| m.streams.iter().copied()).collect()
    }

    /// Whether any table has named this PID.
    pub fn has_named(&self, pid: u16) -> bool {
        self.named.contains(&pid)
    }

    pub fn clock_pid(&self) -> Option<u16> {
        self.maps.values().find_map(|(_, m)| m.as_ref()).map(|m| m.pcr_pid)
    }

    /// Whether clock references of this PID count: those of the first programme.
    pub fn has_clock(&self, pid: u16) -> bool {
        self.clock_pid().is_none_or(|p| p == pid)
    }

    pub fn finish(&self, clock: u64, at: Place, found: &mut Findings) {
        let start = Place::default();
        if self.pat.last.is_none() {
            found.add(TsFault::NoPat, Some(0), start, 1, 0, false);
        } else if self.maps.values().any(|(t, _)| t.last.is_none()) || self.maps.is_empty() {
            found.add(TsFault::NoPmt, self.maps.iter().find(|(_, (t, _))| t.last.is_none()).map(|(p, _)| *p), start, 1, 0, false);
        }
        let tables = std::iter::once((0, &self.pat)).chain(self.maps.iter().map(|(pid, (t, _))| (*pid, t)));
        tables.for_each(|(pid, t)| t.gap(pid, clock, at, found));
    }
}

/// True for kinds whose contents are checked.
pub(super) fn is_media(kind: StreamKind) -> bool {
    kind.is_video() || kind.is_audio()
}
