//! Name, host, port, login, handshake, encryption: each failure told apart from the next.

use super::{Items, Mark, Seen, Step};
use crate::{
    facts::{Fault, State},
    link::Link,
    units::say_duration,
};
use std::net::IpAddr;

/// Judges how far it got; true when it has joined.
pub(super) fn judge(items: &mut Items, link: &Link, card: &str, seen: &Seen, inbound: bool) -> bool {
    let joined = seen.joined.is_some();
    // What was there once is not judged by why it went.
    let fault = seen.link.fault.filter(|_| !joined);
    let host = match link {
        Link::Srt(s) => s.host.as_deref(),
        Link::Rtsp(r) => r.host.as_deref(),
        Link::Rtmp(r) => r.host.as_deref(),
        Link::Stave(s) => Some(s.name.as_str()),
        _ => None,
    };
    if let (Link::Stave(s), true) = (link, inbound && !joined && fault.is_none()) {
        by_name(items, &s.name, seen);
    } else if link.calls(inbound) {
        called(items, host.unwrap_or_default(), fault, (seen, joined), link);
    } else {
        for step in [Step::Name, Step::Host, Step::Port] {
            items.skipped(step, "this end waits");
        }
    }
    login(items, link, fault, (seen, joined), inbound);
    handshake(items, link, card, fault, (seen, inbound));
    encryption(items, link, card, fault, seen);
    joined
}

/// A name that has not been found has no host yet that could be silent.
fn by_name(items: &mut Items, name: &str, seen: &Seen) {
    if items.over {
        let remedy = "Is it offered there, under this name and in this group? \"choir stave list\" shows every name.";
        items.failed(Step::Name, seen.link.reason.clone(), remedy);
        items.skipped(Step::Host, "not reached");
        items.skipped(Step::Port, "not reached");
    } else {
        items.open(Step::Name, &format!("looking for {name}"));
        items.open(Step::Host, "not known yet");
        items.open(Step::Port, "not known yet");
    }
}

fn called(items: &mut Items, host: &str, fault: Option<Fault>, (seen, joined): (&Seen, bool), link: &Link) {
    match fault {
        Some(Fault::Name) => {
            items.failed(
                Step::Name,
                format!("the name {host} has no address"),
                "Check the spelling, or write the address; \"choir find\" shows it.",
            );
            items.skipped(Step::Host, "not reached");
            items.skipped(Step::Port, "not reached");
            return;
        }
        _ if host.parse::<IpAddr>().is_ok() => items.skipped(Step::Name, "an address"),
        _ if joined || fault.is_some() => items.passed(Step::Name, host),
        _ => items.open(Step::Name, "looking up"),
    }
    match fault {
        Some(Fault::Silent) => {
            let remedy = "Check power, cable and address. A firewall on the path can also drop packets without an answer.";
            items.failed(Step::Host, format!("no answer from {host}"), remedy);
            items.skipped(Step::Port, "not reached");
        }
        Some(Fault::PortClosed) => {
            items.passed(Step::Host, "answers");
            let what = if link.srt().is_some() {
                "Check the port, and that SRT is started there as a listener."
            } else {
                "Check the port, and that RTSP is on there."
            };
            items.failed(Step::Port, "the host answers, but nothing listens on the port", what);
        }
        Some(_) => {
            items.passed(Step::Host, "answers");
            items.passed(Step::Port, "answers");
        }
        None if joined => {
            items.passed(Step::Host, "answers");
            items.passed(Step::Port, "answers");
        }
        None if items.over => {
            // What it broke by says more than that it has not come up.
            let broken = seen.link.state == Some(State::Broken);
            let found = if broken { seen.link.reason.clone() } else { "no answer in the time".into() };
            items.failed(Step::Host, found, "Is it on and plugged in, and is the address right? Or wait longer.");
            items.skipped(Step::Port, "not reached");
        }
        None => {
            items.open(Step::Host, "calling");
            items.open(Step::Port, "calling");
        }
    }
}

