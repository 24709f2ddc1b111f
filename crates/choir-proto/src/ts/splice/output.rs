//! What goes out after a cut: every packet with its clock, time stamps, counter and table version
//! made to fit what went before.

use super::{
    limits::{FOLLOWS_MAX, STEP_MIN},
    track::Tracks,
    waiting::Entry,
};
use crate::ts::{
    PCR_WRAP, PTS_WRAP, TS_PACKET, TsPacket,
    index::Raw,
    packet::{NULL_PID, SYNC, pcr_bytes},
    pes::{PesHeader, time_bytes},
    psi::crc32,
    wrapped_distance,
};
use bytes::BytesMut;

const PIDS: usize = 8192;
const NONE: u8 = 0xFF;
/// Most from one clock reference to the next, µs.
const PCR_INTERVAL_US: i64 = 100_000;

/// A table as it last went out, without its version and checksum.
#[derive(Debug, Default)]
struct Table {
    section: Vec<u8>,
    version: u8,
}

#[derive(Debug)]
pub(super) struct Output {
    /// Last counter on each PID.
    counters: Box<[u8; PIDS]>,
    /// Added to the counters of what is on; `NONE` before a PID's first packet.
    deltas: Box<[u8; PIDS]>,
    /// Added to the clock of what is on: 27 MHz, whole ticks of 90 kHz.
    offset: u64,
    /// Added to its time stamps beyond that, 90 kHz.
    extra: u64,
    /// Last clock reference and when it went out, µs.
    clock: Option<(u64, i64)>,
    /// Something has been cut: what is on did not begin with the output.
    begun: bool,
    /// Packets of what is on are being left out, so that its counters run ahead.
    closing: bool,
    /// References up to the last one of the old source are left out.
    settling: bool,
    /// The next reference announces a jump.
    announce: bool,
    pat: Table,
    pmt: Table,
}

impl Default for Output {
    fn default() -> Self {
        Self {
            counters: Box::new([NONE; PIDS]),
            deltas: Box::new([NONE; PIDS]),
            offset: 0,
            extra: 0,
            clock: None,
            begun: false,
            closing: false,
            settling: false,
            announce: false,
            pat: Table::default(),
            pmt: Table::default(),
        }
    }
}

impl Output {
    /// What time stamps of the source on air are shifted by, 90 kHz.
    pub fn shift(&self) -> u64 {
        self.offset / 300 + self.extra
    }

    /// The clock of the output at `now`, 27 MHz.
    pub fn clock_at(&self, now: i64) -> Option<u64> {
        self.clock.map(|(pcr, at)| (pcr + (now - at).max(0) as u64 * 27) % PCR_WRAP)
    }

    /// How a source that begins at `entry` is moved so that its clock goes on from here, and by how
    /// much its time stamps would then go back behind those of `old`. 90 kHz. With `follows` it is
    /// the old source that begins again at once: then its first picture comes exactly where the
    /// next one would have, whatever its start was late by.
    pub fn place(&self, old: &Tracks, entry: &Entry, follows: bool) -> (u64, i64) {
        // Without any clock so far the new one may begin anywhere.
        let expected = self.clock_at(entry.at).unwrap_or(entry.clock);
        let mut ticks = wrapped_distance(expected, entry.clock, PCR_WRAP).div_euclid(300).rem_euclid(PTS_WRAP as i64) as u64;
        let next = old.video().and_then(|v| Some((v.decoded.last? + v.decoded.step?) % PTS_WRAP)).filter(|_| follows);
        if let (Some(next), Some(dts)) = (next, entry.dts) {
            let off = wrapped_distance(next, (dts + ticks) % PTS_WRAP, PTS_WRAP);
            if off.abs() <= FOLLOWS_MAX {
                ticks = (ticks as i64 + off).rem_euclid(PTS_WRAP as i64) as u64;
            }
        }
        let missing = |time: Option<u64>, last: Option<u64>| {
            time.zip(last).map_or(0, |(t, last)| wrapped_distance(last, (t + ticks) % PTS_WRAP, PTS_WRAP) + STEP_MIN)
        };
        let video = old.video();
        (ticks, missing(entry.dts, video.and_then(|v| v.decoded.last)).max(missing(entry.pts, video.and_then(|v| v.last_pts))))
    }

    /// Another source begins: its clock is shifted by `offset`, its time stamps by `extra` beyond
    /// that.
    pub fn begin(&mut self, offset: u64, extra: u64, announce: bool) {
        self.deltas.fill(NONE);
        (self.offset, self.extra, self.settling, self.begun) = (offset, extra, true, true);
        self.announce |= announce;
        self.closing = false;
    }

