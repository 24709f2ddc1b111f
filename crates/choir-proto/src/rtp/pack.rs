//! From access units to packets, by payload format. Each unit's packets lie in one buffer, made
//! once for all who receive them.

use super::{
    packet::{RTP_HEADER, write_rtp_header},
    params::VideoKind,
};
use crate::{
    adts,
    audio::PCM_SAMPLE,
    h26x::{HevcNal, NalKind, nal_units},
    media::Codec,
};
use bytes::Bytes;

/// Bytes of a packet with its header: room for tunnels below the usual 1500.
const PACKET_MAX: usize = 1400;
const ROOM: usize = PACKET_MAX - RTP_HEADER;
/// Bytes that the system takes in one go.
const RUN_MAX: usize = 60_000;
/// Seven transport stream packets.
const TS_ROOM: usize = 7 * 188;

/// The packets of one access unit, one behind the other in one buffer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PackedUnit {
    buffer: Bytes,
    ends: Vec<usize>,
    /// Decoding can start here.
    pub keyframe: bool,
}

impl PackedUnit {
    /// Of packets made elsewhere.
    pub fn of<'a>(packets: impl Iterator<Item = &'a [u8]>, keyframe: bool) -> Self {
        let (mut buffer, mut ends) = (Vec::new(), Vec::new());
        for p in packets {
            buffer.extend_from_slice(p);
            ends.push(buffer.len());
        }
        Self { buffer: buffer.into(), ends, keyframe }
    }

    /// Sequence number and timestamp of the first; `None` without packets.
    #[must_use]
    pub fn first(&self) -> Option<(u16, u32)> {
        let [_, _, s0, s1, t0, t1, t2, t3] = self.buffer.get(..8)?.try_into().ok()?;
        Some((u16::from_be_bytes([s0, s1]), u32::from_be_bytes([t0, t1, t2, t3])))
    }

    /// A copy whose sequence numbers are `shift` higher.
    #[must_use]
    pub fn shifted(&self, shift: u16) -> Self {
        let mut buffer = self.buffer.to_vec();
        let mut start = 0;
        for end in &self.ends {
            if let Some(number) = buffer.get_mut(start + 2..start + 4) {
                let shifted = u16::from_be_bytes([number[0], number[1]]).wrapping_add(shift);
                number.copy_from_slice(&shifted.to_be_bytes());
            }
            start = *end;
        }
        Self { buffer: buffer.into(), ends: self.ends.clone(), keyframe: self.keyframe }
    }

    /// Payload bytes of all of them.
    #[must_use]
    pub fn payload(&self) -> usize {
        self.buffer.len().saturating_sub(self.ends.len() * RTP_HEADER)
    }

    /// Bytes of all of them.
    #[must_use]
    pub fn size(&self) -> usize {
        self.buffer.len()
    }

    /// Each by itself, as slices of the whole.
    pub fn packets(&self) -> impl ExactSizeIterator<Item = Bytes> + '_ {
        let mut start = 0;
        self.ends.iter().map(move |end| self.buffer.slice(std::mem::replace(&mut start, *end)..*end))
    }

    /// Runs of packets of one size, the last of a run may be shorter, at most so many in one: what
    /// the system sends in one go. With each the size of its packets.
    pub fn runs(&self, most: usize) -> impl Iterator<Item = (&[u8], usize)> {
        let mut at = 0usize;
        std::iter::from_fn(move || {
            let start = at.checked_sub(1).map_or(0, |i| self.ends[i]);
            let size = self.ends.get(at)? - start;
            let (mut end, mut count) = (start, 0);
            while let Some(next) = self.ends.get(at)
                && count < most
                && next - end <= size
                && next - start <= RUN_MAX
            {
                let shorter = next - end < size;
                (end, at, count) = (*next, at + 1, count + 1);
                if shorter {
                    break;
                }
            }
            Some((&self.buffer[start..end], size))
        })
    }
}

