//! A camera or encoder: draws a scene, encodes a loop of it once, and sends it with new time stamps
//! and the wall clock in each frame.

mod encode;
mod frames;
mod head;
mod live;
mod manners;
mod named;
mod output;
mod rtsp;
mod scene;
mod shipped;

pub use encode::{Frame, Loop, encode_loop};
use frames::Frames;
use futures_core::future::BoxFuture;
pub use head::{Head, Place};
pub use manners::{Counts, Manner};
pub use named::{NamedCamera, NamedCameraSettings, start_named};
pub use output::{OUTPUT_WORDS, Output, Shows, Sounds, UnknownOutput};
pub use rtsp::{RtspCamera, RtspCameraSettings, start_rtsp};
pub use scene::{BLOCKS, Scene, WideScene, read_blocks};
pub use shipped::{SHIPPED_RATE, SHIPPED_SIZE, shipped_loop};

use crate::SimError;
use bytes::Bytes;
use choir_core::{link::Link, units::Bitrate};
use choir_host::{
    Stop,
    clock::{Alarm, unix_us},
};
use choir_ports::{Flow, LinkStatus, Outlet, Way, open_ways};
use choir_proto::{
    h26x::{HevcNal, NalKind, Stamp, hevc_stamp_sei, nal_units, stamp_sei},
    ts::{MuxRate, PTS_WRAP, PmtStream, StreamKind, TsWriter, Unit, WriterConfig},
};
use std::{
    collections::VecDeque,
    path::Path,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{sync::watch, task::JoinHandle};

/// What a camera is to send.
#[derive(Debug, Clone)]
pub struct CameraSettings {
    /// Shown in the picture.
    pub name: String,
    /// H.265 instead of H.264: the shipped loop, whose size and rate are fixed.
    pub h265: bool,
    /// Pixels; both even.
    pub size: (u32, u32),
    /// Frames per second.
    pub rate: u32,
    /// The whole stream, held constant by null packets, or video only when `constant` is off.
    pub bitrate: Bitrate,
    /// Constant rate.
    pub constant: bool,
    /// The picture alone is held at the bitrate by filler.
    pub padded: bool,
    /// Seconds between keyframes.
    pub keyframe: f64,
    /// With sound.
    pub audio: bool,
    /// Length of the loop.
    pub loop_for: Duration,
    /// Where to send.
    pub to: Link,
    /// Latency, when the link does not say.
    pub latency: Duration,
    /// What it shows and sounds like.
    pub output: watch::Receiver<Output>,
}

impl CameraSettings {
    /// A camera with the usual settings.
    #[must_use]
    pub fn new(name: impl Into<String>, to: Link) -> Self {
        Self {
            name: name.into(),
            h265: false,
            size: (1280, 720),
            rate: 25,
            bitrate: Bitrate(4_000_000),
            constant: true,
            padded: false,
            keyframe: 1.0,
            audio: true,
            loop_for: Duration::from_secs(2),
            to,
            latency: choir_core::link::DEFAULT_LATENCY,
            output: watch::channel(Output::default()).1,
        }
    }

    /// The way to change what it shows while it runs.
    #[must_use]
    pub fn controlled(&mut self, begins: Output) -> watch::Sender<Output> {
        let (change, output) = watch::channel(begins);
        self.output = output;
        change
    }
}

/// A running camera.
#[derive(Debug)]
pub struct Camera {
    /// How its way out stands.
    pub status: Arc<LinkStatus>,
    task: JoinHandle<()>,
}

impl Camera {
    /// Waits until it has stopped.
    pub async fn wait(self) {
        let _ = self.task.await;
    }
}

/// Encodes the loop and starts to send.
///
/// # Errors
/// The encoder refuses the size, or the way out cannot be opened.
pub fn start(settings: CameraSettings, base: &Path, stop: Stop) -> BoxFuture<'_, Result<Camera, SimError>> {
    Box::pin(async move {
        let (outlet, status) = (Outlet::new(), LinkStatus::new());
        let frames = Frames::of(&settings, None, &status).await?;
        let way = Way {
            name: settings.name.clone(),
            link: settings.to.clone(),
            flow: Flow::Out(outlet.clone().into()),
            status: status.clone(),
            stave: None,
            shard: None,
        };
        let (end, way_stop) = Stop::new();
        let ways = open_ways(vec![way], settings.latency, base, &way_stop, &Stop::given()).await?;
        let task = tokio::spawn(async move {
            play(settings, frames, outlet.clone(), true, stop).await;
            // The last picture goes out whole.
            outlet.end();
            let sent = async {
                for way in ways {
                    way.ended().await;
                }
            };
            let _ = tokio::time::timeout(LAST_PICTURE, sent).await;
            end.now();
        });
        Ok(Camera { status, task })
    })
}

