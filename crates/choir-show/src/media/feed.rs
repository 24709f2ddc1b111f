//! A feed: chooses its line and hands the result to its ways out.

use super::compose::{Compose, SoundChoice, SoundFrom};
use choir_core::id::LineId;
use choir_host::lock;
use choir_ports::{AnyOutlet, Outlet, UnitOutlet};
use choir_proto::{
    ts::{AccessUnit, Cut, Piece, Preroll, SourceKey, Splicer},
    unit_splice::{UnitPreroll, UnitSplicer},
};
use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::Notify;

/// Counts changes of what any feed takes: of lines and of shapes. A line looks at its feeds again
/// when it has grown, instead of asking each of them for each packet.
static CHANGES: AtomicU64 = AtomicU64::new(1);

pub(super) fn changes() -> u64 {
    CHANGES.load(Ordering::Acquire)
}

pub(super) fn note_change() {
    CHANGES.fetch_add(1, Ordering::AcqRel);
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

#[derive(Default)]
struct FeedState {
    /// The splicers are told with each piece.
    wanted: Option<u32>,
    splicer: Splicer,
    outs: Vec<Arc<Outlet>>,
    units: UnitSplicer,
    unit_outs: Vec<Arc<UnitOutlet>>,
    /// Its sound is not simply that of its picture: both shapes are made of units then.
    compose: Option<Compose>,
    takes: u64,
    /// Nothing goes out, until the wanted line is on.
    muted: bool,
    /// When a line that is not on was asked for.
    asked: Option<Instant>,
    /// When something went out last, µs on the clock of the media.
    gave: Option<i64>,
    /// How long nothing had gone out before the last take.
    gap: Duration,
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
    /// How long nothing had gone out before the last take.
    pub gap: Duration,
}

impl FeedReading {
    /// The line that is on; before any is, the one that is wanted.
    #[must_use]
    pub fn line(&self) -> Option<LineId> {
        self.on.or(self.wanted)
    }
}

impl FeedMedia {
    /// A feed that starts with a line, or with none. `cut` is notified when another source comes
    /// on.
    #[must_use]
    pub fn new(line: Option<LineId>, cut: Arc<Notify>) -> Arc<Self> {
        let state = FeedState { wanted: line.map(|l| l.0), ..FeedState::default() };
        Arc::new(Self { state: Mutex::new(state), has_ts: true.into(), has_units: false.into(), cut })
    }

    /// Where its sound comes from, from now on.
    pub fn set_sound(&self, choice: SoundChoice) {
        let mut s = lock(&self.state);
        if s.compose.as_ref().map(Compose::choice).unwrap_or_default() == choice {
            return;
        }
        s.compose = (!choice.is_plain()).then(|| Compose::new(choice));
        self.note_shapes(&mut s);
    }

    /// Sends to one place more.
    pub fn add_out(&self, outlet: AnyOutlet) {
        let mut s = lock(&self.state);
        match outlet {
            AnyOutlet::Ts(outlet) => s.outs.push(outlet),
            AnyOutlet::Units(outlet) => s.unit_outs.push(outlet),
        }
        self.note_shapes(&mut s);
    }

    /// Sends to a place no longer.
    pub fn remove_out(&self, outlet: &AnyOutlet) {
        let mut s = lock(&self.state);
        match outlet {
            AnyOutlet::Ts(outlet) => s.outs.retain(|o| !Arc::ptr_eq(o, outlet)),
            AnyOutlet::Units(outlet) => s.unit_outs.retain(|o| !Arc::ptr_eq(o, outlet)),
        }
        self.note_shapes(&mut s);
    }

    /// A shape that nobody wants any more is begun anew when somebody does.
    fn note_shapes(&self, s: &mut FeedState) {
        let (ts, units) = (!s.by_units(), !s.unit_outs.is_empty() || s.compose.is_some());
        if !ts && self.has_ts.swap(ts, Ordering::AcqRel) {
            s.splicer = Splicer::new();
        }
        if !units && self.has_units.swap(units, Ordering::AcqRel) {
            s.units = UnitSplicer::default();
        }
        self.has_ts.store(ts, Ordering::Release);
        self.has_units.store(units, Ordering::Release);
        note_change();
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
        let on = s.on();
        s.muted &= on.is_none_or(|on| on.line != line.0);
        s.asked = on.is_some_and(|on| on.line != line.0).then(Instant::now);
        note_change();
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
            gap: s.gap,
        }
    }

    /// Its picture is of this line in some shape, or is to be.
    pub fn carries(&self, line: LineId) -> bool {
        lock(&self.state).carries(line)
    }

    /// It takes something of this line: otherwise it needs nothing of it.
    pub(super) fn is_of(&self, line: LineId) -> bool {
        let s = lock(&self.state);
        s.compose.as_ref().is_some_and(|c| c.hears(line.0)) || s.carries(line)
    }

    pub(super) fn push(&self, key: SourceKey, now: i64, piece: &Piece<'_>, preroll: &Preroll) {
        let mut s = lock(&self.state);
        let (before, wanted) = (s.splicer.on(), s.wanted);
        let (out, cut) = s.splicer.push(wanted, key, now, piece, preroll);
        let leads = !s.by_units();
        let told = s.note_given(leads, now, before, cut, !out.is_empty());
        // Still locked: what another source gives next goes behind it.
        if !out.is_empty() && !s.muted {
            s.outs.iter().for_each(|o| o.push_at(now, out.clone()));
        }
        drop(s);
        if told {
            self.cut.notify_one();
        }
    }

    pub(super) fn push_unit(&self, key: SourceKey, now: i64, unit: &AccessUnit, preroll: &UnitPreroll) {
        let mut s = lock(&self.state);
        let (before, wanted, mut given, mut out) = (s.units.on(), s.wanted, Vec::new(), Vec::new());
        let mut spliced = true;
        if let Some(compose) = &mut s.compose {
            if compose.hears(key.line) {
                compose.heard(now, key.session, unit, &mut out);
            }
            spliced = unit.kind.is_video() || compose.choice().from == SoundFrom::Picture;
        }
        let cut = if spliced { s.units.push(wanted, key, now, unit, preroll, &mut given) } else { None };
        let leads = s.by_units();
        let told = s.note_given(leads, now, before, cut, !given.is_empty());
        match &mut s.compose {
            Some(compose) => given.into_iter().for_each(|unit| compose.spliced(now, unit, &mut out)),
            None => out = given,
        }
        if !s.muted {
            for unit in out {
                let made = s.compose.as_mut().map(|c| c.ts(now, &unit)).filter(|ts| !ts.is_empty());
                made.iter().for_each(|ts| s.outs.iter().for_each(|o| o.push_at(now, ts.clone())));
                s.unit_outs.iter().for_each(|o| o.push_at(now, unit.clone()));
            }
        }
        drop(s);
        if told {
            self.cut.notify_one();
        }
    }
}

