//! The slate: the show's name and the reason as a picture, for a feed whose lines have all failed.
//! It is drawn and encoded when it is wanted, in the size and at the rate of the feed's line, and
//! its first picture goes out at once.

mod card;

pub(crate) use card::Card;

use crate::{
    aside,
    media::{FeedMedia, LineMedia},
};
use bytes::Bytes;
use choir_core::id::LineId;
use choir_host::{Stop, clock::sleep_until};
use choir_ports::{Arrival, Intake as _};
use choir_proto::{
    audio::aac_silence,
    ts::{PTS_WRAP, PmtStream, StreamKind, TsWriter, Unit, WriterConfig},
};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

/// Keyframes are so far apart.
const KEYFRAME: f64 = 1.0;
/// Samples of one AAC frame.
const AAC_SAMPLES: u64 = 1024;
/// Pictures encoded ahead of their time.
const AHEAD: usize = 4;

/// What it is to look like.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Shape {
    /// Pixels, even.
    pub size: (usize, usize),
    /// Pictures a second.
    pub rate: f64,
    /// Sampling rate and channels of its silence; none without sound.
    pub sound: Option<(u32, u8)>,
}

impl Default for Shape {
    fn default() -> Self {
        Self { size: (1280, 720), rate: 25.0, sound: None }
    }
}

impl Shape {
    /// Within what can be encoded.
    pub fn possible(self) -> Self {
        let even = |n: usize, least: usize, most: usize| n.clamp(least, most) / 2 * 2;
        let rate = if self.rate.is_finite() { self.rate.clamp(1.0, 120.0) } else { 25.0 };
        Self { size: (even(self.size.0, 160, 3840), even(self.size.1, 90, 2160)), rate, ..self }
    }
}

/// The slate of one feed.
pub(crate) struct Slate {
    pub id: LineId,
    wanted: watch::Sender<Option<(Card, Shape)>>,
    task: JoinHandle<()>,
}

impl Drop for Slate {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Slate {
    /// A slate that shows nothing until it is wanted.
    pub fn new(id: LineId, feed: Arc<FeedMedia>, stop: Stop) -> Self {
        let (wanted, shows) = watch::channel(None);
        let media = LineMedia::new(id);
        // It begins when it is wanted: nothing before its first picture is missing.
        media.set_clip(true);
        media.attach(feed);
        Self { id, wanted, task: tokio::spawn(run(media, shows, stop)) }
    }

    /// Shows this from now on, or nothing.
    pub fn show(&self, what: Option<(Card, Shape)>) {
        self.wanted.send_if_modified(|now| {
            let differs = *now != what;
            *now = what;
            differs
        });
    }

