//! Whether a picture of a feed reaches its viewers: it is had back from where they see it, each few
//! seconds, decoded, and held against the last one.

mod hls;

use crate::{aside, feed::FeedRun, inner::Inner, media::LineMedia, still::Still};
use choir_core::{
    facts::{Contact, EventKind, Waiting},
    id::{FeedId, LineId, Subject},
    link::{DEFAULT_LATENCY, Link},
    model::Confirm,
    view::ConfirmView,
};
use choir_host::{Stop, clock::unix_ms, lock};
use choir_ports::{Flow, LinkStatus, Way, open_ways};
use choir_proto::ts::AccessUnit;
use std::{path::Path, sync::Weak, time::Duration};

/// From look to look.
const EVERY: Duration = Duration::from_secs(10);
/// From look to look until the first picture has come.
const AT_FIRST: Duration = Duration::from_secs(2);
/// How long one may take.
const PATIENCE: Duration = Duration::from_secs(20);
/// After a feed is taken by a destination, until it counts that nothing comes back.
const STARTS: Duration = Duration::from_secs(30);
/// Pictures are compared in this size.
const SMALL: (usize, usize) = (64, 36);
/// Looks at which the picture is the same, until it stands still.
const SAME_MOST: u32 = 3;
/// Of each pixel, so much may differ for that, of 255.
const SAME: f64 = 0.35;

/// What came back of a feed.
#[derive(Debug, Default)]
struct Confirmed {
    from: String,
    seen_ms: Option<u64>,
    size: Option<(u32, u32)>,
    failed: Option<String>,
    small: Vec<u8>,
    same: u32,
}

impl Confirmed {
    fn view(&self) -> ConfirmView {
        ConfirmView {
            from: self.from.clone(),
            seen_ms: self.seen_ms,
            size: self.size.map(|(w, h)| format!("{w}x{h}")),
            failed: self.failed.clone(),
        }
    }

    /// Takes what a look has given; gives an event where that is another than before.
    fn note(&mut self, look: Result<Still, String>, waited: Duration) -> Option<EventKind> {
        let was = self.seen_ms.is_some() && self.failed.is_none();
        let why = match look {
            Ok(still) => {
                let small = still.fit(SMALL.0, SMALL.1).luma();
                self.same = if is_same(&small, &self.small) { self.same + 1 } else { 0 };
                self.small = small;
                (self.seen_ms, self.size) = (Some(unix_ms()), Some(still.source));
                (self.same >= SAME_MOST).then(|| "it stands still".to_owned())
            }
            Err(why) => Some(why),
        };
        let Some(why) = why else {
            self.failed = None;
            return (!was).then(|| EventKind::Confirmed { size: self.size.unwrap_or_default() });
        };
        // It takes viewers' servers a while to begin.
        if self.seen_ms.is_none() && waited < STARTS {
            return None;
        }
        let known = self.failed.replace(why.clone()).is_some();
        (!known).then_some(EventKind::NotConfirmed(why))
    }
}

fn is_same(a: &[u8], b: &[u8]) -> bool {
    let apart: u32 = a.iter().zip(b).map(|(a, b)| u32::from(a.abs_diff(*b))).sum();
    a.len() == b.len() && !a.is_empty() && f64::from(apart) / (a.len() as f64) < SAME
}

/// Looks until stopped.
pub(crate) async fn follow(show: Weak<Inner>, feed: FeedId, from: Confirm, mut stop: Stop) {
    let told = |confirmed: Option<ConfirmView>| {
        let run = show.upgrade().and_then(|show| show.feed(feed).ok());
        if let Some(run) = run {
            *lock(&run.confirmed) = confirmed;
        }
    };
    let mut confirmed = Confirmed { from: from.to_string(), ..Confirmed::default() };
    let mut taken = Duration::ZERO;
    loop {
        told(Some(confirmed.view()));
        let pause = if confirmed.seen_ms.is_some() { EVERY } else { AT_FIRST };
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = stop.wait() => break,
        }
        let Some((run, base)) = show.upgrade().and_then(|show| Some((show.feed(feed).ok()?, show.base.clone()))) else { break };
        // Nothing comes back of what is not sent.
        if !is_sent(&run) {
            (taken, confirmed) = (Duration::ZERO, Confirmed { from: confirmed.from, ..Confirmed::default() });
            continue;
        }
        drop(run);
        taken += pause;
        let looked = tokio::select! {
            look = tokio::time::timeout(PATIENCE, look(&from, &base)) => look.unwrap_or_else(|_| Err(format!("none within {} s", PATIENCE.as_secs()))),
            () = stop.wait() => break,
        };
        let event = confirmed.note(looked, taken);
        if let Some((show, event)) = show.upgrade().zip(event) {
            show.bus.event(Subject::Feed(feed), event);
            show.changed.notify_one();
        }
    }
    told(None);
}

