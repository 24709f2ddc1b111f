//! One encoding of a feed, which all its destinations share that want the same: a thread of its
//! own, while any of them is open.

use super::convert::Converter;
use crate::media::{FeedMedia, LineMedia, OwnClock};
use choir_core::{facts::EncodingFacts, id::LineId, model::Encode, units::in_ms, view::EncodingView};
use choir_host::{
    End, Stop,
    clock::{steady_us, thread_cpu},
    lock,
};
use choir_ports::{AnyOutlet, Arrival, Intake as _, Media, UnitOutlet};
use choir_proto::ts::Timed;
use std::{
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::{Duration, Instant},
};
use tokio::runtime::Handle;

/// How often it is worked out what it takes.
const SECOND: Duration = Duration::from_secs(1);

/// An encoding of one feed.
pub(crate) struct Encoding {
    pub plan: Encode,
    base: PathBuf,
    feed: Arc<FeedMedia>,
    /// What comes of it: as a line and a feed, so that both shapes are made as for any other.
    line: Arc<LineMedia>,
    media: Arc<FeedMedia>,
    running: Mutex<Running>,
    told: Arc<Told>,
}

/// Who takes it.
#[derive(Default)]
struct Running {
    outs: usize,
    /// What takes the feed's units, and ends the thread that reads it.
    open: Option<(Arc<UnitOutlet>, End)>,
    sessions: u32,
}

/// What the thread tells and is told.
#[derive(Default)]
struct Told {
    keyframe: AtomicBool,
    measured: Mutex<Measured>,
}

#[derive(Default, Clone)]
struct Measured {
    size: Option<(usize, usize)>,
    /// Cores that it took in the last second.
    cores: Option<f64>,
    made: u64,
    left_out: u64,
    /// From a picture's last byte here to its encoded form, the longest of the last second.
    takes: Option<Duration>,
    problem: Option<String>,
}

impl Encoding {
    /// One of a feed that carries this.
    pub fn new(plan: Encode, feed: Arc<FeedMedia>, base: &Path) -> Arc<Self> {
        let only = LineId(0);
        let (line, media) = (LineMedia::new(only), FeedMedia::new(Some(only), Arc::default()));
        // It begins with its first picture.
        line.set_clip(true);
        line.attach(media.clone());
        Arc::new(Self { plan, base: base.to_owned(), feed, line, media, running: Mutex::default(), told: Arc::default() })
    }

    /// Sends to one place more, which begins with a keyframe.
    pub fn add_out(&self, outlet: AnyOutlet) {
        let mut running = lock(&self.running);
        self.media.add_out(outlet);
        self.request_keyframe();
        running.outs += 1;
        if running.open.is_none() {
            running.sessions += 1;
            self.begin(&mut running);
        }
    }

    /// Sends to a place no longer.
    pub fn remove_out(&self, outlet: &AnyOutlet) {
        let mut running = lock(&self.running);
        self.media.remove_out(outlet);
        running.outs = running.outs.saturating_sub(1);
        let last = running.outs == 0;
        if let Some((source, _end)) = running.open.take_if(|_| last) {
            self.feed.remove_out(&AnyOutlet::Units(source));
        }
    }

    /// The next picture is to be a keyframe.
    pub fn request_keyframe(&self) {
        self.told.keyframe.store(true, Ordering::Release);
    }

    fn begin(&self, running: &mut Running) {
        let ((end, stop), source) = (Stop::new(), UnitOutlet::new());
        let work = Work {
            converter: Converter::new(self.plan.clone(), &self.base),
            source: source.clone(),
            line: self.line.clone(),
            media: self.media.clone(),
            session: running.sessions,
            clock: OwnClock::default(),
            told: self.told.clone(),
            total: (0, 0),
        };
        let handle = Handle::current();
        match thread::Builder::new().name("encode".into()).spawn(move || work.run(&handle, stop)) {
            Ok(_) => {
                self.feed.add_out(AnyOutlet::Units(source.clone()));
                running.open = Some((source, end));
            }
            Err(e) => lock(&self.told.measured).problem = Some(format!("no thread for encoding: {e}")),
        }
    }

