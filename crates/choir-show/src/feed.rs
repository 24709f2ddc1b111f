//! One feed of a running show, and its ways out.

use crate::{
    behind::LinesBehind,
    bus::Bus,
    encode::Encoding,
    media::FeedMedia,
    meter::{Beside, Drops, Judged, Meter},
    slate::Slate,
};
use choir_core::{
    director::Director,
    facts::{Direction, EventKind},
    id::{FeedId, LineId, OutId, Subject},
    link::{Link, show_url},
    model::{Encode, Feed, FeedSound, Standby, WayOut},
    units::{in_ms, say_duration},
    view::{ConfirmView, FeedView, LineView, LinkView, SpanView, StandInView},
    words::{Names, unfit_words},
};
use choir_host::{clock::unix_ms, lock, read, write};
use choir_ports::{AnyOutlet, LinkStatus, OpenWay, UnitOutlet};
use std::{
    path::Path,
    sync::{Arc, Mutex, RwLock},
    time::{Duration, Instant},
};

/// A take that waits for its keyframe is told again after this time, and each time it has passed
/// once more.
const TAKE_WAITS: Duration = Duration::from_secs(10);

/// A feed.
pub(crate) struct FeedRun {
    pub id: FeedId,
    pub media: Arc<FeedMedia>,
    /// The small picture of the same, where it is offered.
    pub sub: Option<(Arc<FeedMedia>, Arc<UnitOutlet>)>,
    /// Its entry in the sheet.
    pub entry: Mutex<Feed>,
    outs: RwLock<Vec<Arc<OutRun>>>,
    /// What is encoded anew for some of them.
    encodings: Mutex<Vec<Arc<Encoding>>>,
    /// Who is to be on; nobody before a line of the sheet was found.
    pub director: Mutex<Option<Director>>,
    /// What stands in last, where the sheet says so.
    pub slate: Mutex<Option<Slate>>,
    /// What was taken at once, and what is to be.
    pub behind: LinesBehind,
    /// The line that the engineer has said to come next.
    pub preview: Mutex<Option<LineId>>,
    /// What comes back of it from its viewers' side.
    pub confirmed: Mutex<Option<ConfirmView>>,
    told: Mutex<Told>,
}

#[derive(Default)]
struct Told {
    takes: u64,
    /// How long a take had waited when that was last told.
    waited: Duration,
}

/// One destination of a feed.
pub(crate) struct OutRun {
    pub id: OutId,
    pub link: Link,
    pub status: Arc<LinkStatus>,
    pub outlet: AnyOutlet,
    pub way: Mutex<Option<OpenWay>>,
    /// Its pictures are encoded anew.
    pub encoding: Option<Arc<Encoding>>,
    /// Pictures made and left out at the last tick.
    encoded: Mutex<(u64, u64)>,
    meter: Mutex<Meter>,
}

impl OutRun {
    pub fn new(id: OutId, link: Link, encoding: Option<Arc<Encoding>>, status: Arc<LinkStatus>) -> Arc<Self> {
        let meter = Meter::new(Subject::Out(id), show_url(&link), Direction::Out, status.clone());
        let outlet = AnyOutlet::of(&link);
        let (way, encoded) = (Mutex::default(), Mutex::default());
        Arc::new(Self { id, link, status, outlet, way, encoding, encoded, meter: Mutex::new(meter) })
    }

    /// As the sheet has it, with this link.
    pub fn entry(&self, link: Link) -> WayOut {
        WayOut { link, encode: self.encoding.as_ref().map(|e| e.plan.clone()) }
    }

    /// Takes what its feed gives, or what is made of that for it.
    pub fn attach(&self, feed: &FeedMedia) {
        match &self.encoding {
            Some(encoding) => encoding.add_out(self.outlet.clone()),
            None => feed.add_out(self.outlet.clone()),
        }
    }