/// Makes the packets of one track.
#[derive(Debug)]
pub struct Packetizer {
    codec: Codec,
    payload_type: u8,
    clock_rate: u32,
    ssrc: u32,
    sequence: u16,
    offset: u32,
    packets: u32,
    bytes: u32,
    /// Timestamp of the next unit, where the last one tells.
    next_timestamp: Option<u32>,
}

impl Packetizer {
    /// A track with random `ssrc`, first `sequence` and timestamp `offset`, as RFC 3550 wants them.
    #[must_use]
    pub fn new(codec: Codec, payload_type: u8, clock_rate: u32, (ssrc, sequence, offset): (u32, u16, u32)) -> Self {
        Self { codec, payload_type, clock_rate, ssrc, sequence, offset, packets: 0, bytes: 0, next_timestamp: None }
    }

    /// Its identifier.
    #[must_use]
    pub fn ssrc(&self) -> u32 {
        self.ssrc
    }

    /// Number of the next packet.
    #[must_use]
    pub fn next_sequence(&self) -> u16 {
        self.sequence
    }

    /// Timestamp of the next unit of sound, if it follows on the last one.
    #[must_use]
    pub fn next_timestamp(&self) -> Option<u32> {
        self.next_timestamp
    }

    /// Packets and payload bytes so far, for sender reports.
    #[must_use]
    pub fn sent(&self) -> (u32, u32) {
        (self.packets, self.bytes)
    }

    /// A 90 kHz time in this track's ticks.
    #[must_use]
    pub fn timestamp(&self, pts: u64) -> u32 {
        // 33 bits of 90 kHz do not wrap into 32 bits of another rate by themselves: the sender's
        // clock runs on.
        ((u128::from(pts) * u128::from(self.clock_rate) / 90_000) as u32).wrapping_add(self.offset)
    }

    /// Packs one unit: a byte stream, ADTS frames, or transport stream packets. `pts` counts on
    /// without wrap.
    pub fn pack(&mut self, pts: u64, keyframe: bool, data: &[u8]) -> PackedUnit {
        let timestamp = self.timestamp(pts);
        let mut maker = Maker { track: self, timestamp, buffer: Vec::with_capacity(data.len() + data.len() / 64 + 64), ends: Vec::new() };
        match maker.track.codec {
            Codec::H264 => maker.video(VideoKind::H264, data),
            Codec::H265 => maker.video(VideoKind::H265, data),
            Codec::Aac(config) => maker.aac(data, config.frame_samples),
            Codec::Ts => data.chunks(TS_ROOM).for_each(|c| maker.packet(false, &[c])),
            Codec::Pcm(channels) => maker.pcm(data, channels),
            Codec::G711(_) => data.chunks(ROOM).for_each(|c| maker.packet(false, &[c])),
        }
        let (next, buffer, ends) = (maker.timestamp, maker.buffer, maker.ends);
        self.next_timestamp = (next != timestamp).then_some(next);
        PackedUnit { buffer: buffer.into(), ends, keyframe }
    }
}

struct Maker<'a> {
    track: &'a mut Packetizer,
    timestamp: u32,
    buffer: Vec<u8>,
    ends: Vec<usize>,
}

