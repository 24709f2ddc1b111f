//! Sound at a cut: what of the new source's sound follows the old one's end without overlap.

use super::limits::ROUNDING;
use crate::{
    adts,
    ts::{
        PTS_WRAP, TsPacket,
        index::Raw,
        pes::PesHeader,
        psi::StreamKind,
        sound::{frame_ticks, silence},
        wrapped_distance, write_pes_header,
    },
};

/// Silence is written so long before it is heard (20 ms, 90 kHz).
const IN_TIME: i64 = 1800;
/// Packets of one PES packet that are kept: 64 KiB is the most that its length can say.
const PACKETS_MAX: usize = 400;

/// Holds back the sound of a source that has just come on until it reaches where the old sound
/// ended.
#[derive(Debug)]
pub(super) struct Trim {
    pub pid: u16,
    kind: StreamKind,
    /// Time of the output before which nothing may sound.
    floor: u64,
    packets: Vec<Raw>,
    left: Option<usize>,
}

/// What becomes of the packets of one PES packet.
pub(super) enum Kept {
    /// Wait for more.
    Nothing,
    /// These as they came, behind this PES packet of silence; the stream goes on by itself.
    All { silence: Vec<u8>, packets: Vec<Raw> },
    /// The frames behind the floor as a new PES packet, still in the source's times; `counter` is
    /// that of its last packet. Before it one of silence.
    Rest { silence: Vec<u8>, pes: Vec<u8>, counter: u8, then: Option<Raw> },
}

impl Trim {
    pub fn new(pid: u16, kind: StreamKind, floor: u64) -> Self {
        Self { pid, kind, floor, packets: Vec::new(), left: None }
    }

    /// Takes the next packet of the stream, whose times will be shifted by `shift`, while the clock
    /// of the output is `clock` (90 kHz). Anything but `Nothing` ends the trimming.
    pub fn push(&mut self, p: &TsPacket<'_>, raw: &Raw, shift: u64, clock: Option<u64>) -> Kept {
        let Some(payload) = p.payload else { return Kept::Nothing };
        if p.unit_start {
            // A PES packet without a length ends where the next one starts.
            if let Some((silence, pes, counter)) = self.judge(shift, clock) {
                return Kept::Rest { silence, pes, counter, then: Some(*raw) };
            }
            if let Some(header) = PesHeader::parse(payload) {
                self.left = header.payload_bytes.map(|n| n + header.header_bytes);
                self.packets.push(*raw);
            }
            if let Some(silence) = self.starts_at_floor(shift, clock) {
                return Kept::All { silence, packets: std::mem::take(&mut self.packets) };
            }
        } else if self.packets.is_empty() {
            return Kept::Nothing;
        } else {
            self.packets.push(*raw);
        }
        if self.packets.len() > PACKETS_MAX {
            self.packets.clear();
        }
        self.left = self.left.map(|left| left.saturating_sub(payload.len()));
        if self.left != Some(0) {
            return Kept::Nothing;
        }
        self.judge(shift, clock).map_or(Kept::Nothing, |(silence, pes, counter)| Kept::Rest { silence, pes, counter, then: None })
    }

    fn header(&self) -> Option<PesHeader> {
        PesHeader::parse(TsPacket::parse(self.packets.first()?)?.payload?)
    }

    fn past_floor(&self, pts: u64, shift: u64) -> bool {
        wrapped_distance((pts + shift) % PTS_WRAP, self.floor, PTS_WRAP) >= -ROUNDING
    }

    /// What is kept starts at the floor or behind it: gives the silence before it.
    fn starts_at_floor(&self, shift: u64, clock: Option<u64>) -> Option<Vec<u8>> {
        let payload = TsPacket::parse(self.packets.first()?)?.payload?;
        let header = PesHeader::parse(payload)?;
        let Some(pts) = header.pts else { return Some(Vec::new()) };
        let sound = payload.get(header.header_bytes..).unwrap_or_default();
        self.past_floor(pts, shift).then(|| self.silence(header.stream_id, pts, sound, (shift, clock)))
    }

    /// A PES packet of silence from the floor to `pts`, in the source's times, without what would
    /// come too late.
    fn silence(&self, stream_id: u8, pts: u64, sound: &[u8], (shift, clock): (u64, Option<u64>)) -> Vec<u8> {
        let hole = wrapped_distance((pts + shift) % PTS_WRAP, self.floor, PTS_WRAP);
        let in_time = |at: u64| clock.is_none_or(|c| wrapped_distance((self.floor + at) % PTS_WRAP, c, PTS_WRAP) >= IN_TIME);
        let frames: Vec<(u64, Vec<u8>)> = silence(self.kind, sound, hole).into_iter().filter(|(at, _)| in_time(*at)).collect();
        let mut pes = Vec::new();
        if let Some((at, _)) = frames.first() {
            let size = frames.iter().map(|(_, frame)| frame.len()).sum();
            write_pes_header(stream_id, (self.floor + at + PTS_WRAP - shift % PTS_WRAP) % PTS_WRAP, None, size, &mut pes);
            frames.iter().for_each(|(_, frame)| pes.extend_from_slice(frame));
        }
        pes
    }

    /// The frames behind the floor of a PES packet that is here as a whole, which is forgotten;
    /// with the silence before them.
    fn judge(&mut self, shift: u64, clock: Option<u64>) -> Option<(Vec<u8>, Vec<u8>, u8)> {
        let header = self.header()?;
        let packets = std::mem::take(&mut self.packets);
        self.left = None;
        let pts = header.pts.filter(|_| self.kind == StreamKind::AacAdts)?;
        let parsed: Vec<_> = packets.iter().filter_map(|raw| TsPacket::parse(raw)).collect();
        let all: Vec<u8> = parsed.iter().filter_map(|p| p.payload).flatten().copied().collect();
        let data = all.get(header.header_bytes..).unwrap_or_default();
        let (mut at, mut bytes) = (0.0, 0);
        for (frame, _) in adts::frames(data) {
            let start = (pts + f64::round(at) as u64) % PTS_WRAP;
            if self.past_floor(start, shift) {
                let rest = &data[bytes..];
                let mut pes = Vec::with_capacity(rest.len() + 14);
                write_pes_header(header.stream_id, start, None, rest.len(), &mut pes);
                pes.extend_from_slice(rest);
                return Some((self.silence(header.stream_id, start, rest, (shift, clock)), pes, parsed.last()?.continuity));
            }
            at += frame_ticks(&frame);
            bytes += frame.frame_bytes;
        }
        None
    }
}
