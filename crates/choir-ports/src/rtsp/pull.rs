//! Pulls a camera: one session after the other, by UDP or within the connection.

use super::{
    super::{
        Intake,
        media_in::{MediaIn, ReceiveOptions, rand},
        retry::{Attempt, Ended, Pause, keep_up},
        rtp::{any_readable, choose},
        status::LinkStatus,
    },
    SOFTWARE,
};
use bytes::{Bytes, BytesMut};
use choir_core::{
    facts::{Fault, Joining, Loss, Notice},
    link::RtspTransport,
};
use choir_host::clock::sleep_until;
use choir_host::{Backoff, Stop, udp::UdpPort};
use choir_proto::{
    auth::Scheme,
    foreign::plain,
    rtp::write_receiver_report,
    rtsp::{
        Client, ClientConfig, ClientEnd, ClientEvent, Credentials, Delivery, Lower, Method, RtspUrl, SdpTrack, SessionDescription,
        SetTrack, TrackPorts,
    },
};
use std::{
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    task::JoinHandle,
};

/// Pauses between attempts.
const RETRY_FIRST: Duration = Duration::from_millis(500);
const RETRY_MOST: Duration = Duration::from_secs(15);
/// The same while nobody listens on the port: asking costs the device nothing, and it may be just
/// starting.
const RETRY_NOBODY: Duration = Duration::from_secs(2);
/// After a refusal, before the one other attempt.
const RETRY_REFUSED: Duration = Duration::from_secs(3);
/// Refusals after which nobody asks any more.
const REFUSALS_MAX: u32 = 2;
const REDIRECTS_MAX: u32 = 5;
const CONNECT: Duration = Duration::from_secs(5);
/// How long UDP may bring nothing before the connection itself is tried; some cameras first send at
/// a keyframe.
const UDP_PATIENCE: Duration = Duration::from_secs(6);
/// How long media may be awaited where the way is known to work: sender reports come, or it is the
/// connection itself.
const FIRST_MEDIA: Duration = Duration::from_secs(15);
/// Silence after which a session counts as broken.
const SILENCE: Duration = Duration::from_secs(6);
/// Time allowed for TEARDOWN.
const GOODBYE: Duration = Duration::from_millis(500);

/// A camera to pull.
pub struct PullPlan {
    /// What to ask for.
    pub url: RtspUrl,
    /// Who asks.
    pub credentials: Option<Credentials>,
    /// How packets are to travel.
    pub transport: RtspTransport,
    /// How long to wait for a missing packet.
    pub reorder: Option<Duration>,
    /// Hand on pictures with holes.
    pub pass_damaged: bool,
    /// Own address by which a group is joined.
    pub interface: Option<IpAddr>,
    /// Where media goes.
    pub intake: Arc<dyn Intake>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// How an attempt ended.
enum Outcome {
    Stopped,
    Held,
    /// Nothing came by UDP, or the device does not send that way.
    NotByUdp(&'static str),
    Ended(ClientEnd),
    Failed(Option<Fault>, String),
    /// Nobody listens on the port.
    Nobody(String),
}

/// What is remembered from one attempt to the next.
struct Memory {
    url: RtspUrl,
    lower: Lower,
    skip_schemes: usize,
    no_basic: bool,
    refusals: u32,
    redirects: u32,
    was_up: bool,
}

/// Asks, and asks again with growing pauses whenever the session is lost.
pub fn spawn_pull(plan: PullPlan, stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let status = plan.status.clone();
        let puller = Puller { memory: Memory::of(&plan), plan };
        keep_up(puller, &status, Backoff::new(RETRY_FIRST, RETRY_MOST), stop).await;
    })
}

impl Memory {
    fn of(plan: &PullPlan) -> Self {
        let lower = match plan.transport {
            RtspTransport::Auto | RtspTransport::Udp => Lower::Udp,
            RtspTransport::Tcp => Lower::Tcp,
            RtspTransport::Multicast => Lower::Multicast,
        };
        Self { url: plan.url.clone(), lower, skip_schemes: 0, no_basic: false, refusals: 0, redirects: 0, was_up: false }
    }
}

struct Puller {
    plan: PullPlan,
    memory: Memory,
}