impl Maker<'_> {
    fn packet(&mut self, marker: bool, parts: &[&[u8]]) {
        let t = &mut *self.track;
        write_rtp_header(marker, t.payload_type, t.sequence, self.timestamp, t.ssrc, &mut self.buffer);
        let start = self.buffer.len();
        parts.iter().for_each(|p| self.buffer.extend_from_slice(p));
        t.sequence = t.sequence.wrapping_add(1);
        t.packets = t.packets.wrapping_add(1);
        t.bytes = t.bytes.wrapping_add((self.buffer.len() - start) as u32);
        self.ends.push(self.buffer.len());
    }

    fn video(&mut self, kind: VideoKind, data: &[u8]) {
        let delimiter = |n: &&[u8]| match kind {
            VideoKind::H264 => NalKind::of(n[0]) == NalKind::Delimiter,
            VideoKind::H265 => HevcNal::of(n[0]) == HevcNal::Delimiter,
        };
        let mut nals = nal_units(data).filter(|n| n.len() >= kind.header() && !delimiter(n)).peekable();
        let mut small: Vec<&[u8]> = Vec::new();
        let mut size = 0;
        while let Some(nal) = nals.next() {
            let last = nals.peek().is_none();
            // Parameter sets and their like travel together.
            if size + 2 + nal.len() + kind.header() <= ROOM && (!last || !small.is_empty()) {
                size += 2 + nal.len();
                small.push(nal);
                if last {
                    self.aggregate(kind, &std::mem::take(&mut small), true);
                }
                continue;
            }
            self.aggregate(kind, &std::mem::take(&mut small), false);
            size = 0;
            if nal.len() <= ROOM {
                self.packet(last, &[nal]);
            } else {
                self.fragments(kind, nal, last);
            }
        }
    }

    fn aggregate(&mut self, kind: VideoKind, nals: &[&[u8]], last: bool) {
        let (first, others) = match nals {
            [] => return,
            [one] => return self.packet(last, &[one]),
            [first, others @ ..] => (first, others),
        };
        // The strictest reference of all (RFC 6184, 5.7); layer and temporal id of the lowest (RFC
        // 7798, 4.4.2).
        let head = match kind {
            VideoKind::H264 => vec![others.iter().fold(first[0] & 0x60, |m, n| m.max(n[0] & 0x60)) | 24],
            VideoKind::H265 => vec![48 << 1, others.iter().fold(first[1] & 7, |m, n| m.min(n[1] & 7))],
        };
        let sizes: Vec<[u8; 2]> = nals.iter().map(|n| (n.len() as u16).to_be_bytes()).collect();
        let mut parts: Vec<&[u8]> = vec![&head];
        for (size, nal) in sizes.iter().zip(nals) {
            parts.extend([&size[..], nal]);
        }
        self.packet(last, &parts);
    }

    fn fragments(&mut self, kind: VideoKind, nal: &[u8], last: bool) {
        let body = &nal[kind.header()..];
        let room = ROOM - kind.header() - 1;
        let count = body.len().div_ceil(room);
        for (n, part) in body.chunks(room).enumerate() {
            let bits = u8::from(n == 0) << 7 | u8::from(n + 1 == count) << 6;
            let head = match kind {
                VideoKind::H264 => vec![nal[0] & 0xE0 | 28, bits | nal[0] & 0x1F],
                VideoKind::H265 => vec![nal[0] & 0x81 | 49 << 1, nal[1], bits | nal[0] >> 1 & 0x3F],
            };
            self.packet(last && n + 1 == count, &[&head, part]);
        }
    }

    /// RFC 3190, 4: samples of 24 bits, whole blocks in each packet.
    fn pcm(&mut self, data: &[u8], channels: u8) {
        let block = PCM_SAMPLE * usize::from(channels.max(1));
        for part in data.chunks(ROOM / block * block) {
            self.packet(false, &[part]);
            self.timestamp = self.timestamp.wrapping_add((part.len() / block) as u32);
        }
    }

    /// RFC 3640, mode AAC-hbr: sizes of 13 bits, indexes of 3.
    fn aac(&mut self, data: &[u8], samples: u32) {
        for (_, frame) in adts::frames(data) {
            let header = if frame[1] & 1 == 0 { 9 } else { 7 };
            let Some(body) = frame.get(header..) else { continue };
            let size = ((body.len() as u16) << 3).to_be_bytes();
            let count = body.len().div_ceil(ROOM - 4).max(1);
            for (n, part) in body.chunks(ROOM - 4).enumerate() {
                self.packet(n + 1 == count, &[&[0, 16], &size, part]);
            }
            self.timestamp = self.timestamp.wrapping_add(samples);
        }
    }
}
