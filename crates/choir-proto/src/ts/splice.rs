//! Joins several transport streams into one that never jumps: cuts at keyframes, shifts clocks and time
//! stamps, keeps counters running. While nothing has been cut, bytes pass untouched and uncopied.

use super::{
    PCR_WRAP, PTS_WRAP, TS_PACKET, TsPacket,
    packet::pcr_bytes,
    pes::{PesHeader, time_bytes},
    psi::{Pmt, PmtStream, SectionReader, first_program, pmt_section},
    wrapped_distance,
};
use bytes::{Bytes, BytesMut};
use std::collections::HashMap;

/// A source that shows no keyframe for this long is cut in where it stands: better a broken picture than
/// none.
const WAIT_MAX_US: i64 = 5_000_000;

/// Names one source: a line, and which of its sessions (a source that restarts is another one).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SourceKey {
    /// Which line.
    pub line: u32,
    /// Which connection of it.
    pub session: u32,
}

/// A cut that was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cut {
    /// What is on now.
    pub to: SourceKey,
}

/// What is known of a source while it waits or runs.
#[derive(Debug, Default)]
struct Source {
    pat: SectionReader,
    map: SectionReader,
    pmt_pid: Option<u16>,
    tables: Vec<[u8; TS_PACKET]>,
    pmt: Option<Pmt>,
    /// Last clock reference and when it came, µs.
    clock: Option<(u64, i64)>,
    first_seen: Option<i64>,
}

impl Source {
    fn video(&self) -> Option<PmtStream> {
        self.pmt.as_ref()?.streams.iter().find(|s| s.kind.is_video()).copied()
    }

    fn learn(&mut self, now: i64, p: &TsPacket<'_>, raw: &[u8]) {
        let keep = |tables: &mut Vec<[u8; TS_PACKET]>, place: usize| {
            if let Ok(packet) = raw.try_into() {
                tables.truncate(place.max(tables.len().min(2)));
                match tables.get_mut(place) {
                    Some(slot) => *slot = packet,
                    None => tables.push(packet),
                }
            }
        };
        if p.pid == 0 {
            if let Some((_, pid)) = p.payload.and_then(|d| self.pat.push(p.unit_start, d)).and_then(|s| first_program(&s)) {
                self.pmt_pid = Some(pid);
                keep(&mut self.tables, 0);
            }
        } else if Some(p.pid) == self.pmt_pid
            && let Some(pmt) = p.payload.and_then(|d| self.map.push(p.unit_start, d)).and_then(|s| Pmt::parse(&s))
        {
            self.pmt = Some(pmt);
            if p.unit_start && !self.tables.is_empty() {
                keep(&mut self.tables, 1);
            }
        }
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr) {
            self.clock = Some((pcr, now));
        }
    }

    /// The source's clock at `now`.
    fn clock_at(&self, now: i64) -> Option<u64> {
        self.clock.map(|(pcr, at)| (pcr + (now - at).max(0) as u64 * 27) % PCR_WRAP)
    }

    fn is_cut_point(&self, p: &TsPacket<'_>) -> bool {
        let Some(video) = self.video().filter(|v| p.unit_start && v.pid == p.pid) else { return false };
        let Some(payload) = p.payload else { return false };
        if p.adaptation.is_some_and(|a| a.random_access) {
            return true;
        }
        // Some encoders never set the flag: look for the picture itself.
        PesHeader::parse(payload).and_then(|h| payload.get(h.header_bytes..)).is_some_and(|unit| video.kind.is_keyframe(unit))
    }
}

/// One output made of one source at a time.
#[derive(Debug, Default)]
pub struct Splicer {
    on: Option<SourceKey>,
    next: Option<SourceKey>,
    sources: HashMap<SourceKey, Source>,
    /// Added to the clock of the source that is on, in ticks of 27 MHz and whole ticks of 90 kHz.
    offset: u64,
    changed: bool,
    /// Last counter written on each PID, and what is added to the present source's.
    counters: HashMap<u16, u8>,
    deltas: HashMap<u16, u8>,
    out_clock: Option<(u64, i64)>,
    map_version: u8,
    last_map: Option<Pmt>,
}

