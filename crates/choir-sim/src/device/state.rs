//! Everything that can be set on a device, and what follows from setting it.

use super::Turn;
use crate::camera::{Head, Output, Place, SHIPPED_RATE, SHIPPED_SIZE};
use choir_host::Stop;
use choir_ports::LinkStatus;
use choir_proto::auth::Credentials;
use std::{
    collections::BTreeMap,
    net::Ipv4Addr,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
};
use tokio::sync::{Notify, watch};

/// What a device is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Turns, and takes settings at once.
    PtzCamera,
    /// Has four inputs, two with a signal; takes codec, size and rate only after a restart; rounds
    /// bitrates; refuses 50 frames a second in the high profile.
    Encoder,
}

/// What a device does in a way of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quirk {
    /// It wants the password proved by HTTP instead of in the message.
    HttpDigest,
    /// It knows only `GetCapabilities`.
    OldServices,
    /// It knows only the first media service.
    FirstMediaOnly,
    /// It gives its services and streams an address that it no longer has.
    OldAddress,
    /// It gives its media services a port where nobody listens.
    OddPort,
    /// It tells its clock only to those who log in.
    HidesClock,
    /// It dies for good at the first setting of a stream.
    DiesWhenSet,
    /// The first so many stops of its head are lost.
    LosesStops(u64),
    /// It numbers its presets itself.
    OwnPresetNumbers,
    /// A second device of the same kind is at the same address.
    Twin,
    /// It says that it takes another address or password, and keeps its own.
    KeepsItsOwn,
    /// Its head knows speeds and places only.
    NoPictureMoves,
    /// It makes no keyframe when asked for one.
    NoKeyframes,
}

/// What a device is to be.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Shown in its pictures and said in its announcements.
    pub name: String,
    /// Kind.
    pub kind: Kind,
    /// Where it is at first.
    pub address: Ipv4Addr,
    /// What a DHCP server gives it.
    pub lease: Ipv4Addr,
    /// ONVIF and its page.
    pub control_port: u16,
    /// Its streams.
    pub rtsp_port: u16,
    /// User and password that it leaves the factory with, or has been given.
    pub credentials: Credentials,
    /// Main and sub as they are at first.
    pub streams: [StreamState; 2],
    /// Its inputs: with a signal or without.
    pub inputs: Vec<bool>,
    /// Seconds that its clock is ahead, not below 0.
    pub clock_ahead: i64,
    /// Own ways.
    pub quirks: Vec<Quirk>,
    /// What its streams show and sound like.
    pub output: watch::Receiver<Output>,
}

impl Settings {
    /// A camera of the usual kind.
    #[must_use]
    pub fn ptz_camera(name: &str, address: Ipv4Addr, credentials: Credentials) -> Self {
        Self {
            name: name.into(),
            kind: Kind::PtzCamera,
            address,
            lease: next(address, 64),
            control_port: 8000,
            rtsp_port: 8554,
            credentials,
            streams: [StreamState::new((640, 360), 2000), StreamState::new((320, 180), 400)],
            inputs: vec![true],
            clock_ahead: 0,
            quirks: Vec::new(),
            output: watch::channel(Output::default()).1,
        }
    }

    /// An encoder as it leaves the factory.
    #[must_use]
    pub fn encoder(name: &str, address: Ipv4Addr, credentials: Credentials) -> Self {
        Self {
            kind: Kind::Encoder,
            inputs: vec![true, false, true, false],
            clock_ahead: 40,
            ..Self::ptz_camera(name, address, credentials)
        }
    }
}

fn next(ip: Ipv4Addr, by: u32) -> Ipv4Addr {
    Ipv4Addr::from(u32::from(ip).wrapping_add(by))
}

/// Settings of one stream.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamState {
    /// `H264` or `H265`.
    pub codec: String,
    /// `High`, `Main`.
    pub profile: String,
    /// Pixels.
    pub size: (u32, u32),
    /// Frames per second.
    pub rate: u32,
    /// kbit/s.
    pub kbps: u32,
    /// Held constant.
    pub constant: bool,
    /// Frames from keyframe to keyframe.
    pub gop: u32,
    /// With sound.
    pub audio: bool,
    /// Group and port.
    pub group: Option<(Ipv4Addr, u16)>,
}

impl StreamState {
    /// H.264 of this size and bitrate.
    #[must_use]
    pub fn new(size: (u32, u32), kbps: u32) -> Self {
        Self { codec: "H264".into(), profile: "High".into(), size, rate: 25, kbps, constant: true, gop: 25, audio: true, group: None }
    }
}

/// Sizes that can be set with H.264; H.265 has the shipped loop's.
pub(super) const SIZES: [(u32, u32); 4] = [(1280, 720), (960, 540), (640, 360), (320, 180)];
/// kbit/s.
pub(super) const KBPS: (u32, u32) = (256, 8000);
/// Frames.
pub(super) const GOP: (u32, u32) = (1, 250);
/// Frames per second with H.264.
pub(super) const RATES: [u32; 3] = [12, 25, 50];
/// An encoder's bitrates are multiples of this, kbit/s.
const STEP: u32 = 256;

/// Its network.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Net {
    pub address: Ipv4Addr,
    pub prefix: u8,
    pub dhcp: bool,
    pub gateway: Option<Ipv4Addr>,
}

