//! What a show's streams need on each network, beside what the network carries.
//!
//! Every number is bits per second on the wire: the media, its transport stream, the headers of
//! each packet (SRT 16 bytes, RTP 12, UDP 8, IPv4 20; on a wired port Ethernet's 38 with preamble
//! and gap), and what the sender may use to repeat lost packets.

use crate::{
    advice::{USUAL_RATE, latency_for, overhead_for},
    device::StreamWish,
    link::Link,
    model::{Encode, Expect, Feed, Sheet, WayOut},
    network::{Network, NetworkKind},
    units::Bitrate,
};
use serde::Serialize;
use std::fmt::Write;

/// Sound of a stream that does not say: two channels of AAC.
const SOUND_BPS: u64 = 128_000;
/// A transport stream's packet and table headers: 188 bytes carry 184, tables and filling take 1.5
/// %.
const TRANSPORT_STREAM: f64 = 188.0 / 184.0 * 1.015;
/// Bytes in one packet of TCP with time stamps on a wired network.
const RTMP_PAYLOAD: f64 = 1448.0;
/// Media in one QUIC packet on a wired network.
const QUIC_PAYLOAD: f64 = 1400.0;
/// Media bytes in a packet: seven transport packets, or what fits an RTP packet.
const TS_PAYLOAD: f64 = 1316.0;
const RTP_PAYLOAD: f64 = 1400.0;
/// Ethernet: header, checksum, preamble, gap.
const ETHERNET: f64 = 38.0;
/// Room for repeats unless the link says otherwise, percent.
const OVERHEAD_USUAL: u16 = 25;
/// Bits that H.265 needs for what H.264 shows.
pub(crate) const H265_SHARE: f64 = 0.6;

/// Which way a stream crosses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Way {
    /// Towards this machine.
    In,
    /// Away from it.
    Out,
}

/// One stream on one network.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Stream {
    /// `line finish-tower`, `feed boathouse-1`.
    pub subject: String,
    /// Which way.
    pub way: Way,
    /// Picture and sound; `None` when the sheet does not say.
    pub media_bps: Option<u64>,
    /// Transport stream, packet headers, Ethernet.
    pub headers_bps: u64,
    /// Allowed for repeats.
    pub again_bps: u64,
    /// All of it.
    pub total_bps: u64,
    /// The arithmetic, as a sentence.
    pub how: String,
    #[serde(skip)]
    parts: Parts,
}

/// What a stream is made of, kept for the remedies.
#[derive(Debug, Clone, PartialEq, Default)]
struct Parts {
    wanted: Expect,
    overhead: Option<u16>,
    sub: Option<(String, StreamWish)>,
    link: Option<Link>,
    copy: usize,
}

/// One direction of a network.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Direction {
    /// `towards this machine`, `away from it`, `both ways together`.
    pub way: &'static str,
    /// Sum of the streams.
    pub total_bps: u64,
    /// What the network carries.
    pub capacity_bps: Option<u64>,
    /// What may be used of it.
    pub allowed_bps: Option<u64>,
    /// What to change when it is too much.
    pub remedies: Vec<Remedy>,
}

impl Direction {
    fn is_over(&self) -> bool {
        self.allowed_bps.is_some_and(|a| self.total_bps > a)
    }

    /// Capacity not used, if any is known; negative when too much is asked.
    #[must_use]
    pub fn free_bps(&self) -> Option<i64> {
        self.capacity_bps.map(|c| c as i64 - self.total_bps as i64)
    }
}

/// A change that saves bits.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Remedy {
    /// What to do, as a sentence.
    pub what: String,
    /// Bits per second saved.
    pub saves_bps: u64,
    /// The sum after it and those before it.
    pub then_bps: u64,
    /// Whether that fits.
    pub fits: bool,
}

/// One network's load.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Load {
    /// Name.
    pub name: String,
    /// Title.
    pub title: String,
    /// Sort.
    pub kind: NetworkKind,
    /// Part kept free, 0 to 1.
    pub reserve: f64,
    /// What crosses it.
    pub streams: Vec<Stream>,
    /// Its directions: two, or one that both share.
    pub directions: Vec<Direction>,
}

impl Load {
    /// The directions that carry more than they may.
    pub fn over(&self) -> impl Iterator<Item = &Direction> {
        self.directions.iter().filter(|d| d.is_over())
    }

