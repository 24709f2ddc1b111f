//! The cameras behind lines: their tally lamps follow what is shown of them, and orders that come
//! by name reach them.

use crate::{
    feed::FeedRun,
    inner::Inner,
    ptz::{Ptz, PtzError},
};
use choir_core::{
    device::{Control, Device},
    facts::Notice,
};
use choir_devices::{
    device::credentials_of,
    visca::{Visca, ViscaError},
};
use choir_host::{Stop, clock::sleep_until, lock};
use choir_ports::{
    LinkStatus,
    stave::{CameraRequest, Order},
};
use choir_proto::{
    stave::CameraVerb,
    visca::{Ask, Drive},
};
use std::{
    path::PathBuf,
    sync::{Arc, Weak},
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, oneshot, watch},
    time::timeout,
};

/// A lamp that could not be switched is tried again.
const LAMP_AGAIN: Duration = Duration::from_secs(3);
/// How long a lamp or a move may hold up the end of a show.
const LAST_WORD: Duration = Duration::from_secs(1);
/// A source further on may take this long to answer an order.
const ANSWER: Duration = Duration::from_secs(5);

/// A tally lamp.
pub(crate) struct Lamp {
    pub device: Device,
    pub by: Control,
    /// The first line that its camera feeds: where trouble is reported.
    pub status: Option<Arc<LinkStatus>>,
}

impl Lamp {
    /// Follows what is wanted until the stop, then goes dark.
    pub async fn follow(self, mut wanted: watch::Receiver<bool>, mut stop: Stop) {
        let (mut lit, mut told) = (None, false);
        loop {
            let want = *wanted.borrow_and_update();
            let mut again = None;
            if lit != Some(want) {
                match self.switch(want).await {
                    Ok(()) => {
                        lit = Some(want);
                        if std::mem::take(&mut told) {
                            self.note(Notice::LampFollows { device: self.device.name.clone() });
                        }
                    }
                    Err(e) => {
                        again = Some(Instant::now() + LAMP_AGAIN);
                        if !std::mem::replace(&mut told, true) {
                            self.note(Notice::LampFailed { device: self.device.name.clone(), cause: e.to_string() });
                        }
                    }
                }
            }
            tokio::select! {
                changed = wanted.changed() => if changed.is_err() {
                    break;
                },
                () = sleep_until(again) => {}
                () = stop.wait() => break,
            }
        }
        if lit == Some(true) {
            let _ = timeout(LAST_WORD, self.switch(false)).await;
        }
    }

    async fn switch(&self, on: bool) -> Result<(), ViscaError> {
        let d = &self.device;
        let camera = Visca::open(d.address, d.port_for(self.by), self.by, d.camera).await?;
        camera.ask(Ask::Tally(on)).await.map(drop)
    }

    fn note(&self, notice: Notice) {
        self.status.iter().for_each(|s| s.note(notice.clone()));
    }
}

/// What stands behind a line.
enum Camera {
    /// A device of the sheet.
    Device(Box<Device>),
    /// A name on another machine, which passes orders on.
    Named(mpsc::Sender<Order>),
}

/// Carries out the orders that come for one feed, by the camera of the line that is on.
pub(crate) struct CameraController {
    show: Weak<Inner>,
    feed: Arc<FeedRun>,
    /// Where paths of the sheet count from.
    base: PathBuf,
}

/// The camera that is spoken to at present.
struct Open {
    ptz: Ptz,
    /// It moves, and stops then.
    until: Option<Instant>,
}

impl CameraController {
    pub fn new(show: &Arc<Inner>, feed: &Arc<FeedRun>) -> Self {
        Self { show: Arc::downgrade(show), feed: feed.clone(), base: show.base.clone() }
    }

    /// The camera of the line that is on.
    fn camera(&self) -> Option<Camera> {
        let show = self.show.upgrade()?;
        let line = show.line(self.feed.media.reading().line()?).ok()?;
        if let Some(orders) = &*lock(&line.orders) {
            return Some(Camera::Named(orders.clone()));
        }
        let name = lock(&line.entry).name.clone();
        let sheet = lock(&show.sheet);
        let (device, ..) = sheet.source_of(&name)?;
        (device.control != Control::Manual).then(|| Camera::Device(Box::new(device.clone())))
    }

    pub async fn run(self, mut orders: mpsc::Receiver<CameraRequest>, mut stop: Stop) {
        let mut open: Option<Open> = None;
        loop {
            let until = open.as_ref().and_then(|o| o.until);
            tokio::select! {
                order = orders.recv() => {
                    let Some((verb, answer)) = order else { break };
                    // Whoever ordered may have gone.
                    let _ = answer.send(self.carry_out(verb, &mut open).await);
                }
                () = sleep_until(until) => halt(&mut open).await,
                () = stop.wait() => break,
            }
        }
        let _ = timeout(LAST_WORD, halt(&mut open)).await;
    }

    async fn carry_out(&self, verb: CameraVerb, open: &mut Option<Open>) -> Result<(), String> {
        match self.camera() {
            None => {
                halt(open).await;
                Err("the line that is on has no camera that can be steered".into())
            }
            Some(Camera::Named(orders)) => {
                halt(open).await;
                pass_on(&orders, verb).await
            }
            Some(Camera::Device(device)) => {
                if open.as_ref().is_some_and(|o| o.ptz.name() != device.name) {
                    // Another line is on by now: its camera is not the one that moves.
                    halt(open).await;
                    *open = None;
                }
                let done = self.by_device(&device, verb, open).await;
                if done.is_err() {
                    halt(open).await;
                    *open = None;
                }
                done.map_err(|e| e.to_string())
            }
        }
    }

    async fn by_device(&self, device: &Device, verb: CameraVerb, open: &mut Option<Open>) -> Result<(), PtzError> {
        let o = match open {
            Some(o) => o,
            None => {
                let credentials = credentials_of(device, &self.base)?;
                open.insert(Open { ptz: Ptz::open(device, device.control, credentials).await?, until: None })
            }
        };
        match verb {
            CameraVerb::Move { pan, tilt, zoom, for_ms } => {
                let time = Duration::from_millis(for_ms.into());
                // Also when it is not answered: it may have been heard.
                o.until = Some(Instant::now() + time);
                o.ptz.drive(Drive { pan, tilt, zoom }, time).await
            }
            CameraVerb::Stop => {
                o.until = None;
                o.ptz.stop().await
            }
            CameraVerb::Home => o.ptz.home().await,
            CameraVerb::Preset { number } => o.ptz.goto(&number.to_string()).await.map(drop),
        }
    }
}

/// Stops what moves.
async fn halt(open: &mut Option<Open>) {
    if let Some(o) = open
        && o.until.take().is_some()
        && let Err(cause) = o.ptz.stop().await
    {
        tracing::warn!(camera = o.ptz.name(), %cause, "a move that came by name could not be stopped");
        *open = None;
    }
}

async fn pass_on(orders: &mpsc::Sender<Order>, verb: CameraVerb) -> Result<(), String> {
    let (tell, told) = oneshot::channel();
    orders.try_send((verb, tell)).map_err(|_| "too many pending camera commands".to_owned())?;
    match timeout(ANSWER, told).await {
        Ok(Ok(answer)) if answer.done => Ok(()),
        Ok(Ok(answer)) => Err(answer.why),
        _ => Err("the camera's own source does not answer".into()),
    }
}
