//! Pictures of a running line: decoded as they were drawn, for both codecs, and only while somebody
//! asks.

use choir_core::{
    link::{Link, parse_url},
    model::LookBudget,
    sheet::Sheet,
};
use choir_host::Stop;
use choir_show::{Show, still::Still};
use choir_sim::camera::{CameraSettings, SHIPPED_SIZE, read_blocks, start};
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
    Still::decode(&units, None).expect("a picture")
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
fn whoever_steers_sees_every_picture_as_it_comes() {
    Runtime::new().expect("a runtime").block_on(async {
        let url = format!("udp://127.0.0.1:{}", choir_rig::port());
        let (end, stop) = Stop::new();
        let mut sheet = Sheet::of_one("Tarn Hollow Regatta", link(&url), Vec::new());
        sheet.show.pictures = LookBudget::default();
        let show = Show::start(&sheet, Path::new(".")).await.expect("a show");
        let settings = CameraSettings { size: (320, 180), keyframe: 2.0, ..CameraSettings::new("finish-tower", link(&url)) };
        let camera = start(settings, Path::new("."), stop).await.expect("a camera");
        let line = show.line_named("in").expect("the line");
        let mut pictures = show.live_pictures(line, (320, 180)).expect("a thread");
        let mut numbers: Vec<u16> = Vec::new();
        while numbers.len() < 12 {
            timeout(Duration::from_secs(40), pictures.changed()).await.expect("in time").expect("pictures");
            let still = pictures.borrow_and_update().clone().expect("a picture");
            numbers.extend(read_blocks(&still.luma(), 320, 180, 320));
        }
        // A keyframe comes every 50 pictures: these are those between as well.
        let steps: Vec<u16> = numbers.windows(2).map(|n| (n[1] + 50 - n[0]) % 50).collect();
        assert!(steps.iter().filter(|s| (1..25).contains(*s)).count() > 8, "{numbers:?}");
        end.now();
        camera.wait().await;
        show.stop().await;
    });
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
