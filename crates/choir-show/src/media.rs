//! Lines and feeds as the media sees them: no task of their own, called on the task of the way in.

use bytes::Bytes;
use choir_core::{id::LineId, link::Link};
use choir_host::{
    clock::{steady_us, steady_us_at, unix_us},
    lock, read, write,
};
use choir_ports::{Arrival, Flow, Intake, Media, Outlet, UnitOutlet, takes_units};
use choir_proto::{
    legs::LegMerge,
    mux::ToTs,
    ts::{
        AccessUnit, Cut, Depth, Index, Lead, MediaInfo, Origin, PacketAligner, Piece, SourceKey, Splicer, TsChecker, TsCounters, TsFinding,
        TsMeter,
    },
    unit_splice::{UnitLead, UnitSplicer},
};
use std::{
    sync::{
        Arc, Mutex, RwLock,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Notify, oneshot};

/// One inbound contribution: parses it once, meters it and hands it to the feeds, in the shape that they want: the one in which it
/// does not come is made once, and only while somebody wants it.
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
    /// The transport stream of a source that comes in units.
    to_ts: ToTs,
    /// What the present session has sent just now, for a feed that takes it.
    lead: Lead,
    unit_lead: UnitLead,
    /// It comes in units.
    is_units: bool,
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
            to_ts: ToTs::default(),
            lead: Lead::default(),
            unit_lead: UnitLead::default(),
            is_units: false,
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
        // What is made here says nothing of the source.
        let counters = if s.is_units { TsCounters::default() } else { s.index.counters() };
        LineReading { info: s.meter.info(counters), begun: s.begun, last: s.last, bytes: s.bytes, session: s.session }
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
        (self.to_ts, self.unit_lead) = (ToTs::default(), UnitLead::default());
        self.is_units = matches!(arrival.media, Media::Units(..));
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
        self.meter.set_utc_offset(utc_offset);
        let (now, key) = (steady_us_at(arrival.at), SourceKey { line: line.0, session: arrival.session });
        let wants = |shape: fn(&FeedMedia) -> bool| feeds.iter().any(|f| shape(f));
        let wants_units = wants(FeedMedia::wants_units);
        match &arrival.media {
            Media::Ts(bytes) => {
                self.came(arrival);
                self.meter.set_depth(if wants_units { Depth::Units } else { Depth::Heads });
                self.transport_stream(key, now, bytes, feeds);
                while let Some(unit) = self.meter.poll_unit() {
                    self.unit(key, now, &unit, feeds);
                }
            }
            Media::Units(format, timed) => {
                if let Some(unit) = &timed.unit {
                    self.came(arrival);
                    self.meter.unit(now, format, unit);
                    if wants_units || self.tap.is_some() {
                        let unit = unit.joined(now, format);
                        self.tap_unit(&unit);
                        self.unit(key, now, &unit, feeds);
                    }
                }
                if wants(FeedMedia::wants_ts) || self.check.is_some() {
                    let bytes = self.to_ts.push(&arrival.media);
                    self.transport_stream(key, now, &bytes, feeds);
                }
            }
        }
    }

    fn came(&mut self, arrival: &Arrival) {
        self.begun.get_or_insert(arrival.at);
        self.last = Some(arrival.at);
        self.bytes += arrival.media.size() as u64;
    }

    /// A piece of the source's transport stream.
    fn transport_stream(&mut self, key: SourceKey, now: i64, bytes: &Bytes, feeds: &[Arc<FeedMedia>]) {
        self.check.iter_mut().for_each(|c| c.push(bytes));
        let meter = (!self.is_units).then_some(&mut self.meter);
        let tap = if self.is_units { &mut None } else { &mut self.tap };
        let (index, mut meter, lead) = (&mut self.index, meter, &mut self.lead);
        self.aligner.push(bytes, |part| {
            let piece = index.push(&part);
            meter.iter_mut().for_each(|m| m.push(now, &piece));
            if let Some(t) = tap {
                t.meter.push(now, &piece);
                while let Some(unit) = t.meter.poll_unit() {
                    t.take(&unit);
                }
                Tap::give_if_full(tap);
            }
            feeds.iter().filter(|f| f.wants_ts()).for_each(|feed| feed.push(key, now, &piece, lead));
            lead.push(now, &piece);
        });
    }

    /// A unit of the source.
    fn unit(&mut self, key: SourceKey, now: i64, unit: &AccessUnit, feeds: &[Arc<FeedMedia>]) {
        feeds.iter().filter(|f| f.wants_units()).for_each(|feed| feed.push_unit(key, now, unit, &self.unit_lead));
        self.unit_lead.push(now, unit);
    }

    fn tap_unit(&mut self, unit: &AccessUnit) {
        if let Some(tap) = &mut self.tap {
            tap.take(unit);
            Tap::give_if_full(&mut self.tap);
        }
    }
}

