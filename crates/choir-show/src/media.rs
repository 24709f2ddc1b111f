//! Lines and feeds as the media sees them: no task of their own, called on the task of the way in.

use bytes::Bytes;
use choir_core::id::LineId;
use choir_host::{
    clock::{steady_us, unix_us},
    lock, read, write,
};
use choir_ports::{Intake, Outlet};
use choir_proto::ts::{
    AccessUnit, Aligned, Depth, Lead, MediaInfo, Origin, PacketAligner, SourceKey, Splicer, TsChecker, TsFinding, TsReader,
};
use std::{
    sync::{
        Arc, Mutex, RwLock,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Notify, oneshot};

/// One inbound contribution: meters it and hands it to the feeds.
pub struct LineMedia {
    id: LineId,
    meter: Mutex<Meter>,
    feeds: RwLock<Vec<Arc<FeedMedia>>>,
    /// What the present session has sent just now, for a feed that takes it.
    lead: Mutex<(u32, Lead)>,
    /// Set while somebody wants pictures, so that nobody else pays for it.
    tapped: AtomicBool,
    tap: Mutex<Option<Tap>>,
    /// Set while the transport stream is examined; likewise.
    examined: AtomicBool,
    check: Mutex<Option<(u32, TsChecker)>>,
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

/// A source that begins anew within this time of its last packet goes on as far as the meter is concerned: a file that repeats.
const GOES_ON: Duration = Duration::from_millis(500);

struct Meter {
    reader: TsReader,
    aligner: PacketAligner,
    session: u32,
    /// When the present session's first piece came.
    begun: Option<Instant>,
    last: Option<Instant>,
    bytes: u64,
}

/// What a line has seen.
pub struct LineReading {
    /// The media.
    pub info: MediaInfo,
    /// When the first piece of this session came; of a source that went on at once, of the one before.
    pub begun: Option<Instant>,
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
    pub fn new(id: LineId) -> Arc<Self> {
        let (reader, aligner) = (TsReader::new(Depth::Heads), PacketAligner::default());
        let meter = Meter { reader, aligner, session: 0, begun: None, last: None, bytes: 0 };
        Arc::new(Self {
            id,
            meter: Mutex::new(meter),
            feeds: RwLock::default(),
            lead: Mutex::default(),
            tapped: AtomicBool::new(false),
            tap: Mutex::default(),
            examined: AtomicBool::new(false),
            check: Mutex::default(),
        })
    }

    /// Lets a feed take from it.
    pub fn attach(&self, feed: Arc<FeedMedia>) {
        write(&self.feeds).push(feed);
    }

    /// No longer lets a feed take from it.
    pub fn detach(&self, feed: &Arc<FeedMedia>) {
        write(&self.feeds).retain(|f| !Arc::ptr_eq(f, feed));
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

    /// Begins to examine the transport stream, anew if it is examined already; or ends it.
    pub fn examine(&self, on: bool) {
        *lock(&self.check) = on.then(|| (0, TsChecker::new(Origin::Joined)));
        self.examined.store(on, Ordering::Release);
    }

    /// What has been found so far, while it is examined.
    #[must_use]
    pub fn findings(&self) -> Option<Vec<TsFinding>> {
        lock(&self.check).as_ref().map(|(_, checker)| checker.findings())
    }

    fn check(&self, session: u32, payload: &Bytes) {
        if let Some((of, checker)) = lock(&self.check).as_mut() {
            if *of != session && std::mem::replace(of, session) != 0 {
                checker.restart();
            }
            checker.push(payload);
        }
    }

    /// The present reading.
    #[must_use]
    pub fn reading(&self) -> LineReading {
        let m = lock(&self.meter);
        LineReading { info: m.reader.info(), begun: m.begun, last: m.last, bytes: m.bytes, session: m.session }
    }
}

impl Meter {
    /// Counts a piece that came at `now` and cuts it at packet borders.
    fn push(&mut self, session: u32, now: i64, payload: &Bytes) -> SmallParts {
        let at = Instant::now();
        if self.session != session {
            self.session = session;
            self.aligner = PacketAligner::default();
            if self.last.is_some_and(|last| at - last < GOES_ON) {
                self.reader.restart();
            } else {
                (self.reader, self.begun) = (TsReader::new(Depth::Heads), None);
            }
        }
        self.reader.set_utc_offset(unix_us() - now);
        self.reader.push(now, payload);
        self.begun.get_or_insert(at);
        self.last = Some(at);
        self.bytes += payload.len() as u64;
        let mut parts = SmallParts::default();
        self.aligner.push(payload, |part| parts.push(part));
        parts
    }
}

/// Nearly always one.
#[derive(Default)]
struct SmallParts {
    first: Option<Aligned>,
    more: Vec<Aligned>,
}

impl SmallParts {
    fn push(&mut self, part: Aligned) {
        match self.first {
            None => self.first = Some(part),
            Some(_) => self.more.push(part),
        }
    }
}

impl Intake for LineMedia {
    fn push(&self, session: u32, payload: Bytes) {
        let now = steady_us();
        let parts = lock(&self.meter).push(session, now, &payload);
        if self.tapped.load(Ordering::Acquire) {
            self.fill_tap(session, now, &payload);
        }
        if self.examined.load(Ordering::Acquire) {
            self.check(session, &payload);
        }
        let key = SourceKey { line: self.id.0, session };
        let feeds = read(&self.feeds);
        if feeds.is_empty() {
            return;
        }
        let mut lead = lock(&self.lead);
        if lead.0 != session {
            *lead = (session, Lead::default());
        }
        for part in parts.first.iter().chain(&parts.more) {
            feeds.iter().for_each(|feed| feed.push(key, now, part, &lead.1));
            if let Aligned::Packets(bytes) = part {
                lead.1.push(now, bytes);
            }
        }
    }
}

/// One output: chooses its line and hands the result to its ways out.
pub struct FeedMedia {
    state: Mutex<FeedState>,
    /// Notified when another source is on.
    cut: Arc<Notify>,
}

struct FeedState {
    splicer: Splicer,
    outs: Vec<Arc<Outlet>>,
    takes: u64,
    /// Nothing goes out, until the wanted line is on.
    muted: bool,
    /// When a line that is not on was asked for.
    asked: Option<Instant>,
}

/// How a feed stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FeedReading {
    /// Line that is on.
    pub on: Option<LineId>,
    /// Line that is wanted.
    pub wanted: Option<LineId>,
    /// Changes of line made.
    pub takes: u64,
    /// How long another line than the one that is on has been wanted.
    pub waits: Option<Duration>,
}

impl FeedReading {
    /// The line that is on; before any is, the one that is wanted.
    #[must_use]
    pub fn line(&self) -> Option<LineId> {
        self.on.or(self.wanted)
    }
}

impl FeedMedia {
    /// A feed that starts with a line, or with none. `cut` is notified when another source comes on.
    #[must_use]
    pub fn new(line: Option<LineId>, cut: Arc<Notify>) -> Arc<Self> {
        let mut splicer = Splicer::new();
        line.into_iter().for_each(|l| splicer.want(l.0));
        let state = Mutex::new(FeedState { splicer, outs: Vec::new(), takes: 0, muted: false, asked: None });
        Arc::new(Self { state, cut })
    }

    /// Sends to one place more.
    pub fn add_out(&self, outlet: Arc<Outlet>) {
        lock(&self.state).outs.push(outlet);
    }

    /// Sends to a place no longer.
    pub fn remove_out(&self, outlet: &Arc<Outlet>) {
        lock(&self.state).outs.retain(|o| !Arc::ptr_eq(o, outlet));
    }

    /// Wants another line on, at its next keyframe; none ends what goes out.
    pub fn take(&self, line: Option<LineId>) {
        let mut s = lock(&self.state);
        let Some(line) = line else {
            s.muted = true;
            return;
        };
        s.splicer.want(line.0);
        s.muted &= s.splicer.on().is_none_or(|on| on.line != line.0);
        s.asked = s.splicer.on().is_some_and(|on| on.line != line.0).then(Instant::now);
    }

    /// Says that nothing more will come.
    pub fn end(&self) {
        lock(&self.state).outs.iter().for_each(|o| o.end());
    }

    /// The present state.
    #[must_use]
    pub fn reading(&self) -> FeedReading {
        let s = lock(&self.state);
        FeedReading {
            on: s.splicer.on().map(|k| LineId(k.line)),
            wanted: s.splicer.wanted().map(LineId),
            takes: s.takes,
            waits: s.asked.map(|at| at.elapsed()),
        }
    }

    fn push(&self, key: SourceKey, now: i64, part: &Aligned, lead: &Lead) {
        let mut s = lock(&self.state);
        let before = s.splicer.on();
        let (out, cut) = match part {
            Aligned::Packets(bytes) => s.splicer.push(key, now, bytes, lead),
            // Other media goes through as it comes, as long as nothing is put in its place.
            Aligned::Other(bytes) if s.splicer.passes_other(key) => s.splicer.push(key, now, bytes, lead),
            Aligned::Other(_) => return,
        };
        if let Some(cut) = cut {
            s.muted &= s.splicer.wanted() != Some(cut.to.line);
            s.takes += u64::from(before.is_some_and(|old| old.line != cut.to.line));
            let asked = s.asked.filter(|_| s.splicer.wanted() != Some(cut.to.line));
            s.asked = asked;
        }
        // Still locked: what another source gives next goes behind it.
        if !out.is_empty() && !s.muted {
            s.outs.iter().for_each(|o| o.push(out.clone()));
        }
        drop(s);
        if cut.is_some() {
            self.cut.notify_one();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_feed_carries_its_line_and_no_other() {
        let outlet = Outlet::new();
        let feed = FeedMedia::new(Some(LineId(1)), Arc::default());
        feed.add_out(outlet.clone());
        let lines = [LineMedia::new(LineId(0)), LineMedia::new(LineId(1))];
        lines.iter().for_each(|l| l.attach(feed.clone()));
        let packet = Bytes::from(vec![0x47; 188]);
        lines[0].push(1, packet.clone());
        assert_eq!(feed.reading(), FeedReading { on: None, wanted: Some(LineId(1)), takes: 0, waits: None });
        lines[1].push(1, packet);
        assert_eq!(feed.reading(), FeedReading { on: Some(LineId(1)), wanted: Some(LineId(1)), takes: 0, waits: None });
        assert_eq!(lines[1].reading().bytes, 188);
    }
}
