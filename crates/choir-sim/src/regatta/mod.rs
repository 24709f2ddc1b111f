//! The Tarn Hollow Regatta on one machine: cameras, a field unit, the paths between, and a
//! switcher, all on addresses of 127.0.0.0/8.

mod paths;

pub use paths::PATH_WORDS;

use crate::{
    SimError,
    camera::{self, Camera, CameraSettings, NamedCamera, NamedCameraSettings, Output, SHIPPED_SIZE},
    device::{self, Quirk, SimDevice, StreamState},
    platform::{self, Platform, PlatformSettings},
    programme::Programme,
    relay::{self, Relay, RelaySettings},
    switcher::{self, Desk, Input},
};
use choir_core::{
    link::{FileLink, Link, parse_url},
    secret::{Secret, SecretText},
    sheet::Sheet,
    stave::StaveSettings,
    units::Bitrate,
    view::InputView,
};
use choir_host::Stop;
use choir_path::Faults;
use choir_ports::stave::{Identity, Node};
use choir_proto::rtsp::Credentials;
use paths::Paths;
use std::{
    collections::BTreeMap,
    net::{Ipv4Addr, SocketAddr},
    path::Path,
    sync::Arc,
    time::Duration,
};
use tokio::sync::watch;

/// The show's sheet.
pub const SHEET: &str = include_str!("../../../../demo/regatta.toml");
/// The two octets that all addresses of the demo start with, as the sheet has them.
pub const PREFIX: &str = "127.20.";
/// The passphrase that the demo's far ends use; the sheet names the variable it is in.
pub const PASSPHRASE_VARIABLE: &str = "REGATTA_PASSPHRASE";
/// For the demo only: it protects nothing but made-up pictures on this machine.
const PASSPHRASE: &str = "rowing is a made-up sport";
/// The bicycle has one of its own: whoever finds it reads nothing else.
pub const BICYCLE_VARIABLE: &str = "REGATTA_BICYCLE";
const BICYCLE_PASSPHRASE: &str = "two wheels beside the water";

/// The words that all on the boathouse's LAN of names have.
pub const LAN_VARIABLE: &str = "REGATTA_LAN";
const LAN_WORDS: &str = "names beside the water";
/// The group of names, as the sheet has it.
const LAN_GROUP: &str = "tarn-hollow";
/// How long the desk keeps one input on air.
const ON_AIR: Duration = Duration::from_secs(6);

/// The variable that holds the platform's stream key.
pub const PLATFORM_VARIABLE: &str = "REGATTA_PLATFORM";
const PLATFORM_KEY: &str = "bow-and-stern-7";
/// Where the platform listens, and the path that it takes.
const PLATFORM: (&str, &str) = ("127.20.0.51:1936", "live");

/// The variable that holds the finish tower's password.
pub const CAMERA_VARIABLE: &str = "REGATTA_CAMERA";
const CAMERA_USER: &str = "desk";
const CAMERA_PASSWORD: &str = "four oars and a cox";
/// The PTZ camera on the finish tower.
const FINISH_TOWER: &str = "127.20.0.11";
/// A camera that offers itself by name.
const WINNERS_DOCK: (&str, &str) = ("Winners Dock", "127.20.0.15");
const SWITCHING_DESK: &str = "127.20.0.31";
/// Two spare encoders as they left the factory: with one address and the password that everybody
/// knows.
const SPARE_ENCODER: &str = "127.20.0.9";

/// Everything outside Cable Choir.
pub struct FarEnds {
    cameras: Vec<Camera>,
    devices: Vec<SimDevice>,
    relays: Vec<Relay>,
    inputs: Vec<Arc<Input>>,
    dock: NamedCamera,
    desk: Node,
    platform: Platform,
    outputs: Outputs,
    paths: Arc<Paths>,
}

/// What each camera shows, by the name of its line.
type Outputs = BTreeMap<String, watch::Sender<Output>>;

