//! The two ends of a link: what the other one must be set to, and where two settings contradict
//! each other.

use super::{Link, Mode, RtmpLink, RtpLink, RtspLink, SrtLink, UdpLink};
use crate::{finding::Grade, secret::Secret, units::say_duration};
use std::{
    net::{IpAddr, Ipv4Addr},
    time::Duration,
};

/// The port that this end uses itself.
#[must_use]
pub fn own_port(link: &Link) -> Option<u16> {
    match link {
        Link::Srt(s) if s.mode == Mode::Rendezvous => Some(s.bind.and_then(|b| b.1).unwrap_or(s.port)),
        Link::Srt(s) => Some(s.port),
        Link::Udp(u) => Some(u.port),
        Link::Rtp(r) => r.port,
        Link::Rtmp(r) => r.listens.then(|| r.port()),
        Link::Rtsp(_) | Link::Stave(_) | Link::File(_) | Link::Wall(_) => None,
    }
}

/// What the far end of `link` must be set to, so that the two join. `inbound` tells a line's way in
/// from a feed's way out; `own` is the address that the far end knows this machine by; `name` is
/// the feed's, which an RTSP server without a path serves it under. `None` for files.
#[must_use]
pub fn opposite(link: &Link, inbound: bool, own: Option<&str>, latency: Duration, name: &str) -> Option<Link> {
    let own = own.map(str::to_owned);
    Some(match link {
        Link::Srt(s) => Link::Srt(opposite_srt(s, own, latency)),
        Link::Udp(u) => {
            let host = sent_to(u.host.as_ref(), inbound, own);
            Link::Udp(UdpLink { host, port: u.port, ttl: u.ttl.filter(|_| inbound), ..UdpLink::default() })
        }
        Link::Rtp(r) => {
            let host = sent_to(r.host.as_ref(), inbound, own);
            Link::Rtp(RtpLink { host, port: r.port, ttl: r.ttl.filter(|_| inbound), ..RtpLink::default() })
        }
        Link::Rtsp(r) => {
            let port = if inbound { r.port.unwrap_or(RtspLink::ASK_PORT) } else { r.port.unwrap_or(RtspLink::SERVE_PORT) };
            let path = if r.path.trim_matches('/').is_empty() { format!("/{name}") } else { r.path.clone() };
            Link::Rtsp(RtspLink {
                host: if inbound { None } else { own },
                port: Some(port),
                path: if inbound { r.path.clone() } else { path },
                user: r.user.clone(),
                password: r.password.clone(),
                ..RtspLink::default()
            })
        }
        Link::Rtmp(r) if r.listens => Link::Rtmp(RtmpLink { listens: false, host: own, certificate: None, ..r.clone() }),
        // A name fits by itself: there is nothing to be typed that must match; a platform or a
        // server that is pulled from says itself what its address is.
        Link::Rtmp(_) | Link::Stave(_) | Link::File(_) | Link::Wall(_) => return None,
    })
}

/// Where the far end of a link without a handshake sends to or hears: a group is the same at both
/// ends.
fn sent_to(host: Option<&String>, inbound: bool, own: Option<String>) -> Option<String> {
    let group = host.filter(|h| h.parse::<IpAddr>().is_ok_and(|ip| ip.is_multicast()));
    group.cloned().or(own.filter(|_| inbound))
}

fn opposite_srt(s: &SrtLink, own: Option<String>, latency: Duration) -> SrtLink {
    let local = s.bind.and_then(|b| b.1).unwrap_or(s.port);
    let (mode, host, port, bind) = match s.mode {
        Mode::Listener => (Mode::Caller, own, s.port, None),
        Mode::Caller => (Mode::Listener, None, s.port, None),
        // Each calls from the port that the other calls.
        Mode::Rendezvous => {
            let any = IpAddr::from(Ipv4Addr::UNSPECIFIED);
            (Mode::Rendezvous, own, local, (local != s.port).then_some((any, Some(s.port))))
        }
    };
    SrtLink {
        mode,
        host,
        port,
        bind,
        latency: Some(s.latency.unwrap_or(latency)),
        passphrase: s.passphrase.clone(),
        key_bits: s.key_bits,
        stream_id: s.stream_id.clone(),
        overhead: s.overhead,
        ceiling: s.ceiling,
    }
}

/// One contradiction between two ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Clash {
    /// How bad.
    pub grade: Grade,
    /// What is the case.
    pub what: String,
    /// What to do.
    pub remedy: String,
}

fn clash(grade: Grade, what: impl Into<String>, remedy: impl Into<String>) -> Clash {
    Clash { grade, what: what.into(), remedy: remedy.into() }
}