impl Splicer {
    /// A splicer with nothing on.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Wants this source on. The first one comes on at once, any later one at its next keyframe.
    pub fn take(&mut self, source: SourceKey) {
        if self.on == Some(source) {
            self.next = None;
        } else if self.next != Some(source) {
            self.next = Some(source);
            self.sources.insert(source, Source::default());
        }
    }

    /// Takes whole packets of a source that came at `now` (µs); gives what goes out, and the cut if one
    /// was made in them. Bytes of sources that are neither on nor next give nothing.
    pub fn push(&mut self, source: SourceKey, now: i64, data: &Bytes) -> (Bytes, Option<Cut>) {
        if self.next == Some(source) {
            if self.on.is_none() {
                // Nothing to keep in step with: from the first byte, as it comes.
                (self.on, self.next) = (Some(source), None);
                self.watch(source, now, data);
                return (data.clone(), Some(Cut { to: source }));
            }
            return match self.find_cut(source, now, data) {
                Some(at) => {
                    let mut out = BytesMut::new();
                    self.cut_to(source, now, &mut out);
                    self.forward(source, now, &data.slice(at..), &mut out);
                    (out.freeze(), Some(Cut { to: source }))
                }
                None => (Bytes::new(), None),
            };
        }
        if self.on != Some(source) {
            return (Bytes::new(), None);
        }
        if self.changed {
            let mut out = BytesMut::with_capacity(data.len());
            self.forward(source, now, data, &mut out);
            return (out.freeze(), None);
        }
        self.watch(source, now, data);
        (data.clone(), None)
    }

    /// Learns the waiting source's tables and clock; gives where its keyframe starts.
    fn find_cut(&mut self, source: SourceKey, now: i64, data: &[u8]) -> Option<usize> {
        let state = self.sources.entry(source).or_default();
        if now - *state.first_seen.get_or_insert(now) > WAIT_MAX_US {
            return Some(0);
        }
        for (i, raw) in data.chunks_exact(TS_PACKET).enumerate() {
            let Some(p) = TsPacket::parse(raw) else { continue };
            if state.is_cut_point(&p) && state.tables.len() >= 2 {
                if let Some(pcr) = p.adaptation.and_then(|a| a.pcr) {
                    state.clock = Some((pcr, now));
                }
                if state.clock.is_some() {
                    return Some(i * TS_PACKET);
                }
            }
            state.learn(now, &p, raw);
        }
        None
    }

    fn cut_to(&mut self, source: SourceKey, now: i64, out: &mut BytesMut) {
        let expected = self.out_clock.map(|(pcr, at)| (pcr + (now - at).max(0) as u64 * 27) % PCR_WRAP);
        let there = self.sources.get(&source).and_then(|s| s.clock_at(now));
        if let (Some(expected), Some(there)) = (expected, there) {
            // Whole ticks of the 90 kHz clock, so that time stamps and clock move alike.
            self.offset = wrapped_distance(expected, there, PCR_WRAP).div_euclid(300).rem_euclid(PTS_WRAP as i64) as u64 * 300;
            self.changed = true;
        }
        if let Some(old) = self.on.replace(source) {
            self.sources.remove(&old);
        }
        self.next = None;
        self.sources.retain(|k, _| *k == source);
        self.deltas.clear();
        let tables = self.sources.get(&source).map(|s| s.tables.clone()).unwrap_or_default();
        for raw in &tables {
            self.write(source, now, raw, out);
        }
    }

    /// Passing untouched: only what a later cut needs is noted.
    fn watch(&mut self, source: SourceKey, now: i64, data: &[u8]) {
        let Some(state) = self.sources.get_mut(&source) else { return };
        for raw in data.chunks_exact(TS_PACKET) {
            let Some(p) = TsPacket::parse(raw) else { continue };
            if p.payload.is_some() {
                self.counters.insert(p.pid, p.continuity);
            }
            if let Some(pcr) = p.adaptation.and_then(|a| a.pcr) {
                self.out_clock = Some((pcr, now));
            }
            if p.pid == 0 || Some(p.pid) == state.pmt_pid {
                state.learn(now, &p, raw);
                self.last_map.clone_from(&state.pmt);
                self.map_version = state.pmt.as_ref().map_or(0, |m| m.version);
            }
        }
    }