impl FarEnds {
    /// Asks what the switcher's inputs measure.
    pub fn inputs(&self) -> impl Fn() -> Vec<InputView> + Send + Sync + 'static {
        let (inputs, platform) = (self.inputs.clone(), self.platform.viewed("platform"));
        move || inputs.iter().map(|i| i.view()).chain([platform()]).collect()
    }

    /// Changes what the camera of a line shows or sounds like, by one of
    /// [`crate::camera::OUTPUT_WORDS`], or the path that it comes by, by one of [`PATH_WORDS`].
    /// "normal" is for both. Called within the runtime.
    pub fn outputs(&self) -> impl Fn(&str, &str) -> Result<String, String> + Send + Sync + 'static {
        let (outputs, paths) = (self.outputs.clone(), self.paths.clone());
        move |line, word| {
            if PATH_WORDS.contains(&word) {
                return paths.change(line, word);
            }
            if word == "normal" {
                // One without a path of its own has none to mend.
                let _ = paths.change(line, "path-normal");
            }
            let names = || outputs.keys().cloned().collect::<Vec<_>>().join(", ");
            let output = outputs.get(line).ok_or_else(|| format!("there is no camera {line:?} in the demo. One of: {}", names()))?;
            let next = output.borrow().after(word).map_err(|e| e.to_string())?;
            output.send_replace(next);
            Ok(format!("{line} now: {}", next))
        }
    }

    /// Waits until all have stopped.
    pub async fn wait(self) {
        for camera in self.cameras {
            camera.wait().await;
        }
        for device in self.devices {
            device.wait().await;
        }
        for relay in self.relays {
            relay.wait().await;
        }
        self.dock.wait().await;
        self.desk.ended().await;
        self.platform.wait().await;
    }
}

fn ms(n: u64) -> Duration {
    Duration::from_millis(n)
}

struct Device {
    name: &'static str,
    to: &'static str,
    h265: bool,
    size: (u32, u32),
    rate: u32,
    kbps: u64,
}

const DEVICES: &[Device] = &[
    // Waits to be called.
    Device {
        name: "start-pontoon",
        to: "srt://127.20.0.12:7102?mode=listener&latency=100",
        h265: false,
        size: (640, 360),
        rate: 50,
        kbps: 4000,
    },
    // An H.265 encoder. Shares the boathouse's port with a stream ID.
    Device {
        name: "umpire-launch",
        to: "srt://127.20.1.13:7103?mode=caller&bind=127.20.0.13&latency=300&pbkeylen=32&streamid=%23!::r=umpire-launch,m=publish&passphrase-env=REGATTA_PASSPHRASE",
        h265: true,
        size: SHIPPED_SIZE,
        rate: 25,
        kbps: 3500,
    },
    // Both ends behind routers: rendezvous.
    Device {
        name: "towpath-bicycle",
        to: "srt://127.20.2.14:7104?mode=rendezvous&bind=127.20.0.14&latency=400&pbkeylen=16&passphrase-env=REGATTA_BICYCLE",
        h265: false,
        size: (640, 360),
        rate: 25,
        kbps: 2500,
    },
];

/// A path between a device and the boathouse.
struct PathPlan {
    line: &'static str,
    listen: &'static str,
    to: &'static str,
    from: &'static str,
    client: Option<&'static str>,
    faults: Faults,
}

fn path_plans() -> Vec<PathPlan> {
    let plan = |line, listen, to, from, client, faults| PathPlan { line, listen, to, from, client, faults };
    let lan = Faults { delay: ms(1), ..Faults::default() };
    // Mobile networks: the launch on the water, the bicycle under trees.
    let launch = Faults { delay: ms(25), jitter: ms(8), loss: 0.01, burst: 3.0, rate: Some(20_000_000), ..Faults::default() };
    let bicycle = Faults {
        delay: ms(40),
        jitter: ms(10),
        loss: 0.02,
        burst: 2.0,
        reorder: 0.001,
        duplicate: 0.001,
        rate: Some(12_000_000),
        ..Faults::default()
    };
    vec![
        plan("start-pontoon", "127.20.1.12:7102", "127.20.0.12:7102", "127.20.2.12:0", None, lan),
        plan("umpire-launch", "127.20.1.13:7103", "127.20.0.1:7103", "127.20.2.13:0", None, launch),
        plan("towpath-bicycle", "127.20.1.14:7104", "127.20.0.14:7104", "127.20.2.14:7104", Some("127.20.0.1:7104"), bicycle),
    ]
}

const INPUTS: &[(&str, &str)] = &[
    ("boathouse-1", "rtsp://127.20.0.1:8554/boathouse-1"),
    ("boathouse-2", "srt://127.20.0.31:7202?mode=listener&latency=60"),
    ("boathouse-3", "srt://127.20.0.31:7203?mode=listener&latency=60&passphrase-env=REGATTA_PASSPHRASE"),
    ("boathouse-4", "udp://127.20.0.31:7204"),
    ("jury-room", "udp://127.20.0.1@239.20.0.6:7206?interface=127.20.0.1"),
];

/// Inputs that the switching desk takes by name.
const NAMED: &[(&str, &str)] =
    &[("desk-1", "stave://Finish Tower"), ("desk-2", "stave://Start Pontoon"), ("desk-3", "stave://Towpath Bicycle")];

/// The switching desk's programme on its way back.
const PROGRAMME: &str = "srt://127.20.0.1:7105?mode=caller&bind=127.20.0.31&latency=120";

