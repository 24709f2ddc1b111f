//! What can only be judged over the whole sheet: names, and ports that get in each other's way.

use super::{
    Feed, Line,
    read::{Named, Reader},
};
use crate::{
    device::{Control, Device},
    finding::Grade,
    link::{Link, Mode, RtspLink, SrtLink},
    secret::Secret,
    spelling::did_you_mean,
};
use std::collections::HashMap;

pub(super) fn check(r: &mut Reader<'_>, line_names: &[String], lines: &[Named<Line>], feeds: &[Named<Feed>]) {
    unique_names(r, "line", lines.iter().map(|l| (l.item.name.as_str(), l.at)));
    unique_names(r, "feed", feeds.iter().map(|f| (f.item.name.as_str(), f.at)));
    let names: Vec<&str> = line_names.iter().map(String::as_str).collect();
    for f in feeds {
        let (feed, subject) = (&f.item, format!("feed \"{}\"", f.item.name));
        if !names.contains(&feed.line.as_str()) && !names.is_empty() {
            r.add(Grade::Error, f.value_at, &subject, format!("there is no line \"{}\".", feed.line), did_you_mean(&feed.line, &names));
        }
        for (what, remedy) in feed.to.iter().filter_map(Link::cannot_go_out) {
            r.add(Grade::Error, f.at, &subject, what, remedy);
        }
    }
    for l in lines {
        if let Some((what, remedy)) = l.item.from.cannot_come_in() {
            r.add(Grade::Error, l.value_at, &format!("line \"{}\"", l.item.name), what, remedy);
        }
    }
    ports(r, lines, feeds);
    served_paths(r, feeds);
    passphrases(r, lines, feeds);
}

/// Devices: their names, their addresses, and the lines that they feed.
pub(super) fn devices(r: &mut Reader<'_>, line_names: &[String], devices: &[Named<Device>]) {
    unique_names(r, "device", devices.iter().map(|d| (d.item.name.as_str(), d.at)));
    let names: Vec<&str> = line_names.iter().map(String::as_str).collect();
    let mut seen = HashMap::new();
    for d in devices {
        let (device, subject) = (&d.item, format!("device \"{}\"", d.item.name));
        // Cameras of one bare chain share an address.
        let place = (device.address, device.port, device.camera);
        if let Some(first) = seen.insert(place, device.name.clone()) {
            r.add(Grade::Error, d.value_at, &subject, format!("it has the address of device \"{first}\"."), "Give each its own.");
        }
        if matches!(device.password, Some(Secret::Literal(_))) {
            secret_in_sheet(r, d.at, &subject, "password");
        }
        for (stream, wish) in &device.streams {
            match &wish.line {
                Some(line) if !names.contains(&line.as_str()) => {
                    let what = format!("there is no line \"{line}\" for its {stream} stream.");
                    let remedy =
                        if names.is_empty() { "The sheet has no [[line]] yet: add it.".into() } else { did_you_mean(line, &names) };
                    r.add(Grade::Error, d.at, &subject, what, remedy);
                }
                None if device.control == Control::Manual => {
                    let what = format!("nothing can prove its {stream} stream, since no line carries it.");
                    r.add(Grade::Advice, d.at, &subject, what, "Add line = \"NAME\" to the stream.");
                }
                _ => {}
            }
        }
    }
}

fn unique_names<'a>(r: &mut Reader<'_>, kind: &str, names: impl Iterator<Item = (&'a str, usize)>) {
    let mut seen = HashMap::new();
    for (name, at) in names {
        if seen.insert(name, at).is_some() {
            r.add(Grade::Error, at, &format!("{kind} \"{name}\""), format!("another {kind} has this name already."), "Give each its own.");
        }
    }
}

/// A port that this machine waits on.
struct Waits<'a> {
    subject: String,
    at: usize,
    host: Option<&'a str>,
    port: u16,
    /// Set for a line that listens for callers of this stream ID.
    stream: Option<Option<&'a str>>,
}

fn listener<'a>(s: &'a SrtLink, subject: &str, at: usize, shares: bool) -> Option<Waits<'a>> {
    let stream = shares.then_some(s.stream_id.as_deref());
    match s.mode {
        Mode::Listener => Some(Waits { subject: subject.into(), at, host: s.host.as_deref(), port: s.port, stream }),
        _ => None,
    }
}

