//! Names on the LAN: each once, none taken from oneself, none open by oversight.

use super::{End, Whole};
use crate::{
    device::Control,
    finding::Grade,
    link::{Link, StaveLink},
    sheet::reader::Reader,
    spelling::did_you_mean,
};
use std::collections::HashMap;

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole, ends: &[End<'_>]) {
    let mut offered: HashMap<String, &str> = HashMap::new();
    for (end, link) in of(ends).filter(|(e, _)| !e.inbound) {
        if let Some(first) = offered.get(&link.name.to_lowercase()) {
            let what = format!("feed \"{first}\" has the Stave name \"{}\" already: this one gets a number behind it.", link.name);
            r.add(Grade::Warning, end.at(), &end.subject, what, "Give each feed a name of its own.");
        }
        offered.entry(link.name.to_lowercase()).or_insert(end.name);
    }
    for (end, link) in of(ends).filter(|(e, _)| e.inbound) {
        if let (None, Some(feed)) = (&link.machine, offered.get(&link.name.to_lowercase())) {
            let what = format!("it takes \"{}\", which feed \"{feed}\" of this very sheet offers.", link.name);
            r.add(Grade::Error, end.at(), &end.subject, what, "Name the machine too: stave://MACHINE/NAME.");
        }
    }
    let settings = &whole.sheet.stave;
    if let Some((end, _)) = of(ends).find(|(e, _)| !e.inbound)
        && settings.secured() == "open"
    {
        let what = "whoever is on the LAN can take what is offered by Stave.";
        r.add(Grade::Advice, end.at(), &end.subject, what, "Add key = { env = \"NAME\" } to [stave], the same on all machines.");
    }
    if !settings.discover
        && settings.nodes.is_empty()
        && settings.directory.is_none()
        && of(ends).any(|(e, l)| e.inbound && l.at().is_none())
    {
        let what = "a line takes a name, but discovery is off and there is no node and no directory.";
        r.add(Grade::Error, whole.stave_at, "stave", what, "Add nodes = [\"HOST:PORT\"] or directory, or take out discover = false.");
    }
    subs(r, whole);
    steered(r, whole, ends);
    lamps(r, whole, ends);
}

fn of<'a>(ends: &'a [End<'a>]) -> impl Iterator<Item = (&'a End<'a>, &'a StaveLink)> {
    ends.iter().filter_map(|e| if let Link::Stave(s) = e.link { Some((e, s)) } else { None })
}

fn subs(r: &mut Reader<'_>, whole: &Whole) {
    let names: Vec<&str> = whole.line_names.iter().map(String::as_str).collect();
    for (line, spot) in whole.lines() {
        let Some(sub) = &line.sub else { continue };
        let subject = format!("line \"{}\"", line.name);
        if *sub == line.name {
            r.add(
                Grade::Error,
                spot.of_value("sub"),
                &subject,
                "it is its own sub stream.",
                "Name the line that carries the small picture.",
            );
        } else if !names.contains(&sub.as_str()) {
            r.add(Grade::Error, spot.of_value("sub"), &subject, format!("there is no line \"{sub}\"."), did_you_mean(sub, &names));
        }
    }
}

/// Orders by name go to the device behind a line, or on to where the line's own name comes from.
fn steered(r: &mut Reader<'_>, whole: &Whole, ends: &[End<'_>]) {
    for (feed, _) in whole.feeds() {
        let Some((end, _)) = of(ends).find(|(e, l)| !e.inbound && l.steer && e.name == feed.name) else { continue };
        let can = |l: &&crate::model::Line| {
            matches!(l.from, Link::Stave(_)) || whole.sheet.source_of(&l.name).is_some_and(|(d, ..)| d.control != Control::Manual)
        };
        if !whole.sheet.lines_of(feed).iter().any(can) {
            let what = "it may be steered by name, but no device with control feeds its lines.";
            r.add(Grade::Warning, end.field("steer"), &end.subject, what, "Write line = \"NAME\" into the main stream of its [[device]].");
        }
    }
}

fn lamps(r: &mut Reader<'_>, whole: &Whole, ends: &[End<'_>]) {
    let named = |line: &str| {
        whole.feeds().any(|(f, _)| {
            let carries = f.may_carry().any(|l| l == line);
            carries && of(ends).any(|(e, _)| !e.inbound && e.name == f.name)
        })
    };
    for (device, spot) in whole.devices() {
        let subject = format!("device \"{}\"", device.name);
        let at = spot.of_value("tally");
        match device.tally {
            Some(_) if device.lines().next().is_none() => {
                let what = "its tally lamp never lights: none of its streams says which line it feeds.";
                r.add(Grade::Warning, at, &subject, what, "Write line = \"NAME\" into its main stream.");
            }
            Some(_) if !device.lines().any(named) => {
                let what = "its tally lamp never lights: no feed that carries its line has a Stave name, by which tally comes back.";
                r.add(Grade::Warning, at, &subject, what, "Write stave = \"NAME\" into that feed.");
            }
            None if device.control.has_tally() && device.lines().any(named) => {
                let what = "its tally lamp does not follow what receivers show of it.";
                let remedy = format!("Add tally = \"{}\", if it has a lamp.", device.control.word());
                r.add(Grade::Advice, spot.at, &subject, what, remedy);
            }
            _ => {}
        }
    }
}
