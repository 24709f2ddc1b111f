//! A feed: chooses its line and hands the result to its ways out.

use choir_core::{id::LineId, link::Link};
use choir_host::lock;
use choir_ports::{Flow, Outlet, UnitOutlet, takes_units};
use choir_proto::{
    ts::{AccessUnit, Cut, Piece, Preroll, SourceKey, Splicer},
    unit_splice::{UnitPreroll, UnitSplicer},
};
use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::Notify;

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

    pub(super) fn push(&self, key: SourceKey, now: i64, piece: &Piece<'_>, preroll: &Preroll) {
        let mut s = lock(&self.state);
        let before = s.splicer.on();
        let (out, cut) = s.splicer.push(key, now, piece, preroll);
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

    pub(super) fn push_unit(&self, key: SourceKey, now: i64, unit: &AccessUnit, preroll: &UnitPreroll) {
        let mut s = lock(&self.state);
        let (before, mut out) = (s.units.on(), Vec::new());
        let cut = s.units.push(key, now, unit, preroll, &mut out);
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
