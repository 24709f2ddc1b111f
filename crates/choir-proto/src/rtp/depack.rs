//! From packets to access units, by payload format.

use super::{
    RtpPacket,
    assembler::Assembler,
    params::{ParameterSets, VideoKind},
    payload::{AuHeaders, Damage, PayloadFormat, RawUnit},
};
use crate::{
    audio::{AacConfig, StreamMux},
    media::Codec,
};
use bytes::{Bytes, BytesMut};
use std::time::Instant;

/// Largest audio packet that is put together from fragments.
const AUDIO_MAX: usize = 64 << 10;

#[derive(Debug)]
enum Format {
    Video(Box<Assembler>),
    Aac { config: AacConfig, headers: AuHeaders, fragment: Option<(u32, BytesMut, usize)> },
    Latm { mux: Option<StreamMux>, in_band: bool, element: Option<(u32, BytesMut)> },
    Plain,
}

/// Takes the packets of one track in order.
#[derive(Debug)]
pub struct Depacketizer {
    format: Format,
    /// H.265 with decoding order numbers in its aggregates and fragments.
    order_numbers: bool,
    /// Packets of which nothing could be made.
    malformed: u64,
}

impl Depacketizer {
    /// For a payload format as a session description has it.
    #[must_use]
    pub fn new(format: &PayloadFormat, damage: Damage) -> Self {
        let video = |kind, sets: &ParameterSets| Format::Video(Box::new(Assembler::new(kind, sets.clone(), damage)));
        let mut order_numbers = false;
        let format = match format {
            PayloadFormat::H264 { sets } => video(VideoKind::H264, sets),
            PayloadFormat::H265 { sets, order_numbers: numbers } => {
                order_numbers = *numbers;
                video(VideoKind::H265, sets)
            }
            PayloadFormat::Aac { config, headers } => Format::Aac { config: *config, headers: *headers, fragment: None },
            PayloadFormat::Latm { mux, in_band } => Format::Latm { mux: *mux, in_band: *in_band, element: None },
            PayloadFormat::G711(_) | PayloadFormat::Ts => Format::Plain,
        };
        Self { format, order_numbers, malformed: 0 }
    }

    /// Packets of which nothing could be made.
    #[must_use]
    pub fn malformed(&self) -> u64 {
        self.malformed
    }

    /// Access units left out since something was missing.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        if let Format::Video(a) = &self.format { a.dropped } else { 0 }
    }

    /// Parameter sets known so far.
    #[must_use]
    pub fn sets(&self) -> Option<&ParameterSets> {
        if let Format::Video(a) = &self.format { Some(a.sets()) } else { None }
    }

    /// The AAC inside, also where only the packets tell it.
    #[must_use]
    pub fn aac(&self) -> Option<AacConfig> {
        match &self.format {
            Format::Aac { config, .. } => Some(*config),
            Format::Latm { mux, .. } => mux.map(|m| m.config),
            _ => None,
        }
    }

    /// Packets are missing before the next one.
    pub fn gap(&mut self) {
        match &mut self.format {
            Format::Video(a) => a.gap(),
            Format::Aac { fragment, .. } => *fragment = None,
            Format::Latm { element, .. } => *element = None,
            Format::Plain => {}
        }
    }

    /// Takes a packet; appends what it completes.
    pub fn push(&mut self, packet: &RtpPacket, now: Instant, out: &mut Vec<RawUnit>) {
        let done = match &mut self.format {
            Format::Video(a) => {
                a.at(packet.timestamp, now, out);
                let done = match a.kind() {
                    VideoKind::H264 => h264(a, &packet.payload),
                    VideoKind::H265 => h265(a, &packet.payload, self.order_numbers),
                };
                if done.is_none() {
                    a.broken();
                }
                a.packet_done(packet.marker, out);
                done
            }
            Format::Aac { config, headers, fragment } => aac(config, headers, fragment, packet, now, out),
            Format::Latm { mux, in_band, element } => latm(mux, *in_band, element, packet, now, out),
            Format::Plain => {
                let unit = RawUnit { timestamp: packet.timestamp, keyframe: true, damaged: false, arrived: now, pieces: Vec::new() };
                if !packet.payload.is_empty() {
                    out.push(RawUnit { pieces: vec![packet.payload.clone()], ..unit });
                }
                Some(())
            }
        };
        if done.is_none() {
            self.malformed += 1;
        }
    }
}