/// Where `far`, as the other end has it, contradicts `link`. The parameters are those of
/// [`opposite`].
#[must_use]
pub fn clashes(link: &Link, far: &Link, inbound: bool, own: Option<&str>, latency: Duration, name: &str) -> Vec<Clash> {
    let Some(wanted) = opposite(link, inbound, own, latency, name) else {
        return vec![clash(Grade::Error, format!("{} has no far end to be set.", kind(link)), "Remove far.")];
    };
    match (&wanted, far) {
        (Link::Srt(w), Link::Srt(f)) => srt_clashes(link.srt().map_or(Mode::Caller, |s| s.mode), w, f),
        (Link::Udp(w), Link::Udp(f)) => place_clashes((w.host.as_deref(), Some(w.port)), (f.host.as_deref(), Some(f.port))),
        (Link::Rtp(w), Link::Rtp(f)) => place_clashes((w.host.as_deref(), w.port), (f.host.as_deref(), f.port)),
        (Link::Rtsp(w), Link::Rtsp(f)) => {
            let usual = if inbound { RtspLink::ASK_PORT } else { RtspLink::SERVE_PORT };
            let mut found = place_clashes((w.host.as_deref(), w.port), (f.host.as_deref(), Some(f.port.unwrap_or(usual))));
            if w.path.trim_matches('/') != f.path.trim_matches('/') {
                found.push(clash(
                    Grade::Error,
                    format!("the far end has the path \"{}\", this end \"{}\".", f.path, w.path),
                    "Write the same path at both ends.",
                ));
            }
            if w.user.is_some() != f.user.is_some() {
                found.push(clash(Grade::Error, "only one end has a user and password.", "Write both at both ends, or at neither."));
            }
            found
        }
        (Link::Rtmp(w), Link::Rtmp(f)) => {
            let mut found = place_clashes((w.host.as_deref(), Some(w.port())), (f.host.as_deref(), Some(f.port())));
            if w.app != f.app {
                found.push(clash(
                    Grade::Error,
                    format!("the far end has the path \"{}\", this end \"{}\".", f.app, w.app),
                    "Write the same path at both ends.",
                ));
            }
            if let (Some(Secret::Literal(a)), Some(Secret::Literal(b))) = (&w.key, &f.key)
                && a != b
            {
                found.push(clash(Grade::Error, "the two ends have different stream keys.", "Set the same at both ends."));
            }
            found
        }
        (w, f) => {
            let (this, that) = (kind(w), kind(f));
            vec![clash(Grade::Error, format!("this end speaks {this}, the far end {that}."), "Both ends must speak the same.")]
        }
    }
}

fn kind(link: &Link) -> &'static str {
    match link {
        Link::Srt(_) => "SRT",
        Link::Udp(_) => "transport stream over UDP",
        Link::Rtp(_) => "RTP",
        Link::Rtsp(_) => "RTSP",
        Link::Rtmp(_) => "RTMP",
        Link::Stave(_) => "Stave",
        Link::File(_) => "a file",
        Link::Wall(_) => "a wall",
    }
}

fn place_clashes(wanted: (Option<&str>, Option<u16>), far: (Option<&str>, Option<u16>)) -> Vec<Clash> {
    let mut found = Vec::new();
    if let (Some(w), Some(f)) = (wanted.1, far.1)
        && w != f
    {
        found.push(clash(Grade::Error, format!("the far end has port {f}, this end {w}."), format!("Set the far end to port {w}.")));
    }
    if let (Some(w), Some(f)) = (wanted.0, far.0)
        && w != f
    {
        found.push(clash(
            Grade::Error,
            format!("the far end calls {f}, but this end is reached at {w}."),
            format!("Set the far end's host to {w}."),
        ));
    }
    found
}

/// The name that a stream ID stands for: the `r` of the structured form (draft, appendix B), else
/// all of it.
fn resource(id: &str) -> &str {
    id.strip_prefix("#!::").and_then(|keys| keys.split(',').find_map(|k| k.strip_prefix("r="))).unwrap_or(id)
}

