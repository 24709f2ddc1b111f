//! Makes a transport stream of one programme: tables, clock, video and audio, at a constant rate or
//! as the media comes.

use super::{
    PCR_WRAP, PTS_WRAP, TS_PACKET,
    packet::{NULL_PID, SYNC, pcr_bytes},
    pes::write_pes_header,
    psi::{Pmt, PmtStream, StreamKind, pat_section, pmt_section},
};
use crate::h26x::{HevcNal, NalKind, access_unit_delimiter};

const PSI_EVERY: u64 = 27_000_000 / 1000 * 90;
/// As above where packets leave only each 30 ms: 100 ms must hold all the same.
const PSI_EVERY_CLOCKED: u64 = 27_000_000 / 1000 * 60;
/// Below the 40 ms that is promised, so that a packet's wait does not break the promise.
pub(crate) const PCR_EVERY: u64 = 27_000_000 / 1000 * 36;
const AAC_STREAM: u8 = 0xC0;
const VIDEO_STREAM: u8 = 0xE0;
/// Private stream 1, as ST 302 wants it.
const PRIVATE_STREAM: u8 = 0xBD;
/// A delimiter that allows any slice type, with its start code.
const HEVC_DELIMITER: [u8; 7] = [0, 0, 0, 1, 0x46, 0x01, 0x50];

/// How fast the stream runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MuxRate {
    /// Bits per second, filled with null packets.
    Constant(u64),
    /// As the media comes.
    Variable,
    /// As the media comes, with the clock handed in by [`TsWriter::clock_to`].
    Clocked,
}

/// Layout of the programme.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WriterConfig {
    /// Programme number.
    pub program: u16,
    /// PID of the PMT.
    pub pmt_pid: u16,
    /// PID and kind of the video, which carries the clock.
    pub video: Option<PmtStream>,
    /// PID and kind of the audio, which carries the clock if there is no video.
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
            video: Some(PmtStream { pid: 0x100, kind: StreamKind::H264 }),
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
    /// Byte stream or ADTS frames, in pieces.
    pub data: &'a [&'a [u8]],
}

/// A transport stream writer.
#[derive(Debug)]
pub struct TsWriter {
    config: WriterConfig,
    pat: Vec<u8>,
    pmt: Vec<u8>,
    /// Of the PMT.
    version: u8,
    /// Of each PID in use, side by side: there are a handful.
    counters: Vec<(u16, u8)>,
    /// Clock of the next byte, 27 MHz, not wrapped.
    clock: Option<u64>,
    /// Fraction of a tick left over from the last packet, in `rate` parts.
    fraction: u64,
    last_psi: Option<u64>,
    last_pcr: Option<u64>,
    clock_pid: u16,
    /// A jump of the clock is to be announced with its next reference.
    jump: bool,
    late: u64,
}

impl TsWriter {
    /// A writer at the start of a stream.
    #[must_use]
    pub fn new(config: WriterConfig) -> Self {
        let (clock_pid, pmt) = programme(&config, 0);
        Self {
            pat: pat_section(1, config.program, config.pmt_pid),
            pmt,
            version: 0,
            config,
            counters: Vec::new(),
            clock: None,
            fraction: 0,
            last_psi: None,
            last_pcr: None,
            clock_pid,
            jump: false,
            late: 0,
        }
    }

    /// Another stream of pictures, of sound, or none: the next table says so with another version
    /// (ISO 13818-1, 2.4.4.9).
    pub fn set_streams(&mut self, video: Option<PmtStream>, audio: Option<PmtStream>) {
        (self.config.video, self.config.audio) = (video, audio);
        self.version = (self.version + 1) & 31;
        (self.clock_pid, self.pmt) = programme(&self.config, self.version);
        self.last_psi = None;
    }

    /// Units that left after their decoding time, since the constant rate is too small for them.
    #[must_use]
    pub fn late_units(&self) -> u64 {
        self.late
    }

    /// Sets the clock on, for [`MuxRate::Clocked`]. It never goes back.
    pub fn clock_to(&mut self, clock: u64) {
        self.clock = Some(self.clock.map_or(clock, |c| c.max(clock)));
    }

