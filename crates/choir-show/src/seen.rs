//! What was seen and heard of a line: written by the thread that looks, read by views and health.

use crate::still::Still;
use choir_core::{
    content::{ContentFault, ContentLimits, ContentWatch, Glimpse, PictureMeasure, Pixels, SoundMeasure},
    view::{LevelsView, PictureAgeView, SinceView},
    words::content_words,
};
use choir_host::{clock::steady_us, lock};
use std::{
    sync::{Arc, Mutex},
    time::Duration,
};

/// Nothing new for so long: what was seen says nothing of now.
const STALE: Duration = Duration::from_secs(3);

/// The last picture of a line.
#[derive(Debug, Clone)]
pub(crate) struct Taken {
    /// Small.
    pub still: Arc<Still>,
    /// When it came, µs on the steady clock.
    pub at: i64,
}

#[derive(Debug, Default)]
struct State {
    watch: ContentWatch,
    taken: Option<Taken>,
    /// Of a picture that nobody has compared with others yet.
    glimpse: Option<(i64, Option<Glimpse>)>,
    levels: Option<(i64, LevelsView)>,
    apart_ms: Option<i32>,
}

/// What was seen and heard of a line.
#[derive(Debug, Default)]
pub(crate) struct Seen(Mutex<State>);

/// On the steady clock.
pub(crate) fn steady_time(us: i64) -> Duration {
    Duration::from_micros(us.max(0) as u64)
}

impl Seen {
    pub fn set_limits(&self, limits: ContentLimits) {
        lock(&self.0).watch.set_limits(limits);
    }

    /// Forgets all: nobody looks any more.
    pub fn clear(&self) {
        let mut s = lock(&self.0);
        s.watch.restart();
        (s.taken, s.glimpse, s.levels, s.apart_ms) = (None, None, None, None);
    }

    /// The source began anew.
    pub fn restart(&self) {
        lock(&self.0).watch.restart();
    }

    pub fn picture(&self, still: Still, at: i64) {
        let measure = PictureMeasure::of(Pixels { width: still.width, height: still.height, rgb: &still.rgb });
        let glimpse = Glimpse::of(Pixels { width: still.width, height: still.height, rgb: &still.rgb });
        let mut s = lock(&self.0);
        s.glimpse = Some((at, glimpse));
        s.watch.picture(steady_time(at), &measure);
        s.taken = Some(Taken { still: Arc::new(still), at });
    }

    /// A picture that is new since the last call, made very small.
    pub fn take_glimpse(&self) -> Option<(Duration, Option<Glimpse>)> {
        lock(&self.0).glimpse.take().map(|(at, glimpse)| (steady_time(at), glimpse))
    }

    pub fn frozen(&self, since: Option<Duration>) {
        lock(&self.0).watch.frozen(since);
    }

    pub fn sound(&self, at: i64, measure: &SoundMeasure, levels: LevelsView) {
        let mut s = lock(&self.0);
        s.watch.sound(steady_time(at), measure);
        s.levels = Some((at, levels));
    }

    pub fn apart(&self, at: i64, ms: i32) {
        let mut s = lock(&self.0);
        s.watch.apart(steady_time(at), ms);
        s.apart_ms = Some(ms);
    }

    /// The last picture.
    pub fn taken(&self) -> Option<Taken> {
        lock(&self.0).taken.clone()
    }

    /// What is wrong, and for how long.
    pub fn faults(&self) -> Vec<(ContentFault, Duration)> {
        let now = steady_time(steady_us());
        let s = lock(&self.0);
        let newest = |at: i64| now.saturating_sub(steady_time(at)) < STALE;
        let is_new = |f: ContentFault| {
            // Pictures may be rare where many lines share the budget: then the last one holds.
            if f.is_sound() { s.levels.as_ref().is_none_or(|l| newest(l.0)) } else { true }
        };
        let all = s.watch.faults(now).into_iter().filter(|(f, _)| is_new(*f));
        all.map(|(f, since)| (f, now.saturating_sub(since))).collect()
    }

    /// What views show: the picture's age, levels, faults.
    pub fn view(&self, now_ms: u64) -> (Option<PictureAgeView>, Option<LevelsView>, Vec<SinceView>) {
        let faults = self.faults().into_iter().map(|(fault, lasts)| SinceView {
            name: fault.name().into(),
            text: content_words(fault),
            since_ms: now_ms.saturating_sub(lasts.as_millis() as u64),
        });
        let faults = faults.collect();
        let now = steady_us();
        let s = lock(&self.0);
        let picture = s.taken.as_ref().map(|t| PictureAgeView { age_ms: ((now - t.at) / 1000).max(0) as u64, size: t.still.source });
        let levels = s.levels.as_ref().filter(|l| steady_time(now).saturating_sub(steady_time(l.0)) < STALE);
        (picture, levels.map(|l| LevelsView { apart_ms: s.apart_ms, ..l.1.clone() }), faults)
    }
}