impl Attempt for Puller {
    async fn attempt(&mut self, stop: &mut Stop) -> Ended {
        let (plan, memory) = (&self.plan, &mut self.memory);
        memory.was_up = false;
        let outcome = attempt(plan, memory, stop).await;
        plan.status.control.set_link_takes_requests(false);
        let was_up = memory.was_up;
        if was_up {
            (memory.refusals, memory.redirects) = (0, 0);
        }
        let (pause, fault, why) = match outcome {
            Outcome::Stopped => return Ended::Over,
            Outcome::Held => return Ended::Again,
            Outcome::NotByUdp(what) if plan.transport == RtspTransport::Auto => {
                memory.lower = Lower::Tcp;
                plan.status.note(Notice::FallsBackToTcp(what.to_owned()));
                return Ended::Again;
            }
            Outcome::NotByUdp(what) => (Pause::Growing, None, what.to_owned()),
            Outcome::Ended(ClientEnd::Redirect(url)) if memory.redirects < REDIRECTS_MAX => {
                plan.status.note(Notice::Redirected(plain(&url.to_string(), 200)));
                memory.redirects += 1;
                memory.url = url;
                return Ended::Again;
            }
            Outcome::Ended(end @ ClientEnd::NoCredentials(_)) => {
                let remedy = "set them in the sheet, or use rtsp://user@host/path#password-env=NAME";
                (Pause::UntilReleased, Some(Fault::Login), format!("{end}: {remedy}"))
            }
            Outcome::Ended(end @ ClientEnd::Refused(..)) => {
                memory.refusals += 1;
                if let ClientEnd::Refused(scheme, offered) = &end {
                    memory.no_basic |= *scheme != Scheme::Basic.to_string();
                    // Some devices offer a way of proof that they do themselves wrong: the next
                    // best one, once.
                    memory.skip_schemes = (memory.skip_schemes + 1).min(offered.saturating_sub(1));
                }
                if memory.refusals >= REFUSALS_MAX {
                    let remedy = "stopped after two attempts, since many devices lock the account; correct the password, then hold and \
                                  release the line";
                    (Pause::UntilReleased, Some(Fault::Login), format!("{end}: {remedy}"))
                } else {
                    (Pause::Fixed(RETRY_REFUSED), Some(Fault::Login), end.to_string())
                }
            }
            Outcome::Ended(end) => {
                if end == ClientEnd::TransportRefused && plan.transport == RtspTransport::Auto {
                    // Not within the connection either: UDP may have been only slow to come.
                    memory.lower = Lower::Udp;
                }
                (Pause::Growing, fault_of(&end), end.to_string())
            }
            Outcome::Failed(fault, why) => (Pause::Growing, fault, why),
            Outcome::Nobody(why) => (Pause::AtMost(RETRY_NOBODY), Some(Fault::PortClosed), why),
        };
        if memory.redirects > 0 && !was_up {
            // Where it pointed to does not work: from the start.
            memory.url = plan.url.clone();
            memory.redirects = 0;
        }
        let peer = memory.url.authority().to_string();
        Ended::Lost { was_up, pause, loss: Loss::Call { peer, fault, why } }
    }

    fn released(&mut self) {
        self.memory = Memory::of(&self.plan);
    }
}

fn fault_of(end: &ClientEnd) -> Option<Fault> {
    match end {
        ClientEnd::NoCredentials(_) | ClientEnd::Refused(..) => Some(Fault::Login),
        ClientEnd::Status(_, 404, _) => Some(Fault::Path),
        ClientEnd::Status(..) | ClientEnd::TransportRefused => Some(Fault::Refused),
        ClientEnd::Silent(_) | ClientEnd::Nonsense(_) => Some(Fault::WrongProtocol),
        ClientEnd::Closed => Some(Fault::PeerLost),
        ClientEnd::Redirect(_) | ClientEnd::Done => None,
    }
}

/// Why no connection was made.
fn connect_fault(e: &io::Error) -> Option<Fault> {
    match e.kind() {
        io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable | io::ErrorKind::TimedOut => Some(Fault::Silent),
        // A name that is not known has no kind of its own.
        _ if e.raw_os_error().is_none() => Some(Fault::Name),
        _ => None,
    }
}

/// A track that is being received.
struct Lane {
    /// RTP and RTCP sockets, by UDP.
    sockets: Option<(UdpPort, UdpPort)>,
    /// Where its RTCP goes.
    reports_to: Option<SocketAddr>,
    channels: Option<(u8, u8)>,
}

/// One session.
struct Pull<'a> {
    plan: &'a PullPlan,
    memory: &'a mut Memory,
    client: Client,
    peer: SocketAddr,
    local: IpAddr,
    description: SessionDescription,
    chosen: Vec<usize>,
    lanes: Vec<Lane>,
    media: Option<MediaIn>,
    playing_since: Option<Instant>,
}

