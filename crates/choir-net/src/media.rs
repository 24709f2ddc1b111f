//! Lines and feeds as the media sees them: no task of their own, called on the task of the way in.

use crate::{
    clock::unix_us,
    lock,
    port::{Intake, Outlet},
};
use bytes::Bytes;
use choir_proto::ts::{AccessUnit, Depth, MediaInfo, SourceKey, Splicer, TsReader};
use std::{
    sync::{
        Arc, Mutex, PoisonError, RwLock,
        atomic::{AtomicBool, Ordering},
    },
    time::Instant,
};
use tokio::sync::{oneshot, watch};

/// One inbound contribution: meters it and hands it to the feeds.
pub struct LineMedia {
    index: u32,
    meter: Mutex<Meter>,
    feeds: RwLock<Vec<Arc<FeedMedia>>>,
    /// Set while somebody wants pictures, so that nobody else pays for it.
    tapped: AtomicBool,
    tap: Mutex<Option<Tap>>,
}

/// Gathers whole pictures from the next keyframe on.
struct Tap {
    reader: TsReader,
    session: u32,
    units: Vec<AccessUnit>,
    give: oneshot::Sender<Vec<AccessUnit>>,
}

/// Pictures that a tap gives: a decoder may hold some back.
const TAPPED: usize = 8;

struct Meter {
    reader: TsReader,
    session: u32,
    last: Option<Instant>,
    bytes: u64,
}

/// What a line has seen.
pub struct LineReading {
    /// The media.
    pub info: MediaInfo,
    /// When the last piece came.
    pub last: Option<Instant>,
    /// Bytes so far, over all sessions.
    pub bytes: u64,
    /// Present session.
    pub session: u32,
}

impl LineMedia {
    /// The line of this number.
    #[must_use]
    pub fn new(index: u32) -> Arc<Self> {
        let meter = Meter { reader: TsReader::new(Depth::Heads), session: 0, last: None, bytes: 0 };
        Arc::new(Self { index, meter: Mutex::new(meter), feeds: RwLock::default(), tapped: AtomicBool::new(false), tap: Mutex::default() })
    }

    /// Lets a feed take from it.
    pub fn attach(&self, feed: Arc<FeedMedia>) {
        self.feeds.write().unwrap_or_else(PoisonError::into_inner).push(feed);
    }

    /// The next keyframe with some pictures behind it. Asking again ends an earlier question.
    pub fn pictures(&self) -> oneshot::Receiver<Vec<AccessUnit>> {
        let (give, taken) = oneshot::channel();
        *lock(&self.tap) = Some(Tap { reader: TsReader::new(Depth::Units), session: 0, units: Vec::new(), give });
        self.tapped.store(true, Ordering::Release);
        taken
    }

    fn fill_tap(&self, session: u32, now: i64, payload: &Bytes) {
        let mut tap = lock(&self.tap);
        let Some(t) = tap.as_mut() else { return };
        if t.session != session {
            (t.reader, t.session) = (TsReader::new(Depth::Units), session);
            t.units.clear();
        }
        t.reader.push(now, payload);
        while let Some(unit) = t.reader.poll_unit() {
            if unit.kind.is_video() && (unit.keyframe || !t.units.is_empty()) {
                t.units.push(unit);
            }
        }
        if t.units.len() >= TAPPED || t.give.is_closed() {
            self.tapped.store(false, Ordering::Release);
            if let Some(done) = tap.take() {
                // Whoever asked may have gone.
                let _ = done.give.send(done.units);
            }
        }
    }

    /// The present reading.
    #[must_use]
    pub fn reading(&self) -> LineReading {
        let m = lock(&self.meter);
        LineReading { info: m.reader.info(), last: m.last, bytes: m.bytes, session: m.session }
    }
}

