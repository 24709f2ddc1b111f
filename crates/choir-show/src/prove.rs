//! Measuring the streams of devices on the wire.

use crate::{
    control::{Answer, Client, Request},
    inspect::{Look, inspect},
};
use choir_core::{
    device::{Measured, StreamWish},
    facts::State,
    link::{Link, show_url},
    sheet::Sheet,
    view::InspectView,
};
use choir_devices::{
    device::{Joined, Measure},
    onvif::codec_of,
};
use choir_host::Stop;
use std::{path::PathBuf, time::Duration};

/// Wait for the first packet.
const WAIT: Duration = Duration::from_secs(10);
/// Shortest look; a longer one where keyframes are rare.
const LOOK: Duration = Duration::from_millis(2500);

/// Measures by joining, or asks the show that carries the line.
pub struct OnTheWire {
    /// Where relative paths count from.
    pub base: PathBuf,
    /// Ends a look early.
    pub stop: Stop,
}

impl Measure for OnTheWire {
    async fn join(&self, link: &Link, wish: &StreamWish) -> Joined {
        let url = show_url(link);
        // Three keyframes at least, whatever their distance.
        let keyframes = wish.keyframe.map_or(1.0, |k| f64::from(k.frames(wish.rate.unwrap_or(25.0))) / wish.rate.unwrap_or(25.0));
        let lasts = LOOK.max(Duration::from_secs_f64(keyframes * 2.5));
        let measured = match inspect(link, &self.base, Look { lasts, wait: WAIT }, None, None, &self.stop).await {
            Err(e) => Err(e.cause.to_string()),
            Ok(seen) if !seen.view.found => Err(seen.view.reason),
            Ok(seen) => Ok(measured(&seen.view)),
        };
        Joined { url, measured }
    }

    async fn running(&self, sheet: &Sheet, line: &str) -> Option<(String, Measured)> {
        let Ok(Answer::View(view)) = Client::connect(None).await.ok()?.ask(&Request::View).await else { return None };
        if view.show != sheet.show.name {
            return None;
        }
        let steady = |s| matches!(s, State::Steady | State::Strained);
        let line = view.lines.iter().find(|l| l.name == line && l.link.state.is_some_and(steady))?;
        let m = &line.media;
        let codec = m.codec.as_ref()?;
        let measured = Measured {
            codec: Some(codec_of(codec)),
            size: m.size,
            rate: m.rate,
            keyframe_frames: m.keyframe_frames.map(|k| (k, k)),
            bitrate_bps: m.streams.iter().find(|s| s.kind == *codec).map(|s| s.rate_bps),
            audio: Some(m.audio.is_some()),
        };
        Some((format!("{}, which the running show carries", line.link.url), measured))
    }
}

fn measured(v: &InspectView) -> Measured {
    let picture = v.picture.as_ref();
    let video = picture.and_then(|p| v.streams.iter().find(|s| s.kind == p.codec));
    Measured {
        codec: picture.map(|p| codec_of(&p.codec)),
        size: picture.and_then(|p| p.size),
        rate: picture.and_then(|p| p.measured_rate),
        keyframe_frames: picture.and_then(|p| p.keyframe_frames),
        bitrate_bps: video.map(|s| s.rate_bps),
        audio: Some(v.sound.is_some()),
    }
}
