//! Steering a camera: the same verbs by ONVIF and by VISCA.

use choir_core::device::{Control, Device, PresetView};
use choir_devices::{
    onvif::{OnvifError, Session, Which},
    visca::{Visca, ViscaError},
};
use choir_ports::stave::{NamedCamera, SteerError};
use choir_proto::{
    auth::Credentials,
    onvif::{
        media,
        ptz::{self, PictureMoves},
    },
    stave::CameraVerb,
    visca::{Ask, Drive, Refusal, wire::read_nibbles},
};
use std::time::Duration;
use tokio::sync::{Mutex, OnceCell};

/// Times that a stop is sent before it is said that the camera may still be moving.
const STOP_TRIES: u32 = 10;
const STOP_PAUSE: Duration = Duration::from_millis(150);
/// Longest move that is asked for.
const MOVE_MAX: Duration = Duration::from_secs(30);
/// Steps of VISCA's zoom from wide to tele, as most lists print it.
const ZOOM_STEPS: f64 = 16_384.0;

/// Why a camera is not steered.
#[derive(Debug, thiserror::Error)]
pub enum PtzError {
    /// By ONVIF.
    #[error(transparent)]
    Onvif(#[from] OnvifError),
    /// By VISCA.
    #[error(transparent)]
    Visca(#[from] ViscaError),
    /// By the name of its source.
    #[error(transparent)]
    Named(#[from] SteerError),
    /// What goes by a name is little.
    #[error("{0} goes only to the camera itself: by a Stave name it can be moved, stopped, sent home and to a preset by its number")]
    NotByName(&'static str),
    /// Its password cannot be had.
    #[error(transparent)]
    Secret(#[from] choir_host::secrets::SecretError),
    /// It has no protocol for it.
    #[error("{0} has control = \"manual\": it cannot be steered from here")]
    Manual(String),
    /// No stream of it can be steered.
    #[error("{0} has no stream that can be steered")]
    NotSteered(String),
    /// No such preset.
    #[error("there is no preset \"{asked}\"; there are {known}")]
    NoPreset {
        /// As asked.
        asked: String,
        /// All of them.
        known: String,
    },
    /// VISCA counts presets.
    #[error("\"{0}\" is not a preset: use a number from 0 to 127, or a name from the sheet")]
    NotANumber(String),
    /// ONVIF has no word for it.
    #[error("ONVIF has no command for a tally lamp: steer this camera by VISCA (--by visca)")]
    NoTally,
    /// It cannot move relative to its picture.
    #[error("{0} has no moves relative to its picture (ONVIF, by the field of view): steer it by speeds, or with the arrows of the panel")]
    NotInPicture(String),
    /// The stop was not answered.
    #[error("THE CAMERA MAY STILL BE MOVING: the stop was sent 10 times and not answered ({0})")]
    NotStopped(Box<PtzError>),
}

/// Begins to move from rest: no order is sent that changes nothing, since each costs an answer.
async fn visca_move(v: &Visca, d: Drive) -> Result<(), PtzError> {
    if d.pan != 0.0 || d.tilt != 0.0 {
        v.ask(Ask::Move(d)).await?;
    }
    if d.zoom != 0.0 {
        v.ask(Ask::Zoom(d.zoom)).await?;
    }
    Ok(())
}

/// Where a camera looks.
#[derive(Debug, Clone, Default, PartialEq, serde::Serialize)]
pub struct Position {
    /// -1 (left) to 1 by ONVIF, the camera's own steps by VISCA.
    pub pan: f64,
    /// -1 (down) to 1, or steps.
    pub tilt: f64,
    /// 0 (wide) to 1 (tele).
    pub zoom: f64,
    /// `range` for -1 to 1, `steps` for the camera's own.
    pub unit: String,
    /// Moving, when the camera says.
    pub moving: Option<bool>,
}

enum By {
    Onvif(Box<Mutex<Session>>, Head),
    Visca(Visca),
    Named(NamedCamera),
}

/// What is steered by ONVIF.
struct Head {
    profile: String,
    node: String,
    /// Asked when it is wanted first.
    moves: OnceCell<Option<PictureMoves>>,
}

/// A part of a camera's picture: shares of it from the left and from the top.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PictureBox {
    /// Its left edge.
    pub left: f64,
    /// Its upper edge.
    pub top: f64,
    /// 0 for a point.
    pub width: f64,
    /// 0 for a point.
    pub height: f64,
}

impl PictureBox {
    /// Its middle, -1 to 1 from the middle of the picture, right and up.
    fn middle(&self) -> (f64, f64) {
        (2.0 * (self.left + self.width / 2.0) - 1.0, 1.0 - 2.0 * (self.top + self.height / 2.0))
    }

    /// How many times closer the camera must look for it to fill the picture; a point leaves that
    /// as it is.
    fn closer(&self) -> f64 {
        let largest = self.width.max(self.height);
        if largest <= 0.0 { 1.0 } else { largest.recip().max(1.0) }
    }
}

/// A camera that can be steered.
pub struct Ptz {
    name: String,
    by: By,
    /// Times that its lens brings closer, from wide to tele.
    zoom: f64,
    names: std::collections::BTreeMap<u8, String>,
}

impl Ptz {
    /// Opens the way to a camera by this protocol.
    ///
    /// # Errors
    /// See [`PtzError`].
    pub async fn open(device: &Device, by: Control, credentials: Option<Credentials>) -> Result<Self, PtzError> {
        let port = device.port_for(by);
        let by = match by {
            Control::Manual => return Err(PtzError::Manual(device.name.clone())),
            Control::Onvif => {
                let mut session = Session::open_to_steer(device.address, port, credentials).await?;
                let m = if session.services.media.is_some() { media::Media::One } else { media::Media::Two };
                let which = if m == media::Media::One { Which::Media } else { Which::Media2 };
                let profiles = media::read_profiles(m, &session.call(which, &media::get_profiles(m)).await?);
                let steered = profiles.into_iter().find_map(|p| Some((p.token, p.ptz?))).filter(|_| session.services.ptz.is_some());
                let (profile, node) = steered.ok_or_else(|| PtzError::NotSteered(device.name.clone()))?;
                By::Onvif(Box::new(Mutex::new(session)), Head { profile, node, moves: OnceCell::new() })
            }
            visca => By::Visca(Visca::open(device.address, port, visca, device.camera).await?),
        };
        Ok(Self { name: device.name.clone(), by, zoom: device.zoom.into(), names: device.presets.clone() })
    }

    /// A camera that is known by the name of its source.
    #[must_use]
    pub fn by_name(camera: NamedCamera) -> Self {
        Self { name: camera.name().to_owned(), by: By::Named(camera), zoom: 1.0, names: std::collections::BTreeMap::new() }
    }

    /// Longest move that can be asked for.
    #[must_use]
    pub fn move_most(&self) -> Duration {
        match self.by {
            By::Named(_) => Duration::from_millis(choir_proto::stave::MOVE_MOST_MS.into()),
            _ => MOVE_MAX,
        }
    }

    /// The device's name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Names of presets are kept in the sheet, because the protocol has none.
    #[must_use]
    pub fn names_in_sheet(&self) -> bool {
        matches!(self.by, By::Visca(_))
    }

    /// All presets; by VISCA those that the sheet names, since a camera cannot be asked.
    ///
    /// # Errors
    /// The camera refuses or goes.
    pub async fn list(&self) -> Result<Vec<PresetView>, PtzError> {
        match &self.by {
            By::Onvif(s, head) => {
                let answer = s.lock().await.call(Which::Ptz, &ptz::get_presets(&head.profile)).await?;
                Ok(ptz::read_presets(&answer).into_iter().map(|p| PresetView { number: p.token, name: p.name }).collect())
            }
            By::Named(_) => Err(PtzError::NotByName("a list of presets")),
            By::Visca(_) => Ok(self.names.iter().map(|(n, name)| PresetView { number: n.to_string(), name: name.clone() }).collect()),
        }
    }

    fn visca_number(&self, which: &str) -> Result<u8, PtzError> {
        let named = || self.names.iter().find(|(_, n)| n.eq_ignore_ascii_case(which)).map(|(n, _)| *n);
        which.parse().ok().filter(|n| *n < 128).or_else(named).ok_or_else(|| PtzError::NotANumber(which.into()))
    }

    /// Goes to a preset, by number or name; says which.
    ///
    /// # Errors
    /// No such preset, or the camera refuses.
    pub async fn goto(&self, which: &str) -> Result<PresetView, PtzError> {
        match &self.by {
            By::Onvif(s, head) => {
                let all = self.list().await?;
                let found = all.iter().find(|p| p.number == which).or_else(|| all.iter().find(|p| p.name.eq_ignore_ascii_case(which)));
                // "3" also means what a device calls "preset-3".
                let tail = |p: &&PresetView| p.number.trim_start_matches(|c: char| !c.is_ascii_digit()).trim_start_matches('0') == which;
                let default = |p: &&PresetView| p.name == format!("Preset {which}");
                let Some(p) = found.or_else(|| all.iter().find(tail)).or_else(|| all.iter().find(default)) else {
                    let known: Vec<String> = all.iter().map(|p| format!("{} ({})", p.number, p.name)).collect();
                    let known = if known.is_empty() { "none".into() } else { known.join(", ") };
                    return Err(PtzError::NoPreset { asked: which.into(), known });
                };
                s.lock().await.call(Which::Ptz, &ptz::goto_preset(&head.profile, &p.number)).await?;
                Ok(p.clone())
            }
            By::Visca(v) => {
                let n = self.visca_number(which)?;
                v.ask(Ask::Goto(n)).await.map_err(|e| match e {
                    // What a camera that is on answers for a preset that it does not have.
                    ViscaError::Refused { cause: Refusal::NotNow, .. } => {
                        let known: Vec<String> = self.names.iter().map(|(n, name)| format!("{n} ({name})")).collect();
                        let known = if known.is_empty() { "not known: VISCA cannot list them".into() } else { known.join(", ") };
                        PtzError::NoPreset { asked: which.into(), known }
                    }
                    other => other.into(),
                })?;
                Ok(PresetView { number: n.to_string(), name: self.names.get(&n).cloned().unwrap_or_default() })
            }
            By::Named(c) => {
                let number = which.parse().map_err(|_| PtzError::NotByName("a preset's name"))?;
                c.order(CameraVerb::Preset { number }).await?;
                Ok(PresetView { number: which.to_owned(), name: String::new() })
            }
        }
    }

    /// Stores the present position; says under which number, which by ONVIF is the device's to
    /// choose.
    ///
    /// # Errors
    /// The camera refuses or goes.
    pub async fn store(&self, which: &str, name: Option<&str>) -> Result<PresetView, PtzError> {
        match &self.by {
            By::Onvif(s, head) => {
                let all = self.list().await?;
                let old = all.iter().find(|p| p.number == which);
                let name = name.map(str::to_owned).or(old.map(|p| p.name.clone())).unwrap_or_else(|| format!("Preset {which}"));
                let mut session = s.lock().await;
                // Some devices take a number that they do not have yet; others choose one
                // themselves.
                let answer = match session.call(Which::Ptz, &ptz::set_preset(&head.profile, &name, Some(which))).await {
                    Err(OnvifError::Fault { .. }) if old.is_none() => {
                        session.call(Which::Ptz, &ptz::set_preset(&head.profile, &name, None)).await?
                    }
                    other => other?,
                };
                let number = ptz::read_stored(&answer).unwrap_or_else(|| which.to_owned());
                Ok(PresetView { number, name })
            }
            By::Visca(v) => {
                let n = self.visca_number(which)?;
                v.ask(Ask::Store(n)).await?;
                let name = name.map(str::to_owned).or(self.names.get(&n).cloned()).unwrap_or_default();
                Ok(PresetView { number: n.to_string(), name })
            }
            By::Named(_) => Err(PtzError::NotByName("storing a preset")),
        }
    }

    /// Goes home.
    ///
    /// # Errors
    /// The camera refuses or goes.
    pub async fn home(&self) -> Result<(), PtzError> {
        match &self.by {
            By::Onvif(s, head) => drop(s.lock().await.call(Which::Ptz, &ptz::goto_home(&head.profile)).await?),
            By::Visca(v) => drop(v.ask(Ask::Home).await?),
            By::Named(c) => c.order(CameraVerb::Home).await?,
        }
        Ok(())
    }

    /// Begins to move at these speeds (-1 to 1). The device is told to stop by itself after
    /// `at_most` where its protocol can say that; whoever calls stops it in any case.
    ///
    /// # Errors
    /// The camera refuses or goes.
    pub async fn drive(&self, d: Drive, at_most: Duration) -> Result<(), PtzError> {
        match &self.by {
            By::Onvif(s, head) => {
                let v = ptz::Vector { pan: d.pan, tilt: d.tilt, zoom: d.zoom };
                s.lock().await.call(Which::Ptz, &ptz::continuous_move(&head.profile, v, at_most.min(MOVE_MAX))).await?;
            }
            By::Visca(v) => {
                let turns = d.pan != 0.0 || d.tilt != 0.0;
                v.ask(if turns { Ask::Move(d) } else { Ask::StopMove }).await?;
                v.ask(if d.zoom != 0.0 { Ask::Zoom(d.zoom) } else { Ask::StopZoom }).await?;
            }
            By::Named(c) => {
                let for_ms = at_most.as_millis() as u32;
                c.order(CameraVerb::Move { pan: d.pan, tilt: d.tilt, zoom: d.zoom, for_ms }).await?;
            }
        }
        Ok(())
    }

    /// Brings a part of the picture to its middle, and zooms until it fills the picture; of a point
    /// only the former. How far the lens must move for that follows from the sheet's `zoom`, taking
    /// each step of its range to bring closer by the same factor.
    ///
    /// # Errors
    /// The camera has no moves relative to its picture, refuses or goes.
    pub async fn frame(&self, part: PictureBox) -> Result<(), PtzError> {
        let By::Onvif(s, head) = &self.by else { return Err(PtzError::NotInPicture(self.name.clone())) };
        let mut session = s.lock().await;
        let asked = head.moves.get_or_try_init(async || match session.call(Which::Ptz, &ptz::get_node(&head.node)).await {
            Ok(answer) => Ok(ptz::read_picture_moves(&answer)),
            // It knows no heads.
            Err(OnvifError::Fault { .. }) => Ok(None),
            Err(e) => Err(e),
        });
        let moves = asked.await?.ok_or_else(|| PtzError::NotInPicture(self.name.clone()))?;
        let (x, y) = part.middle();
        let zoom = part.closer().ln() / self.zoom.max(2.0).ln();
        session.call(Which::Ptz, &ptz::move_in_picture(&head.profile, moves.towards(x, y, zoom))).await?;
        Ok(())
    }

    async fn stop_once(&self) -> Result<(), PtzError> {
        match &self.by {
            By::Onvif(s, head) => drop(s.lock().await.call(Which::Ptz, &ptz::stop(&head.profile)).await?),
            By::Visca(v) => {
                let (turn, zoom) = tokio::join!(v.ask(Ask::StopMove), v.ask(Ask::StopZoom));
                turn.and(zoom)?;
            }
            By::Named(c) => c.order(CameraVerb::Stop).await?,
        }
        Ok(())
    }

    /// Stops, and repeats it until the camera answers.
    ///
    /// # Errors
    /// It never does.
    pub async fn stop(&self) -> Result<(), PtzError> {
        let mut tries = 0;
        loop {
            tries += 1;
            match self.stop_once().await {
                Ok(()) => return Ok(()),
                Err(e) if tries >= STOP_TRIES => return Err(PtzError::NotStopped(Box::new(e))),
                Err(_) => tokio::time::sleep(STOP_PAUSE).await,
            }
        }
    }

    /// Moves for a time, then stops; stops early when `until` comes first.
    ///
    /// # Errors
    /// The camera refuses, or does not answer the stop.
    pub async fn move_for(&self, d: Drive, time: Duration, until: impl Future<Output = ()>) -> Result<(), PtzError> {
        let time = time.min(self.move_most());
        // The camera moves from when it hears the order, not from when its answer is here.
        let end = tokio::time::Instant::now() + time;
        let over = async {
            tokio::select! {
                () = tokio::time::sleep_until(end) => {}
                () = until => {}
            }
        };
        let moving = async {
            match &self.by {
                By::Visca(v) => visca_move(v, d).await?,
                _ => self.drive(d, time).await?,
            }
            std::future::pending().await
        };
        // The stop does not wait for the answer to the move; and it follows also when there was
        // none: it may have been heard.
        let moved = tokio::select! {
            moved = moving => moved,
            () = over => Ok(()),
        };
        let stopped = self.stop().await;
        moved.and(stopped)
    }

    /// Where it looks.
    ///
    /// # Errors
    /// The camera refuses or goes.
    pub async fn position(&self) -> Result<Position, PtzError> {
        match &self.by {
            By::Onvif(s, head) => {
                let status = ptz::read_status(&s.lock().await.call(Which::Ptz, &ptz::get_status(&head.profile)).await?);
                let p = status.position.unwrap_or_default();
                Ok(Position { pan: p.pan, tilt: p.tilt, zoom: p.zoom, unit: "range".into(), moving: status.moving })
            }
            By::Visca(v) => {
                let (turn, zoom) = (v.ask(Ask::Position).await?, v.ask(Ask::ZoomPosition).await?);
                let strange = || ViscaError::Strange { at: v.at() };
                let pan = read_nibbles(&turn).ok_or_else(strange)?;
                let tilt = turn.get(4..).and_then(read_nibbles).ok_or_else(strange)?;
                let zoom = read_nibbles(&zoom).ok_or_else(strange)?;
                let zoom = (f64::from(zoom as u16) / ZOOM_STEPS).min(1.0);
                Ok(Position { pan: pan.into(), tilt: tilt.into(), zoom, unit: "steps".into(), moving: None })
            }
            By::Named(_) => Err(PtzError::NotByName("asking where it looks")),
        }
    }

    /// Switches the tally lamp.
    ///
    /// # Errors
    /// The camera has none, refuses or goes.
    pub async fn tally(&self, on: bool) -> Result<(), PtzError> {
        match &self.by {
            By::Onvif(..) => Err(PtzError::NoTally),
            By::Named(_) => Err(PtzError::NotByName("its lamp, which follows what receivers show,")),
            By::Visca(v) => {
                v.ask(Ask::Tally(on)).await?;
                Ok(())
            }
        }
    }
}