impl Tap {
    fn take(&mut self, unit: &AccessUnit) {
        if unit.kind.is_video() && (unit.keyframe || !self.units.is_empty()) {
            self.units.push(unit.clone());
        }
    }

    /// Ends it once it has all it wants, or nobody wants it any more.
    fn give_if_full(tap: &mut Option<Self>) {
        if let Some(done) = tap.take_if(|t| t.units.len() >= TAPPED || t.give.is_closed()) {
            // Whoever asked may have gone.
            let _ = done.give.send(done.units);
        }
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

/// Where a feed goes, in the shape that is wanted there.
#[derive(Clone)]
pub enum FeedOutlet {
    /// A transport stream.
    Ts(Arc<Outlet>),
    /// Units.
    Units(Arc<UnitOutlet>),
}

impl FeedOutlet {
    /// For ways out by this link.
    #[must_use]
    pub fn of(link: &Link) -> Self {
        if takes_units(link) { Self::Units(UnitOutlet::new()) } else { Self::Ts(Outlet::new()) }
    }

    /// What a way takes from.
    #[must_use]
    pub fn flow(&self) -> Flow {
        match self {
            Self::Ts(outlet) => Flow::Out(outlet.clone()),
            Self::Units(outlet) => Flow::Units(outlet.clone()),
        }
    }

    /// Pieces dropped for a full queue.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        match self {
            Self::Ts(outlet) => outlet.dropped(),
            Self::Units(outlet) => outlet.dropped(),
        }
    }
}

/// One output: chooses its line and hands the result to its ways out.
pub struct FeedMedia {
    state: Mutex<FeedState>,
    /// Which shapes its ways out want; without any it follows the transport stream.
    has_ts: AtomicBool,
    has_units: AtomicBool,
    /// Notified when another source is on.
    cut: Arc<Notify>,
}

