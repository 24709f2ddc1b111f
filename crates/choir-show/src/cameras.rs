//! The cameras behind lines: their tally lamps follow what is shown of them, and orders that come by name reach them.

use crate::tally::Bell;
use crate::{
    media::FeedMedia,
    ptz::{Ptz, PtzError},
};
use choir_core::{
    device::{Control, Device},
    view::TallyView,
};
use choir_devices::{
    device::credentials_of,
    visca::{Visca, ViscaError},
};
use choir_host::{Stop, clock::sleep_until};
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
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, oneshot},
    task::JoinHandle,
    time::timeout,
};

/// A lamp that could not be switched is tried again.
const LAMP_AGAIN: Duration = Duration::from_secs(3);
/// How long a lamp or a move may hold up the end of a show.
const LAST_WORD: Duration = Duration::from_secs(1);
/// A source further on may take this long to answer an order.
const ANSWER: Duration = Duration::from_secs(5);

/// A lamp, and the lines that its camera feeds.
pub(super) struct Lamp {
    pub device: Device,
    pub by: Control,
    pub lines: Vec<Arc<LinkStatus>>,
}

impl Lamp {
    /// Follows until the stop, then goes dark.
    pub fn spawn(self, stop: Stop) -> JoinHandle<()> {
        tokio::spawn(self.follow(stop))
    }

    async fn follow(self, mut stop: Stop) {
        let mut bell = Bell::default();
        self.lines.iter().for_each(|l| bell.hear(l.tally()));
        let (mut lit, mut told) = (None, false);
        loop {
            let wanted = self.lines.iter().any(|l| *l.tally().borrow() == Some(TallyView::OnAir));
            let mut again = None;
            if lit != Some(wanted) {
                match self.switch(wanted).await {
                    Ok(()) => {
                        lit = Some(wanted);
                        if std::mem::take(&mut told) {
                            self.note(false, "follows again".into());
                        }
                    }
                    Err(e) => {
                        again = Some(Instant::now() + LAMP_AGAIN);
                        if !std::mem::replace(&mut told, true) {
                            self.note(true, format!("cannot be switched: {e}; it is tried again"));
                        }
                    }
                }
            }
            tokio::select! {
                () = bell.rung() => {}
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

    fn note(&self, bad: bool, what: String) {
        if let Some(line) = self.lines.first() {
            line.note(bad, format!("the tally lamp of {} {what}", self.device.name));
        }
    }
}

/// What stands behind a line.
#[derive(Clone)]
pub(super) enum Camera {
    /// A device of the sheet.
    Device(Box<Device>),
    /// A name on another machine, which passes orders on.
    Named(mpsc::Sender<Order>),
}

/// Carries out the orders that come for one feed, by the camera of the line that is on.
pub(super) struct Desk {
    pub feed: Arc<FeedMedia>,
    /// By the number of the line.
    pub cameras: Vec<Option<Camera>>,
    /// Where paths of the sheet count from.
    pub base: PathBuf,
}

/// The camera that is spoken to at present.
struct Open {
    ptz: Ptz,
    /// It moves, and stops then.
    until: Option<Instant>,
}

impl Desk {
    pub fn spawn(self, orders: mpsc::Receiver<CameraRequest>, stop: Stop) -> JoinHandle<()> {
        tokio::spawn(self.run(orders, stop))
    }

    async fn run(self, mut orders: mpsc::Receiver<CameraRequest>, mut stop: Stop) {
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
        match self.cameras.get(self.feed.reading().line() as usize).and_then(Option::as_ref) {
            None => {
                halt(open).await;
                Err("no camera that can be steered feeds the line that is on".into())
            }
            Some(Camera::Named(orders)) => {
                halt(open).await;
                pass_on(orders, verb).await
            }
            Some(Camera::Device(device)) => {
                if open.as_ref().is_some_and(|o| o.ptz.name() != device.name) {
                    // Another line is on by now: its camera is not the one that moves.
                    halt(open).await;
                    *open = None;
                }
                let done = self.by_device(device, verb, open).await;
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
    orders.try_send((verb, tell)).map_err(|_| "its own source has more orders than it can do".to_owned())?;
    match timeout(ANSWER, told).await {
        Ok(Ok(answer)) if answer.done => Ok(()),
        Ok(Ok(answer)) => Err(answer.why),
        _ => Err("its own source does not answer".into()),
    }
}