    fn forward(&mut self, source: SourceKey, now: i64, data: &[u8], out: &mut BytesMut) {
        if !self.changed {
            self.watch(source, now, data);
            out.extend_from_slice(data);
            return;
        }
        for raw in data.chunks_exact(TS_PACKET) {
            self.write(source, now, raw, out);
        }
    }

    /// Writes one packet with its clock, stamps, counter and table version made to fit.
    fn write(&mut self, source: SourceKey, now: i64, raw: &[u8], out: &mut BytesMut) {
        let start = out.len();
        out.extend_from_slice(raw);
        let Some(p) = TsPacket::parse(raw) else { return };
        let Some(packet) = out.get_mut(start..) else { return };
        if p.payload.is_some() {
            // A fresh source continues each counter where the last one stopped; its own gaps stay gaps.
            let last = self.counters.get(&p.pid).copied();
            let delta = *self.deltas.entry(p.pid).or_insert_with(|| last.map_or(0, |l| (l + 17 - p.continuity) & 15));
            let counter = (p.continuity + delta) & 15;
            packet[3] = packet[3] & 0xF0 | counter;
            self.counters.insert(p.pid, counter);
        }
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr) {
            let pcr = (pcr + self.offset) % PCR_WRAP;
            packet[6..12].copy_from_slice(&pcr_bytes(pcr));
            self.out_clock = Some((pcr, now));
        }
        let payload_at = p.payload.map(|d| TS_PACKET - d.len());
        let state = self.sources.entry(source).or_default();
        let is_map = Some(p.pid) == state.pmt_pid;
        if p.pid == 0 || is_map {
            state.learn(now, &p, raw);
        }
        match (payload_at, p.unit_start) {
            (Some(at), true) if is_map => self.write_map(source, at, start, out),
            (Some(at), true) if p.pid != 0 => shift_stamps(&mut packet[at..], self.offset / 300),
            _ => {}
        }
    }

    /// A table that differs from the last one needs another version, or decoders would not read it.
    fn write_map(&mut self, source: SourceKey, at: usize, start: usize, out: &mut BytesMut) {
        let Some(mut map) = self.sources.get(&source).and_then(|s| s.pmt.clone()) else { return };
        let plain = pmt_section(&Pmt { version: map.version, ..map.clone() });
        let room = TS_PACKET - at - 1;
        // With descriptors inside, the table is not ours to write anew.
        let same = out.get(start + at + 1..).is_some_and(|d| d.starts_with(&plain));
        if !same || plain.len() > room {
            return;
        }
        let differs =
            self.last_map.as_ref().is_none_or(|l| l.streams != map.streams || l.pcr_pid != map.pcr_pid || l.program != map.program);
        if differs {
            self.map_version = (self.map_version + 1) & 31;
            self.last_map = Some(map.clone());
        }
        map.version = self.map_version;
        if let Some(place) = out.get_mut(start + at + 1..start + at + 1 + plain.len()) {
            place.copy_from_slice(&pmt_section(&map));
        }
    }
}

/// Adds `ticks` to the time stamps of a PES header.
fn shift_stamps(payload: &mut [u8], ticks: u64) {
    let Some(header) = PesHeader::parse(payload) else { return };
    let has_dts = header.dts.is_some();
    if let (Some(pts), Some(place)) = (header.pts, payload.get_mut(9..14)) {
        place.copy_from_slice(&time_bytes(if has_dts { 3 } else { 2 }, pts + ticks));
    }
    if let (Some(dts), Some(place)) = (header.dts, payload.get_mut(14..19)) {
        place.copy_from_slice(&time_bytes(1, dts + ticks));
    }
}