/// For what has been sent to arrive, once stopped.
const LAST_PICTURE: Duration = Duration::from_secs(1);

/// Fills a frame up with filler data (ITU-T H.264, 7.3.2.7).
fn pad(data: &mut Vec<u8>, to: u64) {
    // Start code, type, end.
    const AROUND: u64 = 6;
    if let Some(fill) = to.checked_sub(data.len() as u64 + AROUND).filter(|f| *f > 0) {
        data.extend_from_slice(&[0, 0, 0, 1, 12]);
        data.resize(data.len() + fill as usize, 0xFF);
        data.push(0x80);
    }
}

/// Sounds of which each frame may follow any other; see `assets/make-sounds.c`.
const SOUNDS: &[u8] = include_bytes!("../../assets/sounds.adts");
const AAC_TICKS: u64 = 1024 * 90_000 / 48_000;
const CHUNK: usize = 7 * 188;

/// Each sound's frame, by [`Sounds::frame`].
fn sounds() -> Vec<Bytes> {
    choir_proto::adts::frames(SOUNDS).map(|(_, f)| Bytes::from_static(f)).collect()
}

/// Frames become a transport stream, which leaves evenly over time, or with `evenly` off each frame
/// at once.
async fn play(settings: CameraSettings, mut frames: Frames, outlet: Arc<Outlet>, evenly: bool, mut stop: Stop) {
    let Ok(mut alarm) = Alarm::new() else { return };
    let all_sounds = sounds();
    let rate = if settings.constant { MuxRate::Constant(settings.bitrate.0) } else { MuxRate::Variable };
    let mut config = WriterConfig { rate, ..WriterConfig::default() };
    if !settings.audio {
        config.audio = None;
    }
    if settings.h265 {
        config.video = Some(PmtStream { pid: 0x100, kind: StreamKind::H265 });
    }
    let mut writer = TsWriter::new(config);
    let frame_time = Duration::from_secs(1) / settings.rate;
    let start = Instant::now();
    // Time stamps start anywhere, as a device's would.
    let first_pts = unix_us() as u64 * 9 / 100 % PTS_WRAP;
    let mut pacer = Chunks { left: VecDeque::new(), carry: Vec::new(), outlet };
    let mut audio_at = 0;
    let mut pictures = 0u64;
    for n in 0u64.. {
        let due = start + Duration::from_nanos(n * 1_000_000_000 / u64::from(settings.rate));
        if !pacer.until(due, &mut alarm, &mut stop).await {
            return pacer.finish();
        }
        let pts = n * 90_000 / u64::from(settings.rate);
        let Some(frame) = frames.next().await else { return };
        let mut data = with_stamp(&frame.data, settings.h265, Stamp { unix_us: unix_us().unsigned_abs(), frame: Some(n) });
        if settings.padded && !settings.h265 {
            let owed = (n + 1) * settings.bitrate.0 / 8 / u64::from(settings.rate);
            pad(&mut data, owed.saturating_sub(pictures));
        }
        pictures += data.len() as u64;
        let mut out = std::mem::take(&mut pacer.carry);
        writer.write(&Unit { video: true, pts: first_pts + pts, dts: None, keyframe: frame.keyframe, data: &[&data] }, &mut out);
        // Sound for the whole time of the picture, or of one before.
        let output = *settings.output.borrow();
        let late = output.sound_late.as_millis() as u64 * 90;
        while settings.audio && audio_at + late < pts + 90_000 / u64::from(settings.rate) {
            let Some(data) = all_sounds.get(output.sounds.frame()) else { break };
            writer.write(&Unit { video: false, pts: first_pts + audio_at, dts: None, keyframe: true, data: &[data] }, &mut out);
            audio_at += AAC_TICKS;
        }
        if !evenly {
            pacer.outlet.push(out.into());
            continue;
        }
        writer.fill(first_pts + (n + 1) * 90_000 / u64::from(settings.rate), &mut out);
        pacer.spread(out, due, frame_time, settings.constant.then_some(settings.bitrate.0));
    }
}