    /// Streams whose bitrate nobody has said.
    pub fn unknown(&self) -> impl Iterator<Item = &Stream> {
        self.streams.iter().filter(|s| s.media_bps.is_none())
    }
}

/// All networks' loads.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Budget {
    /// In sheet order.
    pub networks: Vec<Load>,
    /// What is encoded anew, in sheet order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub encodings: Vec<EncodingLoad>,
}

/// One encoding, which the destinations of a feed share that want the same.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct EncodingLoad {
    /// Name of the feed.
    pub feed: String,
    /// What comes of it.
    pub wanted: String,
    /// Destinations that share it.
    pub shared_by: usize,
    /// Cores that it takes, about; none where the sheet does not say what its lines bring.
    pub cores: Option<f64>,
}

impl Budget {
    /// Cores that encoding takes, about, as far as that is known.
    #[must_use]
    pub fn cores(&self) -> f64 {
        self.encodings.iter().filter_map(|e| e.cores).sum()
    }
}

/// Adds up what crosses each network.
#[must_use]
pub fn budget(sheet: &Sheet) -> Budget {
    let networks = sheet.networks.iter().map(|n| load(sheet, n)).collect();
    Budget { networks, encodings: sheet.feeds.iter().flat_map(|feed| encodings(sheet, feed)).collect() }
}

/// What is encoded of a feed: a line that costs more than its others may be on.
fn encodings(sheet: &Sheet, feed: &Feed) -> Vec<EncodingLoad> {
    let mut all: Vec<(&Encode, usize)> = Vec::new();
    for plan in feed.to.iter().filter_map(|to| to.encode.as_ref()) {
        match all.iter_mut().find(|(other, _)| *other == plan) {
            Some((_, count)) => *count += 1,
            None => all.push((plan, 1)),
        }
    }
    let load = |(plan, shared_by): (&Encode, usize)| {
        let cores = sheet.lines_of(feed).into_iter().filter_map(|l| plan.cores(&sheet.wanted(l)));
        EncodingLoad { feed: feed.name.clone(), wanted: plan.to_string(), shared_by, cores: cores.reduce(f64::max) }
    };
    all.into_iter().map(load).collect()
}

fn load(sheet: &Sheet, network: &Network) -> Load {
    let is_on = |crossed: Vec<&Network>| crossed.iter().any(|n| n.name == network.name);
    let wired = network.kind == NetworkKind::Lan;
    let mut streams = Vec::new();
    for line in sheet.lines.iter().filter(|l| is_on(sheet.line_crosses(l)) && !matches!(l.from, Link::File(_) | Link::Wall(_))) {
        let sub = sheet.source_of(&line.name).filter(|(_, s, _)| *s == "main");
        let sub = sub.and_then(|(d, _, _)| d.streams.get("sub").map(|w| (d.name.clone(), w.clone())));
        let parts = Parts { wanted: sheet.wanted(line), overhead: None, sub, link: Some(line.from.clone()), copy: 0 };
        streams.push(stream(format!("line {}", line.name), Way::In, wired, parts));
    }
    for feed in &sheet.feeds {
        let crossing = feed.to.iter().filter(|to| is_on(sheet.feed_crosses(feed, &to.link)) && !matches!(to.link, Link::File(_)));
        for (copy, to) in crossing.enumerate() {
            let parts = Parts { wanted: greatest(sheet, feed, to), overhead: None, sub: None, link: Some(to.link.clone()), copy };
            streams.push(stream(feed.way_out(&to.link), Way::Out, wired, parts));
        }
    }
    let direction = |name, ways: &[Way], capacity: Option<Bitrate>| direction(network, &streams, name, ways, capacity);
    let directions = if network.kind == NetworkKind::Wireless {
        vec![direction("both ways together", &[Way::In, Way::Out], network.capacity_in.max(network.capacity_out))]
    } else {
        vec![
            direction("towards this machine", &[Way::In], network.capacity_in),
            direction("away from it", &[Way::Out], network.capacity_out),
        ]
    };
    Load { name: network.name.clone(), title: network.title.clone(), kind: network.kind, reserve: network.reserve, streams, directions }
}