    /// Sets the clock to any time, which the next reference announces as a jump.
    pub fn jump_to(&mut self, clock: u64) {
        (self.clock, self.last_psi, self.last_pcr, self.jump) = (Some(clock), None, None, true);
    }

    /// Appends a clock reference, and the tables if they are due, while no unit comes.
    pub fn idle(&mut self, out: &mut Vec<u8>) {
        self.due_tables_and_clock(false, out);
        if self.clock_rises() {
            self.clock_packet(out);
        }
    }

    /// Appends a unit, with whatever tables, clock and filling are due before it. Its bytes are
    /// copied once.
    pub fn write(&mut self, unit: &Unit<'_>, out: &mut Vec<u8>) {
        let dts = unit.dts.unwrap_or(unit.pts);
        if self.config.rate != MuxRate::Clocked {
            self.advance((dts + PTS_WRAP).saturating_sub(self.config.lead) * 300, out);
            if self.clock.is_some_and(|c| c > (dts + PTS_WRAP) * 300) {
                self.late += 1;
            }
        }
        let stream = if unit.video { self.config.video } else { self.config.audio };
        let Some(stream) = stream else { return };
        if unit.video && unit.keyframe {
            self.tables(out);
        }
        let delimiter: &[u8] = match stream.kind {
            StreamKind::H264 if !begins_with(unit.data, |h| NalKind::of(h) == NalKind::Delimiter) => &access_unit_delimiter(),
            StreamKind::H265 if !begins_with(unit.data, |h| HevcNal::of(h) == HevcNal::Delimiter) => &HEVC_DELIMITER,
            _ => &[],
        };
        let size = delimiter.len() + unit.data.iter().map(|p| p.len()).sum::<usize>();
        let mut header = Vec::with_capacity(32);
        let id = match stream.kind {
            _ if unit.video => VIDEO_STREAM,
            StreamKind::St302 => PRIVATE_STREAM,
            _ => AAC_STREAM,
        };
        write_pes_header(id, unit.pts, unit.dts, size, &mut header);
        let mut pes = Pieces { head: [&header, delimiter], rest: unit.data, at: 0, left: header.len() + size };
        out.reserve(pes.left / 184 * TS_PACKET + 4 * TS_PACKET);
        let mut start = true;
        while pes.left > 0 {
            self.due_tables_and_clock(stream.pid != self.clock_pid, out);
            let clock_here = stream.pid == self.clock_pid && self.clock_rises() && ((unit.video && start) || self.pcr_due());
            self.packet(stream.pid, start, start && unit.keyframe, clock_here, &mut pes, out);
            start = false;
        }
    }

    /// Fills a constant rate up to where a unit with this decoding time would start, so that it can
    /// leave at once when it comes.
    pub fn fill(&mut self, dts: u64, out: &mut Vec<u8>) {
        if matches!(self.config.rate, MuxRate::Constant(_)) {
            self.advance((dts + PTS_WRAP).saturating_sub(self.config.lead) * 300, out);
        }
    }

