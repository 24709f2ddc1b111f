//! `choir path`: measures the way to another Cable Choir, and answers such measurements.

use super::{advise, confirm, until_stopped};
use crate::{
    args::{PathMeasureArgs, Towards},
    exit::{FAILED, Failure, SYSTEM, USAGE},
    output::{self, plural},
};
use choir_core::{
    advice::advise as advice_for,
    units::{Bitrate, say_duration},
};
use choir_host::Stop;
use choir_ports::survey::{Answering, Progress, SurveyError, facts, measure, view};
use choir_proto::survey::{PORT, Phase, Plan, TOKEN_MIN};
use std::{
    io::{IsTerminal, Write, stderr},
    net::SocketAddr,
    time::Duration,
};
use tokio::sync::mpsc;

/// More is asked about first.
const USUAL_TIME: Duration = Duration::from_secs(10);
const USUAL_RATE: Bitrate = Bitrate(20_000_000);
/// What a measurement can be at most.
const MOST_TIME: Duration = Duration::from_secs(600);
const MOST_RATE: Bitrate = Bitrate(100_000_000);

pub async fn run(args: PathMeasureArgs) -> Result<(), Failure> {
    let name = &args.token_env;
    let token = std::env::var(name).map_err(|_| {
        Failure::new(SYSTEM, format!("the environment variable {name} is not set: put the token there, the same at both ends"))
    })?;
    if token.chars().count() < TOKEN_MIN {
        return Err(Failure::new(SYSTEM, format!("the token in {name} has fewer than {TOKEN_MIN} characters: anybody could guess it")));
    }
    if args.answer { answer(&args, &token).await } else { ask(&args, &token).await }
}

async fn answer(args: &PathMeasureArgs, token: &str) -> Result<(), Failure> {
    let at = args.bind.unwrap_or(SocketAddr::from(([0, 0, 0, 0], PORT)));
    let answering = Answering::open(at).map_err(|e| Failure::new(SYSTEM, e.to_string()))?;
    let local = answering.local_addr()?;
    eprintln!("answering at UDP {local}, at most {} for {}; Ctrl-C ends it", args.limit, say_duration(args.limit_time));
    let (end, stop) = Stop::new();
    let stopping = stop.clone();
    let (tell, mut peers) = mpsc::channel(16);
    let work = answering.run(token, args.limit.0, args.limit_time, tell, stop);
    tokio::pin!(work);
    let ended = until_stopped(None);
    tokio::pin!(ended);
    let mut last: Option<SocketAddr> = None;
    loop {
        tokio::select! {
            done = &mut work => {
                eprintln!("{} answered", plural(done? as usize, "measurement"));
                return Ok(());
            }
            () = &mut ended, if !stopping.is_set() => {
                end.now();
            }
            Some(peer) = peers.recv() => {
                match (peer, last) {
                    (Some(p), _) => eprintln!("{p} measures"),
                    (None, Some(p)) => eprintln!("{p} has finished"),
                    (None, None) => {}
                }
                last = peer;
            }
        }
    }
}

async fn resolve(text: &str) -> Result<SocketAddr, Failure> {
    let bad = |e: String| Failure::new(USAGE, format!("{text}: {e}"));
    if text.contains("://") || text.contains('/') {
        return Err(bad("write only a name or an address, and a port behind a colon".into()));
    }
    if let Ok(addr) = text.parse::<SocketAddr>() {
        return Ok(addr);
    }
    if let Ok(ip) = text.parse::<std::net::IpAddr>() {
        return Ok((ip, PORT).into());
    }
    let (host, port) = match text.rsplit_once(':') {
        Some((host, port)) => (host, port.parse().map_err(|_| bad(format!("\"{port}\" is not a port")))?),
        None => (text, PORT),
    };
    let found = tokio::net::lookup_host((host, port)).await.map_err(|e| SurveyError::Name(host.into(), e.to_string()));
    let addr = found.map_err(|e| Failure::new(SYSTEM, e.to_string()))?.next();
    addr.ok_or_else(|| Failure::new(SYSTEM, format!("the name {host} has no address")))
}

async fn ask(args: &PathMeasureArgs, token: &str) -> Result<(), Failure> {
    if args.for_time > MOST_TIME || args.bitrate > MOST_RATE || args.for_time < Duration::from_secs(1) || args.bitrate.0 < 100_000 {
        let text = format!("a measurement takes 1 s to {} at 100 kbps to {MOST_RATE}", say_duration(MOST_TIME));
        return Err(Failure::new(USAGE, text));
    }
    let peer = resolve(args.host.as_deref().unwrap_or_default()).await?;
    if args.for_time > USUAL_TIME || args.bitrate > USUAL_RATE {
        let question = format!("Send {} both ways for {}?", args.bitrate, say_duration(args.for_time));
        confirm(&question, args.yes).await?;
    }
    let plan = Plan { rate_bps: args.bitrate.0, lasts_ms: args.for_time.as_millis() as u32 };
    eprintln!("{peer}: {} both ways for {}", args.bitrate, say_duration(args.for_time));
    let (end, stop) = Stop::new();
    let (tell, progress) = mpsc::channel(16);
    let drawn = tokio::spawn(draw(progress));
    let work = measure(peer, args.bind, token, plan, tell, stop);
    tokio::pin!(work);
    let survey = tokio::select! {
        survey = &mut work => survey,
        () = until_stopped(None) => {
            end.now();
            work.await
        }
    };
    let _ = drawn.await;
    let survey = survey.map_err(|e| Failure::new(if matches!(e, SurveyError::Open(..)) { SYSTEM } else { FAILED }, e.to_string()))?;
    let path = facts(&survey, args.towards == Towards::Here);
    let advice = advice_for(&path, args.bitrate, args.latency);
    let seen = view(peer, plan, &survey);
    if args.json {
        let document = serde_json::json!({ "measured": seen, "path": path, "bitrate_bps": args.bitrate.0, "advice": advice });
        println!("{document:#}");
    } else {
        print!("{}", output::path::text(&seen));
        println!();
        print!("{}", output::advice::text(&path, args.bitrate, &advice));
    }
    advise::write(&args.write, &path, &advice)
}

/// One line that changes, where somebody can see it.
async fn draw(mut progress: mpsc::Receiver<Progress>) {
    let live = stderr().is_terminal();
    while let Some(p) = progress.recv().await {
        if live {
            let what = match p.phase {
                Phase::Greeting => "greeting",
                Phase::Streaming => "streams run",
                Phase::Probing => "trains and sizes",
                Phase::Asking | Phase::Done => "their findings",
            };
            let rtt = p.rtt.map_or_else(|| "-".into(), |r| format!("{:.1} ms", r.as_secs_f64() * 1000.0));
            eprint!("\r\x1b[K{what}: {} packets came, {:.2} % missing, round trip {rtt}", p.received, p.missing * 100.0);
            let _ = stderr().flush();
        }
    }
    if live {
        eprint!("\r\x1b[K");
    }
}
