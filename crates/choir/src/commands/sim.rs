//! `choir sim`: each stand-in by itself.

use super::{read_url, until_stopped};
use crate::{
    args::{CameraArgs, PathArgs, Sim, SimArgs, SimDeviceArgs, SwitcherArgs},
    exit::{FAILED, Failure, SYSTEM, USAGE},
    output::tables,
};
use choir_core::{
    link::{DEFAULT_LATENCY, FileLink, Link},
    secret::{Secret, SecretText},
    units::Bitrate,
};
use choir_net::{port::Stop, secrets};
use choir_path::{Faults, PathStats};
use choir_proto::rtsp::Credentials;
use choir_sim::{
    camera::{self, CameraSettings, RtspCameraSettings, SHIPPED_RATE, SHIPPED_SIZE},
    device as sim_device,
    relay::{self, RelaySettings},
    switcher,
};
use std::{net::SocketAddr, path::Path, sync::atomic::Ordering, time::Duration};

pub async fn run(args: SimArgs) -> Result<(), Failure> {
    match args.what {
        Sim::Camera(a) => camera(a, Kind { size: (1280, 720), rate: 25, bitrate: 4_000_000, latency: DEFAULT_LATENCY }).await,
        Sim::FieldUnit(a) => camera(a, Kind { size: (640, 360), rate: 25, bitrate: 2_500_000, latency: Duration::from_millis(400) }).await,
        Sim::Device(a) => device(a).await,
        Sim::Switcher(a) => switcher(a).await,
        Sim::Path(a) => path(*a).await,
    }
}

/// What sets one kind of device apart from another.
struct Kind {
    size: (u32, u32),
    rate: u32,
    bitrate: u64,
    latency: Duration,
}

async fn camera(args: CameraArgs, kind: Kind) -> Result<(), Failure> {
    if let Some(listen) = args.serve {
        return served(&args, &kind, listen).await;
    }
    let to = read_url(args.to.as_deref().unwrap_or_default())?;
    let settings = settings(&args, &kind, to.clone());
    let (stop_it, stop) = Stop::new();
    let (w, h) = settings.size;
    eprintln!("{}: {w}x{h}, {} frames per second, {}, to {}", args.name, settings.rate, settings.bitrate, choir_core::link::show_url(&to));
    let camera = super::run::or_interrupted(camera::start(settings, Path::new("."), stop)).await??;
    let status = camera.status.clone();
    until_stopped(args.for_time).await;
    let live = status.look();
    let _ = stop_it.send(true);
    camera.wait().await;
    let sent = live.packets + live.ended.sent + live.peers.iter().map(|p| p.stats.sent).sum::<u64>();
    println!("{}: {sent} packets sent in {} sessions", args.name, live.sessions);
    if sent > 0 { Ok(()) } else { Err(Failure::new(FAILED, format!("nobody was reached: {:?}", live.contact))) }
}

fn settings(args: &CameraArgs, kind: &Kind, to: Link) -> CameraSettings {
    CameraSettings {
        h265: args.h265,
        size: if args.h265 { SHIPPED_SIZE } else { args.size.unwrap_or(kind.size) },
        rate: if args.h265 { SHIPPED_RATE } else { args.rate.unwrap_or(kind.rate) },
        bitrate: args.bitrate.unwrap_or(Bitrate(kind.bitrate)),
        constant: !args.variable,
        keyframe: args.keyframe.clamp(0.04, 30.0),
        audio: !args.mute,
        latency: kind.latency,
        ..CameraSettings::new(args.name.clone(), to)
    }
}

