//! One line of a running show.

use crate::{
    bus::Bus,
    media::LineMedia,
    meter::{Drops, LineMeasure, Meter},
    view::{media_view, mismatch, stream_views},
};
use choir_core::{
    facts::{Direction, State, WayTick},
    health::MediaFacts,
    id::{LineId, Subject},
    link::{Link, show_url},
    sheet::Line,
    view::{LineView, MediaView, Sample},
};
use choir_host::lock;
use choir_ports::{LinkStatus, OpenWay, defects::defect, stave::Order};
use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex},
    time::Instant,
};
use tokio::sync::mpsc;

/// Seconds of history.
const HISTORY: usize = 60;

/// A line: its link, its media, and how it is doing.
pub(crate) struct LineRun {
    pub id: LineId,
    pub status: Arc<LinkStatus>,
    pub media: Arc<LineMedia>,
    /// Its entry in the sheet.
    pub entry: Mutex<Line>,
    pub way: Mutex<Option<OpenWay>>,
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

impl LineRun {
    pub fn new(id: LineId, entry: Line, status: Arc<LinkStatus>) -> Arc<Self> {
        let meter = Meter::new(Subject::Line(id), show_url(&entry.from), Direction::In, status.clone());
        Arc::new(Self {
            id,
            status,
            media: LineMedia::new(id),
            entry: Mutex::new(entry),
            way: Mutex::default(),
            orders: Mutex::default(),
            state: Mutex::new(Measured { meter, history: VecDeque::new(), streams: HashMap::new() }),
        })
    }

    /// Takes another entry of the sheet.
    pub fn set_entry(&self, entry: Line) {
        lock(&self.state).meter.set_url(show_url(&entry.from));
        *lock(&self.entry) = entry;
    }

    /// A file that is played once.
    pub fn plays_once(&self) -> bool {
        matches!(&lock(&self.entry).from, Link::File(f) if !f.repeat)
    }

    pub fn at_once(&self, started: Instant, now: Instant, bus: &Bus) {
        lock(&self.state).meter.at_once(started, now, bus);
    }

    /// Ends a tick.
    pub fn tick(&self, started: Instant, now: Instant, bus: &Bus) -> WayTick {
        let reading = self.media.reading();
        let info = &reading.info;
        let video = info.video.as_ref();
        let sessions = self.status.look().sessions;
        let measure = LineMeasure {
            facts: MediaFacts {
                quiet: reading.last.filter(|_| reading.session == sessions).map(|t| now.saturating_duration_since(t)),
                media_for: reading.begun.map(|t| now.saturating_duration_since(t)).unwrap_or_default(),
                readable: !info.streams.is_empty(),
                keyframe_seen: video.map(|v| v.keyframes > 0),
                without_sets: video.is_some_and(|v| v.keyframes > 1 && !v.has_sets),
                differs: mismatch(&lock(&self.entry).expect, info),
            },
            bytes: reading.bytes,
            begun: reading.begun,
        };
        let mut s = lock(&self.state);
        s.meter.tick(started, now, Some(measure), bus);
        let tick = s.meter.last().clone();
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
            lost: tick.lost,
            missing: tick.missing,
        });
        tick
    }

    /// What is shown of it, apart from its feeds.
    pub fn view(&self, drops: &Drops) -> LineView {
        let reading = self.media.reading();
        let entry = lock(&self.entry);
        let s = lock(&self.state);
        let link = s.meter.view(drops);
        let up = !matches!(link.state, Some(State::Waiting | State::Held | State::Broken));
        // Pictures of a file were taken some other day.
        let recorded = matches!(entry.from, Link::File(_));
        let delay = reading.info.video.as_ref().and_then(|v| v.delay_us).filter(|_| up && !recorded);
        let defects = self.media.findings().map(|found| found.iter().map(defect).collect());
        LineView {
            name: entry.name.clone(),
            title: entry.title.clone(),
            media: MediaView { streams: stream_views(&reading.info, &s.streams), defects, ..media_view(&reading.info) },
            delay_ms: delay.map(|us| us as f64 / 1000.0),
            feeds: Vec::new(),
            tally: *self.status.control.tally().borrow(),
            history: s.history.iter().copied().collect(),
            link,
        }
    }
}
