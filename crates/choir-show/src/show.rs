//! A running show: every line and feed of a sheet, kept up until stopped.

use crate::{
    build::OpenError,
    bus::{Bus, Fact, Tick},
    feed::FeedRun,
    line::LineRun,
    meter::Drops,
    names::Names,
    side::Side,
};
use choir_core::{
    command::{By, Command, Done, Refusal},
    facts::{EventKind, WayTick},
    id::{FeedId, LineId, Subject},
    sheet::Sheet,
    view::{EventView, InputView, ShowView},
    words::event_words,
};
use choir_host::{End, Stop, clock::unix_ms, kernel::kernel_drops, lock, read, udp::granted_receive_buffer};
use choir_ports::{OpenWay, Ports, stave::Node};
use choir_proto::ts::AccessUnit;
use std::{
    path::{Path, PathBuf},
    sync::{Arc, Mutex, RwLock},
    time::{Duration, Instant},
};
use tokio::{
    sync::{Notify, broadcast, oneshot},
    task::{JoinHandle, JoinSet},
    time::MissedTickBehavior,
};

/// The grid of all measurement.
const TICK: Duration = Duration::from_secs(1);
/// Shortest time between two looks at what has changed.
const LOOK: Duration = Duration::from_millis(20);
/// How long a stop waits for goodbyes.
const STOP_PATIENCE: Duration = Duration::from_secs(2);
/// How long the end of a finite source waits for what is under way.
const FINISH_PATIENCE: Duration = Duration::from_secs(12);

/// Measurements that receivers make of what reaches them, asked for whenever the show is looked at.
pub type Reports = Arc<dyn Fn() -> Vec<InputView> + Send + Sync>;

pub(crate) struct Inner {
    pub sheet: Mutex<Sheet>,
    pub base: PathBuf,
    /// The sheet's own file, for reading it again.
    pub file: Mutex<Option<PathBuf>>,
    pub ports: Ports,
    /// This machine on Stave, when any line or feed needs it.
    pub node: Mutex<Option<Node>>,
    pub lines: RwLock<Vec<Arc<LineRun>>>,
    pub feeds: RwLock<Vec<Arc<FeedRun>>>,
    pub names: Names,
    pub bus: Bus,
    /// Notified when a way stands otherwise, has a notice, or another line is on a feed.
    pub changed: Arc<Notify>,
    /// Notified when a tally or the line on a feed changes.
    pub tally_changed: Arc<Notify>,
    pub side: Side,
    pub stopped: Stop,
    /// One reload at a time.
    pub reloading: tokio::sync::Mutex<()>,
    started_ms: u64,
    /// As of the last tick: the system's table is long.
    drops: Mutex<Drops>,
    view: Mutex<ShowView>,
    reports: Mutex<Option<Reports>>,
    stop: End,
    stop_asked: Notify,
    ticker: Mutex<Option<(End, JoinHandle<()>)>>,
}

/// A running show. Clones are the same show.
#[derive(Clone)]
pub struct Show(pub(crate) Arc<Inner>);

impl Show {
    /// Brings up everything on the sheet. Relative paths count from `base`, the sheet's folder.
    ///
    /// # Errors
    /// A port, a file or a passphrase cannot be had: what was opened before is closed again.
    pub async fn start(sheet: &Sheet, base: &Path) -> Result<Self, OpenError> {
        Self::start_gated(sheet, base, &Stop::given()).await
    }

    /// As `start`; files begin to play when `gate` is given.
    ///
    /// # Errors
    /// As `start`.
    pub async fn start_gated(sheet: &Sheet, base: &Path, gate: &Stop) -> Result<Self, OpenError> {
        let (stop, stopped) = Stop::new();
        let tally_changed: Arc<Notify> = Arc::default();
        let show = Self(Arc::new(Inner {
            sheet: Mutex::new(sheet.clone()),
            base: base.to_owned(),
            file: Mutex::default(),
            ports: Ports::new(base, &stopped, gate),
            node: Mutex::default(),
            lines: RwLock::default(),
            feeds: RwLock::default(),
            names: Names::default(),
            bus: Bus::new(),
            changed: Arc::default(),
            tally_changed,
            side: Side::default(),
            stopped,
            reloading: tokio::sync::Mutex::default(),
            started_ms: unix_ms(),
            drops: Mutex::default(),
            view: Mutex::default(),
            reports: Mutex::default(),
            stop,
            stop_asked: Notify::new(),
            ticker: Mutex::default(),
        }));
        show.0.bring_up(sheet).await?;
        if let Some((granted, wanted)) = granted_receive_buffer() {
            show.0.bus.event(Subject::Machine, EventKind::ReceiveBuffer { granted, wanted });
        }
        let (end, last) = Stop::new();
        let started = Instant::now();
        show.0.at_once(started);
        let task = tokio::spawn(run_ticker(show.clone(), started, last));
        *lock(&show.0.ticker) = Some((end, task));
        Ok(show)
    }

