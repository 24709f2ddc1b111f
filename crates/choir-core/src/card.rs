//! Far-end cards: exactly what to type at the other end, in the order in which such pages ask for
//! it.

use crate::{
    advice::{USUAL_RATE, overhead_for},
    device::{AUDIO_INPUTS, Device, StreamWish},
    link::{Link, Mode, RtmpLink, RtspLink, SrtLink, StaveLink, opposite, show_url},
    model::{Expect, Feed, Line, Sheet},
    secret::{Secret, SecretText},
    stave::PORT as STAVE_PORT,
    units::{say_rate, say_size},
};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use std::time::Duration;

/// Shown in place of a secret.
pub const HIDDEN: &str = "(hidden: --reveal shows it)";

/// One field of a card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Entry {
    /// As such pages call it: `mode`, `address`, `latency`.
    pub label: String,
    /// What to type.
    pub value: String,
    /// What the value is about, where it needs saying.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// A card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Card {
    /// `line umpire-launch`.
    pub subject: String,
    /// For people.
    pub title: String,
    /// What to do there, as a sentence.
    pub task: String,
    /// Field by field.
    pub entries: Vec<Entry>,
    /// The same as one URL; none for a device.
    pub url: Option<String>,
    /// What the sheet does not say, as sentences.
    pub missing: Vec<String>,
}

/// What a secret is, for a card that shows it.
pub type Reveal<'a> = &'a dyn Fn(&Secret) -> Option<SecretText>;

/// The link that the far end of a line must have.
#[must_use]
pub fn far_of_line(sheet: &Sheet, line: &Line) -> Option<Link> {
    let own = sheet.own_address(&sheet.line_crosses(line), &line.from);
    opposite(&line.from, true, own.as_deref(), sheet.show.latency, &line.name)
}

/// The link that the far end of one of a feed's destinations must have.
#[must_use]
pub fn far_of_feed(sheet: &Sheet, feed: &Feed, to: &Link) -> Option<Link> {
    let own = sheet.own_address(&sheet.feed_crosses(feed, to), to);
    opposite(to, false, own.as_deref(), sheet.show.latency, &feed.name)
}

/// The card of a line; `None` for a file, which has no far end.
#[must_use]
pub fn line_card(sheet: &Sheet, line: &Line, reveal: Option<Reveal<'_>>) -> Option<Card> {
    let subject = format!("line {}", line.name);
    if let Link::Stave(name) = &line.from {
        let mut card = named(sheet, subject, line.title.clone(), name, true, reveal);
        media(&mut card, &sheet.wanted(line), None);
        return Some(card);
    }
    let far = far_of_line(sheet, line)?;
    let mut card = start(subject, line.title.clone(), &far, true, reveal);
    if let (Link::Rtsp(there), Link::Rtsp(RtspLink { host: Some(host), .. })) = (&far, &line.from)
        && there.host.is_none()
    {
        // Its own address, which the sheet pulls from.
        card.url = Some(far_url(&Link::Rtsp(RtspLink { host: Some(host.clone()), ..there.clone() }), reveal));
    }
    let wanted = sheet.wanted(line);
    let source = sheet.source_of(&line.name).map(|(_, _, wish)| wish);
    media(&mut card, &wanted, source);
    if let (Link::Srt(srt), Some(path)) = (&far, sheet.line_path(line)) {
        let latency = srt.latency.unwrap_or(sheet.show.latency);
        let percent = srt.overhead.unwrap_or_else(|| overhead_for(&path, wanted.bitrate.unwrap_or(USUAL_RATE), latency));
        add(&mut card, "bandwidth overhead", format!("{percent} %"));
    }
    Some(card)
}

