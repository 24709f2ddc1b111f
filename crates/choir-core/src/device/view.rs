//! What a device has, as it says: for tables, for JSON, and for comparing.

use serde::Serialize;
use std::net::{IpAddr, Ipv4Addr};

/// One stream as the device has it.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct StreamView {
    /// `main`, `sub`, `3` ...: its place among the device's streams.
    pub name: String,
    /// The device's own name for it.
    pub title: String,
    /// The input that it takes.
    pub input: Option<String>,
    /// `h264`, `h265`, or the device's word.
    pub codec: Option<String>,
    /// Lower case.
    pub profile: Option<String>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub rate: Option<f64>,
    /// Bits per second.
    pub bitrate_bps: Option<u64>,
    /// `cbr` or `vbr`, when the device says.
    pub rate_control: Option<String>,
    /// Frames from keyframe to keyframe.
    pub keyframe_frames: Option<u32>,
    /// Its codec; `None` when mute.
    pub audio: Option<String>,
    /// Group and port.
    pub multicast: Option<(Ipv4Addr, u16)>,
    /// Where it can be pulled.
    pub url: Option<String>,
    /// What the device allows, one entry for each codec.
    pub options: Vec<StreamOptions>,
}

/// What a device allows for one codec.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct StreamOptions {
    /// `h264`, `h265`.
    pub codec: String,
    /// Pixels.
    pub sizes: Vec<(u32, u32)>,
    /// Frames per second: exactly these.
    pub rates: Vec<f64>,
    /// Frames per second: from, to.
    pub rate_range: Option<(f64, f64)>,
    /// Bits per second: from, to.
    pub bitrate_bps: Option<(u64, u64)>,
    /// Frames from keyframe to keyframe: from, to.
    pub keyframe_frames: Option<(u32, u32)>,
    /// Lower case.
    pub profiles: Vec<String>,
    /// The bitrate can be held constant, when the device says.
    pub constant: Option<bool>,
}

/// An input.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct InputState {
    /// The device's word for it.
    pub name: String,
    /// Pixels and frames per second of what comes in; `None` without a signal.
    pub signal: Option<(u32, u32, f64)>,
}

/// The network as the device has it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct NetworkView {
    /// Hardware address.
    pub mac: Option<String>,
    /// Address and prefix length.
    pub address: Option<(Ipv4Addr, u8)>,
    /// From a server.
    pub dhcp: bool,
    /// Gateway.
    pub gateway: Option<IpAddr>,
}

/// A stored position.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct PresetView {
    /// Its number or the device's word.
    pub number: String,
    /// Its name, from the device or the sheet.
    pub name: String,
}

/// Everything that a device says of itself.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct DeviceView {
    /// Name in the sheet.
    pub name: String,
    /// For people.
    pub title: String,
    /// Where it was reached.
    pub address: String,
    /// `onvif`, `visca` ...
    pub control: String,
    /// Maker, as the device says.
    pub maker: String,
    /// Model.
    pub model: String,
    /// Firmware.
    pub firmware: String,
    /// Serial number.
    pub serial: String,
    /// How far its clock is ahead of this machine's, ms.
    pub clock_ahead_ms: Option<i64>,
    /// How the password was proved.
    pub login: String,
    /// Network.
    pub network: Option<NetworkView>,
    /// Inputs.
    pub inputs: Vec<InputState>,
    /// Streams.
    pub streams: Vec<StreamView>,
    /// It can be steered.
    pub steered: bool,
    /// What was strange on the way.
    pub notes: Vec<String>,
}
