//! Checks a transport stream against ISO/IEC 13818-1 and counts what is wrong, with the first place
//! of each. Looks at bytes only; time is the stream's own clock.

mod fault;
mod sound;
mod tables;
mod unit;

pub use fault::{TsFault, TsFinding};

use super::{Aligned, PCR_WRAP, PTS_WRAP, PacketAligner, TS_PACKET, TsPacket, packet::NULL_PID, wrapped_distance};
use bytes::Bytes;
use std::collections::BTreeMap;
use tables::Tables;
use unit::Stream;

/// Clock references: 100 ms by the standard, 40 ms as broadcasters want it; half a millisecond for
/// rounding.
const PCR_INTERVAL: i64 = 27_000 * 100 + 13_500;
const PCR_INTERVAL_BROADCAST: i64 = 27_000 * 40 + 13_500;
const SECOND: i64 = 27_000_000;
/// Different defects that are kept apart; a stream of junk has many PIDs.
const FINDINGS_MAX: usize = 256;
/// PIDs followed.
const PIDS_MAX: usize = 64;

/// How the stream was met.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// From its first byte, as a recording.
    Start,
    /// While it ran: it may begin anywhere.
    Joined,
}

/// One place of the stream.
#[derive(Debug, Clone, Copy, Default)]
struct Place {
    byte: u64,
    ms: u64,
}

/// What has been found so far.
#[derive(Debug, Default)]
struct Findings(BTreeMap<(TsFault, Option<u16>), TsFinding>);

impl Findings {
    fn add(&mut self, fault: TsFault, pid: Option<u16>, at: Place, count: u64, worst: u64, minor: bool) {
        let room = self.0.len() < FINDINGS_MAX;
        let first = TsFinding { fault, pid, count: 0, worst: 0, byte: at.byte, ms: at.ms, minor };
        let found = match self.0.get_mut(&(fault, pid)) {
            Some(found) => found,
            None if room => self.0.entry((fault, pid)).or_insert(first),
            None => return,
        };
        found.count += count;
        found.worst = found.worst.max(worst);
        found.minor &= minor;
    }

    fn note(&mut self, fault: TsFault, pid: u16, at: Place) {
        self.add(fault, Some(pid), at, 1, 0, false);
    }

    /// With a distance of 90 kHz ticks as its measure.
    fn far(&mut self, fault: TsFault, pid: u16, at: Place, ticks: i64) {
        self.add(fault, Some(pid), at, 1, ticks.unsigned_abs() / 90, false);
    }
}

/// The last packet of a PID.
#[derive(Debug)]
struct Last {
    counter: u8,
    raw: [u8; TS_PACKET],
    packets: u64,
    first: Place,
}

/// The programme clock.
#[derive(Debug, Default)]
struct Clock {
    last: Option<u64>,
    /// Sum of its steps, 27 MHz.
    run: u64,
}

/// The checker. Feed it every byte, call [`TsChecker::finish`], read [`TsChecker::findings`].
#[derive(Debug)]
pub struct TsChecker {
    origin: Origin,
    aligner: PacketAligner,
    found: Findings,
    byte: u64,
    clock: Clock,
    tables: Tables,
    last: BTreeMap<u16, Last>,
    streams: Vec<Stream>,
}

impl TsChecker {
    /// At the start of a stream.
    #[must_use]
    pub fn new(origin: Origin) -> Self {
        Self {
            origin,
            aligner: PacketAligner::default(),
            found: Findings::default(),
            byte: 0,
            clock: Clock::default(),
            tables: Tables::default(),
            last: BTreeMap::new(),
            streams: Vec::new(),
        }
    }

    /// The source begins anew: what was found stays, nothing else is carried over.
    pub fn restart(&mut self) {
        self.judge_end(false);
        let (found, byte, run) = (std::mem::take(&mut self.found), self.byte, self.clock.run);
        *self = Self { found, byte, ..Self::new(self.origin) };
        self.clock.run = run;
    }