/// The cards of a feed, one per destination.
#[must_use]
pub fn feed_cards(sheet: &Sheet, feed: &Feed, reveal: Option<Reveal<'_>>) -> Vec<Card> {
    let mut cards = Vec::new();
    for way in &feed.to {
        let to = &way.link;
        let (subject, title) = (format!("feed {}", feed.name), feed.title.clone());
        let mut card = match (to, far_of_feed(sheet, feed, to)) {
            (Link::Stave(name), _) => named(sheet, subject, title, name, false, reveal),
            (_, Some(far)) => start(subject, title, &far, false, reveal),
            (_, None) => continue,
        };
        // What comes is only known when all its lines bring the same.
        let brings: Vec<Expect> = sheet.lines_of(feed).into_iter().map(|l| way.carries(&sheet.wanted(l))).collect();
        if let [first, rest @ ..] = brings.as_slice()
            && rest.iter().all(|other| other == first)
        {
            media(&mut card, first, None);
        }
        cards.push(card);
    }
    cards
}

/// The card of a device: what to set on it, and the far ends of the lines that its streams feed.
#[must_use]
pub fn device_card(sheet: &Sheet, device: &Device) -> Card {
    let entries = crate::by_hand::by_hand(device, sheet).into_iter().map(|(label, value)| Entry { label, value, note: None }).collect();
    Card {
        subject: format!("device {}", device.name),
        title: device.title.clone(),
        task: format!("On the pages of {}, set:", device.address),
        entries,
        url: None,
        missing: Vec::new(),
    }
}

/// All cards of the show: lines, feeds, devices.
#[must_use]
pub fn all_cards(sheet: &Sheet, reveal: Option<Reveal<'_>>) -> Vec<Card> {
    let lines = sheet.lines.iter().filter_map(|l| line_card(sheet, l, reveal));
    let feeds = sheet.feeds.iter().flat_map(|f| feed_cards(sheet, f, reveal));
    lines.chain(feeds).chain(sheet.devices.iter().map(|d| device_card(sheet, d))).collect()
}

fn add(card: &mut Card, label: &str, value: impl Into<String>) {
    card.entries.push(Entry { label: label.into(), value: value.into(), note: None });
}

fn note(card: &mut Card, text: &str) {
    if let Some(last) = card.entries.last_mut() {
        last.note = Some(text.into());
    }
}

fn start(subject: String, title: String, far: &Link, sends: bool, reveal: Option<Reveal<'_>>) -> Card {
    let verb = if sends { "send" } else { "receive" };
    let task = match far {
        Link::Srt(_) => format!("Set the far end to {verb} by SRT:"),
        Link::Udp(_) => format!("Set the far end to {verb} a transport stream over UDP:"),
        Link::Rtp(_) => format!("Set the far end to {verb} a transport stream over RTP:"),
        Link::Rtsp(_) if sends => "Set the far end to serve RTSP:".into(),
        Link::Rtsp(_) => "Set the far end to pull by RTSP:".into(),
        Link::Rtmp(_) if sends => "Set the far end to publish by RTMP:".into(),
        Link::Rtmp(_) => "Set the far end to play by RTMP:".into(),
        Link::Stave(_) | Link::File(_) | Link::Wall(_) => String::new(),
    };
    let mut card = Card { subject, title, task, entries: Vec::new(), url: None, missing: Vec::new() };
    match far {
        Link::Srt(s) => srt_entries(&mut card, s, reveal),
        Link::Udp(u) => place(&mut card, u.host.as_deref(), Some(u.port), sends),
        Link::Rtp(r) => place(&mut card, r.host.as_deref(), r.port, sends),
        Link::Rtsp(r) => rtsp_entries(&mut card, r, sends, reveal),
        Link::Rtmp(r) => rtmp_entries(&mut card, r, reveal),
        Link::Stave(_) | Link::File(_) | Link::Wall(_) => {}
    }
    // A URL without its host is of no use to whoever scans it.
    let whole = !matches!(far, Link::Rtsp(RtspLink { host: None, .. }) | Link::Rtmp(RtmpLink { host: None, .. }));
    card.url = whole.then(|| far_url(far, reveal));
    card
}