impl Intake for LineMedia {
    fn push(&self, session: u32, payload: Bytes) {
        let now = unix_us();
        {
            let mut m = lock(&self.meter);
            if m.session != session {
                // A source that starts anew has nothing to do with what was there before.
                m.reader = TsReader::new(Depth::Heads);
                m.session = session;
            }
            m.reader.push(now, &payload);
            m.last = Some(Instant::now());
            m.bytes += payload.len() as u64;
        }
        if self.tapped.load(Ordering::Acquire) {
            self.fill_tap(session, now, &payload);
        }
        let key = SourceKey { line: self.index, session };
        for feed in self.feeds.read().unwrap_or_else(PoisonError::into_inner).iter() {
            feed.push(key, now, &payload);
        }
    }
}

/// One output: chooses its line and hands the result to its ways out.
pub struct FeedMedia {
    state: Mutex<FeedState>,
    outs: Vec<Arc<Outlet>>,
    cuts: watch::Sender<u64>,
}

struct FeedState {
    splicer: Splicer,
    wanted: u32,
    takes: u64,
    on: Option<SourceKey>,
}

/// How a feed stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FeedReading {
    /// Line that is on.
    pub on: Option<u32>,
    /// Line that is wanted.
    pub wanted: u32,
    /// Changes of line made.
    pub takes: u64,
}

impl FeedReading {
    /// The line that is on; before any is, the one that is wanted.
    #[must_use]
    pub fn line(&self) -> u32 {
        self.on.unwrap_or(self.wanted)
    }
}

impl FeedMedia {
    /// A feed that starts with a line.
    #[must_use]
    pub fn new(line: u32, outs: Vec<Arc<Outlet>>) -> Arc<Self> {
        let state = Mutex::new(FeedState { splicer: Splicer::new(), wanted: line, takes: 0, on: None });
        Arc::new(Self { state, outs, cuts: watch::channel(0).0 })
    }

    /// Changes whenever another source comes on.
    #[must_use]
    pub fn cuts(&self) -> watch::Receiver<u64> {
        self.cuts.subscribe()
    }

    /// Wants another line on, at its next keyframe.
    pub fn take(&self, line: u32) {
        lock(&self.state).wanted = line;
    }

    /// Says that nothing more will come.
    pub fn end(&self) {
        self.outs.iter().for_each(|o| o.end());
    }

    /// The present state.
    #[must_use]
    pub fn reading(&self) -> FeedReading {
        let s = lock(&self.state);
        FeedReading { on: s.on.map(|k| k.line), wanted: s.wanted, takes: s.takes }
    }

    fn push(&self, key: SourceKey, now: i64, payload: &Bytes) {
        let mut s = lock(&self.state);
        let wanted = key.line == s.wanted;
        if !wanted && s.on != Some(key) {
            return;
        }
        if wanted && s.on != Some(key) {
            s.splicer.take(key);
        }
        let (out, cut) = s.splicer.push(key, now, payload);
        let is_cut = cut.is_some();
        if let Some(cut) = cut {
            let changed = s.on.is_some_and(|old| old.line != cut.to.line);
            s.takes += u64::from(changed);
            s.on = Some(cut.to);
        }
        drop(s);
        if is_cut {
            self.cuts.send_modify(|n| *n += 1);
        }
        if !out.is_empty() {
            self.outs.iter().for_each(|o| o.push(out.clone()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_feed_carries_its_line_and_no_other() {
        let outlet = Outlet::new();
        let feed = FeedMedia::new(1, vec![outlet.clone()]);
        let lines = [LineMedia::new(0), LineMedia::new(1)];
        lines.iter().for_each(|l| l.attach(feed.clone()));
        let packet = Bytes::from(vec![0x47; 188]);
        lines[0].push(1, packet.clone());
        assert_eq!(feed.reading(), FeedReading { on: None, wanted: 1, takes: 0 });
        lines[1].push(1, packet);
        assert_eq!(feed.reading(), FeedReading { on: Some(1), wanted: 1, takes: 0 });
        assert_eq!(lines[1].reading().bytes, 188);
    }
}
