//! A line: parses what comes in once, and gives it to feeds in the shape that they want.

use super::feed::{FeedMedia, changes, note_change};
use bytes::Bytes;
use choir_core::id::LineId;
use choir_host::{
    clock::{at_steady_us, steady_us, steady_us_at, unix_us},
    lock, read, write,
};
use choir_ports::{Arrival, Intake, Media};
use choir_proto::{
    legs::LegMerge,
    mux::ToTs,
    ts::{
        AccessUnit, Depth, Index, MediaInfo, Origin, PacketAligner, Preroll, Recent, Sent, Since, SourceKey, TsChecker, TsCounters,
        TsFinding, TsMeter,
    },
    unit_splice::UnitPreroll,
};
use std::{
    sync::{Arc, Mutex, RwLock},
    time::{Duration, Instant},
};
use tokio::sync::{mpsc, oneshot, watch};

/// One inbound contribution: parses it once, meters it and hands it to the feeds, in the shape that
/// they want: the one in which it does not come is made once, and only while somebody wants it.
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
    preroll: Preroll,
    unit_preroll: UnitPreroll,
    /// It comes in units.
    is_units: bool,
    /// Somebody wants pictures.
    tap: Option<Tap>,
    /// Somebody looks at pictures, or a feed may take it at once: what has come since the last
    /// keyframe is kept.
    recent: Option<Recent>,
    /// Who they are.
    kept_for: [bool; 2],
    /// Rung with each keyframe that is kept.
    keyframes: watch::Sender<()>,
    /// Who takes everything that comes, later.
    followers: Vec<mpsc::Sender<Arrival>>,
    /// The transport stream is examined, bytes outside packets as well.
    check: Option<TsChecker>,
    /// When the wall clock was last compared with the steady one.
    clocks_read: Option<i64>,
    takers: Takers,
    /// It is a clip that begins with each take.
    is_clip: bool,
    session: u32,
    /// When the present session's first piece came.
    begun: Option<Instant>,
    last: Option<Instant>,
    bytes: u64,
}

/// What feeds take of a line, as of a change.
#[derive(Default)]
struct Takers {
    changes: u64,
    /// Feeds that carry it, or are to.
    feeds: Vec<Arc<FeedMedia>>,
    /// Some feed wants this shape, of this line or of another: what it would need for a take is
    /// kept.
    ts: bool,
    units: bool,
}

impl Takers {
    fn of(line: LineId, all: &[Arc<FeedMedia>], changes: u64) -> Self {
        Self {
            changes,
            feeds: all.iter().filter(|f| f.is_of(line)).cloned().collect(),
            ts: all.iter().any(|f| f.wants_ts()),
            units: all.iter().any(|f| f.wants_units()),
        }
    }
}

/// Gathers whole pictures from the next keyframe on.
struct Tap {
    meter: TsMeter,
    units: Vec<AccessUnit>,
    tx: oneshot::Sender<Vec<AccessUnit>>,
}

/// Pictures that a tap gives: a decoder may hold some back.
const TAPPED: usize = 8;

/// A source that begins anew within this time of its last packet goes on, as far as what is
/// measured is concerned: a file that repeats.
const GOES_ON: Duration = Duration::from_millis(500);

/// How often the wall clock is compared with the steady one, for times in the media.
const CLOCKS_EVERY_US: i64 = 100_000;

/// Arrivals that may wait to be taken later: seconds of any line.
const FOLLOWED_MOST: usize = 1 << 17;

/// What a line has sent since somebody looked last.
pub struct RecentSent {
    /// Of this session.
    pub session: u32,
    /// What it was.
    pub since: Since,
}

/// Why what has come since the last keyframe is kept.
#[derive(Debug, Clone, Copy)]
pub enum KeptFor {
    /// Somebody looks at pictures.
    Looking,
    /// A feed may take it at once.
    Takes,
}

/// What a line has sent since its last keyframe and shortly before it, and what it sends from now
/// on.
pub struct FromKeyframe {
    /// Never empty.
    pub sent: Vec<Arrival>,
    /// The keyframe begins with this one.
    pub keyframe: usize,
    /// What comes from now on.
    pub more: mpsc::Receiver<Arrival>,
}

/// What a line has seen.
pub struct LineReading {
    /// The media.
    pub info: MediaInfo,
    /// When the first piece of this session came; of a source that went on at once, of the one
    /// before.
    pub begun: Option<Instant>,
    /// When the last piece came.
    pub last: Option<Instant>,
    /// Bytes so far, over all sessions.
    pub bytes: u64,
    /// Present session.
    pub session: u32,
}