/// A name needs no address at the other end, but the group and its key. `offers`: the other end is
/// the source.
fn named(sheet: &Sheet, subject: String, title: String, link: &StaveLink, offers: bool, reveal: Option<Reveal<'_>>) -> Card {
    let lan = &sheet.stave;
    let task = if offers { "Offer this name by Stave on the other machine:" } else { "Take this name by Stave at the other end:" };
    let mut card = Card { subject, title, task: task.into(), entries: Vec::new(), url: None, missing: Vec::new() };
    add(&mut card, "name", &link.name);
    let machine = if offers { link.machine.clone().filter(|_| link.at().is_none()) } else { lan.machine.clone() };
    if let Some(machine) = &machine {
        add(&mut card, "machine", machine);
    }
    add(&mut card, "group", &lan.group);
    match &lan.key {
        Some(secret) => secret_entry(&mut card, "key", secret, reveal),
        None => add(&mut card, "key", "none"),
    }
    let at = if offers {
        link.at()
    } else {
        lan.address.filter(|ip| !ip.is_unspecified()).map(|ip| (ip, lan.port.unwrap_or(STAVE_PORT)).into())
    };
    if let Some(at) = at {
        add(&mut card, "address", at.to_string());
        note(&mut card, if offers { "its own, which the line calls" } else { "only where names are not found by themselves" });
    }
    add(&mut card, "encryption", "TLS 1.3");
    note(&mut card, "always; there is nothing to set");
    if !offers {
        card.url = Some(show_url(&Link::Stave(StaveLink { machine, ..StaveLink::named(&link.name) })));
    }
    card
}

fn unknown_address(card: &mut Card) {
    add(card, "address", "?");
    card.missing.push("The sheet does not say this machine's address: write address = \"IP\" under [show].".into());
}

fn place(card: &mut Card, host: Option<&str>, port: Option<u16>, sends: bool) {
    match host {
        Some(host) => add(card, "address", host),
        None if sends => unknown_address(card),
        None => add(card, "address", "its own, or empty"),
    }
    if let Some(port) = port {
        add(card, "port", port.to_string());
    }
}

fn srt_entries(card: &mut Card, s: &SrtLink, reveal: Option<Reveal<'_>>) {
    add(card, "mode", s.mode.word());
    match (s.mode, &s.host) {
        (Mode::Listener, _) => {
            add(card, "address", "its own, or empty");
            note(card, "it waits to be called");
        }
        (_, Some(host)) => {
            add(card, "address", host);
            note(card, "only this: no srt://, no port");
        }
        (_, None) => unknown_address(card),
    }
    add(card, "port", s.port.to_string());
    if let Some((_, Some(local))) = s.bind {
        add(card, "local port", local.to_string());
    }
    if let Some(latency) = s.latency {
        add(card, "latency", format!("{} ms", latency.as_millis()));
        if latency >= Duration::from_secs(1) {
            note(card, "in milliseconds, not seconds");
        }
    }
    match &s.passphrase {
        None => add(card, "encryption", "off"),
        Some(secret) => {
            let bits = s.key_bits.unwrap_or(128);
            add(card, "encryption", format!("AES-{bits}"));
            add(card, "key length", format!("{bits} bits"));
            note(card, &format!("{} bytes on some pages", bits / 8));
            secret_entry(card, "passphrase", secret, reveal);
        }
    }
    match &s.stream_id {
        Some(id) => add(card, "stream ID", id),
        None => add(card, "stream ID", "empty"),
    }
}

fn secret_entry(card: &mut Card, label: &str, secret: &Secret, reveal: Option<Reveal<'_>>) {
    match reveal {
        None => add(card, label, HIDDEN),
        Some(reveal) => match reveal(secret) {
            Some(text) => add(card, label, text.reveal()),
            None => {
                add(card, label, "?");
                card.missing.push(format!("The {label} cannot be read where the sheet says."));
            }
        },
    }
}

fn rtsp_entries(card: &mut Card, r: &RtspLink, serves: bool, reveal: Option<Reveal<'_>>) {
    match &r.host {
        Some(host) => add(card, "address", host),
        None if serves => add(card, "address", "its own"),
        None => unknown_address(card),
    }
    add(card, "port", r.port.unwrap_or(RtspLink::ASK_PORT).to_string());
    add(card, "path", if r.path.is_empty() { "/" } else { &r.path });
    if let Some(user) = &r.user {
        add(card, "user", user);
    }
    if let Some(password) = &r.password {
        secret_entry(card, "password", password, reveal);
    }
}

