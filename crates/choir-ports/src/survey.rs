//! Measures a path between two Cable Choirs: the sockets and the clock for `choir_proto::survey`.

use choir_core::{
    advice::PathFacts,
    units::{Bitrate, say_duration},
    view::{PathView, WayView},
};
use choir_host::{
    Stop,
    clock::{Alarm, unix_us},
    random, secret_random,
    udp::UdpPort,
};
use choir_proto::survey::{Answerer, Asker, Failure, Outgoing, Phase, Plan, Survey, WayReport};
use futures_core::future::BoxFuture;
use std::{
    io,
    net::SocketAddr,
    time::{Duration, Instant},
};
use tokio::sync::mpsc;

/// Why a path was not measured.
#[derive(Debug, thiserror::Error)]
pub enum SurveyError {
    /// An address cannot be had.
    #[error("cannot open {0}: {1}")]
    Open(SocketAddr, io::Error),
    /// A name cannot be looked up.
    #[error("the name {0} cannot be looked up: {1}")]
    Name(String, String),
    /// Nothing listens there.
    #[error("{0} answers, but nothing listens on that UDP port: start \"choir path --answer\" there")]
    PortClosed(SocketAddr),
    /// The other side or the path.
    #[error("{0}: {text}", text = say(.1))]
    Failed(SocketAddr, Failure),
    /// Ended by hand.
    #[error("ended before it was done")]
    Ended,
}

fn say(failure: &Failure) -> String {
    match failure {
        Failure::TooMuch { limit_bps, limit_ms } => {
            let (rate, time) = (Bitrate(*limit_bps), say_duration(Duration::from_millis((*limit_ms).into())));
            format!("the other end allows at most {rate} for {time}: ask for less, or start it with a higher --limit")
        }
        other => other.to_string(),
    }
}

/// How a measurement goes, some times a second.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Progress {
    /// Where it stands.
    pub phase: Phase,
    /// Packets that came.
    pub received: u32,
    /// Share missing on the way here, 0 to 1.
    pub missing: f64,
    /// Latest round trip.
    pub rtt: Option<Duration>,
}

/// µs of a clock that never jumps, near to UTC.
struct Clock {
    at: Instant,
    unix: i64,
}

impl Clock {
    fn new() -> Self {
        Self { at: Instant::now(), unix: unix_us() }
    }
    fn now(&self) -> i64 {
        self.unix + self.at.elapsed().as_micros() as i64
    }
    fn instant(&self, us: i64) -> Instant {
        self.at + Duration::from_micros((us - self.unix).max(0) as u64)
    }
}

/// Sends what waits; a full buffer of the system loses a packet as a full path would.
fn flush(port: &UdpPort, mut next: impl FnMut() -> Option<Outgoing>) -> io::Result<()> {
    while let Some(o) = next() {
        port.send(o.to, None, &o.data)?;
    }
    Ok(())
}

/// An answerer at one port.
#[derive(Debug)]
pub struct Answering {
    port: UdpPort,
}

impl Answering {
    /// Opens the port.
    ///
    /// # Errors
    /// It is taken, or not of this machine.
    pub fn open(at: SocketAddr) -> Result<Self, SurveyError> {
        Ok(Self { port: UdpPort::open(at, None).map_err(|e| SurveyError::Open(at, e))? })
    }

    /// Where it waits.
    ///
    /// # Errors
    /// Returns the OS error.
    pub fn local_addr(&self) -> io::Result<SocketAddr> {
        self.port.local_addr()
    }

    /// Answers until it is stopped; tells who is being answered, and `None` when that is over.
    ///
    /// # Errors
    /// Returns the OS error of its timers.
    pub fn run(
        self,
        token: &str,
        limit_bps: u64,
        limit: Duration,
        peers: mpsc::Sender<Option<SocketAddr>>,
        mut stop: Stop,
    ) -> BoxFuture<'_, io::Result<u64>> {
        Box::pin(async move {
            let limit_ms = u32::try_from(limit.as_millis()).unwrap_or(u32::MAX);
            let mut answerer = Answerer::new(token, limit_bps, limit_ms, secret_random()?);
            let (clock, mut alarm, mut told) = (Clock::new(), Alarm::new()?, None);
            loop {
                let now = clock.now();
                answerer.handle_timeout(now);
                // Nobody listening any more is the asker's matter.
                let _ = flush(&self.port, || answerer.poll_transmit());
                if answerer.peer() != told {
                    told = answerer.peer();
                    let _ = peers.try_send(told);
                }
                alarm.set(answerer.poll_timeout(clock.now()).map(|t| clock.instant(t)))?;
                tokio::select! {
                    () = stop.wait() => return Ok(answerer.surveys()),
                    () = alarm.ring() => {}
                    ready = self.port.readable() => {
                        ready?;
                        let _ = self.port.receive(|from, data| answerer.handle_datagram(clock.now(), from, data));
                    }
                }
            }
        })
    }
}