    /// What is on is about to end.
    pub fn close(&mut self) {
        self.closing = true;
    }

    /// Notes a packet that passes untouched.
    pub fn watch(&mut self, now: i64, p: &TsPacket<'_>, has_clock: bool, table: bool) {
        if p.payload.is_some() {
            self.counters[usize::from(p.pid) % PIDS] = p.continuity;
            if table && let Some(section) = p.payload.and_then(|d| whole_section(p, d)) {
                let table = if p.pid == 0 { &mut self.pat } else { &mut self.pmt };
                *table = Table { section: plain(section), version: section[5] >> 1 & 31 };
            }
        }
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr).filter(|_| has_clock) {
            self.clock = Some((pcr, now));
        }
    }

    /// Notes plain packets that pass untouched.
    pub fn watch_plain(&mut self, pid: u16, packets: &[Raw]) {
        if let Some(last) = packets.last() {
            self.counters[usize::from(pid) % PIDS] = last[3] & 15;
        }
    }

    /// False for packets of a stream that has not begun since the cut: it begins with a unit.
    pub fn begins(&self, p: &TsPacket<'_>) -> bool {
        !self.begun || p.unit_start || p.payload.is_none() || self.deltas[usize::from(p.pid) % PIDS] != NONE
    }

    /// Appends one packet.
    pub fn write(&mut self, now: i64, raw: &Raw, p: &TsPacket<'_>, has_clock: bool, table: bool, out: &mut BytesMut) {
        let mut packet = *raw;
        if p.pid != NULL_PID {
            packet[3] = packet[3] & 0xF0 | self.next_counter(p);
        }
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr) {
            self.write_clock((pcr + self.offset) % PCR_WRAP, now, has_clock, &mut packet);
        }
        if p.unit_start
            && let Some(payload) = p.payload
        {
            let at = TS_PACKET - payload.len();
            match whole_section(p, payload).filter(|_| table) {
                Some(section) => {
                    let length = section.len();
                    let at = at + 1 + usize::from(payload[0]);
                    self.write_version(p.pid, &mut packet[at..at + length]);
                }
                None if !table => shift_stamps(&mut packet[at..], self.shift()),
                None => {}
            }
        }
        out.extend_from_slice(&packet);
    }

    /// Appends a packet that holds nothing but a clock reference, where there was none for longer
    /// than there may be: what follows is in its time (ISO 13818-1, 2.7.2). `pcr` is the source's.
    pub fn write_reference(&mut self, now: i64, pid: u16, pcr: u64, out: &mut BytesMut) {
        if self.clock.is_none_or(|(_, at)| now - at <= PCR_INTERVAL_US) {
            return;
        }
        // The counter rises with payload only.
        let counter = match self.counters[usize::from(pid) % PIDS] {
            NONE => 0,
            last => last,
        };
        let mut packet = [0xFF; TS_PACKET];
        packet[..6].copy_from_slice(&[SYNC, (pid >> 8) as u8, pid as u8, 0x20 | counter, (TS_PACKET - 5) as u8, 0x10]);
        self.write_clock((pcr + self.offset) % PCR_WRAP, now, true, &mut packet);
        // Those of the source up to this one are left out too.
        self.settling = true;
        out.extend_from_slice(&packet);
    }

    /// Appends a PES packet whose times are the source's; the next packet of the source on this PID
    /// follows `counter`.
    pub fn write_pes(&mut self, pid: u16, pes: &[u8], counter: u8, out: &mut BytesMut) {
        let mut pes = pes.to_vec();
        shift_stamps(&mut pes, self.shift());
        if self.counters[usize::from(pid) % PIDS] == NONE {
            self.counters[usize::from(pid) % PIDS] = (counter + 15) & 15;
        }
        self.write_payload(pid, true, &pes, out);
        let last = self.counters[usize::from(pid) % PIDS];
        self.deltas[usize::from(pid) % PIDS] = (last + 16 - counter) & 15;
    }

    /// Appends zeros to the PES packet that is open on this PID.
    pub fn fill(&mut self, pid: u16, bytes: usize, out: &mut BytesMut) {
        self.write_payload(pid, false, &vec![0; bytes], out);
    }

    fn write_payload(&mut self, pid: u16, mut start: bool, mut data: &[u8], out: &mut BytesMut) {
        while !data.is_empty() {
            let used = data.len().min(TS_PACKET - 4);
            let stuffing = TS_PACKET - 4 - used;
            let last = &mut self.counters[usize::from(pid) % PIDS];
            *last = last.wrapping_add(1) & 15;
            let mut packet = [0xFF; TS_PACKET];
            packet[..4].copy_from_slice(&[SYNC, u8::from(start) << 6 | (pid >> 8) as u8, pid as u8, 0x10 | *last]);
            if stuffing > 0 {
                packet[3] |= 0x20;
                packet[4] = (stuffing - 1) as u8;
                if stuffing > 1 {
                    packet[5] = 0;
                }
            }
            packet[4 + stuffing..].copy_from_slice(&data[..used]);
            out.extend_from_slice(&packet);
            (data, start) = (&data[used..], false);
        }
    }

    /// A new source goes on where the last one stopped; gaps of its own stay gaps. The counter
    /// rises with payload only (ISO 13818-1, 2.4.3.3).
    fn next_counter(&mut self, p: &TsPacket<'_>) -> u8 {
        let (last, delta) = (self.counters[usize::from(p.pid) % PIDS], &mut self.deltas[usize::from(p.pid) % PIDS]);
        if self.closing && p.payload.is_none() && last != NONE {
            return last;
        }
        if *delta == NONE {
            let rise = u8::from(p.payload.is_some());
            *delta = if last == NONE { 0 } else { (last + rise + 16 - p.continuity) & 15 };
        }
        let counter = (p.continuity + *delta) & 15;
        if p.payload.is_some() {
            self.counters[usize::from(p.pid) % PIDS] = counter;
        }
        counter
    }

    /// References rise: what the old source's clock has passed already is left out (ISO 13818-1,
    /// 2.4.3.5).
    fn write_clock(&mut self, pcr: u64, now: i64, has_clock: bool, packet: &mut Raw) {
        if has_clock {
            let rises = self.clock.is_none_or(|(last, _)| wrapped_distance(pcr, last, PCR_WRAP) > 0);
            if self.settling && !rises {
                return remove_clock(packet);
            }
            self.settling = false;
            self.clock = Some((pcr, now));
            if std::mem::take(&mut self.announce) {
                packet[5] |= 0x80;
            }
        }
        packet[6..12].copy_from_slice(&pcr_bytes(pcr));
    }

    /// A table that differs from the last one gets another version, or decoders would not read it
    /// (2.4.4.5, 2.4.4.9).
    fn write_version(&mut self, pid: u16, section: &mut [u8]) {
        let table = if pid == 0 { &mut self.pat } else { &mut self.pmt };
        let plain = plain(section);
        if table.section != plain {
            if !table.section.is_empty() {
                table.version = (table.version + 1) & 31;
            }
            table.section = plain;
        }
        section[5] = section[5] & 0xC1 | table.version << 1;
        let body = section.len() - 4;
        let crc = crc32(&section[..body]).to_be_bytes();
        section[body..].copy_from_slice(&crc);
    }
}