/// A camera that waits to be pulled.
async fn served(args: &CameraArgs, kind: &Kind, listen: SocketAddr) -> Result<(), Failure> {
    let nowhere = Link::File(FileLink { path: None, repeat: false });
    let main = settings(args, kind, nowhere);
    let sub = args.sub.map(|size| CameraSettings { size, h265: false, bitrate: Bitrate(500_000), ..main.clone() });
    let credentials = match (&args.user, &args.password_env) {
        (Some(user), Some(variable)) => {
            let password = secrets::fetch_text(&Secret::Env(variable.clone()), Path::new("."));
            let password = password.map_err(|e| Failure::new(SYSTEM, e.to_string()))?;
            Some(Credentials::new(user, password.reveal()))
        }
        _ => None,
    };
    let (stop_it, stop) = Stop::new();
    let group = args.group.map(|g| (g.ip(), g.port()));
    let settings = RtspCameraSettings { listen, main, sub, credentials, group, manners: args.manner.clone(), head: None };
    let camera = super::run::or_interrupted(camera::start_rtsp(settings, stop)).await??;
    for status in &camera.statuses {
        eprintln!("{} waits at {}", args.name, status.look().paste.join(" or "));
    }
    until_stopped(args.for_time).await;
    let sent: u64 = camera.statuses.iter().map(|s| s.look().packets).sum();
    let (requests, plays) = (camera.counts.requests.load(Ordering::Relaxed), camera.counts.plays.load(Ordering::Relaxed));
    let _ = stop_it.send(true);
    camera.wait().await;
    println!("{}: asked {requests} times, played {plays} times, {sent} packets sent", args.name);
    if sent > 0 { Ok(()) } else { Err(Failure::new(FAILED, "nobody has looked")) }
}

/// A device with its control.
async fn device(args: SimDeviceArgs) -> Result<(), Failure> {
    if !args.at.is_loopback() && !args.in_namespace {
        return Err(Failure::new(USAGE, format!("{}: a stand-in lives in 127.0.0.0/8 only", args.at)));
    }
    let password = match &args.password_env {
        Some(variable) => {
            secrets::fetch_text(&Secret::Env(variable.clone()), Path::new(".")).map_err(|e| Failure::new(SYSTEM, e.to_string()))?
        }
        None => SecretText::new("admin"),
    };
    let credentials = Credentials::new(&args.user, password.reveal());
    let settings = match args.kind.as_str() {
        "encoder" => sim_device::Settings::encoder(&args.name, args.at, credentials),
        _ => sim_device::Settings::ptz_camera(&args.name, args.at, credentials),
    };
    let (stop_it, stop) = Stop::new();
    let device = super::run::or_interrupted(sim_device::start(settings, stop)).await??;
    eprintln!("{}: ONVIF at {}, user {}, streams at rtsp://{}:8554/main and /sub", args.name, device.at(), args.user, args.at);
    until_stopped(args.for_time).await;
    let (asked, refused) = (device.counts().requests.load(Ordering::Relaxed), device.counts().refused.load(Ordering::Relaxed));
    let at = device.at();
    let _ = stop_it.send(true);
    device.wait().await;
    println!("{}: at {at} in the end, asked {asked} times, {refused} wrong passwords", args.name);
    Ok(())
}

async fn switcher(args: SwitcherArgs) -> Result<(), Failure> {
    let (stop_it, stop) = Stop::new();
    let mut inputs = Vec::new();
    for (n, url) in args.inputs.iter().enumerate() {
        let link = read_url(url)?;
        let name = format!("input-{}", n + 1);
        inputs.push(switcher::open_input(&name, &link, DEFAULT_LATENCY, None, &stop).await?);
        eprintln!("{name} waits at {}", choir_core::link::show_url(&link));
    }
    until_stopped(args.for_time).await;
    let views: Vec<_> = inputs.iter().map(|i| i.view()).collect();
    let _ = stop_it.send(true);
    if args.json {
        println!("{}", serde_json::to_string_pretty(&views).unwrap_or_default());
    } else {
        print!("{}", tables::inputs(&views));
    }
    if views.iter().any(|v| v.frames > 0) { Ok(()) } else { Err(Failure::new(FAILED, "no picture reached any input")) }
}

async fn path(args: PathArgs) -> Result<(), Failure> {
    let there = args.both.over(&Faults::default());
    let back = args.back.over(&there);
    let settings = RelaySettings { listen: args.listen, to: args.to, from: args.from, client: args.client, there, back, seed: args.seed };
    let (stop_it, stop) = Stop::new();
    let relay = relay::start(settings, stop).map_err(|e| Failure::new(SYSTEM, format!("the path cannot open its ports: {e}")))?;
    eprintln!("packets to {} go to {} and back", relay.listen, args.to);
    until_stopped(args.for_time).await;
    let _ = stop_it.send(true);
    let (there, back) = relay.wait().await;
    println!("{}", path_line("there", &there));
    println!("{}", path_line("back", &back));
    Ok(())
}

fn path_line(way: &str, s: &PathStats) -> String {
    format!(
        "{way:5}  {} packets, {} lost, {} over the queue, {} in outages, {} doubled, {} held back",
        s.entered, s.lost, s.overflowed, s.blacked_out, s.duplicated, s.reordered
    )
}