/// Some destination takes it, or may fetch it.
fn is_sent(feed: &FeedRun) -> bool {
    let takes = |contact| matches!(contact, Contact::Up | Contact::Waiting(Waiting::Viewers));
    feed.outs().iter().any(|o| takes(o.status.look().contact))
}

/// One picture.
async fn look(from: &Confirm, base: &Path) -> Result<Still, String> {
    let units = match from {
        Confirm::Played(link) => played(link, base).await?,
        Confirm::Hls(url) => {
            let url = url.clone();
            let newest = aside::result("confirm", move || hls::newest(&url)).await;
            newest.unwrap_or_else(|| Err("it could not be looked at".into()))?
        }
    };
    let still = aside::result("confirm", move || Still::decode(&units, None)).await.flatten();
    still.ok_or_else(|| "what comes back cannot be decoded".into())
}

/// Plays from a server until the first keyframe with some pictures behind it has come.
async fn played(link: &Link, base: &Path) -> Result<Vec<AccessUnit>, String> {
    let (media, status) = (LineMedia::new(LineId(0)), LinkStatus::new());
    let pictures = media.pictures();
    let way = Way { name: "confirm".into(), link: link.clone(), flow: Flow::In(media), status: status.clone(), stave: None, shard: None };
    let (end, stop) = Stop::new();
    let open = open_ways(vec![way], DEFAULT_LATENCY, base, &stop, &Stop::given()).await.map_err(|e| e.cause.to_string())?;
    let found = tokio::time::timeout(PATIENCE - Duration::from_secs(2), pictures).await;
    let contact = status.look().contact;
    end.now();
    for way in open {
        way.ended().await;
    }
    match (found, contact) {
        (Ok(Ok(units)), _) => Ok(units),
        (_, Contact::Lost(why)) => Err(why.to_string()),
        (_, Contact::Joining(what)) => Err(what.to_string()),
        _ => Err("no picture comes".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn still(shade: u8) -> Result<Still, String> {
        Ok(Still { width: 640, height: 360, rgb: vec![shade; 640 * 360 * 3], source: (1280, 720) })
    }

    #[test]
    fn what_comes_back_is_told_once_and_so_is_its_end() {
        let mut c = Confirmed::default();
        let s = Duration::from_secs;
        assert_eq!(c.note(Err("no picture comes".into()), s(4)), None, "it may be about to begin");
        assert_eq!(c.note(still(10), s(6)), Some(EventKind::Confirmed { size: (1280, 720) }));
        assert_eq!(c.note(still(90), s(16)), None);
        assert_eq!((c.view().size.as_deref(), c.view().failed), (Some("1280x720"), None));
        // The same picture again and again is a server that repeats its last.
        let events: Vec<_> = (0..4).map(|_| c.note(still(90), s(30))).collect();
        assert_eq!(events, [None, None, Some(EventKind::NotConfirmed("it stands still".into())), None]);
        assert_eq!(c.note(still(50), s(60)), Some(EventKind::Confirmed { size: (1280, 720) }));
        assert_eq!(c.note(Err("gone".into()), s(70)), Some(EventKind::NotConfirmed("gone".into())));
        assert_eq!(c.note(Err("gone".into()), s(80)), None);
        assert_eq!(c.view().failed.as_deref(), Some("gone"));
    }

    #[test]
    fn what_never_comes_is_told_after_a_while() {
        let mut c = Confirmed::default();
        assert_eq!(c.note(Err("no picture comes".into()), Duration::from_secs(29)), None);
        assert!(matches!(c.note(Err("no picture comes".into()), Duration::from_secs(31)), Some(EventKind::NotConfirmed(_))));
    }
}
