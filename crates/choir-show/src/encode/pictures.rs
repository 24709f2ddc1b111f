//! Pictures as a stream of H.264: slates, walls, and what is encoded anew.

use choir_proto::h26x::is_keyframe;
use openh264::{
    OpenH264API,
    encoder::{BitRate, Encoder, EncoderConfig, FrameRate, IntraFramePeriod, Profile, QpRange, RateControlMode},
    formats::{RgbSliceU8, YUVBuffer, YUVSource},
};

/// Of a picture that does not change: letters stay sharp, and what stays costs next to nothing.
const QUANTISER: u8 = 26;

/// Pictures that may be left out in a row.
const SKIPS_MAX: u32 = 50;

/// How much it may take.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Spend {
    /// What pictures that do not change need.
    Still,
    /// Bits per second.
    Rate(u32),
}

/// An encoder of one size (H.264, high profile, without B-pictures).
pub(crate) struct Pictures {
    encoder: Encoder,
    size: (usize, usize),
}

impl Pictures {
    /// With a keyframe each so many pictures.
    pub fn new(size: (usize, usize), rate: f64, keyframe: u32, spend: Spend) -> Result<Self, String> {
        let config = EncoderConfig::new()
            .max_frame_rate(FrameRate::from_hz(rate as f32))
            .intra_frame_period(IntraFramePeriod::from_num_frames(keyframe))
            .profile(Profile::High)
            // Without it the encoder warns on standard error that a rate cannot be kept.
            .skip_frames(matches!(spend, Spend::Rate(_)))
            .scene_change_detect(false)
            .num_threads(1);
        let config = match spend {
            Spend::Still => config.rate_control_mode(RateControlMode::Off).qp(QpRange::new(QUANTISER, QUANTISER)),
            Spend::Rate(bps) => config.rate_control_mode(RateControlMode::Bitrate).bitrate(BitRate::from_bps(bps)),
        };
        let encoder = Encoder::with_api_config(OpenH264API::from_source(), config).map_err(|e| e.to_string())?;
        Ok(Self { encoder, size })
    }

    /// Pixels in RGB, ready to be encoded.
    pub fn picture(&self, rgb: &[u8]) -> YUVBuffer {
        YUVBuffer::from_rgb8_source(RgbSliceU8::new(rgb, self.size))
    }

    /// Encodes one, as a keyframe if it has to be: takes some ms, so not for an async task.
    pub fn encode(&mut self, picture: &impl YUVSource, keyframe: bool) -> Result<(Vec<u8>, bool), String> {
        if keyframe {
            self.encoder.force_intra_frame();
        }
        // One that has overspent leaves a picture out; asked again, it has the next one's bits.
        for _ in 0..SKIPS_MAX {
            let data = self.encoder.encode(picture).map_err(|e| e.to_string())?.to_vec();
            if !data.is_empty() {
                let keyframe = is_keyframe(&data);
                return Ok((data, keyframe));
            }
        }
        Err("the rate is too low for this picture".into())
    }
}