impl LineReading {
    /// For how long nothing has come of the session that the port counts as `sessions`; `None`
    /// where nothing of it has come. A source that begins anew goes on until it is late.
    #[must_use]
    pub fn quiet(&self, sessions: u32, now: Instant) -> Option<Duration> {
        let quiet = now.saturating_duration_since(self.last?);
        (self.session == sessions || quiet < GOES_ON).then_some(quiet)
    }
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
            preroll: Preroll::default(),
            unit_preroll: UnitPreroll::default(),
            is_units: false,
            tap: None,
            recent: None,
            kept_for: [false; 2],
            keyframes: watch::channel(()).0,
            followers: Vec::new(),
            check: None,
            clocks_read: None,
            takers: Takers::default(),
            is_clip: false,
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
        note_change();
    }

    /// No longer lets a feed take from it.
    pub fn detach(&self, feed: &Arc<FeedMedia>) {
        write(&self.feeds).retain(|f| !Arc::ptr_eq(f, feed));
        note_change();
    }

    /// The next keyframe with some pictures behind it. Asking again ends an earlier question.
    pub fn pictures(&self) -> oneshot::Receiver<Vec<AccessUnit>> {
        let (tx, rx) = oneshot::channel();
        lock(&self.source).tap = Some(Tap { meter: TsMeter::new(Depth::Units), units: Vec::new(), tx });
        rx
    }

    /// Keeps what has come since the last keyframe from now on, or no longer.
    pub fn keep_recent(&self, whose: KeptFor, on: bool) {
        let mut s = lock(&self.source);
        s.kept_for[whose as usize] = on;
        let on = s.kept_for.contains(&true);
        if on != s.recent.is_some() {
            s.recent = on.then(Recent::default);
        }
    }

    /// It begins with each take, and comes on with its first keyframe.
    pub fn set_clip(&self, is_clip: bool) {
        lock(&self.source).is_clip = is_clip;
    }

    /// Changes with each keyframe, while it is kept.
    #[must_use]
    pub fn keyframes(&self) -> watch::Receiver<()> {
        lock(&self.source).keyframes.subscribe()
    }

    /// All that is kept, and all that comes from now on; none without a keyframe.
    #[must_use]
    pub fn from_keyframe(&self) -> Option<FromKeyframe> {
        let mut s = lock(&self.source);
        let (sent, keyframe) = s.recent.as_ref()?.group()?;
        let session = s.session;
        let arrival = |(at, sent)| {
            let media = match sent {
                Sent::Packets(bytes) => Media::Ts(bytes),
                Sent::Unit(format, timed) => Media::Units(format, timed),
            };
            Arrival::new(session, at_steady_us(at), media)
        };
        let (tx, more) = mpsc::channel(FOLLOWED_MOST);
        s.followers.push(tx);
        Some(FromKeyframe { sent: sent.into_iter().map(arrival).collect(), keyframe, more })
    }

    /// What has come since `place`, a session and a number that was told before; from the last
    /// keyframe on where that is not kept.
    #[must_use]
    pub fn since(&self, place: Option<(u32, u64)>) -> RecentSent {
        let s = lock(&self.source);
        let from = place.filter(|(session, _)| *session == s.session).map(|(_, n)| n);
        let since = s.recent.as_ref().map(|r| r.since(from, s.preroll.tables().as_ref())).unwrap_or_default();
        RecentSent { session: s.session, since }
    }

    /// Begins to examine the transport stream, anew if it is examined already; or ends it.
    pub fn examine(&self, on: bool) {
        lock(&self.source).check = on.then(|| TsChecker::new(Origin::Joined));
    }

    /// Somebody waits for pictures of it, or it is examined.
    #[must_use]
    pub fn is_looked_into(&self) -> bool {
        let s = lock(&self.source);
        s.check.is_some() || s.tap.as_ref().is_some_and(|t| !t.tx.is_closed())
    }

    /// What has been found so far, while it is examined.
    #[must_use]
    pub fn findings(&self) -> Option<Vec<TsFinding>> {
        lock(&self.source).check.as_ref().map(TsChecker::findings)
    }

    /// Packets of transport stream that were read or made.
    #[cfg(test)]
    pub(super) fn packets_made(&self) -> u64 {
        lock(&self.source).index.counters().packets
    }

    /// The present reading.
    #[must_use]
    pub fn reading(&self) -> LineReading {
        let s = lock(&self.source);
        // What is made here says nothing of the source.
        let counters = if s.is_units { TsCounters::default() } else { s.index.counters() };
        LineReading { info: s.meter.info(counters), begun: s.begun, last: s.last, bytes: s.bytes, session: s.session }
    }

    /// When the last piece came.
    pub fn last(&self) -> Option<Instant> {
        lock(&self.source).last
    }
}

