//! RTP without a session: a transport stream in payload type 33, or what a session description
//! says.

use super::{
    Intake, Outlet, WayCause,
    cause::resolve,
    media_in::{MediaIn, ReceiveOptions, rand},
    status::LinkStatus,
    udp_ts::{open_out, send_datagrams},
};
use bytes::BytesMut;
use choir_core::{
    facts::{Contact, Notice, Waiting},
    link::RtpLink,
};
use choir_host::clock::sleep_until;
use choir_host::{Stop, udp::UdpPort};
use choir_proto::{
    rtp::{Feedback, PayloadFormat, write_rtp_header},
    rtsp::{SdpTrack, parse_sdp},
};
use std::{
    io,
    net::{IpAddr, SocketAddr},
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::task::JoinHandle;

const TS_TYPE: u8 = 33;
/// Silence after which the source counts as gone, and what comes then as a new one.
const SILENCE: Duration = Duration::from_secs(2);

/// One track's sockets.
struct Port {
    rtp: UdpPort,
    rtcp: Option<UdpPort>,
}

impl Port {
    fn open(at: SocketAddr, source: Option<IpAddr>, interface: Option<IpAddr>) -> io::Result<Self> {
        let open = |at: SocketAddr| {
            if at.ip().is_multicast() { UdpPort::join(at, source, interface) } else { UdpPort::open(at, None) }
        };
        let beside = at.port().checked_add(1).map(|p| SocketAddr::new(at.ip(), p));
        // Reports are a help, not a need: another program may have the port beside.
        Ok(Self { rtp: open(at)?, rtcp: beside.and_then(|b| open(b).ok()) })
    }
}

fn ts_track() -> SdpTrack {
    SdpTrack {
        kind: "video".into(),
        port: 0,
        payload_type: TS_TYPE,
        encoding: "MP2T".into(),
        clock_rate: 90_000,
        format: Ok(PayloadFormat::Ts),
        control: None,
        connection: None,
        source: None,
        frame_rate: None,
        bandwidth: None,
        feedback: Feedback::default(),
    }
}

/// Receives as a link says. `base` is the folder that a session description's path counts from.
///
/// # Errors
/// The description cannot be read, or an address cannot be had.
pub async fn spawn_rtp_in(
    link: &RtpLink,
    base: &Path,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
    stop: Stop,
) -> Result<JoinHandle<()>, WayCause> {
    let tracks = match &link.sdp {
        None => vec![ts_track()],
        Some(path) => described(&base.join(path), &status).await?,
    };
    let mut ports = Vec::new();
    for t in &tracks {
        let host = match &link.host {
            Some(_) => resolve(link.host.as_deref(), 0).await?.ip(),
            None => t.connection.unwrap_or([0, 0, 0, 0].into()),
        };
        let port = if t.port > 0 { t.port } else { link.port.unwrap_or(0) };
        let at = SocketAddr::new(host, port);
        ports.push(Port::open(at, link.source.or(t.source), link.interface).map_err(|e| WayCause::Open(at, e))?);
    }
    let taking = ReceiveOptions::new(link.reorder, link.damaged);
    let at = ports.first().and_then(|p| p.rtp.local_addr().ok()).map_or(0, |a| a.port());
    let inode = ports.first().and_then(|p| p.rtp.inode());
    let waiting_for = Waiting::Packets { port: at };
    status.update(|l| {
        l.socket = inode;
        l.contact = Contact::Waiting(waiting_for.clone());
        l.set_how("RTP".into());
    });
    Ok(tokio::spawn(receive(tracks, ports, taking, intake, status, waiting_for, stop)))
}

async fn described(path: &Path, status: &LinkStatus) -> Result<Vec<SdpTrack>, WayCause> {
    let fail = |what: String| WayCause::Description(path.to_owned(), what);
    let text = tokio::fs::read_to_string(path).await.map_err(|e| fail(e.to_string()))?;
    let sdp = parse_sdp(&text).map_err(|e| fail(e.to_string()))?;
    let chosen = choose(&sdp.tracks, status);
    if chosen.is_empty() {
        return Err(fail("no track in it can be carried".into()));
    }
    Ok(chosen.into_iter().filter_map(|n| sdp.tracks.get(n).cloned()).collect())
}

/// The tracks to take: a whole transport stream, or the first of pictures and the first of sound.
/// All others are named and left aside.
pub(super) fn choose(tracks: &[SdpTrack], status: &LinkStatus) -> Vec<usize> {
    let first = |wanted: fn(&PayloadFormat) -> bool| tracks.iter().position(|t| t.format.as_ref().is_ok_and(wanted));
    let chosen: Vec<usize> = match first(|f| *f == PayloadFormat::Ts) {
        Some(ts) => vec![ts],
        None => {
            let video = first(|f| matches!(f, PayloadFormat::H264 { .. } | PayloadFormat::H265 { .. }));
            let sound = first(|f| matches!(f, PayloadFormat::Aac { .. } | PayloadFormat::Latm { .. } | PayloadFormat::G711(_)));
            video.into_iter().chain(sound).collect()
        }
    };
    for (n, t) in tracks.iter().enumerate().filter(|(n, _)| !chosen.contains(n)) {
        let why = t.format.as_ref().err().cloned().unwrap_or_else(|| format!("only one {} track is carried", t.kind));
        status.note(Notice::TrackIgnored { number: n + 1, kind: t.kind.clone(), encoding: t.encoding.clone(), why });
    }
    chosen
}

/// Waits until one of the sockets has something.
pub(super) async fn any_readable<'a>(sockets: impl Iterator<Item = &'a UdpPort>) {
    let mut waits: Vec<_> = sockets.map(|s| Box::pin(s.readable())).collect();
    if waits.is_empty() {
        return std::future::pending().await;
    }
    std::future::poll_fn(|cx| {
        let ready = waits.iter_mut().any(|w| w.as_mut().poll(cx).is_ready());
        if ready { std::task::Poll::Ready(()) } else { std::task::Poll::Pending }
    })
    .await;
}

