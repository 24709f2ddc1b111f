//! The patch sheet: what is connected to what. Read whole, with every finding and its place.

mod check;
mod devices;
mod edit;
mod read;

pub use devices::parse_with_prefix;
pub use edit::{EditError, NewDevice, add_devices, device_name, set_address, set_preset_name};
pub use read::read_sheet;

use crate::{device::Device, link::Link};
use std::time::Duration;

/// The whole sheet.
#[derive(Debug, Clone, PartialEq)]
pub struct Sheet {
    /// `[show]`.
    pub show: Show,
    /// `[[line]]`, in order.
    pub lines: Vec<Line>,
    /// `[[feed]]`, in order.
    pub feeds: Vec<Feed>,
    /// `[[device]]`, in order; rows are written out.
    pub devices: Vec<Device>,
}

/// `[show]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Show {
    /// Shown everywhere.
    pub name: String,
    /// Latency of links that do not say.
    pub latency: Duration,
}

/// `[[line]]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// Short name, used in commands.
    pub name: String,
    /// For people.
    pub title: String,
    /// Where it comes from.
    pub from: Link,
    /// What is expected on it.
    pub expect: Expect,
}

/// What a line should carry.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Expect {
    /// `h264` or `h265`.
    pub codec: Option<String>,
    /// Pixels.
    pub size: Option<(u32, u32)>,
    /// Frames per second.
    pub rate: Option<f64>,
}

impl Expect {
    /// How what comes differs from it, as sentences. What is not known yet differs in nothing.
    #[must_use]
    pub fn differences(&self, codec: Option<&str>, size: Option<(u32, u32)>, rate: Option<f64>) -> Vec<String> {
        let mut found = Vec::new();
        if let (Some(wanted), Some(is)) = (&self.codec, codec)
            && is != wanted
        {
            found.push(format!("{is} comes, {wanted} is expected"));
        }
        if let (Some((w, h)), Some((iw, ih))) = (self.size, size)
            && (iw, ih) != (w, h)
        {
            found.push(format!("{iw}x{ih} comes, {w}x{h} is expected"));
        }
        if let (Some(wanted), Some(is)) = (self.rate, rate)
            && (wanted - is).abs() > wanted * 0.02
        {
            found.push(format!("{is:.2} frames per second come, {wanted} are expected"));
        }
        found
    }
}

/// `[[feed]]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Feed {
    /// Short name.
    pub name: String,
    /// For people.
    pub title: String,
    /// The line it carries at the start.
    pub line: String,
    /// Where it goes.
    pub to: Vec<Link>,
}
