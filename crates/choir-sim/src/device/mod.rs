//! Devices with their control: a PTZ camera and a hardware encoder that answer ONVIF, VISCA,
//! WS-Discovery and DNS-SD, and whose streams really change when they are set.
//!
//! | file | idea |
//! |---|---|
//! | `state.rs` | everything that can be set, and what follows from setting it |
//! | `onvif.rs` | HTTP and who may ask |
//! | `answers.rs` | what is answered to each request |
//! | `visca.rs` | VISCA over IP and bare by TCP |
//! | `announce.rs` | WS-Discovery and DNS-SD |
//!
//! A device lives from its start to its next restart or move: all its sockets are opened anew.

mod announce;
mod answers;
mod onvif;
mod state;
mod visca;

pub use state::{Counts as DeviceCounts, Kind, Quirk, Settings, StreamState};

use crate::{
    SimError,
    camera::{CameraSettings, RtspCameraSettings, start_rtsp},
};
use choir_core::{
    link::{FileLink, Link},
    units::Bitrate,
};
use choir_host::Stop;
use futures_core::future::BoxFuture;
use state::{Shared, State};
use std::{
    net::SocketAddr,
    sync::{Arc, PoisonError},
    time::Duration,
};
use tokio::{sync::oneshot, task::JoinHandle};

/// A device that restarts is gone for this long.
pub const RESTART: Duration = Duration::from_secs(3);

/// A running device.
pub struct SimDevice {
    shared: Arc<Shared>,
    task: JoinHandle<()>,
}

impl SimDevice {
    /// What it has been asked.
    #[must_use]
    pub fn counts(&self) -> &DeviceCounts {
        &self.shared.counts
    }

    /// Where its control is now.
    #[must_use]
    pub fn at(&self) -> SocketAddr {
        self.shared.look(|s| SocketAddr::new(s.network.address.into(), self.shared.settings.control_port))
    }

    /// The stream as it is sent, not as it is set: 0 is the main one.
    #[must_use]
    pub fn sends(&self, stream: usize) -> StreamState {
        self.shared.look(|s| s.active[stream].clone())
    }

    /// Where its head looks: pan, tilt, zoom.
    #[must_use]
    pub fn looks(&self) -> (f64, f64, f64) {
        let p = self.shared.head.place();
        (p.pan, p.tilt, p.zoom)
    }

    /// Its head turns.
    #[must_use]
    pub fn turns(&self) -> bool {
        self.shared.head.moving()
    }

    /// Its lamp.
    #[must_use]
    pub fn tally(&self) -> bool {
        self.shared.look(|s| s.tally)
    }

    /// Waits until it has stopped.
    pub async fn wait(self) {
        let _ = self.task.await;
    }
}

/// What ends a life.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Turn {
    /// Running.
    Alive,
    /// It restarts.
    Restart,
    /// It has another address.
    Move,
}

/// Starts a device; returns when its sockets are open and its streams can be pulled.
///
/// # Errors
/// An address cannot be had, or the encoder refuses a size.
pub fn start(settings: Settings, stop: Stop) -> BoxFuture<'static, Result<SimDevice, SimError>> {
    Box::pin(async move {
        let shared = Arc::new(Shared::new(settings));
        let (ready, is_ready) = oneshot::channel();
        let task = tokio::spawn(lives(shared.clone(), stop, ready));
        is_ready.await.unwrap_or_else(|_| Err(SimError::Encoder { who: "device".into(), what: "it stopped while it started".into() }))?;
        Ok(SimDevice { shared, task })
    })
}

async fn lives(shared: Arc<Shared>, mut stop: Stop, ready: oneshot::Sender<Result<(), SimError>>) {
    let mut ready = Some(ready);
    while !stop.is_set() {
        let (end, life) = Stop::new();
        let begun = begin(&shared, &life).await;
        let failed = begun.is_err();
        if let Some(ready) = ready.take() {
            let _ = ready.send(begun);
        }
        if failed {
            return;
        }
        let mut turns = shared.turn.subscribe();
        let turn = tokio::select! {
            t = turns.wait_for(|t| *t != Turn::Alive) => t.map_or(Turn::Restart, |t| *t),
            () = stop.wait() => Turn::Alive,
        };
        if turn == Turn::Alive {
            end.now();
            return shared.gone().await;
        }
        // The answer to the order goes first.
        shared.answered.notified().await;
        end.now();
        shared.gone().await;
        // What else has ended by it is no sign for the next order.
        let _ = tokio::time::timeout(Duration::ZERO, shared.answered.notified()).await;
        if turn == Turn::Restart {
            tokio::select! {
                () = tokio::time::sleep(RESTART) => {}
                () = stop.wait() => return,
            }
        }
        shared.look(State::restart);
        shared.turn.send_replace(Turn::Alive);
    }
}

/// Opens everything at the present address.
async fn begin(shared: &Arc<Shared>, life: &Stop) -> Result<(), SimError> {
    onvif::serve(shared, life).await?;
    if shared.settings.kind == Kind::PtzCamera {
        visca::serve(shared, life)?;
    }
    announce::serve(shared, life);
    let (ready, is_ready) = oneshot::channel();
    shared.task(life, streams(shared.clone(), life.clone(), ready));
    is_ready.await.unwrap_or(Ok(()))
}

/// Serves the streams; anew whenever what is sent changes.
async fn streams(shared: Arc<Shared>, mut life: Stop, ready: oneshot::Sender<Result<(), SimError>>) {
    let mut ready = Some(ready);
    let mut changed = shared.streams_changed.subscribe();
    loop {
        changed.mark_unchanged();
        let (end, stop) = Stop::new();
        let camera = start_rtsp(shared.look(|s| rtsp_settings(&shared, s)), stop).await;
        let (begun, camera) = match camera {
            Ok(camera) => (Ok(()), Some(camera)),
            // It is silent until it is set to something else.
            Err(e) => (Err(e), None),
        };
        if let Some(camera) = &camera {
            shared.sent.lock().unwrap_or_else(PoisonError::into_inner).clone_from(&camera.statuses);
        }
        if let Some(ready) = ready.take() {
            let _ = ready.send(begun);
        }
        tokio::select! {
            _ = changed.changed() => {}
            () = life.wait() => {}
        }
        end.now();
        if let Some(camera) = camera {
            camera.wait().await;
        }
        if life.is_set() {
            return;
        }
    }
}

fn rtsp_settings(shared: &Shared, s: &State) -> RtspCameraSettings {
    let picture = |n: usize| {
        let stream = &s.active[n];
        let input = if shared.settings.inputs.len() > 1 { format!(" {}", s.active_input) } else { String::new() };
        let h265 = stream.codec == "H265";
        CameraSettings {
            h265,
            size: stream.size,
            rate: stream.rate,
            bitrate: Bitrate(u64::from(stream.kbps) * 1000),
            constant: false,
            padded: stream.constant && !h265,
            keyframe: f64::from(stream.gop) / f64::from(stream.rate),
            audio: stream.audio,
            output: shared.settings.output.clone(),
            ..CameraSettings::new(format!("{}{input}", shared.settings.name), Link::File(FileLink::once(None)))
        }
    };
    RtspCameraSettings {
        listen: SocketAddr::new(s.network.address.into(), shared.settings.rtsp_port),
        main: picture(0),
        sub: Some(picture(1)),
        credentials: Some(s.credentials.clone()),
        group: None,
        manners: Vec::new(),
        head: (shared.settings.kind == Kind::PtzCamera).then(|| shared.head.clone()),
    }
}