/// What takes the programme: the gateway to the viewers, and a monitor beside the desk.
const TAKERS: &[(&str, &str)] = &[
    ("gateway", "srt://127.20.0.41:7301?mode=listener&latency=200&pbkeylen=16&passphrase-env=REGATTA_PASSPHRASE"),
    ("desk-monitor", "rtsp://127.20.0.1:8554/programme-out"),
];

/// Fills in a sheet's secrets as [`give_passphrase`], and keeps its names apart from those of
/// another demo on this machine.
pub fn give_secrets(sheet: &mut Sheet, prefix: &str) {
    let links =
        sheet.lines.iter_mut().map(|l| &mut l.from).chain(sheet.feeds.iter_mut().flat_map(|f| f.to.iter_mut().map(|to| &mut to.link)));
    links.for_each(give_passphrase);
    if sheet.stave.key == Some(Secret::Env(LAN_VARIABLE.into())) {
        sheet.stave.key = Some(lan_key());
    }
    for device in &mut sheet.devices {
        if device.password == Some(Secret::Env(CAMERA_VARIABLE.into())) {
            device.password = Some(Secret::Literal(SecretText::new(CAMERA_PASSWORD)));
        }
    }
    sheet.stave.group = group(prefix);
}

fn lan_key() -> Secret {
    Secret::Literal(SecretText::new(LAN_WORDS))
}

fn group(prefix: &str) -> String {
    if prefix == PREFIX { LAN_GROUP.into() } else { format!("{LAN_GROUP} {}", prefix.trim_end_matches('.')) }
}

/// A stand-in on the LAN of names.
fn lan(machine: &str, address: &str, prefix: &str) -> Result<StaveSettings, SimError> {
    let address = Some(ip(address, prefix)?.into());
    Ok(StaveSettings { machine: Some(machine.into()), group: group(prefix), key: Some(lan_key()), address, ..StaveSettings::default() })
}

/// Fills in the demo's secrets where a link names their variables, so that nothing need be set.
pub fn give_passphrase(link: &mut Link) {
    match link {
        Link::Srt(srt) if srt.passphrase == Some(Secret::Env(PASSPHRASE_VARIABLE.into())) => {
            srt.passphrase = Some(Secret::Literal(SecretText::new(PASSPHRASE)));
        }
        Link::Srt(srt) if srt.passphrase == Some(Secret::Env(BICYCLE_VARIABLE.into())) => {
            srt.passphrase = Some(Secret::Literal(SecretText::new(BICYCLE_PASSPHRASE)));
        }
        Link::Rtmp(rtmp) if rtmp.key == Some(Secret::Env(PLATFORM_VARIABLE.into())) => {
            rtmp.key = Some(Secret::Literal(SecretText::new(PLATFORM_KEY)));
        }
        Link::Rtsp(rtsp) if rtsp.password == Some(Secret::Env(CAMERA_VARIABLE.into())) => {
            rtsp.password = Some(Secret::Literal(SecretText::new(CAMERA_PASSWORD)));
        }
        _ => {}
    }
}

fn link(text: &str, prefix: &str) -> Result<Link, SimError> {
    let text = text.replace(PREFIX, prefix);
    let (link, problems) = parse_url(&text);
    let mut link = link.ok_or_else(|| SimError::Encoder { who: "regatta".into(), what: format!("{text}: {problems:?}") })?;
    give_passphrase(&mut link);
    Ok(link)
}

fn address(text: &str, prefix: &str) -> Result<SocketAddr, SimError> {
    let text = text.replace(PREFIX, prefix);
    text.parse().map_err(|_| SimError::Encoder { who: "regatta".into(), what: text })
}

