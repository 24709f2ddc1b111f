//! `[[device]]` and `[settings.NAME]`: what the devices are and what is wanted of them.

use super::{
    places::{Spot, start},
    reader::Reader,
};
use crate::{
    device::{AUDIO_INPUTS, Control, Device, KINDS, Keyframe, NetworkWish, RateControl, STREAMS, Sound, StreamWish},
    secret::Secret,
    spelling::did_you_mean,
    units::{parse_bitrate, parse_duration, parse_size},
};
use std::{
    collections::BTreeMap,
    net::{IpAddr, Ipv4Addr, SocketAddr},
};
use toml_edit::{Item, TableLike};

/// Devices that one entry may stand for.
const ROW_MAX: i64 = 64;
const STREAM_KEYS: &[&str] = &[
    "like",
    "input",
    "codec",
    "profile",
    "size",
    "rate",
    "bitrate",
    "rate-control",
    "keyframe",
    "audio",
    "audio-input",
    "multicast",
    "line",
];
/// Of most PTZ cameras.
const ZOOM: u32 = 20;
const DEVICE_KEYS: &[&str] = &[
    "name", "title", "kind", "address", "control", "camera", "user", "password", "network", "main", "sub", "presets", "zoom", "via",
    "tally", "count",
];

impl Reader<'_> {
    /// All devices; an entry with a count becomes a row of them.
    pub(super) fn devices(&mut self, root: &dyn TableLike) -> (Vec<Device>, Vec<Spot>) {
        let settings = self.settings(root);
        let Some(item) = root.get("device") else { return Default::default() };
        let Some(array) = item.as_array_of_tables() else {
            self.error(start(item.span()), "device", "device must be written as [[device]].", "With two brackets, once per entry.");
            return Default::default();
        };
        let mut all = Vec::new();
        for table in array {
            let at = start(table.span());
            let spot = Spot::of(table, at);
            let Some((device, count)) = self.device(table, at, &settings) else { continue };
            all.extend(row(device, count).into_iter().map(|one| (one, spot.clone())));
        }
        all.into_iter().unzip()
    }

    fn settings(&mut self, root: &dyn TableLike) -> BTreeMap<String, StreamWish> {
        let mut all = BTreeMap::new();
        let Some(item) = root.get("settings") else { return all };
        let Some(table) = item.as_table_like() else {
            self.error(start(item.span()), "settings", "settings must be tables.", "Write [settings.NAME].");
            return all;
        };
        for (name, item) in table.iter() {
            let subject = format!("settings \"{name}\"");
            if let Some(wish) = self.stream(item, &subject, &all) {
                all.insert(name.to_owned(), wish);
            }
        }
        all
    }

    fn device(&mut self, table: &dyn TableLike, at: usize, settings: &BTreeMap<String, StreamWish>) -> Option<(Device, u32)> {
        let (name, subject) = self.name(table, "device", at);
        let s = subject.as_str();
        self.known(table, s, DEVICE_KEYS);
        let title = self.string(table, s, "title").map(|t| t.0);
        let kind = self.one_of(table, s, "kind", &KINDS).unwrap_or_else(|| "camera".into());
        let place = self.address(table, s, at);
        let words: Vec<&str> = Control::WORDS.iter().map(|(w, _)| *w).collect();
        let control = self.one_of(table, s, "control", &words).and_then(|w| Control::from_word(&w));
        if table.get("control").is_none() {
            self.error(at, s, "it has no control setting.", "Add control = \"onvif\", \"visca\" or \"manual\".");
        }
        let camera = self.whole(table, s, "camera", 1..=7).unwrap_or(1);
        let user = self.string(table, s, "user").map(|u| u.0);
        let password = table.get("password").and_then(|item| self.password(item, s));
        if user.is_none() && password.is_some() {
            self.error(at, s, "it has a password but no user.", "Add user = \"NAME\".");
        }
        let network = table.get("network").and_then(|item| self.network_wish(item, s));
        let mut streams = BTreeMap::new();
        for stream in STREAMS {
            if let Some(wish) = table.get(stream).and_then(|item| self.stream(item, s, settings)) {
                streams.insert(stream.to_owned(), wish);
            }
        }
        let via = self.texts(table, s, "via").into_iter().map(|v| v.0).collect();
        let presets = table.get("presets").map(|item| self.presets(item, s)).unwrap_or_default();
        let zoom = self.whole(table, s, "zoom", 2..=100).map_or(ZOOM, |z| z as u32);
        let tally = self.tally(table, s);
        let count = self.whole(table, s, "count", 1..=ROW_MAX).unwrap_or(1);
        let (name, (address, port)) = (name?, place?);
        let title = title.unwrap_or_else(|| name.clone());
        let device = Device {
            name,
            title,
            kind,
            address,
            port,
            control: control?,
            camera: camera as u8,
            user,
            password,
            network,
            streams,
            via,
            presets,
            zoom,
            tally,
        };
        Some((device, if table.get("count").is_some() { count as u32 } else { 0 }))
    }

    /// By which protocol a lamp is switched.
    fn tally(&mut self, table: &dyn TableLike, subject: &str) -> Option<Control> {
        let words: Vec<&str> = Control::WORDS.iter().filter(|(_, c)| c.has_tally()).map(|(w, _)| *w).collect();
        let (word, at) = self.string(table, subject, "tally")?;
        let control = Control::from_word(&word);
        if let Some(c) = control.filter(|c| c.has_tally()) {
            return Some(c);
        }
        let what = if control == Some(Control::Onvif) {
            "ONVIF has no command for a tally lamp.".to_owned()
        } else {
            format!("a tally lamp cannot be switched by \"{word}\".")
        };
        self.error(at, subject, what, did_you_mean(&word, &words));
        None
    }

    pub(super) fn one_of(&mut self, table: &dyn TableLike, subject: &str, key: &str, words: &[&str]) -> Option<String> {
        let (word, at) = self.string(table, subject, key)?;
        if words.contains(&word.as_str()) {
            return Some(word);
        }
        self.error(at, subject, format!("{key} \"{word}\" is unknown."), did_you_mean(&word, words));
        None
    }

    fn whole(&mut self, table: &dyn TableLike, subject: &str, key: &str, range: std::ops::RangeInclusive<i64>) -> Option<i64> {
        let item = table.get(key)?;
        let n = item.as_integer().filter(|n| range.contains(n));
        if n.is_none() {
            let allowed = format!("Allowed: {} to {}.", range.start(), range.end());
            self.error(start(item.span()), subject, format!("{key} is out of range."), allowed);
        }
        n
    }

    fn address(&mut self, table: &dyn TableLike, subject: &str, at: usize) -> Option<(IpAddr, Option<u16>)> {
        let Some((text, at)) = self.string(table, subject, "address") else {
            if table.get("address").is_none() {
                self.error(at, subject, "it has no address.", "Add address = \"IP\" or \"IP:PORT\"; \"choir find\" shows it.");
            }
            return None;
        };
        if let Ok(ip) = text.parse() {
            return Some((ip, None));
        }
        let read = text.parse::<SocketAddr>().ok().filter(|a| a.port() > 0);
        if read.is_none() {
            self.error(at, subject, format!("\"{text}\" is not an address."), "Write IP or IP:PORT; \"choir find\" shows it.");
        }
        read.map(|a| (a.ip(), Some(a.port())))
    }

    fn password(&mut self, item: &Item, subject: &str) -> Option<Secret> {
        if let Some(text) = item.as_str() {
            return Some(Secret::Literal(crate::secret::SecretText::new(text)));
        }
        match item.as_table_like() {
            Some(table) => self.secret(table, subject),
            None => {
                let remedy = "Write password = { file = \"PATH\" } or { env = \"NAME\" }.";
                self.error(start(item.span()), subject, "the password must be a text.", remedy);
                None
            }
        }
    }

    fn network_wish(&mut self, item: &Item, subject: &str) -> Option<NetworkWish> {
        let at = start(item.span());
        let how = "Write network = \"dhcp\" or { address = \"IP/PREFIX\", gateway = \"IP\" }.";
        if item.as_str() == Some("dhcp") {
            return Some(NetworkWish::Dhcp);
        }
        let Some(table) = item.as_table_like() else {
            self.error(at, subject, "network: wrong value.", how);
            return None;
        };
        self.known(table, subject, &["address", "gateway"]);
        let gateway = self.string(table, subject, "gateway").and_then(|(g, at)| {
            let ip = g.parse().ok();
            if ip.is_none() {
                self.error(at, subject, format!("the gateway \"{g}\" is not an IPv4 address."), how);
            }
            ip
        });
        let Some((text, at)) = self.string(table, subject, "address") else {
            self.error(at, subject, "network has no address.", how);
            return None;
        };
        let Some((ip, prefix)) = parse_with_prefix(&text) else {
            self.error(at, subject, format!("\"{text}\" is not an address with its prefix length."), how);
            return None;
        };
        Some(NetworkWish::Static { ip, prefix, gateway })
    }

    fn presets(&mut self, item: &Item, subject: &str) -> BTreeMap<u8, String> {
        let mut all = BTreeMap::new();
        let entries = item.as_table_like().map(|t| t.iter().map(|(k, v)| (k.to_owned(), v.clone())).collect::<Vec<_>>());
        for (key, value) in entries.unwrap_or_default() {
            match (key.parse::<u8>().ok().filter(|n| *n < 128), value.as_str()) {
                (Some(n), Some(name)) => {
                    all.insert(n, name.to_owned());
                }
                _ => self.error(
                    start(value.span()),
                    subject,
                    format!("preset \"{key}\": wrong value."),
                    "Write a number from 0 to 127 and a name: 3 = \"Finish line\".",
                ),
            }
        }
        all
    }

    fn stream(&mut self, item: &Item, subject: &str, settings: &BTreeMap<String, StreamWish>) -> Option<StreamWish> {
        let at = start(item.span());
        let names: Vec<&str> = settings.keys().map(String::as_str).collect();
        // A name alone draws on settings.
        if let Some(name) = item.as_str() {
            if settings.get(name).is_none() {
                self.error(at, subject, format!("unknown settings \"{name}\"."), did_you_mean(name, &names));
            }
            return settings.get(name).cloned();
        }
        let Some(table) = item.as_table_like() else {
            self.error(at, subject, "a stream must be a table.", "Write { codec = \"h264\", ... } or the name of settings.");
            return None;
        };
        self.known(table, subject, STREAM_KEYS);
        let mut base = StreamWish::default();
        if let Some((name, at)) = self.string(table, subject, "like") {
            match settings.get(&name) {
                Some(wish) => base = wish.clone(),
                None => self.error(at, subject, format!("unknown settings \"{name}\"."), did_you_mean(&name, &names)),
            }
        }
        let wish = StreamWish {
            input: self.string(table, subject, "input").map(|i| i.0),
            codec: self.one_of(table, subject, "codec", &["h264", "h265"]),
            profile: self.one_of(table, subject, "profile", &["baseline", "main", "main10", "extended", "high"]),
            size: self.parsed(table, subject, "size", parse_size),
            rate: self.rate(table, subject),
            bitrate: self.parsed(table, subject, "bitrate", parse_bitrate),
            rate_control: self
                .one_of(table, subject, "rate-control", &["cbr", "vbr"])
                .map(|w| if w == "cbr" { RateControl::Constant } else { RateControl::Variable }),
            keyframe: self.keyframe(table, subject),
            audio: self.one_of(table, subject, "audio", &["off", "on", "aac", "g711"]).map(|w| match w.as_str() {
                "off" => Sound::Off,
                "on" => Sound::On,
                _ => Sound::Codec(w),
            }),
            audio_input: self.one_of(table, subject, "audio-input", &AUDIO_INPUTS),
            multicast: self.multicast(table, subject),
            line: self.string(table, subject, "line").map(|l| l.0),
        };
        Some(wish.over(&base))
    }

    pub(super) fn parsed<T>(
        &mut self,
        table: &dyn TableLike,
        subject: &str,
        key: &str,
        parse: fn(&str) -> Result<T, crate::units::UnitError>,
    ) -> Option<T> {
        if let Some(n) = table.get(key).and_then(Item::as_integer) {
            let at = start(table.get(key).and_then(Item::span));
            self.error(at, subject, format!("{key} {n} has no unit."), "Write it in quotes with its unit, like \"5 Mbps\".");
            return None;
        }
        let (text, at) = self.string(table, subject, key)?;
        match parse(&text) {
            Ok(v) => Some(v),
            Err(e) => {
                self.error(at, subject, format!("{key} {}", e.what), e.allowed);
                None
            }
        }
    }

    /// `"2 s"` or `"50 frames"`.
    pub(super) fn keyframe(&mut self, table: &dyn TableLike, subject: &str) -> Option<Keyframe> {
        let how = "Write \"2 s\" or \"50 frames\".";
        if let Some(n) = table.get("keyframe").and_then(Item::as_integer) {
            let at = start(table.get("keyframe").and_then(Item::span));
            self.error(at, subject, format!("keyframe {n} has no unit: seconds or frames?"), how);
            return None;
        }
        let (text, at) = self.string(table, subject, "keyframe")?;
        let frames = text.strip_suffix("frames").or_else(|| text.strip_suffix("frame")).map(str::trim);
        let read = match frames {
            Some(n) => n.parse().ok().filter(|n| (1..=1000).contains(n)).map(Keyframe::Frames),
            None => parse_duration(&text).ok().map(|d| d.as_secs_f64()).filter(|s| (0.02..=30.0).contains(s)).map(Keyframe::Seconds),
        };
        if read.is_none() {
            self.error(at, subject, format!("keyframe \"{text}\" is not a keyframe interval."), how);
        }
        read
    }

    fn multicast(&mut self, table: &dyn TableLike, subject: &str) -> Option<Option<(Ipv4Addr, u16)>> {
        let (text, at) = self.string(table, subject, "multicast")?;
        if text == "off" {
            return Some(None);
        }
        let read = text.parse::<std::net::SocketAddrV4>().ok().filter(|a| a.ip().is_multicast() && a.port() > 0);
        if read.is_none() {
            let remedy = "Write \"off\" or a group and port, like \"239.20.0.11:6000\".";
            self.error(at, subject, format!("multicast \"{text}\" is not a multicast group."), remedy);
        }
        read.map(|a| Some((*a.ip(), a.port())))
    }
}

