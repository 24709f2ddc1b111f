//! A camera that offers itself by name, as network-video cameras do: an intra stream, a long-GOP
//! one and a small one, sound, a lamp, and a head that is steered by name.

use super::{CameraSettings, Frames, Head, Place, Sounds, sounds, with_stamp};
use crate::SimError;
use bytes::Bytes;
use choir_core::{stave::StaveSettings, units::Bitrate, view::TallyView};
use choir_host::{
    Stop,
    clock::{Alarm, unix_us},
};
use choir_ports::{
    LinkStatus,
    stave::{CameraRequest, Identity, MadeUnit, Node, SourcePlan, StreamPlan},
};
use choir_proto::{
    h26x::Stamp,
    stave::{CameraVerb, Grade, SoundOffer, StreamOffer, Track},
};
use futures_core::future::BoxFuture;
use std::{
    path::PathBuf,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

/// Units that may wait in a stream.
const WAITING: usize = 32;
/// Samples per second of its sound.
const SAMPLES: u32 = 48_000;
/// The tone of the first channel, Hz; each channel has its own.
const PITCH: f64 = 220.0;
/// Full scale of 24 bits, and a quarter of it.
const LEVEL: f64 = 8_388_607.0 / 4.0;
/// Places that a head has of its own, by number from 1.
const PLACES: [Place; 3] =
    [Place { pan: -0.6, tilt: 0.0, zoom: 0.3 }, Place { pan: 0.0, tilt: 0.1, zoom: 0.6 }, Place { pan: 0.7, tilt: -0.1, zoom: 0.2 }];

/// What such a camera is to be.
#[derive(Debug, Clone)]
pub struct NamedCameraSettings {
    /// The name it offers.
    pub name: String,
    /// How it is on the LAN.
    pub lan: StaveSettings,
    /// Where the path of its key counts from.
    pub base: PathBuf,
    /// Its picture; the way out is not used, and the bitrate is that of the long-GOP stream.
    pub picture: CameraSettings,
    /// Of the intra stream; without it there is none.
    pub intra: Option<Bitrate>,
    /// Channels of PCM that go with the intra stream.
    pub channels: u8,
    /// Size of the small stream.
    pub sub: Option<(u32, u32)>,
    /// Its head can be turned.
    pub turns: bool,
}

/// A running camera.
pub struct NamedCamera {
    /// Its node.
    pub node: Node,
    /// How its source stands.
    pub status: Arc<LinkStatus>,
    head: Arc<Head>,
    tasks: Vec<JoinHandle<()>>,
}

impl NamedCamera {
    /// What its lamp shows, as it changes.
    #[must_use]
    pub fn tally(&self) -> watch::Receiver<Option<TallyView>> {
        self.status.control.tally()
    }

    /// Where its head looks: pan, tilt, zoom.
    #[must_use]
    pub fn looks(&self) -> (f64, f64, f64) {
        let p = self.head.place();
        (p.pan, p.tilt, p.zoom)
    }

    /// Waits until it has stopped.
    pub async fn wait(self) {
        for task in self.tasks {
            let _ = task.await;
        }
        self.node.ended().await;
    }
}

/// One grade of its picture.
struct Outgoing {
    settings: CameraSettings,
    frames: Frames,
    units: mpsc::Sender<MadeUnit>,
    /// Channels of PCM; without any, AAC.
    channels: Option<u8>,
    spent: u64,
}

/// Encodes its loops and offers them.
///
/// # Errors
/// The encoder refuses a size, or the LAN cannot be had.
pub fn start_named(settings: NamedCameraSettings, stop: Stop) -> BoxFuture<'static, Result<NamedCamera, SimError>> {
    Box::pin(async move {
        let head = Arc::new(Head::default());
        let base = CameraSettings { constant: false, ..settings.picture };
        let mut wanted = vec![(Grade::LongGop, base.clone())];
        if let Some(bitrate) = settings.intra {
            // Filled up to its rate, since a scene that is drawn needs less.
            wanted.insert(0, (Grade::Intra, CameraSettings { bitrate, keyframe: 0.0, padded: true, h265: false, ..base.clone() }));
        }
        if let Some(size) = settings.sub {
            wanted.push((Grade::Sub, CameraSettings { size, bitrate: Bitrate(500_000), h265: false, ..base.clone() }));
        }
        let status = LinkStatus::new();
        let (mut outgoing, mut streams) = (Vec::new(), Vec::new());
        for (grade, picture) in wanted {
            let frames = Frames::of(&picture, settings.turns.then_some(&head), &status).await?;
            let channels = (grade == Grade::Intra).then_some(settings.channels);
            let (units, taken) = mpsc::channel(WAITING);
            streams.push(StreamPlan::Made(Box::new(offer(grade, &picture, channels)), taken));
            outgoing.push(Outgoing { settings: picture, frames, units, channels, spent: 0 });
        }
        let node = Node::join(&settings.lan, Identity::passing()?, &settings.base, &settings.name, true, &stop).await?;
        let mut tasks = Vec::new();
        let camera = settings.turns.then(|| {
            let (desk, orders) = mpsc::channel(4);
            tasks.push(tokio::spawn(obey(head.clone(), orders)));
            desk
        });
        let plan = SourcePlan { name: settings.name, streams, camera, group: None, carries: None, status: status.clone() };
        tasks.push(node.spawn_source(plan, stop.clone()));
        tasks.push(tokio::spawn(play(outgoing, base.rate, stop)));
        Ok(NamedCamera { node, status, head, tasks })
    })
}

