//! Lines and feeds as the media sees them: no task of their own, called on the task of the way in.

use choir_core::id::LineId;
use choir_host::{
    clock::{steady_us, steady_us_at, unix_us},
    lock, read, write,
};
use choir_ports::{Arrival, Intake, Outlet};
use choir_proto::{
    legs::LegMerge,
    ts::{AccessUnit, Depth, Index, Lead, MediaInfo, Origin, PacketAligner, Piece, SourceKey, Splicer, TsChecker, TsFinding, TsMeter},
};
use std::{
    sync::{Arc, Mutex, RwLock},
    time::{Duration, Instant},
};
use tokio::sync::{Notify, oneshot};

/// One inbound contribution: parses it once, meters it and hands it to the feeds.
pub struct LineMedia {
    id: LineId,
    source: Mutex<Source>,
    feeds: RwLock<Vec<Arc<FeedMedia>>>,
}

/// What comes in, and everything that looks at it.
struct Source {
    legs: LegMerge,
    aligner: PacketAligner,
    index: Index,
    meter: TsMeter,
    /// What the present session has sent just now, for a feed that takes it.
    lead: Lead,
    /// Somebody wants pictures.
    tap: Option<Tap>,
    /// The transport stream is examined, bytes outside packets as well.
    check: Option<TsChecker>,
    session: u32,
    /// When the present session's first piece came.
    begun: Option<Instant>,
    last: Option<Instant>,
    bytes: u64,
}

/// Gathers whole pictures from the next keyframe on.
struct Tap {
    meter: TsMeter,
    units: Vec<AccessUnit>,
    give: oneshot::Sender<Vec<AccessUnit>>,
}

/// Pictures that a tap gives: a decoder may hold some back.
const TAPPED: usize = 8;

/// A source that begins anew within this time of its last packet goes on as far as the meter is concerned: a file that repeats.
const GOES_ON: Duration = Duration::from_millis(500);

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
        let source = Source {
            legs: LegMerge::default(),
            aligner: PacketAligner::default(),
            index: Index::default(),
            meter: TsMeter::new(Depth::Heads),
            lead: Lead::default(),
            tap: None,
            check: None,
            session: 0,
            begun: None,
            last: None,
            bytes: 0,
        };
        Arc::new(Self { id, source: Mutex::new(source), feeds: RwLock::default() })
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
        lock(&self.source).tap = Some(Tap { meter: TsMeter::new(Depth::Units), units: Vec::new(), give });
        taken
    }

    /// Begins to examine the transport stream, anew if it is examined already; or ends it.
    pub fn examine(&self, on: bool) {
        lock(&self.source).check = on.then(|| TsChecker::new(Origin::Joined));
    }

    /// What has been found so far, while it is examined.
    #[must_use]
    pub fn findings(&self) -> Option<Vec<TsFinding>> {
        lock(&self.source).check.as_ref().map(TsChecker::findings)
    }

    /// The present reading.
    #[must_use]
    pub fn reading(&self) -> LineReading {
        let s = lock(&self.source);
        LineReading { info: s.meter.info(s.index.counters()), begun: s.begun, last: s.last, bytes: s.bytes, session: s.session }
    }
}

impl Source {
    /// The source begins anew when its session is another one.
    fn begin(&mut self, arrival: &Arrival) {
        if self.session == arrival.session {
            return;
        }
        self.session = arrival.session;
        (self.aligner, self.lead) = (PacketAligner::default(), Lead::default());
        if self.last.is_some_and(|last| arrival.at.saturating_duration_since(last) < GOES_ON) {
            self.index.restart();
            self.meter.restart();
        } else {
            (self.index, self.meter, self.begun) = (Index::default(), TsMeter::new(Depth::Heads), None);
        }
        self.check.iter_mut().for_each(TsChecker::restart);
        if let Some(tap) = &mut self.tap {
            tap.meter = TsMeter::new(Depth::Units);
            tap.units.clear();
        }
    }

    /// Takes one piece and gives it to the feeds.
    fn push(&mut self, line: LineId, utc_offset: i64, arrival: &Arrival, feeds: &[Arc<FeedMedia>]) {
        self.begin(arrival);
        self.begun.get_or_insert(arrival.at);
        self.last = Some(arrival.at);
        self.bytes += arrival.bytes.len() as u64;
        self.check.iter_mut().for_each(|c| c.push(&arrival.bytes));
        self.meter.set_utc_offset(utc_offset);
        let (now, key) = (steady_us_at(arrival.at), SourceKey { line: line.0, session: arrival.session });
        let (index, meter, lead, tap) = (&mut self.index, &mut self.meter, &mut self.lead, &mut self.tap);
        self.aligner.push(&arrival.bytes, |part| {
            let piece = index.push(&part);
            meter.push(now, &piece);
            if tap.as_mut().is_some_and(|t| t.is_full_with(now, &piece)) {
                // Whoever asked may have gone.
                tap.take().map(|t| t.give.send(t.units).is_ok());
            }
            feeds.iter().for_each(|feed| feed.push(key, now, &piece, lead));
            lead.push(now, &piece);
        });
    }
}

impl Tap {
    /// Takes what came; true when it has all it wants, or nobody wants it any more.
    fn is_full_with(&mut self, now: i64, piece: &Piece<'_>) -> bool {
        self.meter.push(now, piece);
        while let Some(unit) = self.meter.poll_unit() {
            if unit.kind.is_video() && (unit.keyframe || !self.units.is_empty()) {
                self.units.push(unit);
            }
        }
        self.units.len() >= TAPPED || self.give.is_closed()
    }
}

impl Intake for LineMedia {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let utc_offset = unix_us() - steady_us();
        let feeds = read(&self.feeds);
        let mut source = lock(&self.source);
        source.legs.merge(arrivals);
        for arrival in arrivals.drain(..) {
            source.push(self.id, utc_offset, &arrival, &feeds);
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

    fn push(&self, key: SourceKey, now: i64, piece: &Piece<'_>, lead: &Lead) {
        let mut s = lock(&self.state);
        let before = s.splicer.on();
        let (out, cut) = s.splicer.push(key, now, piece, lead);
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
        let packet = || Arrival::new(1, Instant::now(), vec![0x47; 188].into());
        lines[0].arrive(&mut vec![packet()]);
        assert_eq!(feed.reading(), FeedReading { on: None, wanted: Some(LineId(1)), takes: 0, waits: None });
        lines[1].arrive(&mut vec![packet()]);
        assert_eq!(feed.reading(), FeedReading { on: Some(LineId(1)), wanted: Some(LineId(1)), takes: 0, waits: None });
        assert_eq!(lines[1].reading().bytes, 188);
    }
}
