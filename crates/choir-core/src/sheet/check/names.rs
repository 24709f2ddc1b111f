//! Names: each once, and every name that is used is there.

use super::{End, Whole};
use crate::{
    device::Control,
    finding::Grade,
    link::{Link, RtspLink},
    model::{SLATE, SoundOf},
    sheet::reader::Reader,
    spelling::did_you_mean,
};
use std::collections::HashMap;

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole, ends: &[End<'_>]) {
    unique(r, "line", whole.lines().map(|(l, s)| (l.name.as_str(), s.at)));
    unique(r, "feed", whole.feeds().map(|(f, s)| (f.name.as_str(), s.at)));
    unique(r, "device", whole.devices().map(|(d, s)| (d.name.as_str(), s.at)));
    unique(r, "network", whole.networks().map(|(n, s)| (n.name.as_str(), s.at)));
    unique(r, "rota", whole.sheet.rotas.iter().zip(&whole.rota_spots).map(|(o, s)| (o.name.as_str(), s.at)));
    lines_of_feeds(r, whole);
    lines_of_devices(r, whole);
    lines_of_walls(r, whole);
    networks_crossed(r, whole);
    served_paths(r, ends);
    for end in ends {
        let wrong = if end.inbound { end.link.cannot_come_in() } else { end.link.cannot_go_out() };
        if let Some((what, remedy)) = wrong {
            r.add(Grade::Error, end.at(), &end.subject, what, remedy);
        }
    }
}

fn unique<'a>(r: &mut Reader<'_>, kind: &str, names: impl Iterator<Item = (&'a str, usize)>) {
    let mut seen = HashMap::new();
    for (name, at) in names {
        if seen.insert(name, at).is_some() {
            r.add(Grade::Error, at, &format!("{kind} \"{name}\""), format!("another {kind} has this name already."), "Give each its own.");
        }
    }
}

fn lines_of_feeds(r: &mut Reader<'_>, whole: &Whole) {
    let names: Vec<&str> = whole.line_names.iter().map(String::as_str).collect();
    if names.is_empty() {
        return;
    }
    for (feed, spot) in whole.feeds() {
        let subject = format!("feed \"{}\"", feed.name);
        let used = std::iter::once((&feed.line, "line".to_owned())).chain(feed.takes.iter().zip((0..).map(|n| format!("takes.{n}"))));
        let own_slate = !names.contains(&SLATE);
        let standby = feed.standby.iter().flat_map(|s| &s.lines).filter(|l| !(own_slate && *l == SLATE));
        for line in standby.clone().filter(|l| **l == feed.line) {
            let what = format!("it stands in for itself: \"{line}\" is its line and its standby.");
            r.add(Grade::Error, spot.of_value("standby"), &subject, what, "Name another line as standby, or none.");
        }
        let sound = if let SoundOf::Line(line) = &feed.sound.from { Some((line, "sound".to_owned())) } else { None };
        for (line, path) in used.chain(sound).chain(standby.map(|line| (line, "standby".to_owned()))) {
            if !names.contains(&line.as_str()) {
                r.add(Grade::Error, spot.of_value(&path), &subject, format!("there is no line \"{line}\"."), did_you_mean(line, &names));
            }
        }
    }
}

fn lines_of_devices(r: &mut Reader<'_>, whole: &Whole) {
    let names: Vec<&str> = whole.line_names.iter().map(String::as_str).collect();
    for (device, spot) in whole.devices() {
        let subject = format!("device \"{}\"", device.name);
        for (stream, wish) in &device.streams {
            match &wish.line {
                Some(line) if !names.contains(&line.as_str()) => {
                    let what = format!("there is no line \"{line}\" for its {stream} stream.");
                    let remedy =
                        if names.is_empty() { "The sheet has no [[line]] yet: add it.".into() } else { did_you_mean(line, &names) };
                    r.add(Grade::Error, spot.of_value(&format!("{stream}.line")), &subject, what, remedy);
                }
                None if device.control == Control::Manual => {
                    let what = format!("its {stream} stream cannot be measured: no line carries it.");
                    r.add(Grade::Advice, spot.of_value(stream), &subject, what, "Add line = \"NAME\" to the stream.");
                }
                _ => {}
            }
        }
    }
}

fn lines_of_walls(r: &mut Reader<'_>, whole: &Whole) {
    let names: Vec<&str> = whole.line_names.iter().map(String::as_str).collect();
    for (line, spot) in whole.lines() {
        let Link::Wall(wall) = &line.from else { continue };
        let (subject, at) = (format!("line \"{}\"", line.name), spot.of_value("from.lines"));
        for name in &wall.lines {
            if !names.contains(&name.as_str()) {
                r.add(Grade::Error, at, &subject, format!("there is no line \"{name}\"."), did_you_mean(name, &names));
            } else if whole.sheet.line(name).is_some_and(|l| matches!(l.from, Link::Wall(_))) {
                r.add(Grade::Error, at, &subject, format!("{name} is a wall itself."), "A wall shows lines that are none.");
            }
        }
    }
}

fn networks_crossed(r: &mut Reader<'_>, whole: &Whole) {
    let names: Vec<&str> = whole.network_names.iter().map(String::as_str).collect();
    let of_lines = whole.lines().map(|(l, s)| (format!("line \"{}\"", l.name), &l.via, s));
    let of_feeds = whole.feeds().map(|(f, s)| (format!("feed \"{}\"", f.name), &f.via, s));
    let of_devices = whole.devices().map(|(d, s)| (format!("device \"{}\"", d.name), &d.via, s));
    for (subject, via, spot) in of_lines.chain(of_feeds).chain(of_devices) {
        for (n, name) in via.iter().enumerate().filter(|(_, v)| !names.contains(&v.as_str())) {
            let remedy = if names.is_empty() { "The sheet has no [[network]] yet: add it.".into() } else { did_you_mean(name, &names) };
            r.add(Grade::Error, spot.of_value(&format!("via.{n}")), &subject, format!("there is no network \"{name}\"."), remedy);
        }
    }
}

/// Each path of a server leads to one feed.
fn served_paths(r: &mut Reader<'_>, ends: &[End<'_>]) {
    let mut seen: HashMap<(u16, String), String> = HashMap::new();
    for end in ends.iter().filter(|e| !e.inbound) {
        let Link::Rtsp(s) = end.link else { continue };
        let path = if s.path.trim_matches('/').is_empty() { end.name.to_owned() } else { s.path.trim_matches('/').to_owned() };
        if let Some(first) = seen.insert((s.port.unwrap_or(RtspLink::SERVE_PORT), path.clone()), end.subject.clone()) {
            let what = format!("it is served as \"{path}\", and so is {first}.");
            r.add(Grade::Error, end.at(), &end.subject, what, "Give each its own path.");
        }
    }
}
