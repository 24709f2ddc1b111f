//! Pictures drawn as the head turns. What has been drawn at rest is played again until it turns.

use super::{
    CameraSettings, Frame, Head, Place,
    encode::{FrameEncoder, gop, loop_length, tint},
    scene::WideScene,
};
use crate::SimError;
use std::{collections::HashMap, sync::Arc};
use tokio::sync::{mpsc, watch};

/// Frames that are drawn ahead.
const AHEAD: usize = 2;

/// What fills the present keyframe interval.
enum Interval {
    /// Played again, from this place.
    Again,
    /// Drawn at rest so far.
    AtRest(Vec<Frame>),
    /// The head has turned, or a keyframe was asked for within it.
    Turned,
}

struct Drawer {
    settings: CameraSettings,
    head: Arc<Head>,
    scene: WideScene,
    encoder: FrameEncoder,
    /// Intervals that were drawn at rest, all at one place.
    drawn: HashMap<u32, Vec<Frame>>,
    at: Place,
    interval: Interval,
    /// Changes when a keyframe is wanted.
    asks: watch::Receiver<u64>,
}

/// Draws the loop where the head looks, then goes on drawing until nobody takes the frames.
///
/// # Errors
/// The encoder refuses the settings.
pub(super) async fn live(
    settings: &CameraSettings,
    head: Arc<Head>,
    asks: watch::Receiver<u64>,
) -> Result<mpsc::Receiver<Frame>, SimError> {
    let (tx, rx) = mpsc::channel(AHEAD);
    let (settings, who) = (settings.clone(), settings.name.clone());
    let begun = tokio::task::spawn_blocking(move || {
        let (w, h) = (settings.size.0 as usize, settings.size.1 as usize);
        let mut drawer = Drawer {
            scene: WideScene::new(w, h, tint(&settings)),
            encoder: FrameEncoder::new(&settings)?,
            drawn: HashMap::new(),
            at: head.place(),
            interval: Interval::Turned,
            settings,
            head,
            asks,
        };
        // All of it once, so that the first viewer gets it in time.
        for n in 0..loop_length(&drawer.settings) {
            drawer.frame(n)?;
        }
        Ok::<_, SimError>(drawer)
    });
    let mut drawer = begun.await.map_err(|e| SimError::Encoder { who: who.clone(), what: e.to_string() })??;
    let run = move || {
        let length = loop_length(&drawer.settings);
        // A bitrate that was enough for one place and is not for another ends the stream, as it
        // would a device's.
        for n in (0..length).cycle() {
            let Ok(frame) = drawer.frame(n) else { return };
            if tx.blocking_send(frame).is_err() {
                return;
            }
        }
    };
    std::thread::Builder::new().name(who.clone()).spawn(run).map_err(|e| SimError::Encoder { who, what: e.to_string() })?;
    Ok(rx)
}

impl Drawer {
    fn frame(&mut self, n: u32) -> Result<Frame, SimError> {
        let gop = gop(&self.settings);
        let (interval, within) = (n / gop, n % gop);
        let place = self.head.place();
        let turned = place != self.at;
        if turned {
            self.at = place;
            self.drawn.clear();
        }
        let mut keyframe = within == 0;
        if keyframe {
            self.interval = if self.drawn.contains_key(&interval) { Interval::Again } else { Interval::AtRest(Vec::new()) };
        } else if turned {
            // What was played again did not come from the encoder as it is now.
            keyframe = matches!(self.interval, Interval::Again);
            self.interval = Interval::Turned;
        }
        if self.asks.has_changed().unwrap_or(false) {
            self.asks.mark_unchanged();
            if !keyframe {
                (keyframe, self.interval) = (true, Interval::Turned);
            }
        }
        if let (Interval::Again, Some(frames)) = (&self.interval, self.drawn.get(&interval))
            && let Some(frame) = frames.get(within as usize)
        {
            return Ok(frame.clone());
        }
        let total = loop_length(&self.settings) as usize;
        self.scene.draw(n as usize, total, &self.settings.name, (place.pan, place.tilt, place.zoom));
        let frame = self.encoder.encode(&self.scene.picture, keyframe)?;
        if let Interval::AtRest(frames) = &mut self.interval {
            frames.push(frame.clone());
            if frames.len() == gop as usize {
                let whole = std::mem::take(frames);
                self.drawn.insert(interval, whole);
            }
        }
        Ok(frame)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::read_blocks;
    use choir_core::{
        link::{FileLink, Link},
        units::Bitrate,
    };
    use openh264::{decoder::Decoder, formats::YUVSource};

    #[test]
    fn pictures_run_on_while_it_turns_and_are_played_again_at_rest() {
        let settings = CameraSettings {
            size: (320, 180),
            bitrate: Bitrate(1_000_000),
            keyframe: 0.4,
            ..CameraSettings::new("finish-tower", Link::File(FileLink::once(None)))
        };
        let head = Arc::new(Head::default());
        let mut drawer = Drawer {
            scene: WideScene::new(320, 180, 3),
            encoder: FrameEncoder::new(&settings).expect("an encoder"),
            drawn: HashMap::new(),
            at: head.place(),
            interval: Interval::Turned,
            settings,
            head: head.clone(),
            asks: watch::channel(0).1,
        };
        let mut decoder = Decoder::new().expect("a decoder");
        let mut seen = HashMap::new();
        let mut again = 0;
        for round in 0..4 {
            for n in 0..50 {
                // In the second round it turns in the middle of an interval, and stays there.
                if (round, n) == (1, 13) {
                    head.travel(Place { pan: -1.0, tilt: 0.5, zoom: 0.0 });
                    while head.moving() {
                        std::thread::yield_now();
                    }
                }
                let frame = drawer.frame(n).expect("a frame");
                let picture = decoder.decode(&frame.data).expect("decodes").expect("a picture");
                let (w, h) = picture.dimensions();
                assert_eq!(read_blocks(picture.y(), w, h, picture.strides().0), Some(n as u16), "round {round}");
                again += u32::from(seen.insert(n, frame.data.clone()).is_some_and(|old| old == frame.data));
            }
        }
        assert_eq!(drawer.drawn.len(), 5, "one place is kept, all of it");
        // The first ten of the second round, the whole of the last, and most of the third.
        assert!((60..=120).contains(&again), "{again} frames were played again");
    }
}
