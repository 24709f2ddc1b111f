//! One line of a running show.

use crate::{
    bus::Bus,
    media::LineMedia,
    meter::{Beside, Drops, Judged, LineMeasure, Meter},
    seen::Seen,
    view::{media_view, mismatches, stream_views},
};
use choir_core::{
    director::Fitness,
    facts::{Contact, Direction, MediaFacts, State},
    id::{LineId, Subject},
    link::{Link, show_url},
    sheet::{Line, Mismatch},
    units::{Bitrate, in_ms},
    view::{LineView, MediaView, Sample, SpanView},
};
use choir_host::{clock::unix_ms, lock};
use choir_ports::{LinkStatus, MediaCount, OpenWay, Shard, Shards, defects::defect, stave::Order};
use choir_proto::ts::MediaInfo;
use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex, OnceLock},
    time::{Duration, Instant},
};
use tokio::sync::mpsc;

/// Seconds of history.
const HISTORY: usize = 60;

/// Seconds after which a bitrate says something.
const SETTLED: usize = 10;

/// A line that has sent nothing for so long has no picture.
const GONE: Duration = Duration::from_secs(2);

/// A clip that was told to start plays after this time at the latest.
const START: Duration = Duration::from_millis(500);

/// A line: its link, its media, and how it is doing.
pub(crate) struct LineRun {
    pub id: LineId,
    pub status: Arc<LinkStatus>,
    pub media: Arc<LineMedia>,
    /// Its entry in the sheet.
    pub entry: Mutex<Line>,
    pub way: Mutex<Option<OpenWay>>,
    /// The thread that serves its SRT links and those of feeds that begin with it.
    shard: OnceLock<Option<Shard>>,
    /// Names of the networks that it crosses, by the sheet.
    pub networks: Mutex<Vec<String>>,
    /// Of a wall: the line that alone is to be seen.
    pub full: Mutex<Option<LineId>>,
    /// What was seen and heard of it.
    pub seen: Seen,
    /// Of a Stave name: takes orders for the camera behind it.
    pub orders: Mutex<Option<mpsc::Sender<Order>>>,
    state: Mutex<Measured>,
}

struct Measured {
    meter: Meter,
    history: VecDeque<Sample>,
    /// Bytes of each stream at the last tick, and bits per second since the one before.
    streams: HashMap<u16, (u64, u64)>,
}

impl Measured {
    /// The mean bitrate, once media has come for some seconds without a pause.
    fn settled(&self) -> Option<Bitrate> {
        let last: Vec<u64> = self.history.iter().rev().take(SETTLED).map(|s| s.rate_bps).collect();
        (last.len() == SETTLED && last.iter().all(|bps| *bps > 0)).then(|| Bitrate(last.iter().sum::<u64>() / SETTLED as u64))
    }
}

impl LineRun {
    pub fn new(id: LineId, entry: Line, status: Arc<LinkStatus>) -> Arc<Self> {
        let meter = Meter::new(Subject::Line(id), show_url(&entry.from), Direction::In, status.clone());
        let seen = Seen::default();
        seen.set_limits(entry.watch);
        Arc::new(Self {
            id,
            status,
            media: LineMedia::new(id),
            seen,
            entry: Mutex::new(entry),
            way: Mutex::default(),
            networks: Mutex::default(),
            full: Mutex::default(),
            orders: Mutex::default(),
            shard: OnceLock::new(),
            state: Mutex::new(Measured { meter, history: VecDeque::new(), streams: HashMap::new() }),
        })
    }

    /// The thread that serves its SRT links, chosen once: what the line brings then goes on to its
    /// feeds without crossing threads.
    pub fn shard(&self) -> Option<Shard> {
        // A failure is told when the link is opened.
        self.shard.get_or_init(|| Shards::pick_of_program().ok()).clone()
    }

    /// It is served by this thread.
    pub fn is_on(&self, shard: &Shard) -> bool {
        self.shard.get().and_then(Option::as_ref).is_some_and(|own| own.is(shard))
    }

    /// Takes another entry of the sheet.
    pub fn set_entry(&self, entry: Line) {
        lock(&self.state).meter.set_url(show_url(&entry.from));
        self.seen.set_limits(entry.watch);
        *lock(&self.entry) = entry;
    }

    /// Something has come just now: its newest picture is not an old one.
    pub fn sends(&self) -> bool {
        self.media.last().is_some_and(|last| last.elapsed() < GONE)
    }

    /// A file that is played once.
    pub fn plays_once(&self) -> bool {
        matches!(&lock(&self.entry).from, Link::File(f) if !f.repeat && !f.at_take)
    }

    /// A clip that plays from its start at each take.
    pub fn starts_at_take(&self) -> bool {
        matches!(&lock(&self.entry).from, Link::File(f) if f.at_take)
    }

    /// It sends, or is about to.
    pub fn plays(&self) -> bool {
        let started = self.status.control.started().is_some_and(|at| at.elapsed() < START);
        started || self.status.look().contact == Contact::Up
    }