/// A way out needs what the greatest of its feed's lines brings it.
fn greatest(sheet: &Sheet, feed: &Feed, to: &WayOut) -> Expect {
    sheet.lines_of(feed).into_iter().map(|l| to.carries(&sheet.wanted(l))).max_by_key(|w| w.bitrate).unwrap_or_default()
}

fn direction(network: &Network, streams: &[Stream], way: &'static str, ways: &[Way], capacity: Option<Bitrate>) -> Direction {
    let crossing: Vec<&Stream> = streams.iter().filter(|s| ways.contains(&s.way)).collect();
    let total_bps = crossing.iter().map(|s| s.total_bps).sum();
    let capacity_bps = capacity.map(|c| c.0);
    let allowed_bps = capacity_bps.map(|c| (c as f64 * (1.0 - network.reserve)) as u64);
    let remedies = match allowed_bps {
        Some(allowed) if total_bps > allowed => remedies(network, &crossing, total_bps, allowed),
        _ => Vec::new(),
    };
    Direction { way, total_bps, capacity_bps, allowed_bps, remedies }
}

fn stream(subject: String, way: Way, wired: bool, parts: Parts) -> Stream {
    let link = parts.link.clone();
    let blank = || Stream {
        subject: subject.clone(),
        way,
        media_bps: None,
        headers_bps: 0,
        again_bps: 0,
        total_bps: 0,
        how: "the sheet does not say its bitrate".into(),
        parts: parts.clone(),
    };
    let (Some(picture), Some(link)) = (parts.wanted.bitrate, link) else { return blank() };
    let sound = if parts.wanted.audio == Some(true) { SOUND_BPS } else { 0 };
    let media = picture.0 + sound;
    let (container, payload, packet, names) = match &link {
        Link::Srt(_) => (TRANSPORT_STREAM, TS_PAYLOAD, 44.0, "SRT, UDP, IP"),
        Link::Udp(_) => (TRANSPORT_STREAM, TS_PAYLOAD, 28.0, "UDP, IP"),
        Link::Rtp(r) if r.sdp.is_none() => (TRANSPORT_STREAM, TS_PAYLOAD, 40.0, "RTP, UDP, IP"),
        Link::Rtp(_) | Link::Rtsp(_) => (1.0, RTP_PAYLOAD, 40.0, "RTP, UDP, IP"),
        // Heads of chunks and messages: less than one in a thousand.
        Link::Rtmp(_) => (1.0, RTMP_PAYLOAD, 52.0, "RTMP, TCP, IP"),
        // Heads of 36 bytes a picture vanish beside these: UDP, IP, QUIC's own and its seal.
        Link::Stave(_) => (1.0, QUIC_PAYLOAD, 28.0 + 33.0, "QUIC, UDP, IP"),
        Link::File(_) | Link::Wall(_) => return blank(),
    };
    let headers = packet + if wired { ETHERNET } else { 0.0 };
    let wire = media as f64 * container * (payload + headers) / payload;
    let mut how = if sound > 0 { format!("({picture} + {} sound)", Bitrate(sound)) } else { picture.to_string() };
    if container > 1.0 {
        let _ = write!(how, " x {container:.3} (transport stream)");
    }
    let _ = write!(how, " x {}/{payload} ({names}{})", payload + headers, if wired { ", Ethernet" } else { "" });
    let again = link.srt().map_or(0.0, |srt| match (srt.ceiling, parts.overhead.or(srt.overhead).unwrap_or(OVERHEAD_USUAL)) {
        (Some(ceiling), _) if parts.overhead.is_none() => {
            let _ = write!(how, ", up to its ceiling of {ceiling}");
            (ceiling.0 as f64 - wire).max(0.0)
        }
        (_, percent) => {
            let _ = write!(how, " x {:.2} (repeats)", 1.0 + f64::from(percent) / 100.0);
            wire * f64::from(percent) / 100.0
        }
    });
    let total_bps = (wire + again).round() as u64;
    let _ = write!(how, " = {}", Bitrate(total_bps));
    if way == Way::Out
        && let Link::Stave(name) = &link
    {
        how += if name.multicast.is_some() { ", once for all that hear its group" } else { " for each receiver" };
    }
    Stream {
        subject,
        way,
        media_bps: Some(media),
        headers_bps: (wire - media as f64).round() as u64,
        again_bps: again.round() as u64,
        total_bps,
        how,
        parts,
    }
}