    /// Carries out a command.
    ///
    /// # Errors
    /// Why it cannot be done.
    pub async fn execute(&self, by: By, command: Command) -> Result<Done, Refusal> {
        match command {
            Command::Take { feed, line } => self.0.take(by, feed, line),
            Command::Hold { line, held } => self.0.hold(by, line, held),
            Command::Examine { line, on } => {
                self.0.line(line)?.media.examine(on);
                Ok(Done::Examined { line, on })
            }
            Command::Reload => self.reload().await.map(Done::Reloaded),
            Command::Stop => {
                self.0.stop_asked.notify_one();
                Ok(Done::Stopping)
            }
        }
    }

    /// Waits until somebody has commanded its end, which is for whoever runs it.
    pub async fn stop_asked(&self) {
        self.0.stop_asked.notified().await;
    }

    /// The line of this name.
    ///
    /// # Errors
    /// There is none.
    pub fn line_named(&self, name: &str) -> Result<LineId, Refusal> {
        self.0.names.find_line(name)
    }

    /// The feed of this name.
    ///
    /// # Errors
    /// There is none.
    pub fn feed_named(&self, name: &str) -> Result<FeedId, Refusal> {
        self.0.names.find_feed(name)
    }

    /// Looks up names.
    #[must_use]
    pub fn names(&self) -> &dyn choir_core::words::Names {
        &self.0.names
    }

    /// The show as of the last tick or change.
    #[must_use]
    pub fn view(&self) -> ShowView {
        let mut view = lock(&self.0.view).clone();
        view.now_ms = unix_ms();
        view.events = self.events_after(0);
        view.inputs = lock(&self.0.reports).as_ref().map_or_else(Vec::new, |reports| reports());
        view
    }

    /// Adds what receivers measure to the view.
    pub fn set_reports(&self, reports: Reports) {
        *lock(&self.0.reports) = Some(reports);
    }

    /// Events after number `after`, of those that are kept.
    #[must_use]
    pub fn events_after(&self, after: u64) -> Vec<EventView> {
        self.0.bus.after(after).iter().map(|e| event_view(e, self.names())).collect()
    }

    /// What happens and what is measured, from now on.
    #[must_use]
    pub fn facts(&self) -> broadcast::Receiver<Fact> {
        self.0.bus.listen()
    }

    /// A line's next keyframe with some pictures behind it, to be decoded.
    ///
    /// # Errors
    /// No such line.
    pub fn pictures(&self, line: LineId) -> Result<oneshot::Receiver<Vec<AccessUnit>>, Refusal> {
        Ok(self.0.line(line)?.media.pictures())
    }

    /// Waits until every line that plays a file has come to its end; for ever when there is none.
    pub async fn played_out(&self) {
        let finite: Vec<_> = self.0.lines().into_iter().filter(|l| l.plays_once()).collect();
        for line in &finite {
            line.status.played_out().await;
        }
        if finite.is_empty() {
            std::future::pending::<()>().await;
        }
    }

    /// Waits until somebody is at every way out who would see a beginning.
    pub async fn outs_up(&self) {
        let mut facts = self.facts();
        loop {
            let up = self.0.feeds().iter().all(|f| f.outs().iter().all(|o| o.is_watched()));
            if up || !crate::bus::next(&mut facts).await {
                return;
            }
        }
    }

    /// Ends every way in and out, after saying goodbye to the other ends. The view stays as it was last, with
    /// all counters final.
    pub async fn stop(&self) {
        self.0.stop.now();
        self.0.wait_ways(STOP_PATIENCE).await;
        let ticker = lock(&self.0.ticker).take();
        if let Some((end, task)) = ticker {
            end.now();
            let _ = task.await;
        }
    }

    /// Ends the ways in, lets what is under way arrive, then ends: for sources that have an end.
    pub async fn finish(&self) {
        self.0.feeds().iter().for_each(|f| f.media.end());
        self.0.wait_ways(FINISH_PATIENCE).await;
        self.stop().await;
    }
}

/// An event as it is shown.
#[must_use]
pub fn event_view(e: &choir_core::facts::Event, names: &dyn choir_core::words::Names) -> EventView {
    EventView { number: e.number, at_ms: e.at_ms, subject: names.subject(e.subject), text: event_words(e, names), grade: e.kind.grade() }
}

impl Inner {
    pub fn lines(&self) -> Vec<Arc<LineRun>> {
        read(&self.lines).clone()
    }

    pub fn feeds(&self) -> Vec<Arc<FeedRun>> {
        read(&self.feeds).clone()
    }

    pub fn line(&self, id: LineId) -> Result<Arc<LineRun>, Refusal> {
        self.lines().into_iter().find(|l| l.id == id).ok_or(Refusal::Removed)
    }

    pub fn feed(&self, id: FeedId) -> Result<Arc<FeedRun>, Refusal> {
        self.feeds().into_iter().find(|f| f.id == id).ok_or(Refusal::Removed)
    }