impl Source {
    /// The source begins anew when its session is another one.
    fn begin(&mut self, arrival: &Arrival) {
        if self.session == arrival.session {
            return;
        }
        self.session = arrival.session;
        let (ts, units) = if self.is_clip { (Preroll::whole(), UnitPreroll::whole()) } else { Default::default() };
        (self.aligner, self.preroll) = (PacketAligner::default(), ts);
        (self.to_ts, self.unit_preroll) = (ToTs::default(), units);
        self.recent.iter_mut().for_each(|r| *r = Recent::default());
        self.is_units = matches!(arrival.media, Media::Units(..));
        if self.last.is_some_and(|last| arrival.at.saturating_duration_since(last) < GOES_ON) {
            self.index.restart();
            self.meter.restart();
        } else {
            (self.index, self.meter, self.begun) = (Index::default(), TsMeter::new(Depth::Heads), None);
            self.clocks_read = None;
        }
        self.check.iter_mut().for_each(TsChecker::restart);
        if let Some(tap) = &mut self.tap {
            tap.meter = TsMeter::new(Depth::Units);
            tap.units.clear();
        }
    }

    /// Takes one piece and gives it to the feeds.
    fn push(&mut self, line: LineId, arrival: &Arrival, takers: &Takers) {
        self.begin(arrival);
        // Whoever does not keep up has no use for the rest.
        self.followers.retain(|f| f.try_send(arrival.clone()).is_ok());
        let (now, key) = (steady_us_at(arrival.at), SourceKey { line: line.0, session: arrival.session });
        if self.clocks_read.is_none_or(|read| now - read >= CLOCKS_EVERY_US) {
            self.clocks_read = Some(now);
            self.meter.set_utc_offset(unix_us() - steady_us());
        }
        let feeds = &takers.feeds;
        match &arrival.media {
            Media::Ts(bytes) => {
                self.came(arrival);
                self.meter.set_depth(if takers.units { Depth::Units } else { Depth::Heads });
                self.transport_stream(key, now, bytes, feeds);
                while let Some(unit) = self.meter.poll_unit() {
                    self.unit(key, now, &unit, feeds);
                }
            }
            Media::Units(format, timed) => {
                if self.recent.as_mut().is_some_and(|recent| recent.push_unit(now, format, timed)) {
                    self.keyframes.send_replace(());
                }
                if let Some(unit) = &timed.unit {
                    self.came(arrival);
                    self.meter.unit(now, format, unit);
                    if takers.units || self.tap.is_some() {
                        let unit = unit.joined(now, format);
                        self.tap_unit(&unit);
                        self.unit(key, now, &unit, feeds);
                    }
                }
                if takers.ts || self.check.is_some() {
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
        let recent = if self.is_units { &mut None } else { &mut self.recent };
        let (index, mut meter, preroll, keyframes) = (&mut self.index, meter, &mut self.preroll, &self.keyframes);
        self.aligner.push(bytes, |part| {
            let piece = index.push(&part);
            meter.iter_mut().for_each(|m| m.push(now, &piece));
            if let Some(t) = tap {
                t.meter.push(now, &piece);
                while let Some(unit) = t.meter.poll_unit() {
                    t.take(&unit);
                }
                Tap::send_if_full(tap);
            }
            feeds.iter().filter(|f| f.wants_ts()).for_each(|feed| feed.push(key, now, &piece, preroll));
            preroll.push(now, &piece);
            if recent.as_mut().is_some_and(|recent| recent.push(now, &piece)) {
                keyframes.send_replace(());
            }
        });
    }

    /// A unit of the source.
    fn unit(&mut self, key: SourceKey, now: i64, unit: &AccessUnit, feeds: &[Arc<FeedMedia>]) {
        feeds.iter().filter(|f| f.wants_units()).for_each(|feed| feed.push_unit(key, now, unit, &self.unit_preroll));
        self.unit_preroll.push(now, unit);
    }

    fn tap_unit(&mut self, unit: &AccessUnit) {
        if let Some(tap) = &mut self.tap {
            tap.take(unit);
            Tap::send_if_full(&mut self.tap);
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
    fn send_if_full(tap: &mut Option<Self>) {
        if let Some(done) = tap.take_if(|t| t.units.len() >= TAPPED || t.tx.is_closed()) {
            // Whoever asked may have gone.
            let _ = done.tx.send(done.units);
        }
    }
}

impl Intake for LineMedia {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let mut source = lock(&self.source);
        let changes = changes();
        if source.takers.changes != changes {
            source.takers = Takers::of(self.id, &read(&self.feeds), changes);
        }
        source.legs.merge(arrivals);
        let takers = std::mem::take(&mut source.takers);
        for arrival in arrivals.drain(..) {
            source.push(self.id, &arrival, &takers);
        }
        source.takers = takers;
    }
}
