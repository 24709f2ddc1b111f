//! Reads everything that a device says of itself.

use super::session::{OnvifError, Session, Which};
use crate::http::split_url;
use choir_core::device::{DeviceView, InputState, NetworkView, StreamOptions, StreamView};
use choir_proto::onvif::{
    device,
    media::{self, EncoderOptions, Media, Profile, Rates},
};
use std::net::Ipv4Addr;

/// The service by which streams are read and set.
pub(super) fn media_of(s: &Session) -> (Media, Which) {
    if s.services.media2.is_some() { (Media::Two, Which::Media2) } else { (Media::One, Which::Media) }
}

/// `h264` for `H264`, `H.264`.
#[must_use]
pub fn codec_of(encoding: &str) -> String {
    encoding.to_lowercase().replace(['.', '-'], "")
}

/// A codec's name as audio devices and engineers write it.
fn sound_of(encoding: &str) -> String {
    match encoding {
        "MP4A-LATM" | "MPEG4-GENERIC" | "AAC" => "aac".into(),
        "PCMU" | "PCMA" | "G711" => "g711".into(),
        other => other.to_lowercase(),
    }
}

/// Reads it all, and with it the streams as they are changed.
///
/// # Errors
/// The device refuses or goes.
pub async fn read_device(s: &mut Session, name: &str, title: &str) -> Result<(DeviceView, Vec<Profile>), OnvifError> {
    let (streams, profiles) = read_streams(s).await?;
    let network = device::read_network(&s.call(Which::Device, &device::get_network()).await?);
    let gateway = match s.call(Which::Device, &device::get_gateway()).await {
        Ok(answer) => device::read_gateway(&answer),
        Err(e) if e.is_unknown_action() => None,
        Err(e) => return Err(e),
    };
    let inputs = read_inputs(s).await?;
    let view = DeviceView {
        name: name.into(),
        title: title.into(),
        address: s.at().to_string(),
        control: "onvif".into(),
        maker: s.identity.maker.clone(),
        model: s.identity.model.clone(),
        firmware: s.identity.firmware.clone(),
        serial: s.identity.serial.clone(),
        clock_ahead_ms: s.clock_ahead_ms(),
        login: s.login(),
        network: network.map(|n| NetworkView { mac: n.mac, address: n.address, dhcp: n.dhcp, gateway }),
        inputs,
        steered: profiles.iter().any(|p| p.ptz.is_some()) && s.services.ptz.is_some(),
        streams,
        notes: s.notes().to_vec(),
    };
    Ok((view, profiles))
}

/// Reads the inputs, which only the first media service tells.
///
/// # Errors
/// The device refuses or goes.
async fn read_inputs(s: &mut Session) -> Result<Vec<InputState>, OnvifError> {
    match s.call(Which::Media, &media::get_inputs()).await {
        Ok(answer) => Ok(media::read_inputs(&answer)
            .into_iter()
            .map(|i| InputState { name: i.token, signal: (i.rate > 0.0 && i.size.0 > 0).then_some((i.size.0, i.size.1, i.rate)) })
            .collect()),
        Err(e) if e.is_unknown_action() => Ok(Vec::new()),
        Err(e) => Err(e),
    }
}

/// Reads the streams: the first is the main one, the next with an encoder of its own the sub
/// stream.
///
/// # Errors
/// The device refuses or goes.
pub async fn read_streams(s: &mut Session) -> Result<(Vec<StreamView>, Vec<Profile>), OnvifError> {
    let (m, which) = media_of(s);
    let profiles = stream_profiles(s).await?;
    let mut views = Vec::new();
    for (n, p) in profiles.iter().enumerate() {
        let Some(v) = &p.video else { continue };
        let options = match s.call(which, &media::get_options(m, &v.token, &p.token)).await {
            Ok(answer) => media::read_options(m, &answer).into_iter().map(options_view).collect(),
            Err(e) if e.is_unknown_action() => Vec::new(),
            Err(e) => return Err(e),
        };
        let url = match s.call(which, &media::get_stream_url(m, &p.token)).await {
            Ok(answer) => media::read_stream_url(&answer).map(|u| reachable(s, &u)),
            Err(OnvifError::Fault { fault, .. }) => {
                s.note(format!("it gives no address for stream {}: {fault}", n + 1));
                None
            }
            Err(e) => return Err(e),
        };
        views.push(StreamView {
            name: choir_core::device::STREAMS.get(n).map_or_else(|| (n + 1).to_string(), |w| (*w).to_owned()),
            title: p.name.clone(),
            input: p.source.as_ref().map(|c| c.input.clone()),
            codec: Some(codec_of(&v.encoding)),
            profile: v.profile.as_ref().map(|p| p.to_lowercase()),
            size: Some(v.size),
            rate: Some(v.rate),
            bitrate_bps: Some(u64::from(v.kbps) * 1000),
            rate_control: v.constant.map(|c| if c { "cbr" } else { "vbr" }.to_owned()),
            keyframe_frames: v.gop,
            audio: p.audio.as_ref().map(|a| sound_of(&a.encoding)),
            multicast: v.group.as_ref().and_then(|g| Some((g.address.parse::<Ipv4Addr>().ok().filter(Ipv4Addr::is_multicast)?, g.port))),
            url,
            options,
        });
    }
    Ok((views, profiles))
}

/// The first profile of each encoder: several profiles of one encoder are one stream.
pub(super) async fn stream_profiles(s: &mut Session) -> Result<Vec<Profile>, OnvifError> {
    let (m, which) = media_of(s);
    let mut profiles: Vec<Profile> = Vec::new();
    for p in media::read_profiles(m, &s.call(which, &media::get_profiles(m)).await?) {
        let token = p.video.as_ref().map(|v| &v.token);
        if token.is_some() && profiles.iter().all(|q| q.video.as_ref().map(|v| &v.token) != token) {
            profiles.push(p);
        }
    }
    Ok(profiles)
}

/// A stream's address on the host where the device really is.
fn reachable(s: &mut Session, url: &str) -> String {
    let (scheme, host, port, path) = split_url(url);
    let ip = s.at().ip();
    if host.parse() != Ok(ip) {
        s.note(format!("it gives its streams the address {host}; they are pulled from {ip}"));
    }
    let host = if ip.is_ipv6() { format!("[{ip}]") } else { ip.to_string() };
    let port = port.map_or_else(String::new, |p| format!(":{p}"));
    format!("{scheme}://{host}{port}{path}")
}

fn options_view(o: EncoderOptions) -> StreamOptions {
    let (rates, rate_range) = match o.rates {
        Some(Rates::Each(r)) => (r, None),
        Some(Rates::Between(a, z)) => (Vec::new(), Some((a, z))),
        None => (Vec::new(), None),
    };
    StreamOptions {
        codec: codec_of(&o.encoding),
        sizes: o.sizes,
        rates,
        rate_range,
        bitrate_bps: o.kbps.map(|(a, z)| (u64::from(a) * 1000, u64::from(z) * 1000)),
        keyframe_frames: o.gop,
        profiles: o.profiles.iter().map(|p| p.to_lowercase()).collect(),
        constant: o.constant,
    }
}