    /// It is wanted.
    pub fn is_shown(&self) -> bool {
        self.wanted.borrow().is_some()
    }
}

async fn run(media: Arc<LineMedia>, mut shows: watch::Receiver<Option<(Card, Shape)>>, mut stop: Stop) {
    let mut session = 0;
    loop {
        let what = shows.borrow_and_update().clone();
        let playing = async {
            match what {
                Some((card, shape)) => {
                    session += 1;
                    play(&media, session, card, shape).await;
                }
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            () = playing => {
                // It cannot be encoded: until another is wanted.
                if shows.changed().await.is_err() { return }
            }
            changed = shows.changed() => if changed.is_err() { return },
            () = stop.wait() => return,
        }
    }
}

/// Sends it until cancelled; returns if it cannot be encoded.
async fn play(media: &LineMedia, session: u32, card: Card, shape: Shape) {
    let (tx, mut encoded) = mpsc::channel::<(Vec<u8>, bool)>(AHEAD);
    let (size, rate) = (shape.size, shape.rate);
    let count = ((rate * KEYFRAME).round() as u32).max(1);
    let begun = aside::begin("slate", move || {
        let rgb = card::draw(&card, size);
        let done = card::encode(&rgb, size, rate, count, |data, keyframe| tx.blocking_send((data, keyframe)).is_ok());
        if let Err(cause) = done {
            tracing::warn!(%cause, "the slate cannot be encoded");
        }
    });
    if let Err(cause) = begun {
        tracing::warn!(%cause, "the slate cannot be encoded");
        return;
    }
    let audio = shape.sound.map(|_| PmtStream { pid: 0x101, kind: StreamKind::AacAdts });
    let mut writer = TsWriter::new(WriterConfig { audio, ..WriterConfig::default() });
    let silence = shape.sound.map(|(rate, channels)| (aac_silence(rate, channels), u64::from(rate.max(1))));
    let (start, mut kept, mut sounds) = (Instant::now(), Vec::new(), 0u64);
    for n in 0u64.. {
        let after = Duration::from_secs_f64(n as f64 / rate);
        sleep_until(Some(start + after)).await;
        // The first interval as it is encoded, and the same again and again.
        if kept.len() < count as usize {
            let Some(frame) = encoded.recv().await else { return };
            kept.push(frame);
        }
        let (data, keyframe) = &kept[(n % u64::from(count)) as usize];
        // A second of room below the clock's start.
        let at = |s: f64| (90_000 + (s * 90_000.0) as u64) % PTS_WRAP;
        let mut out = Vec::new();
        writer.write(&Unit { video: true, pts: at(after.as_secs_f64()), dts: None, keyframe: *keyframe, data: &[data] }, &mut out);
        if let Some((frame, rate)) = &silence {
            let until = ((n + 1) as f64 / shape.rate * *rate as f64) as u64;
            while sounds * AAC_SAMPLES < until {
                let pts = at((sounds * AAC_SAMPLES) as f64 / *rate as f64);
                writer.write(&Unit { video: false, pts, dts: None, keyframe: false, data: &[frame] }, &mut out);
                sounds += 1;
            }
        }
        media.arrive(&mut vec![Arrival::ts(session, Instant::now(), Bytes::from(out))]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_ports::{AnyOutlet, Outlet};
    use choir_proto::ts::{Origin, TsChecker};
    use std::cell::RefCell;

    #[test]
    fn it_goes_on_at_once_is_legal_and_changes_its_words_without_a_break() {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().expect("a runtime");
        let (outlet, feed) = (Outlet::new(), FeedMedia::new(Some(LineId(7)), Arc::default()));
        feed.add_out(AnyOutlet::Ts(outlet.clone()));
        let (_end, stop) = Stop::new();
        let shape = Shape { size: (320, 180), rate: 25.0, sound: Some((48_000, 2)) };
        let card = |row: &str| Card { head: "Tarn Hollow Regatta".into(), rows: vec![row.into()] };
        let all: RefCell<Vec<Bytes>> = RefCell::default();
        let bytes = || {
            let mut all = all.borrow_mut();
            all.extend(outlet.take());
            all.iter().map(Bytes::len).sum::<usize>()
        };
        runtime.block_on(async {
            let slate = Slate::new(LineId(7), feed.clone(), stop);
            assert!(!slate.is_shown() && feed.reading().on.is_none());
            for (n, row) in ["no media comes", "nobody calls"].into_iter().enumerate() {
                slate.show(Some((card(row), shape.clone())));
                choir_rig::until("pictures", Duration::from_secs(20), bytes, |bytes| *bytes > (n + 1) * 60_000).await;
            }
            slate.show(None);
        });
        let mut checker = TsChecker::new(Origin::Start);
        all.borrow().iter().for_each(|piece| checker.push(piece));
        checker.finish(false);
        let found: Vec<String> = checker.findings().iter().filter(|f| !f.minor).map(|f| format!("{f:?}")).collect();
        assert!(found.is_empty(), "{found:?}");
    }

    #[test]
    fn its_first_picture_takes_the_place_of_a_line_that_goes_on_sending() {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().expect("a runtime");
        let feed = FeedMedia::new(Some(LineId(0)), Arc::default());
        feed.add_out(AnyOutlet::Ts(Outlet::new()));
        let (_end, stop) = Stop::new();
        let line = LineMedia::new(LineId(0));
        line.attach(feed.clone());
        let sets = [0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];
        let pictures = runtime.block_on(async {
            let slate = Slate::new(LineId(7), feed.clone(), stop);
            let (mut writer, mut tick, mut shown) =
                (TsWriter::new(WriterConfig::default()), tokio::time::interval(Duration::from_millis(40)), 0);
            // A frozen camera: pictures and sound come as ever.
            for n in 0u64.. {
                tick.tick().await;
                let (pts, keyframe) = (900_000 + n * 3600, n % 25 == 0);
                let data = [if keyframe { &sets[..] } else { &[] }, &[0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88, 9]].concat();
                let mut out = Vec::new();
                writer.write(&Unit { video: true, pts, dts: None, keyframe, data: &[&data] }, &mut out);
                for frame in (n * 3600).div_ceil(1920)..((n + 1) * 3600).div_ceil(1920) {
                    let pts = 900_000 + frame * 1920;
                    writer.write(&Unit { video: false, pts, dts: None, keyframe: true, data: &[&aac_silence(48_000, 2)] }, &mut out);
                }
                line.arrive(&mut vec![Arrival::ts(1, Instant::now(), Bytes::from(out))]);
                if n == 30 {
                    let card = Card { head: "Tarn Hollow Regatta".into(), rows: vec!["picture frozen".into()] };
                    slate.show(Some((card, Shape { size: (320, 180), rate: 25.0, sound: Some((48_000, 2)) })));
                    feed.take(Some(LineId(7)));
                }
                if feed.reading().on == Some(LineId(7)) {
                    break;
                }
                shown += u64::from(n >= 30);
            }
            shown
        });
        // Its keyframes are a second apart: only with the first one it is on by then.
        assert!(pictures < 20, "{pictures} pictures of the old line later");
    }
}