fn srt_clashes(mode: Mode, w: &SrtLink, f: &SrtLink) -> Vec<Clash> {
    if f.mode != w.mode {
        let (what, remedy) = match (mode, f.mode) {
            (Mode::Caller, Mode::Caller) => ("both ends call, and nobody waits to be called.".into(), "Make one of them the listener."),
            (Mode::Listener, Mode::Listener) => ("both ends wait to be called.".into(), "Make one of them the caller."),
            (this, that) => (
                format!("this end is set to {}, the far end to {}.", this.word(), that.word()),
                "Rendezvous needs rendezvous; a caller needs a listener.",
            ),
        };
        // The other fields mean something else in another mode.
        return vec![clash(Grade::Error, what, remedy)];
    }
    let mut found =
        place_clashes((w.host.as_deref(), Some(w.port)), (f.host.as_deref().filter(|_| f.mode != Mode::Listener), Some(f.port)));
    match (&w.stream_id, &f.stream_id) {
        (Some(a), Some(b)) if resource(a) == resource(b) => {}
        (None, Some(_)) if mode == Mode::Listener => {}
        (None, None) => {}
        (a, b) => {
            let say = |id: &Option<String>| id.as_ref().map_or_else(|| "none".into(), |i| format!("\"{i}\""));
            found.push(clash(
                Grade::Error,
                format!("the far end has the stream ID {}, this end {}.", say(b), say(a)),
                "Write the same stream ID at both ends.",
            ));
        }
    }
    match (&w.passphrase, &f.passphrase) {
        (Some(_), None) => found.push(clash(Grade::Error, "this end has a passphrase, the far end none.", "Set the same at both ends.")),
        (None, Some(_)) => found.push(clash(Grade::Error, "the far end has a passphrase, this end none.", "Set the same at both ends.")),
        (Some(Secret::Literal(a)), Some(Secret::Literal(b))) if a != b => {
            found.push(clash(Grade::Error, "the two ends have different passphrases.", "Set the same at both ends."));
        }
        _ => {}
    }
    if let (Some(_), Some(_), a, b) = (&w.passphrase, &f.passphrase, w.key_bits.unwrap_or(128), f.key_bits.unwrap_or(128))
        && a != b
    {
        found.push(clash(
            Grade::Warning,
            format!("the far end has a key length of {b} bits, this end {a}."),
            "The end that sends decides; set both the same, so that nobody relies on the longer one in vain.",
        ));
    }
    if let (Some(a), Some(b)) = (w.latency, f.latency)
        && a != b
    {
        found.push(clash(
            Grade::Advice,
            format!("the far end asks for a latency of {}, this end for {}.", say_duration(b), say_duration(a)),
            format!("The larger value applies: {}. Set both the same, so that each page shows what is in force.", say_duration(a.max(b))),
        ));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::link::{parse_url, show_url};

    fn link(url: &str) -> Link {
        parse_url(url).0.expect(url)
    }

    fn turned(url: &str, inbound: bool) -> String {
        show_url(&opposite(&link(url), inbound, Some("127.20.0.1"), Duration::from_millis(120), "boathouse-1").expect("a far end"))
    }

    #[test]
    fn the_far_end_is_the_opposite() {
        for (url, inbound, far) in [
            ("srt://:7103?streamid=launch&latency=300", true, "srt://127.20.0.1:7103?mode=caller&latency=300&streamid=launch"),
            ("srt://127.20.1.12:7102?mode=caller", true, "srt://:7102?mode=listener&latency=120"),
            ("srt://127.20.1.14:7104?mode=rendezvous", true, "srt://127.20.0.1:7104?mode=rendezvous&latency=120"),
            (
                "srt://127.20.1.14:7104?mode=rendezvous&bind=127.20.0.1:7200",
                true,
                "srt://127.20.0.1:7200?mode=rendezvous&latency=120&bind=0.0.0.0:7104",
            ),
            ("udp://:7204", true, "udp://127.20.0.1:7204"),
            ("udp://127.20.0.31:7204", false, "udp://:7204"),
            ("udp://239.20.0.6:7206?interface=127.20.0.1", false, "udp://239.20.0.6:7206"),
            ("rtp://239.20.0.6:7208", true, "rtp://239.20.0.6:7208"),
            ("rtsp://127.20.0.11/main", true, "rtsp://:554/main"),
            ("rtsp://:8554", false, "rtsp://127.20.0.1:8554/boathouse-1"),
        ] {
            assert_eq!(turned(url, inbound), far, "{url}");
        }
        assert_eq!(opposite(&link("clip.ts"), true, None, Duration::ZERO, ""), None);
    }

    fn said(this: &str, far: &str, inbound: bool) -> Vec<String> {
        clashes(&link(this), &link(far), inbound, Some("127.20.0.1"), Duration::from_millis(120), "x").into_iter().map(|c| c.what).collect()
    }

    #[test]
    fn what_is_right_has_no_clash_and_what_is_not_is_named() {
        assert_eq!(
            said("srt://:7103?streamid=launch", "srt://127.20.0.1:7103?streamid=%23!::r=launch,m=publish&latency=120", true),
            [""; 0]
        );
        assert_eq!(said("srt://:7103", "srt://127.20.0.1:7103?streamid=anything", true), [""; 0], "a listener without one takes any");
        assert_eq!(
            said("srt://127.20.1.12:7102?streamid=a&latency=100&passphrase=one%20of%20ours", "srt://:7103?streamid=b&latency=200", true),
            [
                "the far end has port 7103, this end 7102.",
                "the far end has the stream ID \"b\", this end \"a\".",
                "this end has a passphrase, the far end none.",
                "the far end asks for a latency of 200 ms, this end for 100 ms.",
            ]
        );
        assert_eq!(said("srt://:7103", "srt://:7103", true), ["both ends wait to be called."]);
        assert_eq!(said("srt://a:7103", "srt://b:7103", true), ["both ends call, and nobody waits to be called."]);
        assert_eq!(said("srt://:7103", "srt://b:7103?mode=rendezvous", true), ["this end is set to listener, the far end to rendezvous."]);
        assert_eq!(said("srt://:7103", "udp://127.20.0.1:7103", true), ["this end speaks SRT, the far end transport stream over UDP."]);
        assert_eq!(said("rtsp://:8554/a", "rtsp://desk@127.20.0.1:8554/b#password-env=A", false).len(), 2);
        let lengths = said("srt://:7103?passphrase-env=A&pbkeylen=32", "srt://127.20.0.1:7103?passphrase-env=A&pbkeylen=16", true);
        assert_eq!(lengths, ["the far end has a key length of 128 bits, this end 256."]);
    }
}
