//! `choir sim`: each stand-in by itself.

use super::{ask::ask, read_url, snap, stave::seeker, until_stopped};
use crate::{
    args::{CameraArgs, PathArgs, PlatformArgs, Sim, SimArgs, SimDeviceArgs, SimShowArgs, SwitcherArgs},
    exit::{FAILED, Failure, SYSTEM, USAGE},
    output::tables,
};
use bytes::Bytes;
use choir_core::facts::Contact;
use choir_core::{
    link::{DEFAULT_LATENCY, FileLink, Link, stave_name_problem},
    secret::{Secret, SecretText},
    stave::StaveSettings,
    units::Bitrate,
};
use choir_host::{Stop, secrets};
use choir_path::{Faults, PathStats};
use choir_proto::{
    rtsp::Credentials,
    ts::{AccessUnit, StreamKind},
};
use choir_show::{control::Request, still::Still};
use choir_sim::{
    camera::{self, CameraSettings, NamedCameraSettings, Output, RtspCameraSettings, SHIPPED_RATE, SHIPPED_SIZE, Shows},
    device as sim_device,
    platform::{self, Got, PlatformSettings},
    relay::{self, RelaySettings},
    switcher::{self, Desk},
};
use std::{
    net::SocketAddr,
    path::Path,
    sync::{Arc, atomic::Ordering},
    time::Duration,
};
use tokio::{
    io::{AsyncBufReadExt, BufReader},
    sync::watch,
};

pub async fn run(args: SimArgs) -> Result<(), Failure> {
    match args.what {
        Sim::Camera(a) => camera(a, Kind { size: (1280, 720), rate: 25, bitrate: 4_000_000, latency: DEFAULT_LATENCY }).await,
        Sim::FieldUnit(a) => camera(a, Kind { size: (640, 360), rate: 25, bitrate: 2_500_000, latency: Duration::from_millis(400) }).await,
        Sim::Device(a) => device(a).await,
        Sim::Switcher(a) => switcher(a).await,
        Sim::Platform(a) => platform(*a).await,
        Sim::Path(a) => path(*a).await,
        Sim::Show(a) => show(a).await,
    }
}

/// A camera of the demo.
async fn show(args: SimShowArgs) -> Result<(), Failure> {
    for word in args.words {
        ask(args.sheet.as_deref(), &Request::StandIn { line: args.line.clone(), word }).await?;
    }
    Ok(())
}

/// Words that change a camera while it runs, one or more to a line.
async fn typed_words(args: &CameraArgs, change: watch::Sender<Output>) {
    let name = &args.name;
    if !args.typed {
        // A program in the background must not read from its terminal.
        return std::future::pending().await;
    }
    let mut lines = BufReader::new(tokio::io::stdin()).lines();
    while let Ok(Some(line)) = lines.next_line().await {
        for word in line.split_whitespace() {
            let next = change.borrow().after(word);
            match next {
                Ok(next) => {
                    change.send_replace(next);
                    println!("{name} now: {next}");
                }
                Err(e) => eprintln!("{e}"),
            }
        }
    }
    std::future::pending::<()>().await;
}

/// What sets one kind of device apart from another.
struct Kind {
    size: (u32, u32),
    rate: u32,
    bitrate: u64,
    latency: Duration,
}

async fn camera(args: CameraArgs, kind: Kind) -> Result<(), Failure> {
    if let Some(name) = &args.stave {
        return named(&args, &kind, name).await;
    }
    if args.sub.is_some() && args.serve.is_none() {
        return Err(Failure::new(USAGE, "--sub needs --serve or --stave"));
    }
    if let Some(listen) = args.serve {
        return served(&args, &kind, listen).await;
    }
    let to = read_url(args.to.as_deref().unwrap_or_default())?;
    let mut settings = settings(&args, &kind, to.clone());
    let change = settings.controlled(begins(&args)?);
    let (stop_it, stop) = Stop::new();
    let (w, h) = settings.size;
    eprintln!("{}: {w}x{h}, {} frames per second, {}, to {}", args.name, settings.rate, settings.bitrate, choir_core::link::show_url(&to));
    let camera = super::run::or_interrupted(camera::start(settings, Path::new("."), stop)).await??;
    let status = camera.status.clone();
    tokio::select! {
        () = until_stopped(args.for_time) => {}
        () = typed_words(&args, change) => {}
    }
    let live = status.look();
    stop_it.now();
    camera.wait().await;
    let sent = live.totals().packets;
    println!("{}: {sent} packets sent in {} sessions", args.name, live.sessions);
    let why = match &live.contact {
        _ if sent > 0 => return Ok(()),
        Contact::Lost(loss) => loss.to_string(),
        Contact::Waiting(waiting) => waiting.to_string(),
        Contact::Joining(joining) => joining.to_string(),
        Contact::Up | Contact::Held => "it was stopped before its first packet".into(),
    };
    Err(Failure::new(FAILED, format!("nobody was reached: {why}")))
}