    /// Whether it could be on a feed; `taken` if it is, or is to be.
    pub fn fitness(&self, now: Instant, taken: bool) -> Fitness {
        let ready = lock(&self.entry).from.rests();
        // What waits for a take can have one; once taken, it has a moment.
        let last = self.media.last().max(self.status.control.started()).filter(|_| taken || !ready);
        let waits = ready && !taken && !self.status.control.is_held();
        Fitness {
            quiet: last.map(|last| now.saturating_duration_since(last)).or_else(|| waits.then_some(Duration::ZERO)),
            broken: lock(&self.state).meter.state() == Some(State::Broken),
            content: self.seen.faults(),
        }
    }

    /// True when it says something else than before.
    pub fn at_once(&self, started: Instant, now: Instant, bus: &Bus) -> bool {
        lock(&self.state).meter.at_once(started, now, bus)
    }

    /// How its media differs from what the sheet expects.
    fn differs(&self, info: &MediaInfo) -> Vec<Mismatch> {
        let entry = lock(&self.entry);
        let mut found = mismatches(&entry.expect, info);
        let video = info.video.as_ref();
        let bitrate = lock(&self.state).settled();
        found.extend(entry.expect.drifts(bitrate, video.and_then(|v| v.keyframe_ms), video.and_then(|v| v.measured_rate)));
        found
    }

    /// Ends a tick.
    pub fn tick(&self, started: Instant, now: Instant, same_picture: Option<String>, drops: &Drops, bus: &Bus) -> Judged {
        let reading = self.media.reading();
        let info = &reading.info;
        let video = info.video.as_ref();
        let sessions = self.status.look().sessions;
        let measure = LineMeasure {
            facts: MediaFacts {
                quiet: reading.quiet(sessions, now),
                media_for: reading.begun.map(|t| now.saturating_duration_since(t)).unwrap_or_default(),
                readable: !info.streams.is_empty(),
                keyframe_seen: video.map(|v| v.keyframes > 0),
                without_sets: video.is_some_and(|v| v.keyframes > 1 && !v.has_sets),
                differs: self.differs(info),
                content: self.seen.faults(),
            },
            count: MediaCount { bytes: reading.bytes, begun: reading.begun },
        };
        let shard = self.shard.get().and_then(Option::as_ref);
        let late_ms = shard.map(|s| in_ms(s.lateness().most_of_all));
        let beside = Beside { late_ms, busy: shard.map(Shard::share), same_picture, encoding: None };
        let mut s = lock(&self.state);
        let judged = s.meter.tick(started, now, Some(measure), beside, drops, bus);
        let tick = &judged.tick;
        let length = tick.length;
        s.streams = info
            .streams
            .iter()
            .map(|stream| {
                let before = s.streams.get(&stream.pid).map_or(0, |b| b.0);
                let grown = stream.bytes.saturating_sub(before);
                (stream.pid, (stream.bytes, choir_core::facts::per_second(grown * 8, length)))
            })
            .collect();
        if s.history.len() == HISTORY {
            s.history.pop_front();
        }
        s.history.push_back(Sample {
            rate_bps: tick.rate_bps(),
            headroom_ms: tick.headroom_ms.map(|h| h.least),
            rtt_ms: tick.rtt_ms,
            rtt_least_ms: tick.rtt_span_ms.map(|s| s.least),
            jitter_ms: tick.jitter_ms,
            lost: tick.lost,
            holes: tick.holes,
            recovered: tick.recovered,
            missing: tick.missing,
        });
        judged
    }

    /// Its last minute, second by second, and its way in over spans of time.
    pub fn course(&self) -> (Vec<Sample>, Vec<SpanView>) {
        let s = lock(&self.state);
        (s.history.iter().copied().collect(), s.meter.spans())
    }

    /// What is shown of it, apart from its feeds and its course.
    pub fn view(&self, drops: &Drops) -> LineView {
        let reading = self.media.reading();
        let entry = lock(&self.entry);
        let s = lock(&self.state);
        let link = s.meter.view(drops);
        let up = !matches!(link.state, Some(State::Waiting | State::Held | State::Broken));
        // Pictures of a file were taken some other day.
        let recorded = matches!(entry.from, Link::File(_) | Link::Wall(_));
        let delay = reading.info.video.as_ref().and_then(|v| v.delay_us).filter(|_| up && !recorded);
        let (picture, levels, content) = self.seen.view(unix_ms());
        let defects = self.media.findings().map(|found| found.iter().map(defect).collect());
        LineView {
            full: None,
            name: entry.name.clone(),
            title: entry.title.clone(),
            networks: lock(&self.networks).clone(),
            media: MediaView { streams: stream_views(&reading.info, &s.streams), defects, ..media_view(&reading.info) },
            delay_ms: delay.map(|us| us as f64 / 1000.0),
            feeds: Vec::new(),
            tally: *self.status.control.tally().borrow(),
            history: Vec::new(),
            picture,
            levels,
            content,
            link,
        }
    }
}
