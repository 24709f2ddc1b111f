//! What pictures and sound show is noticed: every fault that a camera can show, and none in an hour
//! of scenes as they should be.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use choir_core::{
    content::{ContentFault, ContentLimits, ContentWatch, Freeze, PictureMeasure, Pixels, UnitSize, difference},
    sheet::read_sheet,
    units::Bitrate,
    view::{LineView, ShowView},
};
use choir_host::Stop;
use choir_show::{Show, bus};
use choir_sim::{
    camera::{Camera, CameraSettings, Output, Scene, start},
    stalls::{on_time, timed},
};
use std::{path::Path, time::Duration};
use tokio::{runtime::Runtime, sync::watch, time::timeout};

/// Whoever looks at pictures gives way to all else.
const PATIENCE: Duration = Duration::from_secs(180);

/// A camera for each of these faults, shown from the start or later.
struct Stage {
    show: Show,
    cameras: Vec<(Camera, watch::Sender<Output>)>,
    end: choir_host::End,
}

/// H.265 where the words begin with it.
async fn stage(words: &[&str], begins: bool) -> Stage {
    let (end, stop) = Stop::new();
    let ports: Vec<u16> = words.iter().map(|_| choir_rig::port()).collect();
    let mut sheet = "[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"100 %\"\n".to_owned();
    for (n, port) in ports.iter().enumerate() {
        sheet += &format!("[[line]]\nname = \"line-{n}\"\nfrom = \"udp://127.0.0.1:{port}\"\n");
    }
    let show = Show::start(&read_sheet(&sheet).0.unwrap(), Path::new(".")).await.unwrap();
    let mut cameras = Vec::new();
    for (words, port) in words.iter().zip(ports) {
        let to = choir_core::link::parse_url(&format!("udp://127.0.0.1:{port}")).0.unwrap();
        let mut settings = CameraSettings {
            size: (320, 180),
            bitrate: Bitrate(1_500_000),
            h265: words.starts_with("h265"),
            ..CameraSettings::new("jury", to)
        };
        if settings.h265 {
            settings.bitrate = Bitrate(3_500_000);
        }
        let change = settings.controlled(if begins { after(words) } else { Output::default() });
        cameras.push((start(settings, Path::new("."), stop.clone()).await.unwrap(), change));
    }
    Stage { show, cameras, end }
}

fn after(words: &str) -> Output {
    words.split(' ').filter(|w| *w != "h265").try_fold(Output::default(), |o, w| o.after(w)).unwrap()
}

impl Stage {
    /// Waits until all lines are as wanted.
    async fn until(&self, what: &str, wanted: impl Fn(usize, &LineView) -> bool) -> ShowView {
        let mut facts = self.show.facts();
        let is = |v: &ShowView| v.lines.iter().enumerate().all(|(n, l)| wanted(n, l));
        let came = timeout(PATIENCE, async { while !is(&self.show.view()) && bus::next(&mut facts).await {} }).await;
        came.unwrap_or_else(|_| panic!("never: {what}\n{:#?}", self.show.view().lines));
        self.show.view()
    }

    async fn end(self) {
        self.end.now();
        for (camera, _) in self.cameras {
            camera.wait().await;
        }
        self.show.stop().await;
    }
}