impl FeedState {
    fn carries(&self, line: LineId) -> bool {
        self.wanted == Some(line.0) || self.splicer.holds(line.0) || self.units.holds(line.0)
    }

    /// Its ways out all take units, or what they take is made of units: then these say which line
    /// is on, otherwise the transport stream.
    fn by_units(&self) -> bool {
        self.compose.is_some() || self.outs.is_empty() && !self.unit_outs.is_empty()
    }

    fn on(&self) -> Option<SourceKey> {
        if self.by_units() { self.units.on() } else { self.splicer.on() }
    }

    /// Takes in what one shape gives at `now`; true when there was a cut, and `leads`: this shape
    /// says which line is on.
    fn note_given(&mut self, leads: bool, now: i64, before: Option<SourceKey>, cut: Option<Cut>, gives: bool) -> bool {
        let told = self.note_cut(leads, now, before, cut);
        if leads && gives {
            self.gave = Some(now);
        }
        told
    }

    fn note_cut(&mut self, leads: bool, now: i64, before: Option<SourceKey>, cut: Option<Cut>) -> bool {
        let Some(cut) = cut else { return false };
        let is_take = before.is_some_and(|old| old.line != cut.to.line);
        if is_take {
            note_change();
        }
        if leads {
            let is_wanted = self.wanted == Some(cut.to.line);
            self.muted &= !is_wanted;
            self.takes += u64::from(is_take);
            if is_take {
                self.gap = self.gave.map_or(Duration::ZERO, |gave| Duration::from_micros((now - gave).max(0) as u64));
            }
            self.asked.take_if(|_| is_wanted);
        }
        leads
    }
}