/// Asks the answerer at `peer`.
///
/// # Errors
/// Nothing answers, it refuses, or the path breaks.
pub fn measure(
    peer: SocketAddr,
    bind: Option<SocketAddr>,
    token: &str,
    plan: Plan,
    progress: mpsc::Sender<Progress>,
    mut stop: Stop,
) -> BoxFuture<'_, Result<Survey, SurveyError>> {
    Box::pin(async move {
        let any: SocketAddr = if peer.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0; 8], 0).into() };
        let own = bind.unwrap_or(any);
        // Connected: the system says when nobody listens there.
        let port = UdpPort::open(own, Some(peer)).map_err(|e| SurveyError::Open(own, e))?;
        let clock = Clock::new();
        let mut alarm = Alarm::new().map_err(|e| SurveyError::Open(own, e))?;
        let mut asker = Asker::new(token, peer, u64::from_be_bytes(random()), plan, clock.now());
        let mut last_told = 0;
        loop {
            let now = clock.now();
            asker.handle_timeout(now);
            let sent = flush(&port, || asker.poll_transmit());
            refused(sent, &asker, peer)?;
            if let Some(failure) = asker.failure() {
                return Err(SurveyError::Failed(peer, failure));
            }
            if let Some(survey) = asker.survey() {
                return Ok(survey);
            }
            if now - last_told > 200_000 {
                last_told = now;
                let (received, missing, rtt) = asker.so_far();
                let rtt = rtt.map(|us| Duration::from_micros(us.into()));
                let _ = progress.try_send(Progress { phase: asker.phase(), received, missing, rtt });
            }
            let at = asker.poll_timeout().map(|t| clock.instant(t));
            alarm.set(at).map_err(|e| SurveyError::Open(own, e))?;
            tokio::select! {
                () = stop.wait() => return Err(SurveyError::Ended),
                () = alarm.ring() => {}
                ready = port.readable() => {
                    let came = ready.and_then(|()| port.receive(|_, data| asker.handle_datagram(clock.now(), peer, data)).map(|_| ()));
                    refused(came, &asker, peer)?;
                }
            }
        }
    })
}

/// A refusal counts before anything has answered; afterwards the path's silence tells.
fn refused(result: io::Result<()>, asker: &Asker, peer: SocketAddr) -> Result<(), SurveyError> {
    match result {
        Err(e) if e.kind() == io::ErrorKind::ConnectionRefused && !asker.answered() => Err(SurveyError::PortClosed(peer)),
        _ => Ok(()),
    }
}

fn way_view(r: &WayReport) -> WayView {
    let ms = |us: u32| f64::from(us) / 1000.0;
    WayView {
        sent: r.sent,
        received: r.received,
        loss: r.loss(),
        bursts: r.bursts,
        burst: r.burst(),
        longest_burst: r.longest,
        reordered: r.reordered,
        doubled: r.doubled,
        jitter_ms: [ms(r.delay.p50), ms(r.delay.p95), ms(r.delay.p99), ms(r.delay.p999), ms(r.delay.max)],
        rate_bps: r.train_bps,
    }
}

/// The survey for people and scripts.
#[must_use]
pub fn view(peer: SocketAddr, plan: Plan, s: &Survey) -> PathView {
    let ms = |us: u32| f64::from(us) / 1000.0;
    let rtt = |above: u32| ms(s.rtt_least.saturating_add(above));
    PathView {
        peer: peer.to_string(),
        rate_bps: plan.rate_bps,
        seconds: f64::from(plan.lasts_ms) / 1000.0,
        rtt_ms: [ms(s.rtt_least), rtt(s.rtt.p50), rtt(s.rtt.p95), rtt(s.rtt.p99), rtt(s.rtt.max)],
        clock_ahead_ms: s.offset.map(|(us, _)| us as f64 / 1000.0),
        clock_error_ms: s.offset.map(|(_, us)| ms(us)),
        out: way_view(&s.there),
        back: way_view(&s.back),
        size: s.size,
    }
}

/// The path as advice needs it, for media that comes from there (`inbound`) or goes there.
#[must_use]
pub fn facts(s: &Survey, inbound: bool) -> PathFacts {
    let (media, reports) = if inbound { (&s.back, &s.there) } else { (&s.there, &s.back) };
    PathFacts {
        rtt: Duration::from_micros(u64::from(s.rtt_least) + u64::from(s.rtt.p50)),
        jitter: Duration::from_micros(media.delay.p999.into()),
        loss: media.loss(),
        loss_back: Some(reports.loss()).filter(|l| (l - media.loss()).abs() > f64::EPSILON),
        burst: media.burst(),
    }
}