async fn receive(
    tracks: Vec<SdpTrack>,
    ports: Vec<Port>,
    taking: ReceiveOptions,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
    waiting_for: Waiting,
    mut stop: Stop,
) {
    let make = || {
        let all: Vec<_> = tracks.iter().filter_map(|t| Some((t, t.format.as_ref().ok()?))).collect();
        MediaIn::new(&all, taking, intake.clone(), status.clone())
    };
    let mut media = make();
    let mut arena = BytesMut::new();
    let mut got = Vec::new();
    let mut senders: Vec<Option<SocketAddr>> = vec![None; ports.len()];
    let mut was_held = false;
    status.control.set_link_takes_requests(media.can_ask_keyframe());
    let (mut keyframe_asks, mut requests) = (status.control.keyframe_requests(), Vec::new());
    loop {
        let due = media.poll_timeout();
        tokio::select! {
            () = stop.wait() => return,
            () = any_readable(ports.iter().map(|p| &p.rtp).chain(ports.iter().filter_map(|p| p.rtcp.as_ref()))) => {}
            () = status.control.woken() => {}
            Ok(()) = keyframe_asks.changed() => requests.extend(media.keyframe_request()),
            () = sleep_until(due) => {}
        }
        let (now, held) = (Instant::now(), status.control.is_held());
        if held != was_held {
            was_held = held;
            media = make();
            status.update(|l| {
                l.since = None;
                l.contact = if held { Contact::Held } else { Contact::Waiting(waiting_for.clone()) };
            });
        }
        if media.last_packet.is_some_and(|t| now.saturating_duration_since(t) > SILENCE) {
            media = make();
        }
        for (n, port) in ports.iter().enumerate() {
            port.rtp.drain(&mut arena, &mut got);
            for (from, data) in got.drain(..).filter(|_| !held) {
                if senders[n].replace(from).is_none_or(|s| s.ip() != from.ip()) && n == 0 {
                    status.update(|l| l.peer = Some(from));
                    status.note(Notice::MediaFrom(from));
                }
                media.rtp(n, now, &data);
            }
            if let Some(rtcp) = &port.rtcp {
                rtcp.drain(&mut arena, &mut got);
                got.drain(..).filter(|_| !held).for_each(|(_, data)| media.rtcp(n, now, &data));
            }
        }
        media.handle_timeout(now);
        // Reports go to the one sender; a group of many receivers is spared them.
        for (n, report) in media.reports(now).into_iter().chain(requests.drain(..)) {
            let to = senders.get(n).copied().flatten().and_then(|s| Some(SocketAddr::new(s.ip(), s.port().checked_add(1)?)));
            if let (Some(to), Some(rtcp)) = (to, ports.get(n).and_then(|p| p.rtcp.as_ref()))
                && !rtcp.local_addr().is_ok_and(|a| a.ip().is_multicast())
            {
                let _ = rtcp.send(to, None, &report);
            }
        }
    }
}

/// Sends the transport stream in RTP to `to`, seven packets a datagram (RFC 2250).
///
/// # Errors
/// No socket can be had.
pub fn spawn_rtp_out(
    to: SocketAddr,
    interface: Option<IpAddr>,
    ttl: Option<u8>,
    outlet: Arc<Outlet>,
    status: Arc<LinkStatus>,
    stop: Stop,
) -> io::Result<JoinHandle<()>> {
    let socket = open_out(to, interface, ttl)?;
    status.update(|l| l.set_how("RTP".into()));
    let (ssrc, offset, mut sequence) = (rand(), rand(), rand() as u16);
    let start = Instant::now();
    Ok(tokio::spawn(send_datagrams(socket, to, outlet, status, stop, move |data, packet| {
        // The time of sending, in ticks of 90 kHz (RFC 2250, 2).
        let timestamp = offset.wrapping_add((start.elapsed().as_micros() * 9 / 100) as u32);
        packet.clear();
        write_rtp_header(false, TS_TYPE, sequence, timestamp, ssrc, packet);
        packet.extend_from_slice(data);
        sequence = sequence.wrapping_add(1);
        packet
    })))
}