    /// Takes nothing any more.
    pub fn detach(&self, feed: &FeedMedia) {
        match &self.encoding {
            Some(encoding) => encoding.remove_out(&self.outlet),
            None => feed.remove_out(&self.outlet),
        }
    }

    fn beside(&self) -> Beside {
        let encoding = self.encoding.as_ref().map(|e| e.facts(&mut lock(&self.encoded)));
        Beside { encoding, ..Beside::default() }
    }

    /// Somebody is there who would see a beginning: it is up, or it is served and has been asked
    /// for. A name is offered only once there is a picture, so nobody can be waited for there.
    pub fn is_watched(&self) -> bool {
        match &self.link {
            Link::Rtsp(_) => self.status.is_asked_for(),
            Link::Rtmp(r) if r.listens => self.status.is_asked_for(),
            Link::Stave(_) => true,
            _ => self.status.look().contact == choir_core::facts::Contact::Up,
        }
    }

    /// It over spans of time.
    pub fn spans(&self) -> Vec<SpanView> {
        lock(&self.meter).spans()
    }

    fn view(&self, drops: &Drops) -> LinkView {
        let view = lock(&self.meter).view(drops);
        let encoding = self.encoding.as_ref().map(|e| e.view());
        LinkView { dropped: view.dropped + self.outlet.dropped(), encoding, ..view }
    }
}

impl FeedRun {
    pub fn new(id: FeedId, entry: Feed, media: Arc<FeedMedia>, sub: Option<(Arc<FeedMedia>, Arc<UnitOutlet>)>) -> Arc<Self> {
        Arc::new(Self {
            id,
            media,
            sub,
            entry: Mutex::new(entry),
            outs: RwLock::default(),
            encodings: Mutex::default(),
            director: Mutex::default(),
            slate: Mutex::default(),
            behind: LinesBehind::default(),
            preview: Mutex::default(),
            confirmed: Mutex::default(),
            told: Mutex::default(),
        })
    }

    /// What takes from lines: its picture, and its small picture.
    pub fn medias(&self) -> impl Iterator<Item = &Arc<FeedMedia>> {
        std::iter::once(&self.media).chain(self.sub.as_ref().map(|s| &s.0))
    }

    /// Its ways out, in the order of the sheet.
    pub fn outs(&self) -> Vec<Arc<OutRun>> {
        read(&self.outs).clone()
    }

    /// What is encoded anew as `plan` says, for all its ways out that want it so.
    pub fn encoding(&self, plan: &Encode, base: &Path) -> Arc<Encoding> {
        let mut all = lock(&self.encodings);
        // Those that nobody has any more.
        all.retain(|e| Arc::strong_count(e) > 1);
        if let Some(same) = all.iter().find(|e| e.plan == *plan) {
            return same.clone();
        }
        let new = Encoding::new(plan.clone(), self.media.clone(), base);
        all.push(new.clone());
        new
    }

    /// Changes which ways out it has.
    pub fn set_outs(&self, outs: Vec<Arc<OutRun>>) {
        *write(&self.outs) = outs;
    }

    /// Tells a take that has been made; true when there was one.
    pub fn tell_takes(&self, bus: &Bus) -> bool {
        let reading = self.media.reading();
        let mut told = lock(&self.told);
        if let (true, Some(line)) = (reading.takes > told.takes, reading.on) {
            told.takes = reading.takes;
            bus.event(Subject::Feed(self.id), EventKind::Taken { line, gap: reading.gap });
            return true;
        }
        false
    }

    /// A take waits for so long that it is told again: gives the line that is waited for.
    fn overdue(&self, bus: &Bus) -> Option<LineId> {
        let reading = self.media.reading();
        let mut told = lock(&self.told);
        let Some(waited) = reading.waits else {
            told.waited = Duration::ZERO;
            return None;
        };
        if waited < told.waited + TAKE_WAITS {
            return None;
        }
        told.waited = waited;
        let line = reading.wanted?;
        bus.event(Subject::Feed(self.id), EventKind::TakeWaiting { line, on: reading.on, waited });
        Some(line)
    }

