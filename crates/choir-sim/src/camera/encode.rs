//! Encodes the loop once with a bare H.264 encoder.

use super::{CameraSettings, scene::Scene};
use crate::SimError;
use choir_proto::h26x::is_keyframe;
use openh264::{
    OpenH264API,
    encoder::{BitRate, Encoder, EncoderConfig, FrameRate, IntraFramePeriod, Profile, RateControlMode},
    formats::YUVSlices,
};

/// Frames that the encoder may leave out in a row before the bitrate counts as too low.
const SKIPS_MAX: usize = 50;

/// One encoded frame.
#[derive(Debug, Clone)]
pub struct Frame {
    /// Byte stream.
    pub data: Vec<u8>,
    /// Decoding can start here.
    pub keyframe: bool,
}

/// Frames that can be played round and round.
#[derive(Debug, Clone)]
pub struct Loop {
    /// In order.
    pub frames: Vec<Frame>,
}

/// A bare encoder with a camera's settings.
pub(super) struct FrameEncoder {
    encoder: Encoder,
    who: String,
    says: String,
}

impl FrameEncoder {
    /// # Errors
    /// The encoder refuses the settings.
    pub fn new(s: &CameraSettings) -> Result<Self, SimError> {
        let fail = |what: String| SimError::Encoder { who: s.name.clone(), what };
        let (w, h) = s.size;
        if w % 2 + h % 2 > 0 || !(160..=4096).contains(&w) || !(90..=2304).contains(&h) {
            return Err(fail(format!("{w}x{h}: both must be even, from 160x90 to 4096x2304")));
        }
        // What a transport stream or filler needs beside the picture.
        let video = if s.constant || s.padded { s.bitrate.0 * 80 / 100 } else { s.bitrate.0 };
        let config = EncoderConfig::new()
            .bitrate(BitRate::from_bps(u32::try_from(video).unwrap_or(u32::MAX)))
            .max_frame_rate(FrameRate::from_hz(s.rate as f32))
            .rate_control_mode(RateControlMode::Bitrate)
            .intra_frame_period(IntraFramePeriod::from_num_frames(gop(s)))
            .profile(Profile::High)
            .skip_frames(true)
            .scene_change_detect(false)
            .num_threads(1);
        let encoder = Encoder::with_api_config(OpenH264API::from_source(), config).map_err(|e| fail(e.to_string()))?;
        Ok(Self { encoder, who: s.name.clone(), says: format!("{} at {w}x{h}: too little for this picture", s.bitrate) })
    }

    /// # Errors
    /// The bitrate is too low for any picture.
    pub fn encode(&mut self, scene: &Scene, keyframe: bool) -> Result<Frame, SimError> {
        if keyframe {
            self.encoder.force_intra_frame();
        }
        let (w, h) = (scene.width, scene.height);
        let picture = YUVSlices::new((&scene.y, &scene.u, &scene.v), (w, h), (w, w / 2, w / 2));
        // The encoder leaves a frame out when it has overspent; asked again, it has the next
        // frame's bits.
        for _ in 0..SKIPS_MAX {
            let encoded = self.encoder.encode(&picture).map_err(|e| SimError::Encoder { who: self.who.clone(), what: e.to_string() })?;
            let data = encoded.to_vec();
            if !data.is_empty() {
                return Ok(Frame { keyframe: is_keyframe(&data), data });
            }
        }
        Err(SimError::Encoder { who: self.who.clone(), what: self.says.clone() })
    }
}

/// Frames from keyframe to keyframe.
pub(super) fn gop(s: &CameraSettings) -> u32 {
    ((s.keyframe * f64::from(s.rate)).round() as u32).max(1)
}

/// Frames of the loop: whole keyframe intervals, so that it closes without a picture that needs
/// another.
pub(super) fn loop_length(s: &CameraSettings) -> u32 {
    let wanted = (s.loop_for.as_secs_f64() * f64::from(s.rate)).round() as u32;
    wanted.div_ceil(gop(s)).max(1) * gop(s)
}

/// What gives another camera another water.
pub(super) fn tint(s: &CameraSettings) -> u8 {
    s.name.bytes().fold(0, u8::wrapping_add)
}

/// Draws and encodes the loop. Takes about a second for two seconds of 1280x720: not for an async
/// task.
///
/// # Errors
/// The encoder refuses the settings.
pub fn encode_loop(s: &CameraSettings) -> Result<Loop, SimError> {
    let mut encoder = FrameEncoder::new(s)?;
    let (gop, count) = (gop(s), loop_length(s));
    let mut scene = Scene::new(s.size.0 as usize, s.size.1 as usize, tint(s));
    let frame = |n: u32| {
        scene.draw(n as usize, count as usize, &s.name);
        encoder.encode(&scene, n.is_multiple_of(gop))
    };
    Ok(Loop { frames: (0..count).map(frame).collect::<Result<_, _>>()? })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::read_blocks;
    use choir_core::{
        link::{Link, UdpLink},
        units::Bitrate,
    };
    use openh264::{decoder::Decoder, formats::YUVSource};

    #[test]
    fn the_loop_decodes_with_every_number_readable() {
        let to = Link::Udp(UdpLink { port: 1, ..UdpLink::default() });
        let settings = CameraSettings { size: (640, 360), bitrate: Bitrate(2_000_000), ..CameraSettings::new("finish-tower", to) };
        let encoded = encode_loop(&settings).expect("encoded");
        assert_eq!(encoded.frames.len(), 50);
        let keyframes: Vec<_> = (0..50).filter(|n| encoded.frames[*n].keyframe).collect();
        assert_eq!(keyframes, [0, 25]);
        let mut decoder = Decoder::new().expect("decoder");
        // Twice round: the loop must close.
        for n in 0..100usize {
            let yuv = decoder.decode(&encoded.frames[n % 50].data).expect("decodes").expect("a picture");
            let (w, h) = yuv.dimensions();
            assert_eq!(read_blocks(yuv.y(), w, h, yuv.strides().0), Some((n % 50) as u16));
        }
        let bits = encoded.frames.iter().map(|f| f.data.len() * 8).sum::<usize>() / 2;
        assert!((400_000..2_200_000).contains(&bits), "{bits} bits per second for 1.6 Mbit/s of video");
    }
}