    /// How it went since the counts `before`, which become those of now.
    pub fn facts(&self, before: &mut (u64, u64)) -> EncodingFacts {
        let now = lock(&self.told.measured).clone();
        let since = |now: u64, before: u64| now.saturating_sub(before);
        let facts = EncodingFacts { made: since(now.made, before.0), left_out: since(now.left_out, before.1), problem: now.problem };
        *before = (now.made, now.left_out);
        facts
    }

    /// What is shown of it.
    pub fn view(&self) -> EncodingView {
        let m = lock(&self.told.measured).clone();
        let video = self.line.reading().info.video;
        EncodingView {
            wanted: self.plan.to_string(),
            size: m.size.map(|(w, h)| format!("{w}x{h}")),
            rate: video.and_then(|v| v.measured_rate),
            cores: m.cores,
            takes_ms: m.takes.map(in_ms),
            left_out: m.left_out,
            shared_by: lock(&self.running).outs,
        }
    }
}

/// What the thread has.
struct Work {
    converter: Converter,
    source: Arc<UnitOutlet>,
    line: Arc<LineMedia>,
    media: Arc<FeedMedia>,
    session: u32,
    clock: OwnClock,
    told: Arc<Told>,
    /// Made and left out before this session.
    total: (u64, u64),
}

impl Work {
    fn run(mut self, handle: &Handle, mut stop: Stop) {
        let (mut since, mut cpu, mut takes) = (Instant::now(), thread_cpu(), Duration::ZERO);
        {
            let m = lock(&self.told.measured);
            self.total = (m.made, m.left_out);
        }
        loop {
            let stopped = handle.block_on(async {
                tokio::select! {
                    () = stop.wait() => true,
                    () = self.source.filled() => false,
                }
            });
            if stopped {
                break;
            }
            // What comes before the end is read before it.
            let ended = self.source.has_ended();
            for unit in self.source.take() {
                if stop.is_set() {
                    break;
                }
                let came = unit.arrived;
                if let Err(why) = self.push(&unit) {
                    lock(&self.told.measured).problem = Some(format!("pictures cannot be encoded: {why}"));
                    return;
                }
                if unit.kind.is_video() {
                    takes = takes.max(Duration::from_micros((steady_us() - came).max(0) as u64));
                }
                if since.elapsed() >= SECOND {
                    let cores = (thread_cpu() - cpu).as_secs_f64() / since.elapsed().as_secs_f64();
                    self.tell(Some((cores, takes)));
                    (since, cpu, takes) = (Instant::now(), thread_cpu(), Duration::ZERO);
                }
            }
            self.tell(None);
            if ended {
                self.media.end();
                break;
            }
        }
        let mut m = lock(&self.told.measured);
        (m.cores, m.takes) = (None, None);
    }

    fn push(&mut self, unit: &choir_proto::ts::AccessUnit) -> Result<(), String> {
        let late = Duration::from_micros((steady_us() - unit.arrived).max(0) as u64);
        let mut keyframe = self.told.keyframe.swap(false, Ordering::AcqRel);
        let made = self.converter.push(unit, late, &mut keyframe);
        if keyframe {
            // None has been made of this one.
            self.told.keyframe.store(true, Ordering::Release);
        }
        for unit in made? {
            let time = unit.dts.unwrap_or(unit.pts);
            let (clock, jump) = self.clock.tick(steady_us(), time, unit.kind.is_video());
            let media = Media::Units(self.converter.format().clone(), Timed { clock, jump, unit: Some(unit) });
            self.line.arrive(&mut vec![Arrival::new(self.session, Instant::now(), media)]);
        }
        Ok(())
    }

    fn tell(&self, spent: Option<(f64, Duration)>) {
        let mut m = lock(&self.told.measured);
        (m.made, m.left_out) = (self.total.0 + self.converter.made, self.total.1 + self.converter.left_out);
        (m.size, m.problem) = (self.converter.size(), self.converter.problem.clone());
        if let Some((cores, takes)) = spent {
            (m.cores, m.takes) = (Some(cores), Some(takes));
        }
    }
}