/// What a device has been asked.
#[derive(Debug, Default)]
pub struct Counts {
    /// ONVIF requests.
    pub requests: AtomicU64,
    /// Proofs of a password that were wrong.
    pub refused: AtomicU64,
    /// Stops of the head that were heard, lost ones too.
    pub stops: AtomicU64,
    /// Keyframes asked for.
    pub keyframes: AtomicU64,
}

/// What can change.
pub(super) struct State {
    /// As sent.
    pub active: [StreamState; 2],
    /// As set; the same until a restart brings them together.
    pub stored: [StreamState; 2],
    pub active_input: usize,
    pub network: Net,
    pub next_network: Option<Net>,
    pub credentials: Credentials,
    /// Name and place by number.
    pub presets: BTreeMap<u8, (String, Place)>,
    pub tally: bool,
    pub dead: bool,
}

/// What a camera of the regatta has been taught.
fn first_presets() -> BTreeMap<u8, (String, Place)> {
    let place = |pan, tilt, zoom| Place { pan, tilt, zoom };
    let taught = [
        (1, "Whole course", place(0.0, 0.0, 0.0)),
        (2, "Finish line", place(0.4, -0.1, 0.5)),
        (3, "Winners' dock", place(0.8, -0.2, 0.3)),
        (4, "Scoreboard", place(-0.6, 0.2, 0.6)),
    ];
    taught.into_iter().map(|(n, name, at)| (n, (name.to_owned(), at))).collect()
}

impl State {
    /// What was set holds now.
    pub fn restart(&mut self) {
        self.active.clone_from(&self.stored);
        if let Some(n) = self.next_network.take() {
            self.network = n;
        }
    }
}

/// What all parts of a device share.
pub(super) struct Shared {
    pub settings: Settings,
    pub head: Arc<Head>,
    pub counts: Counts,
    pub turn: watch::Sender<Turn>,
    pub answered: Notify,
    pub streams_changed: watch::Sender<u32>,
    /// How the streams stand that are sent now: main, sub.
    pub sent: Mutex<Vec<Arc<LinkStatus>>>,
    state: Mutex<State>,
    /// Parts that are open: what is not closed cannot be opened again.
    open: watch::Sender<u32>,
}

impl Shared {
    pub fn new(settings: Settings) -> Self {
        let state = State {
            active: settings.streams.clone(),
            stored: settings.streams.clone(),
            active_input: 1,
            network: Net { address: settings.address, prefix: 24, dhcp: false, gateway: None },
            next_network: None,
            credentials: settings.credentials.clone(),
            presets: first_presets(),
            tally: false,
            dead: false,
        };
        Self {
            settings,
            head: Arc::default(),
            counts: Counts::default(),
            turn: watch::channel(Turn::Alive).0,
            answered: Notify::new(),
            streams_changed: watch::channel(0).0,
            sent: Mutex::default(),
            state: Mutex::new(state),
            open: watch::channel(0).0,
        }
    }

    pub fn look<T>(&self, f: impl FnOnce(&mut State) -> T) -> T {
        f(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub fn has(&self, quirk: Quirk) -> bool {
        self.settings.quirks.contains(&quirk)
    }

    /// A stop has come; true when it is one of those that get lost.
    pub fn loses_stop(&self) -> bool {
        let heard = self.counts.stops.fetch_add(1, Ordering::Relaxed);
        self.settings.quirks.iter().any(|q| matches!(q, Quirk::LosesStops(n) if heard < *n))
    }

    /// Runs a part of this life; the next life begins when all parts have ended.
    pub fn task(self: &Arc<Self>, life: &Stop, part: impl Future<Output = ()> + Send + 'static) {
        let (shared, mut life) = (self.clone(), life.clone());
        self.open.send_modify(|n| *n += 1);
        tokio::spawn(async move {
            part.await;
            life.wait().await;
            shared.open.send_modify(|n| *n -= 1);
        });
    }

    /// Waits until all parts have ended.
    pub async fn gone(&self) {
        let _ = self.open.subscribe().wait_for(|n| *n == 0).await;
    }

    /// Takes a stream's settings, or says why not.
    pub fn set_stream(&self, n: usize, mut wanted: StreamState) -> Result<(), &'static str> {
        let allowed = match wanted.codec.as_str() {
            "H264" => SIZES.contains(&wanted.size) && RATES.contains(&wanted.rate),
            "H265" => wanted.size == SHIPPED_SIZE && wanted.rate == SHIPPED_RATE,
            _ => false,
        };
        if !allowed || !(KBPS.0..=KBPS.1).contains(&wanted.kbps) || !(GOP.0..=GOP.1).contains(&wanted.gop) {
            return Err("ConfigModify");
        }
        // Its H.265 is what it is.
        wanted.constant &= wanted.codec != "H265";
        let encoder = self.settings.kind == Kind::Encoder;
        if encoder && wanted.rate == 50 && wanted.profile == "High" {
            return Err("ConfigModify");
        }
        if encoder {
            wanted.kbps = ((wanted.kbps + STEP / 2) / STEP * STEP).max(STEP);
        }
        self.look(|s| {
            let before = s.active.clone();
            // An encoder takes these at its next start.
            let later = |w: &StreamState| (w.codec.clone(), w.size, w.rate);
            if encoder && later(&wanted) != later(&s.active[n]) {
                s.stored[n] = wanted;
            } else {
                s.active[n].clone_from(&wanted);
                s.stored[n] = wanted;
            }
            if s.active != before {
                self.streams_changed.send_modify(|c| *c += 1);
            }
        });
        Ok(())
    }
}