/// RFC 6184, 5.2: single NAL units, aggregates of one time, fragments.
fn h264(a: &mut Assembler, payload: &Bytes) -> Option<()> {
    match *payload.first()? & 0x1F {
        // Zero is no NAL unit, unless a start code was left on.
        0 if !payload.starts_with(&[0, 0, 1]) && !payload.starts_with(&[0, 0, 0, 1]) => None,
        0..=23 => {
            a.nal(payload.clone());
            Some(())
        }
        24 => aggregate(a, payload, 1),
        // With a decoding order number in front.
        25 => aggregate(a, payload, 3),
        kind @ (28 | 29) => {
            let fu = *payload.get(1)?;
            let header = [payload[0] & 0xE0 | fu & 0x1F, 0];
            let first = fu & 0x80 != 0;
            let skip = if kind == 29 && first { 4 } else { 2 };
            fragment(a, header, payload, skip, fu)
        }
        _ => None,
    }
}

/// RFC 7798, 4.4.
fn h265(a: &mut Assembler, payload: &Bytes, order_numbers: bool) -> Option<()> {
    let numbers = if order_numbers { 2 } else { 0 };
    match *payload.first()? >> 1 & 0x3F {
        48 => {
            // Decoding order numbers: two bytes before the first unit, one before each other.
            if !order_numbers {
                return aggregate(a, payload, 2);
            }
            let mut at = 2 + numbers;
            while at < payload.len() {
                let size = usize::from(crate::bits::be16(payload, at)?);
                (size > 0 && at + 2 + size <= payload.len()).then(|| a.nal(payload.slice(at + 2..at + 2 + size)))?;
                at += 3 + size;
            }
            Some(())
        }
        49 => {
            let fu = *payload.get(2)?;
            let header = [payload[0] & 0x81 | (fu & 0x3F) << 1, payload[1]];
            fragment(a, header, payload, 3 + numbers, fu)
        }
        50.. => None,
        _ if payload.len() < 3 => None,
        _ => {
            a.nal(if order_numbers { without_number(payload)? } else { payload.clone() });
            Some(())
        }
    }
}

/// A single unit whose order number stands behind its header: the two parts are put together, which
/// costs a copy that only such streams pay.
fn without_number(payload: &Bytes) -> Option<Bytes> {
    Some([payload.get(..2)?, payload.get(4..)?].concat().into())
}

fn aggregate(a: &mut Assembler, payload: &Bytes, start: usize) -> Option<()> {
    let mut at = start;
    while at < payload.len() {
        let size = usize::from(crate::bits::be16(payload, at)?);
        if size == 0 || at + 2 + size > payload.len() {
            return None;
        }
        a.nal(payload.slice(at + 2..at + 2 + size));
        at += 2 + size;
    }
    Some(())
}

fn fragment(a: &mut Assembler, header: [u8; 2], payload: &Bytes, skip: usize, fu: u8) -> Option<()> {
    let (first, last) = (fu & 0x80 != 0, fu & 0x40 != 0);
    if payload.len() <= skip {
        return None;
    }
    let rest = payload.slice(skip..);
    if first && last {
        // Not allowed, but some send it: a whole unit.
        let mut whole = BytesMut::from(&header[..a.kind().header()]);
        whole.extend_from_slice(&rest);
        a.nal(whole.freeze());
    } else if first {
        a.first_fragment(header, rest);
    } else {
        a.next_fragment(header, rest, last);
    }
    Some(())
}

fn adts(config: &AacConfig, frame: Bytes) -> Option<Vec<Bytes>> {
    Some(vec![Bytes::copy_from_slice(&config.adts_header(frame.len())?), frame])
}

/// RFC 3640, 3.2.
fn aac(
    config: &AacConfig,
    headers: &AuHeaders,
    fragment: &mut Option<(u32, BytesMut, usize)>,
    packet: &RtpPacket,
    now: Instant,
    out: &mut Vec<RawUnit>,
) -> Option<()> {
    let (sizes, mut at) = au_sizes(headers, &packet.payload)?;
    let unit =
        |timestamp, frame: Bytes| Some(RawUnit { timestamp, keyframe: true, damaged: false, arrived: now, pieces: adts(config, frame)? });
    let left = packet.payload.len() - at;
    if let [size] = sizes[..]
        && size > left
    {
        // One frame over several packets of the same time.
        let (time, data, whole) = fragment.get_or_insert_with(|| (packet.timestamp, BytesMut::new(), size));
        if *time != packet.timestamp || *whole != size || data.len() + left > size.min(AUDIO_MAX) {
            *fragment = None;
            return None;
        }
        data.extend_from_slice(&packet.payload[at..]);
        if data.len() == size
            && let Some((time, data, _)) = fragment.take()
        {
            out.push(unit(time, data.freeze())?);
        }
        return Some(());
    }
    *fragment = None;
    for (n, size) in sizes.into_iter().enumerate() {
        let frame = packet.payload.get(at..at + size).map(|_| packet.payload.slice(at..at + size))?;
        at += size;
        let timestamp = packet.timestamp.wrapping_add(n as u32 * config.frame_samples);
        out.push(unit(timestamp, frame)?);
    }
    Some(())
}

