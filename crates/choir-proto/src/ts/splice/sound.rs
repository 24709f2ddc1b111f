//! Sound at a cut: what of the new source's sound follows the old one's end without overlap.

use crate::{
    adts,
    ts::{
        PTS_WRAP, TsPacket,
        index::Raw,
        pes::PesHeader,
        psi::StreamKind,
        sound::{Piece, SoundEnd, follow, frame_ticks},
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
    /// Where the old sound ended in the output, before which nothing may sound.
    floor: SoundEnd,
    packets: Vec<Raw>,
    left: Option<usize>,
}

/// What becomes of the packets of one PES packet.
pub(super) enum Kept {
    /// Wait for more.
    Nothing,
    /// These as they came, behind these PES packets of silence; the stream goes on by itself.
    All { silence: Vec<Vec<u8>>, packets: Vec<Raw> },
    /// PES packets of what is behind the floor and of the silence before it, still in the source's
    /// times; `counter` is that of the last packet that they stand for.
    Rest { made: Vec<Vec<u8>>, counter: u8, then: Option<Raw> },
}

impl Trim {
    pub fn new(pid: u16, kind: StreamKind, floor: SoundEnd) -> Self {
        Self { pid, kind, floor, packets: Vec::new(), left: None }
    }

    /// Takes the next packet of the stream, whose times will be shifted by `shift`, while the clock
    /// of the output is `clock` (90 kHz). Anything but `Nothing` ends the trimming.
    pub fn push(&mut self, p: &TsPacket<'_>, raw: &Raw, shift: u64, clock: Option<u64>) -> Kept {
        let Some(payload) = p.payload else { return Kept::Nothing };
        if p.unit_start {
            // A PES packet without a length ends where the next one starts.
            if let Some((made, counter)) = self.judge(shift, clock) {
                return Kept::Rest { made, counter, then: Some(*raw) };
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
        self.judge(shift, clock).map_or(Kept::Nothing, |(made, counter)| Kept::Rest { made, counter, then: None })
    }

    fn header(&self) -> Option<PesHeader> {
        PesHeader::parse(TsPacket::parse(self.packets.first()?)?.payload?)
    }

    /// What is kept starts at the floor or behind it, and goes on as it comes: gives the silence
    /// before it.
    fn starts_at_floor(&self, shift: u64, clock: Option<u64>) -> Option<Vec<Vec<u8>>> {
        let payload = TsPacket::parse(self.packets.first()?)?.payload?;
        let header = PesHeader::parse(payload)?;
        let Some(pts) = header.pts else { return Some(Vec::new()) };
        // PCM comes up from what was heard: all of its packet is needed.
        let sound = payload.get(header.header_bytes..).filter(|_| self.kind != StreamKind::St302)?;
        let (silence, _) = follow(self.kind, (pts + shift) % PTS_WRAP, sound, &self.floor)?;
        Some(self.silence(header.stream_id, &silence, shift, clock))
    }

    /// PES packets of silence in the source's times, without what would come too late.
    fn silence(&self, stream_id: u8, silence: &[Piece], shift: u64, clock: Option<u64>) -> Vec<Vec<u8>> {
        let in_time = |at: u64| clock.is_none_or(|c| wrapped_distance(at, c, PTS_WRAP) >= IN_TIME);
        let in_time: Vec<&Piece> = silence.iter().filter(|(at, _)| in_time(*at)).collect();
        // Frames of AAC share one, each piece of PCM has a head of its own.
        let each = if self.kind == StreamKind::St302 { 1 } else { in_time.len().max(1) };
        in_time.chunks(each).map(|pieces| pes(stream_id, pieces[0].0, shift, pieces.iter().map(|(_, sound)| &sound[..]))).collect()
    }

    /// PES packets of what is behind the floor of one that is here as a whole, which is forgotten,
    /// and of the silence before it.
    fn judge(&mut self, shift: u64, clock: Option<u64>) -> Option<(Vec<Vec<u8>>, u8)> {
        let header = self.header()?;
        let packets = std::mem::take(&mut self.packets);
        self.left = None;
        let pts = (header.pts? + shift) % PTS_WRAP;
        let parsed: Vec<_> = packets.iter().filter_map(|raw| TsPacket::parse(raw)).collect();
        let all: Vec<u8> = parsed.iter().filter_map(|p| p.payload).flatten().copied().collect();
        let data = all.get(header.header_bytes..).unwrap_or_default();
        let (silence, (at, rest)) = match self.kind {
            StreamKind::AacAdts => self.frames_behind(pts, data)?,
            StreamKind::St302 => follow(self.kind, pts, data, &self.floor)?,
            _ => return None,
        };
        let mut made = self.silence(header.stream_id, &silence, shift, clock);
        made.push(pes(header.stream_id, at, shift, [&rest[..]].into_iter()));
        Some((made, parsed.last()?.continuity))
    }

    /// The frames of AAC behind the floor, and the silence before them.
    fn frames_behind(&self, pts: u64, data: &[u8]) -> Option<(Vec<Piece>, Piece)> {
        let (mut at, mut bytes) = (0.0, 0);
        for (frame, _) in adts::frames(data) {
            let start = (pts + f64::round(at) as u64) % PTS_WRAP;
            if let Some(followed) = follow(self.kind, start, &data[bytes..], &self.floor) {
                return Some(followed);
            }
            at += frame_ticks(&frame);
            bytes += frame.frame_bytes;
        }
        None
    }
}

/// A PES packet of sound at a time of the output, with the source's time in it.
fn pes<'a>(stream_id: u8, at: u64, shift: u64, sound: impl Iterator<Item = &'a [u8]> + Clone) -> Vec<u8> {
    let mut pes = Vec::new();
    write_pes_header(stream_id, (at + PTS_WRAP - shift % PTS_WRAP) % PTS_WRAP, None, sound.clone().map(<[u8]>::len).sum(), &mut pes);
    sound.for_each(|s| pes.extend_from_slice(s));
    pes
}