struct FeedState {
    wanted: Option<u32>,
    splicer: Splicer,
    outs: Vec<Arc<Outlet>>,
    units: UnitSplicer,
    unit_outs: Vec<Arc<UnitOutlet>>,
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
        let (mut splicer, mut units) = (Splicer::new(), UnitSplicer::default());
        line.into_iter().for_each(|l| splicer.want(l.0));
        line.into_iter().for_each(|l| units.want(l.0));
        let (outs, unit_outs) = (Vec::new(), Vec::new());
        let state = FeedState { wanted: line.map(|l| l.0), splicer, outs, units, unit_outs, takes: 0, muted: false, asked: None };
        Arc::new(Self { state: Mutex::new(state), has_ts: true.into(), has_units: false.into(), cut })
    }

    /// Sends to one place more.
    pub fn add_out(&self, outlet: FeedOutlet) {
        let mut s = lock(&self.state);
        match outlet {
            FeedOutlet::Ts(outlet) => s.outs.push(outlet),
            FeedOutlet::Units(outlet) => s.unit_outs.push(outlet),
        }
        self.note_shapes(&mut s);
    }

    /// Sends to a place no longer.
    pub fn remove_out(&self, outlet: &FeedOutlet) {
        let mut s = lock(&self.state);
        match outlet {
            FeedOutlet::Ts(outlet) => s.outs.retain(|o| !Arc::ptr_eq(o, outlet)),
            FeedOutlet::Units(outlet) => s.unit_outs.retain(|o| !Arc::ptr_eq(o, outlet)),
        }
        self.note_shapes(&mut s);
    }

    /// A shape that nobody wants any more is begun anew when somebody does.
    fn note_shapes(&self, s: &mut FeedState) {
        let (ts, units) = (!s.by_units(), !s.unit_outs.is_empty());
        if !ts && self.has_ts.swap(ts, Ordering::AcqRel) {
            s.splicer = Splicer::new();
            s.wanted.into_iter().for_each(|line| s.splicer.want(line));
        }
        if !units && self.has_units.swap(units, Ordering::AcqRel) {
            s.units = UnitSplicer::default();
            s.wanted.into_iter().for_each(|line| s.units.want(line));
        }
        self.has_ts.store(ts, Ordering::Release);
        self.has_units.store(units, Ordering::Release);
    }

    /// Some way out takes a transport stream.
    #[must_use]
    pub fn wants_ts(&self) -> bool {
        self.has_ts.load(Ordering::Acquire)
    }

    /// Some way out takes units.
    #[must_use]
    pub fn wants_units(&self) -> bool {
        self.has_units.load(Ordering::Acquire)
    }

    /// Wants another line on, at its next keyframe; none ends what goes out.
    pub fn take(&self, line: Option<LineId>) {
        let mut s = lock(&self.state);
        let Some(line) = line else {
            s.muted = true;
            return;
        };
        s.wanted = Some(line.0);
        s.splicer.want(line.0);
        s.units.want(line.0);
        let on = s.on();
        s.muted &= on.is_none_or(|on| on.line != line.0);
        s.asked = on.is_some_and(|on| on.line != line.0).then(Instant::now);
    }

    /// Says that nothing more will come.
    pub fn end(&self) {
        let s = lock(&self.state);
        s.outs.iter().for_each(|o| o.end());
        s.unit_outs.iter().for_each(|o| o.end());
    }

    /// The present state.
    #[must_use]
    pub fn reading(&self) -> FeedReading {
        let s = lock(&self.state);
        FeedReading {
            on: s.on().map(|k| LineId(k.line)),
            wanted: s.wanted.map(LineId),
            takes: s.takes,
            waits: s.asked.map(|at| at.elapsed()),
        }
    }

    fn push(&self, key: SourceKey, now: i64, piece: &Piece<'_>, lead: &Lead) {
        let mut s = lock(&self.state);
        let before = s.splicer.on();
        let (out, cut) = s.splicer.push(key, now, piece, lead);
        let told = !s.by_units() && s.note_cut(before, cut);
        // Still locked: what another source gives next goes behind it.
        if !out.is_empty() && !s.muted {
            s.outs.iter().for_each(|o| o.push(out.clone()));
        }
        drop(s);
        if told {
            self.cut.notify_one();
        }
    }

    fn push_unit(&self, key: SourceKey, now: i64, unit: &AccessUnit, lead: &UnitLead) {
        let mut s = lock(&self.state);
        let (before, mut out) = (s.units.on(), Vec::new());
        let cut = s.units.push(key, now, unit, lead, &mut out);
        let told = s.by_units() && s.note_cut(before, cut);
        if !s.muted {
            for unit in out {
                s.unit_outs.iter().for_each(|o| o.push(unit.clone()));
            }
        }
        drop(s);
        if told {
            self.cut.notify_one();
        }
    }
}

impl FeedState {
    /// Its ways out all take units: then these say which line is on, otherwise the transport stream.
    fn by_units(&self) -> bool {
        self.outs.is_empty() && !self.unit_outs.is_empty()
    }

    fn on(&self) -> Option<SourceKey> {
        if self.by_units() { self.units.on() } else { self.splicer.on() }
    }

    /// Takes in a cut; true when there was one.
    fn note_cut(&mut self, before: Option<SourceKey>, cut: Option<Cut>) -> bool {
        let Some(cut) = cut else { return false };
        self.muted &= self.wanted != Some(cut.to.line);
        self.takes += u64::from(before.is_some_and(|old| old.line != cut.to.line));
        self.asked.take_if(|_| self.wanted == Some(cut.to.line));
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_feed_carries_its_line_and_no_other() {
        let outlet = Outlet::new();
        let feed = FeedMedia::new(Some(LineId(1)), Arc::default());
        feed.add_out(FeedOutlet::Ts(outlet.clone()));
        let lines = [LineMedia::new(LineId(0)), LineMedia::new(LineId(1))];
        lines.iter().for_each(|l| l.attach(feed.clone()));
        let packet = || Arrival::ts(1, Instant::now(), vec![0x47; 188].into());
        lines[0].arrive(&mut vec![packet()]);
        assert_eq!(feed.reading(), FeedReading { on: None, wanted: Some(LineId(1)), takes: 0, waits: None });
        lines[1].arrive(&mut vec![packet()]);
        assert_eq!(feed.reading(), FeedReading { on: Some(LineId(1)), wanted: Some(LineId(1)), takes: 0, waits: None });
        assert_eq!(lines[1].reading().bytes, 188);
    }
}