fn login(items: &mut Items, link: &Link, fault: Option<Fault>, (seen, joined): (&Seen, bool), inbound: bool) {
    let named = match link {
        Link::Rtsp(r) => r.user.is_some(),
        Link::Rtmp(r) => r.user.is_some(),
        _ => false,
    };
    match fault {
        Some(Fault::Login) if matches!(link, Link::Stave(_)) => {
            let remedy =
                "One end lets in only certificates that it knows: \"choir stave identity\" prints one, which goes into its [stave].";
            items.failed(Step::Login, seen.link.reason.clone(), remedy);
        }
        Some(Fault::Login) => {
            let (found, remedy) = if named {
                (
                    "user or password refused",
                    "Correct them at one end. There were two attempts at most, since many devices lock the account.",
                )
            } else {
                ("a login is required", "Write user and password = { env = \"NAME\" } into the line.")
            };
            items.failed(Step::Login, found, remedy);
        }
        _ if !named || !inbound => items.skipped(Step::Login, "none needed"),
        _ if joined || fault == Some(Fault::Path) => items.passed(Step::Login, "taken"),
        Some(_) => items.skipped(Step::Login, "not reached"),
        None => items.open(Step::Login, "not asked yet"),
    }
}

fn handshake(items: &mut Items, link: &Link, card: &str, fault: Option<Fault>, (seen, inbound): (&Seen, bool)) {
    let protocol = match link {
        Link::Srt(_) => "SRT",
        Link::Rtsp(_) => "RTSP",
        Link::Rtmp(_) => "RTMP",
        Link::Stave(_) => "Stave",
        Link::Udp(_) | Link::Rtp(_) | Link::File(_) | Link::Wall(_) => {
            return items.skipped(Step::Handshake, "this kind of link has none");
        }
    };
    let says = |what: &str| format!("At the other end: {card} says what to type. {what}").trim_end().to_owned();
    if let Some(after) = seen.joined {
        return items.passed(Step::Handshake, format!("met after {}", say_duration(after)));
    }
    match fault {
        Some(Fault::WrongProtocol) => items.failed(
            Step::Handshake,
            format!("something answers there, but not {protocol}"),
            "Another service has this port: check the port and the protocol at the other end.",
        ),
        Some(Fault::StreamKey) => items.failed(Step::Handshake, "stream key refused", &says("Each character counts.")),
        Some(Fault::StreamId) => items.failed(Step::Handshake, "stream ID refused", &says("It is case-sensitive.")),
        Some(Fault::Path) => {
            items.failed(Step::Handshake, "no stream at this path", "\"choir device show\" lists the paths. Check for a missing slash.")
        }
        Some(Fault::Taken | Fault::Refused | Fault::PeerLost) => items.failed(Step::Handshake, seen.link.reason.clone(), &says("")),
        // These are about encryption, which follows.
        Some(Fault::Passphrase | Fault::OneSided) => items.passed(Step::Handshake, format!("it speaks {protocol}")),
        Some(Fault::Name | Fault::Silent | Fault::PortClosed | Fault::Login) => items.skipped(Step::Handshake, "not reached"),
        None if items.over && !link.calls(inbound) => {
            items.failed(Step::Handshake, "no caller yet", &says("Is it started there? Does the port come through the router?"));
        }
        None => items.open(Step::Handshake, "waiting for the other end"),
    }
}

fn encryption(items: &mut Items, link: &Link, card: &str, fault: Option<Fault>, seen: &Seen) {
    if matches!(link, Link::Stave(_)) {
        return match fault {
            Some(Fault::Passphrase) => {
                items.failed(Step::Encryption, "refused: the group keys differ", "Give both machines the same key in [stave].");
            }
            _ if seen.joined.is_none() => items.open(Step::Encryption, "not met yet"),
            _ => items.passed(Step::Encryption, "TLS 1.3, as always"),
        };
    }
    let Link::Srt(srt) = link else { return items.skipped(Step::Encryption, "none on this kind of link") };
    match fault {
        Some(Fault::Passphrase) => {
            let remedy = format!("Type it again at the other end: {card} --reveal shows it. Check for a trailing space.");
            items.failed(Step::Encryption, "refused: the passphrase differs", &remedy);
        }
        Some(Fault::OneSided) => {
            let remedy = if srt.passphrase.is_some() {
                "Set the passphrase at the other end too."
            } else {
                "Write the passphrase into the sheet, or remove it there."
            };
            items.failed(Step::Encryption, "refused: only one end has a passphrase", remedy);
        }
        _ if seen.joined.is_none() => items.open(Step::Encryption, "not met yet"),
        _ if srt.passphrase.is_none() => items.skipped(Step::Encryption, "off, as the sheet has it"),
        _ => {
            let is = &seen.link.encryption;
            match srt.key_bits.filter(|w| seen.link.key_bits.is_some_and(|is| is != *w)) {
                Some(w) => {
                    items.add(Step::Encryption, Mark::Doubtful, is.clone(), &format!("The sheet has AES-{w}: the end that sends decides."))
                }
                None => items.passed(Step::Encryption, is.clone()),
            }
        }
    }
}
