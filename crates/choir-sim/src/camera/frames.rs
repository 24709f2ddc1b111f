//! Where a camera's frames come from: its loop, or a drawing head; and what is shown in their
//! place.

use super::{
    CameraSettings, Frame, Head, Loop,
    encode::{FrameEncoder, encode_loop, gop, loop_length, tint},
    live::live,
    output::{Output, Shows},
    scene::Scene,
    shipped::shipped_loop,
};
use crate::SimError;
use choir_ports::LinkStatus;
use std::sync::Arc;
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

/// The frames of one stream.
pub(super) struct Frames {
    source: Source,
    settings: CameraSettings,
    output: watch::Receiver<Output>,
    /// Which frame of the loop the scene is at.
    at: usize,
    /// What is shown in place of the scene: nothing where that cannot be encoded.
    instead: Option<(Shows, Option<Repeating>)>,
    /// What is being encoded.
    making: Option<(Shows, JoinHandle<Option<Loop>>)>,
}

enum Source {
    Loop(Repeating),
    /// Drawn as the head turns.
    Live(mpsc::Receiver<Frame>, watch::Receiver<u64>),
}

/// A loop, which goes on from another keyframe when it is asked for one.
struct Repeating {
    frames: Vec<Frame>,
    at: usize,
    asks: watch::Receiver<u64>,
}

impl Frames {
    /// Of these settings; with a head that can turn they are drawn.
    pub async fn of(settings: &CameraSettings, head: Option<&Arc<Head>>, status: &LinkStatus) -> Result<Self, SimError> {
        let asks = status.control.keyframe_requests();
        let source = match head {
            Some(head) if !settings.h265 => Source::Live(live(settings, head.clone(), asks.clone()).await?, asks),
            _ => Source::Loop(Repeating { frames: encode(settings).await?.frames, at: 0, asks }),
        };
        Ok(Self { source, settings: settings.clone(), output: settings.output.clone(), at: 0, instead: None, making: None })
    }

    /// The next frame; none when there are no more.
    pub async fn next(&mut self) -> Option<Frame> {
        // The scene goes on behind what is shown in its place.
        let scene = match &mut self.source {
            Source::Loop(l) => l.next(),
            Source::Live(frames, _) => frames.recv().await,
        }?;
        self.at += 1;
        let wanted = self.output.borrow_and_update().shows;
        if wanted == Shows::Scene {
            self.making = None;
            if self.instead.is_some() && scene.keyframe {
                self.instead = None;
            }
        } else if self.instead.as_ref().map(|i| i.0) != Some(wanted) {
            self.make(wanted).await;
        }
        match &mut self.instead {
            Some((_, Some(frames))) => frames.next(),
            _ => Some(scene),
        }
    }

    /// Has it encoded meanwhile, and shows it once it is there.
    async fn make(&mut self, wanted: Shows) {
        match self.making.take() {
            Some((of, task)) if of == wanted && task.is_finished() => {
                let asks = match &self.source {
                    Source::Loop(l) => l.asks.clone(),
                    Source::Live(_, asks) => asks.clone(),
                };
                let made = task.await.ok().flatten();
                self.instead = Some((wanted, made.map(|l| Repeating { frames: l.frames, at: 0, asks })));
            }
            Some((of, task)) if of == wanted => self.making = Some((of, task)),
            _ => {
                let (settings, at) = (self.settings.clone(), self.at);
                self.making = Some((wanted, tokio::task::spawn_blocking(move || still_loop(&settings, wanted, at))));
            }
        }
    }
}

impl Repeating {
    fn next(&mut self) -> Option<Frame> {
        let count = self.frames.len();
        if self.asks.has_changed().unwrap_or(false) {
            self.asks.mark_unchanged();
            let places = (0..count).map(|n| (self.at + n) % count);
            self.at = places.into_iter().find(|n| self.frames[*n].keyframe).unwrap_or(self.at);
        }
        let frame = self.frames.get(self.at).cloned();
        self.at = (self.at + 1) % count.max(1);
        frame
    }
}

async fn encode(settings: &CameraSettings) -> Result<Loop, SimError> {
    if settings.h265 {
        return Ok(shipped_loop());
    }
    let for_encoder = settings.clone();
    let task = tokio::task::spawn_blocking(move || encode_loop(&for_encoder));
    task.await.map_err(|e| SimError::Encoder { who: settings.name.clone(), what: e.to_string() })?
}

/// One keyframe interval of a picture that does not change. In H.265, which nothing here encodes,
/// only the scene can stand still, as keyframes.
fn still_loop(s: &CameraSettings, shows: Shows, at: usize) -> Option<Loop> {
    if s.h265 {
        let keyframe = shipped_loop().frames.into_iter().find(|f| f.keyframe)?;
        return (shows == Shows::Frozen).then(|| Loop { frames: vec![keyframe] });
    }
    let mut encoder = FrameEncoder::new(s).ok()?;
    let mut scene = Scene::new(s.size.0 as usize, s.size.1 as usize, tint(s));
    match shows {
        Shows::Black => scene.black(),
        Shows::Bars => scene.bars(),
        Shows::Frozen | Shows::Scene => scene.draw(at, loop_length(s) as usize, &s.name),
    }
    let frames = (0..gop(s)).map(|n| encoder.encode(&scene, n == 0).ok()).collect::<Option<_>>()?;
    Some(Loop { frames })
}