/// What it shows at first.
fn begins(args: &CameraArgs) -> Result<Output, Failure> {
    let begins = args.show.iter().try_fold(Output::default(), |output, word| output.after(word));
    let begins = begins.map_err(|e| Failure::new(USAGE, e.to_string()))?;
    if args.h265 && !matches!(begins.shows, Shows::Scene | Shows::Frozen) {
        return Err(Failure::new(USAGE, "the built-in H.265 loop shows its scene or is frozen, nothing else"));
    }
    Ok(begins)
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

/// A camera that offers itself by name.
async fn named(args: &CameraArgs, kind: &Kind, name: &str) -> Result<(), Failure> {
    if let Some(why) = stave_name_problem(name) {
        return Err(Failure::new(USAGE, format!("\"{name}\" is not a valid name for a source: {why}")));
    }
    let (lan, base) = args.lan.at_home()?;
    // Each camera is a machine of its own.
    let machine = Some(lan.machine.clone().filter(|_| args.name == "camera").unwrap_or_else(|| args.name.clone()));
    let mut picture = settings(args, kind, Link::File(FileLink::once(None)));
    let change = picture.controlled(begins(args)?);
    let settings = NamedCameraSettings {
        name: name.to_owned(),
        lan: StaveSettings { machine, port: None, ..lan },
        base,
        picture,
        intra: args.intra,
        channels: args.channels,
        sub: args.sub,
        turns: true,
    };
    let (stop_it, stop) = Stop::new();
    let camera = super::run::or_interrupted(camera::start_named(settings, stop)).await??;
    eprintln!("{} is on the LAN at {}: stave://{}/{name}", args.name, camera.node.at(), camera.node.machine());
    let mut tally = camera.tally();
    let lamp = async {
        while tally.changed().await.is_ok() {
            let shown = *tally.borrow_and_update();
            println!("tally: {}", shown.map_or("off", |t| t.words()));
        }
        std::future::pending::<()>().await;
    };
    tokio::select! {
        () = until_stopped(args.for_time) => {}
        () = lamp => {}
        () = typed_words(args, change) => {}
    }
    let (sent, (pan, tilt, zoom)) = (camera.status.look().totals().packets, camera.looks());
    stop_it.now();
    camera.wait().await;
    println!("{}: {sent} units sent, looks at pan {pan:.2}, tilt {tilt:.2}, zoom {zoom:.2}", args.name);
    if sent > 0 { Ok(()) } else { Err(Failure::new(FAILED, "no receiver")) }
}

/// A camera that waits to be pulled.
async fn served(args: &CameraArgs, kind: &Kind, listen: SocketAddr) -> Result<(), Failure> {
    let nowhere = Link::File(FileLink::once(None));
    let mut main = settings(args, kind, nowhere);
    let change = main.controlled(begins(args)?);
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
    tokio::select! {
        () = until_stopped(args.for_time) => {}
        () = typed_words(args, change) => {}
    }
    let sent: u64 = camera.statuses.iter().map(|s| s.look().totals().packets).sum();
    let (requests, plays) = (camera.counts.requests.load(Ordering::Relaxed), camera.counts.plays.load(Ordering::Relaxed));
    stop_it.now();
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
    stop_it.now();
    device.wait().await;
    println!("{}: at {at} in the end, asked {asked} times, {refused} wrong passwords", args.name);
    Ok(())
}

async fn switcher(args: SwitcherArgs) -> Result<(), Failure> {
    let (stop_it, stop) = Stop::new();
    let links = args.inputs.iter().map(|url| read_url(url)).collect::<Result<Vec<_>, _>>()?;
    let named = links.iter().any(|l| matches!(l, Link::Stave(_)));
    let node = if named {
        let (settings, base) = args.lan.at_home()?;
        Some(seeker(&settings, &base, "switcher", &stop).await?)
    } else {
        None
    };
    let mut inputs = Vec::new();
    for (n, link) in links.iter().enumerate() {
        let name = format!("input-{}", n + 1);
        inputs.push(switcher::open_input(&name, link, DEFAULT_LATENCY, None, node.as_ref(), &stop).await?);
        eprintln!("{name} waits at {}", choir_core::link::show_url(link));
    }
    let desk = Desk::over(inputs.clone());
    tokio::select! {
        () = until_stopped(args.for_time) => {}
        () = typed(&desk, inputs.len()), if args.desk => {}
        () = cycled(&desk, args.cycle, &stop), if args.cycle.is_some() => {}
    }
    let views: Vec<_> = inputs.iter().map(|i| i.view()).collect();
    stop_it.now();
    if let Some(node) = node {
        node.ended().await;
    }
    if args.json {
        println!("{}", serde_json::to_string_pretty(&views).unwrap_or_default());
    } else {
        print!("{}", tables::inputs(&views));
    }
    if views.iter().any(|v| v.frames > 0) { Ok(()) } else { Err(Failure::new(FAILED, "no picture reached any input")) }
}

async fn cycled(desk: &Desk, every: Option<Duration>, stop: &Stop) {
    if let Some(every) = every {
        desk.cycle(every, stop.clone()).await;
    }
}

/// Takes inputs as they are typed. Never ends: whoever closes standard input only types no more.
async fn typed(desk: &Desk, count: usize) {
    let mut lines = BufReader::new(tokio::io::stdin()).lines();
    eprintln!("type a number from 1 to {count} to put that input on air, a second one behind it to be next, 0 for none");
    while let Ok(Some(line)) = lines.next_line().await {
        let numbers: Option<Vec<usize>> = line.split_whitespace().map(|w| w.parse().ok().filter(|n| *n <= count)).collect();
        match numbers.as_deref() {
            Some([on_air]) => desk.show(on_air.checked_sub(1), None),
            Some([on_air, next]) => desk.show(on_air.checked_sub(1), next.checked_sub(1)),
            _ => {
                eprintln!("\"{}\": write one or two numbers from 0 to {count}", line.trim());
                continue;
            }
        }
        eprintln!("taken");
    }
    std::future::pending::<()>().await;
}

async fn platform(args: PlatformArgs) -> Result<(), Failure> {
    let password = args.password_env.map(|name| secrets::fetch_text(&Secret::Env(name), Path::new("."))).transpose();
    let password = password.map_err(|e| Failure::new(USAGE, e.to_string()))?;
    let settings = PlatformSettings {
        login: args.user.zip(password.map(|p| p.reveal().to_owned())),
        reads: args.reads.map(|r| r.0),
        refuses: args.refuses,
        closes: args.closes,
        elsewhere: args.elsewhere,
        ..PlatformSettings::new(args.listen, args.takes.trim_matches('/'))
    };
    let (stop_it, stop) = Stop::new();
    let platform = platform::start(settings, stop)?;
    eprintln!("publish to rtmp://{} with the path and key that were given", platform.addr);
    let told = async {
        let (mut tick, mut last) = (tokio::time::interval(Duration::from_secs(1)), Got::default());
        loop {
            tick.tick().await;
            let got = platform.got();
            match (&last.from, &got.from) {
                (None, Some((from, agent))) => eprintln!("{from} publishes ({agent})"),
                (Some(_), None) => eprintln!("it has ended: {}", got.last.as_deref().unwrap_or("the connection was closed")),
                _ if got.last != last.last => eprintln!("refused: {}", got.last.as_deref().unwrap_or_default()),
                _ => {}
            }
            if let (Some(path), Some((kind, data)), true) = (&args.still, &got.picture, got.picture != last.picture) {
                keep_still(path, *kind, data.clone()).await?;
            }
            last = got;
        }
    };
    tokio::select! {
        () = until_stopped(args.for_time) => {}
        failed = told => {
            let failed: Result<(), Failure> = failed;
            failed?;
        }
    }
    let (view, got) = (platform.view("platform"), platform.got());
    stop_it.now();
    platform.wait().await;
    if args.json {
        println!("{}", serde_json::to_string_pretty(&view).unwrap_or_default());
    } else {
        println!("{} frames, {} missing, {} keyframes, in {} publications", view.frames, view.frames_missing, view.keyframes, got.begun);
    }
    Ok(())
}

/// A picture that stands by itself, as PNG.
async fn keep_still(path: &Path, kind: StreamKind, data: Bytes) -> Result<(), Failure> {
    let unit = AccessUnit { pid: 0, kind, pts: None, dts: None, keyframe: true, arrived: 0, data, format: Arc::default() };
    let decoded = tokio::task::spawn_blocking(move || Still::decode(&[unit], None)).await;
    match decoded.ok().flatten() {
        Some(still) => snap::write(path, &still.png()),
        None => Ok(()),
    }
}

async fn path(args: PathArgs) -> Result<(), Failure> {
    let there = args.both.over(&Faults::default());
    let back = args.back.over(&there);
    let settings = RelaySettings {
        listen: args.listen,
        to: args.to,
        from: args.from,
        client: args.client,
        there,
        back,
        seed: args.seed,
        changes: None,
    };
    let (stop_it, stop) = Stop::new();
    let relay = relay::start(settings, stop).map_err(|e| Failure::new(SYSTEM, format!("the path cannot open its ports: {e}")))?;
    eprintln!("packets to {} go to {} and back", relay.listen, args.to);
    until_stopped(args.for_time).await;
    stop_it.now();
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