async fn attempt(plan: &PullPlan, memory: &mut Memory, stop: &mut Stop) -> Outcome {
    plan.status.set_joining(Joining::Asking(memory.url.authority().to_string()));
    let connect = TcpStream::connect((memory.url.host.clone(), memory.url.port));
    let connected = tokio::select! {
        c = tokio::time::timeout(CONNECT, connect) => c,
        () = stop.wait() => return Outcome::Stopped,
        () = plan.status.control.woken() => return Outcome::Held,
    };
    let mut stream = match connected {
        Ok(Ok(stream)) => stream,
        Ok(Err(e)) if e.kind() == io::ErrorKind::ConnectionRefused => return Outcome::Nobody(connect_sentence(&e)),
        Ok(Err(e)) => return Outcome::Failed(connect_fault(&e), connect_sentence(&e)),
        Err(_) => return Outcome::Failed(Some(Fault::Silent), "no answer: is the device on, and is the address right?".into()),
    };
    let _ = stream.set_nodelay(true);
    let (Ok(peer), Ok(local)) = (stream.peer_addr(), stream.local_addr()) else {
        return Outcome::Failed(None, "the connection is gone".into());
    };
    // Nobody but the device that was named learns the password.
    let same = memory.url.host == plan.url.host;
    let config = ClientConfig {
        url: memory.url.clone(),
        credentials: plan.credentials.clone().filter(|_| same),
        skip_schemes: memory.skip_schemes,
        no_basic: memory.no_basic,
        software: SOFTWARE.into(),
        seed: u64::from(rand()) << 32 | u64::from(rand()),
    };
    plan.status.update(|l| l.peer = Some(peer));
    let client = Client::new(config, Instant::now());
    let mut pull = Pull {
        plan,
        memory,
        client,
        peer,
        local: local.ip(),
        description: SessionDescription::default(),
        chosen: Vec::new(),
        lanes: Vec::new(),
        media: None,
        playing_since: None,
    };
    let outcome = pull.run(&mut stream, stop).await;
    // Says goodbye whatever happened, so that the device frees its place.
    pull.client.tear_down(Instant::now());
    let _ = tokio::time::timeout(GOODBYE, pull.transmit(&mut stream)).await;
    outcome
}

fn connect_sentence(e: &io::Error) -> String {
    match e.kind() {
        io::ErrorKind::ConnectionRefused => "nobody answers on this port: is RTSP switched on in the device, and is the port right?".into(),
        io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable => {
            format!("{e}: check the address and the network settings of this machine")
        }
        _ => e.to_string(),
    }
}

