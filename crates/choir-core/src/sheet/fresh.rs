//! A new sheet, commented, from a few answers or from what was found.

use super::NewDevice;
use std::{
    fmt::Write,
    net::{IpAddr, SocketAddr},
};
use toml_edit::Value;

/// How cameras arrive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arrival {
    /// Pulled by RTSP.
    Rtsp,
    /// They call this machine by SRT.
    SrtListener,
    /// This machine calls them by SRT.
    SrtCaller,
}

/// The answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Start {
    /// Name of the show.
    pub show: String,
    /// The site's network: `127.20.0.0/24`.
    pub network: Option<String>,
    /// This machine's address on it.
    pub address: Option<IpAddr>,
    /// Cameras, and how they arrive.
    pub cameras: Option<(u16, Arrival)>,
    /// Frame rate of the show.
    pub rate: u32,
    /// Devices that were found.
    pub devices: Vec<NewDevice>,
}

/// First port of lines that are called, and of feeds.
const LINE_PORT: u16 = 7101;
const FEED_PORT: u16 = 7201;

fn quoted(text: &str) -> String {
    Value::from(text).to_string()
}

/// Writes the sheet. What only the engineer can know is a comment that says so.
#[must_use]
pub fn fresh_sheet(start: &Start) -> String {
    let mut out = format!("# {}: what is connected to what.\n", start.show.replace(['\n', '\r'], " "));
    out += "# \"choir check\" says what is wrong with it, \"choir card --all\" what to type at the other ends.\n\n[show]\n";
    let _ = writeln!(out, "name = {}", quoted(&start.show));
    out += "latency = \"120 ms\"                # for every link that does not say\n";
    let _ = writeln!(out, "rate = {}", start.rate);
    let _ = writeln!(out, "mains = \"{} Hz\"", if start.rate.is_multiple_of(25) { 50 } else { 60 });
    match start.address {
        Some(ip) => {
            let _ = writeln!(out, "address = \"{ip}\"            # this machine, as the far ends reach it");
        }
        None => out += "# address = \"IP\"                 # this machine, as the far ends reach it\n",
    }
    if let Some(range) = &start.network {
        let _ = write!(
            out,
            "\n# What the streams cross; \"choir budget\" adds them up.\n[[network]]\nname = \"site\"\nkind = \"lan\"\nrange = {}\ncapacity = \"1 Gbps\"\n",
            quoted(range)
        );
    }
    found(&mut out, &start.devices);
    if let Some((count, arrival)) = start.cameras {
        cameras(&mut out, start, count, arrival);
    }
    out
}

fn found(out: &mut String, devices: &[NewDevice]) {
    if !devices.is_empty() {
        *out += "\n# ---- devices, as they were found ---------------------------------------------\n\
            # If a login is required, add user = \"NAME\" and password = { file = \"PATH\" }.\n\
            # \"choir device show NAME\" lists the streams; give each a [[line]].\n";
    }
    for d in devices {
        *out += "\n[[device]]\n";
        for (key, text) in [("name", &d.name), ("title", &d.title), ("kind", &d.kind), ("address", &d.address), ("control", &d.control)] {
            let _ = writeln!(out, "{key} = {}", quoted(text));
        }
    }
}

fn cameras(out: &mut String, start: &Start, count: u16, arrival: Arrival) {
    let rate = start.rate;
    *out += "\n# ---- what comes in -----------------------------------------------------------\n";
    for n in 1..=count {
        let port = LINE_PORT + n - 1;
        let from = match arrival {
            Arrival::Rtsp => format!("\"rtsp://camera-{n}.local/main\"     # its address; \"choir find\" shows it"),
            Arrival::SrtListener => match start.address {
                Some(own) => format!("\"srt://{}?mode=listener\"", SocketAddr::new(own, port)),
                None => format!("\"srt://:{port}?mode=listener\""),
            },
            Arrival::SrtCaller => format!("\"srt://camera-{n}.local:{port}?mode=caller\"     # its address; \"choir find\" shows it"),
        };
        let _ = write!(
            out,
            "\n[[line]]\nname = \"camera-{n}\"\nfrom = {from}\n\
             expect = {{ codec = \"h264\", size = \"1920x1080\", rate = {rate}, bitrate = \"8 Mbps\", keyframe = \"1 s\" }}\n"
        );
    }
    *out += "\n# ---- what goes to the switcher -----------------------------------------------\n";
    for n in 1..=count {
        let to = FEED_PORT + n - 1;
        let _ = write!(out, "\n[[feed]]\nname = \"input-{n}\"\nline = \"camera-{n}\"\naccepts = {{ codec = [\"h264\"] }}\n");
        let _ = writeln!(out, "to = [\"srt://:{to}?mode=listener&latency=60\"]     # the switcher calls this");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    #[test]
    fn whatever_is_answered_the_sheet_passes() {
        for arrival in [Arrival::Rtsp, Arrival::SrtListener, Arrival::SrtCaller] {
            for (rate, address) in [(25, Some([127, 20, 0, 1].into())), (50, None), (30, Some(IpAddr::V6(std::net::Ipv6Addr::LOCALHOST)))] {
                let start = Start {
                    show: "Tarn \"Hollow\"\nRegatta".into(),
                    network: address.map(|_| "127.20.0.0/24".into()),
                    address,
                    cameras: Some((4, arrival)),
                    rate,
                    devices: Vec::new(),
                };
                let text = fresh_sheet(&start);
                let (sheet, findings) = read_sheet(&text);
                assert!(findings.is_empty(), "{findings:?}\n{text}");
                let sheet = sheet.expect("a sheet");
                assert_eq!((sheet.show.name.as_str(), sheet.lines.len(), sheet.feeds.len()), ("Tarn \"Hollow\"\nRegatta", 4, 4));
            }
        }
    }

    #[test]
    fn found_devices_become_entries() {
        let device = NewDevice {
            name: "finish-tower".into(),
            title: "Heron PTZ".into(),
            kind: "camera".into(),
            address: "127.20.0.11:8000".into(),
            control: "onvif".into(),
        };
        let start =
            Start { show: "Tarn Hollow Regatta".into(), network: None, address: None, cameras: None, rate: 25, devices: vec![device] };
        let (sheet, findings) = read_sheet(&fresh_sheet(&start));
        assert!(findings.is_empty(), "{findings:?}");
        assert_eq!(sheet.expect("a sheet").devices[0].title, "Heron PTZ");
    }
}