fn offer(grade: Grade, s: &CameraSettings, channels: Option<u8>) -> StreamOffer {
    let sound = |codec: &str, channels| SoundOffer { codec: codec.into(), sample_rate: SAMPLES, channels };
    StreamOffer {
        id: 0,
        grade,
        codec: if s.h265 { "h265" } else { "h264" }.into(),
        size: Some(s.size),
        rate: Some(s.rate.into()),
        bitrate: s.bitrate.0,
        sound: s.audio.then(|| channels.map_or_else(|| sound("aac", 2), |c| sound("pcm", c))),
    }
}

/// Its head does as it is told, and says so.
async fn obey(head: Arc<Head>, mut orders: mpsc::Receiver<CameraRequest>) {
    while let Some((verb, answer)) = orders.recv().await {
        let done = match verb {
            CameraVerb::Move { pan, tilt, zoom, for_ms } => {
                head.drive(Place { pan, tilt, zoom }, Some(Duration::from_millis(for_ms.into())));
                Ok(())
            }
            CameraVerb::Stop => {
                head.stop();
                Ok(())
            }
            CameraVerb::Home => {
                head.travel(Place::default());
                Ok(())
            }
            CameraVerb::Preset { number } => match usize::from(number).checked_sub(1).and_then(|n| PLACES.get(n)) {
                Some(place) => {
                    head.travel(*place);
                    Ok(())
                }
                None => Err(format!("there is no preset {number}")),
            },
        };
        let _ = answer.send(done);
    }
}

/// All streams by one clock, so that a receiver can change from one to another.
async fn play(mut streams: Vec<Outgoing>, rate: u32, mut stop: Stop) {
    let Ok(mut alarm) = Alarm::new() else { return };
    let all_sounds = sounds();
    let start = Instant::now();
    let first_pts = unix_us() * 9 / 100;
    let mut aac = 0u64;
    for n in 0u64.. {
        let due = start + Duration::from_nanos(n * 1_000_000_000 / u64::from(rate));
        tokio::select! {
            () = alarm.until(due) => {}
            () = stop.wait() => return,
        }
        let pts = |ticks: u64| first_pts + ticks as i64;
        let picture_at = n * 90_000 / u64::from(rate);
        let stamp = Stamp { unix_us: unix_us().unsigned_abs(), frame: Some(n) };
        let first_aac = aac;
        while aac * super::AAC_TICKS <= picture_at {
            aac += 1;
        }
        for s in &mut streams {
            let Some(frame) = s.frames.next().await else { return };
            let mut data = with_stamp(&frame.data, s.settings.h265, stamp);
            if s.settings.padded {
                let owed = (n + 1) * s.settings.bitrate.0 / 8 / u64::from(rate);
                super::pad(&mut data, owed.saturating_sub(s.spent));
            }
            s.spent += data.len() as u64;
            let give = |track, keyframe, pts, data| {
                // A node that does not keep up loses it, as on any wire.
                let _ = s.units.try_send(MadeUnit { track, keyframe, pts, data });
            };
            give(Track::Picture, frame.keyframe, pts(picture_at), data.into());
            match s.channels.filter(|_| s.settings.audio) {
                Some(channels) => give(Track::Sound, true, pts(picture_at), pcm(n, rate, channels, s.settings.output.borrow().sounds)),
                None => {
                    let sound = all_sounds.get(s.settings.output.borrow().sounds.frame()).filter(|_| s.settings.audio);
                    for (frame, sound) in (first_aac..aac).filter_map(|n| Some((n, sound?))) {
                        give(Track::Sound, true, pts(frame * super::AAC_TICKS), sound.clone());
                    }
                }
            }
        }
    }
}

/// How loud a channel is, from 0 to 1; channels count from 1.
fn gain(sounds: Sounds, channel: u8) -> f64 {
    match sounds {
        Sounds::Silent => 0.0,
        Sounds::LeftOnly => f64::from(channel % 2),
        Sounds::RightOnly => f64::from((channel + 1) % 2),
        Sounds::Tone(db) => 4.0 * 10f64.powf(f64::from(db) / 20.0),
        _ => 1.0,
    }
}

/// The samples of one picture's time: in each channel its own tone, without a break.
fn pcm(n: u64, rate: u32, channels: u8, sounds: Sounds) -> Bytes {
    let at = |n: u64| n * u64::from(SAMPLES) / u64::from(rate);
    let mut out = Vec::new();
    for sample in at(n)..at(n + 1) {
        for channel in 1..=channels {
            // Whole periods in a second.
            let turn = (sample % u64::from(SAMPLES)) as f64 / f64::from(SAMPLES) * PITCH * f64::from(channel);
            let value = ((turn * std::f64::consts::TAU).sin() * LEVEL * gain(sounds, channel)) as i32;
            out.extend_from_slice(&value.to_be_bytes()[1..]);
        }
    }
    out.into()
}
