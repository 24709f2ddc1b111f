//! From wishes to requests: only what differs is sent.

use super::{
    read::media_of,
    session::{OnvifError, Session, Which},
};
use choir_core::device::{Difference, RateControl, Sound, StreamView, StreamWish};
use choir_proto::onvif::{
    Call,
    media::{self, Group, Media, Profile},
};

/// One request that changes something, and what it changes in words.
#[derive(Debug, Clone)]
pub struct Change {
    /// `main: size, bitrate`.
    pub what: String,
    which: Which,
    call: Call,
}

impl Change {
    /// Sends it.
    ///
    /// # Errors
    /// The device refuses or goes.
    pub async fn send(&self, s: &mut Session) -> Result<(), OnvifError> {
        s.call(self.which, &self.call).await.map(|_| ())
    }
}

/// Requests for one stream, in the order in which they must go.
///
/// # Errors
/// The device does not tell its audio encoders.
pub async fn changes_of(
    s: &mut Session,
    profiles: &[Profile],
    place: usize,
    is: &StreamView,
    wish: &StreamWish,
    differs: &[Difference],
) -> Result<Vec<Change>, OnvifError> {
    let (m, which) = media_of(s);
    let Some(profile) = profiles.get(place) else { return Ok(Vec::new()) };
    let names: Vec<&str> = differs.iter().filter_map(|d| d.what.strip_prefix(is.name.as_str())).map(str::trim).collect();
    let mut changes = Vec::new();
    let change = |what: &str, call| Change { what: format!("{}: {what}", is.name), which, call };
    if let (Some(input), Some(source)) = (wish.input.as_ref().filter(|_| names.contains(&"input")), &profile.source) {
        let mut source = source.clone();
        source.input.clone_from(input);
        changes.push(change("input", media::set_input(m, &source)));
    }
    let encoder: Vec<&str> = names.iter().copied().filter(|n| *n != "input" && *n != "audio").collect();
    if let (false, Some(call)) = (encoder.is_empty(), encoder_call(m, profile, is, wish)) {
        changes.push(change(&encoder.join(", "), call));
    }
    if let Some(sound) = wish.audio.as_ref().filter(|_| names.contains(&"audio")) {
        for call in sound_calls(s, m, which, profile, sound).await? {
            changes.push(change("audio", call));
        }
    }
    Ok(changes)
}

fn encoder_call(m: Media, profile: &Profile, is: &StreamView, wish: &StreamWish) -> Option<Call> {
    let mut v = profile.video.clone()?;
    if let Some(codec) = &wish.codec {
        v.encoding = codec.to_uppercase();
    }
    let changed_codec = wish.codec.is_some() && wish.codec != is.codec;
    let options = is.options.iter().find(|o| Some(&o.codec) == wish.codec.as_ref().or(is.codec.as_ref()));
    let known = options.map(|o| o.profiles.as_slice()).unwrap_or_default();
    if let Some(p) = &wish.profile {
        v.profile = Some(as_standard(p));
    } else if changed_codec && !known.is_empty() && !v.profile.as_ref().is_some_and(|p| known.contains(&p.to_lowercase())) {
        // The old codec's profile means nothing to the new one.
        v.profile = known.first().map(|p| as_standard(p));
    }
    if let Some(size) = wish.size {
        v.size = size;
    }
    if let Some(rate) = wish.rate {
        v.rate = rate;
    }
    if let Some(bitrate) = wish.bitrate {
        v.kbps = u32::try_from(bitrate.0 / 1000).unwrap_or(u32::MAX);
    }
    if let Some(control) = wish.rate_control.filter(|_| m == Media::Two) {
        v.constant = Some(control == RateControl::Constant);
    }
    if let Some(keyframe) = wish.keyframe {
        v.gop = Some(keyframe.frames(v.rate));
    }
    if let Some(group) = wish.multicast {
        let ttl = v.group.as_ref().map_or(1, |g| g.ttl);
        v.group = group.map(|(ip, port)| Group { address: ip.to_string(), port, ttl });
    }
    Some(media::set_video_encoder(m, &v))
}

/// `High`, `Main10`, as the standard writes them.
fn as_standard(profile: &str) -> String {
    let mut letters = profile.chars();
    letters.next().map_or_else(String::new, |f| f.to_uppercase().chain(letters).collect())
}

async fn sound_calls(s: &mut Session, m: Media, which: Which, profile: &Profile, sound: &Sound) -> Result<Vec<Call>, OnvifError> {
    if *sound == Sound::Off {
        return Ok(vec![media::set_sound(m, &profile.token, None)]);
    }
    let mut calls = Vec::new();
    let mut encoder = profile.audio.clone();
    if encoder.is_none() {
        encoder = media::read_audio_encoders(&s.call(which, &media::get_audio_encoders(m)).await?).into_iter().next();
    }
    let Some(mut encoder) = encoder else {
        return Err(OnvifError::Strange { action: "audio".into(), cause: "the device has no audio encoder".into() });
    };
    if let Sound::Codec(codec) = sound {
        encoder.encoding = match (m, codec.as_str()) {
            (Media::One, c) => c.to_uppercase(),
            (Media::Two, "aac") => "MP4A-LATM".into(),
            (Media::Two, _) => "PCMU".into(),
        };
        (encoder.kbps, encoder.khz) = if codec == "g711" { (64, 8) } else { (encoder.kbps.max(96), encoder.khz.max(48)) };
        calls.push(media::set_audio_encoder(m, &encoder));
    }
    if profile.audio.is_none() {
        calls.push(media::set_sound(m, &profile.token, Some(&encoder.token)));
    }
    Ok(calls)
}
