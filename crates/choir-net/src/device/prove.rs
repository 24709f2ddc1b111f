//! The proof on the wire: the stream is joined and measured.

use crate::{
    control::{Answer, Client, Request},
    inspect::{Look, inspect},
    onvif::codec_of,
    port::Stop,
};
use choir_core::{
    device::{Difference, Measured, StreamWish, on_the_wire},
    health::State,
    link::{Link, parse_url, show_url},
    secret::{Secret, SecretText},
    sheet::Sheet,
    view::InspectView,
};
use serde::Serialize;
use std::{path::Path, time::Duration};

/// Wait for the first packet.
const WAIT: Duration = Duration::from_secs(10);
/// Shortest look; a longer one where keyframes are rare.
const LOOK: Duration = Duration::from_millis(2500);

/// What joining a stream told.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Proof {
    /// Stream.
    pub stream: String,
    /// Where it was joined.
    pub url: String,
    /// What came; `None` when nothing did.
    pub measured: Option<Measured>,
    /// Why nothing came.
    pub reason: Option<String>,
    /// How it differs from what is wanted.
    pub differs: Vec<Difference>,
}

impl Proof {
    fn of(stream: &str, url: String, measured: Measured, wish: &StreamWish, constant: bool) -> Self {
        let differs = on_the_wire(stream, wish, constant, &measured);
        Self { stream: stream.into(), url, measured: Some(measured), reason: None, differs }
    }

    /// All is as wanted.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.measured.is_some() && self.differs.is_empty()
    }
}

/// A stream's link with the device's login.
pub(super) fn link_of(url: &str, login: Option<(&str, &SecretText)>) -> Option<Link> {
    let mut link = parse_url(url).0?;
    if let (Link::Rtsp(r), Some((user, password))) = (&mut link, login) {
        r.user = Some(user.to_owned());
        r.password = Some(Secret::Literal(password.clone()));
    }
    Some(link)
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

/// What a running show measures on a line of this sheet; `None` when none runs or nothing comes.
pub(super) async fn by_show(sheet: &Sheet, line: &str, stream: &str, wish: &StreamWish, constant: bool) -> Option<Proof> {
    let Ok(Answer::View(view)) = Client::connect(None).await.ok()?.ask(&Request::View).await else { return None };
    if view.show != sheet.show.name {
        return None;
    }
    let line = view.lines.iter().find(|l| l.name == line && l.link.state.is_some_and(|s| matches!(s, State::Steady | State::Strained)))?;
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
    let url = format!("{}, which the running show carries", line.link.url);
    Some(Proof::of(stream, url, measured, wish, constant))
}

/// Joins a stream and measures it. `constant` says how its bitrate is to be judged.
pub async fn prove(stream: &str, link: &Link, base: &Path, wish: &StreamWish, constant: bool, stop: &Stop) -> Proof {
    let url = show_url(link);
    // Three keyframes at least, whatever their distance.
    let keyframes = wish.keyframe.map_or(1.0, |k| f64::from(k.frames(wish.rate.unwrap_or(25.0))) / wish.rate.unwrap_or(25.0));
    let lasts = LOOK.max(Duration::from_secs_f64(keyframes * 2.5));
    let seen = inspect(link, base, Look { lasts, wait: WAIT }, None, None, stop).await;
    let failed = |reason: String| Proof { stream: stream.into(), url: url.clone(), reason: Some(reason), ..Proof::default() };
    match seen {
        Err(e) => failed(e.to_string().trim_start_matches(&format!("{url}: ")).to_owned()),
        Ok(v) if !v.found => failed(v.reason),
        Ok(v) => Proof::of(stream, url, measured(&v), wish, constant),
    }
}