    /// Runs the clock on to `due`, filling a constant rate.
    fn advance(&mut self, due: u64, out: &mut Vec<u8>) {
        let clock = *self.clock.get_or_insert(due);
        match self.config.rate {
            MuxRate::Clocked => {}
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

    /// References rise (ISO 13818-1, 2.4.3.5): units that leave at the same time share one.
    fn clock_rises(&self) -> bool {
        self.last_pcr.is_none() || self.clock > self.last_pcr
    }

    fn pcr_due(&self) -> bool {
        match (self.clock, self.last_pcr) {
            (Some(now), Some(last)) => now >= last + PCR_EVERY,
            _ => true,
        }
    }

    fn due_tables_and_clock(&mut self, clock_packet: bool, out: &mut Vec<u8>) {
        let every = if self.config.rate == MuxRate::Clocked { PSI_EVERY_CLOCKED } else { PSI_EVERY };
        if self.last_psi.is_none() || self.last_psi.zip(self.clock).is_some_and(|(last, now)| now >= last + every) {
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
            self.packet(pid, true, false, false, &mut Pieces::of(&payload), out);
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
        self.packet(self.clock_pid, false, false, true, &mut Pieces::of(&[]), out);
    }

    /// The continuity counter of the next packet of a PID, which payload sets on.
    fn count(&mut self, pid: u16, payload: bool) -> u8 {
        let by = u8::from(payload);
        if let Some((_, counter)) = self.counters.iter_mut().find(|(of, _)| *of == pid) {
            *counter = (*counter + by) & 15;
            return *counter;
        }
        let first = (15 + by) & 15;
        self.counters.push((pid, first));
        first
    }

    /// Appends one packet with as much of `data` as fits.
    fn packet(&mut self, pid: u16, start: bool, random_access: bool, clock: bool, data: &mut Pieces<'_>, out: &mut Vec<u8>) {
        let mut adaptation = [0u8; 7];
        let mut length = 0;
        if random_access || clock {
            let jump = clock && std::mem::take(&mut self.jump);
            adaptation[0] = u8::from(jump) << 7 | u8::from(random_access) << 6 | u8::from(clock) << 4;
            length = 1;
            if clock {
                let now = self.clock.unwrap_or(0);
                adaptation[1..].copy_from_slice(&pcr_bytes(now % PCR_WRAP));
                self.last_pcr = Some(now);
                length = 7;
            }
        }
        let room = TS_PACKET - 4 - if length > 0 { 1 + length } else { 0 };
        let used = data.left.min(room);
        let stuffing = room - used;
        let counter = self.count(pid, used > 0);
        let control = u8::from(used > 0) << 4 | if length > 0 || stuffing > 0 { 0x20 } else { 0 };
        out.extend_from_slice(&[SYNC, (u8::from(start) << 6) | (pid >> 8) as u8, pid as u8, control | counter]);
        if length > 0 {
            out.push((length + stuffing) as u8);
            out.extend_from_slice(&adaptation[..length]);
            out.resize(out.len() + stuffing, 0xFF);
        } else if stuffing > 0 {
            out.push((stuffing - 1) as u8);
            if stuffing > 1 {
                out.push(0);
                out.resize(out.len() + stuffing - 2, 0xFF);
            }
        }
        data.copy(used, out);
        self.tick();
    }
}

/// The PID that carries the clock, and the PMT.
fn programme(config: &WriterConfig, version: u8) -> (u16, Vec<u8>) {
    let streams: Vec<PmtStream> = config.video.into_iter().chain(config.audio).collect();
    // 0x1FFF says that there is no clock.
    let clock_pid = streams.first().map_or(NULL_PID, |s| s.pid);
    (clock_pid, pmt_section(&Pmt { program: config.program, version, pcr_pid: clock_pid, streams }))
}

/// A PES packet in pieces: header, delimiter, and the unit as it came.
struct Pieces<'a> {
    head: [&'a [u8]; 2],
    rest: &'a [&'a [u8]],
    at: usize,
    left: usize,
}

impl<'a> Pieces<'a> {
    fn of(data: &'a [u8]) -> Self {
        Self { head: [data, &[]], rest: &[], at: 0, left: data.len() }
    }

    /// Moves the next `count` bytes.
    fn copy(&mut self, mut count: usize, out: &mut Vec<u8>) {
        self.left -= count.min(self.left);
        while count > 0 {
            let (piece, in_head) = match self.head {
                [first, _] if !first.is_empty() => (first, Some(0)),
                [_, second] if !second.is_empty() => (second, Some(1)),
                _ => match self.rest.first() {
                    Some(piece) => (&piece[self.at..], None),
                    None => return,
                },
            };
            let n = piece.len().min(count);
            out.extend_from_slice(&piece[..n]);
            count -= n;
            match in_head {
                Some(i) => self.head[i] = &piece[n..],
                None if n == piece.len() => (self.rest, self.at) = (&self.rest[1..], 0),
                None => self.at += n,
            }
        }
    }
}

/// True when the first NAL unit's first byte is as wanted. The start code may be a piece of its
/// own.
fn begins_with(pieces: &[&[u8]], wanted: impl Fn(u8) -> bool) -> bool {
    let mut bytes = pieces.iter().flat_map(|p| p.iter().copied());
    let zeros = bytes.by_ref().take(5).position(|b| b != 0);
    let mut bytes = pieces.iter().flat_map(|p| p.iter().copied());
    zeros.is_some_and(|z| z >= 2 && bytes.nth(z) == Some(1) && bytes.next().is_some_and(wanted))
}
