//! Transport streams for tests, made picture by picture, whose contents can be known again.

use bytes::Bytes;
use choir_proto::{
    audio::st302_frame,
    ts::{MuxRate, PmtStream, StreamKind, TS_PACKET, TsWriter, Unit, WriterConfig},
};

/// 1280x720, high profile, level 3.1, 25 frames per second, as an encoder wrote it.
pub const SPS: &[u8] = &[
    0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00, 0x80, 0x00,
    0x00, 0x19, 0x07, 0x8c, 0x18, 0xcb,
];
const PPS: &[u8] = &[0x68, 0xEE, 0x3C, 0x80];
/// AAC at 48 kHz, stereo.
pub const AAC_TICKS: u64 = 1920;

/// What a stream is made of.
#[derive(Debug, Clone)]
pub struct Make {
    /// Written into every picture.
    pub id: u8,
    pub kind: StreamKind,
    /// Pictures between keyframes.
    pub gop: u64,
    /// 90 kHz ticks between pictures.
    pub frame: u64,
    /// Bytes of a picture; a keyframe has three times as many.
    pub size: usize,
    /// B-pictures between two others.
    pub b: u64,
    /// Clock before decoding, 90 kHz ticks.
    pub lead: u64,
    /// First decoding time.
    pub dts: u64,
    /// AAC frames in a PES packet; 0 for no sound.
    pub aac: u64,
    /// The sound is PCM, 20 ms in a PES packet, instead.
    pub pcm: bool,
    /// Value of each of its samples.
    pub level: i32,
    /// Sound comes so much before (after, if negative) the pictures of its time.
    pub sound_ahead: i64,
    pub config: WriterConfig,
}

impl Default for Make {
    fn default() -> Self {
        Self {
            id: 1,
            kind: StreamKind::H264,
            gop: 25,
            frame: 3600,
            size: 3000,
            b: 0,
            lead: 90 * 200,
            dts: 900_000,
            aac: 2,
            pcm: false,
            level: 0,
            sound_ahead: 0,
            config: WriterConfig::default(),
        }
    }
}

/// The bytes of a picture: parameter sets, number, noise, end mark.
pub fn picture(make: &Make, n: u64) -> Vec<u8> {
    let keyframe = n.is_multiple_of(make.gop);
    let mut data = Vec::new();
    let mut nal = |bytes: &[u8]| {
        data.extend_from_slice(&[0, 0, 0, 1]);
        data.extend_from_slice(bytes);
    };
    let header: &[u8] = if make.kind == StreamKind::H265 {
        if keyframe {
            nal(&[0x40, 1, 0x0C, 1, 0xFF]);
            nal(&[0x42, 1, 1, 1, 0x60]);
            nal(&[0x44, 1, 0xC1, 0x72]);
        }
        if keyframe { &[0x26, 1] } else { &[0x02, 1] }
    } else {
        if keyframe {
            nal(SPS);
            nal(PPS);
        }
        if keyframe { &[0x65] } else { &[0x41] }
    };
    nal(header);
    // The first bit: a picture's first slice. Then who and which.
    data.extend_from_slice(&[0x80, 0xA0 | make.id]);
    data.extend(n.to_be_bytes().iter().flat_map(|b| [0x10 | b >> 4, 0x10 | b & 15]));
    let size = if keyframe { make.size * 3 } else { make.size };
    data.extend((0..size).map(|i| (i as u64 * 31 + n * 7) as u8 | 4));
    data.extend_from_slice(&[0x55, 0x77]);
    data
}

/// A frame of AAC whose bytes are all alike.
pub fn aac() -> Vec<u8> {
    let mut f = vec![0xFF, 0xF1, 0x4C, 0x80, 0x02, 0x5F, 0xFC];
    f.resize(18, 9);
    f
}

/// Of picture `n` in decoding order: how many pictures later it is shown than it is decoded.
pub fn shown_later(make: &Make, n: u64) -> u64 {
    if make.b == 0 {
        return 0;
    }
    let k = n % make.gop;
    // I P B B P B B: each B at once, all others after as many.
    match k {
        0 => 1,
        _ if (k - 1).is_multiple_of(make.b + 1) => 1 + make.b.min(make.gop - 1 - k),
        _ => 0,
    }
}

/// Pieces of the stream with the time at which each leaves, µs: a picture's packets are spread over
/// the time of a picture.
pub fn stream(make: &Make, pictures: u64, start_us: u64) -> Vec<(u64, Bytes)> {
    let video = make.config.video.map(|v| PmtStream { kind: make.kind, ..v });
    let audio = make.config.audio.filter(|_| make.aac > 0).map(|a| if make.pcm { PmtStream { kind: StreamKind::St302, ..a } } else { a });
    let mut writer = TsWriter::new(WriterConfig { video, audio, lead: make.lead, rate: MuxRate::Variable, ..make.config.clone() });
    let (mut sound, mut sample) = (0, 0);
    let mut parts = Vec::new();
    for n in 0..pictures {
        let mut out = Vec::new();
        let dts = make.dts + n * make.frame;
        let pts = dts + shown_later(make, n) * make.frame;
        let data = picture(make, n);
        let keyframe = n.is_multiple_of(make.gop);
        writer.write(&Unit { video: true, pts, dts: Some(dts), keyframe, data: &[&data] }, &mut out);
        while audio.is_some() && (sound as i64) < (n * make.frame) as i64 + make.sound_ahead {
            let (data, ticks) = match make.pcm {
                true => (st302_frame(&make.level.to_be_bytes()[1..].repeat(960 * 2), 2, &mut sample), 1800),
                false => (aac().repeat(make.aac as usize), AAC_TICKS * make.aac),
            };
            writer.write(&Unit { video: false, pts: make.dts + sound, dts: None, keyframe: true, data: &[&data] }, &mut out);
            sound += ticks;
        }
        let (from, each) = (start_us + n * make.frame * 100 / 9, 7 * TS_PACKET);
        let count = out.len().div_ceil(each) as u64;
        let spread = make.frame * 100 / 9 * 9 / 10;
        parts.extend(out.chunks(each).enumerate().map(|(i, p)| (from + spread * i as u64 / count, Bytes::copy_from_slice(p))));
    }
    parts
}
