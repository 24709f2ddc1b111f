//! Makes a transport stream of one programme: tables, clock, video and audio, at a constant rate or as
//! the media comes.

use super::{
    PCR_WRAP, PTS_WRAP, TS_PACKET,
    packet::{NULL_PID, SYNC, pcr_bytes},
    pes::write_pes_header,
    psi::{Pmt, PmtStream, StreamKind, pat_section, pmt_section},
};
use crate::h26x::{NalKind, access_unit_delimiter, nal_units};
use std::collections::HashMap;

const PSI_EVERY: u64 = 27_000_000 / 1000 * 90;
/// Below the 40 ms that is promised, so that a packet's wait does not break the promise.
const PCR_EVERY: u64 = 27_000_000 / 1000 * 36;
const AAC_STREAM: u8 = 0xC0;
const VIDEO_STREAM: u8 = 0xE0;

/// How fast the stream runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MuxRate {
    /// Bits per second, filled with null packets.
    Constant(u64),
    /// As the media comes.
    Variable,
}

/// Layout of the programme.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriterConfig {
    /// Programme number.
    pub program: u16,
    /// PID of the PMT.
    pub pmt_pid: u16,
    /// PID and kind of the video, which carries the clock.
    pub video: PmtStream,
    /// PID and kind of the audio.
    pub audio: Option<PmtStream>,
    /// Rate.
    pub rate: MuxRate,
    /// How far the clock runs ahead of decoding, 90 kHz ticks: room for a large frame to arrive.
    pub lead: u64,
}

impl Default for WriterConfig {
    fn default() -> Self {
        Self {
            program: 1,
            pmt_pid: 0x1000,
            video: PmtStream { pid: 0x100, kind: StreamKind::H264 },
            audio: Some(PmtStream { pid: 0x101, kind: StreamKind::AacAdts }),
            rate: MuxRate::Variable,
            lead: 90 * 200,
        }
    }
}

/// One access unit to write.
#[derive(Debug, Clone, Copy)]
pub struct Unit<'a> {
    /// Video or audio.
    pub video: bool,
    /// Presentation time, 90 kHz. Times must not go backwards by more than the lead.
    pub pts: u64,
    /// Decoding time, when it differs.
    pub dts: Option<u64>,
    /// Decoding can start here.
    pub keyframe: bool,
    /// Byte stream or ADTS frames.
    pub data: &'a [u8],
}

/// A transport stream writer.
#[derive(Debug)]
pub struct TsWriter {
    config: WriterConfig,
    pat: Vec<u8>,
    pmt: Vec<u8>,
    counters: HashMap<u16, u8>,
    /// Clock of the next byte, 27 MHz, not wrapped.
    clock: Option<u64>,
    /// Fraction of a tick left over from the last packet, in `rate` parts.
    fraction: u64,
    last_psi: Option<u64>,
    last_pcr: Option<u64>,
    late: u64,
    pes: Vec<u8>,
}

impl TsWriter {
    /// A writer at the start of a stream.
    #[must_use]
    pub fn new(config: WriterConfig) -> Self {
        let mut streams = vec![config.video];
        streams.extend(config.audio);
        let pmt = pmt_section(&Pmt { program: config.program, version: 0, pcr_pid: config.video.pid, streams });
        Self {
            pat: pat_section(1, config.program, config.pmt_pid),
            pmt,
            config,
            counters: HashMap::new(),
            clock: None,
            fraction: 0,
            last_psi: None,
            last_pcr: None,
            late: 0,
            pes: Vec::new(),
        }
    }

    /// Units that left after their decoding time, since the constant rate is too small for them.
    #[must_use]
    pub fn late_units(&self) -> u64 {
        self.late
    }

    /// Appends a unit, with whatever tables, clock and filling are due before it.
    pub fn write(&mut self, unit: &Unit<'_>, out: &mut Vec<u8>) {
        let dts = unit.dts.unwrap_or(unit.pts);
        let due = (dts + PTS_WRAP).saturating_sub(self.config.lead) * 300;
        self.advance(due, out);
        if self.clock.is_some_and(|c| c > (dts + PTS_WRAP) * 300) {
            self.late += 1;
        }
        let stream = if unit.video { Some(self.config.video) } else { self.config.audio };
        let Some(stream) = stream else { return };
        if unit.video && unit.keyframe {
            self.tables(out);
        }
        let mut pes = std::mem::take(&mut self.pes);
        pes.clear();
        let delimiter = access_unit_delimiter();
        let needs_delimiter =
            stream.kind == StreamKind::H264 && nal_units(unit.data).next().is_none_or(|n| NalKind::of(n[0]) != NalKind::Delimiter);
        let size = unit.data.len() + if needs_delimiter { delimiter.len() } else { 0 };
        write_pes_header(if unit.video { VIDEO_STREAM } else { AAC_STREAM }, unit.pts, unit.dts, size, &mut pes);
        if needs_delimiter {
            pes.extend_from_slice(&delimiter);
        }
        pes.extend_from_slice(unit.data);
        let mut rest = &pes[..];
        let mut start = true;
        while !rest.is_empty() {
            self.due_tables_and_clock(!unit.video, out);
            let clock_here = unit.video && (start || self.pcr_due());
            let used = self.packet(stream.pid, start, start && unit.keyframe, clock_here, rest, out);
            rest = &rest[used..];
            start = false;
        }
        self.pes = pes;
    }