    /// True when it says something else than before.
    pub fn at_once(&self, started: Instant, now: Instant, bus: &Bus) -> bool {
        let taken = self.tell_takes(bus);
        self.outs().iter().fold(taken, |other, o| lock(&o.meter).at_once(started, now, bus) | other)
    }

    /// Ends a tick: what was measured of each way out, and the line whose keyframe is to be asked
    /// for again.
    pub fn tick(&self, started: Instant, now: Instant, drops: &Drops, bus: &Bus) -> (Vec<Judged>, Option<LineId>) {
        self.tell_takes(bus);
        let outs = self.outs();
        let ticks = outs.iter().map(|o| lock(&o.meter).tick(started, now, None, o.beside(), drops, bus));
        (ticks.collect(), self.overdue(bus))
    }

    /// What is shown of it.
    pub fn view(&self, drops: &Drops, names: &dyn Names, lines: &[LineView], clock: Duration) -> FeedView {
        let reading = self.media.reading();
        let entry = lock(&self.entry);
        let name = |id: LineId| names.line(id);
        let on = reading.line().map(name).unwrap_or_default();
        let runs = self.outs();
        let outs: Vec<LinkView> = runs.iter().map(|o| o.view(drops)).collect();
        let behind = reading.line().and_then(|line| self.behind.of(line)).map(in_ms);
        let delay = lines.iter().find(|l| l.name == on).and_then(|l| l.delay_ms);
        let way = outs.iter().zip(&runs).find_map(|(view, run)| way_out_ms(view, &run.link));
        FeedView {
            name: entry.name.clone(),
            title: entry.title.clone(),
            next: reading.wanted.filter(|w| reading.on.is_some_and(|on| on != *w)).map(name),
            line: on,
            preview: lock(&self.preview).map(name),
            stand_in: self.stand_in_view(names, clock, entry.standby.as_ref()),
            standby: entry.standby.as_ref().map_or_else(Vec::new, |s| s.lines.clone()),
            takes: reading.takes,
            behind_ms: behind,
            sound: (entry.sound != FeedSound::default()).then(|| entry.sound.to_string()),
            confirm: lock(&self.confirmed).clone(),
            tally: runs.iter().filter_map(|o| *o.status.control.tally().borrow()).max(),
            outs,
            delay_to_input_ms: delay.zip(way).map(|(d, w)| d + behind.unwrap_or(0.0) + w),
        }
    }
}

impl FeedRun {
    fn stand_in_view(&self, names: &dyn Names, clock: Duration, plan: Option<&Standby>) -> Option<StandInView> {
        let (chosen, s) = lock(&self.director).as_ref().and_then(|d| Some((d.chosen(), d.stand_in()?)))?;
        let back = plan.and_then(|p| p.back);
        Some(StandInView {
            chosen: names.line(chosen),
            why: unfit_words(s.why),
            since_ms: unix_ms().saturating_sub(clock.saturating_sub(s.since).as_millis() as u64),
            returns: match back {
                None => "by hand".into(),
                Some(_) if s.flaps => "by hand, or once fit for 10 min, as it fails again and again".into(),
                Some(back) => format!("once fit for {}", say_duration(back)),
            },
        })
    }
}

/// From here to the release at the far end: time-stamped delivery makes it the way there and the
/// latency.
fn way_out_ms(view: &LinkView, link: &Link) -> Option<f64> {
    match link {
        Link::Srt(_) => Some(view.latency_ms? + view.rtt_ms.unwrap_or(0.0) / 2.0),
        Link::Udp(_) | Link::Rtp(_) | Link::Rtsp(_) => Some(0.0),
        // A unit is handed on when it is whole; what it takes is the way's own.
        Link::Stave(_) => Some(view.rtt_ms.unwrap_or(0.0) / 2.0),
        // What waits before a server, and behind it, is not known here.
        Link::Rtmp(_) | Link::File(_) | Link::Wall(_) => None,
    }
}
