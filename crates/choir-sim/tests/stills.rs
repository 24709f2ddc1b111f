//! Pictures of a running line: decoded as they were drawn, for both codecs, and only while somebody asks.

use choir_core::{
    link::{Link, parse_url},
    sheet::Sheet,
};
use choir_host::Stop;
use choir_show::{Show, still::Still};
use choir_sim::camera::{CameraSettings, SHIPPED_SIZE, start};
use std::{path::Path, time::Duration};
use tokio::{runtime::Runtime, time::timeout};

fn link(url: &str) -> Link {
    parse_url(url).0.expect("a link")
}

/// A still of a camera with these settings.
async fn still_of(h265: bool, size: (u32, u32)) -> Still {
    let url = format!("udp://127.0.0.1:{}", choir_rig::port());
    let (end, stop) = Stop::new();
    let show = Show::start(&Sheet::of_one("Tarn Hollow Regatta", link(&url), Vec::new()), Path::new(".")).await.expect("a show");
    let settings = CameraSettings { h265, size, ..CameraSettings::new("finish-tower", link(&url)) };
    let camera = start(settings, Path::new("."), stop).await.expect("a camera");
    // Asking again ends the first question, and the second is answered.
    let first = show.pictures(show.line_named("in").expect("the line")).expect("the line");
    let second = show.pictures(show.line_named("in").expect("the line")).expect("the line");
    assert!(first.await.is_err(), "superseded");
    let units = timeout(Duration::from_secs(20), second).await.expect("in time").expect("pictures");
    assert!(units.len() >= 8 && units[0].keyframe, "{}", units.len());
    assert!(show.line_named("nobody").is_err());
    end.now();
    camera.wait().await;
    show.stop().await;
    Still::decode(&units).expect("a picture")
}

/// Mean colour of a part of the picture, all in eighths.
fn colour(still: &Still, column: usize, row: usize) -> [u32; 3] {
    let (w, h) = (still.width / 8, still.height / 8);
    let mut sum = [0_u32; 3];
    for y in row * h..(row + 1) * h {
        for x in column * w..(column + 1) * w {
            let at = (y * still.width + x) * 3;
            sum.iter_mut().zip(&still.rgb[at..at + 3]).for_each(|(s, v)| *s += u32::from(*v));
        }
    }
    sum.map(|s| s / (w * h) as u32)
}

#[test]
fn a_still_shows_the_scene_in_both_codecs() {
    Runtime::new().expect("a runtime").block_on(async {
        for (h265, size) in [(false, (640, 360)), (true, SHIPPED_SIZE)] {
            let still = still_of(h265, size).await;
            assert_eq!((still.width as u32, still.height as u32), size);
            assert!(still.shows_something());
            // Sky above water: bright and blue above, darker below.
            let (sky, water) = (colour(&still, 4, 2), colour(&still, 4, 6));
            assert!(sky.iter().sum::<u32>() > water.iter().sum::<u32>() + 60, "{h265}: sky {sky:?}, water {water:?}");
            assert!(sky[2] > sky[0], "the sky is blue: {sky:?}");
            let small = still.fit(160, 160);
            assert_eq!((small.width, small.height), (160, 90));
        }
    });
}
