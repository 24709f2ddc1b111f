//! Decodes sound and measures it: AAC-LC in ADTS, and PCM (ST 302), in which G.711 comes as well.

use choir_core::{content::SoundMeasure, view::LevelsView};
use choir_proto::{
    adts,
    audio::{ST302_RATE, st302_samples},
    ts::{AccessUnit, StreamKind},
};
use ebur128::{EbuR128, Mode};
use symphonia_codec_aac::AacDecoder;
use symphonia_core::{
    audio::layouts,
    codecs::audio::{AudioCodecParameters, AudioDecoder as _, AudioDecoderOptions, well_known::CODEC_ID_AAC},
    packet::PacketRef,
    units::{Duration, Timestamp},
};

/// Below this loudness is not told, LUFS: the gate of ITU-R BS.1770.
const LOUDNESS_LEAST: f64 = -70.0;

/// Sound of one kind, rate and number of channels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Kind {
    kind: StreamKind,
    rate: u32,
    channels: u8,
}

/// Measures the sound of one source.
pub(super) struct SoundMeter {
    kind: Kind,
    decoder: Option<AacDecoder>,
    loudness: Option<EbuR128>,
    /// Momentary and short term, and the samples of each channel that have come since they were
    /// computed.
    told: ([Option<f64>; 2], usize),
    samples: Vec<f32>,
}

impl SoundMeter {
    fn new(kind: Kind) -> Self {
        let decoder = if kind.kind == StreamKind::AacAdts { aac(kind) } else { None };
        let loudness = EbuR128::new(kind.channels.into(), kind.rate, Mode::M | Mode::S).ok();
        Self { kind, decoder, loudness, told: ([None; 2], 0), samples: Vec::new() }
    }

    fn of(meter: &mut Option<Self>, kind: Kind) -> &mut Self {
        if meter.as_ref().is_some_and(|m| m.kind != kind) {
            *meter = None;
        }
        meter.get_or_insert_with(|| Self::new(kind))
    }

    /// Takes a unit of sound; another kind of sound begins anew.
    pub fn push(meter: &mut Option<Self>, unit: &AccessUnit) {
        let kind = unit.kind;
        match kind {
            StreamKind::AacAdts => {
                for (head, frame) in adts::frames(&unit.data) {
                    Self::of(meter, Kind { kind, rate: head.sample_rate, channels: head.channels }).aac(frame);
                }
            }
            StreamKind::St302 => {
                let Some((channels, pcm)) = st302_samples(&unit.data) else { return };
                let sample = |b: &[u8]| i32::from_be_bytes([b[0], b[1], b[2], 0]) as f32 / i32::MAX as f32;
                Self::of(meter, Kind { kind, rate: ST302_RATE, channels }).samples.extend(pcm.chunks_exact(3).map(sample));
            }
            _ => {}
        }
    }

    fn aac(&mut self, frame: &[u8]) {
        // A header without a checksum is two bytes shorter.
        let head = if frame.get(1).is_some_and(|b| b & 1 == 1) { 7 } else { 9 };
        let (Some(decoder), Some(data)) = (&mut self.decoder, frame.get(head..)) else { return };
        let packet = PacketRef::new(0, Timestamp::new(0), Duration::new(1024), data);
        let Ok(decoded) = decoder.decode_ref(&packet) else { return };
        let mut one = Vec::new();
        decoded.copy_to_vec_interleaved::<f32>(&mut one);
        self.samples.append(&mut one);
    }

    /// What has come since the last time; nothing where it cannot be decoded.
    pub fn measure(&mut self) -> Option<(SoundMeasure, LevelsView)> {
        if self.samples.is_empty() {
            return None;
        }
        let samples = std::mem::take(&mut self.samples);
        let measure = SoundMeasure::of(&samples, self.kind.channels.into(), self.kind.rate);
        if let Some(l) = &mut self.loudness {
            // It fails only for a number of samples that does not fit the channels.
            let _ = l.add_frames_f32(&samples);
        }
        self.told.1 += samples.len() / usize::from(self.kind.channels.max(1));
        // Each goes over seconds of samples.
        if self.told.1 >= self.kind.rate as usize * 4 / 5
            && let Some(l) = &self.loudness
        {
            let all = [l.loudness_momentary(), l.loudness_shortterm()];
            self.told = (all.map(|v| v.ok().filter(|v| *v > LOUDNESS_LEAST)), 0);
        }
        let [momentary_lufs, short_term_lufs] = self.told.0;
        let levels = LevelsView { peak_dbfs: measure.peaks.clone(), momentary_lufs, short_term_lufs, apart_ms: None };
        Some((measure, levels))
    }
}

fn aac(kind: Kind) -> Option<AacDecoder> {
    let layout = match kind.channels {
        1 => layouts::CHANNEL_LAYOUT_MONO,
        2 => layouts::CHANNEL_LAYOUT_STEREO,
        _ => return None,
    };
    let mut params = AudioCodecParameters::new();
    params.for_codec(CODEC_ID_AAC).with_sample_rate(kind.rate).with_channels(layout);
    AacDecoder::try_new(&params, &AudioDecoderOptions::default()).ok()
}