/// Chunks with the time at which each leaves.
struct Chunks {
    left: VecDeque<(Instant, Bytes)>,
    carry: Vec<u8>,
    outlet: Arc<Outlet>,
}

impl Chunks {
    /// Plans the chunks of one frame: at the constant rate behind what is planned already, or
    /// evenly over the frame's time.
    fn spread(&mut self, out: Vec<u8>, due: Instant, frame_time: Duration, rate: Option<u64>) {
        let whole = out.len() / CHUNK * CHUNK;
        self.carry = out[whole..].to_vec();
        let all = Bytes::from(out).slice(..whole);
        let count = (whole / CHUNK).max(1) as u32;
        let step = rate.map_or(frame_time / count, |r| Duration::from_nanos(CHUNK as u64 * 8 * 1_000_000_000 / r.max(1)));
        let mut at = self.left.back().map_or(due, |(t, _)| (*t + step).max(due));
        for i in 0..whole / CHUNK {
            self.left.push_back((at, all.slice(i * CHUNK..(i + 1) * CHUNK)));
            at += step;
        }
    }

    /// Sends all that is planned at once: the last picture is whole.
    fn finish(self) {
        self.left.into_iter().for_each(|(_, chunk)| self.outlet.push(chunk));
        if !self.carry.is_empty() {
            self.outlet.push(self.carry.into());
        }
    }

    /// Sends what leaves before `due`; false when stopped.
    async fn until(&mut self, due: Instant, alarm: &mut Alarm, stop: &mut Stop) -> bool {
        loop {
            let next = self.left.front().map_or(due, |(t, _)| *t).min(due);
            if next > Instant::now() {
                tokio::select! {
                    () = alarm.until(next) => {}
                    () = stop.wait() => return false,
                }
            }
            let now = Instant::now();
            while self.left.front().is_some_and(|(t, _)| *t <= now) {
                if let Some((_, chunk)) = self.left.pop_front() {
                    self.outlet.push(chunk);
                }
            }
            if now >= due {
                return !stop.is_set();
            }
        }
    }
}

/// The frame with its stamp before the first slice.
fn with_stamp(frame: &[u8], h265: bool, stamp: Stamp) -> Vec<u8> {
    let sei = if h265 { hevc_stamp_sei(stamp) } else { stamp_sei(stamp) };
    let mut out = Vec::with_capacity(frame.len() + sei.len() + 16);
    let mut stamped = false;
    for nal in nal_units(frame) {
        let picture = if h265 { HevcNal::of(nal[0]).is_picture() } else { NalKind::of(nal[0]).is_picture() };
        if !stamped && picture {
            out.extend_from_slice(&sei);
            stamped = true;
        }
        out.extend_from_slice(&[0, 0, 0, 1]);
        out.extend_from_slice(nal);
    }
    out
}
