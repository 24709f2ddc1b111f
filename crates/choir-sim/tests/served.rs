//! RTSP both ways by its card: a feed that is served is pulled by the link that its card describes,
//! and a camera that is pulled serves at what the card of its line says.

use choir_core::{
    card::{far_of_feed, far_of_line},
    link::{Link, parse_url},
    sheet::Sheet,
};
use choir_host::Stop;
use choir_proto::rtsp::Credentials;
use choir_show::{Show, still::Still};
use choir_sim::camera::{CameraSettings, RtspCameraSettings, start_rtsp};
use std::{net::SocketAddr, path::Path, time::Duration};
use tokio::{runtime::Runtime, time::timeout};

fn link(url: &str) -> Link {
    parse_url(url).0.expect("a link")
}

fn free() -> SocketAddr {
    ([127, 0, 0, 1], choir_rig::port()).into()
}

/// A picture of the show's only line.
async fn picture(show: &Show) -> Option<Still> {
    let units =
        timeout(Duration::from_secs(20), show.pictures(show.line_named("in").expect("the line")).expect("the line")).await.ok()?.ok()?;
    Still::decode(&units, None)
}

#[test]
#[allow(clippy::panic, reason = "fails the test")]
fn cards_of_rtsp_join_both_ways() {
    Runtime::new().expect("a runtime").block_on(async {
        let (camera_at, serve_at) = (free(), free());
        let from = link(&format!("rtsp://desk:cox@{camera_at}/main"));
        let mut here = Sheet::of_one("Tarn Hollow Regatta", from, vec![link(&format!("rtsp://{serve_at}"))]);
        here.show.address = Some("127.0.0.1".into());
        let Some(Link::Rtsp(far)) = far_of_line(&here, &here.lines[0]) else { panic!("not RTSP") };
        assert_eq!((far.port, far.path.as_str(), far.user.as_deref()), (Some(camera_at.port()), "/main", Some("desk")));
        let (end, stop) = Stop::new();
        let at = SocketAddr::from(([127, 0, 0, 1], far.port.unwrap_or_default()));
        let main = CameraSettings { size: (320, 180), keyframe: 0.4, ..CameraSettings::new("finish-tower", link("-")) };
        let settings = RtspCameraSettings {
            listen: at,
            main,
            sub: None,
            credentials: far.user.as_ref().map(|user| Credentials::new(user, "cox")),
            group: None,
            manners: Vec::new(),
            head: None,
        };
        let camera = start_rtsp(settings, stop).await.expect("a camera");
        let show = Show::start(&here, Path::new(".")).await.expect("a show");
        let far = far_of_feed(&here, &here.feeds[0], &here.feeds[0].to[0].link).expect("a far end");
        let there = Show::start(&Sheet::of_one("boathouse", far, Vec::new()), Path::new(".")).await.expect("a show");
        let still = picture(&there).await.expect("a picture over both");
        assert_eq!((still.width, still.height), (320, 180));
        there.stop().await;
        show.stop().await;
        end.now();
        camera.wait().await;
    });
}
