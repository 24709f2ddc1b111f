//! Passphrases and passwords: where they are written, whether they are any good, and what goes
//! unencrypted.

use super::{End, Whole};
use crate::{
    finding::Grade,
    link::Link,
    network::Network,
    secret::Secret,
    sheet::{
        reader::Reader,
        secrets::{bad_password, weak_passphrase},
    },
};

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole, ends: &[End<'_>]) {
    for end in ends {
        written(r, end);
        clear(r, end);
    }
    devices(r, whole);
    equal_everywhere(r, whole);
}

fn in_sheet(r: &mut Reader<'_>, at: usize, subject: &str, word: &str) {
    let what = format!("its {word} is written in the sheet, where everybody who gets the sheet reads it.");
    r.add(Grade::Advice, at, subject, what, format!("Write {word} = {{ file = \"PATH\" }} or {{ env = \"NAME\" }} instead."));
}

fn written(r: &mut Reader<'_>, end: &End<'_>) {
    for (word, secret) in end.link.secrets() {
        let Secret::Literal(text) = secret else { continue };
        in_sheet(r, end.field(word), &end.subject, word);
        if let Some((what, remedy)) = end.link.srt().and_then(|_| weak_passphrase(text)) {
            r.add(Grade::Warning, end.field(word), &end.subject, what, remedy);
        }
    }
    let Some(srt) = end.link.srt() else { return };
    if srt.passphrase.is_none() && srt.key_bits.is_some() {
        let what = "it has a key length but no passphrase, so it is not encrypted.";
        r.add(Grade::Error, end.field("key-length"), &end.subject, what, "Add the passphrase.");
    }
}

/// What leaves the site can be watched by whoever carries it.
fn clear(r: &mut Reader<'_>, end: &End<'_>) {
    let Some(network) = end.crossed.iter().find(|n| n.outside) else { return };
    let (what, remedy) = match end.link {
        Link::Srt(s) if s.passphrase.is_none() => ("is not encrypted", "Add a passphrase at both ends."),
        Link::Rtmp(r) if !r.tls => ("is not encrypted", "Use rtmps:// where the other end has it, or SRT with a passphrase."),
        Link::Rtsp(_) | Link::Rtp(_) | Link::Udp(_) => ("cannot be encrypted", "Use SRT with a passphrase beyond the site."),
        _ => return,
    };
    let what = format!("it leaves the site by network \"{}\" and {what}.", network.name);
    r.add(Grade::Warning, end.at(), &end.subject, what, remedy);
}

fn devices(r: &mut Reader<'_>, whole: &Whole) {
    for (device, spot) in whole.devices() {
        let subject = format!("device \"{}\"", device.name);
        let at = spot.of_value("password");
        if let Some(Secret::Literal(text)) = &device.password {
            in_sheet(r, at, &subject, "password");
            if let Some((what, remedy)) = bad_password(device, text) {
                r.add(Grade::Warning, at, &subject, what, remedy);
            }
        }
        let crosses = |n: &&Network| n.outside && (n.holds(device.address) || device.via.contains(&n.name));
        if let Some(network) = whole.sheet.networks.iter().find(crosses).filter(|_| device.user.is_some()) {
            let what = format!("its login crosses network \"{}\" by plain HTTP, where others can read along.", network.name);
            r.add(Grade::Warning, spot.of_value("user"), &subject, what, "Reach it through a tunnel, or set it on site only.");
        }
    }
}

/// One passphrase for everything is changed by nobody once one far end has passed it on.
fn equal_everywhere(r: &mut Reader<'_>, whole: &Whole) {
    let encrypted: Vec<_> = whole.lines().filter_map(|(line, spot)| Some((line, spot, line.from.srt()?.passphrase.as_ref()?))).collect();
    if let [(_, _, first), rest @ ..] = encrypted.as_slice()
        && !rest.is_empty()
        && rest.iter().all(|(_, _, secret)| secret == first)
    {
        let (line, spot, _) = encrypted[0];
        let what = format!("all {} encrypted lines have one passphrase: whoever has one far end can read them all.", encrypted.len());
        r.add(Grade::Advice, spot.of_value("from.passphrase"), &format!("line \"{}\"", line.name), what, "Give each line its own.");
    }
}