/// Starts everything outside Cable Choir, on addresses that start with `prefix` (as [`PREFIX`]).
///
/// # Errors
/// An address is taken: another demo runs there.
pub async fn start(prefix: &str, stop: &Stop) -> Result<FarEnds, SimError> {
    let desk_lan = lan("desk", SWITCHING_DESK, prefix)?;
    let desk = Node::join(&desk_lan, Identity::passing()?, Path::new("."), "desk", false, stop).await?;
    let takes = format!("{}/{PLATFORM_KEY}", PLATFORM.1);
    let platform = platform::start(PlatformSettings::new(address(PLATFORM.0, prefix)?, takes), stop.clone())?;
    let mut outputs = Outputs::new();
    let mut controlled = |name: &str| {
        let (change, output) = watch::channel(Output::default());
        outputs.insert(name.to_owned(), change);
        output
    };
    let dock = winners_dock(prefix, controlled("winners-dock"), stop).await?;
    let tower = controlled("finish-tower");
    let devices = DEVICES.iter().map(|d| (d, controlled(d.name))).collect::<Vec<_>>();
    let mut far = FarEnds {
        cameras: Vec::new(),
        devices: Vec::new(),
        relays: Vec::new(),
        inputs: Vec::new(),
        dock,
        desk,
        platform,
        outputs,
        paths: Arc::default(),
    };
    for (name, url) in INPUTS.iter().chain(NAMED).chain(TAKERS) {
        far.inputs.push(switcher::open_input(name, &link(url, prefix)?, ms(60), None, Some(&far.desk), stop).await?);
    }
    let (inputs, takers) = far.inputs.split_at(INPUTS.len() + NAMED.len());
    takers.iter().for_each(|taker| taker.takes_programme());
    let programme = Programme::open("programme", link(PROGRAMME, prefix)?, ms(60), stop).await?;
    let (named, stopped) = (Desk::over(inputs[INPUTS.len()..].to_vec()).with(programme), stop.clone());
    tokio::spawn(async move { named.cycle(ON_AIR, stopped).await });
    let mut paths = Paths::default();
    for (n, path) in path_plans().into_iter().enumerate() {
        let kbps = DEVICES.iter().find(|d| d.name == path.line).map_or(0, |d| d.kbps);
        let changes = paths.add(path.line, path.faults.clone(), Bitrate(kbps * 1000));
        let settings = RelaySettings {
            listen: address(path.listen, prefix)?,
            to: address(path.to, prefix)?,
            from: Some(address(path.from, prefix)?),
            client: path.client.map(|a| address(a, prefix)).transpose()?,
            there: path.faults.clone(),
            back: path.faults,
            seed: n as u64 + 1,
            changes: Some(changes),
        };
        let listen = settings.listen;
        far.relays.push(relay::start(settings, stop.clone()).map_err(|e| SimError::Address {
            who: "path".into(),
            addr: listen,
            cause: e,
        })?);
    }
    far.paths = Arc::new(paths);
    let mut starting = tokio::task::JoinSet::new();
    for (device, output) in devices {
        let settings = CameraSettings {
            output,
            h265: device.h265,
            size: device.size,
            rate: device.rate,
            bitrate: Bitrate(device.kbps * 1000),
            ..CameraSettings::new(device.name, link(device.to, prefix)?)
        };
        let stop = stop.clone();
        starting.spawn(async move { camera::start(settings, Path::new("."), stop).await });
    }
    far.devices.push(finish_tower(prefix, tower, stop).await?);
    far.devices.push(spare_encoder(prefix, stop).await?);
    while let Some(started) = starting.join_next().await {
        let started = started.map_err(|e| SimError::Encoder { who: "regatta".into(), what: e.to_string() })?;
        far.cameras.push(started?);
    }
    Ok(far)
}

fn ip(text: &str, prefix: &str) -> Result<Ipv4Addr, SimError> {
    let text = text.replace(PREFIX, prefix);
    text.parse().map_err(|_| SimError::Encoder { who: "regatta".into(), what: text })
}

/// The camera that is pulled, steered and set: main and sub, only by the desk.
async fn finish_tower(prefix: &str, output: watch::Receiver<Output>, stop: &Stop) -> Result<SimDevice, SimError> {
    let credentials = Credentials::new(CAMERA_USER, CAMERA_PASSWORD);
    let settings = device::Settings {
        streams: [StreamState::new((1280, 720), 5000), StreamState::new((320, 180), 400)],
        output,
        ..device::Settings::ptz_camera("finish-tower", ip(FINISH_TOWER, prefix)?, credentials)
    };
    device::start(settings, stop.clone()).await
}

/// A camera that is on the LAN by itself, in all grades.
async fn winners_dock(prefix: &str, output: watch::Receiver<Output>, stop: &Stop) -> Result<NamedCamera, SimError> {
    let (name, address) = WINNERS_DOCK;
    let nowhere = Link::File(FileLink::once(None));
    let picture = CameraSettings { size: (640, 360), bitrate: Bitrate(3_000_000), output, ..CameraSettings::new("winners-dock", nowhere) };
    let settings = NamedCameraSettings {
        name: name.into(),
        lan: lan("winners-dock", address, prefix)?,
        base: ".".into(),
        picture,
        intra: Some(Bitrate(12_000_000)),
        channels: 2,
        sub: Some((320, 180)),
        turns: false,
    };
    camera::start_named(settings, stop.clone()).await
}

async fn spare_encoder(prefix: &str, stop: &Stop) -> Result<SimDevice, SimError> {
    let settings = device::Settings::encoder("spare-encoder", ip(SPARE_ENCODER, prefix)?, Credentials::new("admin", "admin"));
    device::start(device::Settings { quirks: vec![Quirk::Twin], ..settings }, stop.clone()).await
}
