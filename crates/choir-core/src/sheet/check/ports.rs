//! Ports that this machine waits on, and who else wants them.

use super::End;
use crate::{
    finding::Grade,
    link::{Link, Mode, own_port},
    sheet::reader::Reader,
};

/// Services that take their port on many machines (IANA registry).
const TAKEN: [(u16, &str); 14] = [
    (1194, "tunnels"),
    (1701, "tunnels"),
    (1812, "logins to networks"),
    (1813, "logins to networks"),
    (1900, "discovery of home devices (SSDP)"),
    (2049, "network file systems"),
    (3389, "remote desktops"),
    (3478, "address translation helpers (STUN)"),
    (3702, "discovery of cameras (WS-Discovery)"),
    (4500, "IPsec"),
    (5060, "telephony (SIP)"),
    (5061, "telephony (SIP)"),
    (5353, "discovery by name (mDNS)"),
    (5355, "names on the local network (LLMNR)"),
];

/// A port that this machine waits on.
struct Waits<'a> {
    end: &'a End<'a>,
    host: Option<&'a str>,
    port: u16,
    /// Set for a line that listens for callers of this stream ID.
    stream: Option<Option<&'a str>>,
}

fn waits<'a>(end: &'a End<'a>) -> Option<Waits<'a>> {
    let at = |host: &'a Option<String>, port, stream| Some(Waits { end, host: host.as_deref(), port, stream });
    match end.link {
        Link::Srt(s) if s.mode == Mode::Listener => at(&s.host, s.port, end.inbound.then_some(s.stream_id.as_deref())),
        Link::Udp(u) if end.inbound => at(&u.host, u.port, None),
        Link::Rtmp(r) if r.listens => at(&r.host, r.port(), None),
        Link::Rtp(u) if end.inbound => at(&u.host, u.port?, None),
        _ => None,
    }
}

/// Where this machine sends to or calls: host, port, stream ID; and whether a second one can only
/// do harm.
fn target<'a>(end: &'a End<'a>) -> Option<(&'a str, u16, Option<&'a str>, bool)> {
    match end.link {
        Link::Srt(s) if s.mode != Mode::Listener => Some((s.host.as_deref()?, s.port, s.stream_id.as_deref(), false)),
        Link::Udp(u) if !end.inbound => Some((u.host.as_deref()?, u.port, None, true)),
        Link::Rtp(u) if !end.inbound => Some((u.host.as_deref()?, u.port?, None, true)),
        _ => None,
    }
}

/// Two that go to one input: the second is refused, or both arrive as one heap of packets.
fn called_twice(r: &mut Reader<'_>, ends: &[End<'_>]) {
    for (i, second) in ends.iter().enumerate() {
        let Some(to) = target(second) else { continue };
        let Some(first) = ends[..i].iter().find(|e| e.inbound == second.inbound && target(e) == Some(to)) else { continue };
        let (host, port, _, mixed) = to;
        let (grade, what, remedy) = if mixed {
            let what =
                format!("it is sent to {host} port {port}, and so is {}: both arrive mixed, and neither can be shown.", first.subject);
            (Grade::Error, what, "Give each its own port.")
        } else {
            let what = format!("it calls {host} port {port}, and so does {}: one input takes one caller.", first.subject);
            (Grade::Warning, what, "Give each its own port, or each its own stream-id.")
        };
        r.add(grade, second.at(), &second.subject, what, remedy);
    }
}

/// Two that wait on one port get in each other's way, unless stream IDs tell their callers apart.
pub(super) fn check(r: &mut Reader<'_>, ends: &[End<'_>]) {
    let all: Vec<Waits<'_>> = ends.iter().filter_map(waits).collect();
    for (i, second) in all.iter().enumerate() {
        let clashes = |first: &&Waits<'_>| {
            let same_host = first.host.is_none() || second.host.is_none() || first.host == second.host;
            let told_apart = match (first.end.link, second.end.link) {
                (Link::Rtmp(a), Link::Rtmp(b)) => (a.app != b.app || a.key != b.key) && a.certificate == b.certificate,
                _ => matches!((first.stream, second.stream), (Some(Some(a)), Some(Some(b))) if a != b),
            };
            first.port == second.port && same_host && !told_apart
        };
        // One clash per entry is enough to be mended.
        if let Some(first) = all[..i].iter().find(clashes) {
            let (port, other) = (second.port, &first.end.subject);
            let (what, remedy) = match (first.stream, second.stream) {
                (Some(Some(a)), Some(Some(_))) => (
                    format!("it waits on port {port} for the stream ID \"{a}\", and so does {other}."),
                    "Give each its own stream ID, or its own port.",
                ),
                (Some(_), Some(_)) => (
                    format!("it listens on port {port}, and so does {other}."),
                    "Give each its own port, or each its own stream-id to tell the callers apart.",
                ),
                _ if matches!((first.end.link, second.end.link), (Link::Rtmp(a), Link::Rtmp(b)) if a.certificate != b.certificate) => (
                    format!("it waits on port {port} with another certificate than {other}, or one of them without TLS."),
                    "Give each its own port, or both the same certificate.",
                ),
                _ if matches!((first.end.link, second.end.link), (Link::Rtmp(_), Link::Rtmp(_))) => (
                    format!("it waits on port {port} for the same path and stream key as {other}."),
                    "Give each its own stream key: one publisher has each.",
                ),
                _ => (format!("it waits on port {port}, and so does {other}."), "Give each its own port."),
            };
            r.add(Grade::Error, second.end.at(), &second.end.subject, what, remedy);
        }
    }
    called_twice(r, ends);
    for end in ends {
        let taken = own_port(end.link).and_then(|p| TAKEN.iter().find(|(port, _)| *port == p));
        if let Some((port, service)) = taken {
            let what = format!("port {port} is where many machines have {service}.");
            r.add(Grade::Warning, end.field("port"), &end.subject, what, "Choose another one, such as 7101.");
        }
    }
}