/// What saves bits, least harm first, each on top of those before it.
fn remedies(network: &Network, crossing: &[&Stream], total: u64, allowed: u64) -> Vec<Remedy> {
    let wired = network.kind == NetworkKind::Lan;
    let mut now: Vec<Stream> = crossing.iter().map(|s| (*s).clone()).collect();
    let (mut found, mut left) = (Vec::new(), total);
    let mut apply = |what: String, now: &mut Vec<Stream>, change: &dyn Fn(&Stream) -> Option<Parts>| {
        let after: Vec<Stream> = now
            .iter()
            .filter_map(|s| match change(s) {
                Some(parts) if parts.link.is_none() => None,
                Some(parts) => Some(stream(s.subject.clone(), s.way, wired, parts)),
                None => Some(s.clone()),
            })
            .collect();
        let then_bps = after.iter().map(|s| s.total_bps).sum();
        if then_bps < left && left > allowed {
            found.push(Remedy { what, saves_bps: left - then_bps, then_bps, fits: then_bps <= allowed });
            left = then_bps;
            *now = after;
        }
    };
    // A feed's second copy crosses in vain when something beyond can double it.
    let copied: Vec<String> = now.iter().filter(|s| s.parts.copy > 0).map(|s| s.subject.clone()).collect();
    if !copied.is_empty() {
        let count = copied.len();
        let what = format!("send {} only once and let a relay beyond double it: {count} {} fewer", list(&copied), copies(count));
        apply(what, &mut now, &|s| (s.parts.copy > 0).then(|| Parts { link: None, ..s.parts.clone() }));
    }
    let rate = now.iter().filter_map(|s| s.media_bps).max().map_or(USUAL_RATE, Bitrate);
    let room = network.path.map_or(10, |p| {
        let latency = latency_for(&p, rate, 0.9999).unwrap_or_default();
        overhead_for(&p, rate, latency).max(10)
    });
    let why = if network.path.is_some() { "what its path needs" } else { "enough for a path that loses 2 %" };
    apply(format!("set overhead to {room} % on its SRT links, {why}"), &mut now, &|s| {
        let srt = s.parts.link.as_ref()?.srt()?;
        (srt.overhead.unwrap_or(OVERHEAD_USUAL) > room).then(|| Parts { overhead: Some(room), ..s.parts.clone() })
    });
    let old = |s: &Stream| s.parts.wanted.codec.as_deref() == Some("h264");
    let coded: Vec<String> = now.iter().filter(|s| old(s) && s.way == Way::In).map(|s| s.subject.clone()).collect();
    if !coded.is_empty() {
        apply(format!("H.265 instead of H.264 for {}: the same picture with two fifths fewer bits", list(&coded)), &mut now, &|s| {
            let bitrate = s.parts.wanted.bitrate.filter(|_| old(s) && s.way == Way::In)?;
            let bitrate = Bitrate((bitrate.0 as f64 * H265_SHARE) as u64);
            let wanted = Expect { codec: Some("h265".into()), bitrate: Some(bitrate), ..s.parts.wanted.clone() };
            Some(Parts { wanted, ..s.parts.clone() })
        });
    }
    let subs: Vec<(String, String)> =
        now.iter().filter_map(|s| Some((s.subject.clone(), s.parts.sub.as_ref().filter(|s| s.1.bitrate.is_some())?.0.clone()))).collect();
    for (subject, device) in subs {
        apply(format!("the sub stream of device {device} for {subject}, where a small picture will do"), &mut now, &|s| {
            let (_, sub) = s.parts.sub.as_ref().filter(|_| s.subject == subject)?;
            let wanted = Expect { bitrate: sub.bitrate, codec: sub.codec.clone(), ..s.parts.wanted.clone() };
            Some(Parts { wanted, ..s.parts.clone() })
        });
    }
    if left > allowed && left > 0 {
        let share = allowed as f64 / left as f64;
        let what = format!("lower every bitrate to {:.0} % of that, or get {} more capacity", share * 100.0, Bitrate(left - allowed));
        found.push(Remedy { what, saves_bps: left - allowed, then_bps: allowed, fits: true });
    }
    found
}

fn copies(count: usize) -> &'static str {
    if count == 1 { "copy" } else { "copies" }
}

fn list(names: &[String]) -> String {
    let mut names = names.to_vec();
    names.dedup();
    names.join(", ")
}