    /// Fills a constant rate up to where a unit with this decoding time would start, so that it can leave at
    /// once when it comes.
    pub fn fill(&mut self, dts: u64, out: &mut Vec<u8>) {
        if matches!(self.config.rate, MuxRate::Constant(_)) {
            self.advance((dts + PTS_WRAP).saturating_sub(self.config.lead) * 300, out);
        }
    }

    /// Runs the clock on to `due`, filling a constant rate.
    fn advance(&mut self, due: u64, out: &mut Vec<u8>) {
        let clock = *self.clock.get_or_insert(due);
        match self.config.rate {
            MuxRate::Variable => {
                // Slow frame rates need clock references of their own in between.
                while let Some(last) = self.last_pcr
                    && due > last + PCR_EVERY * 10 / 9
                    && due < last + 27_000_000
                {
                    self.clock = Some(last + PCR_EVERY);
                    self.clock_packet(out);
                }
                self.clock = Some(due.max(clock));
            }
            MuxRate::Constant(_) => {
                while self.clock.is_some_and(|c| c < due) {
                    let before = out.len();
                    self.due_tables_and_clock(true, out);
                    if out.len() == before {
                        self.null(out);
                    }
                }
            }
        }
    }

    fn pcr_due(&self) -> bool {
        match (self.clock, self.last_pcr) {
            (Some(now), Some(last)) => now >= last + PCR_EVERY,
            _ => true,
        }
    }

    fn due_tables_and_clock(&mut self, clock_packet: bool, out: &mut Vec<u8>) {
        if self.last_psi.is_none() || self.last_psi.zip(self.clock).is_some_and(|(last, now)| now >= last + PSI_EVERY) {
            self.tables(out);
        }
        if clock_packet && self.pcr_due() {
            self.clock_packet(out);
        }
    }

    fn tables(&mut self, out: &mut Vec<u8>) {
        self.last_psi = self.clock;
        for (pid, section) in [(0, self.pat.clone()), (self.config.pmt_pid, self.pmt.clone())] {
            let mut payload = vec![0];
            payload.extend_from_slice(&section);
            // Behind a section the rest of the packet is 0xFF.
            payload.resize(TS_PACKET - 4, 0xFF);
            self.packet(pid, true, false, false, &payload, out);
        }
    }

    fn tick(&mut self) {
        if let (MuxRate::Constant(rate), Some(clock)) = (self.config.rate, &mut self.clock) {
            let ticks = TS_PACKET as u64 * 8 * 27_000_000 + self.fraction;
            *clock += ticks / rate.max(1);
            self.fraction = ticks % rate.max(1);
        }
    }

    fn null(&mut self, out: &mut Vec<u8>) {
        out.extend_from_slice(&[SYNC, (NULL_PID >> 8) as u8, NULL_PID as u8, 0x10]);
        out.resize(out.len() + TS_PACKET - 4, 0xFF);
        self.tick();
    }

    /// A packet that carries only the clock.
    fn clock_packet(&mut self, out: &mut Vec<u8>) {
        self.packet(self.config.video.pid, false, false, true, &[], out);
    }

    /// Appends one packet; gives how much of `data` it took.
    fn packet(&mut self, pid: u16, start: bool, random_access: bool, clock: bool, data: &[u8], out: &mut Vec<u8>) -> usize {
        let mut adaptation = Vec::new();
        if random_access || clock {
            adaptation.push(if random_access { 0x40 } else { 0 } | if clock { 0x10 } else { 0 });
            if clock {
                let now = self.clock.unwrap_or(0);
                adaptation.extend_from_slice(&pcr_bytes(now % PCR_WRAP));
                self.last_pcr = Some(now);
            }
        }
        let has_field = !adaptation.is_empty();
        let room = TS_PACKET - 4 - if has_field { 1 + adaptation.len() } else { 0 };
        let used = data.len().min(room);
        let stuffing = room - used;
        let counter = self.counters.entry(pid).or_insert(15);
        if used > 0 {
            *counter = (*counter + 1) & 15;
        }
        let control = u8::from(used > 0) << 4 | if has_field || stuffing > 0 { 0x20 } else { 0 };
        out.extend_from_slice(&[SYNC, (u8::from(start) << 6) | (pid >> 8) as u8, pid as u8, control | *counter]);
        if has_field {
            out.push((adaptation.len() + stuffing) as u8);
            out.extend_from_slice(&adaptation);
            out.resize(out.len() + stuffing, 0xFF);
        } else if stuffing > 0 {
            out.push((stuffing - 1) as u8);
            if stuffing > 1 {
                out.push(0);
                out.resize(out.len() + stuffing - 2, 0xFF);
            }
        }
        out.extend_from_slice(&data[..used]);
        self.tick();
        used
    }
}