    /// The line that carries a small picture of this one.
    pub fn sub_of(&self, line: &LineRun) -> Option<LineId> {
        let sub = lock(&line.entry).sub.clone()?;
        self.names.find_line(&sub).ok()
    }

    pub fn take(&self, by: By, feed: FeedId, line: LineId) -> Result<Done, Refusal> {
        let (feed_run, line_run) = (self.feed(feed)?, self.line(line)?);
        feed_run.media.take(Some(line));
        if let Some((sub, _)) = &feed_run.sub {
            let small = self.sub_of(&line_run);
            sub.take(small);
            if let Some(small) = small.and_then(|s| self.line(s).ok()) {
                small.status.control.request_keyframe();
            }
        }
        let keyframe_asked = line_run.status.control.request_keyframe();
        self.bus.event(Subject::Feed(feed), EventKind::TakeRequested { line, keyframe_asked, by });
        Ok(Done::TakeRequested { feed, line })
    }

    fn hold(&self, by: By, line: LineId, held: bool) -> Result<Done, Refusal> {
        let run = self.line(line)?;
        let already = run.status.control.is_held() == held;
        if !already {
            run.status.control.set_held(held);
            self.bus.event(Subject::Line(line), EventKind::Held { held, by });
        }
        Ok(Done::Held { line, held, already })
    }

    async fn wait_ways(&self, patience: Duration) {
        let mut ways: JoinSet<()> = JoinSet::new();
        let outs = self.feeds().into_iter().flat_map(|f| f.outs());
        let open: Vec<OpenWay> =
            self.lines().iter().filter_map(|l| lock(&l.way).take()).chain(outs.filter_map(|o| lock(&o.way).take())).collect();
        open.into_iter().for_each(|way| drop(ways.spawn(way.ended())));
        if self.stopped.is_set() {
            self.side.tasks().into_iter().for_each(|task| {
                ways.spawn(async move { drop(task.await) });
            });
            if let Some(node) = lock(&self.node).take() {
                ways.spawn(async move { node.ended().await });
            }
        }
        let _ = tokio::time::timeout(patience, async { while ways.join_next().await.is_some() {} }).await;
    }

    /// Tells at once what need not wait for the end of the second.
    fn at_once(&self, started: Instant) {
        let now = Instant::now();
        self.lines().iter().for_each(|l| l.at_once(started, now, &self.bus));
        self.feeds().iter().for_each(|f| f.at_once(started, now, &self.bus));
        self.refresh();
    }

    /// Makes the view anew.
    pub fn refresh(&self) {
        self.show();
        self.bus.view();
    }

    fn tick(&self, started: Instant, number: u64, length: Duration) {
        let now = Instant::now();
        *lock(&self.drops) = kernel_drops();
        let mut ways: Vec<(Subject, WayTick)> = Vec::new();
        for line in self.lines() {
            ways.push((Subject::Line(line.id), line.tick(started, now, &self.bus)));
        }
        for feed in self.feeds() {
            let (outs, overdue) = feed.tick(started, now, &self.bus);
            ways.extend(outs);
            // What was asked for may not have been heard.
            if let Some(line) = overdue.and_then(|l| self.line(l).ok()) {
                line.status.control.request_keyframe();
            }
        }
        self.show();
        self.bus.tick(Tick { number, at_ms: unix_ms(), length, ways });
    }

    fn show(&self) {
        let drops = lock(&self.drops).clone();
        let mut lines: Vec<_> = self.lines().iter().map(|l| l.view(&drops)).collect();
        let feeds: Vec<_> = self.feeds().iter().map(|f| f.view(&drops, &self.names, &lines)).collect();
        for line in &mut lines {
            line.feeds = feeds.iter().filter(|f| f.line == line.name).map(|f| f.name.clone()).collect();
        }
        *lock(&self.view) = ShowView {
            show: lock(&self.sheet).show.name.clone(),
            pid: std::process::id(),
            started_ms: self.started_ms,
            now_ms: unix_ms(),
            lines,
            feeds,
            ..ShowView::default()
        };
    }
}

/// One tick a second, on a grid; a machine that stood still has one longer tick. Between them what has changed is told.
async fn run_ticker(show: Show, started: Instant, mut last: Stop) {
    let mut grid = tokio::time::interval_at(tokio::time::Instant::from_std(started + TICK), TICK);
    grid.set_missed_tick_behavior(MissedTickBehavior::Skip);
    let (mut number, mut before) = (0, started);
    let inner = &show.0;
    let mut tick = |inner: &Inner| {
        let now = Instant::now();
        number += 1;
        inner.tick(started, number, now - std::mem::replace(&mut before, now));
    };
    loop {
        tokio::select! {
            biased;
            () = last.wait() => return tick(inner),
            _ = grid.tick() => tick(inner),
            () = inner.changed.notified() => {
                inner.at_once(started);
                // A flood of changes must not cost a flood of looks.
                tokio::select! {
                    () = tokio::time::sleep(LOOK) => {}
                    () = last.wait() => {}
                }
            }
        }
    }
}