/// Two that wait on one port get in each other's way, unless stream IDs tell their callers apart.
fn ports(r: &mut Reader<'_>, lines: &[Named<Line>], feeds: &[Named<Feed>]) {
    let mut waits: Vec<Waits<'_>> = Vec::new();
    for l in lines {
        let subject = format!("line \"{}\"", l.item.name);
        match &l.item.from {
            Link::Srt(s) => waits.extend(listener(s, &subject, l.value_at, true)),
            Link::Udp(u) => waits.push(Waits { subject, at: l.value_at, host: u.host.as_deref(), port: u.port, stream: None }),
            Link::Rtp(u) => {
                waits.extend(u.port.map(|port| Waits { subject, at: l.value_at, host: u.host.as_deref(), port, stream: None }));
            }
            Link::Rtsp(_) | Link::File(_) => {}
        }
    }
    for f in feeds {
        let subject = format!("feed \"{}\"", f.item.name);
        waits.extend(f.item.to.iter().filter_map(Link::srt).filter_map(|s| listener(s, &subject, f.at, false)));
    }
    for (i, second) in waits.iter().enumerate() {
        let clashes = |first: &&Waits<'_>| {
            let same_host = first.host.is_none() || second.host.is_none() || first.host == second.host;
            let told_apart = matches!((first.stream, second.stream), (Some(Some(a)), Some(Some(b))) if a != b);
            first.port == second.port && same_host && !told_apart
        };
        // One clash per entry is enough to be mended.
        if let Some(first) = waits[..i].iter().find(clashes) {
            match (first.stream, second.stream) {
                (Some(Some(a)), Some(Some(_))) => r.add(
                    Grade::Error,
                    second.at,
                    &second.subject,
                    format!("it waits on port {} for the stream ID \"{a}\", and so does {}.", second.port, first.subject),
                    "Give each its own stream ID, or its own port.",
                ),
                (Some(_), Some(_)) => r.add(
                    Grade::Error,
                    second.at,
                    &second.subject,
                    format!("it listens on port {}, and so does {}.", second.port, first.subject),
                    "Give each its own port, or each its own stream-id so that callers can be told apart.",
                ),
                _ => r.add(
                    Grade::Error,
                    second.at,
                    &second.subject,
                    format!("it waits on port {}, and so does {}.", second.port, first.subject),
                    "Give each its own port.",
                ),
            }
        }
    }
}

/// Each path of a server leads to one feed.
fn served_paths(r: &mut Reader<'_>, feeds: &[Named<Feed>]) {
    let mut seen: HashMap<(u16, String), String> = HashMap::new();
    for f in feeds {
        let subject = format!("feed \"{}\"", f.item.name);
        for link in &f.item.to {
            let Link::Rtsp(s) = link else { continue };
            let path = if s.path.trim_matches('/').is_empty() { f.item.name.clone() } else { s.path.trim_matches('/').to_owned() };
            if let Some(first) = seen.insert((s.port.unwrap_or(RtspLink::SERVE_PORT), path.clone()), subject.clone()) {
                r.add(Grade::Error, f.at, &subject, format!("it is served as \"{path}\", and so is {first}."), "Give each its own path.");
            }
        }
    }
}

fn secret_in_sheet(r: &mut Reader<'_>, at: usize, subject: &str, word: &str) {
    let what = format!("its {word} is written in the sheet, where everybody who gets the sheet reads it.");
    r.add(Grade::Advice, at, subject, what, format!("Write {word} = {{ file = \"PATH\" }} or {{ env = \"NAME\" }} instead."));
}

fn passphrases(r: &mut Reader<'_>, lines: &[Named<Line>], feeds: &[Named<Feed>]) {
    let of_lines = lines.iter().map(|l| (format!("line \"{}\"", l.item.name), l.at, vec![&l.item.from]));
    let of_feeds = feeds.iter().map(|f| (format!("feed \"{}\"", f.item.name), f.at, f.item.to.iter().collect()));
    for (subject, at, links) in of_lines.chain(of_feeds) {
        for link in links {
            if matches!(link.secret(), Some(Secret::Literal(_))) {
                let word = if link.srt().is_some() { "passphrase" } else { "password" };
                secret_in_sheet(r, at, &subject, word);
            }
            let Some(srt) = link.srt() else { continue };
            if srt.passphrase.is_none() && srt.key_bits.is_some() {
                r.add(Grade::Error, at, &subject, "it has a key length but no passphrase, so it is not encrypted.", "Add the passphrase.");
            }
        }
    }
}