/// Server and key as two fields, as phones and cameras ask for them.
fn rtmp_entries(card: &mut Card, r: &RtmpLink, reveal: Option<Reveal<'_>>) {
    match &r.host {
        Some(host) => {
            add(card, "server", r.server(host));
            note(card, "also called URL or address; without the key");
        }
        None => unknown_address(card),
    }
    if let Some(key) = &r.key {
        secret_entry(card, "stream key", key, reveal);
        note(card, "also called stream name");
    }
}

/// What the picture and sound must be.
fn media(card: &mut Card, wanted: &Expect, source: Option<&StreamWish>) {
    if let Some(codec) = &wanted.codec {
        add(card, "codec", if codec == "h265" { "H.265 (HEVC)" } else { "H.264 (AVC)" });
    }
    if let Some(profile) = source.and_then(|s| s.profile.as_ref()) {
        add(card, "profile", profile);
    }
    if let Some(size) = wanted.size {
        add(card, "size", say_size(size));
    }
    if let Some(rate) = wanted.rate {
        add(card, "frame rate", say_rate(rate));
    }
    if let Some(bitrate) = wanted.bitrate {
        add(card, "bitrate", format!("{} kbps", bitrate.0 / 1000));
        if bitrate.0 >= 1_000_000 {
            note(card, &bitrate.to_string());
        }
    }
    if let Some(control) = source.and_then(|s| s.rate_control) {
        add(card, "rate control", control.to_string());
    }
    if let (Some(keyframe), rate) = (wanted.keyframe, wanted.rate.unwrap_or(25.0)) {
        let frames = keyframe.frames(rate);
        add(card, "keyframe interval", format!("{} s", say_rate(f64::from(frames) / rate)));
        note(card, &format!("{frames} frames on pages that ask for frames"));
    }
    if let Some(audio) = wanted.audio {
        add(card, "audio", if audio { "on" } else { "off" });
        if let Some(input) = source.and_then(|s| s.audio_input.as_ref()).filter(|i| AUDIO_INPUTS[..3].contains(&i.as_str())) {
            note(card, &format!("from its {input} input"));
        }
    }
}

/// The far end as one URL; without its secret unless it is to be shown.
fn far_url(far: &Link, reveal: Option<Reveal<'_>>) -> String {
    let fetched = |secret: &Option<Secret>| secret.as_ref().and_then(|s| reveal.and_then(|r| r(s)));
    match far {
        Link::Srt(s) => {
            let plain = show_url(&Link::Srt(SrtLink { passphrase: None, ..s.clone() }));
            match fetched(&s.passphrase) {
                Some(text) => format!("{plain}&passphrase={}", utf8_percent_encode(text.reveal(), NON_ALPHANUMERIC)),
                None => plain,
            }
        }
        Link::Rtsp(r) => {
            let plain = RtspLink { password: None, ..r.clone() };
            match (&r.user, fetched(&r.password)) {
                (Some(user), Some(text)) => {
                    let login = format!(
                        "{}:{}@",
                        utf8_percent_encode(user, NON_ALPHANUMERIC),
                        utf8_percent_encode(text.reveal(), NON_ALPHANUMERIC)
                    );
                    show_url(&Link::Rtsp(RtspLink { user: None, ..plain })).replacen("rtsp://", &format!("rtsp://{login}"), 1)
                }
                _ => show_url(&Link::Rtsp(plain)),
            }
        }
        // Both in one, as some pages take them.
        Link::Rtmp(r) => match (&r.host, fetched(&r.key)) {
            (Some(host), Some(key)) => format!("{}/{}", r.server(host), key.reveal()),
            (Some(host), None) => r.server(host),
            (None, _) => show_url(far),
        },
        _ => show_url(far),
    }
}