impl Pull<'_> {
    async fn transmit(&mut self, stream: &mut TcpStream) -> io::Result<()> {
        while let Some(bytes) = self.client.poll_transmit() {
            stream.write_all(&bytes).await?;
        }
        Ok(())
    }

    async fn run(&mut self, stream: &mut TcpStream, stop: &mut Stop) -> Outcome {
        let mut arena = BytesMut::new();
        let mut got: Vec<(SocketAddr, Bytes)> = Vec::new();
        let mut keyframe_asks = self.plan.status.control.keyframe_requests();
        loop {
            match tokio::time::timeout(CONNECT, self.transmit(stream)).await {
                Ok(Ok(())) => {}
                Ok(Err(e)) => return Outcome::Failed(None, format!("the connection is lost: {e}")),
                Err(_) => return Outcome::Failed(None, "the device stopped reading requests".into()),
            }
            let due = self.due();
            let sockets = self.lanes.iter().filter_map(|l| l.sockets.as_ref()).flat_map(|(a, b)| [a, b]);
            self.client.buffer().reserve(64 << 10);
            tokio::select! {
                () = stop.wait() => return Outcome::Stopped,
                () = self.plan.status.control.woken() => if self.plan.status.control.is_held() { return Outcome::Held },
                read = stream.read_buf(self.client.buffer()) => match read {
                    Ok(0) | Err(_) => self.client.handle_closed(),
                    Ok(_) => self.client.handle_input(Instant::now()),
                },
                () = any_readable(sockets) => {}
                Ok(()) = keyframe_asks.changed() => {
                    if let Some((n, request)) = self.media.as_mut().and_then(MediaIn::keyframe_request) {
                        self.report(n, &request);
                    }
                }
                () = sleep_until(due) => {}
            }
            let now = Instant::now();
            self.receive(now, &mut arena, &mut got);
            self.client.handle_timeout(now);
            while let Some(event) = self.client.poll_event() {
                if let Some(outcome) = self.event(now, event) {
                    return outcome;
                }
            }
            if let Some(media) = &mut self.media {
                media.handle_timeout(now);
                for (n, report) in media.reports(now) {
                    self.report(n, &report);
                }
            }
            if let Some(outcome) = self.judge(now) {
                return outcome;
            }
            let rtt = self.client.rtt();
            self.plan.status.update(|l| l.rtt = rtt);
        }
    }

    fn due(&self) -> Option<Instant> {
        let last = self.media.as_ref().and_then(|m| m.last_packet);
        let patience = self.playing_since.map(|t| last.map_or(t + self.patience(), |l| l + SILENCE));
        let media = self.media.as_ref().and_then(MediaIn::poll_timeout);
        media.into_iter().chain(self.client.poll_timeout()).chain(patience).min()
    }

    /// How long nothing may come at first.
    fn patience(&self) -> Duration {
        let falls_back = self.plan.transport == RtspTransport::Auto && self.memory.lower == Lower::Udp;
        let reported = self.media.as_ref().is_some_and(|m| m.reported);
        if falls_back && !reported { UDP_PATIENCE } else { FIRST_MEDIA }
    }

    fn judge(&mut self, now: Instant) -> Option<Outcome> {
        let since = self.playing_since?;
        match self.media.as_ref().and_then(|m| m.last_packet) {
            None if now >= since + self.patience() && self.memory.lower == Lower::Udp => {
                Some(Outcome::NotByUdp("the device says that it plays, but nothing comes by UDP"))
            }
            None if now >= since + self.patience() => {
                Some(Outcome::Failed(None, "the device says that it plays, but nothing comes".into()))
            }
            Some(last) if now >= last + SILENCE => Some(Outcome::Failed(None, format!("nothing has come for {} s", SILENCE.as_secs()))),
            Some(_) => {
                self.memory.was_up = true;
                None
            }
            None => None,
        }
    }

    fn receive(&mut self, now: Instant, arena: &mut BytesMut, got: &mut Vec<(SocketAddr, Bytes)>) {
        let Some(media) = &mut self.media else { return };
        let group = self.memory.lower == Lower::Multicast;
        for (n, lane) in self.lanes.iter().enumerate() {
            let Some((rtp, rtcp)) = &lane.sockets else { continue };
            rtp.drain(arena, got);
            // Packets from strangers are not the camera's.
            let from_it = |from: &SocketAddr| group || from.ip() == self.peer.ip() || lane.reports_to.is_some_and(|r| r.ip() == from.ip());
            got.drain(..).filter(|(from, _)| from_it(from)).for_each(|(_, data)| media.rtp(n, now, &data));
            rtcp.drain(arena, got);
            got.drain(..).filter(|(from, _)| from_it(from)).for_each(|(_, data)| media.rtcp(n, now, &data));
        }
    }

    fn report(&mut self, track: usize, report: &[u8]) {
        let Some(lane) = self.lanes.get(track) else { return };
        if let Some((_, channel)) = lane.channels {
            self.client.send_frame(channel, report);
        } else if let (Some((_, rtcp)), Some(to)) = (&lane.sockets, lane.reports_to) {
            let _ = rtcp.send(to, None, report);
        }
    }

    fn event(&mut self, now: Instant, event: ClientEvent) -> Option<Outcome> {
        match event {
            ClientEvent::Described(sdp) => {
                self.chosen = choose(&sdp.tracks, &self.plan.status);
                self.description = sdp;
                if self.chosen.is_empty() {
                    return Some(Outcome::Failed(None, "no track of the device can be carried".into()));
                }
                let mut setups = Vec::new();
                for &track in &self.chosen {
                    let (sockets, ports) = match self.memory.lower {
                        Lower::Udp => match pair(self.local) {
                            Ok((pair, ports)) => (Some(pair), Some(ports)),
                            Err(e) => return Some(Outcome::Failed(None, format!("no free RTP/RTCP port pair: {e}"))),
                        },
                        _ => (None, None),
                    };
                    self.lanes.push(Lane { sockets, reports_to: None, channels: None });
                    setups.push(TrackPorts { track, lower: self.memory.lower, ports });
                }
                self.client.set_up(now, setups);
            }
            ClientEvent::SetUp(set) => return self.set_up(now, &set),
            ClientEvent::Playing(starts) => {
                self.playing_since = Some(now);
                let scheme = self.client.scheme().map_or_else(String::new, |s| format!(", {s}"));
                let how = format!("RTP by {}{scheme}", self.memory.lower);
                self.plan.status.update(|l| {
                    l.software = self.client.server().map(str::to_owned);
                    l.set_how(how);
                });
                if let Some(media) = &mut self.media {
                    for (track, timestamp) in starts {
                        if let Some(n) = self.chosen.iter().position(|c| *c == track) {
                            media.starts_at(n, timestamp);
                        }
                    }
                }
            }
            ClientEvent::Frame(channel, data) => {
                let Some(media) = &mut self.media else { return None };
                for (n, lane) in self.lanes.iter().enumerate() {
                    match lane.channels {
                        Some((rtp, _)) if rtp == channel => media.rtp(n, now, &data),
                        Some((_, rtcp)) if rtcp == channel => media.rtcp(n, now, &data),
                        _ => {}
                    }
                }
            }
            ClientEvent::Ended(ClientEnd::TransportRefused) if self.memory.lower == Lower::Udp => {
                return Some(Outcome::NotByUdp("the device does not send by UDP"));
            }
            ClientEvent::Ended(ClientEnd::Status(Method::Setup, status, words)) if self.memory.lower == Lower::Multicast => {
                return Some(Outcome::Failed(None, format!("the device offers no multicast ({status} {words})")));
            }
            ClientEvent::Ended(end) => return Some(Outcome::Ended(end)),
        }
        None
    }

    fn set_up(&mut self, now: Instant, set: &[SetTrack]) -> Option<Outcome> {
        for (lane, s) in self.lanes.iter_mut().zip(set) {
            let t = &s.transport;
            match t.delivery {
                Delivery::Multicast => {
                    let group = t.destination?;
                    let (rtp, rtcp) = t.port.or(t.client_port)?;
                    let join = |port| UdpPort::join(SocketAddr::new(group, port), None, self.plan.interface.or(Some(self.local)));
                    match join(rtp).and_then(|a| Ok((a, join(rtcp)?))) {
                        Ok(sockets) => lane.sockets = Some(sockets),
                        Err(e) => return Some(Outcome::Failed(None, format!("the group {group}:{rtp} cannot be joined: {e}"))),
                    }
                }
                Delivery::Udp => {
                    let from = t.source.unwrap_or(self.peer.ip());
                    lane.reports_to = t.server_port.map(|(_, rtcp)| SocketAddr::new(from, rtcp));
                    // Opens the way back through address translators and firewalls.
                    if let (Some((rtp, rtcp)), Some((to_rtp, to_rtcp))) = (&lane.sockets, t.server_port) {
                        let hello = write_receiver_report(rand(), "choir", None);
                        for (socket, port) in [(rtp, to_rtp), (rtcp, to_rtcp)] {
                            let _ = socket.send(SocketAddr::new(from, port), None, &hello);
                        }
                    }
                }
                Delivery::Tcp => {}
            }
            lane.channels = t.interleaved;
        }
        let chosen = self.chosen.iter().filter_map(|n| self.description.tracks.get(*n));
        let tracks: Vec<(&SdpTrack, _)> = chosen.filter_map(|t| Some((t, t.format.as_ref().ok()?))).collect();
        let taking = ReceiveOptions::new(self.plan.reorder, self.plan.pass_damaged);
        self.media = Some(MediaIn::new(&tracks, taking, self.plan.intake.clone(), self.plan.status.clone()));
        self.plan.status.control.set_link_takes_requests(self.media.as_ref().is_some_and(MediaIn::can_ask_keyframe));
        self.client.play(now);
        None
    }
}

/// Two ports beside each other, the first one even (RFC 3550, 11).
pub(super) fn pair(local: IpAddr) -> io::Result<((UdpPort, UdpPort), (u16, u16))> {
    let mut last = io::Error::other("none was free");
    for _ in 0..50 {
        let one = UdpPort::open(SocketAddr::new(local, 0), None)?;
        let port = one.local_addr()?.port();
        let other = if port.is_multiple_of(2) { port.checked_add(1) } else { port.checked_sub(1) };
        let Some(other) = other else { continue };
        match UdpPort::open(SocketAddr::new(local, other), None) {
            Ok(two) if port < other => return Ok(((one, two), (port, other))),
            Ok(two) => return Ok(((two, one), (other, port))),
            Err(e) => last = e,
        }
    }
    Err(last)
}