/// The section at the start of a packet, where all of it is in there and its checksum is right.
fn whole_section<'a>(p: &TsPacket<'a>, payload: &'a [u8]) -> Option<&'a [u8]> {
    let rest = payload.get(1 + usize::from(*payload.first().filter(|_| p.unit_start)?)..)?;
    let length = 3 + (usize::from(rest.get(1)? & 0x0F) << 8 | usize::from(*rest.get(2)?));
    rest.get(..length).filter(|s| s.len() >= 12 && crc32(s) == 0)
}

/// A section without its version and checksum.
fn plain(section: &[u8]) -> Vec<u8> {
    let mut plain = section[..section.len().saturating_sub(4)].to_vec();
    if let Some(version) = plain.get_mut(5) {
        *version &= 0xC1;
    }
    plain
}

/// Takes the clock reference out of an adaptation field; the field keeps its length.
fn remove_clock(packet: &mut Raw) {
    let end = 5 + usize::from(packet[4]);
    packet[5] &= !0x10;
    packet.copy_within(12..end, 6);
    packet[end - 6..end].fill(0xFF);
}

/// Adds `ticks` to the time stamps of a PES header.
fn shift_stamps(payload: &mut [u8], ticks: u64) {
    let Some(header) = PesHeader::parse(payload) else { return };
    let has_dts = header.dts.is_some();
    let mut set = |at: usize, prefix, time: Option<u64>| {
        if let (Some(time), Some(place)) = (time, payload.get_mut(at..at + 5)) {
            place.copy_from_slice(&time_bytes(prefix, (time + ticks) % PTS_WRAP));
        }
    };
    set(9, if has_dts { 3 } else { 2 }, header.pts);
    set(14, 1, header.dts);
}
