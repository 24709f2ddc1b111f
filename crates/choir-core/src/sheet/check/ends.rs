//! The two ends of each link: modes, ports, hosts, stream IDs, passphrases, and who can reach whom.

use super::{End, Whole};
use crate::{
    finding::Grade,
    link::{Link, Mode, clashes},
    sheet::reader::Reader,
};

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole, ends: &[End<'_>]) {
    for end in ends {
        if let Some(far) = end.far {
            let own = whole.sheet.own_address(&end.crossed, end.link);
            for c in clashes(end.link, far, end.inbound, own.as_deref(), whole.sheet.show.latency, end.name) {
                r.add(c.grade, end.spot.of_value(&end.far_path), &end.subject, c.what, c.remedy);
            }
        }
        unreachable(r, end);
        rendezvous_ports(r, end);
    }
    for (feed, spot) in whole.feeds().filter(|(f, _)| f.far.len() > f.to.len()) {
        let what = format!("its destinations number {}, its far ends {}.", feed.to.len(), feed.far.len());
        r.add(
            Grade::Error,
            spot.of_value("far"),
            &format!("feed \"{}\"", feed.name),
            what,
            "Write one per destination, in the same order.",
        );
    }
    pulled_from_elsewhere(r, whole);
}

/// Whoever waits behind address translation is called by nobody who does not know the public
/// address.
fn unreachable(r: &mut Reader<'_>, end: &End<'_>) {
    let waits = end.link.waits(end.inbound);
    if let Some(network) = end.crossed.iter().find(|n| waits && n.nat && n.public_address.is_none()) {
        let what = format!("it waits behind the address translation of network \"{}\", which has no public address.", network.name);
        let remedy = "Add public-address to the network and forward the port in its router; or let this end call.";
        r.add(Grade::Warning, end.at(), &end.subject, what, remedy);
    }
}

fn rendezvous_ports(r: &mut Reader<'_>, end: &End<'_>) {
    let Some(srt) = end.link.srt().filter(|s| s.mode == Mode::Rendezvous) else { return };
    if let Some(own) = srt.bind.and_then(|b| b.1).filter(|own| *own != srt.port) {
        let what = format!("it meets port {} from its own port {own}: devices have one port for both.", srt.port);
        r.add(Grade::Warning, end.field("bind"), &end.subject, what, format!("Use {} at both ends.", srt.port));
    }
}

/// A line that is pulled from another address than its device has.
fn pulled_from_elsewhere(r: &mut Reader<'_>, whole: &Whole) {
    for (line, spot) in whole.lines() {
        let Link::Rtsp(rtsp) = &line.from else { continue };
        let Some((device, stream, _)) = whole.sheet.source_of(&line.name) else { continue };
        let host = rtsp.host.as_ref().and_then(|h| h.parse::<std::net::IpAddr>().ok());
        if let Some(host) = host.filter(|h| *h != device.address) {
            let what =
                format!("it is pulled from {host}, but device \"{}\", whose {stream} stream it is, has {}.", device.name, device.address);
            let remedy = "Write the same address at both, or another device's line.";
            r.add(Grade::Warning, spot.of_value("from.url"), &format!("line \"{}\"", line.name), what, remedy);
        }
    }
}