    /// Takes the next bytes, in pieces of any size.
    pub fn push(&mut self, data: &Bytes) {
        let mut aligner = std::mem::take(&mut self.aligner);
        aligner.push(data, |part| match part {
            Aligned::Packets(bytes) => bytes.as_chunks::<TS_PACKET>().0.iter().for_each(|raw| {
                self.packet(raw);
                self.byte += TS_PACKET as u64;
            }),
            Aligned::Other(bytes) => {
                let at = self.here();
                self.found.add(TsFault::Sync, None, at, bytes.len() as u64, 0, false);
                self.byte += bytes.len() as u64;
            }
        });
        self.aligner = aligner;
    }

    /// Judges what only the end shows. `ended` says that the stream itself is over, not only the
    /// look at it.
    pub fn finish(&mut self, ended: bool) {
        self.judge_end(ended);
        self.streams.clear();
    }

    /// What was found, in order of place.
    #[must_use]
    pub fn findings(&self) -> Vec<TsFinding> {
        let mut all: Vec<TsFinding> = self.found.0.values().copied().collect();
        all.sort_by_key(|f| (f.minor, f.byte, f.fault, f.pid));
        all
    }

    fn here(&self) -> Place {
        Place { byte: self.byte, ms: self.clock.run / 27_000 }
    }

    fn packet(&mut self, raw: &[u8; TS_PACKET]) {
        let at = self.here();
        let pid = u16::from(raw[1] & 0x1F) << 8 | u16::from(raw[2]);
        if raw[1] & 0x80 != 0 {
            self.found.note(TsFault::TransportError, pid, at);
            return;
        }
        if pid == NULL_PID {
            return;
        }
        if field_is_wrong(raw) {
            self.found.note(TsFault::AdaptationField, pid, at);
            // What stands behind a wrong length means nothing, but the counter does.
            if let Some(last) = self.last.get_mut(&pid) {
                last.counter = raw[3] & 15;
            }
            return;
        }
        let Some(p) = TsPacket::parse(raw) else { return };
        let (fresh, gap) = self.counter(&p, raw, at);
        if !fresh {
            return;
        }
        let discontinuity = p.adaptation.is_some_and(|a| a.discontinuity);
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr).filter(|_| self.tables.has_clock(pid)) {
            self.clock(pcr, pid, discontinuity, at);
        }
        let at = Place { ms: self.clock.run / 27_000, ..at };
        if let Some(payload) = p.payload
            && self.tables.push(pid, p.unit_start, payload, self.clock.run, at, &mut self.found)
        {
            self.take_streams();
        } else if let Some(stream) = self.streams.iter_mut().find(|s| s.pid == pid) {
            stream.packet(&p, gap, discontinuity, self.clock.last, at, &mut self.found);
        }
    }

    /// Counts what is missing; false for a packet that came before.
    fn counter(&mut self, p: &TsPacket<'_>, raw: &[u8; TS_PACKET], at: Place) -> (bool, bool) {
        let discontinuity = p.adaptation.is_some_and(|a| a.discontinuity);
        let fits = self.last.len() < PIDS_MAX;
        let Some(last) = self.last.get_mut(&p.pid) else {
            if fits {
                self.last.insert(p.pid, Last { counter: p.continuity, raw: *raw, packets: 1, first: at });
            }
            return (true, false);
        };
        last.packets += 1;
        if discontinuity {
            (last.counter, last.raw) = (p.continuity, *raw);
            return (true, false);
        }
        let has_payload = p.payload.is_some();
        if has_payload && p.continuity == last.counter && same_packet(&last.raw, raw) {
            // Once is allowed (2.4.3.3); a network that doubles packets looks the same.
            self.found.note(TsFault::Repeated, p.pid, at);
            return (false, false);
        }
        let missing = (p.continuity + 16 - last.counter - u8::from(has_payload)) & 15;
        (last.counter, last.raw) = (p.continuity, *raw);
        if missing > 0 {
            self.found.add(TsFault::Continuity, Some(p.pid), at, u64::from(missing), 0, false);
        }
        (true, missing > 0)
    }

    fn clock(&mut self, pcr: u64, pid: u16, discontinuity: bool, at: Place) {
        let last = self.clock.last.replace(pcr);
        let Some(last) = last.filter(|_| !discontinuity) else { return };
        let step = wrapped_distance(pcr, last, PCR_WRAP);
        let ms = step.unsigned_abs() / 27_000;
        if step <= 0 {
            self.found.add(TsFault::PcrBack, Some(pid), at, 1, ms, false);
        } else if step > SECOND {
            self.found.add(TsFault::PcrJump, Some(pid), at, 1, ms, false);
        } else {
            self.clock.run += step.unsigned_abs();
            if step > PCR_INTERVAL_BROADCAST {
                self.found.add(TsFault::PcrInterval, Some(pid), at, 1, ms, step <= PCR_INTERVAL);
            }
        }
    }

    /// The table lists other streams.
    fn take_streams(&mut self) {
        let listed = self.tables.listed();
        self.streams.retain(|s| listed.iter().any(|l| l.pid == s.pid && l.kind == s.kind));
        for l in listed {
            if self.streams.len() < PIDS_MAX && !self.streams.iter().any(|s| s.pid == l.pid) {
                self.streams.push(Stream::new(l.pid, l.kind, self.origin));
            }
        }
    }

    fn judge_end(&mut self, ended: bool) {
        let at = self.here();
        let mut streams = std::mem::take(&mut self.streams);
        streams.iter_mut().for_each(|s| s.finish(ended, at, &mut self.found));
        if self.last.is_empty() {
            return;
        }
        self.tables.finish(self.clock.run, at, &mut self.found);
        let lasts = self.clock.run >= SECOND as u64;
        if self.tables.complete() {
            if self.clock.last.is_none() {
                self.found.add(TsFault::NoPcr, self.tables.clock_pid(), at, 1, 0, false);
            }
            for (pid, last) in &self.last {
                // Up to 0x1F and at 0x1FFB are service tables, which no programme lists.
                if (0x20..0x1FFB).contains(pid) && !self.tables.has_named(*pid) {
                    self.found.add(TsFault::UnlistedPid, Some(*pid), last.first, last.packets, 0, false);
                }
            }
            for s in self.tables.listed().iter().filter(|s| lasts && !self.last.contains_key(&s.pid)) {
                self.found.add(TsFault::SilentPid, Some(s.pid), at, 1, 0, false);
            }
        }
    }
}