fn names(line: &LineView) -> Vec<&str> {
    line.content.iter().map(|c| c.name.as_str()).collect()
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn every_fault_of_picture_and_sound_is_noticed_and_its_end_as_well() {
        let faults = [
            ("black", &["black"][..]),
            ("bars", &["bars"]),
            ("frozen", &["frozen"]),
            ("h265 frozen", &["frozen"]),
            ("silent", &["silent"]),
            ("left-only", &["channel-silent"]),
            ("out-of-phase", &["out-of-phase"]),
            ("clipped", &["clipped"]),
            ("late:1500ms", &["apart"]),
            ("black silent", &["black", "silent"]),
            // What is as it should be.
            ("tone:-30", &[]),
            ("swapped", &[]),
        ];
        Runtime::new().unwrap().block_on(async {
            let words: Vec<&str> = faults.iter().map(|f| f.0).collect();
            let stage = stage(&words, true).await;
            let view =
                stage.until("each fault, and no other", |n, l| names(l) == faults[n].1 && l.picture.is_some() && l.levels.is_some()).await;
            let levels = |n: usize| view.lines[n].levels.clone().unwrap().peak_dbfs;
            assert!(levels(10).iter().all(|db| (db + 30.0).abs() < 1.0), "{:?}", levels(10));
            assert!(levels(5)[0] > -20.0 && levels(5)[1] < -60.0, "{:?}", levels(5));
            let reason = &view.lines[2].link.reason;
            assert!(reason.starts_with("picture frozen for ") && reason.contains("check the camera"), "{reason}");
            for (_, change) in &stage.cameras {
                change.send_replace(Output::default());
            }
            stage.until("all is well again", |_, l| l.content.is_empty() && l.link.reason.starts_with("receiving")).await;
            stage.end().await;
        });
    }

    #[test]
    fn black_frozen_and_silent_are_noticed_within_two_seconds() {
        timed(|| {
            Runtime::new().unwrap().block_on(async {
                let words = ["black", "frozen", "silent"];
                let stage = stage(&words, false).await;
                stage.until("pictures and sound", |_, l| l.picture.is_some() && l.levels.is_some() && l.content.is_empty()).await;
                for ((_, change), word) in stage.cameras.iter().zip(words) {
                    change.send_replace(after(word));
                }
                let mut noticed = [None; 3];
                while noticed.contains(&None) {
                    let view = stage.until("one more", |n, l| names(l) == [words[n]] || noticed[n].is_some() || n > 0).await;
                    for (n, line) in view.lines.iter().enumerate().filter(|(_, l)| !l.content.is_empty()) {
                        noticed[n].get_or_insert(view.now_ms - line.content[0].since_ms);
                    }
                    tokio::time::timeout(Duration::from_millis(50), bus::next(&mut stage.show.facts())).await.ok();
                }
                on_time("noticed within 2 s", || assert!(noticed.iter().flatten().all(|ms| *ms <= 2600), "{noticed:?} ms after it began"));
                stage.end().await;
            });
        });
    }
}

/// Noise of a camera's sensor, between -`most` and `most`.
struct Noise(u64);

impl Noise {
    fn next(&mut self, most: i16) -> i16 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 40) % (2 * most as u64 + 1)) as i16 - most
    }
}

/// Grey as RGB, with noise.
fn rgb(luma: &[u8], gain: f64, noise: &mut Noise, most: i16) -> Vec<u8> {
    let pixel = |y: &u8| (f64::from(*y) * gain) as i16;
    luma.iter().flat_map(|y| [(pixel(y) + noise.next(most)).clamp(0, 255) as u8; 3]).collect()
}

/// One picture each second of an hour: the regatta by day, at dusk and at night, moving and still,
/// with a camera's noise. Nothing is called black, of one colour, bars or frozen.
#[test]
fn an_hour_of_scenes_with_noise_raises_no_false_alarm() {
    let (w, h) = (160, 90);
    let (mut scene, mut noise) = (Scene::new(w, h, 3), Noise(7));
    let mut watch = ContentWatch::new(ContentLimits::default());
    let (mut freeze, mut before) = (Freeze::default(), None::<Vec<u8>>);
    let at = |second: u64| Duration::from_secs(second);
    for second in 0..3600u64 {
        // Still for minutes, moving for minutes; from noon to night, where the lamps are left.
        let still = second / 300 % 2 == 1;
        let gain = [1.0, 0.5, 0.25, 0.14][(second / 900) as usize];
        scene.draw(if still { 7 } else { second as usize % 50 }, 50, "jury-room");
        let pixels = rgb(&scene.y, gain, &mut noise, 4);
        watch.picture(at(second), &PictureMeasure::of(Pixels { width: w, height: h, rgb: &pixels }));
        let luma: Vec<u8> = pixels.chunks_exact(3).map(|p| p[0]).collect();
        freeze.unit(at(second), UnitSize { keyframe: true, slices: 20_000, pixels: w * h });
        freeze.keyframe(at(second), before.as_ref().map(|b| difference(b, &luma, w)));
        // Noise that an encoder of little rate leaves over: a tenth of the blocks in each picture.
        for n in 1..5 {
            let slices = 60 + (noise.next(30) + 30) as usize * 4;
            freeze.unit(at(second) + Duration::from_millis(n * 200), UnitSize { keyframe: false, slices, pixels: w * h });
        }
        before = Some(luma);
        watch.frozen(freeze.since());
        let faults = watch.faults(at(second) + Duration::from_millis(999));
        assert_eq!(faults, [], "after {second} s");
    }
    // The same picture again and again, as from a frame store, is told.
    let stuck = before.unwrap();
    for second in 3600..3604u64 {
        freeze.unit(at(second), UnitSize { keyframe: true, slices: 20_000, pixels: w * h });
        freeze.keyframe(at(second), Some(difference(&stuck, &stuck, w)));
        watch.frozen(freeze.since());
    }
    assert_eq!(watch.faults(at(3604)).first().map(|f| f.0), Some(ContentFault::Frozen));
}