/// The sizes of the units in a packet, and where the first begins.
fn au_sizes(h: &AuHeaders, payload: &Bytes) -> Option<(Vec<usize>, usize)> {
    if h.size == 0 {
        let size = if h.constant_size > 0 { h.constant_size } else { payload.len() };
        return (size > 0).then(|| (vec![size; payload.len() / size], 0));
    }
    let bits = usize::from(crate::bits::be16(payload, 0)?);
    let section = payload.get(2..2 + bits.div_ceil(8))?;
    let mut at = 0;
    let mut read = |count: u32| {
        let mut value = 0usize;
        for _ in 0..count {
            let byte = section.get(at / 8)?;
            value = value << 1 | usize::from(byte >> (7 - at % 8) & 1);
            at += 1;
        }
        (at <= bits).then_some(value)
    };
    let mut sizes = Vec::new();
    while let Some(size) = read(h.size) {
        let index = read(if sizes.is_empty() { h.index } else { h.index_delta })?;
        // Interleaved units would have to wait for each other.
        if index != 0 && !sizes.is_empty() {
            return None;
        }
        for length in [h.cts_delta, h.dts_delta] {
            if length > 0 && read(1)? == 1 {
                read(length)?;
            }
        }
        read(h.random_access)?;
        read(h.stream_state)?;
        sizes.push(size);
    }
    let mut start = 2 + bits.div_ceil(8);
    if h.auxiliary > 0 {
        let bytes = (h.auxiliary as usize).div_ceil(8);
        let head = payload.get(start..start + bytes)?;
        let value = head.iter().fold(0usize, |v, b| v << 8 | usize::from(*b)) >> (bytes * 8 - h.auxiliary as usize);
        start += (h.auxiliary as usize + value).div_ceil(8);
    }
    (start <= payload.len() && !sizes.is_empty()).then_some((sizes, start))
}

/// RFC 6416, 6.2: one element, possibly over several packets, the marker on its last.
fn latm(
    mux: &mut Option<StreamMux>,
    in_band: bool,
    element: &mut Option<(u32, BytesMut)>,
    packet: &RtpPacket,
    now: Instant,
    out: &mut Vec<RawUnit>,
) -> Option<()> {
    let whole = match element.take() {
        Some((time, mut data)) if time == packet.timestamp && data.len() + packet.payload.len() <= AUDIO_MAX => {
            data.extend_from_slice(&packet.payload);
            data
        }
        _ if packet.marker => BytesMut::new(),
        _ => BytesMut::from(packet.payload.as_ref()),
    };
    if !packet.marker {
        *element = Some((packet.timestamp, whole));
        return Some(());
    }
    let data = if whole.is_empty() { packet.payload.clone() } else { whole.freeze() };
    let frames = if in_band { StreamMux::frames_in_band(mux, &data).ok()? } else { mux.as_ref()?.frames(&data).ok()? };
    let config = mux.as_ref()?.config;
    for (n, frame) in frames.into_iter().enumerate() {
        let timestamp = packet.timestamp.wrapping_add(n as u32 * config.frame_samples);
        out.push(RawUnit { timestamp, keyframe: true, damaged: false, arrived: now, pieces: adts(&config, frame)? });
    }
    Some(())
}

/// What a payload format comes out as.
impl From<&PayloadFormat> for Codec {
    fn from(format: &PayloadFormat) -> Self {
        match format {
            PayloadFormat::H264 { .. } => Self::H264,
            PayloadFormat::H265 { .. } => Self::H265,
            PayloadFormat::Aac { config, .. } => Self::Aac(*config),
            PayloadFormat::Latm { mux, .. } => {
                Self::Aac(mux.map_or(AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 }, |m| m.config))
            }
            PayloadFormat::G711(law) => Self::G711(*law),
            PayloadFormat::Ts => Self::Ts,
        }
    }
}