/// Whether an adaptation field's control, length or contents cannot be (2.4.3.3 to 2.4.3.5).
fn field_is_wrong(raw: &[u8; TS_PACKET]) -> bool {
    let length = usize::from(raw[4]);
    let fits = match raw[3] >> 4 & 3 {
        0 => return true,
        1 => return false,
        2 => length == 183,
        _ => length <= 182,
    };
    let flags = if length > 0 { raw[5] } else { 0 };
    let wanted =
        1 + [(0x10, 6), (0x08, 6), (0x04, 1), (0x02, 1), (0x01, 1)].iter().filter(|(f, _)| flags & f != 0).map(|(_, n)| n).sum::<usize>();
    !fits || (length > 0 && wanted > length)
}

/// A repeat is the same but for its clock reference (2.4.3.3).
fn same_packet(a: &[u8; TS_PACKET], b: &[u8; TS_PACKET]) -> bool {
    let clock = a[3] & 0x20 != 0 && a[4] >= 7 && a[5] & 0x10 != 0;
    let from = if clock { 12 } else { 4 };
    a[..4] == b[..4] && (!clock || a[4..6] == b[4..6]) && a[from..] == b[from..]
}

/// Distance of two 90 kHz times.
fn ticks(a: u64, b: u64) -> i64 {
    wrapped_distance(a, b, PTS_WRAP)
}