/// `IP/PREFIX` of an interface: a prefix from 8 to 30.
#[must_use]
pub fn parse_with_prefix(text: &str) -> Option<(Ipv4Addr, u8)> {
    let (ip, prefix) = text.split_once('/')?;
    Some((ip.trim().parse().ok()?, prefix.trim().parse().ok().filter(|p| (8..=30).contains(p))?))
}

/// A row of alike devices with consecutive addresses: `lane-1`, `lane-2` ...
fn row(device: Device, count: u32) -> Vec<Device> {
    if count == 0 {
        return vec![device];
    }
    let later = |ip: Ipv4Addr, n: u32| Ipv4Addr::from(u32::from(ip).wrapping_add(n - 1));
    let one = |n: u32| {
        let mut d = device.clone();
        let numbered = |text: &str| if text.contains("{n}") { text.replace("{n}", &n.to_string()) } else { text.to_owned() };
        d.title = if device.title.contains("{n}") { numbered(&device.title) } else { format!("{} {n}", device.title) };
        d.name = format!("{}-{n}", device.name);
        if let IpAddr::V4(ip) = device.address {
            d.address = later(ip, n).into();
        }
        if let Some(NetworkWish::Static { ip, .. }) = &mut d.network {
            *ip = later(*ip, n);
        }
        for wish in d.streams.values_mut() {
            wish.line = wish.line.take().map(|l| numbered(&l));
            if let Some(Some((ip, _))) = &mut wish.multicast {
                *ip = later(*ip, n);
            }
        }
        d
    };
    (1..=count).map(one).collect()
}
