//! What must be set by hand on a device that has no control protocol.

use crate::{
    device::{Device, NetworkWish},
    find::mask,
    model::Sheet,
    units::say_size,
};
use std::net::Ipv4Addr;

/// What to set, as name and value, in the order in which it is typed.
#[must_use]
pub fn by_hand(device: &Device, sheet: &Sheet) -> Vec<(String, String)> {
    let mut out = Vec::new();
    match &device.network {
        Some(NetworkWish::Dhcp) => out.push(("network".into(), "address from a server (DHCP)".into())),
        Some(NetworkWish::Static { ip, prefix, gateway }) => {
            out.push(("network address".into(), format!("{ip}/{prefix}, mask {}", Ipv4Addr::from(mask(*prefix)))));
            out.extend(gateway.map(|g| ("network gateway".into(), g.to_string())));
        }
        None => {}
    }
    for (name, wish) in &device.streams {
        let mut add = |what: &str, value: String| out.push((format!("{name} {what}"), value));
        let rate = wish.rate.unwrap_or(25.0);
        wish.input.iter().for_each(|v| add("input", v.clone()));
        wish.codec.iter().for_each(|v| add("codec", v.clone()));
        wish.profile.iter().for_each(|v| add("profile", v.clone()));
        wish.size.iter().for_each(|s| add("size", say_size(*s)));
        wish.rate.iter().for_each(|v| add("rate", format!("{v} frames per second")));
        wish.bitrate.iter().for_each(|v| add("bitrate", v.to_string()));
        wish.rate_control.iter().for_each(|v| add("rate-control", v.to_string()));
        wish.keyframe
            .iter()
            .for_each(|k| add("keyframe", format!("{} frames ({:.1} s)", k.frames(rate), f64::from(k.frames(rate)) / rate)));
        wish.audio.iter().for_each(|v| add("audio", v.to_string()));
        wish.audio_input.iter().for_each(|v| add("audio input", v.clone()));
        wish.multicast.iter().for_each(|g| add("multicast", g.map_or_else(|| "off".into(), |(ip, port)| format!("{ip}:{port}"))));
        if let Some(line) = wish.line.as_ref().and_then(|l| sheet.lines.iter().find(|s| s.name == *l)) {
            add("goes to line", format!("{}, which this end has as {}", line.name, crate::link::show_url(&line.from)));
        }
    }
    out
}
